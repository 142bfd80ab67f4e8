"""Who held and wanted slots, and what flowed, out of the arrays of a finished walk."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
from numba import njit

from gambrel.core.simulation import load_records as f
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.load_uses import (
    READ,
    RESTORE,
    job_of,
    purpose_and_job,
    purpose_of,
    use_of,
    uses_of_flow,
)
from gambrel.core.simulation.engine.sweeping import sweep_flows
from gambrel.core.simulation.engine.walk import Walk
from gambrel.core.simulation.engine.world import Handle, open_world, view_of
from gambrel.core.units import SAME_INSTANT

Numbers = npt.NDArray[np.int32]
Places = npt.NDArray[np.int16]

BLOCK = 4096
"""So many flows have one entry of what is kept to find those of a span."""
POOLS_AT_FIRST = 6
"""Room for so many pools of each row at first; what is not written to takes no memory."""
EPOCH = t.EPOCH
N_DISKS, N_FLOW, N_TASK, N_TRANSFER, N_WORK = t.N_DISKS, t.N_FLOW, t.N_TASK, t.N_TRANSFER, t.N_WORK
F_NOW, N_RESTORES_DUE = t.F_NOW, t.N_RESTORES_DUE


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
        self._starts: t.Floats | None = None

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
        return self._flow_rows(self._flows_within(start, end, -1))

    def _flow_rows(self, which: Numbers) -> tuple[t.Table, f.Uses]:
        rows = np.empty(len(which), f.FLOW)
        return rows, f.Uses(*flow_rows(self._handle, which, rows))

    def _use_rows(self, flows: Numbers, places: Places) -> t.Table:
        rows = np.empty(len(flows), f.USE)
        use_rows(self._handle, flows, places, rows)
        return rows

    def _flows_within(self, start: float, end: float, by: int) -> Numbers:
        since, until = start - EPOCH, end - EPOCH
        return flows_within(self._handle, self._among(since, until), since, until, by)

    def _among(self, since: float, until: float) -> tuple[int, int]:
        return range_within(self._handle, self._earliest, since, until)

    @property
    def _earliest(self) -> t.Floats:
        # Another thread may forget them meanwhile.
        starts = self._starts
        if starts is None:
            self._starts = starts = earliest_starts(self._handle)
        return starts

    def uses_in(self, resource: int, start: float, end: float) -> t.Table:
        """Rows of USE for a resource within [start, end)."""
        since, until = start - EPOCH, end - EPOCH
        among = self._among(since, until)
        flows, places = uses_within(self._handle, among, since, until, resource)
        return self._use_rows(flows, places)

    def squeezed_in(self, resource: int, start: float, end: float) -> t.Table:
        """Rows of FLOW for what a resource limited within [start, end)."""
        return self._flow_rows(self._flows_within(start, end, resource))[0]

    def sweep_flows(self, start: float, end: float, row_of: t.Ints, rows: f.SweepRows) -> None:
        """Add all that flowed within [start, end) to rows of resources."""
        among = self._among(start - EPOCH, end - EPOCH)
        sweep_flows(self._handle, among, start, end, len(rows.peaks) // 2, row_of, *rows)

    def uses_of(self, resource: int) -> t.Table:
        """Rows of USE for a resource."""
        order = self._in_order()
        begin, end = order.uses_from[resource : resource + 2]
        return self._use_rows(order.flow[begin:end], order.place[begin:end])

    def squeezed_by(self, resource: int) -> t.Table:
        """Rows of FLOW for what a resource limited."""
        order = self._in_order()
        begin, end = order.squeezes_from[resource : resource + 2]
        return self._flow_rows(order.squeezed[begin:end])[0]

    def nbytes(self) -> int:
        """The bytes of what is kept to find the rows of a resource or a span."""
        starts = 0 if self._starts is None else self._starts.nbytes
        return starts + sum(array.nbytes for array in self._order or ())

    def forget(self) -> None:
        """Give back what is kept to find the rows of a resource or a span."""
        self._order = self._starts = None

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
        klass, job = w.klass[w.disk[stream.disk].klass], job_of(w, stream.task)
        for pool in (klass.pool_a, klass.pool_b, klass.pool_c):
            e = _entered(pools, e, pool)
        e = _entered(pools, e, w.candidate[stream.candidate].proxy)
        n = _told(rows, first, n, e, job, READ, start, end)
    for k in range(w.n[N_WORK]):
        stream = w.transfer[w.n[N_DISKS] + k]
        start, end = stream.slots_from, stream.slots_to
        if not _is_within(start, end, since, until):
            continue
        queue, job = w.queue[w.work[k].klass], job_of(w, stream.task)
        e = _entered(pools, _entered(pools, e, queue.pool_a), queue.pool_b)
        n = _told(rows, first, n, e, job, purpose_of(w, w.n[N_DISKS] + k), start, end)
    for i in range(w.n[N_TASK]):
        task = w.task[i]
        if _is_within(task.start, task.released, since, until):
            e = _entered(pools, e, w.member[task.member].host_pool)
            n = _told(rows, first, n, e, job_of(w, i), READ, task.start, task.released)
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
        # Disks queue one by one when their machine has started.
        end = task.ended if np.isnan(stream.slots_from) else stream.slots_from
        if _is_wait(stream.wanted, end, since, until):
            e = _pools_of_disk(w, pools, e, i)
            n = _told(rows, first, n, e, run.job, READ, stream.wanted, end)
    for k in range(w.n[N_WORK]):
        work = w.work[k]
        if _is_wait(work.queued, work.started, since, until):
            queue, job = w.queue[work.klass], job_of(w, work.task)
            e = _entered(pools, _entered(pools, e, queue.pool_a), queue.pool_b)
            n = _told(rows, first, n, e, job, purpose_of(w, w.n[N_DISKS] + k), work.queued,
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
def _earliest_starts(w: t.World) -> t.Floats:
    blocks = (w.n[N_FLOW] + BLOCK - 1) // BLOCK
    found = np.full(blocks + 1, np.inf)
    for b in range(blocks - 1, -1, -1):
        least = found[b + 1]
        for i in range(b * BLOCK, min(w.n[N_FLOW], (b + 1) * BLOCK)):
            least = min(least, w.flow[i].start)
        found[b] = least
    return found


@njit(cache=True, nogil=True)
def earliest_starts(world: Handle) -> t.Floats:
    """The earliest start of the flows of each block and of all after it."""
    return _earliest_starts(view_of(world))


@njit(cache=True, nogil=True)
def _range_within(w: t.World, earliest: t.Floats, since: float, until: float) -> tuple[int, int]:
    # Flows are written down when they end, so their ends are in order.
    low, high = 0, w.n[N_FLOW]
    while low < high:
        middle = (low + high) // 2
        if w.flow[middle].end > since:
            high = middle
        else:
            low = middle + 1
    block = low // BLOCK
    while block < len(earliest) - 1 and earliest[block] < until:
        block += 1
    return low, max(low, min(w.n[N_FLOW], block * BLOCK))


@njit(cache=True, nogil=True)
def range_within(world: Handle, earliest: t.Floats, since: float, until: float) -> tuple[int, int]:
    """Between which numbers all flows are that overlap with a span, and some that do not."""
    return _range_within(view_of(world), earliest, since, until)


@njit(cache=True, nogil=True)
def _flows_within(w: t.World, among: tuple[int, int], start: float, end: float, by: int) -> Numbers:
    count = 0
    for i in range(*among):
        mine = by < 0 or w.flow[i].squeezed_by == by
        count += mine and w.flow[i].start < end and w.flow[i].end > start
    which = np.empty(count, np.int32)
    count = 0
    for i in range(*among):
        mine = by < 0 or w.flow[i].squeezed_by == by
        if mine and w.flow[i].start < end and w.flow[i].end > start:
            which[count] = i
            count += 1
    return which


@njit(cache=True, nogil=True)
def flows_within(
    world: Handle, among: tuple[int, int], start: float, end: float, by: int
) -> Numbers:
    """The numbers of the flows that overlap with a span, in their order.

    Args:
        among: as `range_within` gives it.
        by: only those that this resource limits; below 0 for all.
    """
    return _flows_within(view_of(world), among, start, end, by)


@njit(cache=True, nogil=True)
def _uses_within(
    w: t.World, among: tuple[int, int], start: float, end: float, resource: int
) -> tuple[Numbers, Places]:
    flows, places = np.empty(among[1] - among[0], np.int32), np.empty(among[1] - among[0], np.int16)
    n = 0
    for i in range(*among):
        if not (w.flow[i].start < end and w.flow[i].end > start):
            continue
        begin, count = uses_of_flow(w, i)
        for k in range(count):
            # A way uses no resource twice.
            if use_of(w, w.flow[i].transfer, begin, k)[0] == resource:
                flows[n], places[n] = i, k
                n += 1
                break
    return flows[:n].copy(), places[:n].copy()


@njit(cache=True, nogil=True)
def uses_within(
    world: Handle, among: tuple[int, int], start: float, end: float, resource: int
) -> tuple[Numbers, Places]:
    """The flows of a span that use a resource, and which of the uses of each that is."""
    return _uses_within(view_of(world), among, start, end, resource)


@njit(cache=True, nogil=True)
def _flow_rows(w: t.World, which: Numbers, rows: t.Table) -> tuple[t.Ints, Numbers, t.Floats]:
    first = np.zeros(len(which) + 1, np.int64)
    for n in range(len(which)):
        flow, row = w.flow[which[n]], rows[n]
        row.purpose, row.job = purpose_and_job(w, which[n])
        row.squeeze, row.rate = flow.squeezed_by, flow.rate
        row.start, row.end = flow.start + EPOCH, flow.end + EPOCH
        first[n + 1] = first[n] + uses_of_flow(w, which[n])[1]
    resource, rate = np.empty(first[-1], np.int32), np.empty(first[-1])
    for n in range(len(which)):
        begin, count = uses_of_flow(w, which[n])
        for k in range(count):
            resource[first[n] + k], amount = use_of(w, w.flow[which[n]].transfer, begin, k)
            rate[first[n] + k] = rows[n].rate * amount
    return first, resource, rate


@njit(cache=True, nogil=True)
def flow_rows(world: Handle, which: Numbers, rows: t.Table) -> tuple[t.Ints, Numbers, t.Floats]:
    """Write rows of FLOW; returns what each of them used of resources, as the columns of `Uses`."""
    return _flow_rows(view_of(world), which, rows)


@njit(cache=True, nogil=True)
def _use_rows(w: t.World, flows: Numbers, places: Places, rows: t.Table) -> None:
    for n in range(len(flows)):
        row, flow = rows[n], w.flow[flows[n]]
        row.purpose, row.job = purpose_and_job(w, flows[n])
        row.start, row.end = flow.start + EPOCH, flow.end + EPOCH
        begin, _ = uses_of_flow(w, flows[n])
        row.rate = flow.rate * use_of(w, flow.transfer, begin, places[n])[1]


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
        begin, count = uses_of_flow(w, i)
        for k in range(count):
            uses_from[use_of(w, w.flow[i].transfer, begin, k)[0] + 1] += 1
    uses_from, squeezes_from = np.cumsum(uses_from), np.cumsum(squeezes_from)
    use_at, squeeze_at = uses_from.copy(), squeezes_from.copy()
    flow, place = np.empty(uses_from[-1], np.int32), np.empty(uses_from[-1], np.int16)
    squeezed = np.empty(squeezes_from[-1], np.int32)
    for i in range(w.n[N_FLOW]):
        resource = w.flow[i].squeezed_by
        if resource >= 0:
            squeezed[squeeze_at[resource]] = i
            squeeze_at[resource] += 1
        begin, count = uses_of_flow(w, i)
        for k in range(count):
            resource = use_of(w, w.flow[i].transfer, begin, k)[0]
            flow[use_at[resource]], place[use_at[resource]] = i, k
            use_at[resource] += 1
    return uses_from, flow, place, squeezes_from, squeezed


@njit(cache=True, nogil=True)
def flows_by_resource(
    world: Handle, resources: int
) -> tuple[t.Ints, Numbers, Places, t.Ints, Numbers]:
    """The columns of `_FlowsByResource`, for so many resources."""
    return _flows_by_resource(view_of(world), resources)
