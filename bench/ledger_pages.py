"""The ledger with a million machine-runs: its first page, filtered pages, and a batch of events."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from sqlalchemy import text
from timing import seconds

from gambrel.commands.database import Instance
from gambrel.commands.opening import prepared
from gambrel.core.ledger.events import event_from
from gambrel.core.plan.instants import format_instant
from gambrel.core.plan.reading import read_plan
from gambrel.demo import larkmoor
from gambrel.store import ledger
from gambrel.store.database import Sessions, in_transaction
from gambrel.store.ledger_models import LedgerMachineRow, LedgerRunRow
from gambrel.store.plans import locked_plan, store_plan

REPEATED = 9
EVENTS = 1000
JOB, MACHINES = "office-desks", 60
AT = 1_793_000_000.0


def filled(maker: Sessions, plan_id: int, wanted: int) -> int:
    """Write machine-runs, doubling what there is until there are so many; returns how many."""
    machines = [f"machine-{i:03}" for i in range(200)]
    with maker.begin() as db:
        for i in range(50):
            due = int((AT - i * 86_400) * 1e6)
            db.execute(
                LedgerRunRow.__table__.insert(),  # type: ignore[attr-defined]
                {
                    "plan_id": plan_id, "night": "2026-11-01", "job": f"job-{i % 24}",
                    "occurrence_us": due, "kind": "incremental", "outcome": "done",
                    "began": due / 1e6, "ended": due / 1e6 + 600, "window_end": None,
                    "order_id": None, "origin": "runner", "predicted": None,
                },
            )  # fmt: skip
        runs = db.execute(text("SELECT id, job, occurrence_us FROM ledger_runs")).all()
        rows = [
            {
                "run_id": ident, "plan_id": plan_id, "night": "2026-11-01", "job": job,
                "occurrence_us": us, "machine": machine,
                "outcome": "failed" if (i + ident) % 97 == 0 else "done", "reason": "",
                "kind": "incremental", "queued": us / 1e6, "start": us / 1e6 + 10,
                "prepared": us / 1e6 + 30, "moved": us / 1e6 + 500, "released": us / 1e6 + 560,
                "ended": us / 1e6 + 600, "end_id": "", "source_bytes": 1e10, "wire_bytes": 1e9,
                "stored_bytes": 1e9, "disks": [], "left": [], "predicted": None,
            }
            for ident, job, us in runs
            for i, machine in enumerate(machines)
        ]  # fmt: skip
        for first in range(0, len(rows), 1000):
            db.execute(LedgerMachineRow.__table__.insert(), rows[first : first + 1000])  # type: ignore[attr-defined]
    count = len(rows)
    while count < wanted:
        with maker.begin() as db:
            # As far back as what there is reaches.
            shift = int(count / 200 * 86_400e6)
            db.execute(
                text(
                    "INSERT INTO ledger_runs (plan_id, night, job, occurrence_us, kind, outcome, "
                    "began, ended, window_end, order_id, origin, predicted) "
                    "SELECT plan_id, night, job, occurrence_us - :shift, kind, outcome, began, "
                    "ended, window_end, order_id, origin, predicted FROM ledger_runs ORDER BY id"
                ),
                {"shift": shift},
            )
            db.execute(
                text(
                    "INSERT INTO ledger_machine_runs (run_id, plan_id, night, job, occurrence_us, "
                    "machine, outcome, reason, kind, queued, start, prepared, moved, released, "
                    "ended, end_id, source_bytes, wire_bytes, stored_bytes, disks, `left`, "
                    "predicted) SELECT n.id, m.plan_id, m.night, m.job, n.occurrence_us, "
                    "m.machine, m.outcome, m.reason, m.kind, m.queued, m.start, m.prepared, "
                    "m.moved, m.released, m.ended, m.end_id, m.source_bytes, m.wire_bytes, "
                    "m.stored_bytes, m.disks, m.`left`, m.predicted FROM ledger_machine_runs m "
                    "JOIN ledger_runs n ON n.plan_id = m.plan_id AND n.job = m.job "
                    "AND n.occurrence_us = m.occurrence_us - :shift"
                ),
                {"shift": shift},
            )
            count *= 2
    return count


def median_ms(work: Callable[[], Any]) -> float:
    """The middle of some times, in milliseconds."""
    work()
    return 1000 * seconds(work, REPEATED)


def batch(plan: Any, number: int) -> list[Any]:
    """Events of the first machines of a job's run."""
    due = AT + 3600 * number
    its = {"job": JOB, "occurrence": format_instant(due)}
    machines = [m.id for m in plan.machines][:MACHINES]
    found = []
    for i in range(EVENTS):
        found.append(
            event_from(
                {
                    "id": f"{number}-{i}", "what": "disk", "at": format_instant(due + i),
                    "machine": machines[i % len(machines)], "disk": "0",
                    "source_bytes": i * 1_000_000, **its,
                }
            )
        )  # fmt: skip
    return found


def the_ledger(wanted: int) -> list[str]:
    """The lines of the section."""
    instance = Instance(Path(tempfile.mkdtemp()))
    try:
        maker = prepared(instance.start())
        plan = read_plan(larkmoor())
        with maker.begin() as db:
            plan_id = store_plan(db, "larkmoor", plan, actor="bench").id
        count = filled(maker, plan_id, wanted)

        def page(**filter_: Any) -> Callable[[], Any]:
            def read() -> Any:
                with maker() as db:
                    return ledger.page(db, plan_id, ledger.Filter(**filter_), before=None, most=101)

            return read

        pages = [
            ("first page", page()),
            ("of a machine", page(machine="machine-042")),
            ("of a job", page(job="job-7")),
            ("failed", page(outcome="failed")),
        ]
        told = [
            f"| {name} of 100 lines, median | {median_ms(read):.0f} ms |" for name, read in pages
        ]
        numbers = iter(range(REPEATED + 2))

        def write() -> None:
            events = batch(plan, next(numbers))

            def put(db: Any) -> None:
                locked_plan(db, plan_id)
                ledger.take_events(db, plan_id, 1, events, "Europe/Dublin", {}, origin="runner")

            in_transaction(maker, put)

        written = median_ms(write)
        return [
            f"| {count:,} machine-runs in the store | time |",
            "|---|---|",
            *told,
            f"| {EVENTS:,} events written, median | {written:.0f} ms |",
        ]
    finally:
        instance.stop()
