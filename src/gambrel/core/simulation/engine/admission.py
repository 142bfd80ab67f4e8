"""Who starts next (section 6, step 4).

What may start something at an instant is a row of the queue that was woken, or a pool that has had
a slot given back, with the rows that are parked there. They stand in a heap by the task that each
would start, in the queue's order. To start a task only takes slots and machines, so what the others
would start stays the same or comes later, until nothing can start any more: it is enough to look
again at the first of the heap before it starts. So the tasks start that walking the whole queue
again and again would start, in the same order.
"""

from __future__ import annotations

from numba import b1, i8, njit, void
from numba.types import UniTuple  # type: ignore[attr-defined]

from gambrel.core.simulation.engine.queue import (
    comes_before,
    full,
    head,
    park,
    run_comes_before,
)
from gambrel.core.simulation.engine.tables import N_HOT, N_READY, N_STARTERS, ST_DISK, World
from gambrel.core.simulation.engine.world import WORLD


@njit(i8(WORLD, i8, i8, i8), cache=True)
def _run_of(w: World, classes: int, row: int, item: int) -> int:
    """The run of what a row can start. Of disks the row knows it without a look at them."""
    if row >= 2 * classes:
        return w.task[w.work[item].task].run
    return w.active[w.klass[row if row < classes else row - classes].job]


@njit(b1(WORLD, i8, i8, i8, i8, i8), cache=True)
def _goes_first(w: World, classes: int, row: int, item: int, best: int, found: int) -> bool:
    """Whether what one row can start comes before what another can."""
    one, two = _run_of(w, classes, row, item), _run_of(w, classes, best, found)
    if one != two:
        return run_comes_before(w, one, two)
    task, stage, number = w.transfer[item].task, ST_DISK, item
    if row >= 2 * classes:
        work = w.work[item]
        task, stage, number = work.task, work.stage, work.number
    other, other_stage, other_number = w.transfer[found].task, ST_DISK, found
    if best >= 2 * classes:
        work = w.work[found]
        other, other_stage, other_number = work.task, work.stage, work.number
    return comes_before(w, task, stage, number, other, other_stage, other_number)


@njit(i8(WORLD, i8, i8), cache=True)
def _at_best(w: World, classes: int, row: int) -> int:
    """A task of a row before which none of it can start; -1 where there is none."""
    state = w.queue[row]
    if row >= 2 * classes:
        return state.first
    klass = w.klass[row if row < classes else row - classes]
    run = w.active[klass.job]
    if run < 0 or state.next >= klass.items_n:
        return -1
    return w.run[run].disks_from + w.class_items[klass.items_from + state.next]


@njit(UniTuple(i8, 2)(WORLD, i8, i8, i8, i8), cache=True)
def _first_parked(w: World, classes: int, pool: int, best: int, found: int) -> tuple[int, int]:
    """The row and task that come first, of those given (-1: none) and those parked at a pool."""
    row = w.parked_first[pool]
    while row >= 0:
        this, state = row, w.queue[row]
        row = state.parked_after
        if found >= 0 and state.parked_run >= 0:
            run = _run_of(w, classes, best, found)
            if run != state.parked_run and run_comes_before(w, run, state.parked_run):
                # What it can start now is of that run or of a later one; so is all after it.
                break
        if state.ready:
            continue
        if found >= 0:
            # To see that a row comes later takes less than to see what it can start.
            bound = _at_best(w, classes, this)
            if bound >= 0 and not _goes_first(w, classes, this, bound, best, found):
                continue
        item, lacking = head(w, this, classes)
        if item < 0:
            park(w, this, lacking)
        elif found < 0 or _goes_first(w, classes, this, item, best, found):
            best, found = this, item
    return best, found


@njit(UniTuple(i8, 2)(WORLD, i8, i8, i8), cache=True)
def _first_of(w: World, classes: int, starter: int, row: int) -> tuple[int, int]:
    """What a starter can start now: (row, disk or work), or (-1, -1).

    `row` is what it would have started when it was last looked at, or -1. Rows that can start
    nothing are parked on the way.
    """
    if starter < len(w.queue):
        item, lacking = head(w, starter, classes)
        if item < 0:
            park(w, starter, lacking)
            return -1, -1
        return starter, item
    pool = starter - len(w.queue)
    if full(w, pool):
        return -1, -1
    if row >= 0:
        item, lacking = head(w, row, classes)
        if item == w.starter_item[starter]:
            return row, item
    best, found = _first_parked(w, classes, pool, -1, -1)
    for k in range(w.proxy_set_from[pool], w.proxy_set_from[pool + 1]):
        any_of = len(w.slots) + w.proxy_set[k]
        best, found = _first_parked(w, classes, any_of, best, found)
    return best, found


@njit(b1(WORLD, i8, i8, i8), cache=True)
def _before(w: World, classes: int, one: int, other: int) -> bool:
    item, other_item = w.starter_item[one], w.starter_item[other]
    row, other_row = w.starter_row[one], w.starter_row[other]
    return _goes_first(w, classes, row, item, other_row, other_item)


@njit(void(WORLD, i8), cache=True)
def _forget(w: World, starter: int) -> None:
    if starter < len(w.queue):
        w.queue[starter].ready = 0
    else:
        w.is_hot[starter - len(w.queue)] = 0


@njit(void(WORLD, i8, i8), cache=True)
def _add(w: World, classes: int, starter: int) -> None:
    """Put a starter into the heap, or forget it where it can start nothing."""
    row, item = _first_of(w, classes, starter, -1)
    if row < 0:
        _forget(w, starter)
        return
    w.starter_row[starter], w.starter_item[starter] = row, item
    i = w.n[N_STARTERS]
    w.n[N_STARTERS] += 1
    while i > 0:
        parent = (i - 1) // 2
        if not _before(w, classes, starter, w.starters[parent]):
            break
        w.starters[i] = w.starters[parent]
        i = parent
    w.starters[i] = starter


@njit(void(WORLD, i8), cache=True)
def _sink(w: World, classes: int) -> None:
    """Put the first of the heap in its place again."""
    n, starter = w.n[N_STARTERS], w.starters[0]
    i = 0
    while True:
        child = 2 * i + 1
        if child >= n:
            break
        if child + 1 < n and _before(w, classes, w.starters[child + 1], w.starters[child]):
            child += 1
        if _before(w, classes, starter, w.starters[child]):
            break
        w.starters[i] = w.starters[child]
        i = child
    w.starters[i] = starter


@njit(void(WORLD, i8), cache=True)
def gather(w: World, classes: int) -> None:
    """Put all that may start something now into the heap."""
    for i in range(w.n[N_READY]):
        _add(w, classes, w.ready[i])
    for i in range(w.n[N_HOT]):
        _add(w, classes, len(w.queue) + w.hot[i])
    w.n[N_READY] = w.n[N_HOT] = 0


@njit(UniTuple(i8, 2)(WORLD, i8), cache=True)
def next_to_start(w: World, classes: int) -> tuple[int, int]:
    """Of all that can start now what comes first: (row, disk or work), or (-1, -1)."""
    while w.n[N_STARTERS] > 0:
        starter = w.starters[0]
        before = w.starter_item[starter]
        row, item = _first_of(w, classes, starter, w.starter_row[starter])
        if row < 0:
            _forget(w, starter)
            w.n[N_STARTERS] -= 1
            w.starters[0] = w.starters[w.n[N_STARTERS]]
        elif row == w.starter_row[starter] and item == before:
            return row, item
        w.starter_row[starter], w.starter_item[starter] = row, item
        if w.n[N_STARTERS] > 0:
            _sink(w, classes)
    return -1, -1
