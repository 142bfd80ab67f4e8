"""The event loop of the engine (sections 6 and 7), on the arrays of a World.

`advance` walks from instant to instant; the five steps of section 6 are the five parts of
`_instant`. It returns when all work has ended, and before that wherever its driver has to do
something: enlarge the record of flows, keep the points of a quiet instant, or look whether the
simulation is still wanted.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from gambrel.core.constants import (
    BLOCK_CLONE_WORK,
    FOLLOWED_AFTER_END,
    OPENS_WITHIN,
    RELEASE_BYTES_PER_S,
    RELEASE_S,
    TRANSFORM_WORK,
)
from gambrel.core.simulation.engine.admission import gather, next_to_start
from gambrel.core.simulation.engine.heaps import add_deadline, add_step, drop_deadline, drop_step
from gambrel.core.simulation.engine.points import (
    apply_retention,
    base_for,
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
    queue_work,
    take_slot,
    unqueue_disk,
    unqueue_work,
    wake,
    wake_job,
)
from gambrel.core.simulation.engine.rates import join, leave, mark_dirty, share_rates
from gambrel.core.simulation.engine.tables import (
    BOOT,
    CHAIN_DIFFERENTIAL,
    CHAIN_FOREVER,
    CHAIN_FULL_ONLY,
    CHAIN_INCREMENTAL,
    CHECKSUM,
    CUT_OFF,
    D_CLOSES,
    D_OPENS,
    D_START_WITHIN,
    D_STOP_AFTER,
    DIFFERENTIAL,
    DONE,
    ENDED,
    F_NOW,
    F_TO,
    F_UNTIL,
    FINISHED,
    FINISHING,
    FULL,
    INCREMENTAL,
    IS_QUIET,
    MISSED,
    MOVING,
    N_ACTIVE,
    N_DEADLINE,
    N_DISKS,
    N_DUE,
    N_ENDED_NOW,
    N_FLOW,
    N_INSTANTS,
    N_LIMIT,
    N_MOVING,
    N_OPEN,
    N_PENDING,
    N_RUN,
    N_SEQUENCE,
    N_SNAPSHOT,
    N_SPACE,
    N_STEP,
    N_TASK,
    N_TRANSFER,
    N_WORK,
    NO_PATH,
    PAUSES,
    PREPARING,
    RUN_DONE,
    RUN_EMPTY,
    RUN_INCOMPLETE,
    RUN_MISSED,
    RUN_ON,
    RUN_SKIPPED,
    S_COPY_DUE,
    S_DISK_END,
    S_END_RUN,
    S_POINT,
    S_PREPARED,
    S_REACH_QUEUE,
    S_RELEASED,
    S_STREAM_END,
    S_VERIFIED,
    S_WORK_END,
    ST_COPY,
    ST_DISK,
    ST_MERGE,
    ST_TRANSFORM,
    STOP,
    UNSETTLED,
    W_ENDED,
    W_MOVING,
    WAITING,
    WANTS_FLOWS,
    World,
)
from gambrel.core.simulation.engine.world import Handle, view_of
from gambrel.core.units import DAY, SAME_INSTANT


@njit(cache=True)
def _classes(w: World) -> int:
    return len(w.klass)


# --- step 1: what ends ------------------------------------------------------------------------


@njit(cache=True)
def _note_end(w: World, i: int, kind: int, target: int, sequence: int) -> None:
    """Write down what ends now with its place in the order of ends."""
    run, order, stage, number = -1, 0, ST_DISK, 0
    if kind == S_PREPARED:
        task = w.task[target]
        run, order, number = task.run, task.order, task.first
    elif kind == S_RELEASED or kind == S_VERIFIED:
        task = w.task[target]
        run, order, number = task.run, task.order, task.disks_from
    elif kind == S_REACH_QUEUE or kind == S_END_RUN:
        run = target
    elif kind != S_POINT:
        t = target
        if kind == S_COPY_DUE:
            t = w.n[N_DISKS] + target
        task = w.task[w.transfer[t].task]
        run, order, number = task.run, task.order, t
        if t >= w.n[N_DISKS]:
            work = w.work[t - w.n[N_DISKS]]
            stage, number = work.stage, work.number
    key = w.due_key[i]
    if run >= 0:
        key[0], key[1] = w.run[run].occurrence, w.run[run].job
    else:
        chain = w.chain[w.point[target].chain]
        key[0], key[1] = w.point[target].at, chain.job
        order = chain.machine
    key[2], key[3], key[4] = order, stage, number
    w.due_now[i, 0], w.due_now[i, 1], w.due_now[i, 2] = kind, target, sequence
    w.due_order[i] = i


@njit(cache=True)
def _ends_before(w: World, one: int, other: int) -> bool:
    for k in range(5):
        if w.due_key[one, k] != w.due_key[other, k]:
            return w.due_key[one, k] < w.due_key[other, k]
    return w.due_now[one, 2] < w.due_now[other, 2]


@njit(cache=True)
def _sort_ends(w: World, count: int) -> None:
    """Shell's sort; the keys differ in their last part, so it need not be stable."""
    gap = count // 2
    while gap > 0:
        for i in range(gap, count):
            item = w.due_order[i]
            j = i
            while j >= gap and _ends_before(w, item, w.due_order[j - gap]):
                w.due_order[j] = w.due_order[j - gap]
                j -= gap
            w.due_order[j] = item
        gap //= 2


