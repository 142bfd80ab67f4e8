"""Restores beside the backups of the same hours (section 14)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from math import inf
from typing import TYPE_CHECKING

from gambrel.core.constants import SAME_POINT_S
from gambrel.core.model.restore import (
    Chain,
    Restore,
    newest_of,
    restore_from,
    set_up_s,
    stream_ceiling,
)
from gambrel.core.model.retention import ChainKey, Point
from gambrel.core.model.tiers import chain_delay_s
from gambrel.core.model.volume import disks_at, protected_bytes
from gambrel.core.plan.objects import Machine, PlannedRestore, Repository, RunningRestore
from gambrel.core.simulation.forecast import RestoredPoint, RestoreOutcome
from gambrel.core.simulation.reference.resuming import numbered, restore_under_way
from gambrel.core.simulation.reference.tasks import QueueKey, Stream
from gambrel.core.units import SAME_INSTANT

if TYPE_CHECKING:
    from gambrel.core.simulation.reference.loop import Simulation


class RestoreTask:
    """One restore, while it is simulated."""

    def __init__(self, planned: PlannedRestore, position: int, machine: int, due: float) -> None:
        self.planned = planned
        self.position = position
        self.machine = machine
        self.due = due
        self.outcome: RestoreOutcome | None = None
        self.start: float | None = None
        self.back: float | None = None
        self.whole: float | None = None
        self.point: RestoredPoint | None = None
        self.estimate: Restore | None = None
        self.delay_s = 0.0
        self.pools: tuple[int, ...] = ()
        self.stream: Stream | None = None
        self.squeeze_s: dict[int, float] = {}

    @property
    def ended(self) -> bool:
        return self.outcome is not None

    @property
    def order(self) -> QueueKey:
        """Before all ends of runs, by due instant, then position."""
        return (-inf, -inf, 0, 0, 0, self.due, self.position)


class Restores:
    """All restores of a simulation."""

    def __init__(self, simulation: Simulation) -> None:
        self.simulation = simulation
        plan = simulation.plan
        positions = {machine.id: i for i, machine in enumerate(plan.machines)}
        self.tasks = [
            RestoreTask(planned, i, positions[planned.machine], max(planned.at, simulation.from_))
            for i, planned in enumerate(plan.state.restores)
        ]
        happening = (task for task in self.tasks if task.due < simulation.to - SAME_INSTANT)
        self.coming = sorted(happening, key=lambda task: task.order, reverse=True)
        """Those that are not due yet, the next one last."""
        self.open: list[RestoreTask] = []
        """Those that are due and have not ended, in the order in which they stand."""

    @property
    def under_way(self) -> int:
        return sum(task.start is not None for task in self.open)

    @property
    def next_due(self) -> float:
        return self.coming[-1].due if self.coming else inf

    def holds_back(self, machine: int) -> bool:
        """Whether a machine waits for a restore: no run starts it."""
        return any(task.machine == machine and task.back is None for task in self.open)

    def take_up(self, running: Iterable[RunningRestore]) -> None:
        """Go on with restores that were due at the beginning."""
        told = {restore.id: restore for restore in running}
        self.open = [task for task in self.tasks if task.planned.id in told]
        self.coming = [task for task in self.coming if task.planned.id not in told]
        for task in self.open:
            task.due = told[task.planned.id].due
        self.open.sort(key=lambda task: task.order)
        for task in self.open:
            if told[task.planned.id].start is not None:
                self._take_up_started(task, told[task.planned.id])

    def _take_up_started(self, task: RestoreTask, told: RunningRestore) -> None:
        simulation = self.simulation
        task.estimate, task.point = restore_under_way(told)
        task.start, task.back, task.delay_s = told.start, told.back, told.delay_s
        task.pools = simulation.topology.limited_pools(f"repository:{task.point.repository}")
        for pool in task.pools:
            simulation.busy[pool] += 1
        assert task.start is not None
        ready = task.start + self._set_up_s(task)
        if ready > simulation.now + SAME_INSTANT:
            simulation.at(ready, task.order, lambda: self._set_up(task))
            return
        self._write(task)
        if task.stream is not None:
            task.stream.left = max(0.0, task.stream.work - told.moved_bytes)
            task.stream.squeeze_s = numbered(simulation, told.squeeze_s)

    # --- steps 3 and 4 ----------------------------------------------------------------------

    def come_due(self, reached: float) -> bool:
        """Step 3: those whose instant has come stand in the queue from now on."""
        happened = False
        while self.next_due <= reached:
            self.open.append(self.coming.pop())
            happened = True
        return happened

    def walk(self) -> bool:
        """Step 4: look for the points of those that wait, and start what can start."""
        started = False
        for task in [task for task in self.open if task.start is None]:
            found = self._point_of(task)
            if isinstance(found, str):
                self._end(task, found)
            elif self._may_start(task) and self._start(task, *found):
                started = True
        return started

    def _may_start(self, task: RestoreTask) -> bool:
        at_once = self.simulation.plan.state.restores_at_once
        if at_once is not None and self.under_way >= at_once:
            return False
        before = self.open[: self.open.index(task)]
        if any(other.machine == task.machine for other in before):
            return False
        return not self.simulation.is_held(task.planned.machine)

    def _point_of(self, task: RestoreTask) -> RestoreOutcome | tuple[Restore, tuple[Chain, Point]]:
        """Its point with the estimate of restoring it, or the verdict where there is none."""
        plan = self.simulation.plan
        machine = plan.machines[task.machine]
        usable = list(self._usable(task))
        routed = []
        for chain, point in usable:
            routes = self.simulation.topology.routes
            estimate = restore_from(plan, machine, chain, task.planned.to_host, routes)
            if estimate is not None:
                routed.append((point.at, estimate, (chain, point)))
        best = newest_of(routed)
        if best is not None:
            return best
        return "no path" if usable else "no point"

    def _usable(self, task: RestoreTask) -> Iterator[tuple[Chain, Point]]:
        """The usable points of its machine, or those that it names, in the order of section 12."""
        plan, named = self.simulation.plan, task.planned.point
        for key, points in self.simulation.points.items():
            if key[2] != task.machine:
                continue
            job, repository = plan.jobs[key[1]].id, plan.repositories[key[0]].id
            if named is not None and (named.job, named.repository) != (job, repository):
                continue
            for point in sorted(points, key=lambda point: point.at):
                if named is not None and abs(point.at - named.at) > SAME_POINT_S:
                    continue
                chain = self._chain(key, point)
                if chain is not None:
                    yield chain, point

    def _chain(self, key: ChainKey, point: Point) -> Chain | None:
        """A point and its bases, where all of them exist and are good."""
        if not point.usable:
            return None
        there = {id(other) for other in self.simulation.points.chain(key)}
        count, stored, needed, oldest = 0, 0.0, point, inf
        while True:
            if id(needed) not in there:
                return None
            count, stored = count + 1, stored + needed.stored_bytes
            oldest = min(oldest, needed.at)
            if needed.kind == "full":
                break
            if needed.base is None:
                return None
            needed = needed.base
        plan = self.simulation.plan
        job, repository = plan.jobs[key[1]], plan.repositories[key[0]]
        delay = chain_delay_s(repository, job, self.simulation.now, oldest)
        return Chain(job.id, repository.id, count, stored, point.at, delay)

    def _start(self, task: RestoreTask, estimate: Restore, found: tuple[Chain, Point]) -> bool:
        chain, point = found
        simulation = self.simulation
        pools = simulation.topology.limited_pools(f"repository:{chain.repository}")
        if not simulation.all_free(pools):
            return False
        for pool in pools:
            simulation.busy[pool] += 1
        task.pools = pools
        task.start = simulation.now
        task.point = RestoredPoint(chain.job, chain.repository, point.at)
        task.estimate, task.delay_s = estimate, chain.delay_s
        simulation.after(self._set_up_s(task), task.order, lambda: self._set_up(task))
        return True

    def _repository(self, task: RestoreTask) -> Repository:
        assert task.point is not None
        return self.simulation.plan.repository_by_id[task.point.repository]

    def _set_up_s(self, task: RestoreTask) -> float:
        assert task.estimate is not None
        return set_up_s(self._repository(task), task.estimate.points) + task.delay_s

    # --- step by step -----------------------------------------------------------------------

    def _set_up(self, task: RestoreTask) -> None:
        if task.ended:
            return
        if task.planned.method == "instant" and not self._repository(task).sequential:
            task.back = self.simulation.now
        self._write(task)

    def _write(self, task: RestoreTask) -> None:
        """Begin the one stream that writes the machine."""
        assert task.estimate is not None
        written = task.estimate.written_bytes
        if written <= 0:
            self._whole(task)
            return
        machine = self.simulation.plan.machines[task.machine]
        task.stream = self.simulation.new_stream(
            task.planned.share,
            stream_ceiling(self.simulation.plan, machine),
            self._uses(task, machine),
            written,
            task.order,
            lambda: self._whole(task),
        )

    def _uses(self, task: RestoreTask, machine: Machine) -> tuple[tuple[int, float], ...]:
        assert task.estimate is not None and task.point is not None
        plan = self.simulation.plan
        job = plan.job_by_id[task.point.job]
        written = task.estimate.written_bytes
        parts: dict[str, float] = {}
        for disk in disks_at(job, machine, plan.state.sizes_as_of, task.point.at):
            if disk.datastore is not None:
                part = protected_bytes(job, machine, disk) / written
                parts[disk.datastore] = parts.get(disk.datastore, 0.0) + part
        return self.simulation.topology.restore_uses(
            plan.repository_by_id[task.point.repository],
            machine,
            task.planned.to_host,
            parts,
            task.estimate.read_bytes / written,
        )

    def _whole(self, task: RestoreTask) -> None:
        task.whole = self.simulation.now
        if task.back is None:
            task.back = self.simulation.now
        self._give_back(task)
        self._end(task, "done")

    def _give_back(self, task: RestoreTask) -> None:
        if task.stream is not None:
            task.squeeze_s = task.stream.squeeze_s
            task.stream = None
        for pool in task.pools:
            self.simulation.busy[pool] -= 1

    def _end(self, task: RestoreTask, outcome: RestoreOutcome) -> None:
        task.outcome = outcome
        if task.start is None:
            task.whole = self.simulation.now
        self.open.remove(task)

    def cut_off(self) -> None:
        """End what has not ended 30 days after the horizon."""
        for task in list(self.open):
            if task.stream is not None:
                self.simulation.drop_stream(task.stream)
            if task.start is not None:
                self._give_back(task)
            self._end(task, "cut off")
