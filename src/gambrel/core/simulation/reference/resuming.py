"""Beginning in the middle: what is under way at an instant, written down and taken up again."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import TYPE_CHECKING

from gambrel.core.constants import RELEASE_BYTES_PER_S, RELEASE_S
from gambrel.core.model.paths import Candidate
from gambrel.core.model.restore import Restore
from gambrel.core.model.retention import ChainKey, Point, linked
from gambrel.core.model.sharing import OWN_CEILING, UNLIMITED
from gambrel.core.model.volume import (
    DiskVolume,
    disk_volume,
    preparation_s,
)
from gambrel.core.plan import objects as p
from gambrel.core.schedules.calendars import NEVER
from gambrel.core.schedules.spread_fulls import full_groups
from gambrel.core.simulation.forecast import Reading, RestoredPoint
from gambrel.core.simulation.known_points import found_bad, with_what_is_bad
from gambrel.core.simulation.reference.tasks import (
    COPY,
    ENDED,
    FINISHING,
    MERGE,
    MOVING,
    PREPARING,
    WAITING,
    DiskTask,
    MachineTask,
    QueueKey,
    RepositoryTask,
    RunTask,
    Stream,
)
from gambrel.core.units import DAY, MINUTE, SAME_INSTANT

if TYPE_CHECKING:
    from gambrel.core.simulation.reference.loop import Simulation

RunKey = tuple[int, float]
"""(job position, occurrence): what tells a run."""


# --- taking down ------------------------------------------------------------------------------


def state_of(loop: Simulation) -> p.State:
    """Write down a simulation as it stands once all steps of its current instant are done."""
    for stream in loop.streams:
        stream.settle(loop.now)
    points, built_on = _points(loop)
    running = p.Running(
        at=loop.now,
        runs=tuple(_run(loop, run) for run in loop.active),
        copies=tuple(_copies(loop)),
        merges=tuple(_merges(loop)),
        restores=tuple(_restores(loop)),
        built_on=built_on,
    )
    ended = {task.planned.id for task in loop.restores.tasks if task.ended}
    return p.State(
        points=points,
        restores=tuple(r for r in loop.plan.state.restores if r.id not in ended),
        restores_at_once=loop.plan.state.restores_at_once,
        running=running,
        sizes_as_of=loop.plan.state.sizes_as_of,
    )


def _points(loop: Simulation) -> tuple[tuple[p.ExistingPoint, ...], tuple[p.BuiltOn, ...]]:
    """The points that exist and those that will appear, and where order does not tell the base."""
    plan = loop.plan
    bad = found_bad(plan)
    written: list[p.ExistingPoint] = []
    odd: list[p.BuiltOn] = []
    chains: dict[ChainKey, list[Point]] = {key: list(points) for key, points in loop.points.items()}
    for key, point in loop.appearing:
        chains.setdefault(key, []).append(point)
    for key in sorted(chains):
        place = (plan.jobs[key[1]].id, plan.machines[key[2]].id, plan.repositories[key[0]].id)
        points = chains[key]
        told_points = [
            with_what_is_bad(
                p.ExistingPoint(
                    *place, point.kind, point.at, point.exists_from, point.stored_bytes
                ),
                bad,
            )
            for point in points
        ]
        written += told_points
        as_read = {id(told): read for told, read in linked(told_points)}
        for point, told in zip(points, told_points, strict=True):
            base = None if point.base is None else point.base.at
            read = as_read[id(told)]
            same = point.usable == read.usable
            if not same or base != (None if read.base is None else read.base.at):
                odd.append(p.BuiltOn(*place, point.at, base, point.usable))
    return tuple(written), tuple(odd)


def _run(loop: Simulation, run: RunTask) -> p.RunningRun:
    return p.RunningRun(
        job=run.job.id,
        occurrence=run.occurrence,
        kind=run.kind,
        schedule=run.schedule,
        turn=run.turn,
        at_any_time=run.at_any_time,
        machines=tuple(_machine(loop, task) for task in run.machines),
    )


def _machine(loop: Simulation, task: MachineTask) -> p.RunningMachine:
    transform = loop.transforms.get(task)
    state = {WAITING: "waiting", PREPARING: "preparing", MOVING: "moving", ENDED: "ended"}.get(
        task.state
    )
    if state is None:
        if task.released_at is None:
            state = "releasing"
        else:
            state = "verifying" if transform is None else "transforming"
    return p.RunningMachine(
        machine=task.machine.id,
        state=state,  # type: ignore[arg-type]
        queued=task.queued,
        start=task.start,
        kind=task.kind,
        synthetic=task.synthetic,
        base_at=None if task.base is None else task.base.at,
        moved=task.moved_at,
        released=task.released_at,
        transformed=task.transformed_at,
        ended=task.ended,
        outcome=task.outcome,
        source_bytes=task.source_bytes,
        wire_bytes=task.wire_bytes,
        stored_bytes=task.stored_bytes,
        squeeze_s=_named(loop, task.squeeze_s),
        disks=() if task.start is None else tuple(_disk(loop, disk) for disk in task.disks),
        transform=None if transform is None else _work(transform),
    )


def _disk(loop: Simulation, disk: DiskTask) -> p.RunningDisk:
    candidate, stream = disk.candidate, disk.stream
    proxy = None if candidate is None or candidate.proxy is None else candidate.proxy
    moved = disk.volume.source if disk.moved else 0.0
    return p.RunningDisk(
        disk=disk.disk.id,
        source_bytes=disk.volume.source,
        wire_bytes=disk.volume.wire,
        proxy=None if proxy is None else loop.plan.proxies[proxy].id,
        transport=None if candidate is None else candidate.transport,
        holds=candidate is not None and not disk.moved,
        moved=disk.moved,
        moved_bytes=moved if stream is None else max(0.0, stream.work - stream.left),
        squeeze_s=() if stream is None else _named(loop, stream.squeeze_s),
    )


def _work(item: RepositoryTask) -> p.RunningWork:
    if item.start is None:
        return p.RunningWork(None, None if item.copy is not None else item.work)
    left = 0.0 if item.stream is None else item.stream.left
    return p.RunningWork(item.start, item.work, max(0.0, item.work - left))


def _copies(loop: Simulation) -> Iterable[p.RunningCopy]:
    for item in sorted(loop.outside_work(COPY), key=lambda item: item.key):
        task = item.machine
        assert task.start is not None and task.kind is not None and item.due is not None
        yield p.RunningCopy(
            job=task.run.job.id,
            machine=task.machine.id,
            copy=int(item.key[5]),
            occurrence=task.run.occurrence,
            order=task.order,
            kind=task.kind,
            start=task.start,
            stored_bytes=task.stored_bytes,
            due=item.due,
            work=_work(item),
        )


def _merges(loop: Simulation) -> Iterable[p.RunningMerge]:
    for item in sorted(loop.outside_work(MERGE), key=lambda item: item.key):
        task = item.machine
        assert item.repository is not None
        yield p.RunningMerge(
            job=task.run.job.id,
            machine=task.machine.id,
            repository=loop.plan.repositories[item.repository].id,
            occurrence=task.run.occurrence,
            order=task.order,
            queued=item.queued,
            work=_work(item),
        )


def _restores(loop: Simulation) -> Iterable[p.RunningRestore]:
    for task in loop.restores.open:
        estimate, point, stream = task.estimate, task.point, task.stream
        if task.start is None or estimate is None or point is None:
            yield p.RunningRestore(task.planned.id, task.due)
            continue
        yield p.RunningRestore(
            id=task.planned.id,
            due=task.due,
            start=task.start,
            back=task.back,
            point=p.NamedPoint(point.job, point.repository, point.at),
            points=estimate.points,
            read_bytes=estimate.read_bytes,
            written_bytes=estimate.written_bytes,
            delay_s=task.delay_s,
            moved_bytes=0.0 if stream is None else max(0.0, stream.work - stream.left),
            squeeze_s=() if stream is None else _named(loop, stream.squeeze_s),
        )


def _named(loop: Simulation, squeeze_s: dict[int, float]) -> tuple[tuple[str, float], ...]:
    names = loop.topology.resource_names
    return tuple(
        ("transport" if squeeze == OWN_CEILING else names[squeeze], seconds)
        for squeeze, seconds in sorted(squeeze_s.items())
        if squeeze != UNLIMITED
    )


# --- taking up --------------------------------------------------------------------------------


class Resuming:
    """Puts what was under way into a simulation that begins there."""

    def __init__(self, loop: Simulation, running: p.Running) -> None:
        self.loop = loop
        self.running = running
        self._tasks: dict[tuple[RunKey, int], MachineTask] = {}
        """Machine-runs by run and machine, also those of runs that have ended."""
        self._shadows: dict[RunKey, RunTask] = {}

    def take_up(self) -> None:
        """Restores and runs first: they hold slots; then what waits outside of runs."""
        self.loop.restores.take_up(self.running.restores)
        for run in self.running.runs:
            self._take_run(run)
        for merge in self.running.merges:
            self._take_merge(merge)
        for copy in self.running.copies:
            self._take_copy(copy)

    # --- runs -------------------------------------------------------------------------------

    def _take_run(self, told: p.RunningRun) -> None:
        loop = self.loop
        position = loop.plan.job_position[told.job]
        job = loop.plan.jobs[position]
        run = RunTask(job, position, told.occurrence, told.kind, told.schedule, told.turn)
        run.began = told.occurrence
        machines = [loop.plan.machine_by_id[m.machine] for m in told.machines]
        groups = full_groups(job, machines)
        for order, (machine, group) in enumerate(zip(machines, groups, strict=True)):
            at = loop.machine_position[machine.id]
            run.machines.append(MachineTask(run, machine, at, order, group))
            self._tasks[(position, told.occurrence), at] = run.machines[-1]
        run.unfinished = sum(m.state != "ended" for m in told.machines)
        run.started = any(m.start is not None for m in told.machines)
        loop.add_active(run)
        run.at_any_time = told.at_any_time
        if not told.at_any_time:
            loop.set_window(run)
            closed = run.window_end != NEVER and run.window_end <= loop.now + SAME_INSTANT
            run.open_ended = closed and not run.never_opens and job.at_window_end == "run_on"
            loop.set_deadlines(run)
        queued = job.before_min <= 0 or any(m.queued is not None for m in told.machines)
        for task, state in zip(run.machines, told.machines, strict=True):
            if queued and state.state == "waiting" and state.queued is None:
                state = replace(state, queued=run.occurrence + job.before_min * MINUTE)
            self._take_machine(task, state)
        self._set_next_step(run, queued=queued)

    def _set_next_step(self, run: RunTask, *, queued: bool) -> None:
        """What comes next for the run as a whole: the queue, or its end."""
        loop, job = self.loop, run.job
        key: QueueKey = (-job.priority, run.occurrence, run.position, 0, 0, 0.0, 0)
        if not run.machines:
            run.outcome = "empty"
            end = run.occurrence + (job.before_min + job.after_min) * MINUTE
            loop.at(end, key, lambda: loop.end_run(run))
        elif run.unfinished == 0:
            last = max(task.ended or 0.0 for task in run.machines)
            loop.at(last + job.after_min * MINUTE, key, lambda: loop.end_run(run))
        elif not queued:
            reached = run.occurrence + job.before_min * MINUTE
            loop.at(reached, key, lambda: loop.reach_queue(run))

    def _take_machine(self, task: MachineTask, told: p.RunningMachine) -> None:
        task.queued, task.start, task.ended = told.queued, told.start, told.ended
        task.kind, task.synthetic, task.outcome = told.kind, told.synthetic, told.outcome
        task.moved_at, task.released_at = told.moved, told.released
        task.transformed_at = told.transformed
        task.source_bytes, task.wire_bytes = told.source_bytes, told.wire_bytes
        task.stored_bytes = told.stored_bytes
        task.squeeze_s = numbered(self.loop, told.squeeze_s)
        if told.state == "preparing" and not self._can_be_read(task, told):
            # Whoever was to read it is gone, and nothing has moved: it waits.
            told = p.RunningMachine(told.machine, queued=told.queued)
            task.start = task.kind = None
            task.synthetic = False
        if told.start is not None:
            task.base = self._base(task, told)
        if told.state == "waiting":
            if told.queued is not None:
                self.loop.queue_machine(task)
            return
        if told.start is not None:
            self.loop.make_disks(task)
            by_id = {disk.disk: disk for disk in told.disks}
            for disk in task.disks:
                if disk.disk.id in by_id:
                    self._take_disk(disk, by_id[disk.disk.id])
        if _has_made_its_point(told):
            task.run.made_points.append(task)
        take: dict[str, Callable[[MachineTask, p.RunningMachine], None]] = {
            "preparing": self._take_preparing,
            "moving": self._take_moving,
            "releasing": self._take_releasing,
            "transforming": self._take_transforming,
            "verifying": self._take_verifying,
        }
        if told.state == "ended":
            task.state = ENDED
        else:
            take[told.state](task, told)

    def _can_be_read(self, task: MachineTask, told: p.RunningMachine) -> bool:
        """Whether the disk that a machine holds slots for can still be read."""
        probe = MachineTask(task.run, task.machine, self.loop.machine_position[task.machine.id],
                            task.order, -1)  # fmt: skip
        self.loop.make_disks(probe)
        held = {disk.disk for disk in told.disks if disk.holds}
        return any(disk.candidates for disk in probe.disks if disk.disk.id in held)

    def _base(self, task: MachineTask, told: p.RunningMachine) -> Point | None:
        points = self.loop.points
        key = self.loop.own_key(task)
        if told.base_at is not None:
            at = told.base_at
            named = [x for x in points.chain(key) if abs(x.at - at) <= SAME_INSTANT]
            if named:
                return named[-1]
        if told.kind == "differential":
            return points.newest_full(key)
        builds = told.kind == "incremental" or told.synthetic
        return points.newest_usable(key) if builds else None

    def _take_disk(self, disk: DiskTask, told: p.RunningDisk) -> None:
        task = disk.owner
        assert task.start is not None
        since = None if task.base is None else task.start - task.base.at
        size = self.loop.grown(task, disk.disk)
        volume = disk_volume(task.run.job, task.machine, size, since)
        source = volume.source if told.source_bytes is None else told.source_bytes
        wire = volume.wire if told.wire_bytes is None else told.wire_bytes
        disk.volume = DiskVolume(source, wire)
        disk.moved = told.moved
        if told.holds or told.moved:
            disk.candidate = self._candidate(disk, told)
        if told.moved or task.outcome is not None:
            if disk.candidate is not None:
                task.readings.append(Reading(disk.disk.id, told.proxy, told.transport))
        elif told.holds and disk.candidate is not None:
            self.loop.take_slots(disk)

    def _candidate(self, disk: DiskTask, told: p.RunningDisk) -> Candidate | None:
        def proxy(candidate: Candidate) -> str | None:
            at = candidate.proxy
            return None if at is None else self.loop.plan.proxies[at].id

        found = [c for c in disk.candidates if proxy(c) == told.proxy]
        return next(iter(found or disk.candidates), None)

    def _take_preparing(self, task: MachineTask, told: p.RunningMachine) -> None:
        loop = self.loop
        task.state = PREPARING
        self.loop.hold(task)
        held = {disk.disk for disk in told.disks if disk.holds}
        first = next((d for d in task.disks if d.disk.id in held), task.disks[0])
        assert task.start is not None
        end = task.start + preparation_s(task.run.job, task.machine)
        loop.at(end, first.key, lambda: loop.prepared(task, first))

    def _take_moving(self, task: MachineTask, told: p.RunningMachine) -> None:
        task.state = MOVING
        self.loop.hold(task)
        by_id = {disk.disk: disk for disk in told.disks}
        for disk in task.disks:
            known = by_id.get(disk.disk.id)
            if known is not None and known.holds and disk.candidate is not None:
                self.loop.move(disk)
                if disk.stream is not None:
                    self._go_on(disk.stream, known.moved_bytes)
                    disk.stream.squeeze_s = numbered(self.loop, known.squeeze_s)
            elif not disk.moved:
                self.loop.enqueue(disk)

    def _take_releasing(self, task: MachineTask, told: p.RunningMachine) -> None:
        loop = self.loop
        task.state = FINISHING
        self.loop.hold(task)
        assert told.start is not None and told.moved is not None
        seconds = told.moved - told.start
        written = self.loop.protected(task) * task.machine.daily_change * seconds / DAY
        end = told.moved + (RELEASE_S + written / RELEASE_BYTES_PER_S)
        loop.at(end, task.disks[0].key, lambda: loop.let_go_and_finish(task))

    def _take_transforming(self, task: MachineTask, told: p.RunningMachine) -> None:
        task.state = FINISHING
        item = self.loop.queue_transform(task)
        if told.transform is not None:
            self._begin_work(item, told.transform)

    def _take_verifying(self, task: MachineTask, told: p.RunningMachine) -> None:
        loop = self.loop
        task.state = FINISHING
        since = told.transformed if told.synthetic else told.released
        assert since is not None
        end = since + loop.verify_s(task)
        loop.at(end, task.disks[0].key, lambda: loop.finish(task))

    # --- outside of runs --------------------------------------------------------------------

    def _task(self, told: p.RunningCopy | p.RunningMerge) -> MachineTask:
        """The machine-run that a copy or merge belongs to; its run may have ended."""
        plan = self.loop.plan
        position = plan.job_position[told.job]
        machine = self.loop.machine_position[told.machine]
        run_key = (position, told.occurrence)
        if (run_key, machine) not in self._tasks:
            run = self._shadows.get(run_key)
            if run is None:
                job = plan.jobs[position]
                run = self._shadows[run_key] = RunTask(
                    job, position, told.occurrence, "incremental", None, -1
                )
            task = MachineTask(run, plan.machines[machine], machine, told.order, -1)
            task.state = ENDED
            self._tasks[run_key, machine] = task
        return self._tasks[run_key, machine]

    def _take_merge(self, told: p.RunningMerge) -> None:
        task = self._task(told)
        repository = self.loop.repository_position[told.repository]
        item = self.loop.queue_merge(task, repository, told.work.work_bytes or 0.0)
        item.queued = told.queued
        self._begin_work(item, told.work)

    def _take_copy(self, told: p.RunningCopy) -> None:
        loop = self.loop
        task = self._task(told)
        task.start, task.kind, task.stored_bytes = told.start, told.kind, told.stored_bytes
        if not task.disks:
            loop.make_disks(task)
        item = loop.new_copy(task, told.copy)
        if item is None:
            return
        item.due = told.due
        if told.due > loop.now + SAME_INSTANT:
            loop.at(told.due, item.key, loop.copy_due(item))
            return
        item.queued = told.due
        loop.enqueue(item)
        self._begin_work(item, told.work)

    def _begin_work(self, item: RepositoryTask, told: p.RunningWork) -> None:
        """Have a queued piece of work go on where it had begun."""
        if told.started is None:
            return
        if told.work_bytes is not None:
            item.work = told.work_bytes
        self.loop.begin_repository_task(item, settle=False)
        item.start = told.started
        if item.stream is not None:
            self._go_on(item.stream, told.moved_bytes)

    @staticmethod
    def _go_on(stream: Stream, moved: float) -> None:
        stream.left = max(0.0, stream.work - moved)


def numbered(loop: Simulation, squeeze_s: Iterable[tuple[str, float]]) -> dict[int, float]:
    """Seconds by the number of what limited a stream; names that the plan lacks are left out."""
    found = {}
    for name, seconds in squeeze_s:
        if name == "transport":
            found[OWN_CEILING] = seconds
        elif loop.topology.knows(name):
            found[loop.topology.resource(name)] = seconds
    return found


def _has_made_its_point(told: p.RunningMachine) -> bool:
    if told.state == "ended":
        return told.outcome == "done" and told.start is not None
    if told.state == "verifying":
        return True
    return told.state == "releasing" and not told.synthetic


def restore_under_way(told: p.RunningRestore) -> tuple[Restore, RestoredPoint]:
    """What a restore that had started is about."""
    assert told.point is not None and told.points is not None
    estimate = Restore(told.points, told.read_bytes, told.written_bytes, 0.0, 0.0, 0.0)
    return estimate, RestoredPoint(told.point.job, told.point.repository, told.point.at)
