"""The event loop as the text says it (section 6), with the work between repositories (section 7).

It is written to be read beside the planning model: one object for each thing, every rule where the
text has it, nothing kept or skipped for the sake of speed. The product uses the package `engine`
beside it; tests hold the two together.
"""

from __future__ import annotations

from collections.abc import Callable
from heapq import heapify, heappop, heappush
from math import inf
from zoneinfo import ZoneInfo

from gambrel.core.constants import (
    BLOCK_CLONE_WORK,
    FOLLOWED_AFTER_END,
    RELEASE_BYTES_PER_S,
    RELEASE_S,
    TRANSFORM_WORK,
)
from gambrel.core.model.destinations import at_destination, destination_of
from gambrel.core.model.job_windows import window_of
from gambrel.core.model.paths import Topology, Uses
from gambrel.core.model.retention import ChainKey, Point, PointStore, linked
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.sharing import Demand, fair_rates
from gambrel.core.model.volume import (
    compression,
    disk_volume,
    effective_kind,
    grown,
    growth_factor,
    makes_synthetic_fulls,
    preparation_s,
    protected_bytes,
    protected_disks,
    refuses,
)
from gambrel.core.plan.objects import Disk, Kind, Plan, Repository, Retention
from gambrel.core.schedules.calendars import (
    NEVER,
    WindowSpan,
    held_until,
    limit_intervals,
    window_span,
)
from gambrel.core.schedules.spread_fulls import NOBODYS, full_groups, job_dues, kind_in_turn
from gambrel.core.simulation.forecast import CopyRun, MachineOutcome, NewestPoint, Reading
from gambrel.core.simulation.known_points import build_on
from gambrel.core.simulation.reference.restoring import Restores
from gambrel.core.simulation.reference.resuming import Resuming
from gambrel.core.simulation.reference.tasks import (
    COPY,
    DISK,
    ENDED,
    FINISHING,
    MERGE,
    MOVING,
    PREPARING,
    TRANSFORM,
    WAITING,
    DiskTask,
    MachineTask,
    QueueItem,
    QueueKey,
    RepositoryTask,
    RunTask,
    Stream,
)
from gambrel.core.units import DAY, MBIT, MIB, MINUTE, SAME_INSTANT


