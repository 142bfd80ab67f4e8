"""Restores beside the backups of the same hours (section 14).

They stand in their own queue, in the order of their rows: by due instant, then position. `find`
looks for the point of one, `walk_restores` starts what can start before all other tasks.
"""

from __future__ import annotations

import numpy as np
from numba import b1, f8, i8, njit, void
from numba.types import UniTuple  # type: ignore[attr-defined]

from gambrel.core.constants import RESTORE_PER_POINT_S, RESTORE_SET_UP_S, SAME_POINT_S
from gambrel.core.simulation.engine.heaps import add_step
from gambrel.core.simulation.engine.points import growth_at
from gambrel.core.simulation.engine.queue import free_slot, full, take_slot, wake_machine
from gambrel.core.simulation.engine.rates import enter, leave, use
from gambrel.core.simulation.engine.tables import (
    F_NOW,
    F_TO,
    F_UNTIL,
    FULL,
    N_FIRST_RESTORE,
    N_OPEN,
    N_RESTORES_AT_ONCE,
    N_RESTORES_DUE,
    N_RESTORES_LEFT,
    N_RESTORES_UNDER_WAY,
    R_COMING,
    R_CUT_OFF,
    R_DONE,
    R_DUE,
    R_ENDED,
    R_NO_PATH,
    R_NO_POINT,
    R_UNDER_WAY,
    S_RESTORE_READY,
    U_PART,
    U_READ,
    World,
)
from gambrel.core.simulation.engine.world import WORLD
from gambrel.core.units import SAME_INSTANT


@njit(void(WORLD, i8), cache=True)
def _let_start(w: World, machine: int) -> None:
    """One restore less for which no run starts a machine."""
    w.restoring[machine] -= 1
    if w.restoring[machine] == 0:
        wake_machine(w, machine)


@njit(void(WORLD, i8, i8), cache=True)
def _end(w: World, r: int, outcome: int) -> None:
    restore = w.restore[r]
    if np.isnan(restore.start):
        restore.whole = w.f[F_NOW]
    if np.isnan(restore.back):
        _let_start(w, restore.machine)
    restore.state, restore.outcome = R_ENDED, outcome
    w.n[N_RESTORES_LEFT] -= 1
    if w.f[F_UNTIL] != w.f[F_TO]:
        w.n[N_OPEN] -= 1


@njit(b1(WORLD, f8), cache=True)
def come_due(w: World, reached: float) -> bool:
    """Step 3: those whose instant has come stand in the queue from now on."""
    happened = False
    while w.n[N_RESTORES_DUE] < len(w.restore) and w.restore[w.n[N_RESTORES_DUE]].due <= reached:
        restore = w.restore[w.n[N_RESTORES_DUE]]
        w.n[N_RESTORES_DUE] += 1
        restore.state = R_DUE
        w.restoring[restore.machine] += 1
        happened = True
    return happened


# --- the point ----------------------------------------------------------------------------------


@njit(UniTuple(f8, 2)(WORLD, i8), cache=True)
def _chain_to(w: World, p: int) -> tuple[float, float]:
    """A point and its bases: how many, and their stored bytes; none where it is not usable."""
    count, stored = 0.0, 0.0
    if not w.point[p].usable:
        return count, stored
    while True:
        if not w.point[p].alive:
            return 0.0, 0.0
        count += 1.0
        stored += w.point[p].stored
        if w.point[p].kind == FULL:
            return count, stored
        p = w.point[p].needs
        if p < 0:
            return 0.0, 0.0


@njit(UniTuple(f8, 2)(WORLD, i8, i8), cache=True)
def _bytes_of(w: World, o: int, p: int) -> tuple[float, float]:
    """What restoring a point reads and writes."""
    option = w.option[o]
    factor = growth_at(w, option.growth, w.point[p].at)
    written = 0.0
    for d in range(option.disks_from, option.disks_from + option.disks_n):
        disk = w.restore_disk[d]
        written += max(0.0, disk.used * factor - disk.left_out)
    _, stored = _chain_to(w, p)
    return stored * option.dedupe, written


@njit(f8(WORLD, i8, f8), cache=True)
def _set_up_s(w: World, o: int, points: float) -> float:
    seconds: float = RESTORE_SET_UP_S + (RESTORE_PER_POINT_S + w.option[o].first_byte) * points
    return seconds


