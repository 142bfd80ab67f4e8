"""Which restore points of a machine exist on a future day, and what holds each of them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from zoneinfo import ZoneInfo

from gambrel.core.model.restore_points import PointRecord, linked_records
from gambrel.core.model.retention import Point, all_kept, newest, wanted_points
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.tiers import tier_at
from gambrel.core.plan.objects import Job, Kind, Plan, Retention
from gambrel.core.questions.isolated_job import alone
from gambrel.core.schedules.calendars import job_occurrences
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.simulation.simulate import simulate_span
from gambrel.core.units import DAY

MOST_DAYS = 400
"""How far ahead points are looked at."""
MOST_MACHINE_RUNS = 60_000
"""Machine-runs that are simulated for the space of a whole job; beyond, it is not drawn."""


@dataclass(frozen=True, slots=True)
class PointAhead:
    """A point that exists on the day, and why.

    Attributes:
        base_at: start instant of the point that it needs; None for a full.
        kept_by: the rules that want it, in words; empty where it only carries others.
        carries: how many points need it, directly or through others.
        cold: whether it lies in a colder tier by then; `tier`: which, "" where none has a name.
    """

    repository: str
    kind: Kind
    at: float
    stored_bytes: float
    base_at: float | None
    kept_by: tuple[str, ...]
    carries: int
    cold: bool
    tier: str = ""


@dataclass(frozen=True, slots=True)
class PointsAhead:
    """The points of one machine on a day, and the space of the whole job up to it.

    Attributes:
        space: (instant, bytes) for each repository, at the same hour of every day; None where the
            job makes too many runs to simulate them all.
    """

    machine: str
    day: float
    points: tuple[PointAhead, ...]
    space: dict[str, tuple[tuple[float, float], ...]] | None


_SINGLE_RULES: tuple[tuple[str, str], ...] = (
    ("points", "of the newest {} points"),
    ("days", "younger than {} days"),
    ("full_days", "a full younger than {} days"),
    ("incremental_days", "younger than {} days"),
    ("weekly", "first full of its week"),
    ("monthly", "first full of its month"),
    ("yearly", "first full of its year"),
)


def _reasons(
    points: list[Point], rule: Retention, now: float, immutable: float, zone: ZoneInfo
) -> dict[int, list[str]]:
    """Why each point is wanted, by its identity; a rule is asked alone to see what it wants."""
    found: dict[int, list[str]] = {id(point): [] for point in points}
    last = newest(points, lambda point: point.usable)

    def note(kept: Sequence[Point], words: str) -> None:
        for point in kept:
            if words not in found[id(point)]:
                found[id(point)].append(words)

    for name, words in _SINGLE_RULES:
        value = getattr(rule, name)
        if value:
            alone_ = replace(Retention(), **{name: value})
            kept = wanted_points(points, alone_, now, 0.0, zone)
            # The newest usable point comes with every rule once more; that is told below.
            if last is not None:
                kept.remove(last)
            note(kept, words.format(f"{value:g}"))
    if immutable > 0:
        kept = [p for p in points if now - p.at < immutable * DAY]
        note(kept, f"immutable for {immutable:g} days")
    if rule.keeps_everything:
        note(points, "everything is kept")
    if all_kept(rule, now, zone):
        note(points, f"until {rule.until}")
    if last is not None:
        note([last], "the newest usable point")
    return found


def _carried(made: Sequence[tuple[PointRecord, Point]]) -> dict[int, int]:
    count: dict[int, int] = {id(point): 0 for _, point in made}
    for _, point in made:
        base = point.base
        while base is not None:
            count[id(base)] += 1
            base = base.base
    return count


def points_told(
    plan: Plan, job: Job, found: Sequence[PointRecord], now: float
) -> Iterator[PointAhead]:
    """Points of one machine and job that exist at an instant, each with what holds it."""
    rules: dict[str, tuple[Retention, float | None]] = dict.fromkeys(
        job.repositories, (job.retention, None)
    )
    rules |= {copy.repository: (copy.retention, copy.cold_after_days) for copy in job.copies}
    for repository in plan.repositories:
        mine = [point for point in found if point.repository == repository.id]
        if not mine or repository.id not in rules:
            continue
        rule, cold_days = rules[repository.id]
        made = linked_records(mine)
        points = [point for _, point in made]
        zone = ZoneInfo(plan.site_by_id[repository.site].time_zone)
        why = _reasons(points, rule, now, repository.immutable_days, zone)
        carries = _carried(made)
        if job.chain == "forever":
            words = ["one full for ever"]
            if all_kept(rule, now, zone):
                words.append(f"until {rule.until}")
            why = {id(p): words for p in points}
        for record, point in made:
            tier = tier_at(repository, job, now - record.at)
            unnamed = not repository.tiers and cold_days is not None
            yield PointAhead(
                repository.id,
                record.kind,
                record.at,
                record.stored_bytes,
                None if point.base is None else point.base.at,
                tuple(why[id(point)]),
                carries[id(point)],
                tier is not None or (unnamed and now - record.at >= (cold_days or 0.0) * DAY),
                "" if tier is None else tier.id,
            )


def _space(forecast: Forecast) -> dict[str, tuple[tuple[float, float], ...]]:
    days = int((forecast.to - forecast.from_) / DAY)
    instants = dict.fromkeys([*(forecast.from_ + i * DAY for i in range(days + 1)), forecast.to])
    used = [(instant, forecast.history.used_bytes(instant)) for instant in instants]
    return {
        repository.id: tuple((at, row[i]) for at, row in used)
        for i, repository in enumerate(forecast.plan.repositories)
        if any(row[i] for _, row in used)
    }


def points_ahead(
    plan: Plan, job: Job, from_: float, day: float, machine: str | None = None
) -> PointsAhead | None:
    """The points of a machine of a job at an instant, with what holds them.

    The job is played forward alone on its paths; where it makes very many runs, the machine is.
    None where it has no machine.

    Args:
        from_: instant from which it is played forward.
        day: the instant looked at, at most `MOST_DAYS` later.
        machine: by default the one with the most used bytes.

    Raises:
        ValueError: where `day` is out of reach, or the job has no such machine.
    """
    if not 0 < day - from_ <= MOST_DAYS * DAY:
        raise ValueError(f"is not within {MOST_DAYS} days of the first night")
    machines = selected_machines(plan, job)
    if not machines:
        return None
    by_size = sorted(machines, key=lambda m: -sum(disk.used_gib for disk in m.disks))
    chosen = by_size[0].id if machine is None else machine
    if chosen not in {m.id for m in machines}:
        raise ValueError(f"{chosen} is not in {job.name}")
    small = alone(plan, job)
    runs = len(job_occurrences(small.jobs[0], small.calendar_by_id, from_, day))
    whole = runs * len(machines) <= MOST_MACHINE_RUNS
    if not whole:
        small = alone(plan, job, frozenset([chosen]))
    forecast = simulate_span(small, from_, day)
    points = forecast.history.at(day, machine=chosen)
    told = tuple(points_told(small, small.jobs[0], points, day))
    return PointsAhead(chosen, day, told, _space(forecast) if whole else None)
