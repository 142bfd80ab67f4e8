"""Who held and wanted slots, and what flowed, out of the arrays of a finished walk."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
from numba import njit

from gambrel.core.simulation import load_records as f
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.walk import Walk
from gambrel.core.simulation.engine.world import Handle, open_world, view_of
from gambrel.core.units import SAME_INSTANT

Numbers = npt.NDArray[np.int32]
Places = npt.NDArray[np.int16]

READ, COPY, REWRITE, RESTORE = range(4)
"""Places in `gambrel.core.simulation.forecast.PURPOSES`."""
POOLS_AT_FIRST = 6
"""Room for so many pools of each row at first; what is not written to takes no memory."""
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

    def holds_in(self, start: float, end: float) -> tuple[t.Table, f.Pools]:
        """Rows of STRETCH for slots that were held together within [start, end)."""
        return self._filled(hold_rows, start, end)

    def waits_in(self, start: float, end: float) -> tuple[t.Table, f.Pools]:
        """Rows of STRETCH for slots that were wanted within [start, end)."""
        return self._filled(wait_rows, start, end)

    def _filled(self, fill: Any, start: float, end: float) -> tuple[t.Table, f.Pools]:
        """The rows of a kind, in tables that are made anew if they turn out too short."""
        n = self._walk.world.n
        most = int(2 * n[t.N_TRANSFER] + n[t.N_WORK] + n[t.N_TASK] + n[t.N_RESTORES_DUE])
        entries = POOLS_AT_FIRST * most
        while True:
            rows, first = np.empty(most, f.STRETCH), np.zeros(most + 1, np.int64)
            pool = np.empty(entries, np.int32)
            count, needed = fill(self._handle, start - EPOCH, end - EPOCH, rows, first, pool)
            if needed <= entries:
                # Copies, so that what is kept takes no more than it needs.
                return rows[:count].copy(), f.Pools(first[: count + 1].copy(), pool[:needed].copy())
            entries = needed

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
def _entered(pools: Numbers, entries: int, pool: int) -> int:
    """Enter a pool that has a limit, if there is room; how many entries there are then."""
    if pool < 0:
        return entries
    if entries < len(pools):
        pools[entries] = pool
    return entries + 1


@njit(cache=True, nogil=True)
def _told(
    rows: t.Table, first: t.Ints, n: int, entries: int, job: int, purpose: int, start: float,
    end: float,
) -> int:  # fmt: skip
    """Write the row whose pools were entered last, if there were any; how many there are then."""
    if entries == first[n]:
        return n
    row = rows[n]
    row.job, row.purpose = job, purpose
    row.start, row.end = start + EPOCH, end + EPOCH
    first[n + 1] = entries
    return n + 1


# --- slots that were held ---------------------------------------------------------------------


@njit(cache=True, nogil=True)
def _is_within(start: float, end: float, since: float, until: float) -> bool:
    return end > start and start < until and end > since


@njit(cache=True, nogil=True)
def _hold_rows(
    w: t.World, since: float, until: float, rows: t.Table, first: t.Ints, pools: Numbers
) -> tuple[int, int]:
    n = e = 0
    for i in range(w.n[N_TRANSFER]):
        stream = w.transfer[i]
        start, end = stream.slots_from, stream.slots_to
        if not _is_within(start, end, since, until):
            continue
        klass, job = w.klass[w.disk[stream.disk].klass], _job_of(w, stream.task)
        for pool in (klass.pool_a, klass.pool_b, klass.pool_c):
            e = _entered(pools, e, pool)
        e = _entered(pools, e, w.candidate[stream.candidate].proxy)
        n = _told(rows, first, n, e, job, READ, start, end)
    for k in range(w.n[N_WORK]):
        stream = w.transfer[w.n[N_DISKS] + k]
        start, end = stream.slots_from, stream.slots_to
        if not _is_within(start, end, since, until):
            continue
        queue, job = w.queue[w.work[k].klass], _job_of(w, stream.task)
        e = _entered(pools, _entered(pools, e, queue.pool_a), queue.pool_b)
        n = _told(rows, first, n, e, job, _purpose(w, w.n[N_DISKS] + k), start, end)
    for i in range(w.n[N_TASK]):
        task = w.task[i]
        if _is_within(task.start, task.released, since, until):
            e = _entered(pools, e, w.member[task.member].host_pool)
            n = _told(rows, first, n, e, _job_of(w, i), READ, task.start, task.released)
    for r in range(w.n[N_RESTORES_DUE]):
        restore = w.restore[r]
        end = w.f[F_NOW] if np.isnan(restore.whole) else restore.whole
        if _is_within(restore.start, end, since, until):
            e = _entered(pools, e, w.option[restore.option].pool)
            n = _told(rows, first, n, e, -1, RESTORE, restore.start, end)
    return n, e


@njit(cache=True, nogil=True)
def hold_rows(
    world: Handle, since: float, until: float, rows: t.Table, first: t.Ints, pools: Numbers
) -> tuple[int, int]:
    """Write rows of STRETCH for slots of limited pools held in a span, and the columns of `Pools`.

    How many rows and how many pools of them there are. Pools that there is no room for are counted
    and not written. Instants that never came are NaN, and in no span.
    """
    return _hold_rows(view_of(world), since, until, rows, first, pools)


# --- who wanted one ---------------------------------------------------------------------------


@njit(cache=True, nogil=True)
def _is_wait(start: float, end: float, since: float, until: float) -> bool:
    return end > start + SAME_INSTANT and start < until and end > since


@njit(cache=True, nogil=True)
def _pools_of_disk(w: t.World, pools: Numbers, entries: int, i: int) -> int:
    """A disk waits for every pool that it needs, and for all proxies that might have read it."""
    disk = w.disk[w.transfer[i].disk]
    klass = w.klass[disk.klass]
    for pool in (klass.pool_a, klass.pool_b, klass.pool_c):
        entries = _entered(pools, entries, pool)
    for way in range(disk.candidates_from, disk.candidates_from + disk.candidates_n):
        entries = _entered(pools, entries, w.candidate[way].proxy)
    return entries


@njit(cache=True, nogil=True)
def _wait_rows(
    w: t.World, since: float, until: float, rows: t.Table, first: t.Ints, pools: Numbers
) -> tuple[int, int]:
    n = e = 0
    for i in range(w.n[N_TRANSFER]):
        stream = w.transfer[i]
        task = w.task[stream.task]
        run = w.run[task.run]
        # Before the machine starts; a window that is not open yet is nobody's slot.
        start = max(task.queued, run.opens)
        end = task.ended if np.isnan(task.start) else task.start
        if not np.isnan(task.queued) and _is_wait(start, end, since, until):
            e = _entered(pools, e, w.klass[w.disk[stream.disk].klass].host_pool)
            e = _pools_of_disk(w, pools, e, i)
            n = _told(rows, first, n, e, run.job, READ, start, end)
        # After it: a disk that stood in the queue by itself.
        end = task.ended if np.isnan(stream.slots_from) else stream.slots_from
        if _is_wait(stream.wanted, end, since, until):
            e = _pools_of_disk(w, pools, e, i)
            n = _told(rows, first, n, e, run.job, READ, stream.wanted, end)
    for k in range(w.n[N_WORK]):
        work = w.work[k]
        if _is_wait(work.queued, work.started, since, until):
            queue, job = w.queue[work.klass], _job_of(w, work.task)
            e = _entered(pools, _entered(pools, e, queue.pool_a), queue.pool_b)
            n = _told(rows, first, n, e, job, _purpose(w, w.n[N_DISKS] + k), work.queued,
                      work.started)  # fmt: skip
    return n, e


@njit(cache=True, nogil=True)
def wait_rows(
    world: Handle, since: float, until: float, rows: t.Table, first: t.Ints, pools: Numbers
) -> tuple[int, int]:
    """Write rows of STRETCH for slots of limited pools wanted in a span; as `hold_rows`."""
    return _wait_rows(view_of(world), since, until, rows, first, pools)


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
