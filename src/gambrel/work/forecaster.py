"""Forecasts by night and by week, computed once and only as far as a change reaches.

Whatever a forecast says of a night is what one simulation says that runs from the first night on
and does not end. Two things make that cheap:

- A simulation may start at any quiet instant with the points that exist there, and gives the same
  numbers as one that came from further back. So the weeks of a plan follow one another, and a
  changed plan is simulated from the last quiet instant before it first differs from its base.
- What has ended cannot change any more. So a simulation that goes on, with all that falls due
  later, until everything due before the end of a night has ended holds that night as it will be.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import date, timedelta
from math import ceil
from threading import RLock
from typing import NamedTuple
from weakref import finalize

from gambrel.core.caches import MIB
from gambrel.core.nights.nights import Night, night_at, night_of, planner_zone, runs_of, week_of
from gambrel.core.plan.objects import Job, Plan
from gambrel.core.schedules.calendars import run_alike
from gambrel.core.schedules.spread_fulls import Due, job_dues
from gambrel.core.simulation.forecast import Forecast, QuietInstant
from gambrel.core.simulation.known_points import Snapshot, snapshot_of_state
from gambrel.core.simulation.simulate import quiet_instants, simulate_span
from gambrel.core.units import DAY, HOUR
from gambrel.work.forecast_cache import ForecastCache

QUIET_BEFORE_S = 6 * HOUR
"""How long before each noon a quiet instant is looked for: the first from there on is kept."""
WEEKS_AHEAD = 26
"""How far a plan is played forward, in weeks."""
BYTES_BY_NAME = 400
"""What a changed plan takes for finding each of its items by name."""
BYTES_OF_A_FORECASTER = 200_000
LAST_NOONS = 2
"""Of a preview, at how many noons a quiet instant is looked for: the last of them."""
KEPT_OF_A_PREVIEW = 2
"""How many quiet instants a preview keeps, each with all points that exist there."""
MOST_BYTES_OF_QUIET = 64 * MIB
"""What the points of the quiet instants of one plan may take together, about."""
STRIDE_S = 7 * DAY
"""How far a plan is played forward at once in search of quiet instants."""


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
    if not run_alike(now, was):
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


class Week(NamedTuple):
    """A week of a plan, complete: every night of it that can be forecast is whole.

    Attributes:
        forecast: begins at `start` or before it.
        nights: those that can be forecast; not before the first night of the plan.
    """

    forecast: Forecast
    nights: tuple[Night, ...]

    @property
    def start(self) -> float:
        return self.nights[0].start

    @property
    def end(self) -> float:
        return self.nights[-1].end


def _bytes_of(quiet: Sequence[QuietInstant]) -> int:
    return sum(each.points.points.nbytes for each in quiet)


def over_at(forecast: Forecast, night: Night) -> float:
    """The instant at which all that is due in a night has ended; its end or later."""
    ends = [run.ended for run in runs_of(forecast, night) if run.ended is not None]
    for copy in forecast.copies:
        if night.holds(copy.occurrence):
            ends.append(float("inf") if copy.ended is None else copy.ended)
    return max([night.end, *ends])


class Forecaster:
    """Forecasts of one plan; safe to use from several threads.

    Args:
        origin: the first night that can be forecast.
        base: the forecaster of the plan that this one was changed from, if any.
        kept: where forecasts are kept; by default where the base has its own.
        passing: a preview, on which nothing is built: it notes hardly any quiet instants.
    """

    def __init__(
        self,
        plan: Plan,
        origin: Night,
        base: Forecaster | None = None,
        kept: ForecastCache | None = None,
        *,
        passing: bool = False,
    ) -> None:
        self.plan = plan
        self.origin = origin
        self.base = base
        self.passing = passing
        self.kept: ForecastCache = kept or (ForecastCache() if base is None else base.kept)
        self._lock = RLock()
        self._owner = self.kept.new_owner()
        self._spans: list[tuple[float, float]] = []
        finalize(self, self.kept.drop, self._owner, self._spans)
        self._over: dict[tuple[Night, ...], dict[Night, float]] = {}
        self._beyond_s: dict[float, float] = {}
        self._differences: dict[float, float] = {}
        self._quiet: list[QuietInstant] = []
        self._walked = origin.start
        self._given_up = False

    def nbytes(self) -> int:
        """The bytes that it holds beside its forecasts, about."""
        plan, quiet = self.plan, _bytes_of(list(self._quiet))
        named = len(plan.machines) + len(plan.hosts) + len(plan.datastores) + len(plan.jobs)
        return quiet + BYTES_BY_NAME * named + BYTES_OF_A_FORECASTER

    def covers(self, night: Night) -> bool:
        """Whether there can be a forecast of a night."""
        latest = self.origin.date + timedelta(weeks=WEEKS_AHEAD)
        return self.origin.date <= night.date <= latest

    def coming_nights(self, today: date, count: int) -> tuple[Night, ...]:
        """The nights from a date on, so many, as far as they can be forecast."""
        first = max(self.origin.date, today)
        nights = (night_of(first + timedelta(days=i), self.origin.zone) for i in range(count))
        return tuple(night for night in nights if self.covers(night))

    def nights_of_week(self, day: date) -> tuple[Night, ...]:
        """The nights that can be forecast of the week that holds a day; there may be none."""
        return tuple(n for n in week_of(day, self.origin.zone) if self.covers(n))

    def week(self, day: date) -> Week:
        """The week that holds a day.

        Raises:
            OutOfReach: where no night of it can be forecast.
        """
        nights = self.nights_of_week(day)
        if not nights:
            raise self._out_of_reach()
        with self._lock:
            if self.base is not None and all(self._agrees(night, nights) for night in nights):
                return self.base.week(day)
            return Week(self._simulated(nights[0], nights[-1].end), nights)

    def night(self, night: Night, *, alone: bool = False) -> Forecast:
        """A forecast that holds a night whole, and may hold no other so.

        Args:
            alone: simulate only what is due up to the end of this night, and not of its week.

        Raises:
            OutOfReach: for a night before the first or too far after it.
        """
        if not self.covers(night):
            raise self._out_of_reach()
        nights = self.nights_of_week(night.date)
        with self._lock:
            for start, end in list(self._spans):
                if start <= night.start and night.end <= end:
                    known = self.kept.get(self._owner, (start, end))
                    if known is not None:
                        return known
            if self.base is None:
                first = nights[0]
            elif self._agrees(night, nights):
                return self.base.night(night, alone=alone)
            else:
                first = next(n for n in nights if not self._agrees(n, nights))
            return self._simulated(first, night.end if alone else nights[-1].end)

    def first_changed(self, night: Night) -> Night:
        """The first night of the week of a night that may be another than in the base.

        The night itself where none of them is, or where there is no base.
        """
        with self._lock:
            nights = self.nights_of_week(night.date)
            changed = (n for n in nights if self.base is not None and not self._agrees(n, nights))
            return next(changed, night)

    def _out_of_reach(self) -> OutOfReach:
        return OutOfReach(
            f"Forecasts begin with the night of {self.origin.date} "
            f"and reach {WEEKS_AHEAD} weeks ahead."
        )

    def over_at(self, nights: tuple[Night, ...]) -> dict[Night, float]:
        """The instants at which all that is due in the nights of a week has ended."""
        with self._lock:
            if nights not in self._over:
                self._over[nights] = {night: over_at(self.night(night), night) for night in nights}
            return self._over[nights]

    def beyond_s(self, night: Night) -> float:
        """For how long after a night its runs were followed, as far as that is known."""
        with self._lock:
            return self._beyond_s.get(night.end, 0.0)

    # --- where the plan goes apart from its base ---------------------------------------------

    def _agrees(self, night: Night, nights: tuple[Night, ...]) -> bool:
        """Whether all that is due in a night of a week ends before the plan leaves its base."""
        if self.base is None:
            return False
        over = self.base.over_at(nights)
        differs = self._differs(min(max(over.values()), nights[-1].end + STRIDE_S))
        return over[night] <= differs

    def _differs(self, end: float) -> float:
        """The first instant before `end` at which the plan may differ from its base."""
        if self.base is None:
            return self.origin.start
        for known, first in self._differences.items():
            if end <= known:
                return min(first, end)
        found = first_difference(self.base.plan, self.plan, self.origin.start, end)
        self._differences[end] = found
        return found

    # --- simulating ---------------------------------------------------------------------------

    def _simulated(self, first: Night, end: float) -> Forecast:
        """All that is due from a night's beginning up to `end`."""
        span = (first.start, end)
        known = self.kept.get(self._owner, span)
        if known is not None:
            return known
        from_, points = self._beginning(first.start)
        noons = self._noons(max(from_, self._walked), end)
        guess = 0.0 if self.base is None else self.base._beyond_s.get(end, 0.0)
        forecast = simulate_span(
            self.plan,
            from_,
            end,
            points=points,
            # Of a preview only the last quiet instant is likely to be asked for.
            snapshots_from=noons[-LAST_NOONS:] if self.passing else noons,
            beyond_s=self._beyond_s.get(end, guess),
        )
        self._beyond_s[end] = forecast.until - forecast.to
        self._learn(forecast.quiet, from_, forecast.to, all_of_them=not self.passing)
        if span not in self._spans:
            self._spans.append(span)
        # Quiet instants are kept once, by the plan that they are of.
        forecast = forecast.without_quiet()
        self.kept.put(self._owner, span, forecast)
        return forecast

    def _learn(
        self, quiet: Sequence[QuietInstant], from_: float, to: float, *, all_of_them: bool
    ) -> None:
        """Keep quiet instants of a simulation that is the first to come so far.

        Args:
            from_, to: where the simulation began, and up to where it knows all occurrences.
            all_of_them: or only the last, where the others are not likely to be asked for.
        """
        if from_ <= self._walked < to:
            known = {each.at for each in self._quiet}
            found = [each for each in quiet if each.at not in known and each.at <= to]
            self._quiet.extend(found if all_of_them else found[-1:])
            if self.passing:
                self._given_up |= len(self._quiet) > KEPT_OF_A_PREVIEW
                del self._quiet[:-KEPT_OF_A_PREVIEW]
            self._thin_out()
            self._walked = to

    def _thin_out(self) -> None:
        """Give up quiet instants that stand close to others, until all do not take too much."""
        self._quiet.sort(key=lambda quiet: quiet.at)
        while len(self._quiet) > 2 and _bytes_of(self._quiet) > MOST_BYTES_OF_QUIET:
            at = [self.origin.start, *(quiet.at for quiet in self._quiet)]
            # The last one stays: what comes next is simulated from there.
            least = min(range(len(at) - 2), key=lambda i: at[i + 2] - at[i])
            del self._quiet[least]
            self._given_up = True

    def _noons(self, from_: float, to: float) -> list[float]:
        """The instants from which on a quiet one is looked for."""
        noons = []
        night = night_at(from_, self.origin.zone)
        while night.start < to + HOUR:
            noons.append(night.start - QUIET_BEFORE_S)
            night = night_at(night.end + HOUR, night.zone)
        return [noon for noon in noons if noon > from_]

    def _beginning(self, instant: float) -> tuple[float, Snapshot]:
        """The last quiet instant up to another, with its points; the first night's beginning else.

        The plan is played forward as far as it has to be to know.
        """
        with self._lock:
            last = self._last_quiet(instant)[0]
            if self._given_up and instant - last > 2 * STRIDE_S:
                # What lay between may have been given up: it is walked again in strides.
                self._walked = min(self._walked, last)
            if self.base is not None:
                differs = self._differs(instant)
                # The first night begins with the points of the plan's own state: an edit may have
                # had them come to other jobs, or may number the jobs otherwise.
                if differs >= instant > self.origin.start:
                    return self.base._beginning(instant)
                if self._walked < differs:
                    # Up to there the quiet instants are those of the base.
                    at, points = self.base._beginning(differs)
                    if at > self.origin.start:
                        self._quiet.append(QuietInstant(at, points))
                    self._walked = max(self._walked, at)
            stride = STRIDE_S
            while self._walked < instant:
                at, points = self._last_quiet(instant)
                to = min(instant, max(self._walked, at) + stride)
                noons = self._noons(max(at, self._walked), to)[-LAST_NOONS:]
                quiet = quiet_instants(self.plan, at, to, points, noons)
                self._learn(quiet, at, to, all_of_them=False)
                # Where nothing is quiet, all begins anew each time, so ever longer steps are taken.
                # Else short ones will do, as a long simulation takes much memory.
                stride = STRIDE_S if self._last_quiet(instant)[0] > at else 2 * stride
            return self._last_quiet(instant)

    def _last_quiet(self, instant: float) -> tuple[float, Snapshot]:
        fitting = [quiet for quiet in self._quiet if quiet.at <= instant]
        if not fitting:
            return self.origin.start, snapshot_of_state(self.plan)
        last = max(fitting, key=lambda quiet: quiet.at)
        return last.at, last.points

    def start_of(self, night: Night) -> tuple[float, Snapshot]:
        """Where a simulation of what comes from a night on may begin, and the points there.

        The last quiet instant up to the night's beginning, or the first night's beginning.

        Raises:
            OutOfReach: for a night before the first or too far after it.
        """
        if not self.covers(night):
            raise self._out_of_reach()
        return self._beginning(night.start)
