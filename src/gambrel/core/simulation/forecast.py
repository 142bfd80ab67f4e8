"""What a simulation found: immutable records of runs, points, loads, space and exposure."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Literal, NamedTuple, Protocol, TypeVar, overload

from gambrel.core.model.paths import Topology
from gambrel.core.model.restore_points import PointRecord
from gambrel.core.plan.objects import Kind, Plan, Transport
from gambrel.core.simulation.known_points import Snapshot
from gambrel.core.simulation.load_records import NO_LOADS, LoadRecords
from gambrel.core.simulation.point_history import PointHistory

MachineOutcome = Literal["done", "cut off", "missed", "no path"]
Purpose = Literal["read", "copy", "rewrite", "restore"]
"""What a stream is for: a disk of a machine, a copy to another repository, a transform or merge, or
a machine that is brought back; the last is of no job (-1)."""
PURPOSES: tuple[Purpose, ...] = ("read", "copy", "rewrite", "restore")
RunOutcome = Literal["done", "incomplete", "missed", "empty", "skipped"]

T = TypeVar("T")


class Lazily(Sequence[T]):
    """A tuple that is made when it is first looked into; of a known length, or of -1 for any."""

    __slots__ = ("_items", "_length", "_make")

    def __init__(self, length: int, make: Callable[[], tuple[T, ...]]) -> None:
        self._length = length
        self._make: Callable[[], tuple[T, ...]] | None = make
        self._items: tuple[T, ...] = ()

    def _made(self) -> tuple[T, ...]:
        make = self._make
        if make is not None:
            self._items = make()
            self._make = None
        return self._items

    def __len__(self) -> int:
        return self._length if self._length >= 0 else len(self._made())

    @overload
    def __getitem__(self, index: int) -> T: ...

    @overload
    def __getitem__(self, index: slice) -> tuple[T, ...]: ...

    def __getitem__(self, index: int | slice) -> T | tuple[T, ...]:
        return self._made()[index]

    def __iter__(self) -> Iterator[T]:
        return iter(self._made())

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and self._made() == tuple(other)

    def __hash__(self) -> int:
        return hash(self._made())


class Reading(NamedTuple):
    """How one disk was read: `proxy` and `transport` are None for an agent."""

    disk: str
    proxy: str | None
    transport: Transport | None


PartKind = Literal[
    "window",
    "slot",
    "preparing",
    "disk slot",
    "moving",
    "releasing",
    "transform slot",
    "transforming",
    "guest steps",
    "verifying",
]
"""What a machine-run spends time on: "window" and the kinds of slot are waiting."""
SLOT_PARTS: tuple[PartKind, ...] = ("slot", "disk slot", "transform slot")
"""Waiting for a slot of a pool."""


class TimePart(NamedTuple):
    """A stretch of a machine-run. `by`: the resource that limited it while it moved."""

    kind: PartKind
    seconds: float
    by: str | None = None


class MachineRun(NamedTuple):
    """One machine in one run; instants are UTC seconds, None where something did not happen.

    Attributes:
        kind: effective kind; None when it never started.
        queued: when it reached the queue.
        start: start instant of its restore point.
        moved: when its last disk had moved.
        released: when it was let go: its snapshot gone, a server's last disk moved, or cut off.
        ended: when it ended, or the verdict fell.
        waiting_s: from `queued` to `start`, or to the verdict.
        squeeze_s: seconds of its moving disks by what limited them.
        synthetic: whether its full was made in the repository.
        account: where its time went, from `queued` to `ended`; the parts add up to it. While its
            disks move, it follows the one that ends last.
    """

    machine: str
    outcome: MachineOutcome
    kind: Kind | None
    queued: float | None
    start: float | None
    moved: float | None
    released: float | None
    ended: float
    source_bytes: float
    wire_bytes: float
    stored_bytes: float
    waiting_s: float
    squeeze_s: Mapping[str, float]
    synthetic: bool
    readings: tuple[Reading, ...]
    account: Sequence[TimePart] = ()


class RunTotals(NamedTuple):
    """What the machines of a run come to together.

    Attributes:
        kinds: effective kinds, the most frequent first.
        first_start: when the first machine started; None where none did.
        moved: when the last disk of all had moved; None where none of a machine's disks did.
        last: (start, moved, ended) of the machine that ended last among those that started.
        squeeze_s: seconds of their moving disks by what limited them.
        proxies: ids of the proxies that read disks, the busiest first.
    """

    kinds: tuple[Kind, ...]
    synthetic: bool
    source_bytes: float
    wire_bytes: float
    stored_bytes: float
    first_start: float | None
    moved: float | None
    last: tuple[float, float | None, float] | None
    squeeze_s: Mapping[str, float]
    proxies: tuple[str, ...]


def totals_of(machines: Sequence[MachineRun]) -> RunTotals:
    """The totals of some machine-runs."""
    squeeze_s: dict[str, float] = {}
    for machine in machines:
        for name, seconds in machine.squeeze_s.items():
            squeeze_s[name] = squeeze_s.get(name, 0.0) + seconds
    kinds = Counter(machine.kind for machine in machines if machine.kind is not None)
    proxies = Counter(r.proxy for m in machines for r in m.readings if r.proxy is not None)
    started = [(m.ended, m) for m in machines if m.start is not None]
    last = max(started, key=lambda entry: entry[0], default=(0.0, None))[1]
    return RunTotals(
        kinds=tuple(kind for kind, _ in kinds.most_common()),
        synthetic=any(machine.synthetic for machine in machines),
        source_bytes=sum(machine.source_bytes for machine in machines),
        wire_bytes=sum(machine.wire_bytes for machine in machines),
        stored_bytes=sum(machine.stored_bytes for machine in machines),
        first_start=min((m.start for m in machines if m.start is not None), default=None),
        moved=max((m.moved for m in machines if m.moved is not None), default=None),
        last=None if last is None or last.start is None else (last.start, last.moved, last.ended),
        squeeze_s=squeeze_s,
        proxies=tuple(proxy for proxy, _ in proxies.most_common()),
    )


class RunDetails(Protocol):
    """What gives the machine-runs of a run, and their totals without a look at each of them."""

    def machines(self, run: int) -> tuple[MachineRun, ...]:
        """The machine-runs of the run of that number."""

    def totals(self, run: int) -> RunTotals:
        """What they come to together."""

    def forget(self) -> None:
        """Give back the machine-runs that were made."""


class Machines(Lazily[MachineRun]):
    """The machine-runs of a run, made when they are first looked into."""

    __slots__ = ("_details", "_run")

    def __init__(self, length: int, details: RunDetails, run: int) -> None:
        self._items: tuple[MachineRun, ...] = ()
        self._length = length
        self._details, self._run = details, run

    def _made(self) -> tuple[MachineRun, ...]:
        if self._length and not self._items:
            self._items = self._details.machines(self._run)
        return self._items

    def totals(self) -> RunTotals:
        """What they come to together."""
        return self._details.totals(self._run)

    def forget(self) -> None:
        """Give back the machine-runs; they are made anew where they are looked into."""
        self._items = ()
        self._details.forget()


class Run(NamedTuple):
    """One run of a job.

    Attributes:
        schedule: position of the schedule that made the occurrence; None for a follower.
        window_opens: from when its machines may start; None where that is never.
        window_end: None where the window never ends.
        over_s: seconds from the window's end to the run's end, 0 where it ended inside.
        outcomes: how many of its machines came out in which way.
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
    outcomes: Mapping[MachineOutcome, int]
    machines: Sequence[MachineRun]

    def totals(self) -> RunTotals:
        """What its machines come to together."""
        machines = self.machines
        return machines.totals() if isinstance(machines, Machines) else totals_of(machines)


