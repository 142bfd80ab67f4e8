"""Which moves there are: the neighbourhoods of a plan.

A candidate is a set of choices, one for each aspect of a job that is otherwise than in the plan.
Each choice is one operation, so a candidate can be shown, taken in part and undone like any edit.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cached_property
from itertools import pairwise
from typing import get_args
from zoneinfo import ZoneInfo

from gambrel.core.balance.problem import MoveKind, Problem
from gambrel.core.balance.split_jobs import jobs_from
from gambrel.core.edits.full_moves import is_weekly_full
from gambrel.core.edits.item_edits import ChangeItem, OperationError, free_id, item_value
from gambrel.core.edits.operations import (
    MoveFull,
    MoveStart,
    Operation,
    SetProxies,
    apply_all,
    change_job,
)
from gambrel.core.edits.splitting import MachineTime, SplitJob, even_groups, group_name
from gambrel.core.model.job_windows import window_of
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.volume import changed_bytes, protected_bytes, protected_disks
from gambrel.core.plan.objects import (
    DayRowSchedule,
    Job,
    Machine,
    Plan,
    Retention,
    RuleSchedule,
    Schedule,
    WindowEnd,
)
from gambrel.core.schedules.calendars import local_of, window_span
from gambrel.core.schedules.spread_fulls import full_groups, job_dues, kind_in_turn
from gambrel.core.schedules.words import rule_parts
from gambrel.core.simulation.engine.layout import layout_of
from gambrel.core.units import DAY, HOUR, MINUTE

Aspect = tuple[str, MoveKind, int]
"""(job, kind of move, position of the schedule or 0): what a choice is about."""

DAY_MIN = 1440
START_STEP_S = 30 * MINUTE
STREAMS = (2, 4, 8)
SPREADS = (2, 3, 4, 5, 6, 7)
SPLIT_DAYS = (-3, -2, -1, 1, 2, 3)
"""By how many days the full of half a job may be later, or earlier, than that of the other half."""
MOST_WEEKS_MOVED = 3
"""So many weeks a full on one weekday of the month may move: from the first to the fourth."""
WEEKS_APART = 7
COPY_DELAYS_MIN = (120.0, 240.0, 480.0)
"""So long after a machine is done its copies may begin: later in the night, or after it."""
LESS_VERIFIED = {"boot": ("checksum", "none"), "checksum": ("none",), "none": ()}
ORDER_OF_APPLYING: tuple[MoveKind, ...] = (
    "night", "start", "spread", "order", "proxies", "streams", "repository", "synthetic",
    "window_end", "copies", "chain", "verify", "split",
)  # fmt: skip
"""A split comes last: what else is moved of a job is moved of both halves."""
_KIND_OF_KEY: Mapping[str, MoveKind] = {
    "spread_fulls": "spread", "machine_order": "order", "max_streams": "streams",
    "repository": "repository", "synthetic_full": "synthetic", "at_window_end": "window_end",
    "copies": "copies", "chain": "chain", "verify": "verify", "verify_fulls": "verify",
}  # fmt: skip
"""What kind of move a change of a job's key is."""


@dataclass(frozen=True, eq=False)
class Candidate:
    """Some choices; empty is the plan as it is. Two with the same choices are equal."""

    choices: tuple[tuple[Aspect, Operation], ...] = ()

    @cached_property
    def _name(self) -> str:
        # Values of the plan file are dicts and lists, which have no hash of their own.
        return repr(self.choices)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Candidate) and self._name == other._name

    def __hash__(self) -> int:
        return hash(self._name)

    @staticmethod
    def of(choices: Mapping[Aspect, Operation]) -> Candidate:
        """The candidate of some choices, in the order in which they are applied."""
        rank = {kind: i for i, kind in enumerate(ORDER_OF_APPLYING)}
        ordered = sorted(choices.items(), key=lambda c: (rank[c[0][1]], c[0][0], c[0][2]))
        return Candidate(tuple(ordered))

    @property
    def operations(self) -> tuple[Operation, ...]:
        """What it does to the plan."""
        return tuple(operation for _, operation in self.choices)

    def with_choice(self, aspect: Aspect, operation: Operation | None) -> Candidate:
        """With another choice for an aspect; None leaves it as in the plan."""
        choices = dict(self.choices)
        choices.pop(aspect, None)
        if operation is not None:
            choices[aspect] = operation
        return Candidate.of(choices)

    def __len__(self) -> int:
        return len(self.choices)