class Simulation:
    """One pass over a plan."""

    def __init__(self, plan: Plan, from_: float, to: float) -> None:
        self.plan = plan
        self.from_ = from_
        self.to = to
        self.now = from_
        self.topology = Topology(plan)
        self.capacity = dict(self.topology.capacity)
        self._base_capacity = dict(self.topology.capacity)
        self.busy = [0] * len(self.topology.pool_names)
        self.points = PointStore()
        self.zones = {s.id: ZoneInfo(s.time_zone) for s in plan.sites}

        self._sequence = 0
        self.appearing: list[tuple[ChainKey, Point]] = []
        """Points of the plan's state that do not exist yet."""
        self.transforms: dict[MachineTask, RepositoryTask] = {}
        """Transforms that wait or move."""
        self._steps: list[tuple[float, int, QueueKey, Callable[[], None]]] = []
        self._limits: list[tuple[float, int, int, float]] = []
        self._limits_in_force: dict[int, list[float]] = {}
        self._deadlines: list[tuple[float, int, float, int, int, Callable[[], None]]] = []
        self._wakes: list[float] = []
        self._due: list[tuple[float, int, Kind, int, int]] = []
        self._ended_now: list[RunTask] = []

        self.queue: list[QueueItem] = []
        self.streams: list[Stream] = []
        self._repository_tasks: set[RepositoryTask] = set()
        self._outside: set[RepositoryTask] = set()
        """Copies and merges that wait for their delay, in the queue, or move."""
        self._copies_moving: set[tuple[int, int, str]] = set()
        self._held: dict[str, RunTask] = {}
        self._last_run: dict[int, RunTask] = {}
        self.active: list[RunTask] = []

        self.runs: list[RunTask] = []
        self.copies: list[CopyRun] = []
        self.newest: dict[int, list[NewestPoint]] = {}
        self.peak: dict[int, float] = {}

        self._job_position = plan.job_position
        self.machine_position = {m.id: i for i, m in enumerate(plan.machines)}
        self.repository_position = {r.id: i for i, r in enumerate(plan.repositories)}
        self._followers: dict[str, list[int]] = {}
        for position, job in enumerate(plan.jobs):
            if job.after is not None:
                self._followers.setdefault(job.after, []).append(position)
        self.restores = Restores(self)
        self._plan_occurrences()
        self._plan_limits()
        self._take_existing_points()
        if plan.state.running is not None:
            Resuming(self, plan.state.running).take_up()

    # --- setting up -------------------------------------------------------------------------

    def _plan_occurrences(self) -> None:
        for position, job in enumerate(self.plan.jobs):
            for instant, kind, schedule, turn in job_dues(
                job, self.plan.calendar_by_id, self.from_, self.to
            ):
                self._due.append((instant, position, kind, schedule, turn))
        if self.plan.state.running is not None:
            # What falls on the first instant has begun there already.
            self._due = [due for due in self._due if due[0] > self.from_ + SAME_INSTANT]
        self._due.sort(key=lambda due: (due[0], due[1]), reverse=True)

    def _plan_limits(self) -> None:
        for link in self.plan.links:
            resource = self.topology.resource(f"link:{link.id}")
            zone = self.zones[link.between[0]]
            self._limits_in_force[resource] = []
            for limit in link.limits:
                rate = link.carried(limit.mbit_per_s) * MBIT
                last = self.to + FOLLOWED_AFTER_END + DAY
                for start, end in limit_intervals(limit, zone, self.from_, last):
                    if end <= self.from_ + SAME_INSTANT:
                        continue
                    self._limits.append((max(start, self.from_), 1, resource, rate))
                    self._limits.append((end, 0, resource, rate))
        heapify(self._limits)

    def _take_existing_points(self) -> None:
        """Store the points of the plan's state; those that exist only later come in their time."""
        saved = self.plan.state.points
        groups: dict[ChainKey, list[int]] = {}
        for i, point_before in enumerate(saved):
            key = self._chain_key(point_before.repository, point_before.job, point_before.machine)
            groups.setdefault(key, []).append(i)
        for key, indices in groups.items():
            chain = [point for _, point in linked(saved[i] for i in indices)]
            self._build_on(key, chain)
            for point in chain:
                if point.exists_from <= self.from_ + SAME_INSTANT:
                    self.points.add(key, point)
                    if point.usable:
                        found = NewestPoint(point.exists_from, point.at)
                        self.newest.setdefault(key[2], []).append(found)
                else:
                    order: QueueKey = (0.0, point.at, key[1], key[2], 0, 0.0, 0)
                    self.appearing.append((key, point))
                    self.at(point.exists_from, order, self._appears(key, point))

    def _appears(self, key: ChainKey, point: Point) -> Callable[[], None]:
        def appear() -> None:
            self.appearing.remove((key, point))
            self._store_point(key, point)

        return appear

    def _build_on(self, key: ChainKey, chain: list[Point]) -> None:
        """Give points the bases that the state names where the order does not tell."""
        running = self.plan.state.running
        odd = [
            told
            for told in (running.built_on if running is not None else ())
            if self._chain_key(told.repository, told.job, told.machine) == key
        ]
        build_on(chain, odd)

    def _chain_key(self, repository: str, job: str, machine: str) -> ChainKey:
        return (
            self.repository_position[repository],
            self._job_position[job],
            self.machine_position[machine],
        )

    def after(self, seconds: float, order: QueueKey, action: Callable[[], None]) -> None:
        """Have a timed step end `seconds` from now."""
        self.at(self.now + seconds, order, action)

    def at(self, instant: float, order: QueueKey, action: Callable[[], None]) -> None:
        """Have a timed step end at an instant."""
        self._sequence += 1
        heappush(self._steps, (instant, self._sequence, order, action))

    # --- the walk through time --------------------------------------------------------------

    def run(self, until: float = inf) -> None:
        """Simulate until all work has ended, or all that happens at an instant has happened."""
        deadline = self.to + FOLLOWED_AFTER_END
        self._note_space()
        if self.plan.state.running is not None:
            # All steps of this instant are done: rates are what is missing.
            self._instant()
        while True:
            upcoming = self._next_instant()
            if upcoming > min(deadline, until + SAME_INSTANT):
                break
            self.now = max(self.now, upcoming)
            self._instant()
            self._note_space()
            if self._idle() and not self._due and not self.restores.coming:
                break
        if until < deadline:
            self.now = max(self.now, until)
        elif not self._idle():
            self.now = deadline
            self._cut_everything_off()
            self._note_space()

    def _idle(self) -> bool:
        busy = self.active or self._outside or self._steps or self.streams
        return not (busy or self.restores.open)

    def _next_instant(self) -> float:
        instant = min((stream.ends_at for stream in self.streams), default=inf)
        if self._steps:
            instant = min(instant, self._steps[0][0])
        if self._due:
            instant = min(instant, self._due[-1][0])
        instant = min(instant, self.restores.next_due)
        if self._limits:
            instant = min(instant, self._limits[0][0])
        if self._deadlines:
            instant = min(instant, self._deadlines[0][0])
        if self._wakes:
            instant = min(instant, self._wakes[0])
        return instant

    def _instant(self) -> None:
        """All that happens at one instant: steps 1 to 4 until nothing new comes, then step 5."""
        reached = self.now + SAME_INSTANT
        while self._wakes and self._wakes[0] <= reached:
            heappop(self._wakes)
        again = True
        while again:
            again = self._end_work(reached)
            again = self._pass_deadlines(reached) or again
            again = self._begin_runs(reached) or again
            again = self._admit() or again
        self._share_rates()

    # --- step 1: ends -----------------------------------------------------------------------

    def _end_work(self, reached: float) -> bool:
        happened = False
        while True:
            ends: list[tuple[tuple[float, int, int, int, float, int], int, Callable[[], None]]] = []
            while self._steps and self._steps[0][0] <= reached:
                _, number, order, action = heappop(self._steps)
                ends.append((order[1:], number, action))
            for stream in list(self.streams):
                if stream.ends_at <= reached:
                    stream.settle(self.now)
                    self.streams.remove(stream)
                    ends.append((stream.order[1:], stream.number, stream.done))
            if not ends:
                return happened
            happened = True
            for _, _, action in sorted(ends, key=lambda end: end[:2]):
                action()

    # --- step 2: limits, windows, expiries -------------------------------------------------

    def _pass_deadlines(self, reached: float) -> bool:
        happened = False
        while self._limits and self._limits[0][0] <= reached:
            _, begins, resource, rate = heappop(self._limits)
            in_force = self._limits_in_force[resource]
            if begins:
                in_force.append(rate)
            else:
                in_force.remove(rate)
            self.capacity[resource] = min([self._base_capacity[resource], *in_force])
            happened = True
        while self._deadlines and self._deadlines[0][0] <= reached:
            heappop(self._deadlines)[-1]()
            happened = True
        return happened

    def _deadline(
        self, instant: float, phase: int, run: RunTask, action: Callable[[], None]
    ) -> None:
        """Have a window close (phase 0) or an expiry fall (1: stop after, 2: start within)."""
        self._sequence += 1
        heappush(
            self._deadlines,
            (instant, phase, run.occurrence, run.position, self._sequence, action),
        )

    def _close_window(self, run: RunTask) -> None:
        if run.ended is not None:
            return
        rule = "stop" if run.never_opens else run.job.at_window_end
        if rule == "run_on":
            run.open_ended = True
        else:
            self._stop(run, cut=rule == "stop")

    def _stop(self, run: RunTask, *, cut: bool) -> None:
        """Miss what has not started; with `cut`, cut off what has not moved yet."""
        for task in run.machines:
            if task.state == WAITING:
                self._end_machine(task, "missed")
            elif cut and task.state in (PREPARING, MOVING):
                self._cut_off(task)

    def _expire_start(self, run: RunTask) -> None:
        if run.ended is None and not run.started:
            self._stop(run, cut=False)

    def _cut_off(self, task: MachineTask) -> None:
        for disk in task.disks:
            if disk.stream is not None:
                self.drop_stream(disk.stream)
                self._count_moved(disk, disk.stream.work - disk.stream.left)
                disk.stream = None
                self._release_slots(disk)
            elif disk.candidate is not None and not disk.moved:
                self._release_slots(disk)
        self._let_go(task)
        self._end_machine(task, "cut off")

    def drop_stream(self, stream: Stream) -> None:
        """Stop a stream before its end."""
        stream.settle(self.now)
        self.streams.remove(stream)

    def _cut_everything_off(self) -> None:
        self.restores.cut_off()
        for run in list(self.active):
            self._stop(run, cut=True)
            for task in run.machines:
                if task.state != ENDED:
                    self._end_machine(task, "cut off")
        for run in list(self.active):
            self.end_run(run)
        begun = sorted(self._repository_tasks, key=lambda item: item.key)
        for item in begun:
            for pool in item.pools:
                self.busy[pool] -= 1
        queued = [item for item in self.queue if isinstance(item, RepositoryTask)]
        for item in (*begun, *queued):
            if item.copy is not None:
                self._record_copy(item, None)

    # --- step 3: beginnings -----------------------------------------------------------------

    def _begin_runs(self, reached: float) -> bool:
        happened = self.restores.come_due(reached)
        while self._due and self._due[-1][0] <= reached:
            instant, position, kind, schedule, turn = self._due.pop()
            self._begin(position, instant, kind, schedule, turn)
            happened = True
        # What follows a run without machines begins in this step too, however long the chain is.
        while self._ended_now:
            happened = self._begin_followers() or happened
        return happened

    def _begin_followers(self) -> bool:
        happened = False
        ended, self._ended_now = self._ended_now, []
        follow = [(at, run) for run in ended for at in self._followers.get(run.job.id, ())]
        for position, run in sorted(follow, key=lambda f: (f[0], f[1].occurrence)):
            if self.now < self.to - SAME_INSTANT and self.now >= held_until(
                self.plan, self.plan.jobs[position]
            ):
                self._begin(position, self.now, run.kind, None, NOBODYS)
                happened = True
        return happened

    def _begin(
        self, position: int, instant: float, kind: Kind, schedule: int | None, turn: int
    ) -> None:
        job = self.plan.jobs[position]
        run = RunTask(job, position, instant, kind, schedule, turn)
        self.set_window(run)
        previous = self._last_run.get(position)
        if previous is not None and previous.ended is None:
            run.outcome = "skipped"
            self.runs.append(run)
            return
        run.began = instant
        self.add_active(run)
        machines = selected_machines(self.plan, job)
        groups = full_groups(job, machines)
        for order, (machine, group) in enumerate(zip(machines, groups, strict=True)):
            position_of = self.machine_position[machine.id]
            run.machines.append(MachineTask(run, machine, position_of, order, group))
        run.unfinished = len(run.machines)
        self.set_deadlines(run)
        order_key: QueueKey = (-job.priority, run.occurrence, run.position, 0, DISK, 0.0, 0)
        if not run.machines:
            run.outcome = "empty"
            wait = (job.before_min + job.after_min) * MINUTE
            if wait > 0:
                self.after(wait, order_key, lambda: self.end_run(run))
            else:
                self.end_run(run)
        elif job.before_min > 0:
            self.after(job.before_min * MINUTE, order_key, lambda: self.reach_queue(run))
        else:
            self.reach_queue(run)

    def add_active(self, run: RunTask) -> None:
        self.runs.append(run)
        self._last_run[run.position] = run
        self.active.append(run)

    def set_deadlines(self, run: RunTask) -> None:
        """Have the window of a run close and its spans expire, where that is still to come."""
        job = run.job
        spans: list[tuple[float | None, int, Callable[[], None]]] = [
            (job.stop_after_min, 1, lambda: self._stop(run, cut=True)),
            (job.start_within_min, 2, lambda: self._expire_start(run)),
        ]
        ends = [(run.window_end, 0, lambda: self._close_window(run))]
        ends += [
            (run.occurrence + minutes * MINUTE, phase, action)
            for minutes, phase, action in spans
            if minutes is not None
        ]
        resumed = self.plan.state.running is not None and run.occurrence <= self.from_
        for instant, phase, action in ends:
            passed = resumed and instant <= self.now + SAME_INSTANT
            if instant != NEVER and not passed:
                self._deadline(instant, phase, run, action)

    def set_window(self, run: RunTask) -> None:
        window = window_of(self.plan, run.job)
        if window is None:
            return
        span = window_span(window, run.occurrence)
        if span is None:
            run.never_opens = True
            span = WindowSpan(NEVER, run.occurrence)
        run.opens, run.window_end = span.opens, span.closes
        if run.opens > self.now and run.opens != NEVER:
            heappush(self._wakes, run.opens)

    def reach_queue(self, run: RunTask) -> None:
        """Have the machines of a run join the queue."""
        for task in run.machines:
            if task.state != WAITING:
                continue
            task.queued = self.now
            disks = protected_disks(run.job, task.machine)
            found = [self.topology.candidates(run.job, task.machine, disk) for disk in disks]
            if not disks:
                self._end_machine(task, "done")
            elif not all(found):
                self._end_machine(task, "no path")
            else:
                self.queue_machine(task)

    def queue_machine(self, task: MachineTask) -> None:
        """Have the disks of a waiting machine stand in the queue."""
        self.make_disks(task)
        for item in task.disks:
            self.enqueue(item)

    def make_disks(self, task: MachineTask) -> None:
        """The disk tasks of a machine-run, in queue order."""
        job, machine, topology = task.run.job, task.machine, self.topology
        home = self.home_of(task)
        if machine.host is not None:
            task.host_pool = next(iter(topology.limited_pools(f"host:{machine.host}")), None)
        for position, disk in enumerate(protected_disks(job, machine)):
            names = [f"repository:{home.id}", f"job:{job.id}"]
            if machine.kind == "server":
                names.append(f"agent:{machine.id}")
            else:
                names.append(f"datastore:{disk.datastore}")
            pools = topology.limited_pools(*names)
            key = self._key(task, DISK, -disk.used_gib, position)
            candidates = topology.candidates(job, machine, disk)
            task.disks.append(DiskTask(task, disk, key, candidates, pools))
        task.disks.sort(key=lambda item: item.key)

    def _key(self, task: MachineTask, stage: int, first: float, second: int) -> QueueKey:
        run = task.run
        return (
            -run.job.priority,
            run.occurrence,
            run.position,
            task.order,
            stage,
            first,
            second,
        )

    def enqueue(self, item: QueueItem) -> None:
        self.queue.append(item)
        self.queue.sort(key=lambda item: item.key)

    # --- step 4: admission ------------------------------------------------------------------

    def _admit(self) -> bool:
        """Walk the queue in its order and start what can start, until a walk starts nothing."""
        happened = False
        while True:
            started = self.restores.walk()
            for item in list(self.queue):
                if isinstance(item, RepositoryTask):
                    taken = self._try_repository_task(item)
                elif item.owner.state == WAITING:
                    taken = self._try_machine(item)
                else:
                    taken = item.owner.state == MOVING and self._try_disk(item)
                    if taken:
                        self.move(item)
                started = started or taken
            self.queue = [item for item in self.queue if self._still_queued(item)]
            if not started:
                return happened
            happened = True

    def _still_queued(self, item: QueueItem) -> bool:
        """A machine that started takes its other disks out of the queue until it is prepared."""
        if isinstance(item, RepositoryTask):
            return item.start is None
        return item.candidate is None and item.owner.state in (WAITING, MOVING)

    def _window_open(self, run: RunTask) -> bool:
        if run.open_ended:
            return True
        return run.opens <= self.now + SAME_INSTANT and self.now < run.window_end - SAME_INSTANT

    def is_held(self, machine: str) -> bool:
        """Whether a run holds a machine, from its start to the end of its release."""
        return machine in self._held

    def all_free(self, pools: tuple[int, ...]) -> bool:
        return all(self.busy[pool] < self.topology.slots[pool] for pool in pools)

    def _try_disk(self, item: DiskTask) -> bool:
        """Take the slots of a disk if all are free; of several proxies the least busy."""
        if item.candidate is not None or not self.all_free(item.pools):
            return False
        slots = self.topology.slots
        free = [c for c in item.candidates if c.proxy is None or self.all_free((c.proxy,))]
        if not free:
            return False
        item.candidate = min(
            free, key=lambda c: 0.0 if c.proxy is None else self.busy[c.proxy] / slots[c.proxy]
        )
        self.take_slots(item)
        return True

    def take_slots(self, item: DiskTask) -> None:
        """Take the slots of a disk, with the proxy that reads it."""
        assert item.candidate is not None
        for pool in (*item.pools, item.candidate.proxy):
            if pool is not None:
                self.busy[pool] += 1

    def _try_machine(self, item: DiskTask) -> bool:
        task = item.owner
        run = task.run
        if not self._window_open(run) or self.is_held(task.machine.id):
            return False
        if self.restores.holds_back(task.position):
            return False
        host = task.host_pool
        if host is not None and self.busy[host] >= self.topology.slots[host]:
            return False
        if not self._try_disk(item):
            return False
        self._start_machine(task, item)
        return True

    def _start_machine(self, task: MachineTask, first: DiskTask) -> None:
        run, job, machine = task.run, task.run.job, task.machine
        task.state = PREPARING
        task.start = self.now
        run.started = True
        self.hold(task)
        self._set_volumes(task)
        seconds = preparation_s(job, machine)
        self.after(seconds, first.key, lambda: self.prepared(task, first))

    def hold(self, task: MachineTask) -> None:
        """Hold a machine, and a snapshot slot of its host."""
        self._held[task.machine.id] = task.run
        if task.host_pool is not None:
            self.busy[task.host_pool] += 1

    def _set_volumes(self, task: MachineTask) -> None:
        run, machine = task.run, task.machine
        job = at_destination(self.plan, run.job, machine)
        key = self.own_key(task)
        full = self.points.newest_full(key)
        usable = self.points.newest_usable(key)
        scheduled = kind_in_turn(run.kind, task.group, run.turn)
        task.kind = effective_kind(job, scheduled, full is not None)
        task.synthetic = (
            task.kind == "full" and full is not None and makes_synthetic_fulls(self.plan, job)
        )
        if task.synthetic or task.kind == "incremental":
            task.base = usable
        elif task.kind == "differential":
            task.base = full
        since = None if task.base is None else self.now - task.base.at
        for disk in task.disks:
            disk.volume = disk_volume(job, machine, self.grown(task, disk.disk), since)

    def grown(self, task: MachineTask, disk: Disk) -> Disk:
        """A disk as large as it is when its machine starts."""
        assert task.start is not None
        as_of = self.plan.state.sizes_as_of
        return grown(disk, growth_factor(task.machine, as_of, task.start))

    def protected(self, task: MachineTask) -> float:
        """The used bytes of all disks of a machine when it starts."""
        job, machine = task.run.job, task.machine
        return sum(protected_bytes(job, machine, self.grown(task, x.disk)) for x in task.disks)

    def home_of(self, task: MachineTask) -> Repository:
        """The repository of a machine-run."""
        return self.plan.repository_by_id[destination_of(self.plan, task.run.job, task.machine)]

    def own_key(self, task: MachineTask) -> ChainKey:
        repository = self.repository_position[self.home_of(task).id]
        return (repository, task.run.position, task.position)

    # --- a machine-run, step by step --------------------------------------------------------

    def prepared(self, task: MachineTask, first: DiskTask) -> None:
        if task.state != PREPARING:
            return
        if refuses(task.run.job, task.machine):
            self._cut_off(task)
            return
        task.state = MOVING
        self.move(first)
        for disk in task.disks:
            if disk is not first:
                self.enqueue(disk)

    def move(self, disk: DiskTask) -> None:
        candidate, volume = disk.candidate, disk.volume
        assert candidate is not None
        if volume.source <= 0:
            self.after(0.0, disk.key, lambda: self._disk_moved(disk))
            return
        disk.stream = self.new_stream(
            disk.owner.run.job.share,
            candidate.ceiling,
            candidate.uses(volume.wire_per_source),
            volume.source,
            disk.key,
            lambda: self._disk_moved(disk),
        )

    def new_stream(
        self,
        share: float,
        ceiling: float | None,
        uses: Uses,
        work: float,
        order: QueueKey,
        done: Callable[[], None],
    ) -> Stream:
        self._sequence += 1
        demand = Demand(share, ceiling, uses)
        stream = Stream(self._sequence, demand, work, order, done, self.now)
        self.streams.append(stream)
        return stream

    def _count_moved(self, disk: DiskTask, source: float) -> None:
        task = disk.owner
        task.source_bytes += source
        task.wire_bytes += source * disk.volume.wire_per_source
        if disk.stream is not None:
            for squeeze, seconds in disk.stream.squeeze_s.items():
                task.squeeze_s[squeeze] = task.squeeze_s.get(squeeze, 0.0) + seconds

    def _disk_moved(self, disk: DiskTask) -> None:
        task = disk.owner
        if task.state != MOVING:
            return
        self._count_moved(disk, disk.volume.source)
        disk.moved = True
        disk.stream = None
        self._release_slots(disk)
        if all(other.moved for other in task.disks):
            self._all_moved(task)

    def _release_slots(self, disk: DiskTask) -> None:
        candidate = disk.candidate
        assert candidate is not None
        proxy = None if candidate.proxy is None else self.plan.proxies[candidate.proxy].id
        for pool in (*disk.pools, candidate.proxy):
            if pool is not None:
                self.busy[pool] -= 1
        disk.owner.readings.append(Reading(disk.disk.id, proxy, candidate.transport))

    def _all_moved(self, task: MachineTask) -> None:
        job, machine = task.run.job, task.machine
        assert task.start is not None and task.kind is not None
        task.state = FINISHING
        task.moved_at = self.now
        dedupe = self.home_of(task).dedupe_ratio
        protected = self.protected(task)
        if task.synthetic:
            task.stored_bytes = protected / compression(job, machine) / dedupe
        else:
            task.stored_bytes = sum(disk.volume.wire for disk in task.disks) / dedupe
            self._make_point(task)
        if machine.kind == "server":
            self._let_go(task)
            self._released(task)
        else:
            written = protected * machine.daily_change * (self.now - task.start) / DAY
            seconds = RELEASE_S + written / RELEASE_BYTES_PER_S
            self.after(seconds, task.disks[0].key, lambda: self.let_go_and_finish(task))

    def _make_point(self, task: MachineTask) -> None:
        assert task.start is not None and task.kind is not None
        key = self.own_key(task)
        base = None if task.kind == "full" else task.base
        self._store_point(key, Point(task.kind, task.start, self.now, task.stored_bytes, base))
        task.run.made_points.append(task)

    def _store_point(self, key: ChainKey, point: Point) -> None:
        self.points.add(key, point)
        if point.usable:
            self.newest.setdefault(key[2], []).append(NewestPoint(self.now, point.at))

    def _let_go(self, task: MachineTask) -> None:
        """The machine is held no longer, its host has its slot back."""
        del self._held[task.machine.id]
        task.released_at = self.now
        if task.host_pool is not None:
            self.busy[task.host_pool] -= 1

    def let_go_and_finish(self, task: MachineTask) -> None:
        self._let_go(task)
        self._released(task)

    def _released(self, task: MachineTask) -> None:
        if task.synthetic:
            self.queue_transform(task)
        else:
            self._verify(task)

    def verify_s(self, task: MachineTask) -> float:
        """How long the steps in the guest and the verify of a machine-run take."""
        job = task.run.job
        repository = self.home_of(task)
        read = repository.read_rate_mib_per_s
        seconds = 0.0
        how = job.verify if job.verify_fulls or task.kind != "full" else "none"
        if how == "boot":
            seconds = job.boot_min * MINUTE
        elif how == "checksum":
            reading = 0.0 if read is None else task.stored_bytes / (read * MIB)
            seconds = repository.first_byte_s + reading
        return seconds + job.guest_after_s

    def _verify(self, task: MachineTask) -> None:
        seconds = self.verify_s(task)
        if seconds > 0:
            self.after(seconds, task.disks[0].key, lambda: self.finish(task))
        else:
            self.finish(task)

    def finish(self, task: MachineTask) -> None:
        self._end_machine(task, "done")
        self._plan_copies(task)

    def _end_machine(self, task: MachineTask, outcome: MachineOutcome) -> None:
        if outcome != "done":
            task.stored_bytes = 0.0
        task.state = ENDED
        task.outcome = outcome
        task.ended = self.now
        run = task.run
        run.unfinished -= 1
        if run.unfinished == 0:
            if run.job.after_min > 0:
                order = self._key(task, DISK, 0.0, 0)
                self.after(run.job.after_min * MINUTE, order, lambda: self.end_run(run))
            else:
                self.end_run(run)

    def end_run(self, run: RunTask) -> None:
        if run.ended is not None:
            return
        run.ended = self.now
        self.active.remove(run)
        if run.outcome is None:
            done = sum(task.outcome == "done" for task in run.machines)
            run.outcome = "done" if done == len(run.machines) else "incomplete"
            if not done:
                run.outcome = "missed"
        self._ended_now.append(run)
        for task in sorted(run.made_points, key=lambda task: task.order):
            self._retain(task, self.own_key(task), run.job.retention)

    # --- between repositories ---------------------------------------------------------------

    def _retain(self, task: MachineTask, key: ChainKey, retention: Retention) -> None:
        """Apply a retention to the points of one machine, job and repository (section 8)."""
        repository = self.plan.repositories[key[0]]
        zone = self.zones[repository.site]
        if task.run.job.chain == "forever":
            for merge in self.points.merge(key, retention, self.now, zone):
                self.queue_merge(task, key[0], self._rewriting(key[0], merge.merged_bytes))
        else:
            self.points.apply(key, retention, self.now, repository.immutable_days, zone)

    def _repository_work(
        self,
        task: MachineTask,
        repository: int,
        stage: int,
        work: float,
        on_end: Callable[[RepositoryTask], None],
    ) -> RepositoryTask:
        """Queue a transform or a merge in a repository."""
        target = self.plan.repositories[repository]
        transform = target.transform_mib_per_s
        self._sequence += 1
        item = RepositoryTask(
            self._key(task, stage, 0.0, self._sequence),
            task.run.position,
            task,
            self.topology.limited_pools(f"repository:{target.id}"),
            ((self.topology.resource(f"repository:{target.id}"), 1.0),),
            work,
            on_end,
            ceiling=None if transform is None else transform * MIB,
        )
        item.repository = repository
        item.queued = self.now
        self.enqueue(item)
        return item

    def _rewriting(self, repository: int, stored: float) -> float:
        """The work of rewriting some stored bytes in a repository (section 7)."""
        block_clone = self.plan.repositories[repository].block_clone
        return (BLOCK_CLONE_WORK if block_clone else TRANSFORM_WORK) * stored

    def queue_transform(self, task: MachineTask) -> RepositoryTask:
        """Queue the transform that makes the new full of a machine-run."""
        repository = self.repository_position[self.home_of(task).id]
        work = self._rewriting(repository, task.stored_bytes)
        item = self._repository_work(
            task, repository, TRANSFORM, work, lambda _: self._transformed(task)
        )
        self.transforms[task] = item
        return item

    def _transformed(self, task: MachineTask) -> None:
        del self.transforms[task]
        task.transformed_at = self.now
        self._make_point(task)
        self._verify(task)

    def queue_merge(self, task: MachineTask, repository: int, work: float) -> RepositoryTask:
        """Queue a merge in a repository; `work` in bytes."""
        item = self._repository_work(task, repository, MERGE, work, self._outside.discard)
        self._outside.add(item)
        return item

    def _plan_copies(self, task: MachineTask) -> None:
        for index, copy in enumerate(task.run.job.copies):
            item = self.new_copy(task, index) if task.disks else None
            if item is None:
                continue
            item.due = self.now + copy.delay_min * MINUTE
            if copy.delay_min > 0:
                self.after(copy.delay_min * MINUTE, item.key, self.copy_due(item))
            else:
                self.copy_due(item)()

    def new_copy(self, task: MachineTask, index: int) -> RepositoryTask | None:
        """One of the copies of what a machine-run made; None where no route leads there."""
        copy = task.run.job.copies[index]
        home = self.home_of(task)
        uses = self.topology.copy_uses(
            home,
            self.plan.repository_by_id[copy.repository],
        )
        if uses is None:
            return None
        item = RepositoryTask(
            self._key(task, COPY, float(index), 0),
            task.run.position,
            task,
            self.topology.limited_pools(f"repository:{home.id}", f"repository:{copy.repository}"),
            uses,
            0.0,
            self._copied,
            copy=copy,
        )
        self._outside.add(item)
        return item

    def copy_due(self, item: RepositoryTask) -> Callable[[], None]:
        def join() -> None:
            item.queued = self.now
            self.enqueue(item)

        return join

    def _lane(self, item: RepositoryTask) -> tuple[int, int, str]:
        """Copies with the same lane go one after the other."""
        assert item.copy is not None
        return (item.job, item.machine.position, item.copy.repository)

    def _try_repository_task(self, item: RepositoryTask) -> bool:
        if item.start is not None:
            return False
        if item.copy is not None and self._lane(item) in self._copies_moving:
            return False
        if not self.all_free(item.pools):
            return False
        self.begin_repository_task(item)
        return True

    def begin_repository_task(self, item: RepositoryTask, *, settle: bool = True) -> None:
        """Have a piece of work take its slots and move.

        Args:
            settle: whether what a copy carries is settled now.
        """
        for pool in item.pools:
            self.busy[pool] += 1
        item.start = self.now
        if item.copy is not None:
            self._copies_moving.add(self._lane(item))
            if settle:
                self._settle_copy(item)
        self._repository_tasks.add(item)
        if item.work <= 0:
            self.after(0.0, item.key, lambda: self._repository_task_done(item))
        else:
            item.stream = self.new_stream(
                item.machine.run.job.share,
                item.ceiling,
                item.uses,
                item.work,
                item.key,
                lambda: self._repository_task_done(item),
            )

    def outside_work(self, stage: int) -> list[RepositoryTask]:
        """The copies, or the merges, that have not ended."""
        return [item for item in self._outside if item.key[4] == stage]

    def _repository_task_done(self, item: RepositoryTask) -> None:
        self._repository_tasks.discard(item)
        for pool in item.pools:
            self.busy[pool] -= 1
        item.on_end(item)

    def _copy_key(self, item: RepositoryTask) -> ChainKey:
        assert item.copy is not None
        return (
            self.repository_position[item.copy.repository],
            item.job,
            item.machine.position,
        )

    def _settle_copy(self, item: RepositoryTask) -> None:
        """What a copy carries is settled when it starts to move (section 7)."""
        task = item.machine
        job = task.run.job
        source = self.home_of(task)
        if self.points.newest_full(self._copy_key(item)) is None:
            item.work = self.protected(task) / compression(job, task.machine)
        else:
            item.work = task.stored_bytes * source.dedupe_ratio

    def _copied(self, item: RepositoryTask) -> None:
        task, copy = item.machine, item.copy
        assert copy is not None and task.start is not None and task.kind is not None
        self._copies_moving.discard(self._lane(item))
        self._outside.discard(item)
        key = self._copy_key(item)
        first = self.points.newest_full(key) is None
        kind: Kind = "full" if first else task.kind
        stored = item.work / self.plan.repository_by_id[copy.repository].dedupe_ratio
        base = self.points.base_for(key, kind)
        self._store_point(key, Point(kind, task.start, self.now, stored, base))
        self._record_copy(item, self.now)
        self._retain(task, key, copy.retention)

    def _record_copy(self, item: RepositoryTask, ended: float | None) -> None:
        assert item.copy is not None
        self.copies.append(
            CopyRun(
                item.machine.run.job.id,
                item.machine.machine.id,
                item.copy.repository,
                item.machine.run.occurrence,
                item.queued,
                item.start,
                ended,
                item.work,
            )
        )

    # --- step 5: rates ----------------------------------------------------------------------

    def _share_rates(self) -> None:
        rates = fair_rates([stream.demand for stream in self.streams], self.capacity)
        for stream, allotted in zip(self.streams, rates, strict=True):
            stream.settle(self.now)
            stream.rate, stream.squeeze = allotted.rate, allotted.squeeze

    # --- noting -----------------------------------------------------------------------------

    def _note_space(self) -> None:
        for repository, used in self.points.used_bytes.items():
            if used > self.peak.get(repository, 0.0):
                self.peak[repository] = used
