"""What a runner reports: one declaration of every event (`gambrel-events/1`).

An event has an id that its runner chose, an instant, and what happened. It may come late, twice or
before an earlier one. Byte counts are totals so far, never increments, so that a lost or repeated
event does no harm.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from gambrel.core.plan import values as v
from gambrel.core.plan.kinds import Amount, Ident, Instant, Kind
from gambrel.core.plan.objects import Plan
from gambrel.core.plan.places import Wrong
from gambrel.core.plan.shapes import Rows, Shape, shape_of
from gambrel.core.plan.values import MISSING, Reading

LONGEST_ID = 80
LONGEST_REASON = 500
BACK_S = 400 * 86_400.0
"""How long ago an event may have happened."""
AHEAD_S = 600.0
"""How far ahead of the runner's own clock it may lie."""

Outcome = Literal["done", "failed", "cut off", "missed", "no path"]
"""How a machine-run ended. "failed" has a reason in words."""
LeftBehind = Literal["locked", "snapshot", "mount"]
"""What a failed machine-run may leave: a machine locked, a snapshot not removed, a mount."""
What = Literal[
    "run began",
    "machine queued",
    "machine started",
    "machine prepared",
    "disk",
    "machine moved",
    "machine released",
    "machine ended",
    "run ended",
    "point made",
    "point gone",
    "left behind",
    "cleaned up",
    "point checked",
    "order taken",
    "order ended",
]
"""What can happen. "disk" tells how much of one disk has moved so far, and by which way."""


@dataclass(frozen=True, slots=True)
class Event:
    """One event. Which keys it needs depends on `what`, see `NEEDS`.

    Attributes:
        job, occurrence: the run: its job, and the instant at which it fell due.
        kind: of "run began" the kind as scheduled, of others the effective kind.
        proxy: that reads the disk; None for an agent.
        source_bytes, wire_bytes: so far, of the disk, or of the machine that has ended.
        moved: of "disk": whether the whole disk has moved.
        at_point: of a point, when its run began to read: the point's own time.
        order: the number of an order.
        check: how a point was checked: verified after its run, or tested by starting the machine
            from it; `outcome` is "done" where it is good. `began`: when the check did.
    """

    id: Ident
    at: Instant
    what: What
    job: Ident | None = None
    occurrence: Instant | None = None
    machine: Ident | None = None
    kind: Kind | None = None
    disk: Ident | None = None
    proxy: Ident | None = None
    transport: Literal["direct", "hot_add", "network", "agent"] | None = None
    source_bytes: Amount | None = None
    wire_bytes: Amount | None = None
    stored_bytes: Amount | None = None
    moved: bool = False
    outcome: Outcome | None = None
    reason: str = ""
    repository: Ident | None = None
    at_point: Instant | None = None
    left: LeftBehind | None = None
    order: Annotated[int, v.number(least=1, whole=True)] | None = None
    machines: Annotated[tuple[Ident, ...], Rows(distinct=True)] = ()
    check: Literal["verify", "test"] | None = None
    began: Instant | None = None

    def problems(self) -> Wrong:
        """Keys that are missing for what happened."""
        for key in NEEDS[self.what]:
            if getattr(self, key) is None:
                yield key, None, f'is required where `what` is "{self.what}"'
        if len(self.id) > LONGEST_ID:
            yield "id", self.id[:LONGEST_ID], f"is longer than {LONGEST_ID} characters"
        if len(self.reason) > LONGEST_REASON:
            yield "reason", self.reason[:80], f"is longer than {LONGEST_REASON} characters"


_RUN = ("job", "occurrence")
_MACHINE = (*_RUN, "machine")
NEEDS: dict[str, tuple[str, ...]] = {
    "run began": (*_RUN, "kind"),
    "machine queued": _MACHINE,
    "machine started": (*_MACHINE, "kind"),
    "machine prepared": _MACHINE,
    "disk": (*_MACHINE, "disk", "source_bytes"),
    "machine moved": _MACHINE,
    "machine released": _MACHINE,
    "machine ended": (*_MACHINE, "outcome"),
    "run ended": _RUN,
    "point made": ("job", "machine", "repository", "kind", "at_point", "stored_bytes"),
    "point gone": ("job", "machine", "repository", "at_point"),
    "left behind": ("machine", "left"),
    "cleaned up": ("machine", "left"),
    "point checked": ("job", "machine", "repository", "at_point", "check", "outcome"),
    "order taken": ("order",),
    "order ended": ("order",),
}
"""The keys that an event needs, by what happened."""

SHAPE: Shape = shape_of(Event)


class EventRefused(ValueError):
    """An event that cannot be taken; `key` is what is wrong with it."""

    def __init__(self, key: str, reason: str) -> None:
        self.key = key
        self.reason = reason
        super().__init__(f"{key}: {reason}" if key else reason)


def event_from(raw: Any) -> Event:
    """The event that a decoded JSON object describes. Raises EventRefused."""
    reading = Reading()
    event = SHAPE.read(reading, "", raw)
    if event is MISSING or reading.problems:
        first = reading.problems[0]
        raise EventRefused(first.path, first.reason)
    made: Event = event
    return made


def event_to_dict(event: Event) -> dict[str, Any]:
    """The event as JSON values."""
    return SHAPE.write(event)


def check_event(plan: Plan, event: Event, clock: float) -> None:
    """Refuse an event that cannot be of this plan, or of this time.

    Args:
        clock: the runner's own clock when it sent the event, in UTC seconds.

    Raises:
        EventRefused: with the key at fault.
    """
    for key, value, known in _references(plan, event):
        if value is not None and value not in known:
            raise EventRefused(key, f"{value!r} is not in the adopted plan")
    if event.at > clock + AHEAD_S:
        raise EventRefused("at", "is after the runner's own clock")
    if event.at < clock - BACK_S:
        raise EventRefused("at", f"is more than {BACK_S / 86_400:.0f} days ago")
    if event.occurrence is not None and event.occurrence > event.at + AHEAD_S:
        raise EventRefused("occurrence", "is after the event: a run cannot begin before it is due")


def _references(plan: Plan, event: Event) -> Iterator[tuple[str, str | None, Any]]:
    yield "job", event.job, plan.job_by_id
    yield "machine", event.machine, plan.machine_by_id
    yield "proxy", event.proxy, {proxy.id for proxy in plan.proxies}
    yield "repository", event.repository, plan.repository_by_id
