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
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np

from gambrel.core.balance.moves import reaching_proxies
from gambrel.core.balance.objective import watched
from gambrel.core.balance.problem import Problem, job_weight, machine_weights
from gambrel.core.model.paths import Candidate
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.volume import (
    changed_bytes,
    compression,
    preparation_s,
    protected_bytes,
    protected_disks,
    read_bytes,
    refuses,
)
from gambrel.core.plan.objects import Disk, Job, Machine
from gambrel.core.schedules.calendars import job_occurrences, window_span
from gambrel.core.schedules.spread_fulls import full_groups, job_dues, kind_in_turn
from gambrel.core.simulation.engine.layout import layout_of
from gambrel.core.simulation.engine.tables import EPOCH
from gambrel.core.simulation.engine.walk import link_limits
from gambrel.core.units import DAY, HOUR, MIB, MINUTE, SAME_INSTANT

PRESSES = 0.05
"""Resources of which less than this must be in use at the peak are not told."""

Side = tuple[int, ...]
"""Resources that are used together."""


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
    return _Relaxation(problem).solve()


@dataclass(slots=True)
class _Side:
    """Bytes of one run that go by one of several sets of resources."""

    ways: tuple[Side, ...]
    full: float = 0.0
    changed: float = 0.0


@dataclass(frozen=True, slots=True)
class _Work:
    """A night of a job: when it may move what, and whether it is a full.

    Attributes:
        runs: whether the job runs in that night as the plan has it.
        full: 1 or 0 where that is certain; None where the full may be here or elsewhere.
    """

    job: int
    night: int
    opens: float
    closes: float
    runs: bool
    full: float | None


class _Relaxation:
    def __init__(self, problem: Problem) -> None:
        self.problem = problem
        self.plan = problem.plan
        self.topology = layout_of(self.plan).topology
        movable = {job.id for job in problem.movable}
        kinds = problem.kinds
        self.free_starts = movable if "start" in kinds else set()
        self.free_fulls = movable if {"night", "spread"} & kinds else set()
        self.free_proxies = movable if "proxies" in kinds else set()
        # Of a job that may write elsewhere, or make its fulls in the repository, nothing is sure.
        self.unsure = movable if {"repository", "synthetic"} & kinds else set()
        # A single server's own disk and network say nothing about an arrangement.
        self.told = {number for number in watched(layout_of(self.plan)).values() if number >= 0}
        self.members = [selected_machines(self.plan, job) for job in self.plan.jobs]
        self.fulls = [0] * len(self.plan.jobs)
        self.works: list[_Work] = []
        for position, job in enumerate(self.plan.jobs):
            if job.window is not None and job.after is None and job.id not in self.unsure:
                self.works += self._works(position, job)
        at_work = {work.job for work in self.works}
        self.sides = {i: self._sides(i, self.plan.jobs[i]) for i in sorted(at_work)}

    # --- what must move, and when it may ------------------------------------------------------

    def _night(self, at: float) -> int:
        ends = (i for i, night in enumerate(self.problem.nights) if at < night.end - SAME_INSTANT)
        return next(ends, len(self.problem.nights) - 1)

    def _works(self, position: int, job: Job) -> Iterable[_Work]:
        problem = self.problem
        found = job_occurrences(job, self.plan.calendar_by_id, problem.from_, problem.to)
        free = job.id in self.free_fulls and job.chain != "full_only"
        spread = job.spread_fulls > 1
        self.fulls[position] = self._fulls_of_each(position, job)
        by_night: dict[int, list[tuple[float, str]]] = {}
        for at, kind, _ in found:
            by_night.setdefault(self._night(at), []).append((at, kind))
        free = free and self.fulls[position] > 0
        window = self.plan.window_by_id[job.window or ""]
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
            yield _Work(position, night, opens, closes, bool(own), full)

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

    def _sides(self, position: int, job: Job) -> tuple[list[_Side], list[_Side]]:
        """What a run of a job reads, and what it sends, by the ways that there are."""
        gap = self._gap_s(position, job)
        read: dict[tuple[Side, ...], _Side] = {}
        sent: dict[tuple[Side, ...], _Side] = {}
        for machine in self.members[position]:
            if refuses(job, machine) or self._has_no_path(job, machine):
                continue
            kappa = compression(job, machine)
            for disk in protected_disks(job, machine):
                ways = self._ways(job, machine, disk)
                if not ways:
                    continue
                full, source, payload, changed = _amounts(job, machine, disk, gap)
                raw = tuple(sorted({self._limited(way.raw) for way in ways}))
                wire = tuple(sorted({self._limited(way.compressed) for way in ways}))
                reading = read.setdefault(raw, _Side(raw))
                reading.full += full
                reading.changed += source
                sending = sent.setdefault(wire, _Side(wire))
                sending.full += payload / kappa
                sending.changed += changed / kappa
        # A way without any limited resource carries anything.
        return [side for side in read.values() if () not in side.ways], [
            side for side in sent.values() if () not in side.ways
        ]

    def _limited(self, resources: Iterable[int]) -> Side:
        return tuple(sorted(r for r in set(resources) if r in self.topology.capacity))

    def _ways(self, job: Job, machine: Machine, disk: Disk) -> tuple[Candidate, ...]:
        """All ways by which a disk may be read after the allowed moves."""
        own = self.topology.candidates(job, machine, disk)
        if machine.kind == "server" or job.id not in self.free_proxies:
            return own
        found = {way.proxy: way for way in own}
        for way in self.topology.unpinned(job, machine, disk):
            found.setdefault(way.proxy, way)
        for proxy in reaching_proxies(self.plan, job):
            for way in self.topology.pinned_to(job, machine, disk, proxy):
                found.setdefault(way.proxy, way)
        return tuple(found.values())

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
        if job.synthetic_full or job.chain == "forever" or refuses(job, machine):
            return 0.0, 0.0
        moving, stored = 0.0, 0.0
        repository = self.plan.repository_by_id[job.repository]
        for disk in protected_disks(job, machine):
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
        if job.verify == "boot":
            verify = job.boot_min * MINUTE
        elif job.verify == "checksum" and repository.read_mib_per_s is not None:
            verify = stored / repository.dedupe_ratio / (repository.read_mib_per_s * MIB)
        moved = preparation_s(job, machine) + moving
        return moved, moved + verify

    # --- linear programs ----------------------------------------------------------------------

    def _lost(self) -> float:
        """Machines that cannot be done although their run is cut off at its window's end."""
        if not any(self.plan.jobs[work.job].at_window_end == "stop" for work in self.works):
            return 0.0
        program = _Program(self, late="for those that may", drop=True)
        return program.solve().value

    def _over(self) -> float:
        """Seconds over windows, weighted."""
        return _Program(self, late="counted").solve().value

    def _worst(self) -> tuple[float, tuple[str, ...]]:
        program = _Program(self, peak=True)
        solved = program.solve()
        return solved.value, tuple(self.topology.resource_names[r] for r in solved.binding)

    def _peaks(self, others: float) -> tuple[Need, ...]:
        """What each resource needs by itself, the others being as full as they may have to be."""
        found = []
        program = _Program(self, peak=True)
        for resource in program.resources:
            if resource not in self.told:
                continue
            solved = program.solve_for(resource, others)
            if solved.value > PRESSES:
                name = self.topology.resource_names[resource]
                found.append(Need(name, solved.value, *program.hardest_night(resource, solved)))
        return tuple(sorted(found, key=lambda need: -need.part))


