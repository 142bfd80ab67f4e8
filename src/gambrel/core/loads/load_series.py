"""Load over time on slot pools and resources, stacked by job, out of a forecast's records."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import Literal, NamedTuple

import numpy as np
import numpy.typing as npt
from numba import njit

from gambrel.core.constants import FULL_LOAD, NO_LOAD
from gambrel.core.model.link_capacity import capacity_steps
from gambrel.core.plan.objects import Plan
from gambrel.core.simulation.forecast import PURPOSES, Forecast, Purpose
from gambrel.core.simulation.load_records import Columns, LoadRecords, SpanRecords
from gambrel.core.units import MBIT, MIB

Step = tuple[float, float]
"""(instant, value from there on)"""

Floats = npt.NDArray[np.float64]
Unit = Literal["slots", "Mbit/s", "MiB/s"]


class LoadPart(NamedTuple):
    """What one job loads a pool or resource with, for one purpose, in steps as of a LoadSeries."""

    job: str
    purpose: Purpose
    steps: Floats


@dataclass(frozen=True, slots=True)
class Measure:
    """What the load of one pool or resource is measured in.

    Attributes:
        name: `slots:proxy:ID` and the like for a pool of slots, `link:ID` and the like for a rate.
        unit: all values of the load are in it.
        scale: slots or bytes/s that make one of it.
        capacity: None where there is no limit.
        pool, resource: number of the one or the other; the other is None.
    """

    name: str
    unit: Unit
    scale: float
    capacity: tuple[Step, ...] | None
    pool: int | None = None
    resource: int | None = None

    def most(self, start: float, end: float) -> float | None:
        """The largest capacity in force during a span."""
        if self.capacity is None or len(self.capacity) == 1:
            return None if self.capacity is None else self.capacity[0][1]
        ends = [at for at, _ in self.capacity[1:]] + [np.inf]
        in_force = zip(self.capacity, ends, strict=True)
        return max(value for (at, value), until in in_force if at < end and until > start)


class LoadSeries:
    """The load of one pool or resource over a span of time. What is not asked for is not made.

    Attributes:
        name, unit, capacity: as of its measure.
    """

    def __init__(
        self,
        plan: Plan,
        measure: Measure,
        used: tuple[Columns, Floats],
        waits: Columns,
        within: tuple[float, float],
    ) -> None:
        self.name = measure.name
        self.unit = measure.unit
        self.capacity = measure.capacity
        self._plan = plan
        self._rows, self._heights = used
        self._waits = waits
        self._within = within

    @cached_property
    def _changes(self) -> tuple[Floats, Floats, npt.NDArray[np.int64]]:
        return _changes(self._rows["start"], self._rows["end"], self._heights, self._within)

    @cached_property
    def _waiting_changes(self) -> tuple[Floats, Floats, npt.NDArray[np.int64]]:
        ones = np.ones(len(self._waits))
        return _changes(self._waits["start"], self._waits["end"], ones, self._within)

    @cached_property
    def parts(self) -> tuple[LoadPart, ...]:
        """The steps of what each job loads it with, one part for each purpose."""
        instants, changes, of = self._changes
        keys = (self._rows["job"] * _PURPOSES + self._rows["purpose"])[of]
        return tuple(
            LoadPart(
                self._plan.jobs[key // _PURPOSES].id if key >= 0 else "",
                PURPOSES[key % _PURPOSES],
                _steps(*_running_sums(instants[keys == key], changes[keys == key])),
            )
            for key in np.unique(keys).tolist()
        )

    @cached_property
    def _total_steps(self) -> tuple[Floats, Floats]:
        return _running_sums(*self._changes[:2])

    @cached_property
    def _waiting_steps(self) -> tuple[Floats, Floats]:
        return _running_sums(*self._waiting_changes[:2])

    @cached_property
    def total(self) -> Floats:
        """The steps of the load of all jobs together, in rows of an instant and the load then."""
        return _steps(*self._total_steps)

    @cached_property
    def waiting(self) -> Floats:
        """Steps of how many disks wait for a slot, or how many streams are squeezed here."""
        return _steps(*self._waiting_steps)

    @property
    def waited(self) -> tuple[float, float] | None:
        """When somebody began to wait or was first squeezed here, and when nobody was any more."""
        at, waiting = self._waiting_steps
        some = np.flatnonzero(waiting > 0)
        return (float(at[some[0]]), float(at[-1])) if len(some) else None

    @property
    def pressed_s(self) -> float:
        """Seconds with somebody waiting or squeezed and the total at the largest capacity."""
        if self.capacity is None:
            return 0.0
        limit = max(value for _, value in self.capacity)
        edges = np.union1d(self._total_steps[0], self._waiting_steps[0])
        lasts = np.diff(np.append(edges, self._within[1]))
        load, waiting = (_at(edges, *steps) for steps in (self._total_steps, self._waiting_steps))
        return float(lasts[(waiting > 0) & (load >= FULL_LOAD * limit)].sum())

    @cached_property
    def _carried(self) -> tuple[Floats, Floats]:
        """(instants, what the load comes to from the beginning up to there)."""
        at, load = self._total_steps
        return at, np.concatenate([[0.0], np.cumsum(load[:-1] * np.diff(at))]) if len(at) else at

    def mean(self, start: float, end: float) -> float:
        """The mean of the total load in a part of the span."""
        at, carried = self._carried
        if len(at) == 0 or end <= start:
            return 0.0
        # Its last step is to nothing, so there is no more to carry after it.
        before, after = np.interp((start, end), at, carried)
        return float(after - before) / (end - start)

    @cached_property
    def _peak_and_full(self) -> tuple[float, float]:
        instants, changes, _ = self._changes
        if len(instants) == 0:
            return 0.0, 0.0
        steps = np.array(self.capacity or ((self._within[0], np.inf),), np.float64)
        peak, full = _summary(instants, changes, steps, self._within[1])
        return peak, full

    @property
    def peak(self) -> float:
        """Largest total load."""
        return self._peak_and_full[0]

    @property
    def full_s(self) -> float:
        """Seconds with the total at the capacity."""
        return self._peak_and_full[1]

    @cached_property
    def waiting_jobs(self) -> tuple[str, ...]:
        """Ids of jobs that waited for a slot here or were squeezed here."""
        waiters = self._waiting_changes[2]
        return tuple(self._plan.jobs[j].id for j in np.unique(self._waits["job"][waiters]).tolist())


_PURPOSES = len(PURPOSES)


@njit(cache=True)
def _changes(
    start: Floats, end: Floats, height: Floats, within: tuple[float, float]
) -> tuple[Floats, Floats, npt.NDArray[np.int64]]:
    """Spans with heights as (instant, change, row of the span), cut to a span of time."""
    count = 0
    for i in range(len(start)):
        if min(end[i], within[1]) > max(start[i], within[0]) and height[i] != 0.0:
            count += 1
    instants, changes = np.empty(2 * count), np.empty(2 * count)
    rows = np.empty(2 * count, np.int64)
    k = 0
    for i in range(len(start)):
        if min(end[i], within[1]) > max(start[i], within[0]) and height[i] != 0.0:
            instants[k], instants[count + k] = max(start[i], within[0]), min(end[i], within[1])
            changes[k], changes[count + k] = height[i], -height[i]
            rows[k] = rows[count + k] = i
            k += 1
    return instants, changes, rows


@njit(cache=True)
def _summary(
    instants: Floats, changes: Floats, capacity: npt.NDArray[np.float64], end: float
) -> tuple[float, float]:
    """The largest sum of changes, and the seconds for which it is at the capacity."""
    order = np.argsort(instants, kind="mergesort")
    peak = full = load = 0.0
    step = 0
    for k in range(len(order)):
        at = instants[order[k]]
        load += changes[order[k]]
        until = instants[order[k + 1]] if k + 1 < len(order) else end
        if until <= at:
            continue
        peak = max(peak, load)
        while step + 1 < len(capacity) and capacity[step + 1, 0] <= at:
            step += 1
        begins, s = at, step
        while begins < until:
            ends = capacity[s + 1, 0] if s + 1 < len(capacity) else np.inf
            limit = capacity[s, 1]
            if limit > 0.0 and load >= FULL_LOAD * limit:
                full += min(ends, until) - begins
            begins = min(ends, until)
            s += 1
    return peak, full


@njit(cache=True)
def _running_sums(instants: Floats, changes: Floats) -> tuple[Floats, Floats]:
    """The running sum of changes at each instant at which it becomes another."""
    order = np.argsort(instants, kind="mergesort")
    at, sums = np.empty(len(order)), np.empty(len(order))
    n = 0
    total = before = 0.0
    for k in range(len(order)):
        instant = instants[order[k]]
        total += changes[order[k]]
        if k + 1 < len(order) and instants[order[k + 1]] == instant:
            continue
        value = 0.0 if abs(total) < NO_LOAD else total
        if n == 0 or abs(value - before) > NO_LOAD:
            at[n], sums[n] = instant, value
            n += 1
        before = value
    return at[:n], sums[:n]


def _steps(instants: Floats, values: Floats) -> Floats:
    return np.column_stack((instants, values))


def _at(edges: Floats, instants: Floats, values: Floats) -> Floats:
    """The value that holds at each of some instants; 0 before the first."""
    if len(instants) == 0:
        return np.zeros(len(edges))
    place = np.searchsorted(instants, edges, side="right") - 1
    return np.where(place < 0, 0.0, values[place])


def load_names(plan: Plan) -> list[str]:
    """All loads that a planner may ask for, in plan order."""
    names = [f"slots:proxy:{proxy.id}" for proxy in plan.proxies]
    names += [f"proxy:{p.id}" for p in plan.proxies if p.mib_per_s is not None]
    names += [f"link:{link.id}" for link in plan.links]
    for repository in plan.repositories:
        if repository.stream_slots is not None:
            names.append(f"slots:repository:{repository.id}")
        names.append(f"repository:{repository.id}")
    for datastore in plan.datastores:
        if datastore.task_slots is not None:
            names.append(f"slots:datastore:{datastore.id}")
        if datastore.read_mib_per_s is not None:
            names.append(f"datastore:{datastore.id}")
    return names


def shown_load_names(plan: Plan) -> list[str]:
    """All loads that a planner may look at: those of `load_names`, then those of hosts.

    A planner looks at the limits of a host among the paths. Searches and silhouettes leave them
    out: they judge a night by what several hosts share.
    """
    names = load_names(plan)
    for host in plan.hosts:
        if host.snapshot_slots is not None:
            names.append(f"slots:host:{host.id}")
        if host.nic_mbit_per_s is not None:
            names.append(f"host_nic:{host.id}")
        if host.backup_network is not None and host.backup_nic_mbit_per_s is not None:
            names.append(f"host_nic_2:{host.id}")
    return names


def _link_capacity(plan: Plan, ident: str, start: float, end: float) -> tuple[Step, ...]:
    link = next(link for link in plan.links if link.id == ident)
    zone = plan.site_by_id[link.between[0]].time_zone
    return tuple(step for step in capacity_steps(link, zone, start, end) if step[0] < end)


def measure_of(forecast: Forecast, name: str, start: float, end: float) -> Measure:
    """What the load called `name` is measured in, with its capacity over [start, end).

    Raises:
        KeyError: where the plan has no such load.
    """
    topology = forecast.topology
    if name.startswith("slots:"):
        pool = topology.pool(name.removeprefix("slots:"))
        slots = topology.slots.get(pool)
        capacity = None if slots is None else ((start, float(slots)),)
        return Measure(name, "slots", 1.0, capacity, pool=pool)
    resource = topology.resource(name)
    kind, _, ident = name.partition(":")
    mbit = kind in ("link", "host_nic", "host_nic_2", "server_nic", "server_nic_2", "job")
    unit = MBIT if mbit else MIB
    if kind == "link":
        steps: tuple[Step, ...] | None = _link_capacity(forecast.plan, ident, start, end)
    else:
        limit = topology.capacity.get(resource)
        steps = None if limit is None else ((start, limit / unit),)
    return Measure(name, "Mbit/s" if mbit else "MiB/s", unit, steps, resource=resource)


def load_series(
    forecast: Forecast,
    name: str,
    start: float,
    end: float,
    records: LoadRecords | SpanRecords | None = None,
) -> LoadSeries:
    """The load called `name` over [start, end).

    Args:
        records: of the forecast, where those of the span are at hand; else all of it, put in order
            for whoever asks next.

    Raises:
        KeyError: where the plan has no such load.
    """
    measure = measure_of(forecast, name, start, end)
    loads = forecast.loads if records is None else records
    if measure.pool is not None:
        holds, waits = loads.holds_of(measure.pool), loads.waits_of(measure.pool)
        used = (holds, np.ones(len(holds)))
    else:
        assert measure.resource is not None
        uses, waits = loads.uses_of(measure.resource), loads.squeezed_by(measure.resource)
        used = (uses, uses["rate"] / measure.scale)
    return LoadSeries(forecast.plan, measure, used, waits, (start, end))


def load_table(
    forecast: Forecast,
    names: Iterable[str],
    start: float,
    end: float,
    records: LoadRecords | SpanRecords | None = None,
) -> list[LoadSeries]:
    """Several loads over the same span; see `load_series`."""
    return [load_series(forecast, name, start, end, records) for name in names]


def fullest_pool(forecast: Forecast, job: int, start: float, end: float) -> str | None:
    """Of the pools that a job's disks wanted a slot of in a span, the one that was full longest.

    None where nothing was wanted, or where none was full at any time of the span.
    """
    topology, waits, holds = forecast.topology, forecast.loads.waits, forecast.loads.holds
    mine = (waits["job"] == job) & (waits["start"] < end) & (waits["end"] > start)
    pools = np.unique(waits["pool"][mine])
    if len(pools) == 0:
        return None
    row_of = np.full(len(topology.pool_names), -1)
    row_of[pools] = np.arange(len(pools))
    slots = np.array([topology.slots.get(pool, np.inf) for pool in pools.tolist()], np.float64)
    full = _seconds_full(holds["pool"], holds["start"], holds["end"], row_of, slots, (start, end))
    longest = int(np.argmax(full))
    return topology.pool_names[pools[longest]] if full[longest] > 0.0 else None


@njit(cache=True)
def _seconds_full(
    pool: npt.NDArray[np.int64],
    start: Floats,
    end: Floats,
    row_of: npt.NDArray[np.int64],
    slots: Floats,
    within: tuple[float, float],
) -> Floats:
    """For how long of a span all slots were held, by the row that each pool has (-1: none)."""
    chosen = np.empty(len(pool), np.int64)
    count = 0
    for i in range(len(pool)):
        if row_of[pool[i]] >= 0 and min(end[i], within[1]) > max(start[i], within[0]):
            chosen[count] = i
            count += 1
    at = np.empty(2 * count)
    for k in range(count):
        at[k], at[count + k] = max(start[chosen[k]], within[0]), min(end[chosen[k]], within[1])
    order = np.argsort(at, kind="mergesort")
    load, since, full = np.zeros(len(slots)), np.zeros(len(slots)), np.zeros(len(slots))
    for k in order:
        row = row_of[pool[chosen[k % count]]]
        if load[row] >= FULL_LOAD * slots[row]:
            full[row] += at[k] - since[row]
        load[row] += 1.0 if k < count else -1.0
        since[row] = at[k]
    return full
