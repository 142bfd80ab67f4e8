"""Driving the kernel: arrays for one horizon, the calls, what is done between them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from copy import copy as copy_of
from datetime import UTC, datetime, timedelta
from functools import cached_property, lru_cache
from operator import attrgetter
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from gambrel.core.constants import FOLLOWED_AFTER_END
from gambrel.core.model.link_capacity import capacity_steps
from gambrel.core.plan.objects import KINDS, Plan, Running
from gambrel.core.schedules.calendars import open_intervals_from
from gambrel.core.schedules.spread_fulls import job_dues
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.kernel import advance, settle_all
from gambrel.core.simulation.engine.layout import Layout
from gambrel.core.simulation.engine.points import save_points
from gambrel.core.simulation.engine.restore_arrays import chains_of_restores, restore_arrays
from gambrel.core.simulation.engine.taking_up import UnderWay, read_under_way, take_up
from gambrel.core.simulation.engine.world import open_world, set_flow
from gambrel.core.simulation.known_points import SAVED_POINT, Snapshot, chain_keys
from gambrel.core.simulation.turns import simulations, stop_if_unwanted
from gambrel.core.simulation_limits import MOST_RUNS, MOST_TRANSFERS, TooMuch
from gambrel.core.units import DAY, MBIT, SAME_INSTANT

INSTANTS_AT_ONCE = 20_000
"""How many instants the kernel walks before it is asked whether the result is still wanted."""
FLOWS_AT_FIRST = (1 << 14, 24, 1 << 24)
"""Room for stretches of one rate: at least so many, so many for each transfer, at most so many.

What is not written to takes no memory; where it does not suffice, it is doubled.
"""


BEYOND_S = (0.0, DAY, 4 * DAY, FOLLOWED_AFTER_END)
"""How long after the end of a span occurrences are simulated until its work has ended among them.

