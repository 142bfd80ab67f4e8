"""The queue of the engine and how slots are taken and given back (section 6, step 4).

Tasks that need the same slots stand in one class, in a row of the queue. A row for which a pool was
full is parked there, and looked at again when that pool has had a slot given back (it is hot then).
`gambrel.core.simulation.engine.admission` says which of them start.
"""

from __future__ import annotations

from numba import b1, i8, njit, void
from numba.types import UniTuple  # type: ignore[attr-defined]

from gambrel.core.simulation.engine.tables import (
    F_NOW,
    N_HOT,
    N_READY,
    P_NOTHING,
    ST_COPY,
    W_QUEUED,
    WAITING,
    World,
)
from gambrel.core.simulation.engine.world import WORLD
from gambrel.core.units import SAME_INSTANT


@njit(void(WORLD, i8), cache=True)
def wake(w: World, row: int) -> None:
    """Have a row of the queue looked at in the next walk."""
    if not w.queue[row].ready:
        w.queue[row].ready = 1
        w.ready[w.n[N_READY]] = row
        w.n[N_READY] += 1


@njit(void(WORLD, i8), cache=True)
def wake_job(w: World, job: int) -> None:
    """Have all machines of a job that wait to start looked at."""
    first = w.job[job].classes_from
    for c in range(first, first + w.job[job].classes_n):
        wake(w, c)


@njit(void(WORLD, i8), cache=True)
def wake_machine(w: World, machine: int) -> None:
    """Have all that waits for a machine looked at."""
    for k in range(w.machine_class_from[machine], w.machine_class_from[machine + 1]):
        wake(w, w.machine_class[k])


@njit(void(WORLD, i8), cache=True)
def free_slot(w: World, pool: int) -> None:
    """Give a slot back; `pool` -1 is a pool without limit."""
    if pool < 0:
        return
    w.busy[pool] -= 1
    if not w.is_hot[pool]:
        w.is_hot[pool] = 1
        w.hot[w.n[N_HOT]] = pool
        w.n[N_HOT] += 1


@njit(void(WORLD, i8), cache=True)
def take_slot(w: World, pool: int) -> None:
    if pool >= 0:
        w.busy[pool] += 1


@njit(b1(WORLD, i8), cache=True)
def full(w: World, pool: int) -> bool:
    """Whether all slots of a pool are taken; -1 is a pool without limit."""
    return pool >= 0 and w.busy[pool] >= w.slots[pool]


@njit(i8(WORLD, i8, i8), cache=True, error_model="numpy")
def least_busy(w: World, first: int, count: int) -> int:
    """Of the candidates with a free slot the one with the smallest part taken, or -1."""
    chosen, least = -1, 2.0
    for i in range(first, first + count):
        proxy = w.candidate[i].proxy
        if proxy < 0:
            return i
        part = w.busy[proxy] / w.slots[proxy]
        if w.busy[proxy] < w.slots[proxy] and part < least:
            chosen, least = i, part
    return chosen


@njit(b1(WORLD, i8), cache=True)
def window_open(w: World, run: int) -> bool:
    """Whether machines of a run may start now."""
    r = w.run[run]
    if r.open_ended:
        return True
    return r.opens <= w.f[F_NOW] + SAME_INSTANT and w.f[F_NOW] < r.closes - SAME_INSTANT


@njit(i8(WORLD, i8, b1), cache=True)
def _lacking(w: World, c: int, starts: bool) -> int:
    """The pool for want of which no disk of a class can start; P_NOTHING if there is none.

    Where any of several proxies would do, it is their set: sets are numbered after the pools.
    """
    klass = w.klass[c]
    if starts and full(w, klass.host_pool):
        return klass.host_pool
    if full(w, klass.pool_a):
        return klass.pool_a
    if full(w, klass.pool_b):
        return klass.pool_b
    if full(w, klass.pool_c):
        return klass.pool_c
    if klass.candidates_n > 0 and least_busy(w, klass.candidates_from, klass.candidates_n) < 0:
        return len(w.slots) + klass.proxies
    return P_NOTHING


@njit(UniTuple(i8, 2)(WORLD, i8, i8, b1), cache=True)
def _disk_head(w: World, row: int, c: int, starts: bool) -> tuple[int, int]:
    state = w.queue[row]
    klass = w.klass[c]
    run = w.active[klass.job]
    if run < 0 or not w.run[run].queued or not klass.readable:
        return -1, P_NOTHING
    if starts:
        if not window_open(w, run):
            return -1, P_NOTHING
    elif state.waiting == 0:
        return -1, P_NOTHING
    lacking = _lacking(w, c, starts)
    if lacking != P_NOTHING:
        return -1, lacking
    first = w.run[run].disks_from
    i = state.next
    passing = True
    while i < klass.items_n:
        t = first + w.class_items[klass.items_from + i]
        if not starts:
            if w.transfer[t].waits:
                state.next = i
                return t, P_NOTHING
        else:
            task = w.transfer[t].task
            if w.task[task].state == WAITING:
                machine = w.member[w.task[task].member].machine
                if w.held[machine] < 0 and w.restoring[machine] == 0:
                    return t, P_NOTHING
                passing = False
            elif passing:
                state.next = i + 1
        i += 1
    return -1, P_NOTHING


@njit(UniTuple(i8, 2)(WORLD, i8), cache=True)
def _work_head(w: World, row: int) -> tuple[int, int]:
    state = w.queue[row]
    if full(w, state.pool_a):
        return -1, state.pool_a
    if full(w, state.pool_b):
        return -1, state.pool_b
    i = state.first
    while i >= 0:
        work = w.work[i]
        if work.state == W_QUEUED and (work.stage != ST_COPY or not w.chain[work.chain].busy):
            return i, P_NOTHING
        i = work.next
    return -1, P_NOTHING