def plan_of(problem: Problem, candidate: Candidate) -> Plan:
    """The plan that a candidate makes. Raises OperationError where it makes none."""
    return apply_all(problem.plan, candidate.operations)


def candidate_of(problem: Problem, operations: Iterable[Operation]) -> Candidate:
    """The candidate that some operations are; those that are no moves are left out."""
    choices: dict[Aspect, Operation] = {}
    for operation in operations:
        if isinstance(operation, MoveFull):
            choices[operation.job, "night", operation.schedule] = operation
        elif isinstance(operation, MoveStart):
            choices[operation.job, "start", operation.schedule] = operation
        elif isinstance(operation, SetProxies):
            choices[operation.job, "proxies", 0] = operation
        elif isinstance(operation, SplitJob) and split_days(operation) is not None:
            choices[operation.job, "split", 0] = operation
        elif isinstance(operation, ChangeItem) and len(operation.changes) == 1:
            kind = _KIND_OF_KEY.get(next(iter(operation.changes)))
            if kind is not None:
                choices[operation.id, kind, 0] = operation
    movable = {job.id for job in problem.movable}
    return Candidate.of({aspect: o for aspect, o in choices.items() if aspect[0] in movable})


def shift_minutes(plan: Plan, candidate: Candidate) -> float:
    """By how many minutes its moves of starts and fulls shift them altogether."""
    total = 0.0
    for (job, kind, position), operation in candidate.choices:
        if kind == "night":
            assert isinstance(operation, MoveFull)
            total += abs(operation.days) * DAY_MIN
        elif kind == "split":
            assert isinstance(operation, SplitJob)
            total += abs(split_days(operation) or 0) * DAY_MIN
        elif kind == "start":
            assert isinstance(operation, MoveStart)
            was = start_time(plan.job_by_id[job].schedules[position])
            hours, minutes = map(int, operation.start_time.split(":"))
            now = hours * 60 + minutes + operation.day_shift * DAY_MIN
            total += abs(now - was)
    return total


def unround(candidate: Candidate) -> int:
    """How many starts it sets to something other than a full hour, half hours counted half."""
    return sum(
        0 if operation.start_time.endswith(":00") else 1 if operation.start_time[-2:] == "30" else 2
        for operation in candidate.operations
        if isinstance(operation, MoveStart)
    )


def start_time(schedule: Schedule) -> int:
    """The minute of the day at which a schedule starts."""
    at = schedule.from_time if isinstance(schedule, DayRowSchedule) else schedule.start.time()
    return at.hour * 60 + at.minute


# --- the moves of one job ---------------------------------------------------------------------


def moves_of(problem: Problem, job: Job) -> Iterator[tuple[Aspect, Operation]]:
    """All single choices that there are for a job, as the plan has it; unchecked."""
    makers = {
        "night": _nights,
        "start": _starts,
        "spread": _spreads,
        "order": _orders,
        "proxies": _proxies,
        "streams": _streams,
        "repository": _repositories,
        "synthetic": _synthetic,
        "window_end": _window_ends,
        "copies": _copies,
        "chain": _chains,
        "verify": _verifying,
        "split": _splits,
    }
    for kind, make in makers.items():
        if kind in problem.kinds:
            yield from make(problem, job)


