"""What was used when, as columns: who held a slot, who wanted one, what flowed.

A night of a large estate has hundreds of thousands of records, and a disk that waits may wait for a
slot of any of a dozen proxies. So there are two ways to them: `SpanRecords`, which looks at what
overlaps with a span and has each record once, with all that it is of; and `LoadRecords` for whoever
looks at many pools and resources of a whole forecast.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any, NamedTuple, Protocol, TypeVar

import numpy as np
import numpy.typing as npt

Columns = npt.NDArray[Any]
"""Records as rows of a structured array: its fields are its columns."""

_SPAN = [("start", np.float64), ("end", np.float64)]
HOLD = np.dtype([("pool", np.int64), ("job", np.int64), ("purpose", np.int64), *_SPAN])
WAIT = np.dtype([("pool", np.int64), ("job", np.int64), *_SPAN])
STRETCH = np.dtype([("job", np.int64), ("purpose", np.int64), *_SPAN])
"""A hold or a wait without its pool."""
FLOW = np.dtype(
    [("job", np.int64), ("purpose", np.int64), ("squeeze", np.int64), *_SPAN, ("rate", np.float64)]
)
"""`rate` in source bytes/s of one stream; `squeeze`: number of a resource, or below 0."""
USE = np.dtype([("job", np.int64), ("purpose", np.int64), *_SPAN, ("rate", np.float64)])
"""`rate` in bytes/s of the resource that it is about."""

T = TypeVar("T")


class Pools(NamedTuple):
    """Which pools rows are of: row i has the entries first[i] up to first[i + 1] of `pool`."""

    first: npt.NDArray[np.int64]
    pool: npt.NDArray[np.int32]


class Uses(NamedTuple):
    """What flows used of resources: flow i has the entries first[i] up to first[i + 1].

    Attributes:
        resource: number of a resource.
        rate: bytes/s of it; what moved in no time at all is not among the entries.
    """

    first: npt.NDArray[np.int64]
    resource: npt.NDArray[np.int32]
    rate: npt.NDArray[np.float64]


class SweepRows(NamedTuple):
    """What loads come to in a span: a row of each for what is used, then one for what is wanted.

    Attributes:
        scale: what a load is divided by.
        limit_from: where the capacities of each row begin in `limits`; one more entry at the end.
        limits: (from when on, capacity); infinite: none.
        peaks: the largest load in each part of the span, the parts being of equal length.
        full: seconds at the capacity.
        jobs: which jobs, by position, have a record there.
    """

    scale: npt.NDArray[np.float64]
    limit_from: npt.NDArray[np.int64]
    limits: npt.NDArray[np.float64]
    peaks: npt.NDArray[np.float64]
    full: npt.NDArray[np.float64]
    jobs: npt.NDArray[np.bool_]


class LoadSource(Protocol):
    """Makes the records of loads. Those of a span [start, end) are all that overlap with it."""

    def holds_in(self, start: float, end: float) -> tuple[Columns, Pools]:
        """Rows of STRETCH, one for each time that slots were held together, and their pools."""
        ...

    def waits_in(self, start: float, end: float) -> tuple[Columns, Pools]:
        """Rows of STRETCH, one for each time that slots were wanted, and the pools in question."""
        ...

    def flows_in(self, start: float, end: float) -> tuple[Columns, Uses]:
        """Rows of FLOW for all that flowed, and what they used."""
        ...

    def uses_in(self, resource: int, start: float, end: float) -> Columns:
        """Rows of USE for a resource."""
        ...

    def squeezed_in(self, resource: int, start: float, end: float) -> Columns:
        """Rows of FLOW for what a resource limited."""
        ...

    def sweep_flows(
        self, start: float, end: float, row_of: npt.NDArray[np.int64], rows: SweepRows
    ) -> None:
        """Add all that flowed to the rows of what it used, and of what limited it.

        Args:
            row_of: the row of each resource by its number, -1 for those without one.
            rows: the jobs noted of what was used are those that read disks.
        """
        ...

    def uses_of(self, resource: int) -> Columns:
        """Rows of USE for a resource."""
        ...

    def squeezed_by(self, resource: int) -> Columns:
        """Rows of FLOW for what a resource limited."""
        ...

    def nbytes(self) -> int:
        """The bytes that it keeps to make them."""
        ...

    def forget(self) -> None:
        """Give those back."""
        ...


def by_pool(rows: Columns, pools: Pools, dtype: np.dtype[Any]) -> Columns:
    """One row of HOLD or WAIT for each pool of each row, in their order."""
    found = np.empty(len(pools.pool), dtype)
    counts = np.diff(pools.first)
    for name in dtype.names or ():
        found[name] = pools.pool if name == "pool" else np.repeat(rows[name], counts)
    return found


class SpanRecords:
    """The records of one span, for as long as this is held; each kind is made where it is needed.

    Threads may share one.

    Attributes:
        start, end: the span.
    """

    def __init__(self, source: LoadSource, start: float, end: float) -> None:
        self._source = source
        self.start = start
        self.end = end
        self._made: dict[str, Any] = {}

    @property
    def holds(self) -> tuple[Columns, Pools]:
        return self._once("holds", self._source.holds_in)

    @property
    def waits(self) -> tuple[Columns, Pools]:
        return self._once("waits", self._source.waits_in)

    def _once(self, what: str, make: Callable[[float, float], T]) -> T:
        if what not in self._made:
            self._made[what] = make(self.start, self.end)
        found: T = self._made[what]
        return found

    def holds_of(self, pool: int) -> Columns:
        """The slots of a pool that were held, as rows of HOLD."""
        return _of_pool(*self.holds, pool, HOLD)

    def waits_of(self, pool: int) -> Columns:
        """Who wanted a slot of a pool, as rows of WAIT."""
        return _of_pool(*self.waits, pool, WAIT)

    def uses_of(self, resource: int) -> Columns:
        """What was used of a resource, as rows of USE."""
        return self._source.uses_in(resource, self.start, self.end)

    def squeezed_by(self, resource: int) -> Columns:
        """The flows that a resource limited, as rows of FLOW."""
        return self._source.squeezed_in(resource, self.start, self.end)

    def sweep_flows(self, row_of: npt.NDArray[np.int64], rows: SweepRows) -> None:
        """See LoadSource."""
        self._source.sweep_flows(self.start, self.end, row_of, rows)


def _owners(first: npt.NDArray[np.int64], places: npt.NDArray[np.intp]) -> npt.NDArray[np.intp]:
    """The rows that entries belong to."""
    return np.searchsorted(first, places, side="right") - 1


def _of_pool(rows: Columns, pools: Pools, pool: int, dtype: np.dtype[Any]) -> Columns:
    places = np.flatnonzero(pools.pool == pool)
    mine = rows[_owners(pools.first, places)]
    found = np.empty(len(mine), dtype)
    for name in dtype.names or ():
        found[name] = pool if name == "pool" else mine[name]
    return found


class LoadRecords:
    """What was used when, as columns: who held a slot, who wanted one, what flowed.

    Made when it is first looked into.

    Attributes:
        holds: rows of HOLD, one for each slot held.
        waits: rows of WAIT, one for each pool that a task would have taken a slot of.
    """

    def __init__(self, source: LoadSource) -> None:
        self._source = source
        self._made: dict[tuple[str, int], Any] = {}

    @property
    def holds(self) -> Columns:
        return self._once("holds", ALL, lambda: by_pool(*self._source.holds_in(*EVER), HOLD))

    @property
    def waits(self) -> Columns:
        return self._once("waits", ALL, lambda: by_pool(*self._source.waits_in(*EVER), WAIT))

    def within(self, start: float, end: float) -> SpanRecords:
        """The records that overlap with a span [start, end); they are not kept here."""
        return SpanRecords(self._source, start, end)

    def forget(self) -> None:
        """Give the memory of all columns back; they are made anew where they are asked for."""
        self._made = {}
        self._source.forget()

    def nbytes(self) -> int:
        """The bytes of the columns that are made, about."""
        return self._source.nbytes() + sum(_nbytes(value) for value in list(self._made.values()))

    def flows_in(self, start: float = -np.inf, end: float = np.inf) -> tuple[Columns, Uses]:
        """All stretches of one rate within a span, as rows of FLOW, and what each of them used.

        There may be millions of them, so they are not kept.
        """
        return self._source.flows_in(start, end)

    def holds_of(self, pool: int) -> Columns:
        """The slots of a pool that were held."""
        return self._once("holds", pool, lambda: self.holds.take(self._holds_by_pool.of(pool)))

    def waits_of(self, pool: int) -> Columns:
        """Who wanted a slot of a pool."""
        return self._once("waits", pool, lambda: self.waits.take(self._waits_by_pool.of(pool)))

    def uses_of(self, resource: int) -> Columns:
        """What was used of a resource, as rows of USE."""
        return self._once("uses", resource, lambda: self._source.uses_of(resource))

    def squeezed_by(self, resource: int) -> Columns:
        """The flows that a resource limited, as rows of FLOW."""
        return self._once("squeezed", resource, lambda: self._source.squeezed_by(resource))

    def _once(self, what: str, number: int, make: Callable[[], T]) -> T:
        """What is asked for again and again, by findings above all, made once."""
        made = self._made
        known: T | None = made.get((what, number))
        if known is None:
            known = made.setdefault((what, number), make())
        return known

    @property
    def _holds_by_pool(self) -> _Places:
        return self._once("holds in order", ALL, lambda: _Places(self.holds["pool"]))

    @property
    def _waits_by_pool(self) -> _Places:
        return self._once("waits in order", ALL, lambda: _Places(self.waits["pool"]))


EVER = (-np.inf, np.inf)
ALL = -1
"""Instead of the number of a pool or resource: of all of them."""


def _nbytes(value: Any) -> int:
    if isinstance(value, np.ndarray):
        return value.nbytes
    if isinstance(value, _Places):
        return value.nbytes()
    return sum(map(_nbytes, value)) if isinstance(value, tuple) else 0


SOUGHT_ONE_BY_ONE = 4
"""So many values of a column are looked for through all of it, before it is put in order."""


class _Places:
    """Where each value of a column stands, in the order of the column."""

    def __init__(self, column: npt.NDArray[np.int64]) -> None:
        self._column = column
        self._sought = 0

    def nbytes(self) -> int:
        """The bytes of the order, where it is made."""
        made = self.__dict__.get("_sorted", ())
        return sum(array.nbytes for array in made)

    @cached_property
    def _sorted(self) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
        """The places in order of their values, and the values."""
        column = self._column
        # Short integers are sorted by counting, which takes a fraction of the time.
        short = len(column) and column.min() >= -(2**15) and column.max() < 2**15
        order = np.argsort(column.astype(np.int16) if short else column, kind="stable")
        return order, column[order]

    def of(self, value: int) -> npt.NDArray[np.int64]:
        """The places of a value."""
        self._sought += 1
        if self._sought <= SOUGHT_ONE_BY_ONE:
            return np.flatnonzero(self._column == value)
        order, values = self._sorted
        first = np.searchsorted(values, value)
        return order[first : np.searchsorted(values, value, "right")]


class _NoLoads:
    """Where no records of loads are kept."""

    def holds_in(self, start: float, end: float) -> tuple[Columns, Pools]:  # noqa: ARG002
        return np.zeros(0, STRETCH), Pools(np.zeros(1, np.int64), np.zeros(0, np.int32))

    waits_in = holds_in

    def flows_in(self, start: float, end: float) -> tuple[Columns, Uses]:  # noqa: ARG002
        none = Uses(np.zeros(1, np.int64), np.zeros(0, np.int32), np.zeros(0))
        return np.zeros(0, FLOW), none

    def uses_in(self, resource: int, start: float, end: float) -> Columns:  # noqa: ARG002
        return np.zeros(0, USE)

    def squeezed_in(self, resource: int, start: float, end: float) -> Columns:  # noqa: ARG002
        return np.zeros(0, FLOW)

    def sweep_flows(
        self, start: float, end: float, row_of: npt.NDArray[np.int64], rows: SweepRows
    ) -> None:
        pass

    def uses_of(self, resource: int) -> Columns:  # noqa: ARG002
        return np.zeros(0, USE)

    def squeezed_by(self, resource: int) -> Columns:  # noqa: ARG002
        return np.zeros(0, FLOW)

    def nbytes(self) -> int:
        return 0

    def forget(self) -> None:
        pass


NO_LOADS = LoadRecords(_NoLoads())
