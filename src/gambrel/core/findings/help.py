"""What would help against a finding: operations that were tried, one simulation each.

Nothing is proposed because it usually helps. Every candidate is applied to the plan and simulated
over the same time; it is kept where the finding is gone or clearly less, and nothing that does not
get done grew.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from datetime import timedelta
from typing import NamedTuple
from zoneinfo import ZoneInfo

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import (
    ExcludeDisk,
    ExcludeMachine,
    IncludeMachine,
    MoveFull,
    MoveStart,
    Operation,
    SetInterval,
    SetProxies,
    apply_all,
    change_job,
)
from gambrel.core.findings import Thresholds, find
from gambrel.core.findings.model import Finding
from gambrel.core.nights.nights import TROUBLE, night_at, planner_zone
from gambrel.core.plan.objects import DayRowSchedule, Job, Plan, RuleSchedule
from gambrel.core.schedules.calendars import local_of
from gambrel.core.simulation.exposure import exposures
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.units import MINUTE

CLEARLY_LESS = 0.9
"""What is left of a finding's weight, at most, where an operation helps."""
MOST_SUGGESTIONS = 3
MOST_TRIED = 16
"""Candidates that are simulated for one finding."""

Play = Callable[[Plan], Forecast]
"""Simulates a changed plan; its forecast holds all of the same time."""

SAME_MATTER: tuple[tuple[str, ...], ...] = (
    ("missed", "cut off", "no path"),
    ("skipped", "verify runs into the next run"),
)
"""Classes of findings that are one trouble: nothing is gained where one becomes another."""


class Trouble(NamedTuple):
    """What does not get done as it should in a time.

    Attributes:
        over_s: seconds over windows, of all runs.
        lost: machine-runs that are not done.
        skipped: runs that are skipped.
        rpo_missed: machines that miss their RPO.
    """

    over_s: float
    lost: int
    skipped: int
    rpo_missed: int

    def is_worse_than(self, other: Trouble) -> bool:
        """Whether there is more of any of it; a minute over windows is none."""
        return self.over_s > other.over_s + MINUTE or any(
            mine > theirs for mine, theirs in zip(self[1:], other[1:], strict=True)
        )


@dataclass(frozen=True, slots=True)
class Suggestion:
    """Operations that help against a finding.

    Attributes:
        words: what they do.
        before, after: how much there is of what the finding is about; 0 where it is gone.
        trouble_before, trouble_after: of the whole plan over the same time.
    """

    operations: tuple[Operation, ...]
    words: str
    before: float
    after: float
    trouble_before: Trouble
    trouble_after: Trouble


@dataclass(frozen=True, slots=True)
class Offered:
    """What helps, the most helpful first, and how many candidates were simulated to find it."""

    found: tuple[Suggestion, ...]
    tried: int


def trouble(forecast: Forecast, start: float, end: float) -> Trouble:
    """What does not get done as it should of what is due in [start, end)."""
    runs = [run for run in forecast.runs if start <= run.occurrence < end]
    return Trouble(
        over_s=sum(run.over_s for run in runs),
        lost=sum(run.outcomes[o] for run in runs for o in TROUBLE),
        skipped=sum(run.outcome == "skipped" for run in runs),
        rpo_missed=sum(e.rpo_met is False for e in exposures(forecast, start, end)),
    )


# --- candidates ---------------------------------------------------------------------------------


def _weekly_full(job: Job, position: int) -> bool:
    schedule = job.schedules[position]
    return (
        schedule.kind == "full"
        and isinstance(schedule, RuleSchedule)
        and "FREQ=WEEKLY" in schedule.rrule.upper()
    )


def _other_nights(job: Job) -> Iterator[Operation]:
    for position in range(len(job.schedules)):
        if _weekly_full(job, position):
            for days in (1, -1, 2, -2, -3, 3):
                yield MoveFull(job.id, position, days)


def _other_starts(job: Job) -> Iterator[Operation]:
    for position, schedule in enumerate(job.schedules):
        if isinstance(schedule, DayRowSchedule):
            continue
        for minutes in (-60, 60, -120, 120):
            at = schedule.start + timedelta(minutes=minutes)
            if at.date() == schedule.start.date():
                yield MoveStart(job.id, position, f"{at:%H:%M}")


def _free_readers(job: Job) -> Iterator[Operation]:
    if job.proxies is not None:
        yield SetProxies(job.id, None)
    if job.transport != "auto":
        yield change_job(job.id, transport="auto")


def _jobs_of_night(plan: Plan, forecast: Forecast, day: str) -> Iterator[Job]:
    """Jobs with fulls on a night, the largest first."""
    volume: dict[str, float] = {}
    for run in forecast.runs:
        zone = plan.job_by_id[run.job].schedules
        if run.kind == "full" and zone:
            local = local_of(run.occurrence, ZoneInfo(zone[0].time_zone)) - timedelta(hours=12)
            if local.date().isoformat() == day:
                moved = sum(m.source_bytes for m in run.machines)
                volume[run.job] = volume.get(run.job, 0.0) + moved
    for job in sorted(volume, key=lambda job: -volume[job]):
        yield plan.job_by_id[job]


def _one_by_one(operations: Iterable[Operation]) -> Iterator[tuple[Operation, ...]]:
    return ((operation,) for operation in operations)


