"""What a simulation found: immutable records of runs, points, loads, space and exposure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

from gambrel.core.paths import Topology, Uses
from gambrel.core.plan import Kind, Plan, Transport
from gambrel.core.retention import Snapshot

MachineOutcome = Literal["done", "cut off", "missed", "no path"]
Purpose = Literal["read", "copy", "rewrite"]
"""What a stream is for: a disk of a machine, a copy to another repository, a transform or merge."""
RunOutcome = Literal["done", "incomplete", "missed", "empty", "skipped"]


@dataclass(frozen=True, slots=True)
class Reading:
    """How one disk was read: `proxy` and `transport` are None for an agent."""

    disk: str
    proxy: str | None
    transport: Transport | None


@dataclass(frozen=True, slots=True)
class MachineRun:
    """One machine in one run; instants are UTC seconds, None where something did not happen.

    Attributes:
        kind: effective kind; None when it never started.
        queued: when it reached the queue.
        start: start instant of its restore point.
        moved: when its last disk had moved.
        ended: when it ended, or the verdict fell.
        waiting_s: from `queued` to `start`, or to the verdict.
        squeeze_s: seconds of its moving disks by what limited them.
        synthetic: whether its full was made in the repository.
    """

    machine: str
    outcome: MachineOutcome
    kind: Kind | None
    queued: float | None
    start: float | None
    moved: float | None
    ended: float
    source_bytes: float
    wire_bytes: float
    stored_bytes: float
    waiting_s: float
    squeeze_s: Mapping[str, float]
    synthetic: bool
    readings: tuple[Reading, ...]


@dataclass(frozen=True, slots=True)
class Run:
    """One run of a job.

    Attributes:
        schedule: position of the schedule that made the occurrence; None for a follower.
        window_opens: from when its machines may start; None where that is never.
        window_end: None where the window never ends.
        over_s: seconds from the window's end to the run's end, 0 where it ended inside.
    """

    job: str
    occurrence: float
    kind: Kind
    schedule: int | None
    outcome: RunOutcome
    began: float | None
    ended: float | None
    window_opens: float | None
    window_end: float | None
    over_s: float
    machines: tuple[MachineRun, ...]


@dataclass(frozen=True, slots=True)
class CopyRun:
    """One copy of one machine's point to another repository; None where it never came to that."""

    job: str
    machine: str
    repository: str
    occurrence: float
    queued: float
    start: float | None
    ended: float | None
    wire_bytes: float


@dataclass(frozen=True, slots=True)
class Hold:
    """A slot of a pool held by one task of a job; `pool` is a number of the Topology."""

    pool: int
    job: int
    purpose: Purpose
    start: float
    end: float


@dataclass(frozen=True, slots=True)
class Wait:
    """A task that was ready to go and waited for a slot in any or all of `pools`."""

    pools: tuple[int, ...]
    job: int
    start: float
    end: float


@dataclass(frozen=True, slots=True)
class Flow:
    """Alike streams of a job moving at one rate: `rate` in bytes/s for each of `count`."""

    job: int
    purpose: Purpose
    uses: Uses
    count: int
    rate: float
    squeeze: int
    start: float
    end: float


@dataclass(frozen=True, slots=True)
class PointRecord:
    """A restore point that exists when all work has ended.

    Attributes:
        chain_points: the point itself and its bases, counted.
        chain_bytes: their stored bytes together.
    """

    job: str
    machine: str
    repository: str
    kind: Kind
    at: float
    exists_from: float
    stored_bytes: float
    usable: bool
    chain_points: int
    chain_bytes: float


@dataclass(frozen=True, slots=True)
class Exposure:
    """Worst exposure of a machine in seconds; None when it is unprotected (section 9)."""

    machine: str
    worst_s: float | None
    rpo_met: bool | None


@dataclass(frozen=True, slots=True)
class Space:
    repository: str
    peak_bytes: float
    end_bytes: float


@dataclass(frozen=True, slots=True)
class QuietInstant:
    """An instant at which nothing ran or waited; a simulation may start again from it."""

    at: float
    points: Snapshot


@dataclass(frozen=True, slots=True)
class NewestPoint:
    """From `exists_from` on, the newest usable point of a machine has this start instant."""

    exists_from: float
    at: float


@dataclass(frozen=True, eq=False)
class Forecast:
    """The result of simulating a plan over [from_, to)."""

    plan: Plan
    from_: float
    to: float
    runs: tuple[Run, ...]
    copies: tuple[CopyRun, ...]
    points: tuple[PointRecord, ...]
    exposure: tuple[Exposure, ...]
    space: tuple[Space, ...]
    newest_points: Mapping[str, tuple[NewestPoint, ...]]
    holds: tuple[Hold, ...]
    waits: tuple[Wait, ...]
    flows: tuple[Flow, ...]
    quiet: tuple[QuietInstant, ...]

    @cached_property
    def topology(self) -> Topology:
        """The numbers by which pools and resources are known in holds, waits and flows."""
        return Topology(self.plan)
