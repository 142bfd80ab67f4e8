"""How good a simulated plan is: the parts of the objective, straight from the engine's arrays."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

from gambrel.core.balance.problem import Problem, job_weight, machine_weights
from gambrel.core.balance.split_jobs import origins
from gambrel.core.loads.load_series import load_names
from gambrel.core.plan.objects import Plan
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.array_forecast import worst_exposures
from gambrel.core.simulation.engine.layout import Layout, layout_of
from gambrel.core.simulation.engine.walk import Walk, link_limits, settled_walk
from gambrel.core.simulation.varying import drawn
from gambrel.core.units import HOUR, MINUTE, SAME_INSTANT

STRAIN_STEP_S = 15 * MINUTE
"""Strain is compared in steps of this much: less is worth no move."""
MOST_LAYOUT_ROWS = 10_000
"""Layouts after losses are kept for so many machines in all; some 20 MB."""


@dataclass(frozen=True, slots=True)
class Score:
    """What is wrong with a plan over a horizon; everything is better when it is less.

    Attributes:
        lost: machine-runs that are not done, each times the weight of its job.
        rpo_missed: machines that miss their RPO, each times its weight.
        rpo_s: seconds by which they miss it, weighted.
        over_s: seconds by which runs end after their window, weighted.
        skipped: machines of runs that are skipped, each times the weight of its job.
        margin_s: seconds by which runs end later than the margin before their window's end,
            weighted.
        strain_s: the load above the comfortable part of a capacity, as seconds of the whole
            capacity, on the resource that has most of it.
    """

    lost: float
    rpo_missed: float
    rpo_s: float
    over_s: float
    skipped: float
    margin_s: float
    strain_s: float

    @property
    def grades(self) -> tuple[float, ...]:
        """What plans are compared by, part after part: whole minutes, whole steps of strain."""
        return (
            self.lost,
            self.rpo_missed,
            float(np.ceil(self.rpo_s / MINUTE - 1e-6)),
            float(np.ceil(self.over_s / MINUTE - 1e-6)),
            self.skipped,
            float(np.ceil(self.margin_s / MINUTE - 1e-6)),
            float(np.ceil(self.strain_s / STRAIN_STEP_S - 1e-6)),
        )

    @property
    def fits(self) -> bool:
        """Whether nothing but strain is left."""
        return not any(self.grades[:6])


@dataclass(frozen=True, slots=True)
class Trace:
    """Where a plan hurts and what it loads, for a search to be guided by.

    Attributes:
        trouble: by (job position, night) the weighted seconds of trouble; an hour for each machine
            that is not done.
        work: (job, night, load) by position to seconds of the load's whole capacity.
        fulls: (job, night) pairs of scheduled fulls.
        loads: the names of the loads, by position.
        strains: seconds of strain on each of them.
    """

    trouble: dict[tuple[int, int], float]
    work: dict[tuple[int, int, int], float]
    fulls: frozenset[tuple[int, int]]
    loads: tuple[str, ...] = ()
    strains: tuple[float, ...] = ()


@dataclass(frozen=True, slots=True)
class _World:
    """A plan as something has happened to it, and who scores it there."""

    evaluator: Evaluator
    layout: Layout
    plan: Plan

    def _walk(self) -> Walk:
        return self.evaluator.walk(self.plan, layout=self.layout)

    def score(self) -> Score:
        return self.evaluator.score_of(self._walk())

    def trace(self) -> Trace:
        return self.evaluator._traced(self._walk())[1]


class Evaluator:
    """Scores plans of one problem. Plans may differ from the problem's in their jobs only."""

    def __init__(self, problem: Problem) -> None:
        self.problem = problem
        plan = problem.plan
        self.weights = np.array([job_weight(job) for job in plan.jobs] or [1.0])
        by_machine = machine_weights(plan)
        self._machine_weights = np.array([by_machine.get(m.id, 0.0) for m in plan.machines])
        # No move brings a machine into a job: one that is in none says nothing about a plan.
        self._rpo_s = np.array(
            [
                np.inf if m.rpo_hours is None or m.id not in by_machine else m.rpo_hours * HOUR
                for m in plan.machines
            ]
        )
        self._ends = np.array([night.end for night in problem.nights])
        self._after: dict[int, Evaluator] = {}
        self._layouts: dict[int, Layout] = {}

    def walk(self, plan: Plan, *, from_first: bool = False, layout: Layout | None = None) -> Walk:
        """A finished simulation of a plan over the horizon, to the end of all that is due in it.

        Args:
            from_first: from where forecasts of the plan begin, as a draft of it will be shown.
            layout: where it is not that of the plan.
        """
        problem = self.problem
        begins, points = problem.beginning(plan, from_first=from_first)
        return settled_walk(
            layout_of(plan) if layout is None else layout,
            plan, begins, problem.to, points, beyond_s=problem.beyond_s,
        )  # fmt: skip

    def score(self, plan: Plan) -> Score:
        """How good a plan is; where it shall hold, in all that it shall hold in."""
        score = self.score_of(self.walk(plan))
        if not self.problem.asks_to_hold:
            return score
        return self.summed([score, *(world.score() for world in self._worlds(plan))])

    def summed(self, scores: Sequence[Score]) -> Score:
        """The score of a plan that shall hold: as planned, then after each loss, then each draw.

        A loss counts as much as the plan; the draws together count as one. Strain is that of the
        plan as planned.
        """
        losses, draws = len(self.problem.losses), max(1, self.problem.draws)
        weights = [1.0] * (1 + losses) + [1.0 / draws] * (len(scores) - 1 - losses)

        def sum_of(part: str) -> float:
            return float(sum(w * getattr(s, part) for w, s in zip(weights, scores, strict=True)))

        parts = ("lost", "rpo_missed", "rpo_s", "over_s", "skipped", "margin_s")
        return Score(**{part: sum_of(part) for part in parts}, strain_s=scores[0].strain_s)

    def _worlds(self, plan: Plan) -> Iterator[_World]:
        """What a plan shall hold in beside the week as planned."""
        problem = self.problem
        for i, loss in enumerate(problem.losses):
            if i not in self._after:
                self._after[i] = Evaluator(problem.with_loss(loss))
            evaluator = self._after[i]
            lost = loss.apply(plan)
            known = self._layouts.get(i)
            if known is None or not known.fits(lost):
                # Those of losses are not among the kept ones, which would be too few for them.
                fits = known is not None and known.has_rows_for(lost)
                known = Layout(lost, known if fits else None)
                if len(problem.losses) * len(problem.plan.machines) <= MOST_LAYOUT_ROWS:
                    self._layouts[i] = known
            yield _World(evaluator, known, lost)
        for number in range(problem.draws):
            layout, varied = drawn(layout_of(plan), plan, problem.spread, problem.drawn_by, number)
            yield _World(self, layout, varied)

    def score_of(self, walk: Walk) -> Score:
        """How good the plan of a finished simulation is."""
        by_load = self.strains(walk)
        return self._scored(walk, max(by_load.values(), default=0.0))

    def strains(self, walk: Walk) -> dict[str, float]:
        """Seconds of whole capacity by which each load lies above comfort in the horizon."""
        problem = self.problem
        span = (problem.from_, problem.to)
        return strains(walk, watched(walk.layout), problem.comfort, span)

    def _scored(self, walk: Walk, strain_s: float) -> Score:
        run, task = self._runs(walk)
        weight = self.weights[origins(self.problem.plan, walk.plan)[run["job"]]] * self.is_inside(
            run
        )
        rpo_missed, rpo_s = self._rpo(walk)
        bound = np.isfinite(run["ended"]) & np.isfinite(run["closes"])
        past = np.where(bound, run["ended"] - np.where(bound, run["closes"], 0.0), -np.inf)
        ran = np.isin(run["outcome"], (t.RUN_DONE, t.RUN_INCOMPLETE))
        margin = self.problem.margin_s
        late = np.clip(past + margin, 0.0, margin) * ran
        return Score(
            lost=float(weight @ self._lost(run, task)),
            rpo_missed=rpo_missed,
            rpo_s=rpo_s,
            over_s=float(weight @ np.where(past > SAME_INSTANT, past, 0.0)),
            skipped=float(weight @ self._skipped(walk, run)),
            margin_s=float(weight @ np.where(late > SAME_INSTANT, late, 0.0)),
            strain_s=strain_s,
        )

    @staticmethod
    def _runs(walk: Walk) -> tuple[t.Table, t.Table]:
        world = walk.world
        return world.run[: world.n[t.N_RUN]], world.task[: world.n[t.N_TASK]]

    def is_inside(self, run: t.Table) -> Any:
        """Which runs are due in the horizon."""
        problem = self.problem
        at = run["occurrence"] + t.EPOCH
        return (at >= problem.from_ - SAME_INSTANT) & (at < problem.to - SAME_INSTANT)

    @staticmethod
    def _lost(run: t.Table, task: t.Table) -> t.Floats:
        """How many machines of each run are not done."""
        undone = task["outcome"] != t.DONE
        return np.bincount(task["run"][undone], minlength=len(run)).astype(float)

    @staticmethod
    def _skipped(walk: Walk, run: t.Table) -> t.Floats:
        """How many machines each skipped run would have had."""
        members = walk.world.job["members_n"][run["job"]].astype(float)
        return np.where(run["outcome"] == t.RUN_SKIPPED, members, 0.0)

    def _rpo(self, walk: Walk) -> tuple[float, float]:
        worst = worst_exposures(walk, self.problem.from_, self.problem.to)
        worst = np.where(np.isnan(worst), self.problem.to - self.problem.from_ + HOUR, worst)
        past = worst - self._rpo_s
        missed = past > SAME_INSTANT
        weights = self._machine_weights[missed]
        return float(weights.sum()), float(weights @ past[missed])

    def trace(self, plan: Plan) -> tuple[Score, Trace]:
        """How good a plan is, and where it hurts; where it shall hold, where it hurts most."""
        score, trace = self._traced(self.walk(plan))
        if not self.problem.asks_to_hold:
            return score, trace
        scores, worst = [score], score
        for world in self._worlds(plan):
            now = world.score()
            scores.append(now)
            if now.grades[:-1] > worst.grades[:-1]:
                worst, trace = now, world.trace()
        return self.summed(scores), trace

    def _traced(self, walk: Walk) -> tuple[Score, Trace]:
        run, task = self._runs(walk)
        night = self.night_of(run["occurrence"])
        pain = (self._lost(run, task) + self._skipped(walk, run)) * HOUR
        bound = np.isfinite(run["ended"]) & np.isfinite(run["closes"])
        closes = np.where(bound, run["closes"], 0.0)
        past = np.where(bound, run["ended"] - closes + self.problem.margin_s, 0.0)
        pain += np.maximum(0.0, past)
        inside = self.is_inside(run)
        origin = origins(self.problem.plan, walk.plan)
        job = origin[run["job"]]
        pain *= self.weights[job] * inside
        trouble: dict[tuple[int, int], float] = {}
        for r in np.flatnonzero(pain > 0).tolist():
            key = (int(job[r]), int(night[r]))
            trouble[key] = trouble.get(key, 0.0) + float(pain[r])
        full = np.flatnonzero((run["kind"] == t.FULL) & inside)
        fulls = frozenset(zip(job[full].tolist(), night[full].tolist(), strict=True))
        watch = watched(walk.layout)
        by_load = self.strains(walk)
        trace = Trace(
            trouble=trouble,
            work=_work(walk, watch, np.where(inside, night, -1), origin),
            fulls=fulls,
            loads=tuple(watch),
            strains=tuple(by_load[name] for name in watch),
        )
        return self._scored(walk, max(trace.strains, default=0.0)), trace

    def night_of(self, occurrences: t.Floats) -> t.Ints:
        places = np.searchsorted(self._ends, occurrences + t.EPOCH + SAME_INSTANT, side="right")
        return np.minimum(places, len(self._ends) - 1)


