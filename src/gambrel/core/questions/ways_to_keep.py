"""What each way of keeping fulls and changes would cost a job: simulated, not described.

Every way is played forward for five weeks with the job alone on its paths, from the points that
exist; the figures are those of the last week, when the way has settled in.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal

from gambrel.core.model.restore import newest_restore
from gambrel.core.model.selection import selected_machines, used_gib
from gambrel.core.plan.objects import (
    DayRowSchedule,
    Job,
    Machine,
    Plan,
    Retention,
    RuleSchedule,
    Schedule,
    State,
)
from gambrel.core.plan.reading import JOB
from gambrel.core.questions.isolated_job import alone, schedules_of
from gambrel.core.schedules.words import CODES, rule_parts
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.simulation.simulate import simulate_span
from gambrel.core.units import DAY, SAME_INSTANT

WEEKS = 5
WEEK_S = 7 * DAY
FOREVER_POINTS = 14
"""Points that "one full for ever" keeps where the job's retention names no span for it."""

WayName = Literal["always full", "weekly full", "differential", "one full for ever", "synthetic"]
WAYS: tuple[tuple[WayName, str], ...] = (
    ("always full", "Always full"),
    ("weekly full", "Weekly full and incrementals"),
    ("differential", "Weekly full and differentials"),
    ("one full for ever", "One full for ever"),
    ("synthetic", "Weekly full made in the repository"),
)


@dataclass(frozen=True, slots=True)
class Way:
    """A way to keep fulls and changes, and what it comes to.

    Attributes:
        changes: of the job as `ChangeItem` takes them; empty where the job runs so already.
        moved_bytes: wire bytes in the last of the weeks.
        read_bytes: source bytes in it.
        longest_s, usual_s: the longest and the median length of a run in it.
        space_bytes: in the job's repository and those of its copies after the weeks.
        chain_points: the longest chain that a restore needs then.
        restore_s: to have the largest machine back from its newest point; None without a point.
    """

    name: WayName
    words: str
    now: bool
    changes: Mapping[str, Any]
    runs: int
    moved_bytes: float
    read_bytes: float
    longest_s: float
    usual_s: float
    space_bytes: float
    chain_points: int
    restore_s: float | None


# --- the same job, kept in another way ---------------------------------------------------------


def _plain_codes(schedule: Schedule) -> list[str] | None:
    """Weekdays of a schedule that runs on the same days every week; None for any other."""
    if not isinstance(schedule, RuleSchedule):
        return None
    parts = rule_parts(schedule.rrule)
    if parts == {"FREQ": "DAILY"}:
        return list(CODES)
    if parts.get("FREQ") != "WEEKLY" or not set(parts) <= {"FREQ", "BYDAY"}:
        return None
    codes = parts.get("BYDAY", CODES[schedule.start.weekday()]).split(",")
    return codes if set(codes) <= set(CODES) else None


def _on(schedule: RuleSchedule, codes: list[str]) -> RuleSchedule:
    return replace(schedule, rrule="FREQ=WEEKLY;BYDAY=" + ",".join(codes))


def with_weekly_full(schedules: tuple[Schedule, ...]) -> tuple[Schedule, ...]:
    """Schedules that have a full once a week: one is made of the first where there is none.

    It falls on Saturday, or on the only days of the job; a plain weekly schedule leaves that day
    to it.
    """
    kinds = {schedule.kind for schedule in schedules}
    if not schedules or ("full" in kinds and len(kinds) > 1):
        return schedules
    first = schedules[0]
    if isinstance(first, DayRowSchedule):
        return (replace(first, kind="incremental"), *schedules[1:])
    codes = _plain_codes(first)
    if codes is None:
        return schedules
    day = "SA" if "SA" in codes else codes[-1]
    rest = [code for code in codes if code != day]
    full = _on(replace(first, kind="full"), [day])
    if not rest:
        return (full, *schedules[1:])
    return (_on(replace(first, kind="incremental"), rest), full, *schedules[1:])


