"""Past runs from files into the ledger: a look first, then all of them or none."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from itertools import groupby

from sqlalchemy.orm import Session

from gambrel.core.ledger.odd_sizes import STEP, OddSizes, Size, odd_sizes
from gambrel.core.ledger.records import MachineRecord, RunRecord
from gambrel.core.nights.nights import night_at, planner_zone
from gambrel.core.plan.objects import Plan
from gambrel.core.schedules.calendars import job_occurrences
from gambrel.core.units import HOUR
from gambrel.formats.past_runs import PastRun, PastRuns
from gambrel.store import ledger
from gambrel.store.ledger_models import in_us
from gambrel.store.plans import locked_plan
from gambrel.work.planning import Planning

DUE_BEFORE_S = 12 * HOUR
"""How long before its first machine started a run may have fallen due."""


@dataclass(slots=True)
class Import:
    """What a file comes to.

    Attributes:
        runs: what is new, as records.
        new, known: machine-runs that the ledger lacks, and that it has.
        unknown_jobs, unknown_machines: names that fit nothing of the plan, with how many rows.
        odd: where its sizes seem to be in another unit than they are read in.
    """

    runs: list[RunRecord] = field(default_factory=list)
    new: int = 0
    known: int = 0
    unknown_jobs: dict[str, int] = field(default_factory=dict)
    unknown_machines: dict[str, int] = field(default_factory=dict)
    odd: OddSizes | None = None


def named(
    plan: Plan,
    told: PastRuns,
    jobs: Mapping[str, str],
    machines: Mapping[str, str],
    steps: int | None = None,
) -> tuple[list[PastRun], Import]:
    """The rows with the ids of the plan, and what there is to ask about them.

    Args:
        jobs, machines: ids by the names of the file, as somebody mapped them; "" leaves rows out.
        steps: the power of 1,024 by which sizes are multiplied, as somebody answered; None where
            nobody was asked yet.
    """
    found = Import()
    by_name = {job.name.casefold(): job.id for job in plan.jobs}
    lowered = {machine.id.casefold(): machine.id for machine in plan.machines}
    rows = []
    for row in told.rows:
        job = jobs.get(row.job, row.job)
        machine = machines.get(row.machine, row.machine)
        if job == "" or machine == "":
            continue
        job = job if job in plan.job_by_id else by_name.get(job.casefold(), job)
        machine = (
            machine if machine in plan.machine_by_id else lowered.get(machine.casefold(), machine)
        )
        fits = True
        if job not in plan.job_by_id:
            found.unknown_jobs[row.job] = found.unknown_jobs.get(row.job, 0) + 1
            fits = False
        if machine not in plan.machine_by_id:
            found.unknown_machines[row.machine] = found.unknown_machines.get(row.machine, 0) + 1
            fits = False
        if fits:
            rows.append(_renamed(row, job, machine, STEP ** (steps or 0)))
    if steps is None:
        found.odd = odd_sizes(
            plan, (Size(r.job, r.machine, r.kind, r.source_bytes, r.stored_bytes) for r in rows)
        )
    return rows, found


def _renamed(row: PastRun, job: str, machine: str, times: float) -> PastRun:
    return replace(
        row, job=job, machine=machine, source_bytes=row.source_bytes * times,
        wire_bytes=row.wire_bytes * times, stored_bytes=row.stored_bytes * times,
    )  # fmt: skip


def records_of(plan: Plan, rows: Iterable[PastRun]) -> list[RunRecord]:
    """Rows as runs: those of a job in one night are one run, unless the file tells its occurrence.

    A run fell due at the last scheduled occurrence before its first machine started, or then.
    """
    zone = planner_zone(plan)
    found: dict[tuple[str, float], RunRecord] = {}

    def told(row: PastRun) -> tuple[str, bool, str]:
        night = night_at(row.start, zone).date.isoformat()
        return (row.job, row.occurrence is None, night)

    ordered = sorted(rows, key=lambda row: (told(row), row.start, row.line))
    for (job, unknown, _), group in groupby(ordered, key=told):
        its = list(group)
        if unknown:
            for runs in _apart(its):
                due = _due(plan, job, runs[0].start)
                for row in runs:
                    _add(found, job, due, row)
        else:
            for row in its:
                assert row.occurrence is not None
                _add(found, job, row.occurrence, row)
    return list(found.values())


def _apart(rows: list[PastRun]) -> list[list[PastRun]]:
    """Rows of a job and night as runs: a machine that comes again begins another."""
    runs: list[list[PastRun]] = [[]]
    for row in rows:
        if any(other.machine == row.machine for other in runs[-1]):
            runs.append([])
        runs[-1].append(row)
    return runs


def _due(plan: Plan, job: str, start: float) -> float:
    found = job_occurrences(
        plan.job_by_id[job], plan.calendar_by_id, start - DUE_BEFORE_S, start + 1.0
    )
    return max((instant for instant, *_ in found), default=start)


def _add(found: dict[tuple[str, float], RunRecord], job: str, due: float, row: PastRun) -> None:
    run = found.setdefault((job, due), RunRecord(job, due, row.kind, began=due))
    run.ended = max(run.ended or row.end, row.end)
    started = None if row.outcome in ("missed", "no path") else row.start
    run.machines[row.machine] = MachineRecord(
        row.machine, row.outcome, row.reason, row.kind, queued=due, start=started, ended=row.end,
        source_bytes=row.source_bytes, wire_bytes=row.wire_bytes, stored_bytes=row.stored_bytes,
        end_id=f"import {row.line}",
    )  # fmt: skip


def look(planning: Planning, plan_id: int, plan: Plan, rows: list[PastRun], found: Import) -> None:
    """Note in `found` what of the rows the ledger lacks. Nothing is written."""
    with planning.sessions() as db:
        _compare(db, plan_id, records_of(plan, rows), found)


def write(planning: Planning, plan_id: int, plan: Plan, rows: list[PastRun], found: Import) -> None:
    """Write what the ledger lacks, in one transaction; what it has stays as it is."""
    zone = planner_zone(plan)

    def put(db: Session) -> None:
        locked_plan(db, plan_id)
        found.runs, found.new, found.known = [], 0, 0
        _compare(db, plan_id, records_of(plan, rows), found)
        ledger.write_runs(db, plan_id, found.runs, zone, origin="import")

    planning.write(put)


def _compare(db: Session, plan_id: int, records: list[RunRecord], found: Import) -> None:
    known = ledger.runs_by_key(db, plan_id, [(r.job, r.occurrence) for r in records])
    for record in records:
        there = known.get((record.job, in_us(record.occurrence)))
        fresh = {
            name: machine
            for name, machine in record.machines.items()
            if there is None or name not in there.machines or there.machines[name].outcome is None
        }
        found.known += len(record.machines) - len(fresh)
        if not fresh:
            continue
        found.new += len(fresh)
        run = record
        if there is not None:
            run = there
            run.began = record.began if run.began is None else run.began
            run.ended = max(run.ended or 0.0, record.ended or 0.0)
            for name, machine in fresh.items():
                if name in there.machines:
                    machine.predicted = there.machines[name].predicted
        run.machines = {**run.machines, **fresh}
        found.runs.append(run)
