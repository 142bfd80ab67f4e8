"""Beginning in the middle (section 15): what is under way goes into the arrays of a walk.

The Python half reads `state.running` into records of numbers; the compiled half lets runs, disks
and repository work go on where they were, through the same functions that begin them.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from numba import njit

from gambrel.core.model.destinations import destination_of
from gambrel.core.model.volume import disk_volume, grown, growth_factor
from gambrel.core.plan import objects as p
from gambrel.core.plan.objects import KINDS, Plan
from gambrel.core.plan.state import RunningMachine, Seconds
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.heaps import add_step
from gambrel.core.simulation.engine.kernel import (
    activate,
    instant,
    new_run,
    open_queue,
    select_machines,
    set_deadlines,
)
from gambrel.core.simulation.engine.layout import Layout
from gambrel.core.simulation.engine.machine_runs import (
    class_count,
    hold_machine,
    hold_slots,
    move,
    move_work,
    release_end,
    verify_seconds,
)
from gambrel.core.simulation.engine.queue import queue_disk, queue_work
from gambrel.core.simulation.engine.repository_work import (
    count_pending,
    new_copy,
    queue_rewrite,
    rewrite,
)
from gambrel.core.simulation.engine.restores import take_up_restores
from gambrel.core.simulation.engine.tables import (
    AT_ENDED,
    AT_MOVING,
    AT_PREPARING,
    AT_RELEASING,
    AT_TRANSFORMING,
    AT_VERIFYING,
    AT_WAITING,
    DONE,
    ENDED,
    F_NOW,
    FINISHING,
    MOVING,
    N_DISKS,
    PREPARING,
    RUN_DONE,
    RUN_EMPTY,
    RUN_ON,
    S_COPY_DUE,
    S_END_RUN,
    S_PREPARED,
    S_REACH_QUEUE,
    S_RELEASED,
    S_VERIFIED,
    ST_COPY,
    ST_MERGE,
    ST_TRANSFORM,
    World,
)
from gambrel.core.simulation.engine.world import Handle, view_of
from gambrel.core.simulation.known_points import Snapshot
from gambrel.core.units import SAME_INSTANT

STEPS = {
    "waiting": AT_WAITING,
    "preparing": AT_PREPARING,
    "moving": AT_MOVING,
    "releasing": AT_RELEASING,
    "transforming": AT_TRANSFORMING,
    "verifying": AT_VERIFYING,
    "ended": AT_ENDED,
}
_WAITING = (AT_WAITING, -1, 0, -1, 0, -1, 0)
_NOT_YET = (*(np.nan,) * 5, 0.0, 0.0, 0.0)
"""The columns of TOLD_TASK of a machine-run that waits, before and after `queued`."""


class UnderWay(NamedTuple):
    """What is under way, as records.

    Attributes:
        squeezed: seconds of each row of `disks` by what limited it, as in `World.squeezed`.
    """

    runs: t.Table
    tasks: t.Table
    disks: t.Table
    squeezed: t.Floats
    works: t.Table


# --- from the plan's state to records ----------------------------------------------------------


def fits(layout: Layout, running: p.Running) -> bool:
    """Whether every run under way has the machines that the plan selects for its job.

    Where the selection has changed since a run began, only the reference can go on with it.
    """
    names = _Names(layout)
    for run in running.runs:
        if [machine.machine for machine in run.machines] != names.machines_of(run.job):
            return False
    outside: list[p.RunningCopy | p.RunningMerge] = [*running.copies, *running.merges]
    for left in outside:
        machines = names.machines_of(left.job)
        if left.order >= len(machines) or machines[left.order] != left.machine:
            return False
    return True


class _Names:
    """What the rows of a layout are called."""

    def __init__(self, layout: Layout) -> None:
        self.layout = layout
        self.plan = layout.plan
        self._machines: dict[str, list[str]] = {}

    def machines_of(self, job: str) -> list[str]:
        """The machines of a job, in the order of its rows."""
        if job not in self._machines:
            row = self.layout.job[self.plan.job_position[job]]
            first = int(row["members_from"])
            members = self.layout.member["machine"][first : first + int(row["members_n"])]
            self._machines[job] = [self.plan.machines[i].id for i in members.tolist()]
        return self._machines[job]

    def disks_of(self, member: int) -> dict[str, int]:
        """The disks of a MEMBER row, by id, with their places in queue order."""
        row = self.layout.member[member]
        disks = self.plan.machines[int(row["machine"])].disks
        first = int(row["disks_from"])
        places = self.layout.disk_positions[first : first + int(row["disks_n"])]
        return {disks[position].id: place for place, position in enumerate(places)}


class _Reader:
    """Reads what is under way into lists of rows."""

    def __init__(self, layout: Layout, plan: Plan, points: Snapshot, running: p.Running) -> None:
        self.layout, self.plan, self.running = layout, plan, running
        self.names = _Names(layout)
        self.points = points.points
        self._chains = self._places_of_chains()
        # Plain lists: single values are read from them, machine by machine.
        self._member_machine = layout.member["machine"].tolist()
        self._member_disks = layout.member["disks_from"].tolist()
        self._point_at = self.points["at"].tolist()
        self._exists_from = self.points["exists_from"].tolist()
        self._ways: dict[tuple[int, str | None], int] = {}
        self._columns: dict[tuple[int, str], int | None] = {}
        self._repositories = {r.id: i for i, r in enumerate(plan.repositories)}
        self.runs: list[tuple[float, ...]] = []
        self.tasks: list[tuple[float, ...]] = []
        self.disks: list[tuple[float, ...]] = []
        self.squeezed: list[list[float]] = []
        self.works: list[tuple[float, ...]] = []
        self._run_rows: dict[tuple[str, float], int] = {}

    def read(self) -> UnderWay:
        """All of it."""
        running = self.running
        for run in running.runs:
            self._run(run)
        for merge in running.merges:
            self._merge(merge)
        for copy in running.copies:
            self._copy(copy)
        squeezed = np.zeros((len(self.disks), self.layout.uses_most + 1))
        if self.squeezed:
            squeezed[:] = self.squeezed
        return UnderWay(
            np.array(self.runs, t.TOLD_RUN),
            np.array(self.tasks, t.TOLD_TASK),
            np.array(self.disks, t.TOLD_DISK),
            squeezed,
            np.array(self.works, t.TOLD_WORK),
        )

    # --- points -----------------------------------------------------------------------------

    def _places_of_chains(self) -> dict[tuple[int, int, int], tuple[int, int]]:
        """Where the points of each chain begin and end, by repository, job and machine."""
        if not len(self.points):
            return {}
        keys = [self.points[name] for name in ("repository", "job", "machine")]
        changes = np.zeros(len(self.points), bool)
        changes[:1] = True
        for key in keys:
            changes[1:] |= key[1:] != key[:-1]
        begins = np.flatnonzero(changes)
        ends = np.append(begins[1:], len(self.points))
        columns = (key[begins].tolist() for key in keys)
        places = zip(begins.tolist(), ends.tolist(), strict=True)
        return dict(zip(zip(*columns, strict=True), places, strict=True))

    def _rows_of_chain(self, key: tuple[int, int, int]) -> list[int]:
        """The rows of the points of a chain that exist."""
        now = self.running.at - t.EPOCH + SAME_INSTANT
        first, end = self._chains.get(key, (0, 0))
        return [row for row in range(first, end) if self._exists_from[row] <= now]

    def _base(self, job: int, machine: int, told: p.RunningMachine) -> int:
        """The row of the point on which a machine-run builds, or -1."""
        its = destination_of(self.plan, self.plan.jobs[job], self.plan.machines[machine])
        repository = self._repository(its)
        rows = self._rows_of_chain((repository, job, machine))
        if told.base_at is not None:
            at = told.base_at - t.EPOCH
            named = [row for row in rows if abs(self._point_at[row] - at) <= SAME_INSTANT]
            if named:
                return named[-1]
        full = KINDS.index("full")
        if told.kind == "differential":
            fulls = [row for row in rows if self.points["kind"][row] == full]
            return fulls[-1] if fulls else -1
        if told.kind == "incremental" or told.synthetic:
            usable = [row for row in rows if self.points["usable"][row]]
            return usable[-1] if usable else -1
        return -1

    def _repository(self, repository: str) -> int:
        return self._repositories[repository]

    # --- runs -------------------------------------------------------------------------------

    def _run(self, told: p.RunningRun) -> None:
        position = self.plan.job_position[told.job]
        job = self.plan.jobs[position]
        row = len(self.runs)
        self._run_rows[told.job, told.occurrence] = row
        queued = job.before_min <= 0 or any(m.queued is not None for m in told.machines)
        schedule = -1 if told.schedule is None else told.schedule
        kind = KINDS.index(told.kind)
        occurrence = told.occurrence - t.EPOCH
        waiting = (m.queued for m in told.machines if m.state == "waiting")
        reached = next(waiting, None)
        self.runs.append(
            (
                position,
                kind,
                schedule,
                told.turn,
                0,
                int(queued),
                int(told.at_any_time),
                occurrence,
                np.nan if reached is None else reached - t.EPOCH,
            )
        )
        first = int(self.layout.job["members_from"][position])
        for order, machine in enumerate(told.machines):
            # Most wait since the same instant; the run's own row says which.
            if machine.state != "waiting" or machine.queued != reached:
                self._machine(row, position, first + order, order, machine)

    def _machine(self, run: int, job: int, member: int, order: int, told: p.RunningMachine) -> None:
        row = len(self.tasks)
        if told.state == "waiting":
            queued = np.nan if told.queued is None else told.queued - t.EPOCH
            self.tasks.append((run, order, *_WAITING, queued, *_NOT_YET))
            return
        if told.state == "preparing" and not self._can_be_read(member, told):
            # Whoever was to read it is gone, and nothing has moved: it waits.
            self._machine(run, job, member, order, RunningMachine(told.machine, queued=told.queued))
            return
        machine = self._member_machine[member]
        base = -1
        disks: dict[int, p.RunningDisk] = {}
        if told.start is not None:
            base = self._base(job, machine, told)
            places = self.names.disks_of(member)
            disks = {places[disk.disk]: disk for disk in told.disks if disk.disk in places}
        self.tasks.append(
            (
                run,
                order,
                STEPS[told.state],
                -1 if told.kind is None else KINDS.index(told.kind),
                int(told.synthetic),
                base,
                next((place for place, disk in disks.items() if disk.holds), 0),
                -1 if told.outcome is None else t.MACHINE_OUTCOMES.index(told.outcome),
                int(_has_made_its_point(told)),
                *(
                    np.nan if at is None else at - t.EPOCH
                    for at in (
                        told.queued,
                        told.start,
                        told.moved,
                        told.released,
                        told.transformed,
                        told.ended,
                    )
                ),
                told.source_bytes,
                told.wire_bytes,
                told.stored_bytes,
            )
        )
        if told.start is not None:
            self._disks(row, job, member, base, told, [disks.get(i) for i in range(len(places))])
        if told.state == "transforming":
            self._transform(run, order, job, told.transform)

    def _disks(
        self,
        task: int,
        job: int,
        member: int,
        base: int,
        told: p.RunningMachine,
        disks: Sequence[p.RunningDisk | None],
    ) -> None:
        """The disks of a machine that has started, all of them."""
        layout = self.layout
        first = self._member_disks[member]
        machine = self.plan.machines[self._member_machine[member]]
        assert told.start is not None
        since = None if base < 0 else told.start - (self._point_at[base] + t.EPOCH)
        factor = growth_factor(machine, self.plan.state.sizes_as_of, told.start)
        begin = len(self.squeezed)
        for place, disk in enumerate(disks):
            known = p.RunningDisk("") if disk is None else disk
            source, wire = known.source_bytes, known.wire_bytes
            if source is None or wire is None:
                size = grown(machine.disks[layout.disk_positions[first + place]], factor)
                volume = disk_volume(self.plan.jobs[job], machine, size, since)
                source = volume.source if source is None else source
                wire = volume.wire if wire is None else wire
            way = self._way(first + place, known)
            self.disks.append(
                (
                    task,
                    place,
                    way,
                    int(known.holds and way >= 0),
                    int(known.moved),
                    source,
                    wire / source if source > 0.0 else 0.0,
                    known.moved_bytes,
                )
            )
            row = [0.0] * (layout.uses_most + 1)
            self._add_squeezes(row, way, known.squeeze_s)
            self.squeezed.append(row)
        self._share_out(begin, told.squeeze_s)

    def _can_be_read(self, member: int, told: p.RunningMachine) -> bool:
        """Whether the disk that a machine holds slots for can still be read."""
        places, first = self.names.disks_of(member), self._member_disks[member]
        return any(
            disk.holds and disk.disk in places and self._way(first + places[disk.disk], disk) >= 0
            for disk in told.disks
        )

    def _way(self, disk: int, told: p.RunningDisk) -> int:
        """How a disk is read: by the proxy that is named, else by its first way; -1 for none."""
        key = (disk, told.proxy)
        if key not in self._ways:
            self._ways[key] = self._found_way(disk, told.proxy)
        return self._ways[key]

    def _found_way(self, disk: int, named: str | None) -> int:
        row = self.layout.disk[disk]
        ways = range(
            int(row["candidates_from"]), int(row["candidates_from"]) + int(row["candidates_n"])
        )
        for way in ways:
            candidate = self.layout.ways[way]
            proxy = None if candidate is None else candidate.proxy
            if (None if proxy is None else self.plan.proxies[proxy].id) == named:
                return way
        return ways[0] if len(ways) else -1

    def _column(self, way: int, name: str) -> int | None:
        """Where the seconds by a squeeze stand in the row of a disk that is read in some way."""
        if name == "transport":
            return 0
        key = (way, name)
        if key not in self._columns:
            self._columns[key] = self._found_column(way, name)
        return self._columns[key]

    def _found_column(self, way: int, name: str) -> int | None:
        topology = self.layout.topology
        if way < 0 or not topology.knows(name):
            return None
        candidate = self.layout.candidate[way]
        first = int(candidate["uses_from"])
        uses = self.layout.use["resource"][first : first + int(candidate["uses_n"])]
        found = np.flatnonzero(uses == topology.resource(name))
        return int(found[0]) + 1 if len(found) else None

    def _add_squeezes(self, row: list[float], way: int, squeeze_s: Seconds) -> None:
        for name, seconds in squeeze_s:
            column = self._column(way, name)
            if column is not None:
                row[column] += seconds

    def _share_out(self, begin: int, squeeze_s: Seconds) -> None:
        """Write the seconds of disks that have moved, which are known in sum only, to one each."""
        moved = [
            row for row in range(begin, len(self.disks)) if self.disks[row][4] or self.disks[row][3]
        ]
        for name, seconds in squeeze_s:
            for row in moved:
                column = self._column(int(self.disks[row][2]), name)
                if column is not None:
                    self.squeezed[row][column] += seconds
                    break

    def _transform(self, run: int, order: int, job: int, told: p.RunningWork | None) -> None:
        row = self._member_row(job, order)
        candidate = int(self.layout.repository["candidate"][int(row["repository"])])
        self._work(run, order, ST_TRANSFORM, int(row["work_class"]), candidate, told=told)

    def _member_row(self, job: int, order: int) -> Any:
        """The row of the machine that stands at a place in the order of a job."""
        return self.layout.member[int(self.layout.job["members_from"][job]) + order]

    # --- outside of runs --------------------------------------------------------------------

    def _run_of(self, told: p.RunningCopy | p.RunningMerge) -> int:
        """The row of the run that left a copy or merge behind; it may have ended."""
        key = (told.job, told.occurrence)
        if key not in self._run_rows:
            self._run_rows[key] = len(self.runs)
            position = self.plan.job_position[told.job]
            kind = KINDS.index("incremental")
            self.runs.append((position, kind, -1, -1, 1, 0, 0, told.occurrence - t.EPOCH, np.nan))
        return self._run_rows[key]

    def _merge(self, told: p.RunningMerge) -> None:
        position = self.plan.job_position[told.job]
        repository = self._repository(told.repository)
        member = self._member_row(position, told.order)
        row, first = int(member["work_class"]), int(member["copies_from"])
        copies = int(self.layout.job["copies_n"][position])
        for copy in self.layout.copy[first : first + copies]:
            if copy["repository"] == repository:
                row = int(copy["merge_class"])
        candidate = int(self.layout.repository["candidate"][repository])
        run = self._run_of(told)
        self._work(run, told.order, ST_MERGE, row, candidate, due=told.queued, told=told.work)

    def _copy(self, told: p.RunningCopy) -> None:
        position = self.plan.job_position[told.job]
        row = int(self._member_row(position, told.order)["copies_from"]) + told.copy
        if not self.layout.copy["routed"][row]:
            return
        run = self._run_of(told)
        if self.runs[run][4]:
            self._original(run, told)
        self._work(run, told.order, ST_COPY, 0, 0, due=told.due, number=told.copy, told=told.work)

    def _original(self, run: int, told: p.RunningCopy) -> None:
        """The machine-run of a run that has ended, for the sake of its copy."""
        start = told.start - t.EPOCH
        self.tasks.append(
            (
                run,
                told.order,
                AT_ENDED,
                KINDS.index(told.kind),
                0,
                -1,
                0,
                DONE,
                0,
                *(start,) * 6,
                0.0,
                0.0,
                told.stored_bytes,
            )
        )

    def _work(
        self,
        run: int,
        order: int,
        stage: int,
        row: int,
        candidate: int,
        *,
        due: float | None = None,
        number: int = 0,
        told: p.RunningWork | None,
    ) -> None:
        told = p.RunningWork() if told is None else told
        self.works.append(
            (
                run,
                order,
                stage,
                row,
                candidate,
                -1,
                -1,
                number,
                np.nan if due is None else due - t.EPOCH,
                np.nan if told.started is None else told.started - t.EPOCH,
                np.nan if told.work_bytes is None else told.work_bytes,
                told.moved_bytes,
            )
        )


def _has_made_its_point(told: p.RunningMachine) -> bool:
    if told.state == "ended":
        return told.outcome == "done" and told.start is not None
    return told.state == "verifying" or (told.state == "releasing" and not told.synthetic)


def read_under_way(layout: Layout, plan: Plan, points: Snapshot, running: p.Running) -> UnderWay:
    """What is under way, for the rows of a layout that it `fits`."""
    return _Reader(layout, plan, points, running).read()


# --- from records into the world ---------------------------------------------------------------


@njit(cache=True)
def _take_run(w: World, told: Any) -> None:
    r = new_run(w, told.job, told.occurrence, told.kind, told.schedule, told.turn)
    select_machines(w, r)
    run = w.run[r]
    if told.ended_before:
        run.ended_before = 1
        run.outcome = RUN_DONE
        run.ended = run.occurrence
        for i in range(run.tasks_from, run.tasks_from + run.tasks_n):
            w.task[i].state, w.task[i].outcome, w.task[i].ended = ENDED, DONE, run.occurrence
        return
    reached = told.reached
    if told.queued and np.isnan(reached):
        reached = run.occurrence + w.job[run.job].before
    for i in range(run.tasks_from, run.tasks_from + run.tasks_n):
        w.task[i].queued, w.task[i].first = reached, w.task[i].disks_from
    activate(w, r)
    now = w.f[F_NOW] + SAME_INSTANT
    if told.at_any_time:
        run.at_any_time = 1
        run.opens, run.closes, run.never_opens = run.occurrence, np.inf, 0
    else:
        closed = run.closes <= now and not run.never_opens
        run.open_ended = 1 if closed and w.job[run.job].end_rule == RUN_ON else 0
        set_deadlines(w, r, now)
    run.unfinished = run.tasks_n
    if told.queued and run.tasks_n:
        open_queue(w, r)


@njit(cache=True)
def _next_step_of_run(w: World, r: int) -> None:
    """What comes next for a run as a whole: the queue, or its end."""
    run = w.run[r]
    if run.ended_before:
        return
    job = w.job[run.job]
    if run.tasks_n == 0:
        run.outcome = RUN_EMPTY
        add_step(w, run.occurrence + (job.before + job.after), S_END_RUN, r)
    elif run.unfinished == 0:
        last = run.occurrence
        for i in range(run.tasks_from, run.tasks_from + run.tasks_n):
            last = max(last, w.task[i].ended)
        add_step(w, last + job.after, S_END_RUN, r)
    elif not run.queued:
        add_step(w, run.occurrence + job.before, S_REACH_QUEUE, r)


@njit(cache=True)
def _take_task(w: World, told: Any) -> None:
    run = w.run[told.run]
    i = run.tasks_from + told.order
    task = w.task[i]
    task.kind, task.synthetic, task.base_point = told.kind, told.synthetic, told.base_point
    task.made = told.made
    task.queued, task.start, task.moved = told.queued, told.start, told.moved
    task.released, task.ended = told.released, told.ended
    task.source, task.wire, task.stored = told.source, told.wire, told.stored
    task.first = task.disks_from + told.first
    if run.ended_before:
        return
    if not np.isnan(told.start):
        run.started = 1
    if told.step == AT_WAITING:
        if run.queued and np.isnan(task.queued):
            task.queued = run.occurrence + w.job[run.job].before
    elif told.step == AT_PREPARING:
        task.state = PREPARING
        hold_machine(w, i)
        add_step(w, task.start + w.member[task.member].prepare, S_PREPARED, i)
    elif told.step == AT_MOVING:
        task.state = MOVING
        hold_machine(w, i)
    elif told.step == AT_RELEASING:
        task.state = FINISHING
        hold_machine(w, i)
        add_step(w, release_end(w, i), S_RELEASED, i)
    elif told.step == AT_TRANSFORMING:
        task.state = FINISHING
    elif told.step == AT_VERIFYING:
        task.state = FINISHING
        since = told.transformed if task.synthetic else task.released
        add_step(w, since + verify_seconds(w, i), S_VERIFIED, i)
    else:
        task.state, task.outcome = ENDED, told.outcome
        run.unfinished -= 1
        if told.outcome == DONE:
            run.done += 1


@njit(cache=True)
def _take_disk(w: World, task_told: Any, told: Any, squeezed: Any) -> None:
    i = w.run[task_told.run].tasks_from + task_told.order
    task = w.task[i]
    t = task.disks_from + told.place
    stream = w.transfer[t]
    stream.work, stream.omega = told.work, told.omega
    stream.share = w.job[w.run[task.run].job].share
    w.squeezed[t, : len(squeezed)] = squeezed
    if told.moved or (task.state == ENDED and told.holds):
        # When it was read is not told; that and how it was read is.
        now = w.f[F_NOW] if np.isnan(task.moved) else task.moved
        if told.candidate >= 0:
            stream.candidate = told.candidate
            stream.slots_from = stream.slots_to = min(now, w.f[F_NOW])
    if told.moved:
        stream.moved = 1
        task.left -= 1
    elif task.state == ENDED:
        return
    elif told.holds:
        hold_slots(w, t, told.candidate)
        if task.state == MOVING:
            move(w, t)
            if stream.stream >= 0:
                w.stream[stream.stream].left = max(0.0, stream.work - told.done)
                w.squeezed_now[stream.stream, : len(squeezed)] = squeezed
    elif task.state == MOVING:
        queue_disk(w, t, class_count(w))


@njit(cache=True)
def _take_work(w: World, told: Any) -> None:
    i = w.run[told.run].tasks_from + told.order
    if told.stage == ST_COPY:
        k = new_copy(w, i, told.number)
        if told.due > w.f[F_NOW] + SAME_INSTANT:
            add_step(w, told.due, S_COPY_DUE, k)
            return
        queue_work(w, k)
        w.work[k].queued = told.due
    elif told.stage == ST_MERGE:
        count_pending(w, i, 1)
        k = queue_rewrite(w, i, told.row, ST_MERGE, told.candidate, max(0.0, told.work))
        w.work[k].queued = told.due
    else:
        repository = w.member[w.task[i].member].repository
        stored = w.task[i].stored
        k = rewrite(w, i, repository, told.row, ST_TRANSFORM, told.candidate, stored)
        w.work[k].queued = w.task[i].released
    if np.isnan(told.started):
        return
    stream = w.transfer[w.n[N_DISKS] + k]
    if not np.isnan(told.work):
        stream.work = told.work
    move_work(w, k)
    w.work[k].started = told.started
    if stream.stream >= 0:
        w.stream[stream.stream].left = max(0.0, stream.work - told.done)


@njit(cache=True)
def _take_up(w: World, runs: Any, tasks: Any, disks: Any, squeezed: t.Floats, works: Any) -> None:
    take_up_restores(w)
    for i in range(len(runs)):
        _take_run(w, runs[i])
    for i in range(len(tasks)):
        _take_task(w, tasks[i])
    for i in range(len(disks)):
        _take_disk(w, tasks[disks[i].task], disks[i], squeezed[i])
    for i in range(len(works)):
        _take_work(w, works[i])
    for r in range(len(runs)):
        _next_step_of_run(w, r)
    # All steps of this instant are done: rates are what is missing.
    instant(w)


@njit(cache=True, nogil=True)
def take_up(
    world: Handle,
    runs: t.Table,
    tasks: t.Table,
    disks: t.Table,
    squeezed: t.Floats,
    works: t.Table,
) -> None:
    """Put what is under way into a world in which nothing has happened yet."""
    _take_up(view_of(world), runs, tasks, disks, squeezed, works)
