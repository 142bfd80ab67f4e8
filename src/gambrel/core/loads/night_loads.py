"""What all loads of a plan come to in spans of time, such as the nights of a week.

One sweep over the records of a forecast, in order of time, serves all loads and all spans: a week
of a plan has tens of thousands of records, and is looked at anew while a bar is dragged.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import repeat
from typing import Literal, NamedTuple

import numpy as np
import numpy.typing as npt
from numba import njit

from gambrel.core.loads.load_series import FULL, NOTHING, Floats, Measure, measure_of
from gambrel.core.simulation.forecast import PURPOSES, Columns, Forecast

Ints = npt.NDArray[np.int64]
Shorts = npt.NDArray[np.int32]


class SpanLoad(NamedTuple):
    """What the load of a pool or resource comes to in one span of time.

    Attributes:
        name, unit: as of a LoadSeries.
        capacity: the largest in force; None where there is no limit.
        peak, full_s: as of a LoadSeries over that span.
        total: the largest load in each part of the span.
        waiting: the most that waited for a slot or were squeezed, in each part of the span.
        jobs: ids of all jobs of the plan.
        waiters: which of them waited for a slot here or were squeezed here.
        readers: which of them loaded it to read disks.
    """

    name: str
    unit: Literal["slots", "Mbit/s", "MiB/s"]
    capacity: float | None
    peak: float
    full_s: float
    total: Floats
    waiting: Floats
    jobs: tuple[str, ...]
    waiters: npt.NDArray[np.bool_]
    readers: npt.NDArray[np.bool_]

    @property
    def waiting_jobs(self) -> tuple[str, ...]:
        """Ids of the waiters."""
        return tuple(self.jobs[j] for j in np.flatnonzero(self.waiters).tolist())

    @property
    def reading_jobs(self) -> tuple[str, ...]:
        """Ids of the readers."""
        return tuple(self.jobs[j] for j in np.flatnonzero(self.readers).tolist())


def loads_in_spans(
    forecast: Forecast, names: Iterable[str], spans: Sequence[tuple[float, float]], bins: int
) -> list[list[SpanLoad]]:
    """For each of some spans, in turn, what the loads of those names come to in it.

    Args:
        spans: (start, end) of each; each begins where the one before it ends.
        bins: parts of equal length that each of them is told in.

    Raises:
        KeyError: where the plan has no such load.
    """
    if not spans:
        return []
    edges = np.array(spans, np.float64).reshape(-1, 2)
    measures = [measure_of(forecast, name, spans[0][0], spans[-1][1]) for name in names]
    jobs = tuple(job.id for job in forecast.plan.jobs)
    used = _Table(edges, bins, len(jobs), measures)
    wanted = _Table(edges, bins, len(jobs), [None] * len(measures))
    loads = forecast.loads

    def of_pools() -> None:
        row_of = _rows([m.pool for m in measures], len(forecast.topology.pool_names))
        holds, waits = loads.holds, loads.waits
        used.add(ALL, _times(holds), _each(holds), holds["pool"], row_of, _ones(holds),
                 _readers(holds))  # fmt: skip
        wanted.add(ALL, _times(waits), _each(waits), waits["pool"], row_of, _ones(waits),
                   waits["job"])  # fmt: skip

    def of_resources() -> None:
        row_of = _rows([m.resource for m in measures], len(forecast.topology.resource_names))
        for i, (start, end) in enumerate(spans):
            # By span, as all flows of a large estate's week are too many to hold at once.
            flows, uses = loads.flows_in(start, end)
            here, times = slice(i, i + 1), _times(flows)
            used.add(here, times, uses.first, uses.resource, row_of, uses.rate, _readers(flows))
            squeeze = np.where(flows["squeeze"] < 0, len(row_of) - 1, flows["squeeze"])
            wanted.add(here, times, _each(flows), squeeze, row_of, _ones(flows), flows["job"])

    # Every load is of a pool or of a resource, so neither touches the rows of the other.
    with ThreadPoolExecutor(1) as beside:
        pools = beside.submit(of_pools)
        of_resources()
        pools.result()
    peaks = used.peaks.max(axis=2, initial=0.0)
    return [
        [
            SpanLoad(m.name, m.unit, m.most(start, end), *columns)
            for m, *columns in zip(
                measures, peaks[:, i].tolist(), used.full[:, i].tolist(), used.peaks[:, i],
                wanted.peaks[:, i], repeat(jobs), wanted.jobs[:, i], used.jobs[:, i],
            )
        ]
        for i, (start, end) in enumerate(spans)
    ]  # fmt: skip


def tightest(loads: Iterable[SpanLoad]) -> list[SpanLoad]:
    """Loads by trouble: longest full with somebody waiting first, then by how full at the peak."""

    def trouble(load: SpanLoad) -> tuple[float, float]:
        pressed = load.full_s if load.full_s and load.waiters.any() else 0.0
        return (-pressed, -(load.peak / load.capacity if load.capacity else 0.0))

    return sorted(loads, key=trouble)


def _rows(numbers: Sequence[int | None], count: int) -> Ints:
    """The row of each pool or resource by its number, -1 for those not asked for and for none."""
    rows = np.full(count + 1, -1)
    for row, number in enumerate(numbers):
        if number is not None:
            rows[number] = row
    return rows


def _limits(measures: Sequence[Measure | None]) -> tuple[Ints, Floats]:
    """Where the capacities of each row begin in a table of (instant, capacity); infinite: none."""
    tables = [
        ((-np.inf, np.inf),) if m is None or m.capacity is None else m.capacity for m in measures
    ]
    begins = np.cumsum([0, *(len(table) for table in tables)])
    return begins, np.array([step for table in tables for step in table]).reshape(-1, 2)


def _times(records: Columns) -> tuple[Floats, Floats, Ints, Ints]:
    """Starts and ends, and the orders of both."""
    start, end = np.ascontiguousarray(records["start"]), np.ascontiguousarray(records["end"])
    # Records are nearly in order of time, which a stable sort makes use of.
    return start, end, np.argsort(start, kind="stable"), np.argsort(end, kind="stable")


ALL = slice(None)
"""Of the spans: all of them."""


class _Table:
    """What records come to, by row and span.

    Attributes:
        peaks: the largest load in each part of each span.
        full: seconds at the capacity.
        jobs: which jobs have a record there.

    Args:
        spans: (start, end) of each.
        measures: of each row; None where loads are counted and have no limit.
    """

    def __init__(
        self, spans: Floats, bins: int, jobs: int, measures: Sequence[Measure | None]
    ) -> None:
        self._spans = spans
        self._scale = np.array([1.0 if m is None else m.scale for m in measures])
        self._limits = _limits(measures)
        shape = (len(measures), len(spans))
        self.peaks, self.full = np.zeros((*shape, bins)), np.zeros(shape)
        self.jobs = np.zeros((*shape, jobs), np.bool_)

    def add(
        self,
        here: slice,
        times: tuple[Floats, Floats, Ints, Ints],
        first: Ints,
        key: Columns,
        row_of: Ints,
        height: Floats,
        job: Ints,
    ) -> None:
        """Add records to some of the spans, see `_sweep`; those of job -1 count for no job.

        No row is given records for a span twice.
        """
        keys = np.ascontiguousarray(key, np.int32)
        spans = np.ascontiguousarray(self._spans[here])
        peaks = np.zeros((len(self.peaks), len(spans), self.peaks.shape[2]))
        full = np.zeros(peaks.shape[:2])
        jobs = np.zeros((*full.shape, self.jobs.shape[2]), np.bool_)
        limits = self._limits
        _sweep(*times, first, keys, row_of, height, self._scale, spans, *limits, peaks, full)
        start, end = times[:2]
        _mark(start, end, np.ascontiguousarray(job), first, keys, row_of, spans, jobs)
        self.peaks[:, here] += peaks
        self.full[:, here] += full
        self.jobs[:, here] |= jobs


def _readers(records: Columns) -> Ints:
    """The job of each record that is for reading a disk, -1 for the others."""
    return np.where(records["purpose"] == PURPOSES.index("read"), records["job"], -1)


def _each(records: Columns) -> Ints:
    return np.arange(len(records) + 1)


def _ones(records: Columns) -> Floats:
    return np.ones(len(records))


@njit(cache=True, nogil=True, error_model="numpy")
def _sweep(
    start: Floats,
    end: Floats,
    began: Ints,
    ended: Ints,
    first: Ints,
    key: Shorts,
    row_of: Ints,
    height: Floats,
    scale: Floats,
    spans: Floats,
    limit_from: Ints,
    limits: Floats,
    peaks: Floats,
    full: Floats,
) -> None:
    """The largest load in each part of each span, and the seconds at the capacity, of each row.

    Record i runs over [start[i], end[i]) and loads the rows of the keys first[i] up to first[i +
    1], each by its height. `began` and `ended` are the orders of `start` and `end`; no record ends
    before it starts. Where both happen at one instant, what ends goes before what starts.
    """
    load, since = np.zeros(len(peaks)), np.full(len(peaks), spans[0, 0])
    # The span and the capacity that each row has come to; both only go on.
    span, step = np.zeros(len(peaks), np.int64), limit_from[:-1].copy()
    i = j = 0
    while j < len(ended):
        if i < len(began) and start[began[i]] < end[ended[j]]:
            record, at, sign = began[i], start[began[i]], 1.0
            i += 1
        else:
            record, at, sign = ended[j], end[ended[j]], -1.0
            j += 1
        if start[record] == end[record]:
            continue
        for k in range(first[record], first[record + 1]):
            row = row_of[key[k]]
            if row < 0:
                continue
            if at > since[row]:
                value = load[row] / scale[row]
                if value >= NOTHING:
                    _tell(
                        row, value, since[row], at, spans, limit_from, limits, span, step, peaks,
                        full,
                    )  # fmt: skip
                since[row] = at
            load[row] += sign * height[k]


@njit(cache=True, nogil=True, error_model="numpy")
def _tell(
    row: int,
    load: float,
    at: float,
    until: float,
    spans: Floats,
    limit_from: Ints,
    limits: Floats,
    span_of: Ints,
    step_of: Ints,
    peaks: Floats,
    full: Floats,
) -> None:
    """Note that a row has had a load over [at, until), after all that was noted of it before."""
    span, step = span_of[row], step_of[row]
    last_step = limit_from[row + 1] - 1
    bins = peaks.shape[2]
    while span < len(spans) and spans[span, 1] <= at:
        span += 1
    while step < last_step and limits[step + 1, 0] <= at:
        step += 1
    span_of[row], step_of[row] = span, step
    while span < len(spans) and spans[span, 0] < until:
        begins, ends = max(at, spans[span, 0]), min(until, spans[span, 1])
        width = (spans[span, 1] - spans[span, 0]) / bins
        lowest = int((begins - spans[span, 0]) / width)
        highest = min(bins - 1, int((ends - spans[span, 0] - 1e-9) / width))
        for b in range(lowest, highest + 1):
            if peaks[row, span, b] < load:
                peaks[row, span, b] = load
        while begins < ends:
            while step < last_step and limits[step + 1, 0] <= begins:
                step += 1
            holds = min(ends, limits[step + 1, 0]) if step < last_step else ends
            if limits[step, 1] > 0.0 and load >= FULL * limits[step, 1]:
                full[row, span] += holds - begins
            begins = holds
        span += 1


@njit(cache=True, nogil=True)
def _mark(
    start: Floats,
    end: Floats,
    job: Ints,
    first: Ints,
    key: Shorts,
    row_of: Ints,
    spans: Floats,
    found: npt.NDArray[np.bool_],
) -> None:
    """Note which jobs have a record in which span, by row; records of job -1 do not count."""
    for i in range(len(start)):
        if job[i] < 0:
            continue
        span = 0
        while span < len(spans) and spans[span, 1] <= start[i]:
            span += 1
        while span < len(spans) and spans[span, 0] < end[i]:
            if end[i] > start[i]:
                for k in range(first[i], first[i + 1]):
                    row = row_of[key[k]]
                    if row >= 0:
                        found[row, span, job[i]] = True
            span += 1
