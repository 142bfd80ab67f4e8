"""Binary heaps over the arrays of a World: timed steps, deadlines, ends of streams."""

from __future__ import annotations

from numba import b1, f8, i8, njit, void

from gambrel.core.simulation.engine.indices import idx
from gambrel.core.simulation.engine.tables import N_DEADLINE, N_MOVING, N_SEQUENCE, N_STEP, World
from gambrel.core.simulation.engine.world import WORLD


@njit(void(WORLD, i8, i8), cache=True)
def _copy_step_key(w: World, to: int, of: int) -> None:
    w.step_key[to, 0] = w.step_key[of, 0]
    w.step_key[to, 1] = w.step_key[of, 1]
    w.step_key[to, 2] = w.step_key[of, 2]


# --- timed steps: by instant, then in the order in which they were set ------------------------


@njit(void(WORLD, f8, i8, i8), cache=True)
def add_step(w: World, at: float, kind: int, target: int) -> None:
    """Have a timed step end at an instant."""
    w.n[N_SEQUENCE] += 1
    i = w.n[N_STEP]
    w.n[N_STEP] += 1
    while i > 0:
        parent = (i - 1) // 2
        if w.step_at[parent] <= at:
            break
        w.step_at[i] = w.step_at[parent]
        _copy_step_key(w, i, parent)
        i = parent
    w.step_at[i] = at
    w.step_key[i, 0] = w.n[N_SEQUENCE]
    w.step_key[i, 1] = kind
    w.step_key[i, 2] = target


@njit(void(WORLD), cache=True)
def drop_step(w: World) -> None:
    """Take the earliest step off."""
    w.n[N_STEP] -= 1
    n = w.n[N_STEP]
    at = w.step_at[n]
    sequence, kind, target = w.step_key[n, 0], w.step_key[n, 1], w.step_key[n, 2]
    i = 0
    while True:
        child = 2 * i + 1
        if child >= n:
            break
        right = child + 1
        if right < n and (
            w.step_at[right] < w.step_at[child]
            or (
                w.step_at[right] == w.step_at[child] and w.step_key[right, 0] < w.step_key[child, 0]
            )
        ):
            child = right
        if at < w.step_at[child] or (at == w.step_at[child] and sequence < w.step_key[child, 0]):
            break
        w.step_at[i] = w.step_at[child]
        _copy_step_key(w, i, child)
        i = child
    w.step_at[i] = at
    w.step_key[i, 0] = sequence
    w.step_key[i, 1] = kind
    w.step_key[i, 2] = target


# --- deadlines: by instant, phase, occurrence and job -----------------------------------------


@njit(b1(WORLD, f8, i8, i8, i8), cache=True)
def _deadline_before(w: World, at: float, phase: int, run: int, place: int) -> bool:
    """Whether a deadline comes before the one at a place of the heap."""
    other_phase, other_run = w.deadline_key[place, 0], w.deadline_key[place, 1]
    if at != w.deadline_at[place]:
        return at < w.deadline_at[place]
    if phase != other_phase:
        return phase < other_phase
    one, other = w.run[run], w.run[other_run]
    if one.occurrence != other.occurrence:
        return one.occurrence < other.occurrence
    if one.job != other.job:
        return one.job < other.job
    return run < other_run


@njit(void(WORLD, f8, i8, i8), cache=True)
def add_deadline(w: World, at: float, phase: int, run: int) -> None:
    """Have a window open or close, or an expiry fall."""
    i = w.n[N_DEADLINE]
    w.n[N_DEADLINE] += 1
    while i > 0:
        parent = (i - 1) // 2
        if not _deadline_before(w, at, phase, run, parent):
            break
        w.deadline_at[i] = w.deadline_at[parent]
        w.deadline_key[i, 0] = w.deadline_key[parent, 0]
        w.deadline_key[i, 1] = w.deadline_key[parent, 1]
        i = parent
    w.deadline_at[i] = at
    w.deadline_key[i, 0] = phase
    w.deadline_key[i, 1] = run


@njit(void(WORLD), cache=True)
def drop_deadline(w: World) -> None:
    """Take the earliest deadline off."""
    w.n[N_DEADLINE] -= 1
    n = w.n[N_DEADLINE]
    at, phase, run = w.deadline_at[n], w.deadline_key[n, 0], w.deadline_key[n, 1]
    i = 0
    while True:
        child = 2 * i + 1
        if child >= n:
            break
        right = child + 1
        if right < n and _deadline_before(
            w, w.deadline_at[right], w.deadline_key[right, 0], w.deadline_key[right, 1], child
        ):
            child = right
        if _deadline_before(w, at, phase, run, child):
            break
        w.deadline_at[i] = w.deadline_at[child]
        w.deadline_key[i, 0] = w.deadline_key[child, 0]
        w.deadline_key[i, 1] = w.deadline_key[child, 1]
        i = child
    w.deadline_at[i] = at
    w.deadline_key[i, 0] = phase
    w.deadline_key[i, 1] = run


# --- ends of streams: an indexed heap, as rates move them --------------------------------------


@njit(void(WORLD, i8), cache=True)
def _up(w: World, i: int) -> None:
    heap, place, stream = w.end_heap, w.end_place, w.stream
    s = heap[idx(i)]
    end = stream[idx(s)].end
    while i > 0:
        parent = (i - 1) >> 1
        other = heap[idx(parent)]
        if stream[idx(other)].end <= end:
            break
        heap[idx(i)] = other
        place[idx(other)] = i
        i = parent
    heap[idx(i)] = s
    place[idx(s)] = i


@njit(void(WORLD, i8), cache=True)
def _down(w: World, i: int) -> None:
    heap, place, stream = w.end_heap, w.end_place, w.stream
    n = w.n[N_MOVING]
    s = heap[idx(i)]
    end = stream[idx(s)].end
    while True:
        child = 2 * i + 1
        if child >= n:
            break
        other = heap[idx(child)]
        least = stream[idx(other)].end
        if child + 1 < n:
            right = heap[idx(child + 1)]
            if stream[idx(right)].end < least:
                child, other, least = child + 1, right, stream[idx(right)].end
        if end <= least:
            break
        heap[idx(i)] = other
        place[idx(other)] = i
        i = child
    heap[idx(i)] = s
    place[idx(s)] = i


@njit(void(WORLD, i8), cache=True)
def heap_add(w: World, s: int) -> None:
    """Put a moving stream in; its end is known or infinite."""
    i = w.n[N_MOVING]
    w.n[N_MOVING] += 1
    w.end_heap[i] = s
    w.end_place[s] = i
    _up(w, i)


@njit(void(WORLD, i8), cache=True)
def heap_move(w: World, s: int) -> None:
    """Put a stream in its place again after its end has changed."""
    _up(w, w.end_place[s])
    _down(w, w.end_place[s])


@njit(void(WORLD, i8), cache=True)
def heap_remove(w: World, s: int) -> None:
    """Take a stream out."""
    i = w.end_place[s]
    w.n[N_MOVING] -= 1
    last = w.end_heap[w.n[N_MOVING]]
    w.end_place[s] = -1
    if last != s:
        w.end_heap[i] = last
        w.end_place[last] = i
        heap_move(w, last)
