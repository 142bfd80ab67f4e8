"""The queue of the engine and how slots are taken and given back (section 6, step 4).

Tasks that need the same slots stand in one class, in a row of the queue. A row for which a pool was
full is parked there, and looked at again when that pool has had a slot given back (it is hot then).
Of all rows that can start something, the task that comes first in the queue's order starts, until
none can: as starting only takes slots, that is what walking the whole queue again and again would
start, in the same order.
"""

from __future__ import annotations

from numba import b1, i8, njit, void
from numba.types import Tuple, UniTuple  # type: ignore[attr-defined]

from gambrel.core.engine.tables import (
    F_NOW,
    N_HOT,
    N_PROXIES,
    N_READY,
    P_NOTHING,
    P_PROXIES,
    ST_COPY,
    ST_DISK,
    W_QUEUED,
    WAITING,
    World,
)
from gambrel.core.engine.world import WORLD
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
def _full(w: World, pool: int) -> bool:
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
    """The pool for want of which no disk of a class can start; P_NOTHING if there is none."""
    klass = w.klass[c]
    if starts and _full(w, klass.host_pool):
        return klass.host_pool
    if _full(w, klass.pool_a):
        return klass.pool_a
    if _full(w, klass.pool_b):
        return klass.pool_b
    if _full(w, klass.pool_c):
        return klass.pool_c
    if klass.candidates_n > 0 and least_busy(w, klass.candidates_from, klass.candidates_n) < 0:
        return P_PROXIES
    return P_NOTHING


@njit(UniTuple(i8, 2)(WORLD, i8, i8, b1), cache=True)
def _disk_head(w: World, row: int, c: int, starts: bool) -> tuple[int, int]:
    state = w.queue[row]
    klass = w.klass[c]
    run = w.active[klass.job]
    if run < 0 or not w.run[run].queued:
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
                if w.held[w.member[w.task[task].member].machine] < 0:
                    return t, P_NOTHING
                passing = False
            elif passing:
                state.next = i + 1
        i += 1
    return -1, P_NOTHING


@njit(UniTuple(i8, 2)(WORLD, i8), cache=True)
def _work_head(w: World, row: int) -> tuple[int, int]:
    state = w.queue[row]
    if _full(w, state.pool_a):
        return -1, state.pool_a
    if _full(w, state.pool_b):
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


@njit(i8(WORLD, i8), cache=True)
def _place(w: World, pool: int) -> int:
    """Where the rows that are parked at a pool begin; those that want any proxy come last."""
    return len(w.parked_first) - 1 if pool == P_PROXIES else pool


@njit(void(WORLD, i8, i8), cache=True)
def park(w: World, row: int, pool: int) -> None:
    """Have a row looked at again when a pool has had a slot given back; P_NOTHING: when woken."""
    state = w.queue[row]
    if state.parked == pool:
        return
    if state.parked != P_NOTHING:
        if state.parked_before >= 0:
            w.queue[state.parked_before].parked_after = state.parked_after
        else:
            w.parked_first[_place(w, state.parked)] = state.parked_after
        if state.parked_after >= 0:
            w.queue[state.parked_after].parked_before = state.parked_before
    state.parked = pool
    if pool != P_NOTHING:
        place = _place(w, pool)
        state.parked_before, state.parked_after = -1, w.parked_first[place]
        if state.parked_after >= 0:
            w.queue[state.parked_after].parked_before = row
        w.parked_first[place] = row


@njit(b1(WORLD, i8, i8, i8, i8, i8, i8), cache=True)
def comes_before(
    w: World, task: int, stage: int, number: int, other: int, other_stage: int, other_number: int
) -> bool:
    """The order of the queue: priority, occurrence, job, machine, stage, number in the stage."""
    one, two = w.task[task], w.task[other]
    if one.run != two.run:
        a, b = w.run[one.run], w.run[two.run]
        first, second = w.job[a.job].priority, w.job[b.job].priority
        if first != second:
            return first > second
        if a.occurrence != b.occurrence:
            return a.occurrence < b.occurrence
        if a.job != b.job:
            return a.job < b.job
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


@njit(b1(WORLD, i8, i8, i8, i8, i8), cache=True)
def _goes_first(w: World, classes: int, row: int, item: int, best: int, found: int) -> bool:
    """Whether what a row can start comes before the best found so far; -1: nothing was."""
    if found < 0:
        return True
    task, stage, number = w.transfer[item].task, ST_DISK, item
    if row >= 2 * classes:
        work = w.work[item]
        task, stage, number = work.task, work.stage, work.number
    other, other_stage, other_number = w.transfer[found].task, ST_DISK, found
    if best >= 2 * classes:
        work = w.work[found]
        other, other_stage, other_number = work.task, work.stage, work.number
    return comes_before(w, task, stage, number, other, other_stage, other_number)


@njit(Tuple((b1, i8, i8))(WORLD, i8, i8, i8, i8), cache=True)
def _best_parked(w: World, classes: int, pool: int, best: int, found: int) -> tuple[bool, int, int]:
    """The best found so far or of what is parked at a pool, and whether to look there again."""
    useful = False
    row = w.parked_first[_place(w, pool)]
    while row >= 0:
        this, state = row, w.queue[row]
        row = state.parked_after
        if state.ready:
            continue
        if found >= 0 and state.priority < w.queue[best].priority:
            useful = True
            continue
        item, lacking = head(w, this, classes)
        if item < 0:
            park(w, this, lacking)
            continue
        useful = True
        if _goes_first(w, classes, this, item, best, found):
            best, found = this, item
    return useful, best, found


@njit(UniTuple(i8, 2)(WORLD, i8), cache=True)
def best_ready(w: World, classes: int) -> tuple[int, int]:
    """Of all that can start now what comes first: (row, disk or work), or (-1, -1).

    Rows that can start nothing are parked on the way.
    """
    best, found = -1, -1
    i = 0
    while i < w.n[N_READY]:
        row = w.ready[i]
        item, lacking = head(w, row, classes)
        if item < 0:
            park(w, row, lacking)
            w.queue[row].ready = 0
            w.n[N_READY] -= 1
            w.ready[i] = w.ready[w.n[N_READY]]
            continue
        if _goes_first(w, classes, row, item, best, found):
            best, found = row, item
        i += 1
    i = 0
    while i < w.n[N_HOT]:
        pool = w.hot[i]
        useful = False
        if not _full(w, pool):
            useful, best, found = _best_parked(w, classes, pool, best, found)
            if pool < w.n[N_PROXIES]:
                also, best, found = _best_parked(w, classes, P_PROXIES, best, found)
                useful = useful or also
        if useful:
            i += 1
        else:
            w.is_hot[pool] = 0
            w.n[N_HOT] -= 1
            w.hot[i] = w.hot[w.n[N_HOT]]
    return best, found
