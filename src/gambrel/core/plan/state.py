"""What is there when a simulation begins (planning model, sections 8, 14 and 15)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

from gambrel.core.plan import values as v
from gambrel.core.plan.instants import format_instant
from gambrel.core.plan.kinds import (
    Amount,
    Capacity,
    Count,
    HostId,
    Ident,
    Instant,
    JobId,
    Kind,
    MachineId,
    ProxyId,
    RepositoryId,
    Tally,
)
from gambrel.core.plan.places import Wrong, repeated_ids


@dataclass(frozen=True, slots=True)
class ExistingPoint:
    """A restore point from before the horizon.

    Attributes:
        bad_since: when it was found that nothing can be restored from it. Points that began before
            then build on it all the same, and fall with it; later ones build on what is good.
            None: nothing is wrong with it.
    """

    job: JobId
    machine: MachineId
    repository: RepositoryId
    kind: Kind
    at: Instant
    exists_from: Instant
    stored_bytes: Amount
    bad_since: Instant | None = None

    def problems(self) -> Wrong:
        """A point that exists before its run began, or is bad before it exists."""
        if self.exists_from < self.at:
            yield "exists_from", format_instant(self.exists_from), "is before the point's `at`"
        if self.bad_since is not None and self.bad_since < self.exists_from:
            yield "bad_since", format_instant(self.bad_since), "is before the point's `exists_from`"


# --- restores (section 14) --------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class NamedPoint:
    """A restore point by its job, its repository and the start of its run."""

    job: JobId
    repository: RepositoryId
    at: Instant


@dataclass(frozen=True, slots=True)
class PlannedRestore:
    """A machine to be brought back.

    Attributes:
        at: when it comes due; at the beginning of the horizon where that is later.
        point: None: the newest usable one of section 12.
        method: "instant" has the machine back before it is written.
        to_host: of a VM; None: its own.
    """

    id: Ident
    machine: MachineId
    at: Instant
    point: NamedPoint | None = None
    method: Literal["full", "instant"] = "full"
    to_host: HostId | None = None
    share: Capacity = 1.0


# --- what is under way (section 15) -----------------------------------------------------------

Seconds = tuple[tuple[Ident, Amount], ...]
"""Seconds by squeeze, as pairs of name and seconds."""


@dataclass(frozen=True, slots=True)
class RunningDisk:
    """A disk of a machine that has started.

    Attributes:
        source_bytes, wire_bytes: of the whole disk; None: as section 4 gives them for the start.
        proxy: that reads it; None while it has no slots, and for a server.
        transport: by which it is read; None where `proxy` is.
        holds: whether it holds its slots, while it moves, and the first one while the machine is
            prepared; of a machine that was cut off, whether it held them then.
        moved_bytes: source bytes so far.
        squeeze_s: seconds of moving so far, by what limited it.
    """

    disk: Ident
    source_bytes: Amount | None = None
    wire_bytes: Amount | None = None
    proxy: ProxyId | None = None
    transport: Literal["direct", "hot_add", "network"] | None = None
    holds: bool = False
    moved: bool = False
    moved_bytes: Amount = 0.0
    squeeze_s: Seconds = ()


@dataclass(frozen=True, slots=True)
class RunningWork:
    """A transform, merge or copy that waits or moves.

    Attributes:
        started: None while it waits.
        work_bytes: all that it has to move; None for a copy that waits, which is settled later.
    """

    started: Instant | None = None
    work_bytes: Amount | None = None
    moved_bytes: Amount = 0.0


@dataclass(frozen=True, slots=True)
class RunningMachine:
    """A machine-run of a run that is under way.

    Attributes:
        state: "waiting" before it starts, in the queue or not.
        queued: when it reached the queue; None: not yet.
        kind: the effective kind; None before the start.
        synthetic: whether its full is made in the repository.
        base_at: start of the point on which it builds; None: the newest that section 4 names.
        moved: when its last disk had moved; `released`: when its snapshot was gone, for a server
            when its last disk had moved; `transformed`: when its new full was made.
        source_bytes, wire_bytes, squeeze_s: of the disks that have moved, or were cut off.
        stored_bytes: of its new point, once all its disks have moved.
        disks: those that are not excluded, in queue order; none before the start.
    """

    machine: MachineId
    state: Literal[
        "waiting", "preparing", "moving", "releasing", "transforming", "verifying", "ended"
    ] = "waiting"
    queued: Instant | None = None
    start: Instant | None = None
    kind: Kind | None = None
    synthetic: bool = False
    base_at: Instant | None = None
    moved: Instant | None = None
    released: Instant | None = None
    transformed: Instant | None = None
    ended: Instant | None = None
    outcome: Literal["done", "cut off", "missed", "no path"] | None = None
    source_bytes: Amount = 0.0
    wire_bytes: Amount = 0.0
    stored_bytes: Amount = 0.0
    squeeze_s: Seconds = ()
    disks: tuple[RunningDisk, ...] = ()
    transform: RunningWork | None = None


@dataclass(frozen=True, slots=True)
class RunningRun:
    """A run that has begun and has not ended.

    Attributes:
        kind: as scheduled.
        schedule: which of the job's schedules brought it; None for a run that follows another.
        turn: the group whose turn for a full it is, where the fulls are spread; -1 for none.
        machines: all that it selected when it began, in its order.
        at_any_time: whether it was ordered by hand; it minds no window and does not expire.
    """

    job: JobId
    occurrence: Instant
    kind: Kind
    schedule: Tally | None = None
    turn: Annotated[int, v.number(least=-1, whole=True)] = -1
    at_any_time: bool = False
    machines: tuple[RunningMachine, ...] = ()


@dataclass(frozen=True, slots=True)
class RunningCopy:
    """A copy that waits for its delay, in the queue, or moves.

    Attributes:
        copy: which of the job's copies, from 0.
        occurrence: of the run that made the original, and `order`: the machine's place in it.
        kind, start, stored_bytes: of the original.
        due: when its delay has passed.
    """

    job: JobId
    machine: MachineId
    copy: Tally
    occurrence: Instant
    order: Tally
    kind: Kind
    start: Instant
    stored_bytes: Amount
    due: Instant
    work: RunningWork = RunningWork()


@dataclass(frozen=True, slots=True)
class RunningMerge:
    """A merge that waits or moves."""

    job: JobId
    machine: MachineId
    repository: RepositoryId
    occurrence: Instant
    order: Tally
    queued: Instant
    work: RunningWork


@dataclass(frozen=True, slots=True)
class RunningRestore:
    """A restore that has come due and has not ended, by the id of the planned one.

    Attributes:
        start: None while it waits; what follows is then empty.
        back: when the machine was back, with "instant".
        point, points, read_bytes, written_bytes: of its chain, settled at the start.
        delay_s: how long it waits for points in colder tiers, settled at the start.
        moved_bytes: written so far.
    """

    id: Ident
    due: Instant
    start: Instant | None = None
    back: Instant | None = None
    point: NamedPoint | None = None
    points: Count | None = None
    read_bytes: Amount = 0.0
    written_bytes: Amount = 0.0
    delay_s: Amount = 0.0
    moved_bytes: Amount = 0.0
    squeeze_s: Seconds = ()


@dataclass(frozen=True, slots=True)
class BuiltOn:
    """A point whose base is not the one that the order of the points would give it.

    Attributes:
        base_at: start of its base, which may be gone; `usable`: whether it counts as usable.
    """

    job: JobId
    machine: MachineId
    repository: RepositoryId
    at: Instant
    base_at: Instant | None = None
    usable: bool = True


@dataclass(frozen=True, slots=True)
class Running:
    """What is under way at an instant, after all that happens at it.

    Attributes:
        at: the instant; a simulation from this state begins there.
    """

    at: Instant
    runs: tuple[RunningRun, ...] = ()
    copies: tuple[RunningCopy, ...] = ()
    merges: tuple[RunningMerge, ...] = ()
    restores: tuple[RunningRestore, ...] = ()
    built_on: tuple[BuiltOn, ...] = ()


@dataclass(frozen=True, slots=True)
class State:
    """What is known when a simulation begins.

    Attributes:
        sizes_as_of: the instant at which the disks had the sizes of the plan; from then on they
            grow with their machine. None: sizes stay as they are.
    """

    points: tuple[ExistingPoint, ...] = ()
    restores: tuple[PlannedRestore, ...] = ()
    restores_at_once: Count | None = None
    running: Running | None = None
    sizes_as_of: Instant | None = None

    def problems(self) -> Wrong:
        """Restores of the same id, and progress of restores that are not planned."""
        yield from repeated_ids("restores", self.restores)
        planned = {restore.id for restore in self.restores}
        for i, restore in enumerate(self.running.restores if self.running else ()):
            if restore.id not in planned:
                yield f"running.restores[{i}].id", restore.id, "is not the id of a restore"
