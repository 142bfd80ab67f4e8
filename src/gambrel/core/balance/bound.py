"""How good any plan could be: lower bounds from a linear relaxation over time.

Windows, limits and capacities are exact; queues, slots, the order of runs and fair shares are
given up, and so is that what is read at one time is also sent at that time. What is left must hold
for every arrangement that the allowed moves can reach, so no simulated plan is better than this.

Time is cut where windows open and close, limits change and runs that stay where they are begin:
between two cuts nothing changes, so buckets are exact without being small. Solved with HiGHS
(Q. Huangfu and J. A. J. Hall, "Parallelizing the dual revised simplex method", 2018).
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from gambrel.core.balance.linear_program import (
    FLOOR,
    Moved,
    Program,
    Together,
    Work,
    disk_amounts,
    disks_of_week,
)
from gambrel.core.balance.moves import other_repositories, reaching_proxies
from gambrel.core.balance.objective import watched
from gambrel.core.balance.problem import Problem, job_weight, machine_weights
from gambrel.core.model.destinations import at_destination, destination_of
from gambrel.core.model.job_windows import window_of
from gambrel.core.model.paths import Candidate
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.volume import (
    compression,
    makes_synthetic_fulls,
    preparation_s,
    protected_bytes,
    protected_disks,
    read_bytes,
    refuses,
)
from gambrel.core.plan.objects import Disk, Job, Machine, Window
from gambrel.core.schedules.calendars import job_occurrences, window_span
from gambrel.core.schedules.spread_fulls import full_groups, job_dues, kind_in_turn
from gambrel.core.simulation.engine.layout import layout_of
from gambrel.core.units import DAY, HOUR, MIB, MINUTE, SAME_INSTANT

PRESSES = 0.05
"""Resources of which less than this must be in use at the peak are not told."""
MOST_TOLD = 8
"""A bound tells of so many resources at most: the ones that the plan has to use most."""


@dataclass(frozen=True, slots=True)
class Need:
    """How much of a resource is needed, whatever the arrangement.

    Attributes:
        resource: its name, such as "link:quay-hill".
        part: lower bound on the part of its capacity in use at its peak; above 1 where its work
            cannot be done inside the windows.
        night: the night, by position, in which it is needed most in the arrangement that needs
            least.
        seconds: of its whole capacity, in that night of that arrangement.
        open_s: for how long that night's windows let it be used.
    """

    resource: str
    part: float
    night: int
    seconds: float
    open_s: float


@dataclass(frozen=True, slots=True)
class Bound:
    """What no arrangement that the allowed moves can reach goes below.

    Attributes:
        lost, rpo_missed: lower bounds on these parts of the objective, for every plan.
        over_s: lower bound on seconds over windows, for plans that lose no more than `lost` and
            skip no run.
        peaks: the needs of single resources, the largest first, for plans in which everything is
            done inside the windows.
        worst: the least part of capacity that the fullest of all resources has at its peak, for
            such plans.
        binding: names of the resources that keep `worst` from being less.
        longest: the job with a machine that alone takes longer than its windows; None if none.
    """

    lost: float
    rpo_missed: float
    over_s: float
    peaks: tuple[Need, ...]
    worst: float
    binding: tuple[str, ...]
    longest: str | None


def bound(problem: Problem) -> Bound:
    """Lower bounds for every plan that the allowed moves of a problem can reach."""
    return Relaxation(problem).solve()


class Relaxation:
    def __init__(self, problem: Problem) -> None:
        self.problem = problem
        self.plan = problem.plan
        self.topology = layout_of(self.plan).topology
        movable = {job.id for job in problem.movable}
        kinds = problem.kinds
        self.free_starts = movable if "start" in kinds else set()
        self.free_fulls = movable if {"night", "spread", "split"} & kinds else set()
        # Fulls of a job's machines may come to be in different nights.
        self.dealt_fulls = {job.id for job in self.plan.jobs if job.spread_fulls > 1}
        self.dealt_fulls |= movable if {"spread", "split"} & kinds else set()
        self.free_proxies = movable if "proxies" in kinds else set()
        self.written_to = {
            job.id: self._written_to(job, "repository" in kinds and job.id in movable)
            for job in self.plan.jobs
        }
        """Each job as it may write after the allowed moves: as it is, and to other repositories."""
        # Fulls that may be made in the repository, or not at all, read no more than increments.
        self.cheap_fulls = movable if {"synthetic", "chain"} & kinds else set()
        # Of a job that may go on past its window nothing is sure.
        self.unsure = movable if "window_end" in kinds else set()
        self.unverified = movable if "verify" in kinds else set()
        # A single server's own disk and network say nothing about an arrangement.
        self.told = {number for number in watched(layout_of(self.plan)).values() if number >= 0}
        self._reaching: dict[tuple[str, str], Sequence[str]] = {}
        self._ways_of: dict[tuple[str | None, ...], tuple[Candidate, ...]] = {}
        self.members = [selected_machines(self.plan, job) for job in self.plan.jobs]
        self.fulls = [0] * len(self.plan.jobs)
        self.works: list[Work] = []
        for position, job in enumerate(self.plan.jobs):
            window = window_of(self.plan, job)
            if window is not None and job.after is None and job.id not in self.unsure:
                self.works += self._works(position, job, window)
        at_work = {work.job for work in self.works}
        self.sides = {i: self._sides(i, self.plan.jobs[i]) for i in sorted(at_work)}

    # --- what must move, and when it may ------------------------------------------------------

    def _night(self, at: float) -> int:
        ends = (i for i, night in enumerate(self.problem.nights) if at < night.end - SAME_INSTANT)
        return next(ends, len(self.problem.nights) - 1)

    def _works(self, position: int, job: Job, window: Window) -> Iterable[Work]:
        problem = self.problem
        found = job_occurrences(job, self.plan.calendar_by_id, problem.from_, problem.to)
        free = job.id in self.free_fulls and job.chain != "full_only"
        spread = job.spread_fulls > 1
        self.fulls[position] = self._fulls_of_each(position, job)
        by_night: dict[int, list[tuple[float, str]]] = {}
        for at, kind, _ in found:
            by_night.setdefault(self._night(at), []).append((at, kind))
        free = free and self.fulls[position] > 0
        for night in range(len(problem.nights)):
            own = by_night.get(night, [])
            if not own and not free:
                continue
            first = min((at for at, _ in own), default=problem.nights[night].start)
            if job.id in self.free_starts or not own:
                first = problem.nights[night].start
            spans = [window_span(window, at) for at in (first, *(at for at, _ in own))]
            known = [span for span in spans if span is not None]
            if not known:
                continue
            closes = max(span.closes for span in known)
            full: float | None = float(any(kind == "full" for _, kind in own) and not spread)
            if free or (spread and self.fulls[position]):
                full = None
            opens = max(first, min(span.opens for span in known))
            yield Work(position, night, opens, closes, bool(own), full)

    def _fulls_of_each(self, position: int, job: Job) -> int:
        """How many fulls every machine of a job is due in the horizon, at least."""
        problem = self.problem
        dues = job_dues(job, self.plan.calendar_by_id, problem.from_, problem.to)
        groups = set(full_groups(job, self.members[position]))
        return min(
            (
                sum(kind_in_turn(kind, group, turn) == "full" for _, kind, _, turn in dues)
                for group in groups
            ),
            default=0,
        )

    def _gap_s(self, position: int, job: Job) -> float:
        """The least time between the starts of a machine in two runs of a job that follow."""
        own = [work for work in self.works if work.job == position]
        problem = self.problem
        found = job_occurrences(job, self.plan.calendar_by_id, problem.from_, problem.to)
        nights = [self._night(at) for at, _, _ in found]
        if job.at_window_end == "run_on" or len(set(nights)) != len(nights):
            return 0.0
        spans = sorted((work.opens, work.closes) for work in own)
        return max(0.0, min((b[0] - a[1] for a, b in pairwise(spans)), default=0.0))

    def _sides(self, position: int, job: Job) -> tuple[list[Moved], list[Moved]]:
        """What a run of a job reads, and what it sends, by the ways that there are."""
        gap = self._gap_s(position, job)
        read: dict[tuple[Together, ...], Moved] = {}
        sent: dict[tuple[Together, ...], Moved] = {}
        for machine in self.members[position]:
            if refuses(job, machine) or self._has_no_path(job, machine):
                continue
            kappa = compression(job, machine)
            for disk in disks_of_week(self.problem, job, machine):
                ways = self._ways(job, machine, disk)
                if not ways:
                    continue
                full, source, payload, changed = self._amounts(job, machine, disk, gap)
                raw = tuple(sorted({self._limited(way.raw) for way in ways}))
                wire = tuple(sorted({self._limited(way.compressed) for way in ways}))
                reading = read.setdefault(raw, Moved(raw))
                reading.full += full
                reading.changed += source
                sending = sent.setdefault(wire, Moved(wire))
                sending.full += payload / kappa
                sending.changed += changed / kappa
        # A way without any limited resource carries anything.
        return [side for side in read.values() if () not in side.ways], [
            side for side in sent.values() if () not in side.ways
        ]

    def _written_to(self, job: Job, moves: bool) -> tuple[Job, ...]:
        # Made once: what is found out about a job is kept with it for as long as the plan is.
        others = other_repositories(self.plan, job) if moves else ()
        return job, *(replace(job, repository=repository) for repository in others)

    def _amounts(self, job: Job, machine: Machine, disk: Disk, gap: float) -> tuple[float, ...]:
        """The least of each of the amounts of `disk_amounts`, whatever is moved."""
        each = [disk_amounts(self.plan, to, machine, disk, gap) for to in self.written_to[job.id]]
        full, source, payload, changed = (min(amounts) for amounts in zip(*each, strict=True))
        if job.id in self.cheap_fulls:
            return source, source, changed, changed
        return full, source, payload, changed

    def _limited(self, resources: Iterable[int]) -> Together:
        return tuple(sorted(r for r in set(resources) if r in self.topology.capacity))

    def _ways(self, job: Job, machine: Machine, disk: Disk) -> tuple[Candidate, ...]:
        """All ways by which a disk may be read after the allowed moves."""
        server = machine.kind == "server"
        place = (machine.id, disk.id) if server else (machine.host, disk.datastore)
        key = (job.id, machine.kind, destination_of(self.plan, job, machine), *place)
        if key not in self._ways_of:
            found: dict[Candidate, None] = {}
            for to in self.written_to[job.id]:
                ways = list(self.topology.candidates(to, machine, disk))
                if not server and job.id in self.free_proxies:
                    ways += self.topology.unpinned(to, machine, disk)
                    for proxy in self._reaching_of(to):
                        ways += self.topology.pinned_to(to, machine, disk, proxy)
                found.update(dict.fromkeys(ways))
            self._ways_of[key] = tuple(found)
        return self._ways_of[key]

    def _reaching_of(self, job: Job) -> Sequence[str]:
        key = (job.id, job.repository)
        if key not in self._reaching:
            self._reaching[key] = reaching_proxies(self.plan, job)
        return self._reaching[key]

    # --- the parts ----------------------------------------------------------------------------

    def solve(self) -> Bound:
        """All parts; see Bound."""
        own_lost, own_over, longest = self._own_length()
        lost = self._without_path() + max(own_lost, self._lost())
        over = 0.0
        worst = 0.0
        binding: tuple[str, ...] = ()
        peaks: tuple[Need, ...] = ()
        if lost <= FLOOR:
            over = max(own_over, self._over())
        if self.works:
            worst, binding = self._worst()
            peaks = self._peaks(max(1.0, worst))
        return Bound(
            lost=lost,
            rpo_missed=self._rpo_missed(),
            over_s=over if over > 1.0 else 0.0,
            peaks=peaks,
            worst=worst,
            binding=binding,
            longest=longest,
        )

    def _without_path(self) -> float:
        """Machines that no allowed move gives a path, once for each run of their job."""
        total = 0.0
        problem = self.problem
        for job, machines in zip(self.plan.jobs, self.members, strict=True):
            if job.after is not None or job.id in self.unsure:
                continue
            stuck = sum(self._has_no_path(job, machine) for machine in machines)
            if stuck:
                found = job_occurrences(job, self.plan.calendar_by_id, self._earliest, problem.to)
                # Whatever is skipped, the first run is not.
                if found and found[0][0] >= problem.from_:
                    total += stuck * job_weight(job)
        return total

    def _has_no_path(self, job: Job, machine: Machine) -> bool:
        """Whether no allowed move gives a machine a path."""
        return not all(self._ways(job, machine, disk) for disk in protected_disks(job, machine))

    @property
    def _earliest(self) -> float:
        """From when on runs may touch the horizon: moves may shift some of before by a day."""
        begins = self.problem.begins
        from_ = self.problem.from_
        return from_ if begins is None or begins >= from_ else begins - 2 * DAY

    def _rpo_missed(self) -> float:
        """Machines whose RPO is missed with the number of runs that there are.

        After a point from before, k points within a horizon of length T leave a gap of T / (k + 1)
        or more. Without one nothing is known, as exposure counts from the first point that exists;
        but where there is no run either, the machine stays unprotected.
        """
        problem = self.problem
        rows = self.problem.points.points
        had = {self.plan.machines[i].id for i in rows["machine"][rows["usable"] > 0].tolist()}
        most: dict[str, int] = {}
        for job, machines in zip(self.plan.jobs, self.members, strict=True):
            if job.after is not None:
                runs = 10**6
            else:
                calendars = self.plan.calendar_by_id
                runs = len(job_occurrences(job, calendars, self._earliest, problem.to))
            for machine in machines:
                most[machine.id] = most.get(machine.id, 0) + runs
        weights = machine_weights(self.plan)
        length = problem.to - problem.from_
        return sum(
            weights[machine.id]
            for machine in self.plan.machines
            if machine.rpo_hours is not None
            and machine.id in weights
            and (machine.id in had or not most[machine.id])
            and length / (most[machine.id] + 1) > machine.rpo_hours * HOUR + 1.0
        )

    def _own_length(self) -> tuple[float, float, str | None]:
        """What follows from machines of which one alone takes longer than its window is open.

        Returns machine-runs that are cut off and seconds over windows, both weighted, and the job
        to which most of it is due.
        """
        lost, over, longest, most = 0.0, 0.0, None, 0.0
        for position in self.sides:
            job = self.plan.jobs[position]
            fulls = [w for w in self.works if w.job == position and (w.full is None or w.full)]
            if not fulls or self.fulls[position] == 0:
                continue
            roomiest = max(work.closes - work.opens for work in fulls)
            least = [self._alone_s(job, machine) for machine in self.members[position]]
            if job.at_window_end == "stop":
                # What moves at the end is cut off; what verifies goes on.
                stuck = sum(1 for moving, _ in least if moving > roomiest + SAME_INSTANT)
                lost += stuck * self.fulls[position] * job_weight(job)
                past = float(stuck)
            else:
                past = max((whole - roomiest for _, whole in least), default=0.0)
                past = max(0.0, past)
                over += past * self.fulls[position] * job_weight(job)
            if past > most:
                longest, most = job.id, past
        return lost, over, longest

    def _alone_s(self, job: Job, machine: Machine) -> tuple[float, float]:
        """The least that a full of a machine takes: until all has moved, and to its end."""
        anywhere = [at_destination(self.plan, to, machine) for to in self.written_to[job.id]]
        cheap = job.id in self.cheap_fulls or job.chain == "forever"
        cheap = cheap or any(makes_synthetic_fulls(self.plan, to) for to in anywhere)
        if cheap or refuses(job, machine):
            return 0.0, 0.0
        moving, stored = 0.0, 0.0
        for disk in disks_of_week(self.problem, job, machine):
            ways = self._ways(job, machine, disk)
            if not ways:
                return 0.0, 0.0
            rates = []
            for way in ways:
                raw = [self.topology.capacity.get(r, np.inf) for r in way.raw]
                rates.append(min(way.ceiling, *raw))
            moving = max(moving, read_bytes(job, machine, disk) / max(rates))
            stored += protected_bytes(job, machine, disk) / compression(job, machine)
        verify = 0.0
        spared = job.id in self.unverified or not job.verify_fulls
        how = "none" if spared else job.verify
        if how == "boot":
            verify = job.boot_min * MINUTE
        elif how == "checksum":
            verify = min(self._checksum_s(to, stored) for to in anywhere)
        moved = preparation_s(job, machine) + moving
        return moved, moved + verify

    def _checksum_s(self, job: Job, stored: float) -> float:
        """How long reading back some bytes takes where a job writes to."""
        repository = self.plan.repository_by_id[job.repository]
        rate = repository.read_rate_mib_per_s
        reading = 0.0 if rate is None else stored / repository.dedupe_ratio / (rate * MIB)
        return repository.first_byte_s + reading

    # --- linear programs ----------------------------------------------------------------------

    def _lost(self) -> float:
        """Machines that cannot be done although their run is cut off at its window's end."""
        if not any(self.plan.jobs[work.job].at_window_end == "stop" for work in self.works):
            return 0.0
        program = Program(self, late="for those that may", drop=True)
        return program.solve().value

    def _over(self) -> float:
        """Seconds over windows, weighted."""
        return Program(self, late="counted").solve().value

    def _worst(self) -> tuple[float, tuple[str, ...]]:
        program = Program(self, peak=True)
        solved = program.solve()
        return solved.value, tuple(self.topology.resource_names[r] for r in solved.binding)

    def _peaks(self, others: float) -> tuple[Need, ...]:
        """How full each of the resources under most pressure has to be at least.

        The others may be filled to `others`. No resource has to be fuller than any one solution
        makes it; so a few solutions rule most of them out, and only the rest are solved for.
        """
        found: list[Need] = []
        program = Program(self, peak=True)
        told = [resource for resource in program.resources if resource in self.told]
        # Of proxies that can stand in for one another each may be spared, but not all at once.
        solutions = [
            program.fullness(program.solve_together(group, others))
            for group in (program.resources, program.resources[::2], program.resources[1::2])
        ]
        full = {resource: min(each[resource] for each in solutions) for resource in told}
        for resource in sorted(told, key=lambda r: (-full[r], r)):
            # None of the rest can have to be fuller than those that we have.
            least = found[MOST_TOLD - 1].part if len(found) >= MOST_TOLD else PRESSES
            if full[resource] <= least:
                break
            solved = program.solve_for(resource, others)
            if solved.value > PRESSES:
                name = self.topology.resource_names[resource]
                found.append(Need(name, solved.value, *program.hardest_night(resource, solved)))
                found.sort(key=lambda need: -need.part)
        return tuple(found[:MOST_TOLD])