Each is tried after the one before turned out too short. At the last nothing more is asked: what has
not ended then is cut off, as section 6 says.
"""


def settled_walk(
    layout: Layout,
    plan: Plan,
    from_: float,
    to: float,
    points: Snapshot,
    snapshots_from: Iterable[float] = (),
    *,
    beyond_s: float = 0.0,
    running: Running | None = None,
) -> Walk:
    """A finished walk whose runs before `to` ended beside all that falls due after it.

    Args:
        beyond_s: a first guess of how long after `to` that takes, such as it took a similar plan.
    """
    for beyond in (b for b in BEYOND_S if b >= beyond_s):
        walk = Walk(layout, plan, from_, to, points, snapshots_from, to + beyond, running)
        walk.run()
        if walk.settled or beyond == BEYOND_S[-1]:
            return walk
        # Two of them at once would be twice the memory.
        del walk
    raise ValueError(f"{beyond_s} s is more than the {BEYOND_S[-1]:.0f} s that are followed")


class Walk:
    """One simulation on arrays: `world` holds what came out once `run` has returned.

    Attributes:
        until: occurrences exist up to then. Where that is after `to`, the walk ends when all that
            was due before `to` has ended, instead of with all work.
        settled: whether all that was due before `to` ended among all that is due later.
        quiet: (instant, points) at the quiet instants that were asked for.
        chains: (repository, job, machine) of each chain, a row for each, by position.

    Args:
        under_way: what `running` comes to, where that has been read for this layout already.
        keeps_flows: or whether nobody will ask what flowed.
    """

    def __init__(
        self,
        layout: Layout,
        plan: Plan,
        from_: float,
        to: float,
        points: Snapshot,
        snapshots_from: Iterable[float] = (),
        until: float | None = None,
        running: Running | None = None,
        under_way: UnderWay | None = None,
        keeps_flows: bool = True,
    ) -> None:
        self.layout = layout
        self.plan = plan
        self.from_ = from_
        self.to = to
        self.until = to if until is None else until
        self.running = running
        self.keeps_flows = keeps_flows
        self._points = points
        self._snapshots_from = sorted(snapshots_from)
        self.settled = False
        self.quiet: list[tuple[float, Snapshot]] = []
        self.due = _occurrences(plan, from_, self.until)
        if running is not None:
            # What falls on the first instant has begun there already.
            self.due = self.due[self.due["at"] > from_ + SAME_INSTANT]
        if under_way is None and running is not None:
            under_way = read_under_way(layout, plan, points, running)
        self._under_way = under_way
        self.chains = self._chains(points)
        self._restores = restore_arrays(layout, plan, self.chains, from_, to, running)
        self.world = self._world(points, self._snapshots_from)

    def run(self, until: float = np.inf) -> None:
        """Walk to the end, or until all is done that happens up to an instant.

        Raises:
            Cancelled: where nobody wants the result any more.
        """
        self.world.f[t.F_STOP] = until - t.EPOCH
        with simulations.take(self._most_bytes()):
            self._run()
        if until < np.inf:
            self.world.f[t.F_NOW] = until - t.EPOCH

    def varied(self, layout: Layout, plan: Plan, under_way: UnderWay | None = None) -> Walk:
        """A walk that has not run, from the same start in a plan of other change and throughput.

        Only what a factor can change is made anew: setting a walk up takes longer than the rest of
        a night takes to walk.

        Args:
            layout, plan: as `varying.vary` gives them. `self` must not have run.
            under_way: as `self` took it up, with other totals.
        """
        if self.plan.state.restores:
            # The ways of restores are among what varies.
            return Walk(
                layout, plan, self.from_, self.to, self._points, self._snapshots_from, self.until,
                self.running, under_way, self.keeps_flows,
            )  # fmt: skip
        made = copy_of(self)
        made.layout, made.plan, made.quiet, made._under_way = layout, plan, [], under_way
        capacity, limit = link_limits(plan, layout, self.from_, self.until)
        repository = self.world.repository.copy()
        repository["read"] = layout.repository["read"]
        made.world = self.world._replace(
            member=layout.member,
            candidate=layout.candidate,
            repository=repository,
            capacity=capacity,
            limit=limit,
            **{
                name: _again(array, rows)
                for name, array, rows in zip(
                    t.WORLD_WRITTEN, _written(self.world), self._filled_in, strict=True
                )
            },
        )
        return made

    @cached_property
    def _filled_in(self) -> tuple[int, ...]:
        """How many rows of each array that a walk writes to are not all zeros before it runs."""
        return tuple(
            # Flows are many rows, of which none is written before the walk runs.
            0 if name == "flow" else _rows_filled_in(array)
            for name, array in zip(t.WORLD_WRITTEN, _written(self.world), strict=True)
        )

    def _run(self) -> None:
        handle = open_world(self.world)
        if self._under_way is not None:
            take_up(handle, *self._under_way)
        while True:
            stop_if_unwanted()
            status = advance(handle, INSTANTS_AT_ONCE)
            if status == t.STOPPED:
                settle_all(handle)
                return
            if status == t.FINISHED and self.world.f[t.F_STOP] < np.inf:
                return
            if status == t.FINISHED:
                self.settled = self.until > self.to or self._ended_by_the_end()
                del handle
                self._give_back()
                return
            if status == t.UNSETTLED:
                self.settled = False
                return
            if status == t.WANTS_FLOWS and not self.keeps_flows:
                self.world.n[t.N_FLOW] = 0
            elif status == t.WANTS_FLOWS:
                more = np.zeros(2 * len(self.world.flow), t.FLOW)
                more[: len(self.world.flow)] = self.world.flow
                self.world = self.world._replace(flow=more)
                set_flow(handle, more)
            elif status == t.IS_QUIET and self.world.f[t.F_NOW] <= self.world.f[t.F_UNTIL]:
                # Later on it is only quiet because nothing is due any more.
                self.quiet.append((float(self.world.f[t.F_NOW]) + t.EPOCH, self.points()))

    def _most_bytes(self) -> int:
        """What a walk takes while it is under way; most of it is taken as it goes on."""
        return sum(array.nbytes for array in _written(self.world))

    def _give_back(self) -> None:
        """Give back the memory of what only the walk needed.

        Rows of the results that were not written never took any.
        """
        kept: dict[str, t.Table] = {}
        for name in t.WORLD_SCRATCH:
            array = getattr(self.world, name)
            kept[name] = np.zeros((1, *array.shape[1:]), array.dtype)
        self.world = self.world._replace(**kept)

    def nbytes(self) -> int:
        """The bytes of what it holds by itself; a layout is shared by many walks."""
        world, n = self.world, self.world.n
        filled = sum(getattr(world, name).nbytes for name in t.WORLD_RESULTS)
        written = (world.flow, n[t.N_FLOW]), (world.point, n[t.N_POINT])
        return int(filled + sum(rows * table.itemsize for table, rows in written))

    def _ended_by_the_end(self) -> bool:
        """Whether all runs, copies and merges ended before the end of the horizon."""
        world, end = self.world, self.to - t.EPOCH
        run = world.run[: world.n[t.N_RUN]]
        work = world.work[: world.n[t.N_WORK]]
        ended = run["ended"][run["outcome"] != t.RUN_SKIPPED]
        return bool((ended < end).all() and (work["ended"] < end).all())

    def take_quiet(self) -> list[tuple[float, Snapshot]]:
        """The quiet instants so far, each with all points that exist there; it keeps none of them.

        What was made of a walk may hold on to it for long, and need not hold on to these.
        """
        taken, self.quiet = self.quiet, []
        return taken

    def points(self) -> Snapshot:
        """All points that exist now."""
        world = self.world
        saved = np.zeros(int(world.chain["count"].sum()), SAVED_POINT)
        save_points(world.chain, world.point[: max(1, world.n[t.N_POINT])], saved)
        return Snapshot(saved)

    # --- setting up -------------------------------------------------------------------------

    def _chains(self, points: Snapshot) -> t.Ints:
        """All chains: those of the layout, then those of points from before, then of restores."""
        size = (len(self.plan.jobs) + 1, len(self.plan.machines) + 1)
        known = _keys(self.layout.chains, size)
        unique, self._key_of = _unique_of_runs(points.chain_keys(*size))
        restored = chains_of_restores(self.plan, self.running)
        also = _keys(np.array(restored, np.int64).reshape(-1, 3), size)
        keys = np.concatenate([known, np.setdiff1d(unique, known)])
        keys = np.concatenate([keys, np.setdiff1d(also, keys)])
        order = np.argsort(keys)
        self._chain_numbers = order[np.searchsorted(keys, unique, sorter=order)]
        rest, machine = np.divmod(keys, size[1])
        return np.column_stack([*np.divmod(rest, size[0]), machine])

    def _counts(self, saved: int) -> tuple[int, int, int, int, int]:
        """At most so many runs, machine-runs, disk transfers, repository works and points."""
        job, copy = self.layout.job, self.layout.copy
        runs = np.bincount(self.due["job"], minlength=len(job)).astype(np.int64)
        told = self._under_way
        merges_told = 0
        if told is not None:
            runs += np.bincount(told.runs["job"], minlength=len(job))
            merges_told = int((told.works["stage"] == t.ST_MERGE).sum())
        for position in self._in_order_of_following():
            after = self.plan.jobs[position].after
            if after is not None:
                runs[position] += runs[self.plan.job_position[after]]
        tasks = runs * job["members_n"]
        disks = int((runs * job["disks_n"]).sum())
        routed = np.zeros(len(job), np.int64)
        synthetic = np.zeros(len(job), np.int64)
        for j in range(len(job)):
            begin = job["members_from"][j]
            member = self.layout.member[begin : begin + job["members_n"][j]]
            synthetic[j] = member["synthetic"].max(initial=0)
            for first in np.unique(member["copies_from"]).tolist():
                ways = copy["routed"][first : first + job["copies_n"][j]]
                routed[j] = max(routed[j], ways.sum())
        forever = job["chain"] == t.CHAIN_FOREVER
        points = int((tasks * (1 + routed)).sum()) + saved
        works = int((tasks * (routed + synthetic)).sum())
        if forever.any():
            merges = int((tasks * (1 + routed))[forever].sum()) + saved + merges_told
            works += merges
            points += merges
        total, run_total = disks + works, int(runs.sum())
        if run_total > MOST_RUNS or total > MOST_TRANSFERS:
            worst = self.plan.jobs[int(np.argmax(runs * np.maximum(1, job["disks_n"])))]
            raise TooMuch(
                f"{run_total:,} runs with {total:,} transfers are more than a simulation takes "
                f"({MOST_RUNS:,} runs, {MOST_TRANSFERS:,} transfers). Job {worst.id} has the most: "
                "give it fewer occurrences, or simulate a shorter time."
            )
        return run_total, int(tasks.sum()), disks, works, points

    def _in_order_of_following(self) -> list[int]:
        """The positions of the jobs, each after the one that it follows."""
        # Not by a function that calls itself: it would hold the walk in a cycle, and with it all
        # its arrays until the garbage collector comes by.
        plan, depth = self.plan, dict[int, int]()
        for position in range(len(plan.jobs)):
            chain = [position]
            while chain[-1] not in depth and plan.jobs[chain[-1]].after is not None:
                chain.append(plan.job_position[plan.jobs[chain[-1]].after or ""])
            depth.setdefault(chain[-1], 0)
            for follower, followed in zip(reversed(chain[:-1]), reversed(chain[1:]), strict=True):
                depth[follower] = depth[followed] + 1
        return sorted(range(len(plan.jobs)), key=depth.__getitem__)

    def _world(self, points: Snapshot, snapshots_from: list[float]) -> t.World:
        layout = self.layout
        saved = points.points
        runs, tasks, disks, works, most_points = self._counts(len(saved))
        restores = len(self._restores.restore)
        transfers = disks + works + restores
        uses_most = max(layout.uses_most, self._restores.uses_most)
        resources, pools = len(layout.capacity), len(layout.slots)
        repositories = len(layout.repository)
        repository, zone = repository_zones(
            self.plan, layout.repository, saved, self.from_, self.until
        )
        first_window = self.from_
        if self._under_way is not None and len(self._under_way.runs):
            # The window of a run that is under way is that of its occurrence.
            first_window = min(
                first_window, float(self._under_way.runs["occurrence"].min()) + t.EPOCH
            )
        window_from, span = _windows(self.plan, first_window, self.until)
        capacity, limit = link_limits(self.plan, layout, self.from_, self.until)
        steps = tasks + transfers + runs + most_points + 1
        nodes = transfers * uses_most
        starters = len(layout.queue) + pools
        due = self.due.copy()
        due["at"] -= t.EPOCH
        world = t.World(
            job=layout.job,
            member=layout.member,
            disk=layout.disk,
            klass=layout.klass,
            class_items=layout.class_items,
            copy_chain=layout.copy_chain,
            candidate=layout.candidate,
            use=layout.use,
            copy=layout.copy,
            repository=repository,
            zone=zone,
            window_from=window_from,
            span=span,
            due=due,
            limit=limit,
            follower=layout.follower,
            machine_class_from=layout.machine_class_from,
            machine_class=layout.machine_class,
            proxy_set_from=layout.proxy_set_from,
            proxy_set=layout.proxy_set,
            slots=layout.slots,
            snapshot_due=np.array(snapshots_from, np.float64) - t.EPOCH,
            capacity=capacity,
            busy=_ints(pools),
            held=_nones(len(self.plan.machines)),
            active=_nones(len(self.plan.jobs)),
            run=_filled(t.RUN, runs, outcome=-1, began=np.nan, ended=np.inf),
            task=_filled(
                t.TASK,
                tasks,
                outcome=-1,
                kind=-1,
                base_point=-1,
                queued=np.nan,
                start=np.nan,
                moved=np.nan,
                released=np.nan,
                ended=np.nan,
            ),
            transfer=_filled(
                t.TRANSFER, transfers, stream=-1, candidate=-1, slots_from=np.nan, wanted=np.nan
            ),
            work=_filled(t.WORK, works, previous=-1, next=-1, started=np.nan, ended=np.nan),
            squeezed=_floats(max(1, disks), uses_most + 1),
            restore=self._restores.restore,
            option=self._restores.option,
            restore_use=self._restores.use,
            restore_disk=self._restores.disk,
            restoring=_ints(len(self.plan.machines)),
            restore_squeezed=_floats(max(1, restores), uses_most + 1),
            restore_amount=_floats(max(1, restores), uses_most),
            point=np.zeros(max(1, most_points), t.POINT),
            chain=_filled(t.CHAIN, len(self.chains), first=-1, last=-1),
            queue=layout.queue.copy(),
            parked_first=_nones(pools + layout.proxy_sets_n),
            parked_last=_nones(pools + layout.proxy_sets_n),
            ready=_ints(len(layout.queue)),
            hot=_ints(pools),
            is_hot=_ints(pools),
            starters=_ints(starters),
            starter_row=_ints(starters),
            starter_item=_ints(starters),
            used_bytes=_floats(max(1, repositories)),
            peak_bytes=_floats(max(1, repositories)),
            newest=np.zeros(most_points + 1, t.NEWEST),
            flow=np.zeros(self._flows_at_first(transfers), t.FLOW),
            stream=np.zeros(max(1, transfers), t.STREAM),
            free_stream=_ints(transfers),
            use_resource=_ints(nodes),
            use_amount=_floats(max(1, nodes)),
            squeezed_now=_floats(max(1, transfers), uses_most + 1),
            step_at=_floats(steps),
            step_key=np.zeros((steps, 3), np.int64),
            deadline_at=_floats(4 * runs + 1),
            deadline_key=np.zeros((4 * runs + 1, 2), np.int64),
            end_heap=_ints(transfers),
            end_place=_ints(transfers),
            ended_now=_ints(runs),
            due_now=np.zeros((steps + transfers, 3), np.int64),
            due_key=_floats(steps + transfers, 5),
            due_order=_ints(steps + transfers),
            node_stream=_ints(nodes),
            node_next=_ints(nodes),
            node_previous=_ints(nodes),
            node_first=_nones(resources),
            load_most=_floats(resources),
            load_open=_ints(resources),
            load_n=_ints(resources),
            squeezes_n=_ints(resources),
            dirty=_ints(resources),
            is_dirty=_ints(resources),
            fresh=_ints(transfers),
            affected=_ints(2 * transfers),
            is_affected=_ints(transfers),
            region=_ints(resources),
            in_region=_ints(resources),
            region_n=_ints(resources),
            left=_floats(resources),
            demand=_floats(resources),
            pressure=_floats(resources),
            rising=_ints(transfers),
            new_rate=_floats(max(1, transfers)),
            new_squeeze=_ints(transfers),
            n=np.zeros(t.COUNTERS, np.int64),
            f=np.zeros(t.FACTS, np.float64),
        )
        world.n[t.N_DISKS] = disks
        world.n[t.N_USES_MOST] = uses_most
        world.n[t.N_FIRST_RESTORE] = disks + works
        world.transfer["disk"][disks + works :] = world.transfer["task"][disks + works :] = -1
        at_once = self.plan.state.restores_at_once
        world.n[t.N_RESTORES_AT_ONCE] = max(1, restores) if at_once is None else at_once
        world.n[t.N_RESTORES_LEFT] = restores
        if self.until != self.to:
            world.n[t.N_OPEN] = restores
        for row, seconds in zip(world.restore_squeezed, self._restores.squeezed, strict=False):
            row[: len(seconds)] = seconds
        world.n[t.N_SPACE] = 1
        world.f[t.F_NOW] = self.from_ - t.EPOCH
        world.f[t.F_STOP] = np.inf
        note_sizes_and_chains(world, self.plan, self.chains)
        world.f[t.F_TO], world.f[t.F_UNTIL] = self.to - t.EPOCH, self.until - t.EPOCH
        self._take_points(world, saved)
        return world

    def _flows_at_first(self, transfers: int) -> int:
        """Room for so many stretches of one rate."""
        least, each, most = FLOWS_AT_FIRST
        # Where none is kept there is room for all that may move at once.
        return min(most, max(least, each * transfers)) if self.keeps_flows else 2 * transfers + 1

    def _take_points(self, world: t.World, saved: t.Table) -> None:
        """Write the points of before; those that exist only later come in their time."""
        count = len(saved)
        world.n[t.N_POINT] = count
        if count == 0:
            return
        point = world.point[:count]
        point["chain"] = self._chain_numbers[self._key_of]
        for name in ("kind", "usable", "bad"):
            point[name] = saved[name]
        point["needs"] = point["made_on"] = saved["base"]
        point["replaced"] = point["previous"] = point["next"] = -1
        point["at"] = saved["at"]
        point["exists_from"] = saved["exists_from"]
        point["since"], point["gone"] = saved["exists_from"], np.inf
        point["stored"] = saved["stored_bytes"]
        now = point["exists_from"] <= self.from_ - t.EPOCH + SAME_INSTANT
        point["alive"] = now
        rows = np.flatnonzero(now)
        rows = rows[np.lexsort((rows, point["at"][rows], point["chain"][rows]))]
        chains = point["chain"][rows]
        same = chains[1:] == chains[:-1]
        point["previous"][rows[1:]] = np.where(same, rows[:-1], -1)
        point["next"][rows[:-1]] = np.where(same, rows[1:], -1)
        begins = np.flatnonzero(np.concatenate([[True], ~same])) if len(rows) else rows
        ends = np.append(begins[1:] - 1, len(rows) - 1) if len(rows) else rows
        world.chain["first"][chains[begins]] = rows[begins]
        world.chain["last"][chains[ends]] = rows[ends]
        world.chain["count"][chains[begins]] = ends - begins + 1
        np.add.at(world.used_bytes, saved["repository"][rows], point["stored"][rows])
        usable = rows[point["usable"][rows] > 0]
        newest = world.newest[: len(usable)]
        newest["machine"] = saved["machine"][usable]
        newest["exists_from"] = point["exists_from"][usable]
        newest["at"] = point["at"][usable]
        world.n[t.N_NEWEST] = len(usable)
        later = np.flatnonzero(~now)
        later = later[np.argsort(point["exists_from"][later], kind="stable")]
        world.step_at[: len(later)] = point["exists_from"][later]
        world.step_key[: len(later), 0] = np.arange(len(later))
        world.step_key[: len(later), 1] = t.S_POINT
        world.step_key[: len(later), 2] = later
        world.n[t.N_STEP] = world.n[t.N_SEQUENCE] = len(later)


_written: Callable[[t.World], tuple[t.Table, ...]] = attrgetter(*t.WORLD_WRITTEN)


def _unique_of_runs(keys: t.Ints) -> tuple[t.Ints, t.Ints]:
    """As `np.unique` with its inverse, for keys that come in runs of the same one."""
    begins = np.flatnonzero(np.diff(keys, prepend=-1))
    unique, place = np.unique(keys[begins], return_inverse=True)
    return unique, np.repeat(place, np.diff(begins, append=len(keys)))


def _keys(chains: t.Ints, size: tuple[int, int]) -> t.Ints:
    repository, job, machine = chains.T
    return chain_keys(repository, job, machine, *size)


def _rows_filled_in(array: t.Table) -> int:
    """How many rows there are up to the last one that is not all zeros."""
    if not array.size:
        return 0
    filled = np.flatnonzero(array.view(np.uint8).reshape(len(array), -1).any(axis=1))
    return int(filled[-1]) + 1 if len(filled) else 0


def _again(array: t.Table, rows: int) -> t.Table:
    """A copy of an array of which no more rows than these are other than zeros."""
    made = np.zeros(array.shape, array.dtype)
    made[:rows] = array[:rows]
    return made


def note_sizes_and_chains(
    world: t.World, plan: Plan, chains: t.Ints | Sequence[tuple[int, int, int]]
) -> None:
    """Write down since when disks grow, and whose each chain is: (repository, job, machine)."""
    as_of = plan.state.sizes_as_of
    columns = np.array(chains, np.int64).reshape(-1, 3)
    world.f[t.F_SIZES_AS_OF] = np.inf if as_of is None else as_of - t.EPOCH
    for column, name in enumerate(("repository", "job", "machine")):
        world.chain[name][: len(chains)] = columns[:, column]


def _ints(size: int) -> t.Ints:
    return np.zeros(max(1, size), np.int64)


def _nones(size: int) -> t.Ints:
    return np.full(max(1, size), -1, np.int64)


def _floats(*size: int) -> t.Floats:
    return np.zeros(size, np.float64)


def _filled(dtype: np.dtype[Any], size: int, **values: float) -> t.Table:
    table = np.zeros(max(1, size), dtype)
    for name, value in values.items():
        table[name] = value
    return table


# --- what depends on the horizon --------------------------------------------------------------


def _occurrences(plan: Plan, from_: float, to: float) -> t.Table:
    rows = [
        (position, KINDS.index(kind), schedule, turn, instant)
        for position, job in enumerate(plan.jobs)
        for instant, kind, schedule, turn in job_dues(job, plan.calendar_by_id, from_, to)
    ]
    due = np.array(rows, t.DUE)
    return due[np.lexsort((due["job"], due["at"]))]


def _windows(plan: Plan, from_: float, to: float) -> tuple[t.Ints, t.Table]:
    spans: list[tuple[float, float]] = []
    begins = [0]
    for window in plan.windows:
        spans += [
            (opens - t.EPOCH, closes - t.EPOCH)
            for opens, closes in open_intervals_from(window, from_, to)
        ]
        begins.append(len(spans))
    return np.array(begins, np.int64), np.array(spans, t.SPAN)


def link_limits(plan: Plan, layout: Layout, from_: float, to: float) -> tuple[t.Floats, t.Table]:
    """Capacities at the beginning, and how those of links change after it."""
    capacity = layout.capacity.copy()
    rows: list[tuple[int, float, float]] = []
    for link in plan.links:
        if link.limits:
            resource = layout.topology.resource(f"link:{link.id}")
            zone = plan.site_by_id[link.between[0]].time_zone
            last = to + FOLLOWED_AFTER_END + DAY
            first, *rest = capacity_steps(link, zone, from_, last)
            capacity[resource] = first[1] * MBIT
            rows += [(resource, at - t.EPOCH, rate * MBIT) for at, rate in rest]
    rows.sort(key=lambda row: row[1])
    return capacity, np.array(rows, t.LIMIT)


@lru_cache(maxsize=64)
def zone_offsets(zone: str, first_year: int, last_year: int) -> tuple[tuple[float, float], ...]:
    """(instant from which on, seconds ahead of UTC) of a zone over some years."""
    place = ZoneInfo(zone)

    def offset(at: datetime) -> float:
        found = at.astimezone(place).utcoffset()
        assert found is not None
        return found.total_seconds()

    at = datetime(first_year, 1, 1, tzinfo=UTC)
    end = datetime(last_year + 1, 1, 1, tzinfo=UTC)
    rows = [(-np.inf, offset(at))]
    while at < end:
        low, high = at, at + timedelta(days=7)
        if offset(high) != rows[-1][1]:
            while high - low > timedelta(seconds=1):
                middle = low + (high - low) / 2
                low, high = (middle, high) if offset(middle) == rows[-1][1] else (low, middle)
            rows.append((float(round(high.timestamp())), offset(high)))
        at += timedelta(days=7)
    return tuple(rows)


def repository_zones(
    plan: Plan, repository: t.Table, saved: t.Table, from_: float, to: float
) -> tuple[t.Table, t.Table]:
    """The repositories with their part of a table of zone offsets, which is given too."""
    first = min(from_, float(saved["at"].min(initial=np.inf)) + t.EPOCH)
    years = [datetime.fromtimestamp(at, UTC).year for at in (first, to + FOLLOWED_AFTER_END)]
    rows: list[tuple[float, float]] = []
    begins: dict[str, tuple[int, int]] = {}
    repository = repository.copy()
    for i, entry in enumerate(plan.repositories):
        zone = plan.site_by_id[entry.site].time_zone
        if zone not in begins:
            found = zone_offsets(zone, *years)
            begins[zone] = (len(rows), len(found))
            rows += [(since - t.EPOCH, offset) for since, offset in found]
        repository["zone_from"][i], repository["zone_n"][i] = begins[zone]
    return repository, np.array(rows, t.ZONE)