def _forever(retention: Retention) -> Retention:
    rule = Retention(points=retention.points, days=retention.days, until=retention.until)
    if rule.points is not None or rule.days is not None:
        return rule
    days = retention.incremental_days or retention.full_days
    return replace(rule, days=days) if days is not None else replace(rule, points=FOREVER_POINTS)


def kept_as(job: Job, name: WayName) -> Job:
    """The job with its fulls and changes kept in another way, at the same hours."""
    weekly = with_weekly_full(job.schedules)
    if name == "always full":
        return replace(job, chain="full_only", synthetic_full=False)
    if name == "weekly full":
        return replace(job, chain="incremental", synthetic_full=False, schedules=weekly)
    if name == "differential":
        return replace(job, chain="differential", synthetic_full=False, schedules=weekly)
    if name == "one full for ever":
        rule = _forever(job.retention)
        return replace(job, chain="forever", synthetic_full=False, retention=rule)
    return replace(job, chain="incremental", synthetic_full=True, schedules=weekly)


def changes_between(was: Job, now: Job) -> dict[str, Any]:
    """What `ChangeItem` needs to make one of the other."""
    return {
        key: JOB.values[key].write(getattr(now, key))
        for key in JOB.keys
        if getattr(was, key) != getattr(now, key)
    }


# --- figures ----------------------------------------------------------------------------------


def _median(values: list[float]) -> float:
    ordered = sorted(values)
    return ordered[len(ordered) // 2] if ordered else 0.0


def _figures(forecast: Forecast, job: Job, largest: Machine | None) -> dict[str, Any]:
    last = forecast.to - WEEK_S
    runs = [
        run
        for run in forecast.runs
        if run.occurrence >= last - SAME_INSTANT and run.ended is not None
    ]
    totals = [run.totals() for run in runs]
    lengths = [run.ended - run.occurrence for run in runs if run.ended is not None]
    used = forecast.history.used_bytes(forecast.to)
    restore = None
    if largest is not None:
        restore = newest_restore(
            forecast.plan, largest, forecast.history.at(forecast.to), forecast.to
        )
    return {
        "runs": len(runs),
        "moved_bytes": sum(t.wire_bytes for t in totals),
        "read_bytes": sum(t.source_bytes for t in totals),
        "longest_s": max(lengths, default=0.0),
        "usual_s": _median(lengths),
        "space_bytes": sum(
            stored
            for repository, stored in zip(forecast.plan.repositories, used, strict=True)
            if repository.id in job.places
        ),
        "chain_points": _longest_chain(forecast),
        "restore_s": None if restore is None else restore.full_s,
    }


def _longest_chain(forecast: Forecast) -> int:
    """The most points that the newest point of a machine needed on any day of the last week."""
    longest = 0
    for i in range(7):
        newest: dict[tuple[str, str], tuple[float, int]] = {}
        for point in forecast.history.at(forecast.to - i * DAY):
            key = (point.repository, point.machine)
            found = (point.at, point.chain_points)
            newest[key] = max(newest.get(key, (float("-inf"), 0)), found)
        longest = max([longest, *(points for _, points in newest.values())])
    return longest


def largest_machine(plan: Plan, job: Job) -> Machine | None:
    """The machine of a job with the most used bytes."""
    return max(selected_machines(plan, job), key=used_gib, default=None)


def tradeoffs(plan: Plan, job: Job, from_: float) -> Iterator[Way]:
    """Each way to keep the job's fulls and changes, simulated from an instant on.

    Each starts without points, so that none carries what another left.
    """
    own = schedules_of(plan, job)
    largest = largest_machine(plan, job)
    for name, words in WAYS:
        kept = kept_as(own, name)
        changes = {} if job.after is not None else changes_between(own, kept)
        small = alone(plan, kept)
        small = replace(small, state=State(sizes_as_of=plan.state.sizes_as_of))
        to = from_ + WEEKS * WEEK_S
        forecast = simulate_span(small, from_, to)
        yield Way(name, words, kept == own, changes, **_figures(forecast, small.jobs[0], largest))
