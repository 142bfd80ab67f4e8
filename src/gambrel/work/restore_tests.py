"""The restore tests of a plan: laid out beside its forecast, from what was tested before."""

from __future__ import annotations

from datetime import time
from itertools import takewhile
from typing import Any

from gambrel.core.model.restore_points import PointRecord
from gambrel.core.nights.nights import night_at
from gambrel.core.plan.objects import Plan
from gambrel.core.recovery.restore_tests import (
    AHEAD_DAYS,
    Busy,
    Layout,
    Rota,
    TestRule,
    due_at,
    laid_out,
)
from gambrel.core.units import DAY
from gambrel.store import point_checks
from gambrel.store.settings import set_setting, setting
from gambrel.work.forecaster import Forecaster
from gambrel.work.planning import Planning


def rota_name(plan_id: int) -> str:
    """Under which name the rota of a plan is kept among the settings."""
    return f"plan {plan_id} rota"


def rota_of(planning: Planning, plan_id: int) -> Rota | None:
    """The rota of a plan; None where none was set."""
    with planning.sessions() as db:
        saved = setting(db, rota_name(plan_id))
    return _read(saved) if saved else None


def _read(saved: dict[str, Any]) -> Rota:
    return Rota(
        begins=saved["begins"],
        rules=tuple(TestRule(rule["tier"], rule["every_days"]) for rule in saved["rules"]),
        at_once=saved["at_once"],
        opens=time.fromisoformat(saved["opens"]),
        closes=time.fromisoformat(saved["closes"]),
        weekdays=tuple(saved["weekdays"]),
        host=saved["host"],
    )


def save_rota(planning: Planning, plan_id: int, rota: Rota, *, actor: str) -> None:
    """Save the rota of a plan."""
    value = {
        "begins": rota.begins,
        "rules": [{"tier": rule.tier, "every_days": rule.every_days} for rule in rota.rules],
        "at_once": rota.at_once,
        "opens": rota.opens.strftime("%H:%M"),
        "closes": rota.closes.strftime("%H:%M"),
        "weekdays": list(rota.weekdays),
        "host": rota.host,
    }
    planning.write(lambda db: set_setting(db, rota_name(plan_id), value, actor=actor, told=value))


def due_by(planning: Planning, plan_id: int, plan: Plan, rota: Rota | None) -> dict[str, float]:
    """By when each machine that the rota reaches must be tested; empty without a rota."""
    if rota is None:
        return {}
    with planning.sessions() as db:
        tested = point_checks.last_tests(db, plan_id)
    found = ((machine.id, due_at(rota, machine, tested)) for machine in plan.machines)
    return {machine: due for machine, due in found if due is not None}


def layout(
    planning: Planning, plan_id: int, forecaster: Forecaster, rota: Rota, now: float
) -> Layout:
    """The tests of the coming days, from an instant on that the forecast reaches."""
    zone = forecaster.origin.zone
    now = max(now, forecaster.origin.start)
    if not forecaster.covers(night_at(now, zone)):
        now = forecaster.origin.start
    nights = [night_at(now + day * DAY, zone) for day in range(AHEAD_DAYS + 1)]
    covered = list(takewhile(forecaster.covers, nights))
    busy = Busy(forecaster.plan, map(forecaster.night, covered))
    with planning.sessions() as db:
        tested = point_checks.last_tests(db, plan_id)

    def points_of(machine: str, at: float) -> tuple[PointRecord, ...]:
        return forecaster.night(night_at(at, zone)).history.at(at, machine=machine)

    return laid_out(forecaster.plan, rota, tested, busy, points_of, now, zone, covered[-1].end)
