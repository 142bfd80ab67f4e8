"""Transforms, merges and copies: what is queued, and what they give back (section 7)."""

from __future__ import annotations

import numpy as np
from numba import njit

from gambrel.core.constants import (
    BLOCK_CLONE_WORK,
    TRANSFORM_WORK,
)
from gambrel.core.simulation.engine.heaps import add_step
from gambrel.core.simulation.engine.queue import (
    free_slot,
    queue_work,
    wake,
)
from gambrel.core.simulation.engine.tables import (
    F_NOW,
    F_TO,
    F_UNTIL,
    N_DISKS,
    N_OPEN,
    N_PENDING,
    N_SEQUENCE,
    N_WORK,
    S_COPY_DUE,
    ST_COPY,
    ST_MERGE,
    World,
)


@njit(cache=True)
def is_asked_about(w: World, r: int) -> bool:
    """Whether a run is one of a span whose walk ends with what was due in it."""
    return w.f[F_UNTIL] != w.f[F_TO] and w.run[r].occurrence < w.f[F_TO]


@njit(cache=True)
def count_pending(w: World, i: int, by: int) -> None:
    """Count a copy or merge that a machine-run leaves behind, or that it has ended."""
    w.n[N_PENDING] += by
    if is_asked_about(w, w.task[i].run):
        w.n[N_OPEN] += by


@njit(cache=True)
def new_work(w: World, i: int, stage: int, row: int, number: int) -> int:
    """Write a transform, merge or copy of a machine-run down."""
    k = w.n[N_WORK]
    w.n[N_WORK] += 1
    work = w.work[k]
    work.stage, work.task, work.klass, work.number = stage, i, row, number
    work.queued = w.f[F_NOW]
    stream = w.transfer[w.n[N_DISKS] + k]
    stream.task, stream.disk = i, -1
    stream.share = w.job[w.run[w.task[i].run].job].share
    stream.ceiling = np.inf
    return k


@njit(cache=True)
def queue_rewrite(w: World, i: int, row: int, stage: int, candidate: int, work: float) -> int:
    """Queue a transform or a merge that has `work` bytes to move."""
    w.n[N_SEQUENCE] += 1
    k = new_work(w, i, stage, row, w.n[N_SEQUENCE])
    stream = w.transfer[w.n[N_DISKS] + k]
    stream.candidate = candidate
    stream.ceiling = w.candidate[candidate].ceiling
    stream.work = work
    queue_work(w, k)
    return k


@njit(cache=True)
def rewrite(
    w: World, i: int, repository: int, row: int, stage: int, candidate: int, stored: float
) -> int:
    """Queue a transform or a merge of `stored` bytes."""
    factor = BLOCK_CLONE_WORK if w.repository[repository].block_clone else TRANSFORM_WORK
    return queue_rewrite(w, i, row, stage, candidate, factor * stored)


@njit(cache=True)
def merge(w: World, i: int, repository: int, row: int, stored: float) -> None:
    count_pending(w, i, 1)
    rewrite(w, i, repository, row, ST_MERGE, w.repository[repository].candidate, stored)


@njit(cache=True)
def new_copy(w: World, i: int, k: int) -> int:
    """Write the copy number `k` of a machine-run down; it is queued when it is due."""
    member = w.member[w.task[i].member]
    row = member.copies_from + k
    copy = w.copy[row]
    count_pending(w, i, 1)
    item = new_work(w, i, ST_COPY, copy.move_class, k)
    work = w.work[item]
    work.copy_row = row
    work.chain = w.copy_chain[member.copy_chains + k]
    w.transfer[w.n[N_DISKS] + item].candidate = copy.candidate
    return item


@njit(cache=True)
def plan_copies(w: World, i: int) -> None:
    task = w.task[i]
    member = w.member[task.member]
    job = w.job[w.run[task.run].job]
    if member.disks_n == 0:
        return
    for k in range(job.copies_n):
        copy = w.copy[member.copies_from + k]
        if not copy.routed:
            continue
        item = new_copy(w, i, k)
        if copy.delay > 0.0:
            add_step(w, w.f[F_NOW] + copy.delay, S_COPY_DUE, item)
        else:
            queue_work(w, item)


@njit(cache=True)
def give_back_work(w: World, k: int) -> None:
    row = w.queue[w.work[k].klass]
    w.transfer[w.n[N_DISKS] + k].slots_to = w.f[F_NOW]
    free_slot(w, row.pool_a)
    free_slot(w, row.pool_b)
    wake(w, w.work[k].klass)