def _nights(problem: Problem, job: Job) -> Iterator[tuple[Aspect, Operation]]:
    if job.chain == "forever":
        return
    for position, schedule in enumerate(job.schedules):
        if not isinstance(schedule, RuleSchedule) or schedule.kind != "full":
            continue
        if is_weekly_full(schedule):
            days = [-3, -2, -1, 1, 2, 3]
            every = int(rule_parts(schedule.rrule).get("INTERVAL", "1"))
            days += [week * WEEKS_APART for week in range(1, every)]
        else:
            # Balance looks at so many weeks; `MoveFull` refuses what would leave the month.
            weeks = min(MOST_WEEKS_MOVED, max(1, len(problem.nights) // 7 - 1))
            days = [by * WEEKS_APART for n in range(1, weeks + 1) for by in (-n, n)]
        for by in days:
            yield (job.id, "night", position), MoveFull(job.id, position, by)


def opening_of(plan: Plan, job: Job, at: float) -> tuple[float, float] | None:
    """When the window of a job next opens and closes; None without a window."""
    window = window_of(plan, job)
    if window is None:
        return None
    span = window_span(window, at)
    return None if span is None else (span.opens, span.closes)


def _starts(problem: Problem, job: Job) -> Iterator[tuple[Aspect, Operation]]:
    """Starts on the half hours of the window of an ordinary night, and of its evening without."""
    night = problem.nights[0]
    for position, schedule in enumerate(job.schedules):
        if isinstance(schedule, DayRowSchedule):
            continue
        zone = ZoneInfo(schedule.time_zone)
        span = opening_of(problem.plan, job, night.start)
        if span is None or span[1] - span[0] > 20 * HOUR:
            now = start_time(schedule)
            found = {(now + by) for by in range(-240, 241, 60) if 720 <= now + by < 1440}
        else:
            opens = local_of(span[0], zone)
            noon = datetime.combine(opens.date(), datetime.min.time())
            first = int((opens - noon).total_seconds() // 60)
            last = int((span[1] - span[0]) // 60) - 60
            found = {first + by for by in range(0, max(1, last), int(START_STEP_S // 60))}
        for minute in sorted(found):
            move = _start_move(job, position, minute)
            if move is not None:
                yield (job.id, "start", position), move


def _start_move(job: Job, position: int, minute: int) -> MoveStart | None:
    """A start at a minute counted from midnight of the evening; None where it starts there now."""
    now = start_time(job.schedules[position])
    # A schedule that starts in the morning belongs to the night that began the day before.
    was = now + 1440 if now < 720 else now
    if minute == was:
        return None
    at = minute % 1440
    day_shift = minute // 1440 - was // 1440
    return MoveStart(job.id, position, f"{at // 60:02d}:{at % 60:02d}", day_shift)


def _spreads(problem: Problem, job: Job) -> Iterator[tuple[Aspect, Operation]]:
    weekly = any(is_weekly_full(schedule) for schedule in job.schedules)
    if not weekly or job.chain in ("forever", "full_only") or len(job.schedules) < 2:
        return
    machines = len(selected_machines(problem.plan, job))
    for days in SPREADS:
        if days <= machines and days != job.spread_fulls:
            yield (job.id, "spread", 0), change_job(job.id, spread_fulls=days)


def _orders(problem: Problem, job: Job) -> Iterator[tuple[Aspect, Operation]]:
    if len(selected_machines(problem.plan, job)) > 1 and job.machines.rules:
        for order in ("largest", "smallest"):
            if order != job.machine_order:
                yield (job.id, "order", 0), change_job(job.id, machine_order=order)


def _proxies(problem: Problem, job: Job) -> Iterator[tuple[Aspect, Operation]]:
    """Any proxy; one proxy; all but one that reads now. Only proxies that reach some disk."""
    aspect: Aspect = (job.id, "proxies", 0)
    if not any(m.kind == "vm" for m in selected_machines(problem.plan, job)):
        return
    if job.proxies is not None:
        yield aspect, SetProxies(job.id, None)
    reaching = reaching_proxies(problem.plan, job)
    if len(reaching) < 2:
        return
    now = set(job.proxies) if job.proxies is not None else set(reaching)
    for proxy in reaching:
        if now != {proxy}:
            yield aspect, SetProxies(job.id, (proxy,))
    for proxy in reaching:
        others = tuple(other for other in reaching if other != proxy)
        if len(others) > 1 and set(others) != now:
            yield aspect, SetProxies(job.id, others)


def reaching_proxies(plan: Plan, job: Job) -> tuple[str, ...]:
    """The proxies that would be a candidate of some disk of a job if it were pinned to nothing."""
    topology = layout_of(plan).topology
    found: set[int] = set()
    for machine in selected_machines(plan, job):
        if machine.kind == "vm":
            for disk in protected_disks(job, machine):
                for way in topology.unpinned(job, machine, disk):
                    if way.proxy is not None:
                        found.add(way.proxy)
    return tuple(plan.proxies[i].id for i in sorted(found))


def _streams(_: Problem, job: Job) -> Iterator[tuple[Aspect, Operation]]:
    for streams in (*STREAMS, None):
        if streams != job.max_streams:
            yield (job.id, "streams", 0), change_job(job.id, max_streams=streams)


def other_repositories(plan: Plan, job: Job) -> Iterator[str]:
    """Other repositories of the same site that none of the job's copies goes to."""
    site = plan.repository_by_id[job.repository].site
    for repository in plan.repositories:
        if repository.site == site and repository.id not in job.places:
            yield repository.id


def _repositories(problem: Problem, job: Job) -> Iterator[tuple[Aspect, Operation]]:
    for repository in other_repositories(problem.plan, job):
        yield (job.id, "repository", 0), change_job(job.id, repository=repository)


def _synthetic(_: Problem, job: Job) -> Iterator[tuple[Aspect, Operation]]:
    if not job.synthetic_full and job.chain not in ("forever", "full_only"):
        yield (job.id, "synthetic", 0), change_job(job.id, synthetic_full=True)


def _window_ends(problem: Problem, job: Job) -> Iterator[tuple[Aspect, Operation]]:
    if window_of(problem.plan, job) is None:
        return
    for rule in get_args(WindowEnd):
        if rule != job.at_window_end:
            yield (job.id, "window_end", 0), change_job(job.id, at_window_end=rule)


def _copies(_: Problem, job: Job) -> Iterator[tuple[Aspect, Operation]]:
    """All copies of a job later by as much, if they are not as late already."""
    for delay in COPY_DELAYS_MIN:
        if job.copies and max(copy.delay_min for copy in job.copies) < delay:
            later = tuple(replace(copy, delay_min=delay) for copy in job.copies)
            copies = item_value(replace(job, copies=later), "jobs")["copies"]
            yield (job.id, "copies", 0), change_job(job.id, copies=copies)


def _chains(_: Problem, job: Job) -> Iterator[tuple[Aspect, Operation]]:
    """Increments in place of differentials; one chain that is never begun anew.

    The latter only where a number of points or days alone says what is kept, as no other rule
    holds there (section 8).
    """
    if job.chain == "differential":
        yield (job.id, "chain", 0), change_job(job.id, chain="incremental")
    kept = (job.retention, *(copy.retention for copy in job.copies))
    if job.chain in ("incremental", "differential") and all(map(_by_number_alone, kept)):
        yield (job.id, "chain", 0), change_job(job.id, chain="forever")


def _by_number_alone(retention: Retention) -> bool:
    only = Retention(points=retention.points, days=retention.days)
    return retention == only and only != Retention()


def _verifying(_: Problem, job: Job) -> Iterator[tuple[Aspect, Operation]]:
    aspect: Aspect = (job.id, "verify", 0)
    if job.verifies_fulls_too:
        yield aspect, change_job(job.id, verify_fulls=False)
    for less in LESS_VERIFIED[job.verify]:
        yield aspect, change_job(job.id, verify=less)


def split_days(operation: SplitJob) -> int | None:
    """By how many days the full of the new job is later; None for a split that is no move."""
    days = operation.parts[0].get("full_days") if len(operation.parts) == 1 else None
    return days or None


def _splits(problem: Problem, job: Job) -> Iterator[tuple[Aspect, Operation]]:
    """Either half of the machines in a job of its own, its weekly full on another night.

    Not where others follow the job, or a rule of the house names it: both would mean the half
    only that keeps its name.
    """
    plan = problem.plan
    machines = selected_machines(plan, job)
    named = {name for rule in problem.rules for name in rule.names}
    followed = {other.after for other in plan.jobs}
    if len(machines) < 2 or job.chain == "forever" or job.id in named | followed:
        return
    if not any(is_weekly_full(schedule) for schedule in job.schedules):
        return
    name = group_name(job, 1)
    ident = free_id(plan.job_by_id.keys() | problem.others, name)
    halves = even_groups([_work_of(job, machine) for machine in machines], 2)
    for half in reversed(halves):
        part = {"id": ident, "name": name, "machines": list(half.machines)}
        for days in SPLIT_DAYS:
            yield (job.id, "split", 0), SplitJob(job.id, ({**part, "full_days": days},))


def _work_of(job: Job, machine: Machine) -> MachineTime:
    """What a machine takes, in bytes: only its share of the whole counts."""
    full = [protected_bytes(job, machine, disk) for disk in protected_disks(job, machine)]
    return MachineTime(
        machine.id, sum(full), sum(changed_bytes(used, machine, DAY) for used in full)
    )


# --- what a move must not do ------------------------------------------------------------------


def keeps_all_runs(problem: Problem, plan: Plan, jobs: Iterable[str]) -> bool:
    """Whether some jobs run as often, with as many fulls of each machine, as in the problem's plan.

    A start moved onto another of the same job makes one of the two vanish, and a full moved or
    spread out of the horizon would look like a gain; neither is a way to balance.
    """
    return all(
        _tally(problem, [problem.plan.job_by_id[job]], problem.plan)
        == _tally(problem, jobs_from(problem.plan, plan, job), plan)
        for job in jobs
    )


def _tally(
    problem: Problem, jobs: Iterable[Job], plan: Plan
) -> tuple[frozenset[int], tuple[tuple[str, int], ...]]:
    """How often each job runs in the horizon, and how many fulls are scheduled of each machine."""
    runs: set[int] = set()
    by_machine: list[tuple[str, int]] = []
    for job in jobs:
        dues = job_dues(job, plan.calendar_by_id, problem.from_, problem.to)
        runs.add(len(dues))
        machines = selected_machines(plan, job)
        groups = full_groups(job, machines)
        fulls = {
            group: sum(1 for _, kind, _, turn in dues if kind_in_turn(kind, group, turn) == "full")
            for group in set(groups)
        }
        by_machine += ((machine.id, fulls[g]) for machine, g in zip(machines, groups, strict=True))
    return frozenset(runs), tuple(sorted(by_machine))


def is_sound(problem: Problem, candidate: Candidate) -> Plan | None:
    """The plan of a candidate where it is one that may be proposed, else None."""
    try:
        plan = plan_of(problem, candidate)
    except OperationError:
        return None
    timed = ("night", "start", "spread", "split")
    moved = {job for (job, kind, _), _ in candidate.choices if kind in timed}
    if not keeps_all_runs(problem, plan, moved):
        return None
    turned = ("spread", "night", "split")
    spread = {job for (job, kind, _), _ in candidate.choices if kind in turned}
    for name in spread:
        if any(_starves(problem, plan, job) for job in jobs_from(problem.plan, plan, name)):
            return None
    return plan if problem.breaches.adds_none(plan) else None


def _starves(problem: Problem, plan: Plan, job: Job) -> bool:
    """Whether some group of a job with spread fulls would not get its turn before the next full."""
    if job.spread_fulls == 1:
        return False
    week = 7 * 24 * HOUR
    dues = job_dues(job, plan.calendar_by_id, problem.from_, problem.from_ + 3 * week)
    fulls = [at for at, kind, _, _ in dues if kind == "full"]
    for one, other in pairwise(fulls):
        turns = {turn for at, _, _, turn in dues if one <= at < other}
        if not set(range(job.spread_fulls)) <= turns:
            return True
    return False
