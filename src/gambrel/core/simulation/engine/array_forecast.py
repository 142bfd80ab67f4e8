"""From the arrays of a walk to a Forecast. What is not looked at is not made."""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property, lru_cache
from math import isfinite, isnan
from types import MappingProxyType
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

from gambrel.core.model.restore_points import PointRecord, point_records
from gambrel.core.plan.objects import KINDS, Plan
from gambrel.core.simulation import forecast as f
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.load_records import LoadRows
from gambrel.core.simulation.engine.restore_arrays import squeezes_of
from gambrel.core.simulation.engine.walk import Walk
from gambrel.core.simulation.exposure import rpo_met
from gambrel.core.simulation.load_records import LoadRecords
from gambrel.core.simulation.point_history import HISTORY, PointHistory
from gambrel.core.units import SAME_INSTANT


def forecast_of(walk: Walk) -> f.Forecast:
    """The Forecast of a finished walk."""
    plan, world = walk.plan, walk.world
    newest = _Newest(walk)
    copies = np.flatnonzero(world.work["stage"][: world.n[t.N_WORK]] == t.ST_COPY)
    copies = copies[world.work["state"][copies] != t.W_IDLE]
    if walk.until > walk.to:
        run = world.task["run"][world.work["task"][copies]]
        copies = copies[world.run["occurrence"][run] < walk.to - t.EPOCH]
    forecast = f.Forecast(
        plan=plan,
        from_=walk.from_,
        to=walk.to,
        until=walk.until,
        runs=_runs(walk),
        copies=f.Copies(
            len(copies),
            lambda: tuple(_copies(walk, copies)),
            lambda start, end: tuple(_copies(walk, _moved_within(walk, copies, start, end))),
        ),
        points=f.Lazily(
            int(world.chain["count"].sum()), lambda: tuple(_points(plan, walk.points().points))
        ),
        exposure=f.Lazily(
            len(plan.machines), lambda: tuple(_exposure(plan, newest.worst_in(walk.from_, walk.to)))
        ),
        space=tuple(
            f.Space(repository.id, float(world.peak_bytes[i]), float(world.used_bytes[i]))
            for i, repository in enumerate(plan.repositories)
        ),
        newest_points=newest,
        history=PointHistory(plan, lambda: _history_rows(walk)),
        loads=LoadRecords(LoadRows(walk)),
        arrays_bytes=walk.nbytes(),
        quiet=tuple(f.QuietInstant(at, kept) for at, kept in walk.take_quiet()),
        restores=_restores(walk),
    )
    forecast.__dict__["topology"] = walk.layout.topology
    return forecast


def _instant(value: float) -> float | None:
    return value + t.EPOCH if isfinite(value) else None


# --- restores ---------------------------------------------------------------------------------


def _restores(walk: Walk) -> tuple[f.RestoreRun, ...]:
    """The restores of the plan's state, in its order."""
    plan, world = walk.plan, walk.world
    planned = plan.state.restores
    found = [f.RestoreRun(each.id, each.machine, None) for each in planned]
    names = ("transport", *walk.layout.topology.resource_names)
    for r in range(int(world.n[t.N_RESTORES_DUE])):
        row = world.restore[r]
        position = int(row["position"])
        made = found[position]._replace(
            outcome=t.RESTORE_OUTCOMES[row["outcome"]],
            due=_instant(float(row["due"])),
            start=_instant(float(row["start"])),
            back=_instant(float(row["back"])),
            whole=_instant(float(row["whole"])),
            squeeze_s={},
        )
        if not isnan(row["start"]):
            option = world.option[row["option"]]
            squeezes = squeezes_of(world, option, world.restore_squeezed[r])
            repository, job, _ = walk.chains[option["chain"]]
            made = made._replace(
                point=f.RestoredPoint(
                    plan.jobs[job].id, plan.repositories[repository].id, float(row["at"]) + t.EPOCH
                ),
                points=int(row["points_n"]),
                read_bytes=float(row["read"]),
                written_bytes=float(row["written"]),
                delay_s=float(row["delay"]),
                squeeze_s={names[number]: seconds for number, seconds in sorted(squeezes.items())},
            )
        found[position] = made
    return tuple(found)