FLOOR = 1e-6


def _amounts(job: Job, machine: Machine, disk: Disk, gap: float) -> tuple[float, ...]:
    """(source of a full, least source of an increment, payload of each) of a disk."""
    used, whole = protected_bytes(job, machine, disk), read_bytes(job, machine, disk)
    changed = min(used, changed_bytes(used, machine, gap))
    source = min(changed if job.tracking else whole, whole) if job.tracking else whole
    if job.chain == "full_only":
        return whole, whole, used, used
    if job.chain == "forever" or job.synthetic_full:
        return source, source, changed, changed
    return max(whole, source), source, used, changed


@dataclass(frozen=True, slots=True)
class _Solved:
    value: float
    binding: tuple[int, ...]
    x: Any


class _Program:
    """One linear program: bytes of works, by way and bucket, under capacities.

    Args:
        late: what may be moved after a window's end: nothing, "counted" in seconds, or anything of
            jobs whose windows let them "for those that may".
        drop: whether machines may be left undone, counted by weight.
        peak: whether all capacities are scaled by one variable that is to be least.
    """

    def __init__(
        self, relaxed: _Relaxation, *, late: str = "no", drop: bool = False, peak: bool = False
    ) -> None:
        self.relaxed = relaxed
        self.cost: list[float] = []
        self.most: list[float] = []
        self.equal: list[tuple[dict[int, float], float]] = []
        self.below: list[tuple[dict[int, float], float]] = []
        self.load: dict[tuple[int, int], dict[int, float]] = {}
        self.late_load: dict[tuple[int, float], dict[int, float]] = {}
        self._edges = self._cuts()
        self._capacity = self._capacities()
        self._late, self._drop = late, drop
        self.scale = self._variable(1.0) if peak else None
        self._overs: dict[float, int] = {}
        chances: dict[int, dict[int, float]] = {}
        for work in relaxed.works:
            self._add(work, chances)
        for job, row in chances.items():
            self.equal.append((row, float(relaxed.fulls[job])))
        self.resources = tuple(sorted({r for r, _ in self.load}))

    def _variable(self, cost: float = 0.0, most: float = np.inf) -> int:
        self.cost.append(cost)
        self.most.append(most)
        return len(self.cost) - 1

    # --- time -----------------------------------------------------------------------------------

    def _cuts(self) -> list[float]:
        works = self.relaxed.works
        edges = {edge for w in works for edge in (w.opens, w.closes) if np.isfinite(edge)}
        problem = self.relaxed.problem
        layout = layout_of(self.relaxed.plan)
        _, limits = link_limits(self.relaxed.plan, layout, problem.from_, problem.to)
        last = max(edges, default=problem.to)
        edges |= {at for at in (limits["at"] + EPOCH).tolist() if problem.from_ < at < last}
        return sorted(edges)

    def _capacities(self) -> Any:
        """Capacity of each resource in each bucket."""
        problem, plan = self.relaxed.problem, self.relaxed.plan
        capacity, limits = link_limits(plan, layout_of(plan), problem.from_, problem.to)
        rows = []
        step = 0
        for edge in self._edges[:-1]:
            while step < len(limits) and limits["at"][step] + EPOCH <= edge + SAME_INSTANT:
                capacity[limits["resource"][step]] = limits["capacity"][step]
                step += 1
            rows.append(capacity.copy())
        return np.array(rows).reshape(len(rows), len(capacity))

    def _buckets(self, work: _Work) -> range:
        first = int(np.searchsorted(self._edges, work.opens - SAME_INSTANT))
        last = int(np.searchsorted(self._edges, work.closes - SAME_INSTANT))
        return range(first, max(first, min(last, len(self._edges) - 1)))

    # --- rows -----------------------------------------------------------------------------------

    def _add(self, work: _Work, chances: dict[int, dict[int, float]]) -> None:
        relaxed = self.relaxed
        job = relaxed.plan.jobs[work.job]
        chance = None
        if work.full is None:
            chance = self._variable(most=1.0)
            chances.setdefault(work.job, {})[chance] = 1.0
        undone = None
        if self._drop:
            undone = self._variable(job_weight(job))
        for which, sides in enumerate(relaxed.sides[work.job]):
            dropped: dict[int, float] = {}
            for side in sides:
                row = self._moved(work, job, side)
                if undone is not None:
                    variable = self._variable()
                    row[variable] = 1.0
                    dropped[variable] = 1.0
                changed = side.changed / UNIT if work.runs else 0.0
                full = side.full / UNIT
                if chance is None:
                    amount = full if work.full else changed
                else:
                    row[chance] = -(full - changed)
                    amount = changed
                if amount > 0 or chance is not None:
                    # At least: more may move than must.
                    self.below.append(({k: -v for k, v in row.items()}, -amount))
            if undone is not None and dropped:
                largest = self._largest(work.job, which) / UNIT
                self.below.append(({**dropped, undone: -largest}, 0.0))

    def _moved(self, work: _Work, job: Job, side: _Side) -> dict[int, float]:
        """Variables of what is moved of a side; also put under the capacities."""
        row: dict[int, float] = {}
        for resources in side.ways:
            for bucket in self._buckets(work):
                variable = self._variable()
                row[variable] = 1.0
                for resource in resources:
                    self.load.setdefault((resource, bucket), {})[variable] = 1.0
            if self._late == "no" or not np.isfinite(work.closes):
                continue
            if job.at_window_end == "stop":
                continue
            variable = self._variable()
            row[variable] = 1.0
            if self._late == "counted":
                for resource in resources:
                    self.late_load.setdefault((resource, work.closes), {})[variable] = 1.0
                if work.closes not in self._overs:
                    weights = [
                        job_weight(self.relaxed.plan.jobs[w.job])
                        for w in self.relaxed.works
                        if w.closes == work.closes
                    ]
                    self._overs[work.closes] = self._variable(min(weights))
        return row

    def _largest(self, position: int, which: int) -> float:
        """Most bytes that one machine of a job reads (0) or sends (1) in a full."""
        job = self.relaxed.plan.jobs[position]
        sums = [0.0]
        for machine in self.relaxed.members[position]:
            amounts = [
                _amounts(job, machine, disk, 10.0**9) for disk in protected_disks(job, machine)
            ]
            read = sum(max(entry[0], entry[1]) for entry in amounts)
            sent = sum(max(entry[2], entry[3]) for entry in amounts)
            sums.append(sent / compression(job, machine) if which else read)
        return max(1.0, *sums)

    # --- solving --------------------------------------------------------------------------------

    def _rows(self, scaled: dict[int, float | None]) -> tuple[Any, Any, list[tuple[int, int]]]:
        """All "at most" rows. `scaled`: a fixed part of each capacity, or None for the variable."""
        rows, limits, keys = [], [], []
        for (resource, bucket), row in self.load.items():
            length = self._edges[bucket + 1] - self._edges[bucket]
            most = self._capacity[bucket][resource] * length / UNIT
            fixed = scaled.get(resource, 1.0)
            if fixed is None and self.scale is not None:
                rows.append({**row, self.scale: -most})
                limits.append(0.0)
            else:
                rows.append(row)
                limits.append(most * (fixed or 0.0))
            keys.append((resource, bucket))
        for (resource, closes), row in self.late_load.items():
            most = self.relaxed.topology.capacity[resource] / UNIT
            rows.append({**row, self._overs[closes]: -most})
            limits.append(0.0)
            keys.append((-1, -1))
        for row, limit in self.below:
            rows.append(row)
            limits.append(limit)
            keys.append((-1, -1))
        return _matrix(rows, len(self.cost)), np.array(limits), keys

    def solve(self) -> _Solved:
        """The least value, with the resources that keep it from being less."""
        scaled: dict[int, float | None] = (
            {} if self.scale is None else dict.fromkeys(self.resources)
        )
        return self._solve(scaled)

    def solve_for(self, resource: int, others: float) -> _Solved:
        """The least part of one resource, the others being filled to a part at most."""
        scaled: dict[int, float | None] = dict.fromkeys(self.resources, others * (1 + 1e-6))
        scaled[resource] = None
        return self._solve(scaled)

    def _solve(self, scaled: dict[int, float | None]) -> _Solved:
        if not self.cost:
            return _Solved(0.0, (), np.zeros(0))
        matrix, limits, keys = self._rows(scaled)
        equal = _matrix([row for row, _ in self.equal], len(self.cost))
        # The solver takes 50 MiB, and only the processes that compute bounds need it.
        from scipy.optimize import linprog

        solved = linprog(
            self.cost,
            A_ub=matrix,
            b_ub=limits,
            A_eq=equal if self.equal else None,
            b_eq=np.array([value for _, value in self.equal]) if self.equal else None,
            bounds=np.column_stack([np.zeros(len(self.most)), self.most]),
            method="highs",
        )
        if solved.status != 0:
            # Nothing is known then, and nothing is claimed.
            return _Solved(0.0, (), np.zeros(len(self.cost)))
        pressing = np.flatnonzero(np.abs(solved.ineqlin.marginals) > FLOOR).tolist()
        weight: dict[int, float] = {}
        for i in pressing:
            if keys[i][0] >= 0:
                part = abs(float(solved.ineqlin.marginals[i])) * abs(float(limits[i]) or 1.0)
                weight[keys[i][0]] = weight.get(keys[i][0], 0.0) + part
        binding = tuple(sorted(weight, key=lambda r: -weight[r]))
        # A solver is right to some digits only; a bound must not claim more.
        return _Solved(max(0.0, float(solved.fun) * (1 - 1e-6) - 1e-9), binding, solved.x)

    def hardest_night(self, resource: int, solved: _Solved) -> tuple[int, float, float]:
        """(night, seconds of whole capacity needed in it, seconds it may be used) of a solution."""
        needed: dict[int, float] = {}
        open_s: dict[int, float] = {}
        for (r, bucket), row in self.load.items():
            if r != resource:
                continue
            capacity = self._capacity[bucket][resource]
            night = self.relaxed._night(self._edges[bucket])
            length = self._edges[bucket + 1] - self._edges[bucket]
            if capacity > 0:
                moved = sum(float(solved.x[k]) for k in row) * UNIT
                full = self.relaxed.topology.capacity[resource]
                needed[night] = needed.get(night, 0.0) + moved / full
                open_s[night] = open_s.get(night, 0.0) + length * capacity / full
        night = max(needed, key=lambda n: needed[n] / max(1.0, open_s[n]), default=0)
        return night, float(needed.get(night, 0.0)), float(open_s.get(night, 0.0))


UNIT = 2.0**30
"""Bytes are counted in GiB in the programs, so that all numbers are of a kind."""


def _matrix(rows: Sequence[dict[int, float]], width: int) -> Any:
    data = [value for row in rows for value in row.values()]
    columns = [column for row in rows for column in row]
    starts = np.concatenate([[0], np.cumsum([len(row) for row in rows])])
    from scipy.sparse import csr_matrix

    return csr_matrix((data, columns, starts), shape=(len(rows), width))
