"""Forecasts by night, computed once and only as far as a change reaches.

A simulation may start at any quiet instant with the points that exist there, and gives the same
numbers as one that came from further back. So the weeks of a plan follow one another, and a changed
plan is simulated only from the last quiet instant before it first differs from its base.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta
from math import ceil
from threading import RLock

from gambrel.core.calendars import without_timing
from gambrel.core.engine.layout import layout_of
from gambrel.core.forecast import Forecast, QuietInstant
from gambrel.core.nights import Night, night_at, night_of, planner_zone, week_of
from gambrel.core.plan import Job, Plan
from gambrel.core.simulate import simulate
from gambrel.core.snapshot import Snapshot
from gambrel.core.spreading import Due, job_dues
from gambrel.core.units import HOUR

QUIET_BEFORE_S = 6 * HOUR
"""How long before each noon a quiet instant is looked for: the first from there on is kept."""
WEEKS_AHEAD = 26
"""How far a plan is played forward, in weeks."""


class OutOfReach(LookupError):
    """A night for which there is no forecast; the text says why."""


def origin_night(plan: Plan, today: date) -> Night:
    """The first night that can be forecast.

    The night that begins at the first noon after the newest known restore point exists; without
    any, the Monday of this week.
    """
    zone = planner_zone(plan)
    if not plan.state.points:
        return night_of(today - timedelta(days=today.weekday()), zone)
    newest = max(point.exists_from for point in plan.state.points)
    night = night_at(ceil(newest), zone)
    return night if night.start >= newest else night_of(night.date + timedelta(days=1), zone)


def _occurring(job: Job, plan: Plan, start: float, end: float) -> set[Due]:
    return set(job_dues(job, plan.calendar_by_id, start, end))


def _job_difference(one: Plan, other: Plan, position: int, start: float, end: float) -> float:
    """The first instant in [start, end) at which a job of two plans differs; `end` if nowhere."""
    was, now = one.jobs[position], other.jobs[position]
    if without_timing(now, was) != was:
        return start
    changed = _occurring(was, one, start, end) ^ _occurring(now, other, start, end)
    return min((instant for instant, *_ in changed), default=end)


def first_difference(one: Plan, other: Plan, start: float, end: float) -> float:
    """The first instant in [start, end) at which two plans may go apart; `end` if nowhere."""
    if one is other:
        return end
    if replace(one, jobs=()) != replace(other, jobs=()):
        return start
    if [job.id for job in one.jobs] != [job.id for job in other.jobs]:
        return start
    return min(
        (
            _job_difference(one, other, position, start, end)
            for position, job in enumerate(one.jobs)
            if job != other.jobs[position]
        ),
        default=end,
    )


class Forecaster:
    """Forecasts of one plan; safe to use from several threads.

    Args:
        origin: the first night that can be forecast.
        base: the forecaster of the plan that this one was changed from, if any.
    """

    def __init__(self, plan: Plan, origin: Night, base: Forecaster | None = None) -> None:
        self.plan = plan
        self.origin = origin
        self.base = base
        self._lock = RLock()
        self._done: dict[tuple[date, float], Forecast] = {}
        self._differences: dict[float, float] = {}
        self._quiet: list[QuietInstant] = []

    def covers(self, night: Night) -> bool:
        """Whether there can be a forecast of a night."""
        latest = self.origin.date + timedelta(weeks=WEEKS_AHEAD)
        return self.origin.date <= night.date <= latest

    def night(self, night: Night, *, alone: bool = False) -> Forecast:
        """A forecast that holds a night whole.

        Args:
            alone: simulate only to the end of this night, and not of its week.

        Raises:
            OutOfReach: for a night before the first or too far after it.
        """
        if not self.covers(night):
            raise OutOfReach(
                f"Forecasts begin with the night of {self.origin.date} "
                f"and reach {WEEKS_AHEAD} weeks ahead."
            )
        with self._lock:
            week = [n for n in week_of(night.date, night.zone) if n.date >= self.origin.date]
            differs = self._differs(week[-1].end)
            if self.base is not None and night.end <= differs:
                return self.base.night(night, alone=alone)
            whole = (week[0].date, week[-1].end)
            if whole in self._done:
                return self._done[whole]
            end = night.end if alone else week[-1].end
            key = (week[0].date, end)
            if key not in self._done:
                self._done[key] = self._simulate(week, differs, end)
            return self._done[key]

    def _differs(self, end: float) -> float:
        """The first instant before `end` at which the plan may differ from its base."""
        if self.base is None:
            return self.origin.start
        if end not in self._differences:
            self._differences[end] = first_difference(
                self.base.plan, self.plan, self.origin.start, end
            )
        return self._differences[end]

    def _simulate(self, week: list[Night], differs: float, end: float) -> Forecast:
        """Simulate up to `end`, from the last quiet instant before the week or the difference."""
        first = week[0]
        if first.date > self.origin.date:
            before = night_of(first.date - timedelta(days=1), first.zone)
            (self if differs < first.start or self.base is None else self.base).night(before)
        begin = first.start
        if self.base is not None and differs > begin:
            begin = night_at(differs, first.zone).start
            self.base.night(first)
        start = self._last_quiet(begin, differs)
        from_ = self.origin.start if start is None else start.at
        after = night_of(week[-1].date + timedelta(days=1), first.zone)
        wanted = [n.start - QUIET_BEFORE_S for n in (*week, after)]
        forecast = simulate(
            self.plan,
            from_,
            end,
            points=None if start is None else start.points,
            snapshots_from=[instant for instant in wanted if instant > from_],
        )
        self._quiet.extend(forecast.quiet)
        return forecast

    def _last_quiet(self, instant: float, differs: float) -> QuietInstant | None:
        """The last known quiet instant up to `instant`; None where that is the origin."""
        known = list(self._quiet)
        if self.base is not None:
            known += [quiet for quiet in self.base.quiet_instants() if quiet.at <= differs]
        fitting = [quiet for quiet in known if quiet.at <= instant]
        return max(fitting, key=lambda quiet: quiet.at, default=None)

    def start_of(self, night: Night) -> tuple[float, Snapshot]:
        """Where a simulation of what comes from a night on may begin, and the points there.

        The last quiet instant up to the night's beginning, or the first night's beginning.

        Raises:
            OutOfReach: for a night before the first or too far after it.
        """
        if night.date > self.origin.date:
            self.night(night_of(night.date - timedelta(days=1), night.zone))
        with self._lock:
            start = self._last_quiet(night.start, self._differs(night.end))
        if start is not None:
            return start.at, start.points
        return self.origin.start, layout_of(self.plan).points_of(self.plan)

    def quiet_instants(self) -> tuple[QuietInstant, ...]:
        """All quiet instants known so far, those of the base where the plans agree not included."""
        with self._lock:
            return tuple(self._quiet)