@njit(cache=True)
def _end_work(w: World, reached: float) -> bool:
    happened = False
    while True:
        count = 0
        while w.n[N_STEP] > 0 and w.step_at[0] <= reached:
            key = w.step_key[0]
            sequence, kind, target = key[0], key[1], key[2]
            drop_step(w)
            _note_end(w, count, kind, target, sequence)
            count += 1
        while w.n[N_MOVING] > 0 and w.stream[w.end_heap[0]].end <= reached:
            t = w.stream[w.end_heap[0]].transfer
            leave(w, t)
            _note_end(w, count, S_STREAM_END, t, 0)
            count += 1
        if count == 0:
            return happened
        happened = True
        if count > 1:
            _sort_ends(w, count)
        for i in range(count):
            entry = w.due_now[w.due_order[i]]
            _end(w, entry[0], entry[1])


@njit(cache=True)
def _end(w: World, kind: int, target: int) -> None:
    if kind == S_STREAM_END or kind == S_DISK_END or kind == S_WORK_END:
        if target < w.n[N_DISKS]:
            _disk_moved(w, target)
        else:
            _work_done(w, target - w.n[N_DISKS])
    elif kind == S_PREPARED:
        _prepared(w, target)
    elif kind == S_RELEASED:
        _let_go(w, target)
        _released(w, target)
    elif kind == S_VERIFIED:
        _finish(w, target)
    elif kind == S_REACH_QUEUE:
        _reach_queue(w, target)
    elif kind == S_END_RUN:
        _end_run(w, target)
    elif kind == S_COPY_DUE:
        queue_work(w, target)
    else:
        store_point(w, target)


# --- step 2: limits, windows, expiries --------------------------------------------------------


@njit(cache=True)
def _pass_deadlines(w: World, reached: float) -> bool:
    happened = False
    while w.n[N_LIMIT] < len(w.limit) and w.limit[w.n[N_LIMIT]].at <= reached:
        limit = w.limit[w.n[N_LIMIT]]
        w.n[N_LIMIT] += 1
        w.capacity[limit.resource] = limit.capacity
        mark_dirty(w, limit.resource)
        happened = True
    while w.n[N_DEADLINE] > 0 and w.deadline_at[0] <= reached:
        phase, run = w.deadline_key[0, 0], w.deadline_key[0, 1]
        drop_deadline(w)
        happened = True
        if phase == D_OPENS:
            wake_job(w, w.run[run].job)
        elif phase == D_CLOSES:
            _close_window(w, run)
        elif phase == D_STOP_AFTER:
            _stop(w, run, True)
        elif w.run[run].ended == np.inf and not w.run[run].started:
            _stop(w, run, False)
    return happened


@njit(cache=True)
def _close_window(w: World, r: int) -> None:
    run = w.run[r]
    if run.ended != np.inf:
        return
    rule = STOP if run.never_opens else w.job[run.job].end_rule
    if rule == RUN_ON:
        run.open_ended = 1
        wake_job(w, run.job)
    else:
        _stop(w, r, rule == STOP)


