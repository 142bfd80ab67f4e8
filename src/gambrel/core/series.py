"""Load over time on slot pools and resources, stacked by job, out of a forecast's records."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from math import inf
from typing import Literal
from zoneinfo import ZoneInfo

from gambrel.core.calendars import limit_intervals
from gambrel.core.forecast import Forecast, Purpose
from gambrel.core.plan import Plan
from gambrel.core.units import MBIT, MIB

Step = tuple[float, float]
"""(instant, value from there on)"""

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
        waiting: steps of how many disks wait for a slot, or how many streams are squeezed here.
        peak: largest total load.
        full_s: seconds with the total at the capacity.
        waiting_jobs: ids of jobs that waited for a slot here or were squeezed here.
    """

    name: str
    unit: Literal["slots", "Mbit/s", "MiB/s"]
    capacity: tuple[Step, ...] | None
    parts: tuple[LoadPart, ...]
    waiting: tuple[Step, ...]
    peak: float
    full_s: float
    waiting_jobs: tuple[str, ...]


PileKey = tuple[int, Purpose]
"""(position of the job, purpose)"""


class _Piles:
    """Adds up spans with heights into steps, one pile per key."""

    def __init__(self, start: float, end: float) -> None:
        self.start = start
        self.end = end
        self.changes: dict[PileKey, dict[float, float]] = {}

    def add(self, key: PileKey, start: float, end: float, height: float) -> None:
        start, end = max(start, self.start), min(end, self.end)
        if end > start and height:
            pile = self.changes.setdefault(key, {})
            pile[start] = pile.get(start, 0.0) + height
            pile[end] = pile.get(end, 0.0) - height

    def steps(self, key: PileKey) -> tuple[Step, ...]:
        return _running(self.changes.get(key, {}))

    def total(self) -> tuple[Step, ...]:
        merged: dict[float, float] = {}
        for pile in self.changes.values():
            for instant, change in pile.items():
                merged[instant] = merged.get(instant, 0.0) + change
        return _running(merged)


def _running(changes: Mapping[float, float]) -> tuple[Step, ...]:
    steps: list[Step] = []
    value = 0.0
    for instant in sorted(changes):
        value += changes[instant]
        if abs(value) < 1e-6:
            value = 0.0
        if not steps or steps[-1][1] != value:
            steps.append((instant, value))
    return tuple(steps)


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
    used, waiting = _Piles(start, end), _Piles(start, end)
    for hold in forecast.holds:
        if hold.pool == pool:
            used.add((hold.job, hold.purpose), hold.start, hold.end, 1.0)
    for wait in forecast.waits:
        if pool in wait.pools:
            waiting.add((wait.job, "read"), wait.start, wait.end, 1.0)
    slots = topology.slots.get(pool)
    capacity = None if slots is None else ((start, float(slots)),)
    return _series(forecast.plan, f"slots:{name}", "slots", capacity, used, waiting, end)


def _rate_series(forecast: Forecast, name: str, start: float, end: float) -> LoadSeries:
    topology = forecast.topology
    resource = topology.resource(name)
    kind, _, ident = name.partition(":")
    mbit = kind in ("link", "host_nic", "server_nic", "job")
    unit = MBIT if mbit else MIB
    used, waiting = _Piles(start, end), _Piles(start, end)
    for flow in forecast.flows:
        if flow.rate == inf or flow.end <= start or flow.start >= end:
            continue
        for number, use in flow.uses:
            if number == resource:
                used.add(
                    (flow.job, flow.purpose),
                    flow.start,
                    flow.end,
                    flow.rate * flow.count * use / unit,
                )
        if flow.squeeze == resource:
            waiting.add((flow.job, flow.purpose), flow.start, flow.end, float(flow.count))
    if kind == "link":
        capacity: tuple[Step, ...] | None = _link_capacity(forecast.plan, ident, start, end)
    else:
        limit = topology.capacity.get(resource)
        capacity = None if limit is None else ((start, limit / unit),)
    label: Literal["Mbit/s", "MiB/s"] = "Mbit/s" if mbit else "MiB/s"
    return _series(forecast.plan, name, label, capacity, used, waiting, end)


def _series(
    plan: Plan,
    name: str,
    unit: Literal["slots", "Mbit/s", "MiB/s"],
    capacity: tuple[Step, ...] | None,
    used: _Piles,
    waiting: _Piles,
    end: float,
) -> LoadSeries:
    total = used.total()
    return LoadSeries(
        name=name,
        unit=unit,
        capacity=capacity,
        parts=tuple(
            LoadPart(plan.jobs[job].id, purpose, used.steps((job, purpose)))
            for job, purpose in sorted(used.changes)
        ),
        waiting=waiting.total(),
        peak=max((value for _, value in total), default=0.0),
        full_s=_full_seconds(total, capacity, end),
        waiting_jobs=tuple(
            plan.jobs[job].id for job in sorted({job for job, _ in waiting.changes})
        ),
    )


def total_load(series: LoadSeries) -> tuple[Step, ...]:
    """The steps of the load of all jobs together."""
    changes: dict[float, float] = {}
    for part in series.parts:
        before = 0.0
        for instant, value in part.steps:
            changes[instant] = changes.get(instant, 0.0) + value - before
            before = value
    return _running(changes)


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