# --- runs -------------------------------------------------------------------------------------


def _runs(walk: Walk) -> tuple[f.Run, ...]:
    world = walk.world
    count = int(world.n[t.N_RUN])
    task = world.task[: world.n[t.N_TASK]]
    outcomes = np.zeros((count, len(t.MACHINE_OUTCOMES)), np.int64)
    np.add.at(outcomes, (task["run"], task["outcome"]), 1)
    order = np.lexsort((world.run["job"][:count], world.run["occurrence"][:count]))
    order = order[world.run["ended_before"][order] == 0]
    run = world.run.take(order)
    if walk.until > walk.to:
        asked = int(np.searchsorted(run["occurrence"], walk.to - t.EPOCH))
        order, run = order[:asked], run[:asked]
    bound = np.isfinite(run["ended"]) & np.isfinite(run["closes"])
    over_s = np.zeros(len(run))
    np.subtract(run["ended"], run["closes"], out=over_s, where=bound)
    details = _Details(walk)
    ids = [job.id for job in walk.plan.jobs]
    # A column for each field of a Run, in their order.
    columns = (
        [ids[job] for job in run["job"].tolist()],
        (run["occurrence"] + t.EPOCH).tolist(),
        [KINDS[kind] for kind in run["kind"].tolist()],
        [None if schedule < 0 else schedule for schedule in run["schedule"].tolist()],
        [t.RUN_OUTCOMES[outcome] for outcome in run["outcome"].tolist()],
        *(_instants(run[name]) for name in ("began", "ended", "opens", "closes")),
        np.maximum(0.0, over_s).tolist(),
        map(_outcomes, map(tuple, outcomes[order].tolist())),
        [
            f.Machines(machines, details, r)
            for r, machines in zip(order.tolist(), run["tasks_n"].tolist(), strict=True)
        ],
    )
    return tuple(map(f.Run._make, zip(*columns, strict=True)))


@lru_cache(maxsize=4096)
def _outcomes(counts: tuple[int, ...]) -> Mapping[f.MachineOutcome, int]:
    """How many machines came out in which way: one mapping for all runs of the same counts."""
    return MappingProxyType(Counter(dict(zip(t.MACHINE_OUTCOMES, counts, strict=True))))


def _instants(values: t.Floats) -> list[float | None]:
    known = np.isfinite(values).tolist()
    shifted = (values + t.EPOCH).tolist()
    return [value if has else None for value, has in zip(shifted, known, strict=True)]


class _Details:
    """The machine-runs of the runs of a walk, and their totals."""

    def __init__(self, walk: Walk) -> None:
        self._blocks = _Blocks(walk)
        self._totals = _Totals(walk)

    def machines(self, run: int) -> tuple[f.MachineRun, ...]:
        """The machine-runs of a run, by its number in the walk."""
        return self._blocks.of(run)

    def totals(self, run: int) -> f.RunTotals:
        """What they come to together."""
        return self._totals.of(run)

    def forget(self) -> None:
        """Give back the machine-runs that were made."""
        self._blocks.forget()


