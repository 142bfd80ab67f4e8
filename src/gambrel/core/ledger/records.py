"""What the ledger keeps of a run and of a machine in it, and how an event changes that.

Events may come late, twice and in any order. So each one only ever adds what it knows: instants
that are not known yet, totals that are larger, an end that is not written yet. Whatever the order,
the records come out the same.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from gambrel.core.ledger.events import Event, EventRefused, Outcome
from gambrel.core.plan.objects import Kind
from gambrel.core.units import SAME_INSTANT

RunKey = tuple[str, int]
"""(job, occurrence in microseconds): what tells a run, whatever was rounded on the way."""


def run_key(job: str, occurrence: float) -> RunKey:
    """What tells a run of a job that fell due at an instant, in UTC seconds."""
    return job, round(occurrence * 1e6)


BYTES_EVER = 2.0**60
"""More than any disk holds: an exbibyte."""


@dataclass(slots=True)
class DiskRecord:
    """What has moved of one disk, and by which way."""

    disk: str
    source_bytes: float = 0.0
    wire_bytes: float = 0.0
    proxy: str | None = None
    transport: str | None = None
    moved: bool = False
    at: float = 0.0
    """When its totals were told."""


@dataclass(slots=True)
class MachineRecord:
    """A machine in a run: what was predicted and what came. Instants are UTC seconds.

    Attributes:
        outcome: None until it has ended, or for what was predicted and has not begun.
        predicted: what the forecast of the night said, see `predicting`; None for what it lacked.
        left: what it left behind.
    """

    machine: str
    outcome: Outcome | None = None
    reason: str = ""
    kind: Kind | None = None
    queued: float | None = None
    start: float | None = None
    prepared: float | None = None
    moved: float | None = None
    released: float | None = None
    ended: float | None = None
    end_id: str = ""
    source_bytes: float = 0.0
    wire_bytes: float = 0.0
    stored_bytes: float = 0.0
    disks: dict[str, DiskRecord] = field(default_factory=dict)
    predicted: dict[str, Any] | None = None
    left: list[str] = field(default_factory=list)

    @property
    def step(self) -> str:
        """Where it stands: "waiting", "preparing", "moving", "releasing", "checking", "ended"."""
        if self.ended is not None:
            return "ended"
        if self.released is not None:
            return "checking"
        if self.moved is not None:
            return "releasing"
        if self.prepared is not None or any(d.source_bytes > 0 for d in self.disks.values()):
            return "moving"
        return "waiting" if self.start is None else "preparing"

    def moving_bytes(self) -> float:
        """Source bytes that have moved so far."""
        return max(self.source_bytes, sum(d.source_bytes for d in self.disks.values()))


@dataclass(slots=True)
class RunRecord:
    """A run of a job: (job, occurrence) tells it.

    Attributes:
        began: None for one that was predicted and has not begun.
        predicted: begin, end, window's end and outcome as the forecast had them.
        order: the number of the order that brought it.
    """

    job: str
    occurrence: float
    kind: Kind | None = None
    began: float | None = None
    ended: float | None = None
    window_end: float | None = None
    order: int | None = None
    predicted: dict[str, Any] | None = None
    machines: dict[str, MachineRecord] = field(default_factory=dict)

    @property
    def outcome(self) -> str | None:
        """How it ended, by its machines; None while it has not."""
        if self.ended is None:
            return None
        return run_outcome(m.outcome for m in self.machines.values())

    def machine(self, machine: str) -> MachineRecord:
        """The record of a machine, made where there is none."""
        return self.machines.setdefault(machine, MachineRecord(machine))


def run_outcome(outcomes: Any) -> str:
    """The outcome of a run by those of its machines: "done", "incomplete", "missed", "empty"."""
    known = list(outcomes)
    if not known:
        return "empty"
    done = sum(outcome == "done" for outcome in known)
    return "done" if done == len(known) else "incomplete" if done else "missed"


def claim_prediction(run: RunRecord, predicted: RunRecord) -> None:
    """Give a run what was predicted for it at another instant.

    A job that follows another falls due when that one ends, which is seldom when it was predicted
    to. So its first run in a night takes the first prediction, and so on.
    """
    run.predicted = predicted.predicted
    run.window_end = run.window_end or predicted.window_end
    for name, machine in predicted.machines.items():
        run.machine(name).predicted = machine.predicted


def apply_event(run: RunRecord, event: Event) -> None:
    """Write down what an event says of a run.

    Raises:
        EventRefused: where it contradicts what is known, such as an end before the start.
    """
    if event.what == "run began":
        run.began = _earlier(run.began, event.at)
        run.kind = run.kind or event.kind
        run.order = run.order or event.order
        for machine in event.machines:
            run.machine(machine)
    elif event.what == "run ended":
        began = run.began if run.began is not None else run.occurrence
        if event.at < began - SAME_INSTANT:
            raise EventRefused("at", "is before the run began")
        run.ended = _earlier(run.ended, event.at)
    else:
        assert event.machine is not None
        _apply_to_machine(run.machine(event.machine), event)
        if run.began is None:
            # The event that says so is still on its way.
            run.began = run.occurrence


_INSTANTS = {
    "machine queued": "queued",
    "machine started": "start",
    "machine prepared": "prepared",
    "machine moved": "moved",
    "machine released": "released",
}
_ORDER = ("queued", "start", "prepared", "moved", "released", "ended")


def _apply_to_machine(record: MachineRecord, event: Event) -> None:
    for key in ("source_bytes", "wire_bytes", "stored_bytes"):
        value = getattr(event, key)
        if value is not None and value > BYTES_EVER:
            raise EventRefused(key, "is more than any machine holds")
    if event.what in _INSTANTS:
        name = _INSTANTS[event.what]
        _check_order(record, name, event.at)
        setattr(record, name, _earlier(getattr(record, name), event.at))
        if event.kind is not None:
            record.kind = record.kind or event.kind
    elif event.what == "disk":
        _apply_to_disk(record, event)
    elif event.what == "machine ended":
        _end(record, event)
    elif event.what == "left behind" and event.left is not None:
        record.left = sorted({*record.left, event.left})


def _check_order(record: MachineRecord, name: str, at: float) -> None:
    """Refuse an instant that comes before what must precede it, or after what must follow."""
    place = _ORDER.index(name)
    for other in _ORDER[:place]:
        known = getattr(record, other)
        if known is not None and at < known - SAME_INSTANT:
            raise EventRefused("at", f"is before the machine was {_SAID[other]}")
    for other in _ORDER[place + 1 :]:
        known = getattr(record, other)
        if known is not None and at > known + SAME_INSTANT:
            raise EventRefused("at", f"is after the machine was {_SAID[other]}")


_SAID = {
    "queued": "queued",
    "start": "started",
    "prepared": "prepared",
    "moved": "read in full",
    "released": "released",
    "ended": "over",
}


def _apply_to_disk(record: MachineRecord, event: Event) -> None:
    assert event.disk is not None
    disk = record.disks.setdefault(event.disk, DiskRecord(event.disk))
    disk.moved = disk.moved or event.moved
    if event.at >= disk.at:
        # A disk starts over where its proxy died: the last report counts, not the largest.
        disk.at = event.at
        disk.source_bytes = event.source_bytes or 0.0
        disk.wire_bytes = event.wire_bytes if event.wire_bytes is not None else disk.wire_bytes
        disk.proxy = event.proxy
        disk.transport = event.transport


def _end(record: MachineRecord, event: Event) -> None:
    _check_order(record, "ended", event.at)
    told = (event.at, event.id)
    if record.ended is not None and (record.ended, record.end_id) <= told:
        return
    record.ended, record.end_id = told
    record.outcome, record.reason = event.outcome, event.reason
    record.kind = record.kind or event.kind
    record.source_bytes = event.source_bytes or 0.0
    record.wire_bytes = event.wire_bytes or 0.0
    record.stored_bytes = event.stored_bytes or 0.0


def _earlier(known: float | None, at: float) -> float:
    return at if known is None else min(known, at)