@njit(cache=True)
def _stop(w: World, r: int, cut: bool) -> None:
    """Miss what has not started; with `cut`, cut off what has not moved yet."""
    run = w.run[r]
    for i in range(run.tasks_from, run.tasks_from + run.tasks_n):
        state = w.task[i].state
        if state == WAITING:
            _end_task(w, i, MISSED)
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
            unqueue_disk(w, t, _classes(w))
    _let_go(w, i)
    _end_task(w, i, CUT_OFF)


@njit(cache=True)
def _cut_everything_off(w: World) -> None:
    for r in range(w.n[N_RUN]):
        if w.active[w.run[r].job] == r and w.run[r].ended == np.inf:
            _stop(w, r, True)
            for i in range(w.run[r].tasks_from, w.run[r].tasks_from + w.run[r].tasks_n):
                if w.task[i].state != ENDED:
                    _end_task(w, i, CUT_OFF)
    for r in range(w.n[N_RUN]):
        if w.active[w.run[r].job] == r:
            _end_run(w, r)
    for i in range(w.n[N_WORK]):
        t = w.n[N_DISKS] + i
        if w.work[i].state == W_MOVING:
            if w.transfer[t].stream >= 0:
                leave(w, t)
            _give_back_work(w, i)


# --- step 3: beginnings -----------------------------------------------------------------------


@njit(cache=True)
def _begin_runs(w: World, reached: float) -> bool:
    happened = False
    while w.n[N_DUE] < len(w.due) and w.due[w.n[N_DUE]].at <= reached:
        due = w.due[w.n[N_DUE]]
        w.n[N_DUE] += 1
        _begin(w, due.job, due.at, due.kind, due.schedule, due.turn)
        happened = True
    # What follows a run without machines begins in this step too, however long the chain is.
    while w.n[N_ENDED_NOW] > 0:
        happened = _begin_followers(w) or happened
    return happened


@njit(cache=True)
def _begin_followers(w: World) -> bool:
    happened = False
    count = w.n[N_ENDED_NOW]
    w.n[N_ENDED_NOW] = 0
    if w.f[F_NOW] >= w.f[F_UNTIL] - SAME_INSTANT:
        return happened
    # Followers begin by the position of their job, then by the occurrence of what they follow.
    pairs = 0
    for i in range(count):
        r = w.ended_now[i]
        job = w.job[w.run[r].job]
        for k in range(job.followers_from, job.followers_from + job.followers_n):
            w.due_key[pairs, 0] = w.follower[k]
            w.due_key[pairs, 1] = w.run[r].occurrence
            w.due_key[pairs, 2:5] = 0.0
            w.due_now[pairs, 0], w.due_now[pairs, 1] = w.follower[k], w.run[r].kind
            w.due_now[pairs, 2] = pairs
            w.due_order[pairs] = pairs
            pairs += 1
    _sort_ends(w, pairs)
    for i in range(pairs):
        p = w.due_order[i]
        if w.f[F_NOW] < w.job[w.due_now[p, 0]].held_until:
            continue
        _begin(w, w.due_now[p, 0], w.f[F_NOW], w.due_now[p, 1], -1, -1)
        happened = True
    return happened


@njit(cache=True)
def _begin(w: World, j: int, at: float, kind: int, schedule: int, turn: int) -> None:
    job = w.job[j]
    r = w.n[N_RUN]
    w.n[N_RUN] += 1
    run = w.run[r]
    run.job, run.kind, run.schedule, run.turn = j, kind, schedule, turn
    run.occurrence = at
    run.tasks_from, run.disks_from = w.n[N_TASK], w.n[N_TRANSFER]
    _set_window(w, r)
    if w.active[j] >= 0:
        run.outcome = RUN_SKIPPED
        return
    w.active[j] = r
    w.n[N_ACTIVE] += 1
    if _is_asked_about(w, r):
        w.n[N_OPEN] += 1
    run.began = at
    run.tasks_n = job.members_n
    run.unfinished = job.members_n
    for k in range(job.members_n):
        i = run.tasks_from + k
        task = w.task[i]
        task.run, task.member, task.order = r, job.members_from + k, k
        member = w.member[task.member]
        task.disks_from = run.disks_from + member.first_disk
        task.left = member.disks_n
        for d in range(member.disks_n):
            stream = w.transfer[task.disks_from + d]
            stream.task, stream.disk = i, member.disks_from + d
    w.n[N_TASK] += job.members_n
    w.n[N_TRANSFER] += job.disks_n
    if run.closes != np.inf:
        add_deadline(w, run.closes, D_CLOSES, r)
    if job.stop_after != np.inf:
        add_deadline(w, at + job.stop_after, D_STOP_AFTER, r)
    if job.start_within != np.inf:
        add_deadline(w, at + job.start_within, D_START_WITHIN, r)
    if job.members_n == 0:
        run.outcome = RUN_EMPTY
        if job.before + job.after > 0.0:
            add_step(w, w.f[F_NOW] + (job.before + job.after), S_END_RUN, r)
        else:
            _end_run(w, r)
    elif job.before > 0.0:
        add_step(w, w.f[F_NOW] + job.before, S_REACH_QUEUE, r)
    else:
        _reach_queue(w, r)


