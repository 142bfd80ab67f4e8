"""Coming nights and runs as an iCalendar (RFC 5545), for a file and for a feed.

Times are in UTC, so that no zone has to be described. The UID of a night is made of its date, that
of a run of its job and its occurrence, so that a calendar which reads the feed again changes what
it has and adds nothing twice; `SEQUENCE` counts the adopted versions.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from icalendar import Calendar, Event

from gambrel import __version__
from gambrel.core.nights.nights import NightOutcome, run_verdict, walls
from gambrel.core.plan.instants import format_instant
from gambrel.core.plan.objects import Plan
from gambrel.core.simulation.forecast import Run
from gambrel.core.words import count, duration, moment

ICALENDAR = "text/calendar"
REFRESHED_EVERY = timedelta(minutes=30)


@dataclass(frozen=True, slots=True)
class CalendarNight:
    """A night with its runs; no runs where only nights are told."""

    outcome: NightOutcome
    runs: tuple[Run, ...] = ()


def calendar(
    plan: Plan, name: str, nights: Iterable[CalendarNight], *, identity: str, sequence: int,
    adopted_at: datetime, zone: str,
) -> bytes:  # fmt: skip
    """The nights of an adopted plan as an iCalendar.

    Args:
        identity: what tells this database from others; a part of every UID.
        sequence: grows with every adopted version.
        adopted_at: when the version was made, UTC.
        zone: of the times in the words.
    """
    made = Calendar()
    made.add("prodid", f"-//Gambrel//gambrel {__version__}//EN")
    made.add("version", "2.0")
    made.add("method", "PUBLISH")
    made.add("calscale", "GREGORIAN")
    made.add("name", f"Backups of {name}")
    made.add("x-wr-calname", f"Backups of {name}")
    made.add("refresh-interval", REFRESHED_EVERY, parameters={"value": "DURATION"})
    stamp = adopted_at.replace(tzinfo=UTC)

    for told in _told(plan, nights, zone):
        one = Event()
        one.add("uid", f"{told.uid}@{identity}")
        one.add("dtstamp", stamp)
        one.add("last-modified", stamp)
        one.add("sequence", sequence)
        one.add("dtstart", datetime.fromtimestamp(round(told.start), UTC))
        one.add("dtend", datetime.fromtimestamp(round(max(told.end, told.start + 60)), UTC))
        one.add("summary", told.summary)
        one.add("description", "\n".join(told.lines))
        one.add("transp", "TRANSPARENT")
        made.add_component(one)
    return bytes(made.to_ical())


class _Told(NamedTuple):
    """An event of the calendar; UTC seconds."""

    uid: str
    start: float
    end: float
    summary: str
    lines: list[str]


def _told(plan: Plan, nights: Iterable[CalendarNight], zone: str) -> Iterator[_Told]:
    for night in nights:
        if night.outcome.last_end is not None:
            yield _night(plan, night.outcome, night.outcome.last_end, zone)
        for run in night.runs:
            if run.began is not None:
                yield _run(plan, run, run.began, zone)


def _night(plan: Plan, outcome: NightOutcome, last_end: float, zone: str) -> _Told:
    night = outcome.night
    open_ = walls(plan, night, [job.id for job in plan.jobs])
    start = night.start if open_ is None else open_[0]
    lines = [f"The last run ends {moment(last_end, zone)} ({zone})."]
    if outcome.over_s > 0:
        lines.append(f"That is {duration(outcome.over_s)} after its window.")
    if outcome.missed:
        lines.append(f"{count(outcome.missed, 'machine-run')} will not be done.")
    lines.append("A forecast, from the adopted plan.")
    summary = f"Backups: {outcome.verdict}, until {moment(last_end, zone)}"
    return _Told(f"night-{night.date}", start, last_end, summary, lines)


def _run(plan: Plan, run: Run, began: float, zone: str) -> _Told:
    job = plan.job_by_id[run.job]
    totals = run.totals()
    digest = hashlib.sha256(run.job.encode()).hexdigest()[:16]
    verdict = run_verdict(run)
    ended = run.ended if run.ended is not None else began
    lines = [f"{run.kind} of {count(len(run.machines), 'machine')}, {verdict}"]
    if run.window_end is not None:
        lines.append(f"Its window ends {moment(run.window_end, zone)}.")
    left = sum(number for outcome, number in run.outcomes.items() if outcome != "done")
    if left:
        lines.append(f"{count(left, 'machine')} not done.")
    start = totals.first_start if totals.first_start is not None else began
    summary = f"{job.name} ({run.kind})" + ("" if verdict == "fits" else f": {verdict}")
    uid = f"run-{digest}-{format_instant(run.occurrence)}"
    return _Told(uid, start, ended, summary, lines)
