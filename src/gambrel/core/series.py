"""Load over time on slot pools and resources, stacked by job, out of a forecast's records."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal
from zoneinfo import ZoneInfo

import numpy as np
import numpy.typing as npt

from gambrel.core.calendars import limit_intervals
from gambrel.core.forecast import PURPOSES, Columns, Forecast, Purpose
from gambrel.core.plan import Plan
from gambrel.core.units import MBIT, MIB

Step = tuple[float, float]
"""(instant, value from there on)"""

Floats = npt.NDArray[np.float64]

NOTHING = 1e-6
"""A load of less than this, in the unit of the series, is none."""
FULL = 0.999
"""A load of this part of the capacity counts as full."""


@dataclass(frozen=True, slots=True)
class LoadPart:
    """What one job loads a pool or resource with, for one purpose."""

    job: str
    purpose: Purpose
    steps: tuple[Step, ...]


@dataclass(frozen=True, slots=True)
class LoadSeries:
    """The load of one pool or resource over a span of time.

    Attributes:
        name: `slots:proxy:ID` and the like for a pool of slots, `link:ID` and the like for a rate.
        unit: "slots", "Mbit/s" or "MiB/s"; all values are in it.
        capacity: None where there is no limit.
        parts: the steps of what each job loads it with, one part for each purpose.
        total: the steps of the load of all jobs together.
        waiting: steps of how many disks wait for a slot, or how many streams are squeezed here.
        peak: largest total load.
        full_s: seconds with the total at the capacity.
        waiting_jobs: ids of jobs that waited for a slot here or were squeezed here.
    """

    name: str
    unit: Literal["slots", "Mbit/s", "MiB/s"]
    capacity: tuple[Step, ...] | None
    parts: tuple[LoadPart, ...]
    total: tuple[Step, ...]
    waiting: tuple[Step, ...]
    peak: float
    full_s: float
    waiting_jobs: tuple[str, ...]


_PURPOSES = len(PURPOSES)


def _changes(
    start: Floats, end: Floats, height: Floats | float, within: tuple[float, float]
) -> tuple[Floats, Floats, npt.NDArray[np.int64]]:
    """Spans with heights as (instant, change, row of the span), cut to a span of time."""
    begins, ends = np.maximum(start, within[0]), np.minimum(end, within[1])
    rows = np.flatnonzero((ends > begins) & (np.broadcast_to(height, begins.shape) != 0.0))
    heights = np.broadcast_to(height, begins.shape)[rows]
    return (
        np.concatenate([begins[rows], ends[rows]]),
        np.concatenate([heights, -heights]),
        np.concatenate([rows, rows]),
    )


def _running(instants: Floats, changes: Floats) -> tuple[Step, ...]:
    """The running sum of changes, one step for each instant at which it becomes another."""
    if len(instants) == 0:
        return ()
    order = np.argsort(instants, kind="stable")
    instants, sums = instants[order], np.cumsum(changes[order])
    last = np.append(np.flatnonzero(np.diff(instants)), len(instants) - 1)
    instants, sums = instants[last], sums[last]
    sums[np.abs(sums) < NOTHING] = 0.0
    changed = np.append(True, np.abs(np.diff(sums)) > NOTHING)
    return tuple(zip(instants[changed].tolist(), sums[changed].tolist(), strict=True))


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


def _link_capacity(plan: Plan, ident: str, start: float, end: float) -> tuple[Step, ...]:
    link = next(link for link in plan.links if link.id == ident)
    zone = ZoneInfo(plan.site_by_id[link.between[0]].time_zone)
    limits = [
        (max(begins, start), min(ends, end), limit.mbit_per_s)
        for limit in link.limits
        for begins, ends in limit_intervals(limit, zone, start, end)
        if ends > start and begins < end
    ]
    edges = sorted({start, *(edge for b, e, _ in limits for edge in (b, e) if edge < end)})
    steps: list[Step] = []
    for edge in edges:
        in_force = [rate for begins, ends, rate in limits if begins <= edge < ends]
        value = min([link.mbit_per_s, *in_force])
        if not steps or steps[-1][1] != value:
            steps.append((edge, value))
    return tuple(steps)


def _capacity_at(capacity: Sequence[Step], instant: float) -> float:
    value = capacity[0][1]
    for begins, limit in capacity:
        if begins > instant:
            break
        value = limit
    return value


def _full_seconds(total: Sequence[Step], capacity: Sequence[Step] | None, end: float) -> float:
    if capacity is None:
        return 0.0
    edges = sorted({at for at, _ in total} | {at for at, _ in capacity} | {end})
    seconds, load, t = 0.0, 0.0, 0
    for at, following in itertools.pairwise(edges):
        while t < len(total) and total[t][0] <= at:
            load = total[t][1]
            t += 1
        limit = _capacity_at(capacity, at)
        if limit > 0 and load >= FULL * limit:
            seconds += following - at
    return seconds


def load_series(forecast: Forecast, name: str, start: float, end: float) -> LoadSeries:
    """The load called `name` over [start, end).

    Raises:
        KeyError: where the plan has no such load.
    """
    return load_table(forecast, [name], start, end)[0]


def load_table(
    forecast: Forecast, names: Iterable[str], start: float, end: float
) -> list[LoadSeries]:
    """Several loads over the same span; see `load_series`."""
    return [
        _pool_series(forecast, name.removeprefix("slots:"), start, end)
        if name.startswith("slots:")
        else _rate_series(forecast, name, start, end)
        for name in names
    ]


def _pool_series(forecast: Forecast, name: str, start: float, end: float) -> LoadSeries:
    topology = forecast.topology
    pool = topology.pool(name)
    holds, waits = forecast.loads.holds_of(pool), forecast.loads.waits_of(pool)
    slots = topology.slots.get(pool)
    capacity = None if slots is None else ((start, float(slots)),)
    return _series(
        forecast.plan,
        (f"slots:{name}", "slots"),
        capacity,
        (holds, np.ones(len(holds))),
        waits,
        (start, end),
    )


def _rate_series(forecast: Forecast, name: str, start: float, end: float) -> LoadSeries:
    topology = forecast.topology
    resource = topology.resource(name)
    kind, _, ident = name.partition(":")
    mbit = kind in ("link", "host_nic", "server_nic", "job")
    unit = MBIT if mbit else MIB
    uses = forecast.loads.uses_of(resource)
    uses = uses[np.isfinite(uses["rate"])]
    if kind == "link":
        capacity: tuple[Step, ...] | None = _link_capacity(forecast.plan, ident, start, end)
    else:
        limit = topology.capacity.get(resource)
        capacity = None if limit is None else ((start, limit / unit),)
    return _series(
        forecast.plan,
        (name, "Mbit/s" if mbit else "MiB/s"),
        capacity,
        (uses, uses["rate"] / unit),
        forecast.loads.squeezed_by(resource),
        (start, end),
    )


def _series(
    plan: Plan,
    label: tuple[str, Literal["slots", "Mbit/s", "MiB/s"]],
    capacity: tuple[Step, ...] | None,
    used: tuple[Columns, Floats],
    waits: Columns,
    within: tuple[float, float],
) -> LoadSeries:
    rows, heights = used
    instants, changes, of = _changes(rows["start"], rows["end"], heights, within)
    keys = (rows["job"] * _PURPOSES + rows["purpose"])[of]
    total = _running(instants, changes)
    waiting_at, waiting, waiters = _changes(waits["start"], waits["end"], 1.0, within)
    return LoadSeries(
        name=label[0],
        unit=label[1],
        capacity=capacity,
        parts=tuple(
            LoadPart(
                plan.jobs[key // _PURPOSES].id,
                PURPOSES[key % _PURPOSES],
                _running(instants[keys == key], changes[keys == key]),
            )
            for key in np.unique(keys).tolist()
        ),
        total=total,
        waiting=_running(waiting_at, waiting),
        peak=max((value for _, value in total), default=0.0),
        full_s=_full_seconds(total, capacity, within[1]),
        waiting_jobs=tuple(plan.jobs[job].id for job in np.unique(waits["job"][waiters]).tolist()),
    )


def tightest(series: Iterable[LoadSeries]) -> list[LoadSeries]:
    """Loads by trouble: longest full with somebody waiting first, then by how full at the peak."""

    def trouble(load: LoadSeries) -> tuple[float, float]:
        capacity = max((c for _, c in load.capacity), default=0.0) if load.capacity else 0.0
        pressed = load.full_s if load.waiting_jobs else 0.0
        return (-pressed, -(load.peak / capacity if capacity else 0.0))

    return sorted(series, key=trouble)


def binned_peaks(steps: Sequence[Step], start: float, end: float, bins: int) -> list[float]:
    """The largest value in each of `bins` equal parts of [start, end)."""
    width = (end - start) / bins
    peaks = [0.0] * bins
    for i, (instant, value) in enumerate(steps):
        until = steps[i + 1][0] if i + 1 < len(steps) else end
        first = max(0, int((instant - start) / width))
        last = min(bins - 1, int((until - start - 1e-9) / width))
        for b in range(first, last + 1):
            peaks[b] = max(peaks[b], value)
    return peaks
