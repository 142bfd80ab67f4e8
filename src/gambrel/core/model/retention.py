"""Restore points: chains, what is kept and deleted, merges, space (section 8)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from math import inf
from typing import Protocol, TypeVar
from zoneinfo import ZoneInfo

from gambrel.core.plan.objects import Kind, Retention
from gambrel.core.schedules.calendars import local_of, midnight
from gambrel.core.units import DAY, SAME_INSTANT

ChainKey = tuple[int, int, int]
"""(repository, job, machine) by position: the points that retention looks at together."""


class Point:
    """A restore point.

    Attributes:
        base: the point it needs; None for a full, or where that is missing.
        bad_since: when it, or one that it builds on, was found to be bad; infinite for a good one.
        usable: whether the chain of bases leads down to a full and all of it is good. Settled when
            the point is made: what a point needs is never deleted before it.
    """

    __slots__ = ("at", "bad_since", "base", "exists_from", "kind", "stored_bytes", "usable")

    def __init__(
        self,
        kind: Kind,
        at: float,
        exists_from: float,
        stored_bytes: float,
        base: Point | None,
        bad_since: float = inf,
    ) -> None:
        self.kind: Kind = kind
        self.at = at
        self.exists_from = exists_from
        self.stored_bytes = stored_bytes
        self.base = base
        self.bad_since: float = bad_since if base is None else min(bad_since, base.bad_since)
        self.usable: bool = self.bad_since == inf and (
            kind == "full" or (base is not None and base.usable)
        )


@dataclass(frozen=True, slots=True)
class Merge:
    """A merge that retention asked for: work in the repository (section 7)."""

    merged_bytes: float


def newest(points: Iterable[Point], wanted: Callable[[Point], bool]) -> Point | None:
    """The point with the latest start instant of those wanted; the later made of two alike."""
    found: Point | None = None
    for point in points:
        if wanted(point) and (found is None or point.at >= found.at):
            found = point
    return found


class PointStore:
    """All restore points that exist at the simulated instant."""

    def __init__(self) -> None:
        self._chains: dict[ChainKey, list[Point]] = {}
        self.used_bytes: dict[int, float] = {}

    def chain(self, key: ChainKey) -> list[Point]:
        """The existing points of one machine, job and repository, in the order they were made."""
        return self._chains.get(key, [])

    def items(self) -> Iterator[tuple[ChainKey, list[Point]]]:
        """Every chain by repository, job and machine position."""
        return iter(sorted(self._chains.items()))

    def newest_usable(self, key: ChainKey) -> Point | None:
        return newest(self.chain(key), lambda point: point.usable)

    def newest_full(self, key: ChainKey) -> Point | None:
        """The newest usable full."""
        return newest(self.chain(key), lambda point: point.kind == "full" and point.usable)

    def base_for(self, key: ChainKey, kind: Kind) -> Point | None:
        """What a new point of this kind would need (section 4)."""
        if kind == "full":
            return None
        return self.newest_full(key) if kind == "differential" else self.newest_usable(key)

    def add(self, key: ChainKey, point: Point) -> None:
        self._chains.setdefault(key, []).append(point)
        self.used_bytes[key[0]] = self.used_bytes.get(key[0], 0.0) + point.stored_bytes

    def _remove(self, key: ChainKey, gone: list[Point]) -> None:
        dead = {id(point) for point in gone}
        self._chains[key] = [point for point in self._chains[key] if id(point) not in dead]
        self.used_bytes[key[0]] -= sum(point.stored_bytes for point in gone)

    # --- retention ---

    def apply(
        self, key: ChainKey, retention: Retention, now: float, immutable_days: float, zone: ZoneInfo
    ) -> None:
        """Delete what no rule wants and no wanted point needs."""
        if retention.keeps_everything:
            return
        points = sorted(self.chain(key), key=lambda point: point.at)
        keep = {id(point) for point in wanted_points(points, retention, now, immutable_days, zone)}
        held: set[int] = set()
        for point in points:
            needed: Point | None = point if id(point) in keep else None
            while needed is not None and id(needed) not in held:
                held.add(id(needed))
                needed = needed.base
        gone = [point for point in points if id(point) not in held]
        if gone:
            self._remove(key, gone)

    def merge(self, key: ChainKey, retention: Retention, now: float, zone: ZoneInfo) -> list[Merge]:
        """Keep a "forever" chain to its length: merge the oldest points into their full."""
        merges: list[Merge] = []
        if all_kept(retention, now, zone):
            return merges
        if self.newest_full(key) is not None:
            # Nothing bad is merged into what is good.
            self._remove(key, [point for point in self.chain(key) if point.bad_since < inf])
        while True:
            points = sorted(self.chain(key), key=lambda point: point.at)
            full: Point | None = None
            oldest: Point | None = None
            for point in points:
                if point.kind == "full":
                    full = point
                elif full is not None:
                    oldest = point
                    break
            if full is None or oldest is None:
                return merges
            too_many = retention.points is not None and len(points) > retention.points
            too_old = retention.days is not None and not _younger(oldest, retention.days, now)
            if not (too_many or too_old):
                return merges
            merges.append(Merge(oldest.stored_bytes))
            full.at, full.exists_from = oldest.at, oldest.exists_from
            self._remove(key, [oldest])
            for point in self.chain(key):
                if point.base is oldest:
                    point.base = full


class PointLike(Protocol):
    """What tells of a point: one of a plan file, or one that a simulation left."""

    @property
    def kind(self) -> Kind: ...
    @property
    def at(self) -> float: ...
    @property
    def exists_from(self) -> float: ...
    @property
    def stored_bytes(self) -> float: ...
    @property
    def bad_since(self) -> float | None: ...


Told = TypeVar("Told", bound=PointLike)


def linked(points: Iterable[Told]) -> list[tuple[Told, Point]]:
    """Points with their bases, which follow from the order of `at`.

    The points must be of one job, machine and repository. None builds on what was known to be bad
    when it began.
    """
    made: list[tuple[Told, Point]] = []
    for saved in sorted(points, key=lambda point: point.at):
        base = None
        if saved.kind != "full":
            base = next(
                (
                    point
                    for _, point in reversed(made)
                    if point.bad_since > saved.at
                    and (saved.kind == "incremental" or point.kind == "full")
                ),
                None,
            )
        bad_since = inf if saved.bad_since is None else saved.bad_since
        point = Point(saved.kind, saved.at, saved.exists_from, saved.stored_bytes, base, bad_since)
        made.append((saved, point))
    return made


def kept_until(retention: Retention, zone: ZoneInfo) -> float:
    """The instant up to which everything is kept; -inf where no date says so."""
    if retention.until is None:
        return -inf
    return midnight(retention.until + timedelta(days=1), zone)


def all_kept(retention: Retention, now: float, zone: ZoneInfo) -> bool:
    """Whether a date says that everything is kept at an instant."""
    return now < kept_until(retention, zone) - SAME_INSTANT


def _younger(point: Point, days: float, now: float) -> bool:
    return now - point.at < days * DAY - SAME_INSTANT


def wanted_points(
    points: list[Point], retention: Retention, now: float, immutable_days: float, zone: ZoneInfo
) -> list[Point]:
    """The points that a rule wants; `points` are in order of `at`."""
    if all_kept(retention, now, zone):
        return points
    wanted: list[Point] = []
    if retention.points is not None:
        wanted += points[-retention.points :]
    for point in points:
        own = retention.full_days if point.kind == "full" else retention.incremental_days
        for days in (retention.days, own, immutable_days):
            if days is not None and _younger(point, days, now):
                wanted.append(point)
    fulls = [(point, local_of(point.at, zone)) for point in points if point.kind == "full"]
    wanted += _first_of_periods(fulls, retention.weekly, lambda t: tuple(t.isocalendar())[:2])
    wanted += _first_of_periods(fulls, retention.monthly, lambda t: (t.year, t.month))
    wanted += _first_of_periods(fulls, retention.yearly, lambda t: (t.year,))
    last = newest(points, lambda point: point.usable)
    return [*wanted, last] if last is not None else wanted


def _first_of_periods(
    fulls: list[tuple[Point, datetime]], count: int, period: Callable[[datetime], tuple[int, ...]]
) -> list[Point]:
    """The first full of each of the newest `count` periods that have one."""
    first: dict[tuple[int, ...], Point] = {}
    for point, local in fulls:
        first.setdefault(period(local), point)
    return [first[key] for key in sorted(first, reverse=True)[:count]]
