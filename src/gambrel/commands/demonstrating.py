"""`gambrel demo`: the sample plans, with simulated sources, a runner and a mail server."""

from __future__ import annotations

import os
import sys
from typing import Any

from gambrel.commands.database import free_port
from gambrel.commands.keys import sealing_key
from gambrel.commands.places import say
from gambrel.commands.processes import begin, end
from gambrel.commands.sample_runs import connect_mail, load_history, stand_in_token
from gambrel.commands.serving import serve
from gambrel.core.plan.reading import read_plan
from gambrel.demo import SCENARIOS
from gambrel.demo.estate import sample_sources
from gambrel.store import sources
from gambrel.store.database import Sessions
from gambrel.store.plans import discard_drafts, plan_heads, store_plan
from gambrel.store.sealing import Sealer


def _load_samples(maker: Sessions, *, fresh: bool) -> None:
    with maker() as db:
        known = {head.name for head in plan_heads(db)}
    for name in ("tiny", "larkmoor"):
        if fresh or name not in known:
            say(f"Loading the sample plan {name}.")
            with maker.begin() as db:
                plan = read_plan(SCENARIOS[name]())
                head = store_plan(db, name, plan, actor="gambrel demo", note="sample data")
                discard_drafts(db, head.id, actor="gambrel demo")


class StandIns:
    """The process that plays the sources of the sample estate on a port of loopback."""

    def __init__(self, application_port: int, token: str) -> None:
        self.port, self.mail_port = free_port(), free_port()
        environment = {
            **os.environ,
            "GAMBREL_STAND_IN_TOKEN": token,
            "GAMBREL_STAND_IN_FOR": f"http://127.0.0.1:{application_port}",
        }
        command = [
            sys.executable, "-m", "gambrel.standins",
            "--port", str(self.port), "--mail-port", str(self.mail_port),
        ]  # fmt: skip
        self.process = begin(command, environment, "stand-ins.log")

    def stop(self) -> None:
        end(self.process, 5)


def _connect_samples(maker: Sessions, port: int) -> None:
    """Have the sample plan know its sources, at the addresses that they have this time."""
    samples = {sample.name: sample for sample in sample_sources(SCENARIOS["larkmoor"]())}
    sealer = Sealer(sealing_key())
    with maker.begin() as db:
        plan = next(head for head in plan_heads(db) if head.name == "larkmoor")
        known = {source.name: source for source in sources.sources(db, plan.id)}
        for sample in samples.values():
            fields: dict[str, Any] = {
                "interval_min": 60,
                "address": f"http://127.0.0.1:{port}/{sample.name}",
            }
            if sample.name in known:
                source = known[sample.name]
                sources.change_source(db, source.id, source.revision, fields, actor="gambrel demo")
                continue
            fields |= {"name": sample.name, "kind": sample.kind, "make": sample.make}
            accounts = [(a.scope, a.user, a.secret) for a in sample.accounts]
            sources.add_source(
                db, plan.id, {**fields, "site": sample.site}, accounts, sealer,
                actor="gambrel demo",
            )  # fmt: skip


def demo(port: int | None, *, fresh: bool) -> None:
    """Serve with the sample plans, and with simulated sources that name the sample estate."""
    played: list[StandIns] = []

    def before(maker: Sessions, application_port: int) -> None:
        _load_samples(maker, fresh=fresh)
        with maker() as db:
            head = next(head for head in plan_heads(db) if head.name == "larkmoor")
        load_history(maker, head, SCENARIOS["larkmoor"]())
        played.append(StandIns(application_port, stand_in_token(maker, head)))
        _connect_samples(maker, played[0].port)
        connect_mail(maker, head, played[0].mail_port)
        say(f"Mail of the demo is shown at http://127.0.0.1:{played[0].port}/mail")

    try:
        serve(port, before)
    finally:
        for stand_ins in played:
            stand_ins.stop()
