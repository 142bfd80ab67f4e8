"""The event loop of the engine (sections 6 and 7), on the arrays of a World.

`advance` walks from instant to instant; the five steps of section 6 are the five parts of
`instant`. It returns when all work has ended, and before that wherever its driver has to do
something: enlarge the record of flows, keep the points of a quiet instant, or look whether the
simulation is still wanted.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from gambrel.core.constants import (
    FOLLOWED_AFTER_END,
    OPENS_WITHIN,
)
from gambrel.core.simulation.engine.admission import gather, next_to_start
from gambrel.core.simulation.engine.heaps import add_deadline, add_step, drop_deadline, drop_step
from gambrel.core.simulation.engine.machine_runs import (
    class_count,
    disk_moved,
    end_run,
    end_task,
    finish,
    let_go,
    move,
    prepared,
    released,
    start_machine,
    start_work,
    stop,
    take_slots,
    work_done,
)
from gambrel.core.simulation.engine.points import (
    store_point,
)
from gambrel.core.simulation.engine.queue import (
    queue_work,
    unqueue_disk,
    wake,
    wake_job,
)
from gambrel.core.simulation.engine.rates import leave, mark_dirty, settle, share_rates
from gambrel.core.simulation.engine.repository_work import give_back_work, is_asked_about
from gambrel.core.simulation.engine.restores import (
    come_due,
    cut_restores_off,
    restore_ready,
    restore_whole,
    walk_restores,
)
from gambrel.core.simulation.engine.tables import (
    CUT_OFF,
    D_CLOSES,
    D_OPENS,
    D_START_WITHIN,
    D_STOP_AFTER,
    DONE,
    ENDED,
    F_NOW,
    F_STOP,
    F_TO,
    F_UNTIL,
    FINISHED,
    IS_QUIET,
    N_ACTIVE,
    N_DEADLINE,
    N_DISKS,
    N_DUE,
    N_ENDED_NOW,
    N_FIRST_RESTORE,
    N_FLOW,
    N_INSTANTS,
    N_LIMIT,
    N_MOVING,
    N_OPEN,
    N_PENDING,
    N_RESTORES_DUE,
    N_RESTORES_LEFT,
    N_RUN,
    N_SNAPSHOT,
    N_SPACE,
    N_STEP,
    N_TASK,
    N_TRANSFER,
    N_WORK,
    NO_PATH,
    PAUSES,
    RUN_EMPTY,
    RUN_ON,
    RUN_SKIPPED,
    S_COPY_DUE,
    S_DISK_END,
    S_END_RUN,
    S_POINT,
    S_PREPARED,
    S_REACH_QUEUE,
    S_RELEASED,
    S_RESTORE_READY,
    S_STREAM_END,
    S_VERIFIED,
    S_WORK_END,
    ST_DISK,
    STOP,
    STOPPED,
    UNSETTLED,
    W_MOVING,
    WAITING,
    WANTS_FLOWS,
    World,
)
from gambrel.core.simulation.engine.world import Handle, view_of
from gambrel.core.units import SAME_INSTANT

# --- step 1: what ends ------------------------------------------------------------------------


@njit(cache=True)
def _note_end(w: World, i: int, kind: int, target: int, sequence: int) -> None:
    """Write down what ends now with its place in the order of ends."""
    run, order, stage, number = -1, 0, ST_DISK, 0
    restore = -1
    if kind == S_RESTORE_READY:
        restore = target
    elif kind == S_STREAM_END and target >= w.n[N_FIRST_RESTORE]:
        restore = target - w.n[N_FIRST_RESTORE]
    if restore >= 0:
        # Before all else, in the order of their rows.
        _set_end(w, i, kind, target, sequence)
        w.due_key[i] = -np.inf
        w.due_key[i, 1] = restore
        return
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
    _set_end(w, i, kind, target, sequence)


@njit(cache=True)
def _set_end(w: World, i: int, kind: int, target: int, sequence: int) -> None:
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
            disk_moved(w, target)
        elif target >= w.n[N_FIRST_RESTORE]:
            restore_whole(w, target - w.n[N_FIRST_RESTORE])
        else:
            work_done(w, target - w.n[N_DISKS])
    elif kind == S_PREPARED:
        prepared(w, target)
    elif kind == S_RELEASED:
        let_go(w, target)
        released(w, target)
    elif kind == S_VERIFIED:
        finish(w, target)
    elif kind == S_REACH_QUEUE:
        _reach_queue(w, target)
    elif kind == S_END_RUN:
        end_run(w, target)
    elif kind == S_COPY_DUE:
        queue_work(w, target)
    elif kind == S_RESTORE_READY:
        restore_ready(w, target)
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
            stop(w, run, True)
        elif w.run[run].ended == np.inf and not w.run[run].started:
            stop(w, run, False)
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
        stop(w, r, rule == STOP)


@njit(cache=True)
def _cut_everything_off(w: World) -> None:
    cut_restores_off(w)
    for r in range(w.n[N_RUN]):
        if w.active[w.run[r].job] == r and w.run[r].ended == np.inf:
            stop(w, r, True)
            for i in range(w.run[r].tasks_from, w.run[r].tasks_from + w.run[r].tasks_n):
                if w.task[i].state != ENDED:
                    end_task(w, i, CUT_OFF)
    for r in range(w.n[N_RUN]):
        if w.active[w.run[r].job] == r:
            end_run(w, r)
    for i in range(w.n[N_WORK]):
        t = w.n[N_DISKS] + i
        if w.work[i].state == W_MOVING:
            if w.transfer[t].stream >= 0:
                leave(w, t)
            give_back_work(w, i)


# --- step 3: beginnings -----------------------------------------------------------------------


@njit(cache=True)
def _begin_runs(w: World, reached: float) -> bool:
    happened = come_due(w, reached)
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
def new_run(w: World, j: int, at: float, kind: int, schedule: int, turn: int) -> int:
    """Write a run down with its window, without its machines."""
    r = w.n[N_RUN]
    w.n[N_RUN] += 1
    run = w.run[r]
    run.job, run.kind, run.schedule, run.turn = j, kind, schedule, turn
    run.occurrence = at
    run.tasks_from, run.disks_from = w.n[N_TASK], w.n[N_TRANSFER]
    _set_window(w, r)
    return r


@njit(cache=True)
def activate(w: World, r: int) -> None:
    """Have a run be the one of its job that is under way."""
    w.active[w.run[r].job] = r
    w.n[N_ACTIVE] += 1
    if is_asked_about(w, r):
        w.n[N_OPEN] += 1


@njit(cache=True)
def select_machines(w: World, r: int) -> None:
    """Write down the machine-runs of a run and their disks."""
    run = w.run[r]
    job = w.job[run.job]
    run.began = run.occurrence
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


@njit(cache=True)
def set_deadlines(w: World, r: int, after: float) -> None:
    """Have the window of a run close and its spans expire, where that comes after an instant."""
    run = w.run[r]
    job = w.job[run.job]
    stops, misses = run.occurrence + job.stop_after, run.occurrence + job.start_within
    if after < run.closes < np.inf:
        add_deadline(w, run.closes, D_CLOSES, r)
    if after < stops < np.inf:
        add_deadline(w, stops, D_STOP_AFTER, r)
    if after < misses < np.inf:
        add_deadline(w, misses, D_START_WITHIN, r)


@njit(cache=True)
def _begin(w: World, j: int, at: float, kind: int, schedule: int, turn: int) -> None:
    job = w.job[j]
    r = new_run(w, j, at, kind, schedule, turn)
    run = w.run[r]
    if w.active[j] >= 0:
        run.outcome = RUN_SKIPPED
        return
    activate(w, r)
    select_machines(w, r)
    set_deadlines(w, r, -np.inf)
    if job.members_n == 0:
        run.outcome = RUN_EMPTY
        if job.before + job.after > 0.0:
            add_step(w, w.f[F_NOW] + (job.before + job.after), S_END_RUN, r)
        else:
            end_run(w, r)
    elif job.before > 0.0:
        add_step(w, w.f[F_NOW] + job.before, S_REACH_QUEUE, r)
    else:
        _reach_queue(w, r)


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
def open_queue(w: World, r: int) -> None:
    """Let the machines of a run stand in the queue."""
    run = w.run[r]
    classes = class_count(w)
    run.queued = 1
    job = w.job[run.job]
    for c in range(job.classes_from, job.classes_from + job.classes_n):
        w.queue[c].next = 0
        w.queue[classes + c].next = w.klass[c].items_n
        w.queue[classes + c].waiting = 0
        wake(w, c)


@njit(cache=True)
def _reach_queue(w: World, r: int) -> None:
    run = w.run[r]
    if w.active[run.job] != r:
        return
    open_queue(w, r)
    for i in range(run.tasks_from, run.tasks_from + run.tasks_n):
        task = w.task[i]
        if task.state != WAITING:
            continue
        task.queued = w.f[F_NOW]
        member = w.member[task.member]
        if member.disks_n == 0:
            end_task(w, i, DONE)
        elif not member.path:
            end_task(w, i, NO_PATH)


# --- step 4: admission ------------------------------------------------------------------------


@njit(cache=True)
def _admit(w: World) -> bool:
    started = walk_restores(w)
    classes = class_count(w)
    gather(w, classes)
    while True:
        row, item = next_to_start(w, classes)
        if row < 0:
            return started
        started = True
        if row < classes:
            take_slots(w, item)
            start_machine(w, item)
        elif row < 2 * classes:
            unqueue_disk(w, item, classes)
            take_slots(w, item)
            move(w, item)
        else:
            start_work(w, item)


# --- the walk through time --------------------------------------------------------------------


@njit(cache=True)
def _next_instant(w: World) -> float:
    upcoming = np.inf
    if w.n[N_MOVING] > 0:
        upcoming = w.stream[w.end_heap[0]].end
    if w.n[N_STEP] > 0:
        upcoming = min(upcoming, w.step_at[0])
    if w.n[N_DUE] < len(w.due):
        upcoming = min(upcoming, w.due[w.n[N_DUE]].at)
    if w.n[N_LIMIT] < len(w.limit):
        upcoming = min(upcoming, w.limit[w.n[N_LIMIT]].at)
    if w.n[N_RESTORES_DUE] < len(w.restore):
        upcoming = min(upcoming, w.restore[w.n[N_RESTORES_DUE]].due)
    if w.n[N_DEADLINE] > 0:
        upcoming = min(upcoming, w.deadline_at[0])
    return upcoming


@njit(cache=True)
def instant(w: World) -> None:
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
    return (
        w.n[N_ACTIVE] == 0
        and w.n[N_PENDING] == 0
        and w.n[N_STEP] == 0
        and w.n[N_MOVING] == 0
        and w.n[N_RESTORES_LEFT] == 0
    )


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
        if upcoming > w.f[F_STOP] + SAME_INSTANT:
            w.f[F_NOW] = max(w.f[F_NOW], w.f[F_STOP])
            return STOPPED
        if upcoming > deadline:
            if not _is_idle(w):
                w.f[F_NOW] = deadline
                _cut_everything_off(w)
                _note_space(w)
            return FINISHED
        w.f[F_NOW] = max(w.f[F_NOW], upcoming)
        w.n[N_INSTANTS] += 1
        instant(w)
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


@njit(cache=True)
def _settle_all(w: World) -> None:
    for k in range(w.n[N_MOVING]):
        settle(w, w.end_heap[k])


@njit(cache=True, nogil=True)
def settle_all(world: Handle) -> None:
    """Bring all that moves up to now; there must be room for a flow of each."""
    _settle_all(view_of(world))