@njit(UniTuple(i8, 2)(WORLD, i8, i8), cache=True)
def head(w: World, row: int, classes: int) -> tuple[int, int]:
    """What a row of the queue can start now, a disk or a piece of work, and the pool that is full.

    The first is -1 where it can start nothing; the second P_NOTHING where that is for want of no
    pool.
    """
    if row < classes:
        return _disk_head(w, row, row, True)
    if row < 2 * classes:
        return _disk_head(w, row, row - classes, False)
    return _work_head(w, row)


@njit(b1(WORLD, i8, i8), cache=True)
def run_comes_before(w: World, one: int, other: int) -> bool:
    """The order of the queue for tasks of two runs: priority, occurrence, job.

    Of two runs of a job that fall on one instant the second is skipped, and has no tasks.
    """
    a, b = w.run[one], w.run[other]
    first, second = w.job[a.job].priority, w.job[b.job].priority
    if first != second:
        return first > second
    if a.occurrence != b.occurrence:
        return a.occurrence < b.occurrence
    return a.job < b.job


@njit(i8(WORLD, i8), cache=True)
def _waiting_run(w: World, row: int) -> int:
    """The run whose disks wait in a row; -1 for a row of work, which holds that of many runs."""
    classes = len(w.klass)
    if row >= 2 * classes:
        return -1
    return w.active[w.klass[row if row < classes else row - classes].job]


@njit(b1(WORLD, i8, i8), cache=True)
def _parked_before(w: World, run: int, other: int) -> bool:
    """Whether a row with a run is parked before one with another; -1 is a row of work."""
    if run < 0 or other < 0:
        return run < other
    return run != other and run_comes_before(w, run, other)


@njit(void(WORLD, i8, i8), cache=True)
def park(w: World, row: int, pool: int) -> None:
    """Have a row looked at again when a pool, or one of a set, has had a slot given back.

    P_NOTHING: when it is woken.
    """
    state = w.queue[row]
    was, run = state.parked, _waiting_run(w, row)
    if was == pool and state.parked_run == run:
        return
    before, after = state.parked_before, state.parked_after
    if was != P_NOTHING:
        if before >= 0:
            w.queue[before].parked_after = after
        else:
            w.parked_first[was] = after
        if after >= 0:
            w.queue[after].parked_before = before
        else:
            w.parked_last[was] = before
    state.parked, state.parked_run = pool, run
    if pool == P_NOTHING:
        return
    before, after = w.parked_last[pool], -1
    while before >= 0 and _parked_before(w, run, w.queue[before].parked_run):
        before, after = w.queue[before].parked_before, before
    state.parked_before, state.parked_after = before, after
    if before >= 0:
        w.queue[before].parked_after = row
    else:
        w.parked_first[pool] = row
    if after >= 0:
        w.queue[after].parked_before = row
    else:
        w.parked_last[pool] = row


@njit(b1(WORLD, i8, i8, i8, i8, i8, i8), cache=True)
def comes_before(
    w: World, task: int, stage: int, number: int, other: int, other_stage: int, other_number: int
) -> bool:
    """The order of the queue: that of the runs, then machine, stage, number in the stage."""
    one, two = w.task[task], w.task[other]
    if one.run != two.run:
        return run_comes_before(w, one.run, two.run)
    if one.order != two.order:
        return one.order < two.order
    if stage != other_stage:
        return stage < other_stage
    return number < other_number


@njit(void(WORLD, i8), cache=True)
def queue_work(w: World, i: int) -> None:
    """Let a transform, merge or copy stand in its row, in the queue's order."""
    work = w.work[i]
    row = work.klass
    after = w.queue[row].last
    while after >= 0:
        other = w.work[after]
        if not comes_before(
            w, work.task, work.stage, work.number, other.task, other.stage, other.number
        ):
            break
        after = other.previous
    work.previous = after
    if after >= 0:
        work.next = w.work[after].next
        w.work[after].next = i
    else:
        work.next = w.queue[row].first
        w.queue[row].first = i
    if work.next >= 0:
        w.work[work.next].previous = i
    else:
        w.queue[row].last = i
    work.state = W_QUEUED
    work.queued = w.f[F_NOW]
    wake(w, row)


@njit(void(WORLD, i8), cache=True)
def unqueue_work(w: World, i: int) -> None:
    """Take a transform, merge or copy out of its row."""
    work = w.work[i]
    row = work.klass
    if work.previous >= 0:
        w.work[work.previous].next = work.next
    else:
        w.queue[row].first = work.next
    if work.next >= 0:
        w.work[work.next].previous = work.previous
    else:
        w.queue[row].last = work.previous


@njit(void(WORLD, i8, i8), cache=True)
def queue_disk(w: World, t: int, classes: int) -> None:
    """Let a disk of a prepared machine stand in the queue by itself."""
    stream = w.transfer[t]
    disk = w.disk[stream.disk]
    stream.waits = 1
    stream.wanted = w.f[F_NOW]
    row = classes + disk.klass
    w.queue[row].waiting += 1
    w.queue[row].next = min(w.queue[row].next, disk.place)
    wake(w, row)


@njit(void(WORLD, i8, i8), cache=True)
def unqueue_disk(w: World, t: int, classes: int) -> None:
    """Take a disk that waits by itself out of the queue."""
    w.transfer[t].waits = 0
    w.queue[classes + w.disk[w.transfer[t].disk].klass].waiting -= 1