@njit(f8(WORLD, i8, i8), cache=True)
def _delay_s(w: World, o: int, p: int) -> float:
    """How long a restore that starts now waits for points in colder tiers (`model.tiers`)."""
    option = w.option[o]
    longest = 0.0
    while p >= 0 and option.cold_1 < np.inf:
        age = w.f[F_NOW] - w.point[p].at + SAME_INSTANT
        delay = 0.0
        if age >= option.cold_1:
            delay = option.delay_1
        if age >= option.cold_2:
            delay = option.delay_2
        if age >= option.cold_3:
            delay = option.delay_3
        longest = max(longest, delay)
        p = -1 if w.point[p].kind == FULL else w.point[p].needs
    return longest


@njit(f8(WORLD, i8, i8), cache=True, error_model="numpy")
def _full_s(w: World, o: int, p: int) -> float:
    """How long a full restore takes alone (section 10, `model.restore.restore_from`)."""
    option = w.option[o]
    points, _ = _chain_to(w, p)
    read, written = _bytes_of(w, o, p)
    slowest = 0.0
    if written > 0.0:
        slowest = max(written / option.target, read / option.link, read / option.read)
    total: float = _set_up_s(w, o, points) + _delay_s(w, o, p) + slowest
    return total


@njit(b1(WORLD, i8, i8), cache=True)
def _is_meant(w: World, r: int, p: int) -> bool:
    """Whether a restore may use a point: any, or the one that it names, to the millisecond."""
    named = w.restore[r].named_at
    return np.isnan(named) or abs(w.point[p].at - named) <= SAME_POINT_S


@njit(void(WORLD, i8), cache=True)
def _find(w: World, r: int) -> None:
    """Settle the point of a restore as it is now, or the verdict where there is none."""
    restore = w.restore[r]
    newest, usable = -np.inf, False
    for o in range(restore.options_from, restore.options_from + restore.options_n):
        p = w.chain[w.option[o].chain].last
        while p >= 0:
            if w.option[o].routed and w.point[p].at <= newest:
                break
            if _is_meant(w, r, p) and _chain_to(w, p)[0] > 0.0:
                usable = True
                if w.option[o].routed:
                    newest = w.point[p].at
                break
            p = w.point[p].previous
    restore.point = -1
    if newest == -np.inf:
        restore.verdict = R_NO_PATH if usable else R_NO_POINT
        return
    # Of an original and its copies the one that is back first.
    least = newest - SAME_INSTANT
    quickest = np.inf
    for o in range(restore.options_from, restore.options_from + restore.options_n):
        if not w.option[o].routed:
            continue
        p = w.chain[w.option[o].chain].last
        first = -1
        while p >= 0 and w.point[p].at >= least:
            first = p
            p = w.point[p].previous
        p = first
        while p >= 0:
            if _is_meant(w, r, p) and _chain_to(w, p)[0] > 0.0:
                seconds = _full_s(w, o, p)
                if restore.point < 0 or seconds < quickest - SAME_INSTANT:
                    restore.point, restore.option, quickest = p, o, seconds
            p = w.point[p].next


@njit(b1(WORLD, i8), cache=True)
def _has_tiers(w: World, r: int) -> bool:
    """Whether which point is the quickest changes by time alone."""
    restore = w.restore[r]
    for o in range(restore.options_from, restore.options_from + restore.options_n):
        if w.option[o].cold_1 < np.inf:
            return True
    return False


@njit(i8(WORLD, i8), cache=True)
def _changes(w: World, r: int) -> int:
    """Grows with every change of the points that a restore may use."""
    restore = w.restore[r]
    count = 0
    for o in range(restore.options_from, restore.options_from + restore.options_n):
        count += w.chain[w.option[o].chain].changes
    return count


# --- the queue ----------------------------------------------------------------------------------


@njit(b1(WORLD, i8), cache=True)
def _may_start(w: World, r: int) -> bool:
    restore = w.restore[r]
    if w.n[N_RESTORES_UNDER_WAY] >= w.n[N_RESTORES_AT_ONCE]:
        return False
    if w.held[restore.machine] >= 0 or full(w, w.option[restore.option].pool):
        return False
    before = restore.before
    while before >= 0:
        if w.restore[before].state != R_ENDED:
            return False
        before = w.restore[before].before
    return True


@njit(void(WORLD, i8), cache=True)
def _start(w: World, r: int) -> None:
    """Settle the point of a restore with what it moves, and begin to set it up."""
    restore = w.restore[r]
    o = restore.option
    points, _ = _chain_to(w, restore.point)
    restore.read, restore.written = _bytes_of(w, o, restore.point)
    restore.points_n = int(points)
    restore.at = w.point[restore.point].at
    restore.state = R_UNDER_WAY
    restore.start = w.f[F_NOW]
    w.n[N_RESTORES_UNDER_WAY] += 1
    take_slot(w, w.option[o].pool)
    restore.delay = _delay_s(w, o, restore.point)
    add_step(w, w.f[F_NOW] + (_set_up_s(w, o, points) + restore.delay), S_RESTORE_READY, r)


