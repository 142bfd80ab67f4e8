"""Who held and wanted slots, and what flowed, out of the arrays of a finished walk."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
from numba import njit

from gambrel.core.simulation import forecast as f
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.walk import Walk
from gambrel.core.simulation.engine.world import Handle, open_world, view_of
from gambrel.core.units import SAME_INSTANT

Numbers = npt.NDArray[np.int32]
Places = npt.NDArray[np.int16]

READ, COPY, REWRITE, RESTORE = range(4)
"""Places in `gambrel.core.simulation.forecast.PURPOSES`."""
EPOCH = t.EPOCH
N_DISKS, N_FLOW, N_TASK, N_TRANSFER, N_WORK = t.N_DISKS, t.N_FLOW, t.N_TASK, t.N_TRANSFER, t.N_WORK
ST_COPY, F_NOW = t.ST_COPY, t.F_NOW
N_FIRST_RESTORE, N_RESTORES_DUE = t.N_FIRST_RESTORE, t.N_RESTORES_DUE


class LoadRows:
    """The records of a walk; each kind is made when it is asked for.

    In a week of 10,000 machines the rates of streams change five million times, and each stream
    uses several resources. So this keeps which flows used each resource, not how much they used.
    """

    def __init__(self, walk: Walk) -> None:
        # The struct is in the memory of the walk, which is therefore held.
        self._walk = walk
        self._handle = open_world(walk.world)

        self._order: _FlowsByResource | None = None

    def holds(self) -> t.Table:
        """Rows of HOLD."""
        return self._filled(hold_rows, f.HOLD)

    def waits(self) -> t.Table:
        """Rows of WAIT."""
        return self._filled(wait_rows, f.WAIT)

    def _filled(self, fill: Any, dtype: np.dtype[Any]) -> t.Table:
        """The rows of a kind, in a table that is made anew if it turns out too short."""
        n = self._walk.world.n
        guess = 5 * (n[t.N_TRANSFER] + n[t.N_WORK]) + n[t.N_RESTORES_DUE]
        rows = np.empty(int(guess), dtype)
        count = fill(self._handle, rows)
        if count > len(rows):
            rows = np.empty(count, dtype)
            fill(self._handle, rows)
        return rows[:count].copy()

    def flows_in(self, start: float, end: float) -> tuple[t.Table, f.Uses]:
        """Rows of FLOW for all that flowed within [start, end), and what they used."""
        which = flows_within(self._handle, start - EPOCH, end - EPOCH)
        rows = np.empty(len(which), f.FLOW)
        return rows, f.Uses(*flow_rows(self._handle, which, rows))

    def uses_of(self, resource: int) -> t.Table:
        """Rows of USE for a resource."""
        order = self._in_order()
        begin, end = order.uses_from[resource : resource + 2]
        rows = np.empty(end - begin, f.USE)
        use_rows(self._handle, order.flow[begin:end], order.place[begin:end], rows)
        return rows

    def squeezed_by(self, resource: int) -> t.Table:
        """Rows of FLOW for what a resource limited."""
        order = self._in_order()
        begin, end = order.squeezes_from[resource : resource + 2]
        rows = np.empty(end - begin, f.FLOW)
        flow_rows(self._handle, order.squeezed[begin:end], rows)
        return rows

    def nbytes(self) -> int:
        """The bytes of what is kept to find the rows of a resource."""
        order = self._order
        return 0 if order is None else sum(array.nbytes for array in order)

    def forget(self) -> None:
        """Give back what is kept to find the rows of a resource."""
        self._order = None

    def _in_order(self) -> _FlowsByResource:
        order = self._order
        if order is None:
            resources = len(self._walk.world.capacity)
            self._order = order = _FlowsByResource(*flows_by_resource(self._handle, resources))
        return order


class _FlowsByResource(NamedTuple):
    """Which flows used each resource, and which it limited, each in their order.

    Attributes:
        uses_from: where the entries of each resource begin in `flow` and `place`.
        flow: number of a flow.
        place: which of the uses of its stream is of the resource.
        squeezes_from: where the entries of each resource begin in `squeezed`.
        squeezed: number of a flow.
    """

    uses_from: t.Ints
    flow: Numbers
    place: Places
    squeezes_from: t.Ints
    squeezed: Numbers


@njit(cache=True, nogil=True)
def _job_of(w: t.World, task: int) -> int:
    return w.run[w.task[task].run].job


@njit(cache=True, nogil=True)
def _purpose(w: t.World, transfer: int) -> int:
    if transfer >= w.n[N_FIRST_RESTORE]:
        return RESTORE
    work = transfer - w.n[N_DISKS]
    if work < 0:
        return READ
    return COPY if w.work[work].stage == ST_COPY else REWRITE


@njit(cache=True, nogil=True)
def _written(
    rows: t.Table, n: int, pool: int, job: int, start: float, end: float, least: float
) -> int:
    """Write a row for a pool that has a limit, if there is room; how many rows there are then.

    What is not longer than `least` seconds is left out.
    """
    if pool < 0 or not end > start + least:
        return n
    if n < len(rows):
        row = rows[n]
        row.pool, row.job = pool, job
        row.start, row.end = start + EPOCH, end + EPOCH
    return n + 1


# --- slots that were held ---------------------------------------------------------------------


@njit(cache=True, nogil=True)
def _held(
    rows: t.Table, n: int, pool: int, job: int, purpose: int, start: float, end: float
) -> int:
    after = _written(rows, n, pool, job, start, end, 0.0)
    if n < min(after, len(rows)):
        rows[n].purpose = purpose
    return after


@njit(cache=True, nogil=True)
def _hold_rows(w: t.World, rows: t.Table) -> int:
    n = 0
    for i in range(w.n[N_TRANSFER]):
        stream = w.transfer[i]
        if np.isnan(stream.slots_from):
            continue
        klass, job = w.klass[w.disk[stream.disk].klass], _job_of(w, stream.task)
        proxy = w.candidate[stream.candidate].proxy
        for pool in (klass.pool_a, klass.pool_b, klass.pool_c, proxy):
            n = _held(rows, n, pool, job, READ, stream.slots_from, stream.slots_to)
    for k in range(w.n[N_WORK]):
        stream = w.transfer[w.n[N_DISKS] + k]
        if np.isnan(stream.slots_from):
            continue
        queue, job = w.queue[w.work[k].klass], _job_of(w, stream.task)
        purpose = _purpose(w, w.n[N_DISKS] + k)
        for pool in (queue.pool_a, queue.pool_b):
            n = _held(rows, n, pool, job, purpose, stream.slots_from, stream.slots_to)
    for i in range(w.n[N_TASK]):
        task = w.task[i]
        if not np.isnan(task.start):
            pool = w.member[task.member].host_pool
            n = _held(rows, n, pool, _job_of(w, i), READ, task.start, task.released)
    for r in range(w.n[N_RESTORES_DUE]):
        restore = w.restore[r]
        if not np.isnan(restore.start):
            pool = w.option[restore.option].pool
            until = w.f[F_NOW] if np.isnan(restore.whole) else restore.whole
            n = _held(rows, n, pool, -1, RESTORE, restore.start, until)
    return n


@njit(cache=True, nogil=True)
def hold_rows(world: Handle, rows: t.Table) -> int:
    """Write rows of HOLD, one for each slot of a limited pool held; how many there are.

    What there is no room for is counted and not written.
    """
    return _hold_rows(view_of(world), rows)


# --- who wanted one ---------------------------------------------------------------------------


@njit(cache=True, nogil=True)
def _wanted(rows: t.Table, n: int, pool: int, job: int, start: float, end: float) -> int:
    return _written(rows, n, pool, job, start, end, SAME_INSTANT)


@njit(cache=True, nogil=True)
def _wanted_by_disk(w: t.World, rows: t.Table, n: int, i: int, start: float, end: float) -> int:
    """A disk waits for every pool that it needs, and for all proxies that might have read it."""
    stream = w.transfer[i]
    disk, job = w.disk[stream.disk], _job_of(w, stream.task)
    klass = w.klass[disk.klass]
    for pool in (klass.pool_a, klass.pool_b, klass.pool_c):
        n = _wanted(rows, n, pool, job, start, end)
    for way in range(disk.candidates_from, disk.candidates_from + disk.candidates_n):
        n = _wanted(rows, n, w.candidate[way].proxy, job, start, end)
    return n


@njit(cache=True, nogil=True)
def _wait_rows(w: t.World, rows: t.Table) -> int:
    n = 0
    for i in range(w.n[N_TRANSFER]):
        stream = w.transfer[i]
        task = w.task[stream.task]
        run = w.run[task.run]
        if not np.isnan(task.queued):
            # Before the machine starts; a window that is not open yet is nobody's slot.
            since = max(task.queued, run.opens)
            until = task.ended if np.isnan(task.start) else task.start
            host = w.klass[w.disk[stream.disk].klass].host_pool
            n = _wanted(rows, n, host, run.job, since, until)
            n = _wanted_by_disk(w, rows, n, i, since, until)
        if not np.isnan(stream.wanted):
            # After it: a disk that stood in the queue by itself.
            until = task.ended if np.isnan(stream.slots_from) else stream.slots_from
            n = _wanted_by_disk(w, rows, n, i, stream.wanted, until)
    for k in range(w.n[N_WORK]):
        work = w.work[k]
        if not np.isnan(work.started):
            queue, job = w.queue[work.klass], _job_of(w, work.task)
            for pool in (queue.pool_a, queue.pool_b):
                n = _wanted(rows, n, pool, job, work.queued, work.started)
    return n


@njit(cache=True, nogil=True)
def wait_rows(world: Handle, rows: t.Table) -> int:
    """Write rows of WAIT, one for each limited pool that was waited for; how many there are.

    What there is no room for is counted and not written.
    """
    return _wait_rows(view_of(world), rows)


# --- what flowed ------------------------------------------------------------------------------


@njit(cache=True, nogil=True)
def _uses(w: t.World, i: int) -> tuple[int, int]:
    """Where the uses of a flow begin, and how many there are; those of restores in their table.

    What moved in no time at all used nothing that could be told.
    """
    flow = w.flow[i]
    if flow.rate == np.inf:
        return 0, 0
    if flow.transfer >= w.n[N_FIRST_RESTORE]:
        option = w.option[w.restore[flow.transfer - w.n[N_FIRST_RESTORE]].option]
        return option.uses_from, option.uses_n
    candidate = w.candidate[w.transfer[flow.transfer].candidate]
    return candidate.uses_from, candidate.uses_n


@njit(cache=True, nogil=True)
def _use(w: t.World, i: int, begin: int, k: int) -> tuple[int, float]:
    """A resource that a flow used, and with how many bytes/s of it."""
    flow = w.flow[i]
    if flow.transfer >= w.n[N_FIRST_RESTORE]:
        r = flow.transfer - w.n[N_FIRST_RESTORE]
        return w.restore_use[begin + k].resource, flow.rate * w.restore_amount[r, k]
    use = w.use[begin + k]
    omega = w.transfer[flow.transfer].omega
    return use.resource, flow.rate * (use.source + use.wire * omega)


@njit(cache=True, nogil=True)
def _purpose_and_job(w: t.World, i: int) -> tuple[int, int]:
    transfer = w.flow[i].transfer
    purpose = _purpose(w, transfer)
    return purpose, -1 if purpose == RESTORE else _job_of(w, w.transfer[transfer].task)


@njit(cache=True, nogil=True)
def _flows_within(w: t.World, start: float, end: float) -> Numbers:
    count = 0
    for i in range(w.n[N_FLOW]):
        count += w.flow[i].start < end and w.flow[i].end > start
    which = np.empty(count, np.int32)
    count = 0
    for i in range(w.n[N_FLOW]):
        if w.flow[i].start < end and w.flow[i].end > start:
            which[count] = i
            count += 1
    return which


@njit(cache=True, nogil=True)
def flows_within(world: Handle, start: float, end: float) -> Numbers:
    """The numbers of the flows that overlap with a span, in their order."""
    return _flows_within(view_of(world), start, end)


@njit(cache=True, nogil=True)
def _flow_rows(w: t.World, which: Numbers, rows: t.Table) -> tuple[t.Ints, Numbers, t.Floats]:
    first = np.zeros(len(which) + 1, np.int64)
    for n in range(len(which)):
        flow, row = w.flow[which[n]], rows[n]
        row.purpose, row.job = _purpose_and_job(w, which[n])
        row.squeeze, row.rate = flow.squeezed_by, flow.rate
        row.start, row.end = flow.start + EPOCH, flow.end + EPOCH
        first[n + 1] = first[n] + _uses(w, which[n])[1]
    resource, rate = np.empty(first[-1], np.int32), np.empty(first[-1])
    for n in range(len(which)):
        begin, count = _uses(w, which[n])
        for k in range(count):
            resource[first[n] + k], rate[first[n] + k] = _use(w, which[n], begin, k)
    return first, resource, rate


@njit(cache=True, nogil=True)
def flow_rows(world: Handle, which: Numbers, rows: t.Table) -> tuple[t.Ints, Numbers, t.Floats]:
    """Write rows of FLOW; returns what each of them used of resources, as the columns of `Uses`."""
    return _flow_rows(view_of(world), which, rows)


@njit(cache=True, nogil=True)
def _use_rows(w: t.World, flows: Numbers, places: Places, rows: t.Table) -> None:
    for n in range(len(flows)):
        row, flow = rows[n], w.flow[flows[n]]
        row.purpose, row.job = _purpose_and_job(w, flows[n])
        row.start, row.end = flow.start + EPOCH, flow.end + EPOCH
        row.rate = _use(w, flows[n], _uses(w, flows[n])[0], places[n])[1]


@njit(cache=True, nogil=True)
def use_rows(world: Handle, flows: Numbers, places: Places, rows: t.Table) -> None:
    """Write rows of USE for uses of flows, each named by its place."""
    _use_rows(view_of(world), flows, places, rows)


@njit(cache=True, nogil=True)
def _flows_by_resource(
    w: t.World, resources: int
) -> tuple[t.Ints, Numbers, Places, t.Ints, Numbers]:
    # Sorted by counting: how many come before those of each resource, then each to its place.
    uses_from, squeezes_from = np.zeros(resources + 1, np.int64), np.zeros(resources + 1, np.int64)
    for i in range(w.n[N_FLOW]):
        if w.flow[i].squeezed_by >= 0:
            squeezes_from[w.flow[i].squeezed_by + 1] += 1
        begin, count = _uses(w, i)
        for k in range(count):
            uses_from[_use(w, i, begin, k)[0] + 1] += 1
    uses_from, squeezes_from = np.cumsum(uses_from), np.cumsum(squeezes_from)
    use_at, squeeze_at = uses_from.copy(), squeezes_from.copy()
    flow, place = np.empty(uses_from[-1], np.int32), np.empty(uses_from[-1], np.int16)
    squeezed = np.empty(squeezes_from[-1], np.int32)
    for i in range(w.n[N_FLOW]):
        resource = w.flow[i].squeezed_by
        if resource >= 0:
            squeezed[squeeze_at[resource]] = i
            squeeze_at[resource] += 1
        begin, count = _uses(w, i)
        for k in range(count):
            resource = _use(w, i, begin, k)[0]
            flow[use_at[resource]], place[use_at[resource]] = i, k
            use_at[resource] += 1
    return uses_from, flow, place, squeezes_from, squeezed


@njit(cache=True, nogil=True)
def flows_by_resource(
    world: Handle, resources: int
) -> tuple[t.Ints, Numbers, Places, t.Ints, Numbers]:
    """The columns of `_FlowsByResource`, for so many resources."""
    return _flows_by_resource(view_of(world), resources)
