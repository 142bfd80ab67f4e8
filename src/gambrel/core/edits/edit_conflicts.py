"""Which edits of two people meet in the same place.

An edit touches places: (list, id, field). Two places meet where they are the same, or where one
is the whole of which the other is a part.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from gambrel.core.edits import operations as o
from gambrel.core.edits.item_edits import AddItem, ChangeItem, RemoveItem
from gambrel.core.edits.point_owners import CarryPoints, TakeOverPoints
from gambrel.core.edits.splitting import SplitJob

Place = tuple[str, str, str]
"""(list, id, field); the field "" is the whole entry, "machines/m1" a part of "machines"."""

_FIELD_OF: dict[type, tuple[str, ...]] = {
    o.MoveStart: ("schedules",),
    o.MoveFull: ("schedules",),
    o.SetInterval: ("schedules",),
    o.SkipCalendar: ("schedules",),
    o.SetProxies: ("proxies",),
    TakeOverPoints: ("points",),
    CarryPoints: ("points",),
}


def places(operation: o.Operation) -> list[Place]:
    """All places that an operation touches."""
    if isinstance(operation, ChangeItem):
        return [(operation.list, operation.id, key) for key in operation.changes]
    if isinstance(operation, AddItem):
        return [(operation.list, str(operation.value.get("id")), "")]
    if isinstance(operation, RemoveItem):
        return [(operation.list, operation.id, "")]
    if isinstance(operation, o.SetTransports):
        return [("transports", "", key) for key in operation.changes]
    if isinstance(operation, SplitJob):
        made = [("jobs", str(part.get("id")), "") for part in operation.parts]
        return [("jobs", operation.job, "machines"), *made]
    if isinstance(operation, o.IncludeMachine | o.ExcludeMachine):
        return [("jobs", operation.job, f"machines/{operation.machine}")]
    if isinstance(operation, o.ExcludeDisk):
        return [("jobs", operation.job, f"exclude_disks/{operation.machine}/{operation.disk}")]
    return [("jobs", operation.job, field) for field in _FIELD_OF[type(operation)]]


def _meet(one: Place, other: Place) -> bool:
    if one[:2] != other[:2]:
        return False
    short, long = sorted((one[2], other[2]), key=len)
    return short in ("", long) or long.startswith(f"{short}/")


@dataclass(frozen=True, slots=True)
class Conflict:
    """A place that both have edited.

    Attributes:
        index: position of your operation.
        key: the value of a `ChangeItem` that is concerned; None: the whole operation.
        theirs: positions of the others' operations.
    """

    index: int
    key: str | None
    place: Place
    theirs: tuple[int, ...]


def conflicts(yours: Sequence[o.Operation], theirs: Sequence[o.Operation]) -> list[Conflict]:
    """Where your operations touch what theirs have touched, place by place."""
    taken = [(i, place) for i, operation in enumerate(theirs) for place in places(operation)]
    found = []
    for index, operation in enumerate(yours):
        for place in places(operation):
            met = tuple(dict.fromkeys(i for i, other in taken if _meet(place, other)))
            if met:
                key = place[2] if isinstance(operation, ChangeItem) else None
                found.append(Conflict(index, key, place, met))
    return found


def without(yours: Iterable[o.Operation], given_up: Iterable[Conflict]) -> list[o.Operation]:
    """Your operations without what was given up; those left with nothing to change are gone."""
    whole = {c.index for c in given_up if c.key is None}
    keys: dict[int, set[str]] = {}
    for conflict in given_up:
        if conflict.key is not None:
            keys.setdefault(conflict.index, set()).add(conflict.key)
    found: list[o.Operation] = []
    for index, operation in enumerate(yours):
        if index in whole:
            continue
        if index in keys and isinstance(operation, ChangeItem):
            kept = {k: v for k, v in operation.changes.items() if k not in keys[index]}
            if kept:
                found.append(ChangeItem(operation.list, operation.id, kept))
            continue
        found.append(operation)
    return found
