"""What is missing or contradictory in a job, clause by clause; and what stops a plan.

A problem that "stops" means that something of the job can never work. One that "deserves a look"
may be meant.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from itertools import product
from typing import Literal

from gambrel.core.model.destinations import machines_by_destination
from gambrel.core.model.job_windows import window_of
from gambrel.core.model.paths import Topology, may_send
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.volume import cannot_quiesce, protected_bytes, protected_disks
from gambrel.core.plan.objects import Job, Machine, Plan, Repository
from gambrel.core.questions.selection_preview import jobs_of_machines, names_in_words
from gambrel.core.questions.upcoming import interval_of_fulls_s
from gambrel.core.schedules.calendars import job_occurrences, window_span
from gambrel.core.simulation.engine.layout import layout_of
from gambrel.core.units import DAY, MINUTE, SAME_INSTANT
from gambrel.core.words import count, duration

Weight = Literal["stops", "look"]
LOOKS_AHEAD_S = 26 * 7 * DAY
"""A job that does not run within this time never runs, for all that a planner can see."""


FULLS_WITHIN_S = 2 * 366 * DAY
"""A job in which no full is due within this time has none; a yearly one is due in it."""


@dataclass(frozen=True, slots=True)
class JobProblem:
    """Something that a clause of a job lacks.

    Attributes:
        clause: key of the clause (`words.Clause`).
        weight: whether it can never work, or merely deserves a look.
    """

    job: str
    clause: str
    weight: Weight
    words: str


@dataclass(frozen=True, slots=True)
class _Case:
    plan: Plan
    job: Job
    machines: list[Machine]
    from_: float
    topology: Topology

    @property
    def homes(self) -> list[Repository]:
        """Where its machines go."""
        return [self.plan.repository_by_id[name] for name in self.job.repositories]

    def stops(self, clause: str, words: str) -> JobProblem:
        return JobProblem(self.job.id, clause, "stops", words)

    def look(self, clause: str, words: str) -> JobProblem:
        return JobProblem(self.job.id, clause, "look", words)


def _names(machines: list[Machine]) -> str:
    return names_in_words([machine.id for machine in machines])


def _of_machines(case: _Case) -> Iterator[JobProblem]:
    if not case.machines:
        yield case.stops("machines", "No machine is selected.")
        return
    bare = [m for m in case.machines if m.disks and not protected_disks(case.job, m)]
    if bare:
        yield case.stops("machines", f"All disks are left out: {_names(bare)}.")
    yield from _of_left_out_paths(case)
    nothing = [
        m
        for m in case.machines
        if m not in bare
        and not any(protected_bytes(case.job, m, disk) for disk in protected_disks(case.job, m))
    ]
    if nothing:
        yield case.look("machines", f"0 bytes are protected of {_names(nothing)}.")
    rules = case.job.machines.rules
    empty = [
        i + 1
        for i, rule in enumerate(rules)
        if not selected_machines(case.plan, _with_rule(case.job, i))
    ]
    if empty and len(rules) > 1:
        yield case.look("machines", f"Rule {empty[0]} matches no machine.")


def _of_left_out_paths(case: _Case) -> Iterator[JobProblem]:
    """Paths that hold more than the disk that they are on."""
    left_out: dict[tuple[str, str], float] = {}
    for path in case.job.exclude_paths:
        key = path.machine, path.disk
        left_out[key] = left_out.get(key, 0.0) + path.gib
    for (machine, name), gib in left_out.items():
        owner = case.plan.machine_by_id.get(machine)
        disk = next((d for d in owner.disks if d.id == name), None) if owner else None
        if disk is not None and gib > disk.used_gib:
            yield case.stops(
                "machines",
                f"{gib:g} GiB of paths are left out of {machine}, disk {name}, which holds "
                f"{disk.used_gib:g} GiB.",
            )


def _with_rule(job: Job, i: int) -> Job:
    return replace(job, machines=replace(job.machines, ids=(), rules=(job.machines.rules[i],)))


def _of_paths(case: _Case) -> Iterator[JobProblem]:
    job, plan = case.job, case.plan
    if job.proxies == () and any(m.kind == "vm" for m in case.machines):
        yield case.stops("readers", "No proxy may read it.")
        return
    lost = [
        m
        for m in case.machines
        if not all(case.topology.candidates(job, m, disk) for disk in protected_disks(job, m))
    ]
    if lost:
        free = [
            m
            for m in lost
            if m.kind == "vm"
            and all(case.topology.unpinned(job, m, disk) for disk in protected_disks(job, m))
        ]
        words = f"No path to {count(len(lost), 'machine')}: {_names(lost)}."
        if free:
            words += f" {len(free)} of them could be read without the pin or the forced transport."
        senders = (m if m.host is None else plan.host_by_id[m.host] for m in lost)
        apart = sum(not may_send(sender, job.network) for sender in senders)
        if apart:
            words += f" {apart} of them have no second NIC in the network {job.network}."
        yield case.stops("readers", words)


def _of_runs(case: _Case) -> Iterator[JobProblem]:
    job, plan = case.job, case.plan
    if job.after is not None:
        leader = plan.job_by_id[job.after]
        if leader.on_hold:
            yield case.look("runs", f"{leader.name}, which it follows, is on hold.")
        return
    if job.on_hold:
        until = "" if job.hold_until is None else f" until {job.hold_until}"
        yield case.look("runs", f"It is on hold{until}: nothing runs.")
        return
    if not job.schedules:
        yield case.look("runs", "It has no schedule: it runs on demand only.")
        return
    found = job_occurrences(job, plan.calendar_by_id, case.from_, case.from_ + 4 * 7 * DAY)
    if not found:
        far = job_occurrences(job, plan.calendar_by_id, case.from_, case.from_ + LOOKS_AHEAD_S)
        if not far:
            yield case.stops("runs", "It does not run at all within half a year.")
        return
    yield from _of_kinds(case, {kind for _, kind, _ in found})


def _of_kinds(case: _Case, kinds: set[str]) -> Iterator[JobProblem]:
    job = case.job
    if job.chain == "full_only" and kinds != {"full"}:
        yield case.look("runs", "Every run reads all: its incrementals are fulls.")
    if job.chain == "forever" and "full" in kinds:
        yield case.look("runs", "One full for ever: the fulls that are due run as incrementals.")
    if job.chain in ("incremental", "differential") and not _has_fulls(case):
        yield case.look("runs", "No full is due after the first: the chain grows without end.")
    if job.synthetic_full and job.chain == "full_only":
        yield case.look("runs", "Always full, so no full is made in the repository.")
    for repository in case.homes:
        name = repository.id
        if repository.sequential and job.synthetic_full:
            yield case.look("to", f"{name} is sequential: fulls are read from the machines.")
        if repository.sequential and job.chain == "forever":
            yield case.stops("to", f"{name} is sequential: nothing can be merged in it.")
        elif repository.kind == "tape" and (job.synthetic_full or job.chain == "forever"):
            yield case.look("to", f"{name} is tape: it does not rewrite what lies on it.")
    known = set(machines_by_destination(case.plan, job))
    for destination in job.destinations:
        if case.machines and destination.repository not in known:
            yield case.look("to", f"No machine of the job goes to {destination.repository}.")


def _has_fulls(case: _Case) -> bool:
    """Whether a full is due within the time that its rule needs: two years hold a yearly one."""
    fulls = tuple(s for s in case.job.schedules if s.kind == "full")
    if not fulls:
        return False
    job = replace(case.job, schedules=fulls)
    to = case.from_ + FULLS_WITHIN_S
    return bool(job_occurrences(job, case.plan.calendar_by_id, case.from_, to))


def _of_window(case: _Case) -> Iterator[JobProblem]:
    job, plan = case.job, case.plan
    window = window_of(plan, job)
    if window is None or job.after is not None:
        return
    longest = 0.0
    for at, _, _ in job_occurrences(job, plan.calendar_by_id, case.from_, case.from_ + 14 * DAY):
        span = window_span(window, at)
        if span is None:
            words = f"{window.id} does not open within 8 days of a start: all would be missed."
            yield case.stops("window", words)
            return
        longest = max(longest, span.opens - at)
        expiry = None if job.start_within_min is None else at + job.start_within_min * MINUTE
        if expiry is not None and expiry < span.opens - SAME_INSTANT:
            words = f"The time to start is over before {window.id} opens: all would be missed."
            yield case.stops("window", words)
            return
    if longest > SAME_INSTANT:
        words = f"It starts outside {window.id} and waits up to {duration(longest)} for it."
        yield case.look("window", words)


def _of_retention(case: _Case) -> Iterator[JobProblem]:
    job = case.job
    rule = job.retention
    if job.chain == "forever" and rule.points is None and rule.days is None:
        words = "One full for ever, with no points or days to keep: it is never merged."
        yield case.look("kept", words)
        return
    if rule.keeps_everything:
        yield case.look("kept", "Nothing is ever deleted.")
        return
    gap = interval_of_fulls_s(case.plan, job, case.from_)
    spans = [d for d in (rule.days, rule.full_days) if d is not None]
    if gap is None or not spans or rule.weekly or rule.monthly or rule.yearly:
        return
    if max(spans) * DAY < gap and job.chain != "forever":
        words = (
            f"Kept for {max(spans):g} days, with fulls {duration(gap)} apart: what is older stays "
            "as long as the chain needs it."
        )
        yield case.look("kept", words)


def _of_copies(case: _Case) -> Iterator[JobProblem]:
    plan, job = case.plan, case.job
    for source, copy in product(case.homes, job.copies):
        target = plan.repository_by_id[copy.repository]
        if case.topology.copy_uses(source, target) is None:
            yield case.stops("copies", f"No link leads from {source.site} to {target.site}.")
        if target.site == source.site:
            words = f"The copy in {target.id} stands at the same site as the original."
            yield case.look("copies", words)


def _of_options(case: _Case) -> Iterator[JobProblem]:
    job = case.job
    unruly = [m for m in case.machines if cannot_quiesce(job, m)]
    if unruly:
        done = {
            "as it is": "taken as they are",
            "standstill": f"halted for {duration(job.standstill_s)}",
            "leave out": "not backed up",
        }[job.if_quiesce_fails]
        words = f"{count(len(unruly), 'machine')} cannot be quiesced and would be {done}: "
        weight = case.stops if job.if_quiesce_fails == "leave out" else case.look
        yield weight("preparation", f"{words}{_names(unruly)}.")
    for repository in case.homes:
        if job.encrypt and repository.dedupe_ratio > 1:
            ratio = f"{repository.dedupe_ratio:g} : 1"
            words = f"Encrypted data hardly deduplicate, and {repository.id} counts on {ratio}."
            yield case.look("reduction", words)
        streams = repository.stream_slots
        if job.max_streams is not None and streams is not None and job.max_streams > streams:
            yield case.look("limits", f"{repository.id} takes {streams} streams at most.")
    if job.notify != "never" and not job.notify_to:
        yield case.look("notices", "Nobody is named to be told.")


def _of_others(case: _Case) -> Iterator[JobProblem]:
    owners = jobs_of_machines(case.plan)
    twice = [m for m in case.machines if len(owners[m.id]) > 1]
    if twice:
        yield case.look("machines", f"In another job as well: {_names(twice)}.")


_RULES: tuple[Callable[[_Case], Iterator[JobProblem]], ...] = (
    _of_machines,
    _of_paths,
    _of_runs,
    _of_window,
    _of_retention,
    _of_copies,
    _of_options,
)


def job_problems(plan: Plan, job: Job, from_: float) -> list[JobProblem]:
    """All problems of a job as it would run from an instant on, those that stop it first."""
    case = _Case(plan, job, selected_machines(plan, job), from_, layout_of(plan).topology)
    found = [problem for rule in (*_RULES, _of_others) for problem in rule(case)]
    return sorted(found, key=lambda problem: problem.weight != "stops")


def plan_problems(plan: Plan, from_: float) -> list[JobProblem]:
    """The problems of all jobs, those that stop something first.

    Machines in several jobs are told once for the plan, by the findings, not here for each job.
    """
    topology = layout_of(plan).topology
    found = []
    for job in plan.jobs:
        case = _Case(plan, job, selected_machines(plan, job), from_, topology)
        found += [problem for rule in _RULES for problem in rule(case)]
    return sorted(found, key=lambda problem: problem.weight != "stops")
