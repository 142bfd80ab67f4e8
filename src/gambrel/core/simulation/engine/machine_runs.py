"""A machine-run step by step, the end of its run, and what its work leaves behind (section 6)."""

from __future__ import annotations

import numpy as np
from numba import njit

from gambrel.core.constants import (
    RELEASE_BYTES_PER_S,
    RELEASE_S,
)
from gambrel.core.simulation.engine.heaps import add_step
from gambrel.core.simulation.engine.points import (
    apply_retention,
    base_for,
    growth_at,
    merge_oldest,
    new_point,
    newest_full,
    newest_usable,
    store_point,
)
from gambrel.core.simulation.engine.queue import (
    free_slot,
    least_busy,
    queue_disk,
    take_slot,
    unqueue_disk,
    unqueue_work,
    wake_machine,
)
from gambrel.core.simulation.engine.rates import join, leave
from gambrel.core.simulation.engine.repository_work import (
    count_pending,
    give_back_work,
    is_asked_about,
    merge,
    plan_copies,
    rewrite,
)
from gambrel.core.simulation.engine.tables import (
    BOOT,
    CHAIN_DIFFERENTIAL,
    CHAIN_FOREVER,
    CHAIN_FULL_ONLY,
    CHAIN_INCREMENTAL,
    CHECKSUM,
    CUT_OFF,
    DIFFERENTIAL,
    DONE,
    ENDED,
    F_NOW,
    FINISHING,
    FULL,
    INCREMENTAL,
    MISSED,
    MOVING,
    N_ACTIVE,
    N_DISKS,
    N_ENDED_NOW,
    N_OPEN,
    PREPARING,
    RUN_DONE,
    RUN_INCOMPLETE,
    RUN_MISSED,
    S_DISK_END,
    S_END_RUN,
    S_PREPARED,
    S_RELEASED,
    S_VERIFIED,
    S_WORK_END,
    ST_COPY,
    ST_TRANSFORM,
    W_ENDED,
    W_MOVING,
    WAITING,
    World,
)
from gambrel.core.units import DAY


@njit(cache=True)
def class_count(w: World) -> int:
    return len(w.klass)


@njit(cache=True)
def stop(w: World, r: int, cut: bool) -> None:
    """Miss what has not started; with `cut`, cut off what has not moved yet."""
    run = w.run[r]
    for i in range(run.tasks_from, run.tasks_from + run.tasks_n):
        state = w.task[i].state
        if state == WAITING:
            end_task(w, i, MISSED)
        elif cut and (state == PREPARING or state == MOVING):
            _cut_off(w, i)


@njit(cache=True)
def _cut_off(w: World, i: int) -> None:
    task = w.task[i]
    for t in range(task.disks_from, task.disks_from + w.member[task.member].disks_n):
        stream = w.transfer[t]
        if stream.stream >= 0:
            leave(w, t)
            moved = max(0.0, stream.work - stream.left)
            task.source += moved
            task.wire += moved * stream.omega
            _release_slots(w, t)
        elif stream.slots:
            _release_slots(w, t)
        elif stream.waits:
            unqueue_disk(w, t, class_count(w))
    let_go(w, i)
    end_task(w, i, CUT_OFF)


@njit(cache=True)
def take_slots(w: World, t: int) -> None:
    disk = w.disk[w.transfer[t].disk]
    hold_slots(w, t, least_busy(w, disk.candidates_from, disk.candidates_n))


@njit(cache=True)
def hold_slots(w: World, t: int, candidate: int) -> None:
    """Give a disk the slots that it needs to be read in some way."""
    stream = w.transfer[t]
    klass = w.klass[w.disk[stream.disk].klass]
    stream.candidate = candidate
    stream.slots = 1
    stream.slots_from = w.f[F_NOW]
    take_slot(w, klass.pool_a)
    take_slot(w, klass.pool_b)
    take_slot(w, klass.pool_c)
    take_slot(w, w.candidate[stream.candidate].proxy)


@njit(cache=True)
def _release_slots(w: World, t: int) -> None:
    stream = w.transfer[t]
    klass = w.klass[w.disk[stream.disk].klass]
    stream.slots = 0
    stream.slots_to = w.f[F_NOW]
    free_slot(w, klass.pool_a)
    free_slot(w, klass.pool_b)
    free_slot(w, klass.pool_c)
    free_slot(w, w.candidate[stream.candidate].proxy)