def watched(layout: Layout) -> dict[str, int]:
    """What strain is looked for on: the loads a planner can ask for, by name.

    A rate has the number of its resource; a pool of slots that of the pool, less the number of all
    pools, and so is below 0.
    """
    topology = layout.topology
    found = {}
    for name in load_names(layout.plan):
        if name.startswith("slots:"):
            pool = topology.pool(name.removeprefix("slots:"))
            if pool in topology.slots:
                found[name] = pool - len(topology.pool_names)
        elif (resource := topology.resource(name)) in topology.capacity:
            found[name] = resource
    return found


def strains(
    walk: Walk, watch: dict[str, int], comfort: float, span: tuple[float, float]
) -> dict[str, float]:
    """Seconds of whole capacity by which each load lies above the comfortable part of it.

    Args:
        span: from when to when it is counted, UTC seconds.
    """
    world, layout = walk.world, walk.layout
    rates, slots = _watch_marks(layout, watch)
    capacity, limits = link_limits(walk.plan, layout, walk.from_, walk.until)
    start, end = span[0] - t.EPOCH, span[1] - t.EPOCH
    flow = world.flow[: world.n[t.N_FLOW]]
    of_rates = _rate_strains(
        flow, np.argsort(flow["start"], kind="stable"), np.argsort(flow["end"], kind="stable"),
        world.transfer, world.candidate, world.use, capacity, limits, rates, comfort, start, end,
    )  # fmt: skip
    of_slots = _slot_strains(walk, slots, comfort, start, end)
    return {
        name: float(of_rates[number] if number >= 0 else of_slots[number + len(slots)])
        for name, number in watch.items()
    }


