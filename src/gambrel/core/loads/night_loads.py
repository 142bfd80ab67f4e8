"""What all loads of a plan come to in spans of time, such as the nights of a week.

One sweep over the records of a span, in order of time, serves all loads: a night of a large estate
has a million records, and every step of a drag asks for them again.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import repeat
from typing import Literal, NamedTuple

import numpy as np
import numpy.typing as npt

from gambrel.core.loads.load_series import Floats, Measure, measure_of
from gambrel.core.simulation.engine.sweeping import sweep_stretches
from gambrel.core.simulation.forecast import PURPOSES, Forecast
from gambrel.core.simulation.load_records import Columns, Pools, SpanRecords, SweepRows

Ints = npt.NDArray[np.int64]


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
        bins: into how many parts of equal length to divide each.

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
        bins: into how many parts of equal length to divide the span.

    Raises:
        KeyError: where the plan has no such load.
    """
    start, end = records.start, records.end
    measures = [measure_of(forecast, name, start, end) for name in names]
    jobs = tuple(job.id for job in forecast.plan.jobs)
    rows, count = _rows(bins, len(jobs), measures), len(measures)

    def of_pools() -> None:
        row_of = _row_of([m.pool for m in measures], len(forecast.topology.pool_names))
        held, wanted = records.holds, records.waits
        _sweep(*held, _readers(held[0]), records, row_of, rows)
        _sweep(*wanted, wanted[0]["job"], records, np.where(row_of < 0, -1, row_of + count), rows)

    def of_resources() -> None:
        row_of = _row_of([m.resource for m in measures], len(forecast.topology.resource_names))
        records.sweep_flows(row_of, rows)

    # Every load is of a pool or of a resource, so neither touches the rows of the other.
    with ThreadPoolExecutor(1) as beside:
        pools_done = beside.submit(of_pools)
        of_resources()
        pools_done.result()
    return [
        SpanLoad(m.name, m.unit, m.most(start, end), *columns)
        for m, *columns in zip(
            measures, rows.peaks[:count].max(axis=1, initial=0.0).tolist(),
            rows.full[:count].tolist(), rows.peaks[:count], rows.peaks[count:], repeat(jobs),
            rows.jobs[count:], rows.jobs[:count],
        )
    ]  # fmt: skip


def tightest(loads: Iterable[SpanLoad]) -> list[SpanLoad]:
    """Loads by trouble: longest full with somebody waiting first, then by how full at the peak."""

    def trouble(load: SpanLoad) -> tuple[float, float]:
        pressed = load.full_s if load.full_s and load.waiters.any() else 0.0
        return (-pressed, -(load.peak / load.capacity if load.capacity else 0.0))

    return sorted(loads, key=trouble)


def _row_of(numbers: Sequence[int | None], count: int) -> Ints:
    """The row of each pool or resource by its number, -1 for those not asked for."""
    rows = np.full(count, -1)
    for row, number in enumerate(numbers):
        if number is not None:
            rows[number] = row
    return rows


def _rows(bins: int, jobs: int, measures: Sequence[Measure]) -> SweepRows:
    """Rows of nothing yet. What is wanted is counted and has no limit."""
    none = ((-np.inf, np.inf),)
    tables = [*(m.capacity or none for m in measures), *(none for _ in measures)]
    return SweepRows(
        scale=np.array([*(m.scale for m in measures), *(1.0 for _ in measures)]),
        limit_from=np.cumsum([0, *(len(table) for table in tables)]),
        limits=np.array([step for table in tables for step in table], np.float64).reshape(-1, 2),
        peaks=np.zeros((len(tables), bins)),
        full=np.zeros(len(tables)),
        jobs=np.zeros((len(tables), jobs), np.bool_),
    )


def _sweep(
    stretches: Columns,
    pools: Pools,
    job: Ints,
    span: SpanRecords,
    row_of: Ints,
    rows: SweepRows,
) -> None:
    """Add stretches of a span to the rows of their pools."""
    start = np.ascontiguousarray(stretches["start"])
    end = np.ascontiguousarray(stretches["end"])
    # Records are nearly in order of time, which a stable sort makes use of.
    orders = np.argsort(start, kind="stable"), np.argsort(end, kind="stable")
    job = np.ascontiguousarray(job)
    sweep_stretches(
        start, end, *orders, job, pools.first, pools.pool, span.start, span.end, row_of, rows.scale,
        rows.limit_from, rows.limits, rows.peaks, rows.full, rows.jobs,
    )  # fmt: skip


def _readers(records: Columns) -> Ints:
    """The job of each record that is for reading a disk, -1 for the others."""
    return np.where(records["purpose"] == PURPOSES.index("read"), records["job"], -1)
