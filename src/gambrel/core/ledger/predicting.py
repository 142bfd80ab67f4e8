"""What a forecast says of a night, in the form in which the ledger keeps it beside what comes.

It is written down when the night begins, so that later changes of the plan do not change what had
been predicted.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from gambrel.core.ledger.records import MachineRecord, RunRecord
from gambrel.core.model.job_windows import window_of
from gambrel.core.nights.nights import Night, runs_of
from gambrel.core.plan.objects import Plan
from gambrel.core.schedules.calendars import NEVER, window_span
from gambrel.core.simulation.forecast import Forecast, MachineRun, Run


def predicted_runs(forecast: Forecast, night: Night) -> list[RunRecord]:
    """The runs of a night as predicted, none of them begun; skipped ones are not among them."""
    found = []
    for run in runs_of(forecast, night):
        if run.outcome == "skipped":
            continue
        record = RunRecord(
            run.job, run.occurrence, run.kind, window_end=run.window_end, predicted=_run(run)
        )
        for machine in run.machines:
            record.machines[machine.machine] = MachineRecord(
                machine.machine, predicted=_machine(machine)
            )
        found.append(record)
    return found


def window_end(plan: Plan, job: str, occurrence: float) -> float | None:
    """When the window of a run closes that falls due at an instant; None where it never does."""
    window = window_of(plan, plan.job_by_id[job])
    span = None if window is None else window_span(window, occurrence)
    return None if span is None or span.closes == NEVER else span.closes


def _run(run: Run) -> dict[str, Any]:
    return {
        "began": run.began,
        "ended": run.ended,
        "outcome": run.outcome,
        "over_s": round(run.over_s, 3),
    }


def _machine(machine: MachineRun) -> dict[str, Any]:
    return {
        "outcome": machine.outcome,
        "kind": machine.kind,
        "queued": machine.queued,
        "start": machine.start,
        "moved": machine.moved,
        "ended": machine.ended,
        "source_bytes": round(machine.source_bytes),
        "wire_bytes": round(machine.wire_bytes),
        "stored_bytes": round(machine.stored_bytes),
        "parts": [[part.kind, round(part.seconds, 1), part.by] for part in machine.account or ()],
    }


PARTS = ("waiting", "preparing", "moving", "releasing", "checking")
"""The parts of a machine-run's time that a runner reports, in their order."""
_OF_PARTS = {
    "window": "waiting",
    "slot": "waiting",
    "preparing": "preparing",
    "disk slot": "moving",
    "moving": "moving",
    "releasing": "releasing",
    "transform slot": "checking",
    "transforming": "checking",
    "guest steps": "checking",
    "verifying": "checking",
}


def predicted_parts(parts: Iterable[Any]) -> dict[str, float]:
    """Predicted seconds by the parts that are reported."""
    found = dict.fromkeys(PARTS, 0.0)
    for kind, seconds, _ in parts:
        found[_OF_PARTS[kind]] += seconds
    return found


def actual_parts(record: MachineRecord) -> dict[str, float | None]:
    """Seconds that each part took; None for what has not ended or was not reported."""
    marks = (record.queued, record.start, record.prepared, record.moved, record.released)
    ends = (*marks[1:], record.ended)
    found: dict[str, float | None] = {}
    for part, begin, end in zip(PARTS, marks, ends, strict=True):
        found[part] = None if begin is None or end is None else max(0.0, end - begin)
    return found