@njit(cache=True)
def _is_asked_about(w: World, r: int) -> bool:
    """Whether a run is one of a span whose walk ends with what was due in it."""
    return w.f[F_UNTIL] != w.f[F_TO] and w.run[r].occurrence < w.f[F_TO]


@njit(cache=True)
def _set_window(w: World, r: int) -> None:
    run = w.run[r]
    run.opens, run.closes = run.occurrence, np.inf
    window = w.job[run.job].window
    if window < 0:
        return
    low, high = w.window_from[window], w.window_from[window + 1]
    last = high
    while low < high:
        middle = (low + high) // 2
        if w.span[middle].closes <= run.occurrence + SAME_INSTANT:
            low = middle + 1
        else:
            high = middle
    opens = np.inf
    if low < last:
        opens = max(w.span[low].opens, run.occurrence)
    if opens > run.occurrence + OPENS_WITHIN + SAME_INSTANT:
        run.never_opens = 1
        run.opens, run.closes = np.inf, run.occurrence
        return
    run.opens, run.closes = opens, w.span[low].closes
    if opens > w.f[F_NOW]:
        add_deadline(w, opens, D_OPENS, r)


@njit(cache=True)
def _reach_queue(w: World, r: int) -> None:
    run = w.run[r]
    if w.active[run.job] != r:
        return
    classes = _classes(w)
    run.queued = 1
    job = w.job[run.job]
    for c in range(job.classes_from, job.classes_from + job.classes_n):
        w.queue[c].next = 0
        w.queue[classes + c].next = w.klass[c].items_n
        w.queue[classes + c].waiting = 0
        wake(w, c)
    for i in range(run.tasks_from, run.tasks_from + run.tasks_n):
        task = w.task[i]
        if task.state != WAITING:
            continue
        task.queued = w.f[F_NOW]
        member = w.member[task.member]
        if member.disks_n == 0:
            _end_task(w, i, DONE)
        elif not member.path:
            _end_task(w, i, NO_PATH)


# --- step 4: admission ------------------------------------------------------------------------


@njit(cache=True)
def _admit(w: World) -> bool:
    started = False
    classes = _classes(w)
    gather(w, classes)
    while True:
        row, item = next_to_start(w, classes)
        if row < 0:
            return started
        started = True
        if row < classes:
            _take_slots(w, item)
            _start_machine(w, item)
        elif row < 2 * classes:
            unqueue_disk(w, item, classes)
            _take_slots(w, item)
            _move(w, item)
        else:
            _start_work(w, item)


@njit(cache=True)
def _take_slots(w: World, t: int) -> None:
    stream = w.transfer[t]
    disk = w.disk[stream.disk]
    klass = w.klass[disk.klass]
    stream.candidate = least_busy(w, disk.candidates_from, disk.candidates_n)
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
def _start_machine(w: World, t: int) -> None:
    i = w.transfer[t].task
    task = w.task[i]
    member = w.member[task.member]
    task.state = PREPARING
    task.start = w.f[F_NOW]
    task.first = t
    w.run[task.run].started = 1
    w.held[member.machine] = task.run
    take_slot(w, member.host_pool)
    _set_volumes(w, i)
    add_step(w, w.f[F_NOW] + member.prepare, S_PREPARED, i)


@njit(cache=True)
def _effective_kind(chain: int, scheduled: int, has_full: bool) -> int:
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
def _kind_in_turn(scheduled: int, group: int, turn: int) -> int:
    if group < 0:
        return scheduled
    if group == turn:
        return FULL
    return INCREMENTAL if scheduled == FULL else scheduled


