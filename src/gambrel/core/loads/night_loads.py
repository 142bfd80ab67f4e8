"""What all loads of a plan come to in spans of time, such as the nights of a week.

One sweep over the records of a span, in order of time, serves all loads: a night of a large estate
has a million records, and is looked at anew while a bar is dragged.
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
from gambrel.core.simulation.forecast import PURPOSES, Forecast
from gambrel.core.simulation.load_records import Columns, SpanRecords

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
        spans: (start, end) of each.
        bins: parts of equal length that each of them is told in.

    Raises:
        KeyError: where the plan has no such load.
    """
    wanted = list(names)
    # Two at a time: the records of all nights of a large estate are too many to hold at once.
    with ThreadPoolExecutor(2) as beside:
        return list(
            beside.map(
                lambda span: loads_in_span(forecast, wanted, forecast.loads.within(*span), bins),
                spans,
            )
        )


def loads_in_span(
    forecast: Forecast, names: Iterable[str], records: SpanRecords, bins: int
) -> list[SpanLoad]:
    """What the loads of those names come to in the span of some records.

    Args:
        records: of the forecast.
        bins: parts of equal length that the span is told in.

    Raises:
        KeyError: where the plan has no such load.
    """
    start, end = records.start, records.end
    measures = [measure_of(forecast, name, start, end) for name in names]
    jobs = tuple(job.id for job in forecast.plan.jobs)
    used = _Table((start, end), bins, len(jobs), measures)
    wanted = _Table((start, end), bins, len(jobs), [None] * len(measures))

    def of_pools() -> None:
        row_of = _rows([m.pool for m in measures], len(forecast.topology.pool_names))
        for table, (rows, pools), of in (
            (used, records.holds, _readers),
            (wanted, records.waits, _jobs),
        ):
            ones = np.ones(len(pools.pool))
            table.add(_times(rows), of(rows), pools.first, pools.pool, row_of, ones)

    def of_resources() -> None:
        row_of = _rows([m.resource for m in measures], len(forecast.topology.resource_names))
        flows, uses = records.flows
        times = _times(flows)
        used.add(times, _readers(flows), uses.first, uses.resource, row_of, uses.rate)
        squeeze = np.where(flows["squeeze"] < 0, len(row_of) - 1, flows["squeeze"])
        each = np.arange(len(flows) + 1)
        wanted.add(times, _jobs(flows), each, squeeze, row_of, np.ones(len(flows)))

    # Every load is of a pool or of a resource, so neither touches the rows of the other.
    with ThreadPoolExecutor(1) as beside:
        pools_done = beside.submit(of_pools)
        of_resources()
        pools_done.result()
    return [
        SpanLoad(m.name, m.unit, m.most(start, end), *columns)
        for m, *columns in zip(
            measures, used.peaks.max(axis=1, initial=0.0).tolist(), used.full.tolist(),
            used.peaks, wanted.peaks, repeat(jobs), wanted.jobs, used.jobs,
        )
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


class _Table:
    """What records come to, by row.

    Attributes:
        peaks: the largest load in each part of the span.
        full: seconds at the capacity.
        jobs: which jobs have a record there.

    Args:
        span: its start and end.
        measures: of each row; None where loads are counted and have no limit.
    """

    def __init__(
        self,
        span: tuple[float, float],
        bins: int,
        jobs: int,
        measures: Sequence[Measure | None],
    ) -> None:
        self._span = span
        self._scale = np.array([1.0 if m is None else m.scale for m in measures])
        self._limits = _limits(measures)
        self.peaks, self.full = np.zeros((len(measures), bins)), np.zeros(len(measures))
        self.jobs = np.zeros((len(measures), jobs), np.bool_)

    def add(
        self,
        times: tuple[Floats, Floats, Ints, Ints],
        job: Ints,
        first: Ints,
        key: Columns,
        row_of: Ints,
        height: Floats,
    ) -> None:
        """Add records, see `_sweep`. No row is given records twice."""
        _sweep(
            *times, np.ascontiguousarray(job), first, np.ascontiguousarray(key, np.int32), row_of,
            height, self._scale, self._span, *self._limits, self.peaks, self.full, self.jobs,
        )  # fmt: skip


def _readers(records: Columns) -> Ints:
    """The job of each record that is for reading a disk, -1 for the others."""
    return np.where(records["purpose"] == PURPOSES.index("read"), records["job"], -1)


def _jobs(records: Columns) -> Ints:
    jobs: Ints = records["job"]
    return jobs


@njit(cache=True, nogil=True, error_model="numpy")
def _sweep(
    start: Floats,
    end: Floats,
    began: Ints,
    ended: Ints,
    job: Ints,
    first: Ints,
    key: Shorts,
    row_of: Ints,
    height: Floats,
    scale: Floats,
    within: tuple[float, float],
    limit_from: Ints,
    limits: Floats,
    peaks: Floats,
    full: Floats,
    jobs: npt.NDArray[np.bool_],
) -> None:
    """The largest load in each part of a span, the seconds at the capacity, and whose it is.

    Record i runs over [start[i], end[i]), which overlaps with the span, for a job (-1: for none
    that counts), and loads the rows of the keys first[i] up to first[i + 1], each by its height.
    `began` and `ended` are the orders of `start` and `end`; no record ends before it starts. Where
    both happen at one instant, what ends goes before what starts.
    """
    load, since = np.zeros(len(peaks)), np.full(len(peaks), within[0])
    # The capacity that each row has come to; it only goes on.
    step = limit_from[:-1].copy()
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
                        row, value, since[row], at, within, limit_from, limits, step, peaks, full
                    )  # fmt: skip
                since[row] = at
            load[row] += sign * height[k]
            if sign > 0.0 and job[record] >= 0:
                jobs[row, job[record]] = True


@njit(cache=True, nogil=True, error_model="numpy")
def _tell(
    row: int,
    load: float,
    at: float,
    until: float,
    within: tuple[float, float],
    limit_from: Ints,
    limits: Floats,
    step_of: Ints,
    peaks: Floats,
    full: Floats,
) -> None:
    """Note that a row has had a load over [at, until), after all that was noted of it before.

    `at` is in the span or before it.
    """
    step, last_step = step_of[row], limit_from[row + 1] - 1
    begins, ends = max(at, within[0]), min(until, within[1])
    if begins >= ends:
        return
    while step < last_step and limits[step + 1, 0] <= at:
        step += 1
    step_of[row] = step
    bins = peaks.shape[1]
    width = (within[1] - within[0]) / bins
    lowest = int((begins - within[0]) / width)
    highest = min(bins - 1, int((ends - within[0] - 1e-9) / width))
    for b in range(lowest, highest + 1):
        if peaks[row, b] < load:
            peaks[row, b] = load
    while begins < ends:
        while step < last_step and limits[step + 1, 0] <= begins:
            step += 1
        holds = min(ends, limits[step + 1, 0]) if step < last_step else ends
        if limits[step, 1] > 0.0 and load >= FULL * limits[step, 1]:
            full[row] += holds - begins
        begins = holds