class _Totals:
    """What the machines of each run come to, worked out for all runs when one is asked for."""

    def __init__(self, walk: Walk) -> None:
        self.walk = walk
        self._count = int(walk.world.n[t.N_RUN])

    @cached_property
    def _task(self) -> t.Table:
        return self.walk.world.task[: self.walk.world.n[t.N_TASK]]

    @cached_property
    def _columns(self) -> dict[str, list[Any]]:
        """One value for each run."""
        task, count = self._task, self._count
        run, found = task["run"], {}
        for name in ("source", "wire", "stored", "synthetic"):
            found[name] = np.bincount(run, task[name], count).tolist()
        for name, worst, better in (("start", np.inf, np.minimum), ("moved", -np.inf, np.maximum)):
            value = np.full(count, worst)
            known = ~np.isnan(task[name])
            better.at(value, run[known], task[name][known])
            found[name] = value.tolist()
        started = np.flatnonzero(~np.isnan(task["start"]))
        # The first of those that end last: later entries of an assignment win.
        order = started[np.lexsort((-started, task["ended"][started]))]
        last = np.full(count, -1)
        last[run[order]] = order
        found["last"] = last.tolist()
        return found

    @cached_property
    def _kinds(self) -> _MostFrequent:
        task = self._task
        known = task["kind"] >= 0
        return _MostFrequent(task["run"][known], task["kind"][known], self._count)

    @cached_property
    def _proxies(self) -> _MostFrequent:
        world = self.walk.world
        transfer = world.transfer[: world.n[t.N_TRANSFER]]
        transfer = transfer.compress(~np.isnan(transfer["slots_from"]))
        proxy = world.candidate["proxy"][transfer["candidate"]]
        run = self._task["run"][transfer["task"]]
        return _MostFrequent(run[proxy >= 0], proxy[proxy >= 0], self._count)

    @cached_property
    def _squeezes(self) -> Sequence[Mapping[str, float]]:
        world = self.walk.world
        count = int(world.n[t.N_TRANSFER])
        runs = self._task["run"][world.transfer["task"][:count]]
        return _Squeezes(self.walk, 0, count, runs, self._count)

    def of(self, run: int) -> f.RunTotals:
        """The totals of one run."""
        columns, task = self._columns, self._task
        plan, last = self.walk.plan, columns["last"][run]
        return f.RunTotals(
            kinds=tuple(KINDS[kind] for kind in self._kinds.of(run)),
            synthetic=columns["synthetic"][run] > 0,
            source_bytes=columns["source"][run],
            wire_bytes=columns["wire"][run],
            stored_bytes=columns["stored"][run],
            first_start=_instant(columns["start"][run]),
            moved=_instant(columns["moved"][run]),
            last=None
            if last < 0
            else (
                float(task["start"][last]) + t.EPOCH,
                _instant(float(task["moved"][last])),
                float(task["ended"][last]) + t.EPOCH,
            ),
            squeeze_s=self._squeezes[run],
            proxies=tuple(plan.proxies[proxy].id for proxy in self._proxies.of(run)),
        )


class _MostFrequent:
    """The values that occur in each run, the most frequent first, then the smallest."""

    def __init__(self, runs: t.Ints, values: t.Ints, count: int) -> None:
        width = int(values.max(initial=0)) + 1
        counts = np.bincount(runs * width + values)
        keys = np.flatnonzero(counts)
        run, value = np.divmod(keys, width)
        order = np.lexsort((value, -counts[keys], run))
        self._begins: list[int] = np.searchsorted(run, np.arange(count + 1)).tolist()
        self._values: list[int] = value[order].tolist()

    def of(self, run: int) -> list[int]:
        """Those of one run."""
        return self._values[self._begins[run] : self._begins[run + 1]]


MACHINES_AT_ONCE = 200
"""Machine-runs that are made together: small runs by the dozen, so that each costs little."""


class _Blocks:
    """Machine-runs in blocks of runs that follow one another; a block is made as a whole."""

    def __init__(self, walk: Walk) -> None:
        self._walk = walk
        self._made: dict[int, tuple[f.MachineRun, ...]] = {}

    @cached_property
    def _tasks(self) -> list[tuple[int, int]]:
        """The first task of each run, and how many it has."""
        run = self._walk.world.run[: self._walk.world.n[t.N_RUN]]
        return list(zip(run["tasks_from"].tolist(), run["tasks_n"].tolist(), strict=True))

    @cached_property
    def _edges(self) -> list[int]:
        """The first task of each block, and the one after all of them."""
        edges, end = [0], 0
        for first, count in self._tasks:
            if count and first + count - edges[-1] > MACHINES_AT_ONCE and end > edges[-1]:
                edges.append(end)
            end = max(end, first + count)
        return [*edges, end]

    def forget(self) -> None:
        """Give back all blocks."""
        self._made = {}

    def of(self, run: int) -> tuple[f.MachineRun, ...]:
        """The machine-runs of a run."""
        first, count = self._tasks[run]
        if not count:
            return ()
        block = bisect_right(self._edges, first) - 1
        begin, end = self._edges[block], self._edges[block + 1]
        made = self._made
        if block not in made:
            made[block] = tuple(_machines(self._walk, begin, end))
        return made[block][first - begin : first - begin + count]