class CopyRun(NamedTuple):
    """One copy of one machine's point to another repository; None where it never came to that."""

    job: str
    machine: str
    repository: str
    occurrence: float
    queued: float
    start: float | None
    ended: float | None
    wire_bytes: float


class Copies(Lazily[CopyRun]):
    """All copies; those of a span are made without the others."""

    __slots__ = ("_within",)

    def __init__(
        self,
        length: int,
        make: Callable[[], tuple[CopyRun, ...]],
        within: Callable[[float, float], tuple[CopyRun, ...]],
    ) -> None:
        super().__init__(length, make)
        self._within = within

    def within(self, start: float, end: float) -> tuple[CopyRun, ...]:
        """See `copies_within`."""
        return self._within(start, end)


def copies_within(copies: Sequence[CopyRun], start: float, end: float) -> Sequence[CopyRun]:
    """The ended copies, as a run makes them to a repository, of which one moved in [start, end).

    With those of a run to one repository stand all others of it; there may be more.
    """
    return copies.within(start, end) if isinstance(copies, Copies) else copies


class RestoredPoint(NamedTuple):
    """The restore point from which a machine is brought back; `at` in UTC seconds."""

    job: str
    repository: str
    at: float


RestoreOutcome = Literal["done", "no point", "no path", "cut off"]


