"""Whether the nights of the months ahead still hold: every night of every month, simulated.

A month begins a week early, from the points that the projection gives for that day, so that what
one night leaves to the next is there; nights of that week do not count. Where machines join or
leave in it, the month begins with its first night, and what they bring counts.
"""

from __future__ import annotations

from calendar import monthrange
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from gambrel.core.model.job_windows import window_id_of
from gambrel.core.nights.nights import (
    Night,
    NightOutcome,
    Reason,
    Verdict,
    night_of,
    night_outcome,
    not_done,
    run_verdict,
    runs_of,
    worst,
)
from gambrel.core.plan.objects import Plan
from gambrel.core.runway.expecting import Expected
from gambrel.core.runway.months import Month
from gambrel.core.runway.projection import project
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.simulation.known_points import Snapshot, snapshot_of_state
from gambrel.core.simulation.simulate import simulate_span
from gambrel.core.units import DAY

WARM_UP_DAYS = 7


@dataclass(frozen=True, slots=True)
class WindowMonth:
    """One window in one month.

    Attributes:
        verdict: of the worst of its nights.
        nights_over: how many of the nights are over.
        first_over: the first of those.
        worst: the night that runs longest over, or lacks most; `over_s`: by how much.
        not_done: machine-runs of all nights that were missed, cut off or had no path.
        reason: what speaks against the worst night most; None where nothing does.
    """

    window: str
    verdict: Verdict
    nights_over: int
    first_over: date | None
    worst: date | None
    over_s: float
    not_done: int
    reason: Reason | None


@dataclass(frozen=True, slots=True)
class MonthAhead:
    """The nights of a month: each window for itself, in the order of the plan."""

    month: Month
    nights: int
    windows: tuple[WindowMonth, ...]

    @property
    def verdict(self) -> Verdict:
        """The worst of all."""
        return worst(window.verdict for window in self.windows)


@dataclass(frozen=True, slots=True)
class Stage:
    """From where a month is simulated: a plan with the points that it has then.

    Attributes:
        nights: those that count.
    """

    plan: Plan
    points: Snapshot
    begins: float
    ends: float
    month: Month
    nights: tuple[Night, ...]

    def play(self, plan: Plan | None = None) -> Forecast:
        """Its nights, simulated; of the plan with other proxies, links and so on where given."""
        return simulate_span(plan or self.plan, self.begins, self.ends, points=self.points)


def stages(
    expected: Expected, from_: float, months: Sequence[Month], zone: str, *, grows: bool = True
) -> Iterator[Stage]:
    """The months in their order, each ready to be simulated.

    Args:
        from_: where the plan's state is, in UTC seconds; no night before it counts.
        grows: whether disks may grow beyond what is provisioned for them.
    """
    at, points = from_, snapshot_of_state(expected.plan)
    turns = sorted(
        {
            instant
            for life in expected.lifetimes.values()
            for instant in (life.since, life.until)
            if abs(instant) < float("inf")
        }
    )
    for month in months:
        nights = _nights_of(month, from_, zone)
        if not nights:
            continue
        first = nights[0].start
        begins = max(from_, night_of(nights[0].date - timedelta(days=WARM_UP_DAYS), zone).start)
        if any(begins - DAY < turn <= first + DAY for turn in turns):
            begins = first
        if begins > at:
            made = project(
                expected.plan, at, begins, points=points, lifetimes=expected.lifetimes,
                provisioned_grows=grows, keep_points=True,
            )  # fmt: skip
            at, points = begins, made.points_at_the_end()
        # As it is when the month ends: what comes in its midst comes at its beginning.
        plan = expected.at(nights[-1].end)
        found = expected.points_for(plan, points)
        yield Stage(plan, found, begins, nights[-1].end, month, nights)


def _nights_of(month: Month, from_: float, zone: str) -> tuple[Night, ...]:
    """The nights whose date is in a month, none before an instant."""
    year, number = map(int, month.name.split("-"))
    days = (date(year, number, day + 1) for day in range(monthrange(year, number)[1]))
    nights = (night_of(day, zone) for day in days)
    return tuple(n for n in nights if n.start >= from_ - 1 and n.start < month.end)


def look_at(stage: Stage, forecast: Forecast) -> MonthAhead:
    """A simulated month."""
    window_by_job = {job.id: window_id_of(stage.plan, job) for job in stage.plan.jobs}
    outcomes = {night.date: night_outcome(forecast, night) for night in stage.nights}
    found = []
    for window in stage.plan.windows:
        mine = [
            (
                night,
                [run for run in runs_of(forecast, night) if window_by_job[run.job] == window.id],
            )
            for night in stage.nights
        ]
        if not any(runs for _, runs in mine):
            continue
        verdicts = [(night, worst(map(run_verdict, runs))) for night, runs in mine]
        over = [night for night, verdict in verdicts if verdict == "over"]
        weights = [
            (max((r.over_s for r in runs), default=0.0), sum(map(not_done, runs)), night)
            for night, runs in mine
        ]
        _, _, shown = max(weights, key=lambda each: (each[1] > 0, each[0], each[1]))
        verdict = worst(v for _, v in verdicts)
        if verdict == "tight":
            shown = next(night for night, v in verdicts if v == "tight")
        found.append(
            WindowMonth(
                window=window.id,
                verdict=verdict,
                nights_over=len(over),
                first_over=over[0].date if over else None,
                worst=None if verdict == "fits" else shown.date,
                over_s=max(each[0] for each in weights),
                not_done=sum(each[1] for each in weights),
                reason=_chief(outcomes[shown.date], window.id, window_by_job)
                if verdict != "fits"
                else None,
            )
        )
    return MonthAhead(stage.month, len(stage.nights), tuple(found))


def _chief(
    outcome: NightOutcome, window: str, window_by_job: Mapping[str, str | None]
) -> Reason | None:
    """The gravest reason of a night that is about a job of a window."""
    mine = (r for r in outcome.reasons if r.job is not None and window_by_job.get(r.job) == window)
    return next(mine, None)


def breaks(found: Sequence[MonthAhead]) -> dict[str, MonthAhead]:
    """By window the first month in which it does not hold any more."""
    first: dict[str, MonthAhead] = {}
    for month in found:
        for window in month.windows:
            if window.verdict == "over":
                first.setdefault(window.window, month)
    return first