def _machines(walk: Walk, first: int, last: int) -> Iterator[f.MachineRun]:
    """The machine-runs of runs that follow one another."""
    world, plan = walk.world, walk.plan
    task = world.task[first:last]
    columns = {name: task[name].tolist() for name in task.dtype.names or ()}
    member = world.member.take(task["member"])
    machines, disk_counts = member["machine"].tolist(), member["disks_n"].tolist()
    begin = columns["disks_from"][0] if last > first else 0
    end = columns["disks_from"][-1] + disk_counts[-1] if last > first else 0
    owners = world.transfer["task"][begin:end] - first
    squeezes = _Squeezes(walk, begin, end, owners, last - first)
    readings = _readings(walk, begin, end, first, last)
    accounts = _Accounts(walk, first, last)
    for k in range(last - first):
        queued, start = columns["queued"][k], columns["start"][k]
        until = columns["ended"][k] if isnan(start) else start
        yield f.MachineRun(
            machine=plan.machines[machines[k]].id,
            outcome=t.MACHINE_OUTCOMES[columns["outcome"][k]],
            kind=None if columns["kind"][k] < 0 else KINDS[columns["kind"][k]],
            queued=_instant(queued),
            start=_instant(start),
            moved=_instant(columns["moved"][k]),
            released=_instant(columns["released"][k]),
            ended=columns["ended"][k] + t.EPOCH,
            source_bytes=columns["source"][k],
            wire_bytes=columns["wire"][k],
            stored_bytes=columns["stored"][k],
            waiting_s=0.0 if isnan(queued) else until - queued,
            squeeze_s=squeezes[k],
            synthetic=bool(columns["synthetic"][k]),
            readings=tuple(readings[k]),
            account=accounts.lazily(k),
        )


class _Squeezes(Sequence[Mapping[str, float]]):
    """Seconds by squeeze of each of `count` owners of transfers; `owners` has each transfer's."""

    def __init__(self, walk: Walk, begin: int, end: int, owners: t.Ints, count: int) -> None:
        world = walk.world
        self._names = ("transport", *walk.layout.topology.resource_names)
        sums = np.zeros((count, len(self._names)))
        _add_squeezes(
            world.squeezed[begin:end], world.transfer[begin:end], world.candidate, world.use,
            owners, sums,
        )  # fmt: skip
        owner, number = np.nonzero(sums)
        self._begins: list[int] = np.searchsorted(owner, np.arange(count + 1)).tolist()
        self._numbers: list[int] = number.tolist()
        self._seconds: list[float] = sums[owner, number].tolist()

    def __len__(self) -> int:
        return len(self._begins) - 1

    def __getitem__(self, owner: Any) -> Any:
        return {
            self._names[self._numbers[i]]: self._seconds[i]
            for i in range(self._begins[owner], self._begins[owner + 1])
        }


@njit(cache=True)
def _add_squeezes(
    squeezed: t.Floats,
    transfer: t.Table,
    candidate: t.Table,
    use: t.Table,
    owners: t.Ints,
    sums: t.Floats,
) -> None:
    """Add up for how long owners were limited: by the streams' own ceiling, then by resource."""
    for i in range(len(squeezed)):
        begin = candidate[transfer[i].candidate].uses_from
        for column in range(squeezed.shape[1]):
            seconds = squeezed[i, column]
            if seconds != 0.0:
                number = use[begin + column - 1].resource + 1 if column else 0
                sums[owners[i], number] += seconds