@njit(cache=True)
def start_machine(w: World, t: int) -> None:
    i = w.transfer[t].task
    task = w.task[i]
    member = w.member[task.member]
    task.state = PREPARING
    task.start = w.f[F_NOW]
    task.first = t
    w.run[task.run].started = 1
    hold_machine(w, i)
    _set_volumes(w, i)
    add_step(w, w.f[F_NOW] + member.prepare, S_PREPARED, i)


@njit(cache=True)
def hold_machine(w: World, i: int) -> None:
    """Hold the machine of a machine-run, and a slot of its host."""
    member = w.member[w.task[i].member]
    w.held[member.machine] = w.task[i].run
    take_slot(w, member.host_pool)


@njit(cache=True)
def effective_kind(chain: int, scheduled: int, has_full: bool) -> int:
    if not has_full or chain == CHAIN_FULL_ONLY:
        return FULL
    if chain == CHAIN_FOREVER:
        return INCREMENTAL
    if chain == CHAIN_DIFFERENTIAL and scheduled == INCREMENTAL:
        return DIFFERENTIAL
    if chain == CHAIN_INCREMENTAL and scheduled == DIFFERENTIAL:
        return INCREMENTAL
    return scheduled


@njit(cache=True)
def kind_in_turn(scheduled: int, group: int, turn: int) -> int:
    if group < 0:
        return scheduled
    if group == turn:
        return FULL
    return INCREMENTAL if scheduled == FULL else scheduled


@njit(cache=True)
def protected_bytes(w: World, i: int) -> float:
    """The used bytes of all disks of a machine-run when it started (`volume.protected_bytes`)."""
    member = w.member[w.task[i].member]
    factor = growth_at(w, member.growth, w.task[i].start)
    total = 0.0
    for d in range(member.disks_from, member.disks_from + member.disks_n):
        total += max(0.0, w.disk[d].used * factor - w.disk[d].left_out)
    return total


@njit(cache=True)
def built_on(w: World, chain: int, kind: int, synthetic: bool, full: int) -> int:
    """The point on which a run builds, or -1; `full`: the newest usable full of the chain."""
    if synthetic or kind == INCREMENTAL:
        return newest_usable(w, chain)
    return full if kind == DIFFERENTIAL else -1


@njit(cache=True)
def changed_part(w: World, m: int, base: int) -> float:
    """Which part of a member's used bytes has changed by now since a point, if there is one."""
    member = w.member[m]
    if base < 0 or member.change <= 0.0 or member.churn <= 0.0:
        return 0.0
    days = (w.f[F_NOW] - w.point[base].at) / DAY
    part: float = member.churn * (1.0 - np.exp(-member.change * days / member.churn))
    return part


@njit(cache=True)
def _set_volumes(w: World, i: int) -> None:
    """Settle what a machine moves, at the instant at which it starts (section 4)."""
    task = w.task[i]
    member = w.member[task.member]
    run = w.run[task.run]
    job = w.job[run.job]
    full = newest_full(w, member.chain)
    scheduled = kind_in_turn(run.kind, member.group, run.turn)
    task.kind = effective_kind(job.chain, scheduled, full >= 0)
    task.synthetic = 1 if task.kind == FULL and member.synthetic and full >= 0 else 0
    task.base_point = built_on(w, member.chain, task.kind, task.synthetic == 1, full)
    part = changed_part(w, task.member, task.base_point)
    growth = growth_at(w, member.growth, w.f[F_NOW])
    for d in range(member.disks_n):
        disk = w.disk[member.disks_from + d]
        stream = w.transfer[task.disks_from + d]
        payload = max(0.0, disk.used * growth - disk.left_out)
        source = max(0.0, disk.whole * growth - disk.left_out)
        if task.base_point >= 0:
            payload = payload * part
            if job.tracking:
                source = payload
        stream.work = source
        stream.omega = payload / member.kappa / source if source > 0.0 else 0.0
        stream.share = job.share


