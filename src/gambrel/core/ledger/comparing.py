"""A night that is past, or under way, beside what was predicted for it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

from gambrel.core import words
from gambrel.core.ledger.predicting import actual_parts, predicted_parts
from gambrel.core.ledger.records import MachineRecord, RunRecord
from gambrel.core.nights.nights import TIGHT_MARGIN_S, Night, Verdict
from gambrel.core.units import MINUTE

OFF_S = 15 * MINUTE
"""A run that ends this much from its prediction differs from the plan."""
NOT_REPORTED_S = 60 * MINUTE
"""How long after it was to begin a run counts as not begun."""

Trouble = Literal["failed", "cut off", "missed", "no path", "not reported"]


@dataclass(frozen=True, slots=True)
class MachineTrouble:
    """A machine that did not get done in a run, and whether a later run of the job made it good."""

    job: str
    occurrence: float
    machine: str
    outcome: Trouble
    reason: str
    made_good: bool
    left: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Difference:
    """A run that went otherwise than predicted.

    Attributes:
        late_s: how much later it ended than predicted; negative for earlier.
        why: the part of its time that differs most, in words.
    """

    job: str
    occurrence: float
    predicted_end: float | None
    ended: float | None
    late_s: float
    why: str


@dataclass(frozen=True, slots=True)
class NightSummary:
    """How a night went.

    Attributes:
        verdict: by the rules of section 13, of what really ran.
        predicted_end, last_end: when the last run with a window was to end, and did.
        done, total: machine-runs.
        runs_open: runs that have begun and not ended.
    """

    night: Night
    verdict: Verdict
    predicted_verdict: Verdict | None
    predicted_end: float | None
    last_end: float | None
    over_s: float
    done: int
    moving: int
    failed: int
    waiting: int
    total: int
    runs_open: int
    troubles: tuple[MachineTrouble, ...]
    differences: tuple[Difference, ...]
    moved_bytes: float


def that_bind(runs: Sequence[RunRecord]) -> Sequence[RunRecord]:
    """The runs whose ends count for a night: those with a window, or all where none has one."""
    return [run for run in runs if run.window_end is not None] or runs


def predicted_end(run: RunRecord) -> float | None:
    """When a run was to end; None where nothing was predicted of it, or that it never would."""
    found: float | None = run.predicted["ended"] if run.predicted else None
    return found


def last_predicted_end(runs: Iterable[RunRecord]) -> float | None:
    """When the last of some runs was to end; None where nothing was predicted of them."""
    return max(filter(None, map(predicted_end, runs)), default=None)


def last_end(runs: Iterable[RunRecord]) -> float | None:
    """When the last of some runs ended; None while none has."""
    return max((run.ended for run in runs if run.ended is not None), default=None)


def summarize(night: Night, runs: Sequence[RunRecord], clock: float) -> NightSummary:
    """Sum a night up as it stands at an instant of the runner's clock."""
    machines = [(run, record) for run in runs for record in run.machines.values()]
    ended = [record for _, record in machines if record.ended is not None]
    done = sum(record.outcome == "done" for record in ended)
    moving = sum(r.ended is None and r.start is not None for _, r in machines)
    troubles = tuple(_troubles(runs, clock))
    bound = that_bind(runs)
    over = max(
        (run.ended - run.window_end for run in runs if run.ended and run.window_end), default=0.0
    )
    return NightSummary(
        night=night,
        verdict=_verdict(runs, troubles, over),
        predicted_verdict=_predicted_verdict(runs),
        predicted_end=last_predicted_end(bound),
        last_end=last_end(bound),
        over_s=max(0.0, over),
        done=done,
        moving=moving,
        failed=len(troubles),
        waiting=len(machines) - len(ended) - moving,
        total=len(machines),
        runs_open=sum(run.began is not None and run.ended is None for run in runs),
        troubles=troubles,
        differences=tuple(_differences(runs)),
        moved_bytes=sum(record.moving_bytes() for _, record in machines),
    )


def _verdict(runs: Iterable[RunRecord], troubles: Sequence[MachineTrouble], over: float) -> Verdict:
    if any(not trouble.made_good for trouble in troubles) or over > 0.5:
        return "over"
    margins = [
        run.window_end - run.ended
        for run in runs
        if run.window_end is not None and run.ended is not None
    ]
    return "tight" if margins and min(margins) < TIGHT_MARGIN_S else "fits"