def _readings(walk: Walk, begin: int, end: int, first: int, last: int) -> list[list[f.Reading]]:
    """How each disk of each machine-run was read, in the order in which they gave back slots."""
    world, plan, layout = walk.world, walk.plan, walk.layout
    found: list[list[f.Reading]] = [[] for _ in range(last - first)]
    transfer = world.transfer[begin:end]
    read = np.flatnonzero(~np.isnan(transfer["slots_from"]))
    read = read[np.argsort(transfer["slots_to"][read], kind="stable")]
    chosen = transfer.take(read)
    machines = world.member["machine"][world.task["member"][chosen["task"]]].tolist()
    for task, disk, way_number, machine in zip(
        (chosen["task"] - first).tolist(),
        chosen["disk"].tolist(),
        chosen["candidate"].tolist(),
        machines,
        strict=True,
    ):
        way = layout.ways[way_number]
        assert way is not None
        name = plan.machines[machine].disks[layout.disk_positions[disk]].id
        proxy = None if way.proxy is None else plan.proxies[way.proxy].id
        found[task].append(f.Reading(name, proxy, way.transport))
    return found


ANY_LENGTH = -1


class _Accounts:
    """Where the time of each machine-run of a run went."""

    def __init__(self, walk: Walk, first: int, last: int) -> None:
        world = walk.world
        self.walk = walk
        self.first = first
        self.task = world.task[first:last]
        run = world.run.take(self.task["run"])
        self.opens = run["opens"].tolist()
        self.prepare = world.member["prepare"][self.task["member"]].tolist()
        self.guest_after = world.job["guest_after"][run["job"]].tolist()
        work = world.work[: world.n[t.N_WORK]]
        rows = np.flatnonzero((work["stage"] == t.ST_TRANSFORM) & (work["task"] >= first))
        rows = rows[work["task"][rows] < last]
        self.transform = {int(work["task"][row]) - first: int(row) for row in rows}

    def lazily(self, k: int) -> f.Lazily[f.TimePart]:
        """The parts of one machine-run, made when they are looked at."""
        return f.Lazily(ANY_LENGTH, lambda: self.of(k))

    def of(self, k: int) -> tuple[f.TimePart, ...]:
        """The parts of one machine-run; none where it never reached the queue."""
        task = self.task[k]
        queued, start, ended = (float(task[name]) for name in ("queued", "start", "ended"))
        if isnan(queued):
            return ()
        parts: list[f.TimePart] = []
        until = ended if isnan(start) else start
        opened = min(until, max(queued, self.opens[k]))
        parts += [f.TimePart("window", opened - queued), f.TimePart("slot", until - opened)]
        if not isnan(start):
            parts += self._after_start(k, start, ended)
        return tuple(part for part in parts if part.seconds > 0)

    def _after_start(self, k: int, start: float, ended: float) -> list[f.TimePart]:
        task = self.task[k]
        prepared = min(start + self.prepare[k], ended)
        parts = [f.TimePart("preparing", prepared - start)]
        moved = ended if isnan(task["moved"]) else float(task["moved"])
        parts += self._moving(k, prepared, moved)
        released = float(task["released"])
        if isnan(released) or isnan(task["moved"]):
            return parts
        parts.append(f.TimePart("releasing", released - moved))
        at = released
        if k in self.transform:
            work = self.walk.world.work[self.transform[k]]
            started = ended if isnan(work["started"]) else float(work["started"])
            done = ended if isnan(work["ended"]) else float(work["ended"])
            parts.append(f.TimePart("transform slot", started - at))
            parts.append(f.TimePart("transforming", done - started))
            at = done
        steps = min(self.guest_after[k], ended - at)
        return [
            *parts,
            f.TimePart("guest steps", steps),
            f.TimePart("verifying", ended - at - steps),
        ]

    def _moving(self, k: int, prepared: float, moved: float) -> list[f.TimePart]:
        """From the preparation's end to the last disk's, along the disk that ends last."""
        walk, world = self.walk, self.walk.world
        if moved <= prepared:
            return []
        task = self.task[k]
        first = int(task["disks_from"])
        disks = world.transfer[first : first + int(world.member["disks_n"][task["member"]])]
        ends = np.where(np.isnan(disks["slots_from"]), np.inf, disks["slots_to"])
        last = int(np.argmax(ends))
        begins = float(disks["slots_from"][last])
        if isnan(begins):
            return [f.TimePart("disk slot", moved - prepared)]
        begins = max(begins, prepared)
        parts = [f.TimePart("disk slot", begins - prepared)]
        names = walk.layout.topology.resource_names
        uses_from = int(world.candidate["uses_from"][disks["candidate"][last]])
        row = world.squeezed[first + last]
        for column in np.flatnonzero(row).tolist():
            by = (
                "transport" if column == 0 else names[world.use["resource"][uses_from + column - 1]]
            )
            parts.append(f.TimePart("moving", float(row[column]), by))
        unlimited = (moved - begins) - float(row.sum())
        if unlimited > 1e-6:
            parts.append(f.TimePart("moving", unlimited))
        return parts