@njit(cache=True)
def prepared(w: World, i: int) -> None:
    task = w.task[i]
    if task.state != PREPARING:
        return
    if w.member[task.member].refuses:
        _cut_off(w, i)
        return
    task.state = MOVING
    move(w, task.first)
    for t in range(task.disks_from, task.disks_from + w.member[task.member].disks_n):
        if t != task.first:
            queue_disk(w, t, class_count(w))


@njit(cache=True)
def move(w: World, t: int) -> None:
    stream = w.transfer[t]
    if stream.work <= 0.0:
        add_step(w, w.f[F_NOW], S_DISK_END, t)
    else:
        stream.ceiling = w.candidate[stream.candidate].ceiling
        join(w, t)


@njit(cache=True)
def disk_moved(w: World, t: int) -> None:
    stream = w.transfer[t]
    i = stream.task
    task = w.task[i]
    if task.state != MOVING:
        return
    task.source += stream.work
    task.wire += stream.work * stream.omega
    stream.moved = 1
    _release_slots(w, t)
    task.left -= 1
    if task.left == 0:
        _all_moved(w, i)


@njit(cache=True)
def _all_moved(w: World, i: int) -> None:
    task = w.task[i]
    member = w.member[task.member]
    repository = w.repository[member.repository]
    task.state = FINISHING
    task.moved = w.f[F_NOW]
    if task.synthetic:
        task.stored = protected_bytes(w, i) / member.kappa / repository.dedupe
    else:
        wire = 0.0
        for t in range(task.disks_from, task.disks_from + member.disks_n):
            wire += w.transfer[t].work * w.transfer[t].omega
        if task.kind == FULL:
            wire = protected_bytes(w, i) / member.kappa
        task.stored = wire / repository.dedupe
        _make_point(w, i)
    if member.server:
        let_go(w, i)
        released(w, i)
    else:
        add_step(w, release_end(w, i), S_RELEASED, i)


@njit(cache=True)
def release_end(w: World, i: int) -> float:
    """When the snapshot of a machine will be gone whose disks have all moved."""
    task = w.task[i]
    member = w.member[task.member]
    written = protected_bytes(w, i) * member.change * (task.moved - task.start) / DAY
    end: float = task.moved + (RELEASE_S + written / RELEASE_BYTES_PER_S)
    return end


@njit(cache=True)
def _make_point(w: World, i: int) -> None:
    task = w.task[i]
    base = -1 if task.kind == FULL else task.base_point
    chain = w.member[task.member].chain
    store_point(w, new_point(w, chain, task.kind, task.start, task.stored, base))
    task.made = 1


@njit(cache=True)
def let_go(w: World, i: int) -> None:
    """The machine is held no longer, its host has its slot back."""
    task = w.task[i]
    member = w.member[task.member]
    w.held[member.machine] = -1
    task.released = w.f[F_NOW]
    free_slot(w, member.host_pool)
    wake_machine(w, member.machine)


@njit(cache=True)
def released(w: World, i: int) -> None:
    if w.task[i].synthetic:
        home = w.member[w.task[i].member]
        candidate = w.repository[home.repository].candidate
        rewrite(w, i, home.repository, home.work_class, ST_TRANSFORM, candidate, w.task[i].stored)
    else:
        _verify(w, i)


@njit(cache=True)
def verify_seconds(w: World, i: int) -> float:
    """How long the verify of a machine-run takes, with the steps in the guest."""
    job = w.job[w.run[w.task[i].run].job]
    seconds: float = job.guest_after
    if w.task[i].kind == FULL and not job.verify_fulls:
        return seconds
    if job.verify == BOOT:
        seconds += job.boot
    elif job.verify == CHECKSUM:
        # The rate is infinite where the repository has none, which makes this 0.
        repository = w.repository[w.member[w.task[i].member].repository]
        seconds += repository.first_byte + w.task[i].stored / repository.read
    return seconds


@njit(cache=True)
def _verify(w: World, i: int) -> None:
    seconds = verify_seconds(w, i)
    if seconds > 0.0:
        add_step(w, w.f[F_NOW] + seconds, S_VERIFIED, i)
    else:
        finish(w, i)


@njit(cache=True)
def finish(w: World, i: int) -> None:
    end_task(w, i, DONE)
    plan_copies(w, i)


