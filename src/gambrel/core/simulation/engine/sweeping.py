"""What loads come to in a span of time: one sweep in order of time serves all of them."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

from gambrel.core.constants import FULL_LOAD, NO_LOAD
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.load_uses import (
    READ,
    purpose_and_job,
    use_of,
    uses_of_transfer,
)
from gambrel.core.simulation.engine.world import Handle, view_of

EPOCH, N_USES_MOST = t.EPOCH, t.N_USES_MOST
Flags = npt.NDArray[np.bool_]
Shorts = npt.NDArray[np.int32]


# What makes no arrays need not count who holds those that it is given, which would take longer than
# all else here. For that they are handed on one by one.
_njit_counting_nobody: Any = njit(  # type: ignore[call-overload]
    cache=True, nogil=True, error_model="numpy", _nrt=False
)


@_njit_counting_nobody
def _tell(
    row: int, load: float, at: float, until: float, start: float, end: float, scale: t.Floats,
    limit_from: t.Ints, limits: t.Floats, step_of: t.Ints, peaks: t.Floats, full: t.Floats,
) -> None:  # fmt: skip
    """Note that a row has had a load over [at, until), after all that was noted of it before.

    Args:
        start, end: the span.
        step_of: the capacity that each row has come to; it only goes on.
    """
    load /= scale[row]
    begins, ends = max(at, start), min(until, end)
    step, last_step = step_of[row], limit_from[row + 1] - 1
    while step < last_step and limits[step + 1, 0] <= begins:
        step += 1
    step_of[row] = step
    if load >= NO_LOAD and begins < ends:
        bins = peaks.shape[1]
        width = (end - start) / bins
        lowest = int((begins - start) / width)
        highest = min(bins - 1, int((ends - start - 1e-9) / width))
        for b in range(lowest, highest + 1):
            if peaks[row, b] < load:
                peaks[row, b] = load
        while begins < ends:
            while step < last_step and limits[step + 1, 0] <= begins:
                step += 1
            holds = min(ends, limits[step + 1, 0]) if step < last_step else ends
            if limits[step, 1] > 0.0 and load >= FULL_LOAD * limits[step, 1]:
                full[row] += holds - begins
            begins = holds


@njit(cache=True, nogil=True, error_model="numpy")
def sweep_stretches(
    began_at: t.Floats, ended_at: t.Floats, began: t.Ints, ended: t.Ints, job: t.Ints,
    first: t.Ints, pool: Shorts, start: float, end: float, row_of: t.Ints, scale: t.Floats,
    limit_from: t.Ints, limits: t.Floats, peaks: t.Floats, full: t.Floats, jobs: Flags,
) -> None:  # fmt: skip
    """Add stretches to the rows of pools: each loads the row of each of its pools by 1.

    Stretch i runs over [began_at[i], ended_at[i]), which overlaps with the span [start, end), for a
    job (-1: for none that counts), and has the pools first[i] up to first[i + 1]. `began` and
    `ended` are the orders of both instants. Where both happen at one, what ends goes first. The
    rest as of SweepRows.
    """
    load, since = np.zeros(len(peaks)), np.full(len(peaks), start)
    step = limit_from[:-1].copy()
    i = j = 0
    while j < len(ended):
        if i < len(began) and began_at[began[i]] < ended_at[ended[j]]:
            record, at, sign = began[i], began_at[began[i]], 1.0
            i += 1
        else:
            record, at, sign = ended[j], ended_at[ended[j]], -1.0
            j += 1
        if began_at[record] == ended_at[record]:
            continue
        for k in range(first[record], first[record + 1]):
            row = row_of[pool[k]]
            if row < 0:
                continue
            if at > since[row]:
                _tell(row, load[row], since[row], at, start, end, scale, limit_from, limits, step,
                      peaks, full)  # fmt: skip
                since[row] = at
            load[row] += sign
            if sign > 0.0 and job[record] >= 0:
                jobs[row, job[record]] = True


# --- flows, where they stand ------------------------------------------------------------------


@njit(cache=True, nogil=True)
def _followed(w: t.World, low: int, high: int, since: float, until: float) -> tuple[Shorts, t.Ints]:
    """The next flow of each one's stream where that follows on at once; those that follow none.

    The latter are in order of their starts.
    """
    after = np.full(high - low, -1, np.int32)
    last = np.full(len(w.transfer), -1, np.int32)
    firsts = np.empty(high - low, np.int64)
    starts = np.empty(high - low)
    count = 0
    for i in range(low, high):
        flow = w.flow[i]
        if not (flow.start < until and flow.end > since):
            continue
        before = last[flow.transfer]
        last[flow.transfer] = i
        if before >= 0 and w.flow[before].end == flow.start:
            after[before - low] = i
        else:
            firsts[count], starts[count] = i, flow.start
            count += 1
    order = np.argsort(starts[:count], kind="mergesort")
    return after, firsts[:count][order]


@_njit_counting_nobody
def _changes(
    w: t.World, old: int, new: int, apart: int, row_of: t.Ints, jobs: Flags, rows: t.Ints,
    changes: t.Floats,
) -> int:  # fmt: skip
    """What changes where a stream goes from one flow to the next; -1: to or from none.

    Written to `rows` and `changes`; how many they are.
    """
    i = max(old, new)
    transfer = w.flow[i].transfer
    before = w.flow[old].rate if old >= 0 else 0.0
    after = w.flow[new].rate if new >= 0 else 0.0
    # What moves in no time uses nothing.
    before = 0.0 if before == np.inf else before
    moves = new >= 0 and after != np.inf
    after = after if moves else 0.0
    # Who used something is noted with the first of its flows that is more than nothing.
    reader = -1
    if moves and before == 0.0:
        purpose, job = purpose_and_job(w, i)
        reader = job if purpose == READ else -1
    n = 0
    begin, count = uses_of_transfer(w, transfer)
    for k in range(count):
        resource, amount = use_of(w, transfer, begin, k)
        row = row_of[resource]
        if row >= 0:
            rows[n], changes[n] = row, (after - before) * amount
            n += 1
            if reader >= 0:
                jobs[row, reader] = True
    gone = w.flow[old].squeezed_by if old >= 0 else -1
    come = w.flow[new].squeezed_by if new >= 0 else -1
    if gone != come:
        if gone >= 0 and row_of[gone] >= 0:
            rows[n], changes[n] = row_of[gone] + apart, -1.0
            n += 1
        if come >= 0 and row_of[come] >= 0:
            rows[n], changes[n] = row_of[come] + apart, 1.0
            job = purpose_and_job(w, i)[1]
            if job >= 0:
                jobs[rows[n], job] = True
            n += 1
    return n


@_njit_counting_nobody
def _go_through(
    w: t.World, among: tuple[int, int], start: float, end: float, apart: int, row_of: t.Ints,
    scale: t.Floats, limit_from: t.Ints, limits: t.Floats, peaks: t.Floats, full: t.Floats,
    jobs: Flags, load: t.Floats, told: t.Floats, step: t.Ints, rows: t.Ints, changes: t.Floats,
    after: Shorts, firsts: t.Ints,
) -> None:  # fmt: skip
    since, until = start - EPOCH, end - EPOCH
    low, high = among
    begun, i = 0, low
    while i < high:
        flow = w.flow[i]
        if not (flow.start < until and flow.end > since):
            i += 1
            continue
        if begun < len(firsts) and w.flow[firsts[begun]].start < flow.end:
            old, new = -1, firsts[begun]
            at = w.flow[new].start + EPOCH
            begun += 1
        else:
            old, new = i, after[i - low]
            at = flow.end + EPOCH
            i += 1
        for k in range(_changes(w, old, new, apart, row_of, jobs, rows, changes)):
            row = rows[k]
            if at > told[row]:
                _tell(row, load[row], told[row], at, start, end, scale, limit_from, limits, step,
                      peaks, full)  # fmt: skip
                told[row] = at
            load[row] += changes[k]


@njit(cache=True, nogil=True)
def _sweep_flows(
    w: t.World, among: tuple[int, int], start: float, end: float, apart: int, row_of: t.Ints,
    scale: t.Floats, limit_from: t.Ints, limits: t.Floats, peaks: t.Floats, full: t.Floats,
    jobs: Flags,
) -> None:  # fmt: skip
    after, firsts = _followed(w, *among, start - EPOCH, end - EPOCH)
    most = w.n[N_USES_MOST] + 2
    _go_through(
        w, among, start, end, apart, row_of, scale, limit_from, limits, peaks, full, jobs,
        np.zeros(len(peaks)), np.full(len(peaks), start), limit_from[:-1].copy(),
        np.empty(most, np.int64), np.empty(most), after, firsts,
    )  # fmt: skip


@njit(cache=True, nogil=True)
def sweep_flows(
    world: Handle, among: tuple[int, int], start: float, end: float, apart: int, row_of: t.Ints,
    scale: t.Floats, limit_from: t.Ints, limits: t.Floats, peaks: t.Floats, full: t.Floats,
    jobs: Flags,
) -> None:  # fmt: skip
    """Add all flows of a span [start, end) to the rows of what they use and of what limits them.

    Args:
        among: between which numbers they are.
        apart: how far the row of what is wanted stands from that of what is used.

    The rest as of SweepRows.
    """
    _sweep_flows(view_of(world), among, start, end, apart, row_of, scale, limit_from, limits, peaks,
                 full, jobs)  # fmt: skip