def _copies(walk: Walk, rows: npt.NDArray[np.int64]) -> Iterator[f.CopyRun]:
    """Copies that reached the queue: those that ended by their end, then the others."""
    world, plan = walk.world, walk.plan
    rows = rows[np.lexsort((rows, world.work["ended"][rows]))]
    work = world.work.take(rows)
    task = world.task.take(work["task"])
    run = world.run.take(task["run"])
    for job, machine, target, occurrence, queued, started, ended, wire in zip(
        run["job"].tolist(),
        world.member["machine"][task["member"]].tolist(),
        world.copy["repository"][work["copy_row"]].tolist(),
        (run["occurrence"] + t.EPOCH).tolist(),
        (work["queued"] + t.EPOCH).tolist(),
        _instants(work["started"]),
        _instants(work["ended"]),
        work["wire"].tolist(),
        strict=True,
    ):
        yield f.CopyRun(
            plan.jobs[job].id,
            plan.machines[machine].id,
            plan.repositories[target].id,
            occurrence,
            queued,
            started,
            ended,
            wire,
        )


def _moved_within(
    walk: Walk, rows: npt.NDArray[np.int64], start: float, end: float
) -> npt.NDArray[np.int64]:
    """Those of some copies that ended, of runs whose copies to a repository move in a span."""
    world = walk.world
    work = world.work.take(rows)
    started, ended = work["started"] + t.EPOCH, work["ended"] + t.EPOCH
    known = np.isfinite(ended)
    run, target = world.task["run"][work["task"]], world.copy["repository"][work["copy_row"]]
    groups, group = np.unique(run * len(walk.plan.repositories) + target, return_inverse=True)
    first, last = np.full(len(groups), np.inf), np.full(len(groups), -np.inf)
    np.minimum.at(first, group[known], started[known])
    np.maximum.at(last, group[known], ended[known])
    within = (first < end) & (last > start)
    return rows[known & within[group]]


# --- points, exposure -------------------------------------------------------------------------


def _history_rows(walk: Walk) -> t.Table:
    """All points that a walk ever had, as rows of HISTORY in the order in which they began."""
    world = walk.world
    point = world.point[: world.n[t.N_POINT]]
    began = point["since"] <= world.f[t.F_NOW] + SAME_INSTANT
    rows = np.zeros(len(point), HISTORY)
    chain = world.chain.take(point["chain"])
    for name in ("repository", "job", "machine"):
        rows[name] = chain[name]
    for name in ("kind", "usable", "made_on", "replaced"):
        rows[name] = point[name]
    rows["stored_bytes"] = point["stored"]
    for name in ("at", "exists_from", "since", "gone"):
        rows[name] = point[name] + t.EPOCH
    rows["gone"][~began] = rows["since"][~began]
    return rows