@njit(cache=True)
def end_task(w: World, i: int, outcome: int) -> None:
    task = w.task[i]
    if outcome != DONE:
        task.stored = 0.0
    task.state = ENDED
    task.outcome = outcome
    task.ended = w.f[F_NOW]
    run = w.run[task.run]
    run.unfinished -= 1
    if outcome == DONE:
        run.done += 1
    if run.unfinished == 0:
        after = w.job[run.job].after
        if after > 0.0:
            add_step(w, w.f[F_NOW] + after, S_END_RUN, task.run)
        else:
            end_run(w, task.run)


@njit(cache=True)
def end_run(w: World, r: int) -> None:
    run = w.run[r]
    if run.ended != np.inf:
        return
    run.ended = w.f[F_NOW]
    w.active[run.job] = -1
    w.n[N_ACTIVE] -= 1
    if is_asked_about(w, r):
        w.n[N_OPEN] -= 1
    if run.outcome < 0:
        if run.done == run.tasks_n:
            run.outcome = RUN_DONE
        elif run.done == 0:
            run.outcome = RUN_MISSED
        else:
            run.outcome = RUN_INCOMPLETE
    w.ended_now[w.n[N_ENDED_NOW]] = r
    w.n[N_ENDED_NOW] += 1
    job = w.job[run.job]
    for i in range(run.tasks_from, run.tasks_from + run.tasks_n):
        if not w.task[i].made:
            continue
        home = w.member[w.task[i].member]
        chain = home.chain
        if job.chain == CHAIN_FOREVER:
            while True:
                stored = merge_oldest(w, chain, job)
                if stored < 0.0:
                    break
                merge(w, i, home.repository, home.work_class, stored)
        else:
            apply_retention(w, chain, job)


@njit(cache=True)
def start_work(w: World, k: int) -> None:
    work = w.work[k]
    stream = w.transfer[w.n[N_DISKS] + k]
    if work.stage == ST_COPY:
        task = w.task[work.task]
        member = w.member[task.member]
        source = w.repository[member.repository]
        # What a copy carries is settled when it starts to move (section 7).
        if newest_full(w, work.chain) < 0:
            stream.work = protected_bytes(w, work.task) / member.kappa
        else:
            stream.work = task.stored * source.dedupe
    move_work(w, k)


@njit(cache=True)
def move_work(w: World, k: int) -> None:
    """Let a queued transform, merge or copy move whose work is settled."""
    work = w.work[k]
    row = w.queue[work.klass]
    t = w.n[N_DISKS] + k
    stream = w.transfer[t]
    unqueue_work(w, k)
    work.state = W_MOVING
    work.started = w.f[F_NOW]
    stream.slots_from = w.f[F_NOW]
    take_slot(w, row.pool_a)
    take_slot(w, row.pool_b)
    if work.stage == ST_COPY:
        w.chain[work.chain].busy = 1
        work.wire = stream.work
    if stream.work <= 0.0:
        add_step(w, w.f[F_NOW], S_WORK_END, t)
    else:
        join(w, t)


@njit(cache=True)
def work_done(w: World, k: int) -> None:
    work = w.work[k]
    work.state = W_ENDED
    work.ended = w.f[F_NOW]
    give_back_work(w, k)
    if work.stage == ST_TRANSFORM:
        _make_point(w, work.task)
        _verify(w, work.task)
        return
    count_pending(w, work.task, -1)
    if work.stage == ST_COPY:
        _copied(w, k)


@njit(cache=True)
def _copied(w: World, k: int) -> None:
    work = w.work[k]
    task = w.task[work.task]
    job = w.job[w.run[task.run].job]
    copy = w.copy[work.copy_row]
    w.chain[work.chain].busy = 0
    kind = task.kind if newest_full(w, work.chain) >= 0 else FULL
    stored = work.wire / w.repository[copy.repository].dedupe
    base = base_for(w, work.chain, kind)
    store_point(w, new_point(w, work.chain, kind, task.start, stored, base))
    if job.chain == CHAIN_FOREVER:
        while True:
            merged = merge_oldest(w, work.chain, copy)
            if merged < 0.0:
                break
            merge(w, work.task, copy.repository, copy.merge_class, merged)
    else:
        apply_retention(w, work.chain, copy)