@njit(cache=True)
def _set_volumes(w: World, i: int) -> None:
    """Settle what a machine moves, at the instant at which it starts (section 4)."""
    task = w.task[i]
    member = w.member[task.member]
    run = w.run[task.run]
    job = w.job[run.job]
    full = newest_full(w, member.chain)
    scheduled = _kind_in_turn(run.kind, member.group, run.turn)
    task.kind = _effective_kind(job.chain, scheduled, full >= 0)
    task.synthetic = 1 if task.kind == FULL and job.synthetic and full >= 0 else 0
    task.base_point = -1
    if task.synthetic or task.kind == INCREMENTAL:
        task.base_point = newest_usable(w, member.chain)
    elif task.kind == DIFFERENTIAL:
        task.base_point = full
    part = 0.0
    if task.base_point >= 0 and member.change > 0.0 and member.churn > 0.0:
        days = (w.f[F_NOW] - w.point[task.base_point].at) / DAY
        part = member.churn * (1.0 - np.exp(-member.change * days / member.churn))
    for d in range(member.disks_n):
        disk = w.disk[member.disks_from + d]
        stream = w.transfer[task.disks_from + d]
        payload, source = disk.protected, disk.whole
        if task.base_point >= 0:
            payload = disk.protected * part
            if job.tracking:
                source = payload
        stream.work = source
        stream.omega = payload / member.kappa / source if source > 0.0 else 0.0
        stream.share = job.share


# --- a machine-run, step by step --------------------------------------------------------------


@njit(cache=True)
def _prepared(w: World, i: int) -> None:
    task = w.task[i]
    if task.state != PREPARING:
        return
    if w.member[task.member].refuses:
        _cut_off(w, i)
        return
    task.state = MOVING
    _move(w, task.first)
    for t in range(task.disks_from, task.disks_from + w.member[task.member].disks_n):
        if t != task.first:
            queue_disk(w, t, _classes(w))


@njit(cache=True)
def _move(w: World, t: int) -> None:
    stream = w.transfer[t]
    if stream.work <= 0.0:
        add_step(w, w.f[F_NOW], S_DISK_END, t)
    else:
        stream.ceiling = w.candidate[stream.candidate].ceiling
        join(w, t)


@njit(cache=True)
def _disk_moved(w: World, t: int) -> None:
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
    repository = w.repository[w.job[w.run[task.run].job].repository]
    task.state = FINISHING
    task.moved = w.f[F_NOW]
    if task.synthetic:
        task.stored = member.protected / member.kappa / repository.dedupe
    else:
        wire = 0.0
        for t in range(task.disks_from, task.disks_from + member.disks_n):
            wire += w.transfer[t].work * w.transfer[t].omega
        if task.kind == FULL:
            wire = member.protected / member.kappa
        task.stored = wire / repository.dedupe
        _make_point(w, i)
    if member.server:
        _let_go(w, i)
        _released(w, i)
    else:
        written = member.protected * member.change * (w.f[F_NOW] - task.start) / DAY
        add_step(w, w.f[F_NOW] + (RELEASE_S + written / RELEASE_BYTES_PER_S), S_RELEASED, i)


@njit(cache=True)
def _make_point(w: World, i: int) -> None:
    task = w.task[i]
    base = -1 if task.kind == FULL else task.base_point
    chain = w.member[task.member].chain
    store_point(w, new_point(w, chain, task.kind, task.start, task.stored, base))
    task.made = 1


@njit(cache=True)
def _let_go(w: World, i: int) -> None:
    """The machine is held no longer, its host has its slot back."""
    task = w.task[i]
    member = w.member[task.member]
    w.held[member.machine] = -1
    task.released = w.f[F_NOW]
    free_slot(w, member.host_pool)
    first, last = w.machine_class_from[member.machine], w.machine_class_from[member.machine + 1]
    for k in range(first, last):
        wake(w, w.machine_class[k])


@njit(cache=True)
def _released(w: World, i: int) -> None:
    if w.task[i].synthetic:
        job = w.job[w.run[w.task[i].run].job]
        candidate = w.repository[job.repository].candidate
        _rewrite(w, i, job.repository, job.work_class, ST_TRANSFORM, candidate, w.task[i].stored)
    else:
        _verify(w, i)