def _watch_marks(layout: Layout, watch: dict[str, int]) -> tuple[t.Ints, t.Ints]:
    rates = np.zeros(len(layout.capacity), np.int64)
    slots = np.zeros(len(layout.topology.pool_names), np.int64)
    for number in watch.values():
        if number >= 0:
            rates[number] = 1
        else:
            slots[number + len(slots)] = 1
    return rates, slots


@njit(cache=True)
def _rate_strains(
    flow: t.Table,
    by_start: t.Ints,
    by_end: t.Ints,
    transfer: t.Table,
    candidate: t.Table,
    use: t.Table,
    capacity: t.Floats,
    limits: t.Table,
    marks: t.Ints,
    comfort: float,
    first: float,
    last: float,
) -> t.Floats:
    """The integral over time of load / capacity above `comfort`, of each marked resource.

    Args:
        by_start, by_end: the flows in the order of their starts and of their ends.
        first, last: from when to when it is counted.
    """
    load = np.zeros(len(capacity))
    since = np.zeros(len(capacity))
    strain = np.zeros(len(capacity))
    starting = ending = limited = 0
    while ending < len(by_end):
        k, step = by_end[ending], -1.0
        at = min(flow[k].end, last)
        if starting < len(by_start) and max(flow[by_start[starting]].start, first) < at:
            k, step = by_start[starting], 1.0
            at = max(flow[k].start, first)
        while limited < len(limits) and limits[limited].at <= at:
            r = limits[limited].resource
            strain[r] += _above(load[r], capacity[r], comfort) * (limits[limited].at - since[r])
            since[r] = limits[limited].at
            capacity[r] = limits[limited].capacity
            limited += 1
        if step > 0:
            starting += 1
        else:
            ending += 1
        if flow[k].rate == np.inf or flow[k].end <= first or flow[k].start >= last:
            continue
        stream = transfer[flow[k].transfer]
        way = candidate[stream.candidate]
        for u in range(way.uses_from, way.uses_from + way.uses_n):
            r = use[u].resource
            if marks[r]:
                strain[r] += _above(load[r], capacity[r], comfort) * (at - since[r])
                since[r] = at
                load[r] += step * flow[k].rate * (use[u].source + use[u].wire * stream.omega)
    return strain


