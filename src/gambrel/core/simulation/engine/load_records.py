"""Who held and wanted slots, and what flowed, out of the arrays of a finished walk."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from gambrel.core.simulation import forecast as f
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.walk import Walk
from gambrel.core.simulation.engine.world import Handle, open_world, view_of
from gambrel.core.units import SAME_INSTANT

READ, COPY, REWRITE, RESTORE = range(4)
"""Places in `gambrel.core.simulation.forecast.PURPOSES`."""
EPOCH = t.EPOCH
N_DISKS, N_FLOW, N_TASK, N_TRANSFER, N_WORK = t.N_DISKS, t.N_FLOW, t.N_TASK, t.N_TRANSFER, t.N_WORK
ST_COPY, F_NOW = t.ST_COPY, t.F_NOW
N_FIRST_RESTORE, N_RESTORES_DUE = t.N_FIRST_RESTORE, t.N_RESTORES_DUE


class LoadRows:
    """The records of a walk; each kind is made when it is asked for."""

    def __init__(self, walk: Walk) -> None:
        # The struct is in the memory of the walk, which is therefore held.
        self._walk = walk
        self._handle = open_world(walk.world)

    def records(self) -> f.LoadRecords:
        """The records as a forecast gives them."""
        return f.LoadRecords(self._holds, self._waits, self._flows)

    def _holds(self) -> t.Table:
        return self._filled(hold_rows, f.HOLD)

    def _waits(self) -> t.Table:
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
        return rows[:count]

    def _flows(self) -> tuple[t.Table, f.Uses]:
        rows = np.empty(int(self._walk.world.n[t.N_FLOW]), f.FLOW)
        return rows, f.Uses(*flow_rows(self._handle, rows))


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
def _flow_rows(w: t.World, rows: t.Table) -> tuple[t.Ints, t.Ints, t.Floats]:
    first = np.zeros(w.n[N_FLOW] + 1, np.int64)
    for i in range(w.n[N_FLOW]):
        flow, row = w.flow[i], rows[i]
        stream = w.transfer[flow.transfer]
        row.purpose = _purpose(w, flow.transfer)
        row.job = -1 if row.purpose == RESTORE else _job_of(w, stream.task)
        row.squeeze, row.rate = flow.squeezed_by, flow.rate
        row.start, row.end = flow.start + EPOCH, flow.end + EPOCH
        first[i + 1] = first[i]
        if flow.rate != np.inf:
            if row.purpose == RESTORE:
                restore = w.restore[flow.transfer - w.n[N_FIRST_RESTORE]]
                first[i + 1] += w.option[restore.option].uses_n
            else:
                first[i + 1] += w.candidate[stream.candidate].uses_n
    resource, rate = np.empty(first[-1], np.int64), np.empty(first[-1])
    for i in range(w.n[N_FLOW]):
        if rows[i].purpose == RESTORE:
            r = w.flow[i].transfer - w.n[N_FIRST_RESTORE]
            uses = w.option[w.restore[r].option].uses_from
            for place in range(first[i], first[i + 1]):
                k = place - first[i]
                resource[place] = w.restore_use[uses + k].resource
                rate[place] = w.flow[i].rate * w.restore_amount[r, k]
            continue
        stream = w.transfer[w.flow[i].transfer]
        begin = w.candidate[stream.candidate].uses_from - first[i]
        for place in range(first[i], first[i + 1]):
            use = w.use[begin + place]
            resource[place] = use.resource
            rate[place] = w.flow[i].rate * (use.source + use.wire * stream.omega)
    return first, resource, rate


@njit(cache=True, nogil=True)
def flow_rows(world: Handle, rows: t.Table) -> tuple[t.Ints, t.Ints, t.Floats]:
    """Write rows of FLOW; returns what each of them used of resources, as the columns of `Uses`."""
    return _flow_rows(view_of(world), rows)
