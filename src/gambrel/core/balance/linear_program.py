"""The linear program that no schedule can beat: its rows, its solution, what binds in it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from gambrel.core.balance.problem import Problem, job_weight
from gambrel.core.model.destinations import at_destination
from gambrel.core.model.volume import (
    changed_bytes,
    compression,
    disks_at,
    makes_synthetic_fulls,
    protected_bytes,
    read_bytes,
)
from gambrel.core.plan.objects import Disk, Job, Machine, Plan
from gambrel.core.simulation.engine.layout import layout_of
from gambrel.core.simulation.engine.tables import EPOCH
from gambrel.core.simulation.engine.walk import link_limits
from gambrel.core.units import DAY, SAME_INSTANT

if TYPE_CHECKING:
    from gambrel.core.balance.bound import Relaxation

Together = tuple[int, ...]
"""Resources that are used together."""
Chances = dict[tuple[int, ...], dict[int, float]]
"""By job, or by job and side, the variables that say in which night how much of a full is made."""
FLOOR = 1e-6
SLACK = 1e-6
"""What a capacity is given more, so that rounding leaves a solution."""
UNIT = 2.0**30
"""Bytes are counted in GiB in the programs, so that all numbers are of a kind."""


@dataclass(slots=True)
class Moved:
    """Bytes of one run that go by one of several sets of resources."""

    ways: tuple[Together, ...]
    full: float = 0.0
    changed: float = 0.0


@dataclass(frozen=True, slots=True)
class Work:
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


def disk_amounts(
    plan: Plan, job: Job, machine: Machine, disk: Disk, gap: float
) -> tuple[float, ...]:
    """(source of a full, least source of an increment, payload of each) of a disk."""
    job = at_destination(plan, job, machine)
    used, whole = protected_bytes(job, machine, disk), read_bytes(job, machine, disk)
    changed = min(used, changed_bytes(used, machine, gap))
    source = min(changed if job.tracking else whole, whole) if job.tracking else whole
    if job.chain == "full_only":
        return whole, whole, used, used
    if job.chain == "forever" or makes_synthetic_fulls(plan, job):
        return source, source, changed, changed
    return max(whole, source), source, used, changed


def disks_of_week(
    problem: Problem, job: Job, machine: Machine, *, largest: bool = False
) -> list[Disk]:
    """The disks of a machine that a job reads, as small as any run of the week finds them.

    Args:
        largest: as large as any run finds them.
    """
    # Runs of the week may start late, but hardly a month after its end.
    first, last = problem.from_, problem.to + 31 * DAY
    shrinks = machine.facts.growth_per_year < 0
    instant = last if shrinks != largest else first
    return disks_at(job, machine, problem.plan.state.sizes_as_of, instant)


@dataclass(frozen=True, slots=True)
class Solved:
    """What a program comes to.

    Attributes:
        value: its least value, as far as that is sure.
        binding: resources that keep it from being less.
        x: the solution.
        known: whether there is one; without, nothing is claimed.
    """

    value: float
    binding: tuple[int, ...]
    x: Any
    known: bool = True


class Program:
    """One linear program: bytes of works, by way and bucket, under capacities.

    Args:
        late: what may be moved after a window's end: nothing, "counted" in seconds, or anything of
            jobs whose windows let them "for those that may".
        drop: whether machines may be left undone, counted by weight.
        peak: whether all capacities are scaled by one variable that is to be least.
    """

    def __init__(
        self, relaxed: Relaxation, *, late: str = "no", drop: bool = False, peak: bool = False
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
        chances: Chances = {}
        for work in relaxed.works:
            self._add(work, chances)
        for (job, *_), row in chances.items():
            self.equal.append((row, float(relaxed.fulls[job])))
        self.resources = tuple(sorted({r for r, _ in self.load}))
        self._own = {r: self._variable() for r in self.resources} if peak else {}

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

    def _buckets(self, work: Work) -> range:
        first = int(np.searchsorted(self._edges, work.opens - SAME_INSTANT))
        last = int(np.searchsorted(self._edges, work.closes - SAME_INSTANT))
        return range(first, max(first, min(last, len(self._edges) - 1)))

    # --- rows -----------------------------------------------------------------------------------

    def _chance(self, key: tuple[int, ...], chances: Chances) -> int:
        """The part of a full that is made in one night."""
        schedules = self.relaxed.plan.jobs[key[0]].schedules
        # Two fulls of a week may come to be in one night.
        chance = self._variable(most=max(1.0, sum(each.kind == "full" for each in schedules)))
        chances.setdefault(key, {})[chance] = 1.0
        return chance

    def _add(self, work: Work, chances: Chances) -> None:
        relaxed = self.relaxed
        job = relaxed.plan.jobs[work.job]
        chance = None
        # Where each machine's full may be in a night of its own, so may what goes by each way.
        dealt = job.id in relaxed.dealt_fulls
        if work.full is None and not dealt:
            chance = self._chance((work.job,), chances)
        undone = None
        if self._drop:
            undone = self._variable(job_weight(job))
        for which, sides in enumerate(relaxed.sides[work.job]):
            dropped: dict[int, float] = {}
            for place, side in enumerate(sides):
                if work.full is None and dealt:
                    chance = self._chance((work.job, which, place), chances)
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

    def _moved(self, work: Work, job: Job, side: Moved) -> dict[int, float]:
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
                disk_amounts(self.relaxed.plan, job, machine, disk, 10.0**9)
                for disk in disks_of_week(self.relaxed.problem, job, machine, largest=True)
            ]
            read = sum(max(entry[0], entry[1]) for entry in amounts)
            sent = sum(max(entry[2], entry[3]) for entry in amounts)
            sums.append(sent / compression(job, machine) if which else read)
        return max(1.0, *sums)

    # --- solving --------------------------------------------------------------------------------

    def _rows(
        self, filled: dict[int, float], scales: dict[int, int]
    ) -> tuple[Any, Any, list[tuple[int, int]]]:
        """All "at most" rows.

        Args:
            filled: the part to which capacities may be filled, where that is not the whole.
            scales: the variable that is this part, for resources whose part is to be found.
        """
        rows, limits, keys = [], [], []
        for (resource, bucket), row in self.load.items():
            most = self._room(resource, bucket)
            if resource in scales:
                rows.append({**row, scales[resource]: -most})
                limits.append(0.0)
            else:
                rows.append(row)
                limits.append(most * filled.get(resource, 1.0))
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
        return _sparse(rows, len(self.cost)), np.array(limits), keys

    def solve(self) -> Solved:
        """The least value, with the resources that keep it from being less."""
        scales = {} if self.scale is None else dict.fromkeys(self.resources, self.scale)
        return self._solve({}, scales)

    def solve_for(self, resource: int, others: float) -> Solved:
        """The least part of one resource, the others being filled to a part at most."""
        assert self.scale is not None
        filled = dict.fromkeys(self.resources, others * (1 + SLACK))
        return self._solve(filled, {resource: self.scale})

    def solve_together(self, resources: Iterable[int], most: float) -> Solved:
        """The least sum of the parts of some resources, all being filled to a part at most."""
        filled = dict.fromkeys(self.resources, most * (1 + SLACK))
        return self._solve(filled, {r: self._own[r] for r in resources}, most * (1 + SLACK))

    def _room(self, resource: int, bucket: int) -> float:
        """What a resource can carry in a bucket, in units."""
        length = self._edges[bucket + 1] - self._edges[bucket]
        room: float = self._capacity[bucket][resource] * length / UNIT
        return room

    def fullness(self, solved: Solved) -> dict[int, float]:
        """The part of its capacity to which each resource is filled at most in a solution.

        Infinite for all where there is none.
        """
        if not solved.known:
            return dict.fromkeys(self.resources, np.inf)
        full = dict.fromkeys(self.resources, 0.0)
        for (resource, bucket), row in self.load.items():
            most = self._room(resource, bucket)
            moved = sum(float(solved.x[k]) for k in row)
            part = moved / most if most > 0 else (np.inf if moved > FLOOR else 0.0)
            full[resource] = max(full[resource], part)
        return full

    def _solve(
        self, filled: dict[int, float], scales: dict[int, int], most: float = np.inf
    ) -> Solved:
        """Solve with some parts given and some to be found, which are `most` at the most."""
        if not self.cost:
            return Solved(0.0, (), np.zeros(0))
        matrix, limits, keys = self._rows(filled, scales)
        equal = _sparse([row for row, _ in self.equal], len(self.cost))
        cost, bounds = np.array(self.cost), np.array(self.most)
        if scales:
            cost[:] = 0.0
            cost[list(scales.values())] = 1.0
            bounds[list(scales.values())] = most
        # The solver takes 50 MiB, and only the processes that compute bounds need it.
        from scipy.optimize import linprog

        solved = linprog(
            cost,
            A_ub=matrix,
            b_ub=limits,
            A_eq=equal if self.equal else None,
            b_eq=np.array([value for _, value in self.equal]) if self.equal else None,
            bounds=np.column_stack([np.zeros(len(bounds)), bounds]),
            method="highs",
        )
        if solved.status != 0:
            # Nothing is known then, and nothing is claimed.
            return Solved(0.0, (), np.zeros(len(self.cost)), known=False)
        pressing = np.flatnonzero(np.abs(solved.ineqlin.marginals) > FLOOR).tolist()
        weight: dict[int, float] = {}
        for i in pressing:
            if keys[i][0] >= 0:
                part = abs(float(solved.ineqlin.marginals[i])) * abs(float(limits[i]) or 1.0)
                weight[keys[i][0]] = weight.get(keys[i][0], 0.0) + part
        binding = tuple(sorted(weight, key=lambda r: -weight[r]))
        # A solver is right to some digits only; a bound must not claim more.
        return Solved(max(0.0, float(solved.fun) * (1 - 1e-6) - 1e-9), binding, solved.x)

    def hardest_night(self, resource: int, solved: Solved) -> tuple[int, float, float]:
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


def _sparse(rows: Sequence[dict[int, float]], width: int) -> Any:
    data = [value for row in rows for value in row.values()]
    columns = [column for row in rows for column in row]
    starts = np.concatenate([[0], np.cumsum([len(row) for row in rows])])
    from scipy.sparse import csr_matrix

    return csr_matrix((data, columns, starts), shape=(len(rows), width))
