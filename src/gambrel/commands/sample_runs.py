"""The ledger of the sample plan: sixty nights carried out by the stand-in, and its runner."""

from __future__ import annotations

import os
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

from sqlalchemy.orm import Session

from gambrel.commands.places import say
from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.objects import Plan
from gambrel.demo.larkmoor import BEGINS
from gambrel.standins.history import History, PastNight, nights_of
from gambrel.store import ledger, point_checks, runners
from gambrel.store.database import Sessions
from gambrel.store.ledger_models import LeftOverRow
from gambrel.store.plans import PlanHead, locked_plan
from gambrel.store.settings import set_setting, setting
from gambrel.work.learning import night_mark
from gambrel.work.mailing import run_settings_name
from gambrel.work.restore_tests import rota_name

STAND_IN = "Stand-in"
LOOPBACK = "127.0.0.1"
SENDER = "gambrel@larkmoor.example"
REPORTS: dict[str, Any] = {
    "report_at": "07:30",
    "report_to": ["backups@larkmoor.example"],
    "addresses": {
        "ops": "ops@larkmoor.example",
        "ticketing": "ticketing@larkmoor.example",
        "finance": "finance@larkmoor.example",
    },
    "phones": {"ops": "ext. 4100, at night 4199", "ticketing": "ext. 4210"},
}

ROTA: dict[str, Any] = {
    "rules": [{"tier": "gold", "every_days": 45}, {"tier": "silver", "every_days": 60}],
    "at_once": 2,
    "opens": "09:00",
    "closes": "16:00",
    "weekdays": [0, 1, 2, 3, 4],
    "host": None,
}
"""Who is tested how often at Larkmoor."""


def load_history(maker: Sessions, head: PlanHead, file: dict[str, Any]) -> None:
    """Fill the ledger of the sample plan, in one transaction, where it is empty."""
    with maker() as db:
        if ledger.nights_known(db, head.id):
            return
    begins = parse_instant(BEGINS)
    opens = datetime.fromtimestamp(begins, UTC).date()
    history = History(file, opens, nights_of(os.environ))
    say(f"Playing {history.nights} nights for the ledger of the sample plan (once).")
    with maker.begin() as db:
        locked_plan(db, head.id)
        for past in history:
            _write_night(db, head, history.plan, past, finished=past.night.start < begins)
        ledger.write_points(db, head.id, history.points)
        for machine, what, since in history.left:
            db.merge(LeftOverRow(plan_id=head.id, machine=machine, what=what, since=since))
        checks = (replace(point_checks.check_of(*told), order_id=None) for told in history.checks)
        point_checks.add_checks(db, head.id, checks)
        rota = {**ROTA, "begins": history.first.start}
        set_setting(db, rota_name(head.id), rota, actor="gambrel demo", told=rota)


def _write_night(
    db: Session, head: PlanHead, plan: Plan, past: PastNight, *, finished: bool
) -> None:
    night = past.night
    ledger.write_runs(db, head.id, past.runs, night.zone, origin="runner")
    if finished:
        ledger.predict_night(
            db, head.id, night.date, head.adopted_version, (), night.zone, night.start
        )
        mark = night_mark(plan, night, past.runs, night.end)
        ledger.keep_summary(db, head.id, night.date, mark)


def connect_mail(maker: Sessions, head: PlanHead, port: int) -> None:
    """Have mail go to the simulated server, where none or a simulated one was set before."""
    with maker.begin() as db:
        known = setting(db, "mail")
        if known.get("host", LOOPBACK) == LOOPBACK:
            value = {**known, "host": LOOPBACK, "port": port, "sender": SENDER}
            told = {"host": LOOPBACK, "port": port}
            set_setting(db, "mail", value, actor="gambrel demo", told=told)
        name = run_settings_name(head.id)
        if not setting(db, name):
            set_setting(db, name, REPORTS, actor="gambrel demo", told=REPORTS)


def stand_in_token(maker: Sessions, head: PlanHead) -> str:
    """A token for the stand-in runner of the sample plan."""
    with maker.begin() as db:
        return runners.renewed_token(db, head.id, STAND_IN, "stand-in", actor="gambrel demo")
