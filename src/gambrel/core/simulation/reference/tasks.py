"""What a simulation moves through its states: runs, machines, disks, repository work."""

from __future__ import annotations

from collections.abc import Callable
from math import inf

from gambrel.core.model.paths import Candidate, Uses
from gambrel.core.model.retention import Point
from gambrel.core.model.sharing import Demand
from gambrel.core.model.volume import DiskVolume
from gambrel.core.plan.objects import Copy, Disk, Job, Kind, Machine
from gambrel.core.schedules.calendars import NEVER
from gambrel.core.simulation.forecast import MachineOutcome, Reading, RunOutcome

WAITING, PREPARING, MOVING, FINISHING, ENDED = range(5)
"""States of a machine-run: FINISHING is release, transform and verify."""
DISK, TRANSFORM, MERGE, COPY = range(4)
"""Stages in which the tasks of one machine stand in the queue."""


QueueKey = tuple[float, float, int, int, int, float, int]
"""(-priority, occurrence, job position, machine order, stage, -used or index, position)."""


class Stream:
    """One transfer. `done` is called at its end."""

    __slots__ = ("demand", "done", "left", "number", "order", "rate", "since", "squeeze",
                 "squeeze_s", "work")  # fmt: skip

    def __init__(
        self,
        number: int,
        demand: Demand,
        work: float,
        order: QueueKey,
        done: Callable[[], None],
        now: float,
    ) -> None:
        self.number = number
        self.demand = demand
        self.work = work
        self.left = work
        self.order = order
        self.done = done
        self.rate = 0.0
        self.squeeze: int | None = None
        self.squeeze_s: dict[int, float] = {}
        self.since = now

    @property
    def ends_at(self) -> float:
        """When it ends at the present rate."""
        if self.rate == inf or self.left <= 0.0:
            return self.since
        return self.since + self.left / self.rate if self.rate > 0 else inf

    def settle(self, now: float) -> None:
        """Bring what is left, and the seconds by what limited it, up to now."""
        seconds = now - self.since
        if seconds > 0 and self.squeeze is not None:
            if self.rate != inf:
                self.left -= self.rate * seconds
            self.squeeze_s[self.squeeze] = self.squeeze_s.get(self.squeeze, 0.0) + seconds
        self.since = now


class DiskTask:
    """One disk of a machine-run."""

    __slots__ = ("candidate", "candidates", "disk", "key", "moved", "owner", "pools", "stream",
                 "volume")  # fmt: skip

    def __init__(
        self,
        owner: MachineTask,
        disk: Disk,
        key: QueueKey,
        candidates: tuple[Candidate, ...],
        pools: tuple[int, ...],
    ) -> None:
        self.owner = owner
        self.disk = disk
        self.key = key
        self.candidates = candidates
        self.pools = pools
        self.candidate: Candidate | None = None
        self.volume = DiskVolume(0.0, 0.0)
        self.stream: Stream | None = None
        self.moved = False


class MachineTask:
    """One machine in one run, while it is simulated."""

    __slots__ = (
        "base",
        "disks",
        "ended",
        "group",
        "host_pool",
        "kind",
        "machine",
        "moved_at",
        "order",
        "outcome",
        "position",
        "queued",
        "readings",
        "released_at",
        "run",
        "source_bytes",
        "squeeze_s",
        "start",
        "state",
        "stored_bytes",
        "synthetic",
        "transformed_at",
        "wire_bytes",
    )  # fmt: skip

    def __init__(
        self, run: RunTask, machine: Machine, position: int, order: int, group: int
    ) -> None:
        self.run = run
        self.machine = machine
        self.position = position
        self.order = order
        self.group = group
        self.state = WAITING
        self.outcome: MachineOutcome | None = None
        self.kind: Kind | None = None
        self.queued: float | None = None
        self.start: float | None = None
        self.moved_at: float | None = None
        self.released_at: float | None = None
        self.transformed_at: float | None = None
        self.ended: float | None = None
        self.disks: list[DiskTask] = []
        self.host_pool: int | None = None
        self.base: Point | None = None
        self.synthetic = False
        self.source_bytes = 0.0
        self.wire_bytes = 0.0
        self.stored_bytes = 0.0
        self.squeeze_s: dict[int, float] = {}
        self.readings: list[Reading] = []


class RunTask:
    """One run, while it is simulated."""

    __slots__ = ("at_any_time", "began", "ended", "job", "kind", "machines", "made_points",
                 "never_opens", "occurrence", "open_ended", "opens", "outcome", "position",
                 "schedule", "started", "turn", "unfinished", "window_end")  # fmt: skip

    def __init__(
        self,
        job: Job,
        position: int,
        occurrence: float,
        kind: Kind,
        schedule: int | None,
        turn: int,
    ) -> None:
        self.job = job
        self.position = position
        self.occurrence = occurrence
        self.kind = kind
        self.schedule = schedule
        self.turn = turn
        self.at_any_time = False
        self.began: float | None = None
        self.ended: float | None = None
        self.outcome: RunOutcome | None = None
        self.opens = occurrence
        self.window_end = NEVER
        self.never_opens = False
        self.open_ended = False
        self.started = False
        self.unfinished = 0
        self.machines: list[MachineTask] = []
        self.made_points: list[MachineTask] = []

    @property
    def order(self) -> tuple[float, int]:
        return (self.occurrence, self.position)


class RepositoryTask:
    """A transform, a merge or a copy: a stream that is bound to no window and no job limit."""

    __slots__ = ("ceiling", "copy", "due", "job", "key", "machine", "on_end", "pools", "queued",
                 "repository", "start", "stream", "uses", "work")  # fmt: skip

    def __init__(
        self,
        key: QueueKey,
        job: int,
        machine: MachineTask,
        pools: tuple[int, ...],
        uses: Uses,
        work: float,
        on_end: Callable[[RepositoryTask], None],
        *,
        ceiling: float | None = None,
        copy: Copy | None = None,
    ) -> None:
        self.key = key
        self.job = job
        self.machine = machine
        self.pools = pools
        self.uses = uses
        self.work = work
        self.on_end = on_end
        self.ceiling = ceiling
        self.copy = copy
        self.queued = 0.0
        self.due: float | None = None
        self.repository: int | None = None
        self.start: float | None = None
        self.stream: Stream | None = None


QueueItem = DiskTask | RepositoryTask