@njit(cache=True)
def _above(load: float, capacity: float, comfort: float) -> float:
    if capacity <= 0.0 or load <= comfort * capacity:
        return 0.0
    return min(load / capacity, 1.0) - comfort


def _held(walk: Walk) -> tuple[t.Ints, t.Ints, t.Ints]:
    """(transfer, pool, run) of every slot of a proxy or repository that was held."""
    world = walk.world
    transfer = world.transfer
    disks = np.arange(world.n[t.N_TRANSFER])
    disks = disks[~np.isnan(transfer["slots_from"][disks])]
    works = world.n[t.N_DISKS] + np.arange(world.n[t.N_WORK])
    works = works[~np.isnan(transfer["slots_from"][works])]
    klass = world.klass.take(world.disk["klass"][transfer["disk"][disks]])
    queue = world.queue.take(world.work["klass"][works - world.n[t.N_DISKS]])
    rows = np.concatenate([disks, disks, disks, works, works])
    pools = np.concatenate(
        [
            world.candidate["proxy"][transfer["candidate"][disks]],
            klass["pool_a"],
            klass["pool_b"],
            queue["pool_a"],
            queue["pool_b"],
        ]
    )
    known = pools >= 0
    rows = rows[known]
    return rows, pools[known], world.task["run"][transfer["task"][rows]]