def _unpinned(plan: Plan) -> Iterator[tuple[Operation, ...]]:
    """Of jobs that are pinned to the same proxies: all of them let go at once."""
    pinned: dict[tuple[str, ...], list[Operation]] = {}
    for job in plan.jobs:
        if job.proxies is not None and not job.locked:
            pinned.setdefault(job.proxies, []).append(SetProxies(job.id, None))
    yield from (tuple(operations) for operations in pinned.values())


def candidates(finding: Finding, plan: Plan, forecast: Forecast) -> Iterator[tuple[Operation, ...]]:
    """Operations that might help against a finding, the likeliest first."""
    jobs = [plan.job_by_id[s.id] for s in finding.subjects if s.kind == "job"]
    machines = [s.id for s in finding.subjects if s.kind == "machine"]
    if finding.kind in ("over the window", "missed", "cut off", "skipped", "interval too short"):
        yield from _unpinned(plan)
        for job in jobs:
            yield from _one_by_one(_free_readers(job))
            yield from _one_by_one(_other_nights(job))
            yield from _one_by_one(_other_starts(job))
            for position, schedule in enumerate(job.schedules):
                if isinstance(schedule, DayRowSchedule):
                    usual = finding.figures.get("usual_s", 2 * schedule.every_min * MINUTE)
                    yield (SetInterval(job.id, position, min(1440, int(usual / MINUTE) + 5)),)
        if finding.at is not None:
            night = night_at(finding.at, planner_zone(plan)).date.isoformat()
            for job in list(_jobs_of_night(plan, forecast, night))[:4]:
                yield from _one_by_one(list(_other_nights(job))[:2])
    elif finding.kind == "verify runs into the next run":
        for job in jobs:
            if job.verifies_fulls_too:
                yield (change_job(job.id, verify_fulls=False),)
            yield (change_job(job.id, verify="checksum" if job.verify == "boot" else "none"),)
            yield from _one_by_one(_other_starts(job))
            yield (change_job(job.id, verify="none"),)
    elif finding.kind in ("no path", "pin forces a worse transport", "disk read across sites"):
        for job in jobs:
            yield from _one_by_one(_free_readers(job))
    elif finding.kind == "unprotected":
        alike = [job for job in plan.jobs if job.schedules and not job.locked]
        machine = plan.machine_by_id[machines[0]]
        site = plan.site_of(machine)
        alike.sort(key=lambda job: plan.repository_by_id[job.repository].site != site)
        for job in alike[:6]:
            yield (IncludeMachine(job.id, machine.id),)
    elif finding.kind == "protected twice":
        for job in reversed(jobs):
            yield (ExcludeMachine(job.id, machines[0]),)
    elif finding.kind == "backup disk as a source":
        disk = next(s.id for s in finding.subjects if s.kind == "disk")
        yield (ExcludeDisk(jobs[0].id, machines[0], disk),)
    elif finding.kind == "fulls clumped":
        for job in _jobs_of_night(plan, forecast, finding.subjects[0].id):
            yield from _one_by_one(list(_other_nights(job))[:3])
    elif finding.kind in ("squeeze with idle peers", "proxy that no job can use"):
        yield from _unpinned(plan)


def _words(operations: tuple[Operation, ...], plan: Plan) -> str:
    first = operations[0]
    if (
        len(operations) > 2
        and isinstance(first, SetProxies)
        and all(isinstance(o, SetProxies) for o in operations)
    ):
        pins = plan.job_by_id[first.job].proxies or ()
        return f"{len(operations)} jobs pinned to {' or '.join(pins)}: read by any proxy"
    return "; ".join(operation.describe(plan) for operation in operations)


# --- trying them --------------------------------------------------------------------------------


def _same_matter(kind: str) -> tuple[str, ...]:
    return next((kinds for kinds in SAME_MATTER if kind in kinds), (kind,))


def _weight(finding: Finding, found: Iterable[Finding]) -> float:
    """How much there is of what a finding is about, under whatever class it is found."""
    subjects = finding.subjects[: finding.known_by]
    return sum(f.weight for f in found if f.subjects[: f.known_by] == subjects)


def suggestions(
    finding: Finding,
    forecast: Forecast,
    start: float,
    end: float,
    play: Play,
    thresholds: Thresholds | None = None,
) -> Offered:
    """The operations that help most against a finding, each simulated; at most three."""
    plan = forecast.plan
    before = trouble(forecast, start, end)
    kinds = _same_matter(finding.kind)
    there_is = _weight(finding, find(forecast, start, end, thresholds, kinds=kinds))
    found: list[Suggestion] = []
    tried: list[tuple[Operation, ...]] = []
    for operations in candidates(finding, plan, forecast):
        if operations in tried or len(tried) >= MOST_TRIED:
            continue
        tried.append(operations)
        try:
            changed = apply_all(plan, operations)
            words = _words(operations, plan)
        except OperationError:
            continue
        result = play(changed)
        left = _weight(finding, find(result, start, end, thresholds, kinds=kinds))
        after = trouble(result, start, end)
        if left > CLEARLY_LESS * there_is or after.is_worse_than(before):
            continue
        found.append(Suggestion(operations, words, there_is, left, before, after))
    found.sort(key=lambda s: (s.after, s.trouble_after.lost, s.trouble_after.over_s))
    return Offered(tuple(found[:MOST_SUGGESTIONS]), len(tried))