@njit(b1(WORLD), cache=True)
def walk_restores(w: World) -> bool:
    """Step 4: look for the points of those that wait, and start what can start."""
    started = False
    for r in range(w.n[N_RESTORES_DUE]):
        restore = w.restore[r]
        if restore.state != R_DUE:
            continue
        changes = _changes(w, r)
        if restore.seen != changes or _has_tiers(w, r):
            restore.seen = changes
            _find(w, r)
        if restore.point < 0:
            _end(w, r, restore.verdict)
        elif _may_start(w, r):
            _start(w, r)
            started = True
    return started


# --- step by step -------------------------------------------------------------------------------


@njit(void(WORLD, i8), cache=True)
def _give_back(w: World, r: int) -> None:
    w.n[N_RESTORES_UNDER_WAY] -= 1
    free_slot(w, w.option[w.restore[r].option].pool)


@njit(void(WORLD, i8), cache=True)
def restore_whole(w: World, r: int) -> None:
    """All of a machine is written."""
    restore = w.restore[r]
    restore.whole = w.f[F_NOW]
    if np.isnan(restore.back):
        restore.back = w.f[F_NOW]
        _let_start(w, restore.machine)
    _give_back(w, r)
    _end(w, r, R_DONE)


@njit(void(WORLD, i8), cache=True)
def _join(w: World, r: int) -> None:
    restore = w.restore[r]
    option = w.option[restore.option]
    t = w.n[N_FIRST_RESTORE] + r
    transfer = w.transfer[t]
    transfer.work = restore.written
    transfer.share, transfer.ceiling = restore.share, restore.ceiling
    s = enter(w, t, option.uses_n)
    factor = growth_at(w, option.growth, restore.at)
    for k in range(option.uses_n):
        row = w.restore_use[option.uses_from + k]
        amount = 1.0
        if row.what == U_READ:
            amount = restore.read / restore.written
        elif row.what == U_PART:
            amount = 0.0
            for d in range(option.disks_from, option.disks_from + option.disks_n):
                disk = w.restore_disk[d]
                if disk.use == k:
                    part = max(0.0, disk.used * factor - disk.left_out) / restore.written
                    amount += part
        w.restore_amount[r, k] = amount
        use(w, s, k, row.resource, amount)


@njit(void(WORLD, i8), cache=True)
def restore_ready(w: World, r: int) -> None:
    """A restore is set up: begin its one stream."""
    restore = w.restore[r]
    if restore.state != R_UNDER_WAY:
        return
    if restore.instant and not w.option[restore.option].sequential:
        restore.back = w.f[F_NOW]
        _let_start(w, restore.machine)
    if restore.written <= 0.0:
        restore_whole(w, r)
    else:
        _join(w, r)


@njit(void(WORLD), cache=True)
def take_up_restores(w: World) -> None:
    """Let the restores that are under way at the beginning go on where they are (section 15)."""
    for r in range(len(w.restore)):
        restore = w.restore[r]
        if restore.state == R_COMING:
            return
        w.n[N_RESTORES_DUE] += 1
        if np.isnan(restore.back):
            w.restoring[restore.machine] += 1
        if restore.state != R_UNDER_WAY:
            continue
        w.n[N_RESTORES_UNDER_WAY] += 1
        take_slot(w, w.option[restore.option].pool)
        set_up = _set_up_s(w, restore.option, float(restore.points_n))
        ready = restore.start + (set_up + restore.delay)
        if ready > w.f[F_NOW] + SAME_INSTANT:
            add_step(w, ready, S_RESTORE_READY, r)
        elif restore.written <= 0.0:
            restore_whole(w, r)
        else:
            _join(w, r)
            s = w.transfer[w.n[N_FIRST_RESTORE] + r].stream
            w.stream[s].left = max(0.0, restore.written - restore.done)
            w.squeezed_now[s] = w.restore_squeezed[r]


@njit(void(WORLD), cache=True)
def cut_restores_off(w: World) -> None:
    """End what has not ended."""
    for r in range(w.n[N_RESTORES_DUE]):
        restore = w.restore[r]
        if restore.state == R_ENDED:
            continue
        t = w.n[N_FIRST_RESTORE] + r
        if w.transfer[t].stream >= 0:
            leave(w, t)
        if restore.state == R_UNDER_WAY:
            _give_back(w, r)
        _end(w, r, R_CUT_OFF)
