"""Troubles that stand for days: no good point, failed again and again, a forecast that is off."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from gambrel.core import words
from gambrel.core.ledger.records import RunRecord
from gambrel.core.model.selection import selected_machines
from gambrel.core.plan.objects import Plan
from gambrel.core.units import MINUTE

FAILED_IN_A_ROW = 2
"""So many runs in a row that fail a machine are told."""
OFF_S = 15 * MINUTE
OFF_NIGHTS = 5
"""A job whose runs end this far from their prediction, the same way, in so many of the last seven
nights has a forecast that is off."""
LOOKED_BACK_NIGHTS = 7

StandingKind = Literal["no good point", "failed in a row", "forecast off", "restore tests overdue"]


@dataclass(frozen=True, slots=True)
class Standing:
    """A trouble that stands.

    Attributes:
        machine: the machine that it is about; None where it is about a whole job.
        job: the job in which it shows; None where none selects the machine any more.
        weight: how much of it there is, in the unit of its kind.
    """

    kind: StandingKind
    machine: str | None
    job: str | None
    what: str
    why: str
    weight: float


def standing_troubles(
    plan: Plan, runs: Sequence[RunRecord], newest: Mapping[str, float], at: float
) -> list[Standing]:
    """All troubles that stand at an instant, by kind, the worst first.

    Args:
        runs: those of the last seven nights.
        newest: start instant of the newest restore point of each machine that has one.
    """
    found = [
        *_no_good_point(plan, runs, newest),
        *_failed_in_a_row(plan, runs),
        *_off(plan, runs, at),
    ]
    kinds: tuple[StandingKind, ...] = ("no good point", "failed in a row", "forecast off")
    return sorted(found, key=lambda s: (kinds.index(s.kind), -s.weight, s.machine or s.job or ""))


def overdue_tests(due: Mapping[str, float], at: float, zone: str) -> list[Standing]:
    """Machines that are past their turn of a restore test, in one trouble.

    Args:
        due: by when each machine must be tested.
    """
    late = sorted((when, machine) for machine, when in due.items() if when < at)
    if not late:
        return []
    when, machine = late[0]
    are = "is" if len(late) == 1 else "are"
    return [
        Standing(
            "restore tests overdue",
            None,
            None,
            f"{words.count(len(late), 'machine')} {are} past the turn of a restore test.",
            f"{machine} longest: it was due {words.dated_moment(when, zone)}. "
            "Recovery, Tests lays them out in free hours.",
            float(len(late)),
        )
    ]


def _no_good_point(
    plan: Plan, runs: Iterable[RunRecord], newest: Mapping[str, float]
) -> Iterator[Standing]:
    """Machines that a job has tried and of which no restore point exists."""
    tried = {
        machine.machine
        for run in runs
        for machine in run.machines.values()
        if machine.ended is not None
    }
    for machine in plan.machines:
        if machine.id in tried and machine.id not in newest:
            jobs = [j for j in plan.jobs if machine in selected_machines(plan, j)]
            by = f"{jobs[0].name} tried" if jobs else "A run tried"
            yield Standing(
                "no good point",
                machine.id,
                jobs[0].id if jobs else None,
                f"{machine.id} has no restore point.",
                f"{by} in the last week; none of its runs left a point.",
                1.0,
            )


def _failed_in_a_row(plan: Plan, runs: Sequence[RunRecord]) -> Iterator[Standing]:
    in_order: dict[tuple[str, str], list[tuple[str, str]]] = {}
    for run in sorted(runs, key=lambda run: run.occurrence):
        for machine in run.machines.values():
            if machine.outcome is not None:
                key = (run.job, machine.machine)
                in_order.setdefault(key, []).append((machine.outcome, machine.reason))
    for (job, name), outcomes in in_order.items():
        times = 0
        for outcome, _ in reversed(outcomes):
            if outcome == "done":
                break
            times += 1
        if times < FAILED_IN_A_ROW or job not in plan.job_by_id:
            continue
        reason = outcomes[-1][1] or outcomes[-1][0]
        yield Standing(
            "failed in a row",
            name,
            job,
            f"{name} failed {times} times in a row in {plan.job_by_id[job].name}.",
            f"Last: {reason}.",
            float(times),
        )


def _off(plan: Plan, runs: Iterable[RunRecord], at: float) -> Iterator[Standing]:
    """Jobs that end well apart from their prediction, the same way, night after night.

    Of a job that runs several times a night the run that is furthest off counts.
    """
    by_job: dict[str, dict[int, float]] = {}
    for run in runs:
        if run.ended is None or not run.predicted or not run.predicted.get("ended"):
            continue
        night = int((at - run.occurrence) // 86_400)
        late = run.ended - run.predicted["ended"]
        nights = by_job.setdefault(run.job, {})
        if abs(late) > abs(nights.get(night, 0.0)):
            nights[night] = late
    for job, nights in by_job.items():
        if job not in plan.job_by_id:
            continue
        for sign, word in ((1.0, "later"), (-1.0, "earlier")):
            off = sorted(sign * late for late in nights.values() if sign * late >= OFF_S)
            if len(off) >= OFF_NIGHTS:
                usual = off[len(off) // 2]
                yield Standing(
                    "forecast off",
                    None,
                    job,
                    f"{plan.job_by_id[job].name} ends {words.duration(usual)} {word} "
                    "than predicted.",
                    f"In {len(off)} of the last {LOOKED_BACK_NIGHTS} nights. Check the change and "
                    "the rates that the plan states.",
                    usual,
                )