def _points(plan: Plan, saved: t.Table) -> Iterator[PointRecord]:
    order = np.lexsort(
        (np.arange(len(saved)), saved["at"], saved["machine"], saved["job"], saved["repository"])
    )
    places = np.full(len(saved) + 1, -1)
    places[order] = np.arange(len(saved))
    rows = saved[order]
    for name in ("at", "exists_from"):
        rows[name] += t.EPOCH
    return point_records(plan, rows, places[rows["base"]])


@njit(cache=True)
def _worst(
    begins: t.Ints, exists_from: t.Floats, at: t.Floats, from_: float, to: float
) -> t.Floats:
    """Worst exposure of each machine, NaN for none (section 9); points by `exists_from`, `at`."""
    machines = len(begins) - 1
    worst = np.full(machines, np.nan)
    for m in range(machines):
        newest = -np.inf
        for i in range(begins[m], begins[m + 1]):
            if exists_from[i] > to + SAME_INSTANT:
                break
            if at[i] <= newest:
                continue
            if newest == -np.inf:
                worst[m] = 0.0
            elif exists_from[i] >= from_ - SAME_INSTANT:
                worst[m] = max(worst[m], exists_from[i] - newest)
            newest = at[i]
        if newest > -np.inf:
            worst[m] = max(worst[m], to - newest)
    return worst


def worst_exposures(walk: Walk, start: float, end: float) -> t.Floats:
    """Worst exposure of each machine over [start, end], NaN for none (section 9)."""
    return _Newest(walk).worst_in(start, end)


class _Newest(f.NewestPoints):
    """The points that were the newest of each machine, made for those that are asked for."""

    def __init__(self, walk: Walk) -> None:
        self._found = walk.world.newest[: walk.world.n[t.N_NEWEST]]
        self._plan = walk.plan
        self._made: dict[str, Sequence[f.NewestPoint]] = {}

    @cached_property
    def _rows(self) -> t.Table:
        found = self._found
        order = np.lexsort((found["at"], found["exists_from"], found["machine"]))
        return found.take(order)

    @cached_property
    def _begins(self) -> t.Ints:
        machines = np.arange(len(self._plan.machines) + 1)
        return np.searchsorted(self._rows["machine"], machines).astype(np.int64)

    @cached_property
    def _position(self) -> dict[str, int]:
        return {machine.id: i for i, machine in enumerate(self._plan.machines)}

    def worst_in(self, start: float, end: float) -> t.Floats:
        return _worst(
            self._begins,
            np.ascontiguousarray(self._rows["exists_from"]),
            np.ascontiguousarray(self._rows["at"]),
            start - t.EPOCH,
            end - t.EPOCH,
        )

    def worst_between(self, start: float, end: float) -> Sequence[float | None]:
        return [None if isnan(value) else value for value in self.worst_in(start, end).tolist()]

    def __getitem__(self, machine: str) -> Sequence[f.NewestPoint]:
        if machine in self._made:
            return self._made[machine]
        i = self._position[machine]
        found: list[f.NewestPoint] = []
        for row in self._rows[self._begins[i] : self._begins[i + 1]].tolist():
            at = row[2] + t.EPOCH
            if not found or at > found[-1].at:
                found.append(f.NewestPoint(row[1] + t.EPOCH, at))
        self._made[machine] = tuple(found)
        return self._made[machine]

    def __iter__(self) -> Iterator[str]:
        return iter(self._position)

    def __len__(self) -> int:
        return len(self._position)


def _exposure(plan: Plan, worst: t.Floats) -> Iterator[f.Exposure]:
    for machine, seconds in zip(plan.machines, worst.tolist(), strict=True):
        value = None if np.isnan(seconds) else seconds
        yield f.Exposure(machine.id, value, rpo_met(machine, value))
