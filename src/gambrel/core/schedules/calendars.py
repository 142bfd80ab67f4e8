"""Occurrences of schedules, and the hours in which windows and limits are in force (section 3)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, fields
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache
from operator import attrgetter
from zoneinfo import ZoneInfo

from gambrel.core.constants import OPENS_WITHIN
from gambrel.core.plan.objects import (
    Calendar,
    DateInterval,
    DayRowSchedule,
    Job,
    Kind,
    LinkLimit,
    Plan,
    RuleSchedule,
    Schedule,
    Window,
)
from gambrel.core.plan.recurrence_rules import parse_rule
from gambrel.core.simulation_limits import MOST_OCCURRENCES, MOST_RULE_STEPS, TooMuch
from gambrel.core.units import DAY, SAME_INSTANT

ONE_DAY = timedelta(days=1)
NEVER = float("inf")

_WEIGHT: dict[Kind, int] = {"incremental": 0, "differential": 1, "full": 2}
_STEPS = {"HOURLY": 3600, "DAILY": 86_400, "WEEKLY": 7 * 86_400}
"""Seconds of one step of a frequency whose steps are all alike."""


# --- clock ------------------------------------------------------------------------------------


def instant_of(local: datetime, zone: ZoneInfo) -> float:
    """The instant of a naive local time.

    A local time that a clock change skips takes the offset in force before the change; one that
    occurs twice means the first (`fold=0` means just that, PEP 495).
    """
    return local.replace(tzinfo=zone, fold=0).timestamp()


def midnight(day: date, zone: ZoneInfo) -> float:
    """The instant at which a local date begins."""
    return instant_of(datetime.combine(day, time()), zone)


def local_of(instant: float, zone: ZoneInfo) -> datetime:
    """The naive local time of an instant."""
    return datetime.fromtimestamp(instant, UTC).astimezone(zone).replace(tzinfo=None)


# --- schedules --------------------------------------------------------------------------------


def _brought_forward(schedule: RuleSchedule, first: datetime) -> datetime:
    """A later start of a rule, by whole steps, that gives the same dates from `first` on.

    A rule that counts its occurrences has to be followed from its real start.
    """
    parts = dict(part.upper().split("=", 1) for part in schedule.rrule.split(";"))
    step = _STEPS.get(parts["FREQ"])
    if step is None or "COUNT" in parts or first <= schedule.start:
        return schedule.start
    length = timedelta(seconds=step * int(parts.get("INTERVAL", 1)))
    # One step is left before the first date, for rules that look around within a step.
    whole = (first - schedule.start) // length - 1
    return schedule.start + max(0, whole) * length


def _rule_times(
    schedule: RuleSchedule, first: datetime, last: datetime, zone: ZoneInfo
) -> Iterator[datetime]:
    parsed = parse_rule(schedule.rrule, _brought_forward(schedule, first))
    for steps, local in enumerate(parsed.rule):
        if steps >= MOST_RULE_STEPS:
            raise TooMuch(
                f"{schedule.rrule} from {schedule.start} has more than {MOST_RULE_STEPS:,} dates "
                "up to this horizon; let it start later"
            )
        if local > last:
            return
        if local >= first and (
            parsed.until_instant is None
            or instant_of(local, zone) <= parsed.until_instant + SAME_INSTANT
        ):
            yield local


def _row_times(schedule: DayRowSchedule, first: datetime, last: datetime) -> Iterator[datetime]:
    day = max(schedule.start, first.date() - ONE_DAY)
    step = timedelta(minutes=schedule.every_min)
    while day <= last.date():
        if day.weekday() in schedule.days:
            local = datetime.combine(day, schedule.from_time)
            end = datetime.combine(day, schedule.to_time)
            if end <= local:
                end += ONE_DAY
            while local <= end:
                if first <= local <= last:
                    yield local
                local += step
        day += ONE_DAY


def skipped_dates(schedule: Schedule, calendars: Mapping[str, Calendar]) -> frozenset[date]:
    """All local dates on which a schedule does not occur."""
    dates = set(schedule.skip_dates)
    for calendar in schedule.skip:
        dates.update(calendars[calendar].dates)
    return frozenset(dates)


def _local_times(
    schedule: Schedule, calendars: Mapping[str, Calendar], from_: float, to: float
) -> Iterator[datetime]:
    """The wall-clock times of a schedule around a horizon, before they become instants."""
    zone = ZoneInfo(schedule.time_zone)
    skipped = skipped_dates(schedule, calendars)
    # A move goes past at most every skipped date; two days more than cover any clock change.
    reach = timedelta(days=len(skipped) + 2)
    first = local_of(from_, zone) - (reach if schedule.when_skipped == "next_day" else 2 * ONE_DAY)
    last = local_of(to, zone) + 2 * ONE_DAY
    if isinstance(schedule, RuleSchedule):
        times: Iterable[datetime] = _rule_times(schedule, first, last, zone)
    else:
        times = _row_times(schedule, first, last)
    for local in times:
        if schedule.until is not None and local.date() > schedule.until:
            continue
        if local.date() in skipped and schedule.when_skipped == "drop":
            continue
        while local.date() in skipped:
            local += ONE_DAY
        yield local
    yield from schedule.extra


def occurrences(
    schedule: Schedule, calendars: Mapping[str, Calendar], from_: float, to: float
) -> list[float]:
    """The instants in [from_, to) at which a schedule occurs, in order, each once."""
    zone = ZoneInfo(schedule.time_zone)
    found: set[float] = set()
    for local in _local_times(schedule, calendars, from_, to):
        found.add(instant_of(local, zone))
        if len(found) > MOST_OCCURRENCES:
            raise TooMuch(
                f"the schedule from {schedule.start} has more than {MOST_OCCURRENCES:,} "
                "occurrences in this horizon; make it rarer, or look at a shorter time"
            )
    return sorted(instant for instant in found if from_ <= instant < to)


def clock_moves(
    schedule: Schedule, calendars: Mapping[str, Calendar], from_: float, to: float
) -> list[tuple[datetime, float, bool]]:
    """(wall-clock time, instant, whether the time is skipped) where a clock change meddles.

    Such a time is skipped by the change, and what is due then starts later by the clock; or it
    comes twice, and the first is taken.
    """
    zone = ZoneInfo(schedule.time_zone)
    found = []
    for local in _local_times(schedule, calendars, from_, to):
        instant = instant_of(local, zone)
        skips = local_of(instant, zone) != local
        again = local.replace(tzinfo=zone, fold=1).timestamp()
        if from_ <= instant < to and (skips or again != instant):
            found.append((local, instant, skips))
    return sorted(found, key=lambda entry: entry[1])


def held_until(plan: Plan, job: Job) -> float:
    """The instant before which a job on hold does not run: -inf for one that is not held.

    The date of a hold begins at midnight at the site of the job's repository.
    """
    if not job.on_hold:
        return -NEVER
    if job.hold_until is None:
        return NEVER
    site = plan.site_by_id[plan.repository_by_id[job.repository].site]
    return midnight(job.hold_until, ZoneInfo(site.time_zone))


_TIMING = {"schedules", "name", "locked", "notify", "notify_to"}
_HOLD = {"on_hold", "hold_until"}
_of_runs, _of_followers = (
    attrgetter(*(each.name for each in fields(Job) if each.name not in left_out))
    for left_out in (_TIMING | _HOLD, _TIMING)
)


def run_alike(one: Job, other: Job) -> bool:
    """Whether two jobs differ in nothing that changes what their runs do or how.

    Their occurrences may differ: schedules, holds of a job that has schedules of its own.
    """
    if one is other:
        return True
    told = _of_runs if one.after is None else _of_followers
    return bool(told(one) == told(other))


def job_occurrences(
    job: Job, calendars: Mapping[str, Calendar], from_: float, to: float
) -> tuple[tuple[float, Kind, int], ...]:
    """(instant, kind, position of the schedule) of a job's own occurrences in [from_, to).

    Where several fall on one instant the heaviest kind stands and the others do not exist.

    Raises:
        TooMuch: with the job, where there are too many.
    """
    if job.on_hold and job.hold_until is None:
        return ()
    used = sorted({name for schedule in job.schedules for name in schedule.skip})
    try:
        found = _heaviest(job.schedules, tuple(calendars[name] for name in used), from_, to)
    except TooMuch as error:
        raise TooMuch(f"Job {job.id}: {error}.") from None
    if not job.on_hold:
        return found
    # A hold ends with the local date before the one that it names, in each schedule's own zone.
    ends = [midnight(job.hold_until or date.min, ZoneInfo(s.time_zone)) for s in job.schedules]
    return tuple(entry for entry in found if entry[0] >= ends[entry[2]])


@lru_cache(maxsize=1024)
def _heaviest(
    schedules: tuple[Schedule, ...], calendars: tuple[Calendar, ...], from_: float, to: float
) -> tuple[tuple[float, Kind, int], ...]:
    by_id = {calendar.id: calendar for calendar in calendars}
    at: dict[float, tuple[Kind, int]] = {}
    for position, schedule in enumerate(schedules):
        for instant in occurrences(schedule, by_id, from_, to):
            known = at.get(instant)
            if known is None or _WEIGHT[schedule.kind] > _WEIGHT[known[0]]:
                at[instant] = (schedule.kind, position)
    return tuple((instant, kind, position) for instant, (kind, position) in sorted(at.items()))


# --- windows and limits -----------------------------------------------------------------------


def _interval(day: date, from_time: time, to_time: time, zone: ZoneInfo) -> tuple[float, float]:
    end_day = day if to_time > from_time else day + ONE_DAY
    return (
        instant_of(datetime.combine(day, from_time), zone),
        instant_of(datetime.combine(end_day, to_time), zone),
    )


def interval_on(day: date, hours: DateInterval, zone: ZoneInfo) -> tuple[float, float]:
    """From when to when an interval lasts that begins on a date."""
    return _interval(day, hours.from_time, hours.to_time, zone)


def hours_on(window: Window, day: date) -> tuple[DateInterval, ...]:
    """The intervals of a window that begin on a date, in its own zone."""
    exceptions = [entry for entry in window.exceptions if entry.date == day]
    if exceptions:
        return tuple(interval for entry in exceptions for interval in entry.open)
    return tuple(
        DateInterval(i.from_time, i.to_time) for i in window.open if day.weekday() in i.days
    )


def joined(intervals: Iterable[tuple[float, float]]) -> list[tuple[float, float]]:
    """Intervals in order, empty ones left out, touching and overlapping ones made one."""
    result: list[tuple[float, float]] = []
    for start, end in sorted(intervals):
        if end <= start + SAME_INSTANT:
            continue
        if result and start <= result[-1][1] + SAME_INSTANT:
            result[-1] = (result[-1][0], max(result[-1][1], end))
        else:
            result.append((start, end))
    return result


def _days(from_: float, to: float, zone: ZoneInfo) -> Iterator[date]:
    day = local_of(from_, zone).date() - 2 * ONE_DAY
    last = local_of(to, zone).date() + ONE_DAY
    while day <= last:
        yield day
        day += ONE_DAY


@lru_cache(maxsize=1024)
def open_intervals(window: Window, from_: float, to: float) -> tuple[tuple[float, float], ...]:
    """When a window is open, for every interval that begins between from_ - 2 days and to + 1 day.

    Near both ends of that span an interval may be cut short; leave a margin of two days.
    """
    zone = ZoneInfo(window.time_zone)
    exceptions: dict[date, list[tuple[time, time]]] = {}
    for exception in window.exceptions:
        exceptions.setdefault(exception.date, []).extend(
            (interval.from_time, interval.to_time) for interval in exception.open
        )
    found: list[tuple[float, float]] = []
    for day in _days(from_, to, zone):
        if day in exceptions:
            hours: Sequence[tuple[time, time]] = exceptions[day]
        else:
            hours = [(i.from_time, i.to_time) for i in window.open if day.weekday() in i.days]
        found.extend(_interval(day, start, end, zone) for start, end in hours)
    return tuple(joined(found))


@dataclass(frozen=True, slots=True)
class WindowSpan:
    """When a run may start machines: from `opens` on, and until `closes` (`NEVER`: no end)."""

    opens: float
    closes: float


def _beyond_exceptions(window: Window, occurrence: float) -> float:
    """An instant at which it is certain whether a window that is open then ever closes.

    Without exceptions a window repeats weekly, so one that is still open two weeks later never
    closes. Each exception can keep it open, or closed, for a day more. Only one that is open all
    week stays open until an exception that is further off.
    """
    horizon = occurrence + 2 * OPENS_WITHIN + (3 + len(window.exceptions)) * DAY
    if window.exceptions and _is_always_open(window):
        zone = ZoneInfo(window.time_zone)
        starts = [midnight(exception.date, zone) for exception in window.exceptions]
        later = [at for at in starts if at > horizon - 11 * DAY]
        if later:
            horizon = max(horizon, min(later) + (11 + len(window.exceptions)) * DAY)
    return horizon


def _is_always_open(window: Window) -> bool:
    """Whether the weekly hours of a window leave no minute out."""
    minutes = [False] * (7 * 1440)
    for hours in window.open:
        begin = hours.from_time.hour * 60 + hours.from_time.minute
        end = hours.to_time.hour * 60 + hours.to_time.minute
        end += 1440 if end <= begin else 0
        for day in hours.days:
            for minute in range(day * 1440 + begin, day * 1440 + end):
                minutes[minute % (7 * 1440)] = True
    return all(minutes)


@lru_cache(maxsize=1024)
def open_intervals_from(window: Window, from_: float, to: float) -> tuple[tuple[float, float], ...]:
    """All intervals in which a run with an occurrence in [from_, to) may find its window open."""
    horizon = _beyond_exceptions(window, to)
    return tuple(
        (start, NEVER if end >= horizon - DAY else end)
        for start, end in open_intervals(window, from_, horizon)
        if end > from_ + SAME_INSTANT
    )


@lru_cache(maxsize=4096)
def window_span(window: Window, occurrence: float) -> WindowSpan | None:
    """The window of a run: from its occurrence, or the first opening after it, to the closing.

    Returns None where the window does not open within 8 days of the occurrence.
    """
    for start, closes in open_intervals_from(window, occurrence, occurrence):
        opens = max(start, occurrence)
        if opens > occurrence + OPENS_WITHIN + SAME_INSTANT:
            return None
        return WindowSpan(opens, closes)
    return None


def limit_intervals(
    limit: LinkLimit, zone: ZoneInfo, from_: float, to: float
) -> list[tuple[float, float]]:
    """When a weekly limit of a link is in force."""
    return joined(
        _interval(day, limit.from_time, limit.to_time, zone)
        for day in _days(from_, to, zone)
        if day.weekday() in limit.days
    )