def _predicted_verdict(runs: Iterable[RunRecord]) -> Verdict | None:
    found: Verdict | None = None
    for run in runs:
        if run.predicted is None:
            continue
        found = found or "fits"
        undone = any(
            m.predicted and m.predicted["outcome"] != "done" for m in run.machines.values()
        )
        if undone or run.predicted["over_s"] > 0.5:
            return "over"
        ended = run.predicted["ended"]
        if run.window_end and ended and run.window_end - ended < TIGHT_MARGIN_S:
            found = "tight"
    return found


def _troubles(runs: Sequence[RunRecord], clock: float) -> Iterable[MachineTrouble]:
    """Machines that did not get done; made good where a later run of the job did it."""
    good: dict[tuple[str, str], float] = {}
    for run in runs:
        for record in run.machines.values():
            if record.outcome == "done":
                key = (run.job, record.machine)
                good[key] = max(good.get(key, run.occurrence), run.occurrence)
    for run in sorted(runs, key=lambda run: (run.occurrence, run.job)):
        for record in run.machines.values():
            outcome: Trouble
            reason = record.reason
            if record.outcome is not None and record.outcome != "done":
                outcome = record.outcome
            elif _not_reported(run, record, clock) and not was_skipped(run, runs):
                outcome, reason = "not reported", "the runner has not reported that it began"
            else:
                continue
            later = good.get((run.job, record.machine), run.occurrence) > run.occurrence
            yield MachineTrouble(
                run.job, run.occurrence, record.machine, outcome, reason, later, tuple(record.left)
            )


def _not_reported(run: RunRecord, record: MachineRecord, clock: float) -> bool:
    """Whether a run that was predicted should have begun long ago and has not."""
    if run.began is not None or record.predicted is None or run.predicted is None:
        return False
    began = run.predicted["began"]
    return began is not None and clock > began + NOT_REPORTED_S


def was_skipped(run: RunRecord, runs: Sequence[RunRecord]) -> bool:
    """Whether an earlier run of the job was still under way when a run fell due."""
    return any(
        other.job == run.job
        and other.began is not None
        and other.began < run.occurrence
        and (other.ended is None or other.ended > run.occurrence)
        for other in runs
    )


def _differences(runs: Iterable[RunRecord]) -> Iterable[Difference]:
    found = []
    for run in runs:
        predicted = run.predicted["ended"] if run.predicted else None
        if run.ended is None or predicted is None:
            continue
        late = run.ended - predicted
        if abs(late) >= OFF_S:
            why = why_it_differs(run)
            found.append(Difference(run.job, run.occurrence, predicted, run.ended, late, why))
    return sorted(found, key=lambda difference: -abs(difference.late_s))


def why_it_differs(run: RunRecord) -> str:
    """The part of a run's time that differs most from its prediction, in words."""
    if run.window_end is not None and any(m.outcome == "missed" for m in run.machines.values()):
        missed = sum(m.outcome == "missed" for m in run.machines.values())
        return f"{words.count(missed, 'machine')} missed the window"
    last = max(
        (m for m in run.machines.values() if m.ended is not None and m.predicted),
        key=lambda m: m.ended or 0.0,
        default=None,
    )
    if last is None or last.predicted is None:
        return "nothing was predicted for its machines"
    if last.outcome == "failed":
        return f"{last.machine}: {last.reason or 'failed'}"
    return machine_difference(last) or "many small differences"


_SAID = {"moving": "reading", "releasing": "release"}


def machine_difference(record: MachineRecord) -> str:
    """What made a machine-run longer or shorter than predicted, in words; "" for nothing much."""
    if record.predicted is None:
        return ""
    predicted = predicted_parts(record.predicted["parts"])
    worst, by = "", 0.0
    for part, seconds in actual_parts(record).items():
        if seconds is not None and abs(seconds - predicted[part]) > abs(by):
            worst, by = part, seconds - predicted[part]
    if abs(by) < MINUTE:
        return ""
    said = f"{record.machine}: {_SAID.get(worst, worst)} took {words.duration(abs(by))} "
    said += "longer" if by > 0 else "less"
    expected = record.predicted["source_bytes"]
    if worst == "moving" and expected and record.source_bytes:
        part = record.source_bytes / expected
        if part > 1.25 or part < 0.8:
            said += f", {words.size(record.source_bytes)} instead of {words.size(expected)}"
    return said