class RestoreRun(NamedTuple):
    """One restore (section 14); instants in UTC seconds.

    Attributes:
        outcome: None where it did not come due in the horizon; the rest is None then too.
        points: length of the chain.
        back: when the machine was back; `whole`: when all of it was written, or the instant of a
            verdict without a start.
        read_bytes, written_bytes: of the whole restore; None where it never started.
        delay_s: how long it waited for points in colder tiers.
    """

    id: str
    machine: str
    outcome: RestoreOutcome | None
    point: RestoredPoint | None = None
    points: int | None = None
    due: float | None = None
    start: float | None = None
    back: float | None = None
    whole: float | None = None
    read_bytes: float | None = None
    written_bytes: float | None = None
    squeeze_s: Mapping[str, float] | None = None
    delay_s: float = 0.0


class Exposure(NamedTuple):
    """Worst exposure of a machine in seconds; None when it is unprotected (section 9)."""

    machine: str
    worst_s: float | None
    rpo_met: bool | None


class Space(NamedTuple):
    repository: str
    peak_bytes: float
    end_bytes: float


BYTES_OF_A_RUN = 1200
"""A run with its records, about."""
BYTES_DERIVED = 40_000
"""One thing that is derived from a forecast and kept with it, such as the summary of a night."""


@dataclass(frozen=True, slots=True)
class QuietInstant:
    """An instant at which nothing ran or waited; a simulation may start again from it."""

    at: float
    points: Snapshot


class NewestPoint(NamedTuple):
    """From `exists_from` on, the newest usable point of a machine has this start instant."""

    exists_from: float
    at: float


class NewestPoints(Mapping[str, Sequence[NewestPoint]]):
    """The points that were the newest of each machine, by its id, with a quick way to the worst."""

    def worst_between(self, start: float, end: float) -> Sequence[float | None]:
        """The worst exposure of each machine of the plan over [start, end]; see `exposure`."""
        raise NotImplementedError


@dataclass(frozen=True, eq=False)
class Forecast:
    """The result of simulating a plan over [from_, to).

    Attributes:
        until: occurrences exist up to then. After `to` it is what the runs of before still met; the
            runs themselves are not part of the forecast.
        points, space: those at the end of the simulation, where `until` is `to`; what there is at
            other instants is in `history`.
        exposure: worst of each machine over [from_, to].
        history: all points over time.
        restores: those of the plan's state, in its order.
    """

    plan: Plan
    from_: float
    to: float
    until: float
    runs: Sequence[Run]
    copies: Sequence[CopyRun]
    points: Sequence[PointRecord]
    exposure: Sequence[Exposure]
    space: Sequence[Space]
    newest_points: Mapping[str, Sequence[NewestPoint]]
    history: PointHistory
    loads: LoadRecords = NO_LOADS
    quiet: Sequence[QuietInstant] = ()
    restores: Sequence[RestoreRun] = ()
    arrays_bytes: int = 0
    _derived: dict[Hashable, Any] = field(default_factory=dict, repr=False)

    def nbytes(self) -> int:
        """The bytes that it holds, about: its arrays, what was made of them, its records."""
        made = self.arrays_bytes + self.loads.nbytes() + len(self.runs) * BYTES_OF_A_RUN
        quiet = sum(each.points.points.nbytes for each in self.quiet)
        return made + quiet + len(self._derived) * BYTES_DERIVED

    def forget(self) -> None:
        """Drop what was built from its arrays for display; the next reader builds it again."""
        self.loads.forget()
        for run in self.runs:
            if isinstance(run.machines, Machines):
                run.machines.forget()

    def without_quiet(self) -> Forecast:
        """The same without the quiet instants, each of which holds all points that exist there."""
        found = replace(self, quiet=())
        found.__dict__["topology"] = self.topology
        return found

    def once(self, key: Hashable, make: Callable[[], T]) -> T:
        """What `make` derives from this forecast, kept with it under a key.

        Threads that ask at once may each make it; all are given the same one, and never a part.
        """
        if key not in self._derived:
            self._derived.setdefault(key, make())
        made: T = self._derived[key]
        return made

    @cached_property
    def topology(self) -> Topology:
        """The numbers by which pools and resources are known in the loads."""
        return Topology(self.plan)