@njit(cache=True)
def _verify(w: World, i: int) -> None:
    job = w.job[w.run[w.task[i].run].job]
    seconds = 0.0
    if job.verify == BOOT:
        seconds = job.boot
    elif job.verify == CHECKSUM:
        # The rate is infinite where the repository has none, which makes this 0.
        seconds = w.task[i].stored / w.repository[job.repository].read
    seconds += job.guest_after
    if seconds > 0.0:
        add_step(w, w.f[F_NOW] + seconds, S_VERIFIED, i)
    else:
        _finish(w, i)


@njit(cache=True)
def _finish(w: World, i: int) -> None:
    _end_task(w, i, DONE)
    _plan_copies(w, i)


@njit(cache=True)
def _end_task(w: World, i: int, outcome: int) -> None:
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
            _end_run(w, task.run)


@njit(cache=True)
def _end_run(w: World, r: int) -> None:
    run = w.run[r]
    if run.ended != np.inf:
        return
    run.ended = w.f[F_NOW]
    w.active[run.job] = -1
    w.n[N_ACTIVE] -= 1
    if _is_asked_about(w, r):
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
        chain = w.member[w.task[i].member].chain
        if job.chain == CHAIN_FOREVER:
            while True:
                stored = merge_oldest(w, chain, job)
                if stored < 0.0:
                    break
                _merge(w, i, job.repository, job.work_class, stored)
        else:
            apply_retention(w, chain, job)


# --- between repositories ---------------------------------------------------------------------


@njit(cache=True)
def _count_pending(w: World, i: int, by: int) -> None:
    """Count a copy or merge that a machine-run leaves behind, or that it has ended."""
    w.n[N_PENDING] += by
    if _is_asked_about(w, w.task[i].run):
        w.n[N_OPEN] += by


@njit(cache=True)
def _new_work(w: World, i: int, stage: int, row: int, number: int) -> int:
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
def _rewrite(
    w: World, i: int, repository: int, row: int, stage: int, candidate: int, stored: float
) -> None:
    """Queue a transform or a merge of `stored` bytes."""
    w.n[N_SEQUENCE] += 1
    k = _new_work(w, i, stage, row, w.n[N_SEQUENCE])
    factor = BLOCK_CLONE_WORK if w.repository[repository].block_clone else TRANSFORM_WORK
    stream = w.transfer[w.n[N_DISKS] + k]
    stream.candidate = candidate
    stream.ceiling = w.candidate[candidate].ceiling
    stream.work = factor * stored
    queue_work(w, k)


@njit(cache=True)
def _merge(w: World, i: int, repository: int, row: int, stored: float) -> None:
    _count_pending(w, i, 1)
    _rewrite(w, i, repository, row, ST_MERGE, w.repository[repository].candidate, stored)


@njit(cache=True)
def _plan_copies(w: World, i: int) -> None:
    task = w.task[i]
    member = w.member[task.member]
    job = w.job[w.run[task.run].job]
    if member.disks_n == 0:
        return
    for k in range(job.copies_n):
        copy = w.copy[job.copies_from + k]
        if not copy.routed:
            continue
        _count_pending(w, i, 1)
        item = _new_work(w, i, ST_COPY, copy.move_class, k)
        work = w.work[item]
        work.copy_row = job.copies_from + k
        work.chain = w.copy_chain[member.copy_chains + k]
        w.transfer[w.n[N_DISKS] + item].candidate = copy.candidate
        if copy.delay > 0.0:
            add_step(w, w.f[F_NOW] + copy.delay, S_COPY_DUE, item)
        else:
            queue_work(w, item)


@njit(cache=True)
def _start_work(w: World, k: int) -> None:
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
        task = w.task[work.task]
        member = w.member[task.member]
        source = w.repository[w.job[w.run[task.run].job].repository]
        # What a copy carries is settled when it starts to move (section 7).
        if newest_full(w, work.chain) < 0:
            stream.work = member.protected / member.kappa
        else:
            stream.work = task.stored * source.dedupe
        work.wire = stream.work
    if stream.work <= 0.0:
        add_step(w, w.f[F_NOW], S_WORK_END, t)
    else:
        join(w, t)


@njit(cache=True)
def _give_back_work(w: World, k: int) -> None:
    row = w.queue[w.work[k].klass]
    w.transfer[w.n[N_DISKS] + k].slots_to = w.f[F_NOW]
    free_slot(w, row.pool_a)
    free_slot(w, row.pool_b)
    wake(w, w.work[k].klass)