def _slot_strains(walk: Walk, marks: t.Ints, comfort: float, start: float, end: float) -> t.Floats:
    rows, pools, _ = _held(walk)
    transfer = walk.world.transfer
    chosen = marks[pools] > 0
    chosen &= (transfer["slots_to"][rows] > start) & (transfer["slots_from"][rows] < end)
    rows, pools = rows[chosen], pools[chosen]
    at = np.concatenate([transfer["slots_to"][rows], transfer["slots_from"][rows]])
    at = np.clip(at, start, end)
    step = np.concatenate([np.full(len(rows), -1.0), np.ones(len(rows))])
    pool = np.concatenate([pools, pools])
    order = np.argsort(at, kind="stable")
    return _slot_sweep(at[order], step[order], pool[order], walk.layout.slots, comfort)


@njit(cache=True)
def _slot_sweep(
    at: t.Floats, step: t.Floats, pool: t.Ints, slots: t.Ints, comfort: float
) -> t.Floats:
    busy, since, strain = np.zeros(len(slots)), np.zeros(len(slots)), np.zeros(len(slots))
    for k in range(len(at)):
        p = pool[k]
        strain[p] += _above(busy[p], float(slots[p]), comfort) * (at[k] - since[p])
        since[p] = at[k]
        busy[p] += step[k]
    return strain


def _work(
    walk: Walk, watch: dict[str, int], night: t.Ints, origin: t.Ints
) -> dict[tuple[int, int, int], float]:
    """Seconds of whole capacity that each job's runs of a night take, by number of the load.

    Args:
        night: of each run, by number; below 0 for none.
        origin: the job, by position, for which what a job does is counted.
    """
    world, layout = walk.world, walk.layout
    run = world.run
    names = list(watch)
    place_of_rate = np.full(len(layout.capacity), -1)
    place_of_pool = np.full(len(layout.topology.pool_names), -1)
    for place, name in enumerate(names):
        number = watch[name]
        if number >= 0:
            place_of_rate[number] = place
        else:
            place_of_pool[number + len(place_of_pool)] = place
    # Runs that are not due in the horizon have no night; they are added to one more, left out.
    nights = int(night.max(initial=0)) + 1
    night = np.where(night < 0, nights, night)
    sums = np.zeros((len(walk.plan.jobs), nights + 1, len(names)))
    flow = world.flow[: world.n[t.N_FLOW]]
    _add_flows(
        flow, world.transfer, world.task, world.candidate, world.use, layout.capacity, run, night,
        place_of_rate, sums,
    )  # fmt: skip
    rows, pools, runs = _held(walk)
    chosen = place_of_pool[pools] >= 0
    rows, pools, runs = rows[chosen], pools[chosen], runs[chosen]
    spans = (world.transfer["slots_to"] - world.transfer["slots_from"])[rows]
    np.add.at(
        sums,
        (run["job"][runs], night[runs], place_of_pool[pools]),
        spans / layout.slots[pools],
    )
    of_origin = np.zeros((int(origin.max(initial=0)) + 1, *sums.shape[1:]))
    np.add.at(of_origin, origin, sums)
    sums = of_origin[:, :nights]
    found = np.nonzero(sums)
    keys = zip(*(column.tolist() for column in found), strict=True)
    return dict(zip(keys, sums[found].tolist(), strict=True))


@njit(cache=True)
def _add_flows(
    flow: t.Table,
    transfer: t.Table,
    task: t.Table,
    candidate: t.Table,
    use: t.Table,
    capacity: t.Floats,
    run: t.Table,
    night: t.Ints,
    place: t.Ints,
    sums: t.Floats,
) -> None:
    for k in range(len(flow)):
        if flow[k].rate == np.inf:
            continue
        stream = transfer[flow[k].transfer]
        way = candidate[stream.candidate]
        r = task[stream.task].run
        for u in range(way.uses_from, way.uses_from + way.uses_n):
            p = place[use[u].resource]
            if p >= 0:
                amount = flow[k].rate * (use[u].source + use[u].wire * stream.omega)
                seconds = amount * (flow[k].end - flow[k].start) / capacity[use[u].resource]
                sums[run[r].job, night[r], p] += seconds