@njit(cache=True)
def _work_done(w: World, k: int) -> None:
    work = w.work[k]
    work.state = W_ENDED
    work.ended = w.f[F_NOW]
    _give_back_work(w, k)
    if work.stage == ST_TRANSFORM:
        _make_point(w, work.task)
        _verify(w, work.task)
        return
    _count_pending(w, work.task, -1)
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
            _merge(w, work.task, copy.repository, copy.merge_class, merged)
    else:
        apply_retention(w, work.chain, copy)


# --- the walk through time --------------------------------------------------------------------


@njit(cache=True)
def _next_instant(w: World) -> float:
    instant = np.inf
    if w.n[N_MOVING] > 0:
        instant = w.stream[w.end_heap[0]].end
    if w.n[N_STEP] > 0:
        instant = min(instant, w.step_at[0])
    if w.n[N_DUE] < len(w.due):
        instant = min(instant, w.due[w.n[N_DUE]].at)
    if w.n[N_LIMIT] < len(w.limit):
        instant = min(instant, w.limit[w.n[N_LIMIT]].at)
    if w.n[N_DEADLINE] > 0:
        instant = min(instant, w.deadline_at[0])
    return instant


@njit(cache=True)
def _instant(w: World) -> None:
    """All that happens at one instant: steps 1 to 4 until nothing new comes, then step 5."""
    reached = w.f[F_NOW] + SAME_INSTANT
    again = True
    while again:
        again = _end_work(w, reached)
        again = _pass_deadlines(w, reached) or again
        again = _begin_runs(w, reached) or again
        again = _admit(w) or again
    share_rates(w)


@njit(cache=True)
def _note_space(w: World) -> None:
    """Raise the peaks of repositories, where something was stored at this instant."""
    if not w.n[N_SPACE]:
        return
    w.n[N_SPACE] = 0
    for i in range(len(w.repository)):
        w.peak_bytes[i] = max(w.peak_bytes[i], w.used_bytes[i])


@njit(cache=True)
def _is_idle(w: World) -> bool:
    return w.n[N_ACTIVE] == 0 and w.n[N_PENDING] == 0 and w.n[N_STEP] == 0 and w.n[N_MOVING] == 0


@njit(cache=True)
def _walk(w: World, instants: int) -> int:
    deadline = w.f[F_TO] + FOLLOWED_AFTER_END
    _note_space(w)
    for _ in range(instants):
        if _is_idle(w) and w.n[N_DUE] == len(w.due):
            return FINISHED
        if w.n[N_FLOW] + w.n[N_MOVING] >= len(w.flow):
            return WANTS_FLOWS
        upcoming = _next_instant(w)
        if w.f[F_UNTIL] != w.f[F_TO] and upcoming >= w.f[F_TO] - SAME_INSTANT:
            if w.n[N_OPEN] == 0:
                w.f[F_NOW] = max(w.f[F_NOW], w.f[F_TO])
                # Closes what later runs still hold, so that loads tell of it up to this instant.
                _cut_everything_off(w)
                return FINISHED
            if upcoming >= w.f[F_UNTIL] - SAME_INSTANT and w.f[F_UNTIL] < deadline:
                return UNSETTLED
        if upcoming > deadline:
            if not _is_idle(w):
                w.f[F_NOW] = deadline
                _cut_everything_off(w)
                _note_space(w)
            return FINISHED
        w.f[F_NOW] = max(w.f[F_NOW], upcoming)
        w.n[N_INSTANTS] += 1
        _instant(w)
        _note_space(w)
        idle = _is_idle(w)
        due = w.n[N_SNAPSHOT] < len(w.snapshot_due)
        if due and idle and w.f[F_NOW] >= w.snapshot_due[w.n[N_SNAPSHOT]] - SAME_INSTANT:
            while (
                w.n[N_SNAPSHOT] < len(w.snapshot_due)
                and w.snapshot_due[w.n[N_SNAPSHOT]] <= w.f[F_NOW] + SAME_INSTANT
            ):
                w.n[N_SNAPSHOT] += 1
            return IS_QUIET
    return PAUSES


@njit(cache=True, nogil=True)
def advance(world: Handle, instants: int) -> int:
    """Walk on through time, over at most some instants; says why it came back."""
    return _walk(view_of(world), instants)
