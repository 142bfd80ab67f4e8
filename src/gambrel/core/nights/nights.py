"""Nights, their verdicts, and what is behind them (section 13)."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, time, timedelta
from functools import lru_cache
from typing import Literal
from zoneinfo import ZoneInfo

from gambrel.core.loads.load_series import fullest_pool
from gambrel.core.model.job_windows import window_of
from gambrel.core.plan.objects import Plan
from gambrel.core.schedules.calendars import instant_of, local_of, window_span
from gambrel.core.simulation.forecast import Forecast, Run
from gambrel.core.units import HOUR, MINUTE, SAME_INSTANT

Verdict = Literal["fits", "tight", "over"]
GRADES: tuple[Verdict, ...] = ("over", "tight", "fits")
"""The verdicts, the worst first."""
ReasonKind = Literal[
    "over the window", "missed", "cut off", "no path", "close to the end", "skipped", "RPO breaks"
]

TROUBLE: tuple[Literal["missed", "cut off", "no path"], ...] = ("missed", "cut off", "no path")
"""Outcomes of machine-runs that make a night over."""
TIGHT_MARGIN_S = 45 * MINUTE
"""A run that ends less than this before its window's end makes its night tight."""


@dataclass(frozen=True, slots=True)
class Night:
    """Noon to noon in a zone, named by the day on which it begins."""

    date: date
    zone: str
    start: float
    end: float

    def holds(self, instant: float) -> bool:
        return self.start - SAME_INSTANT <= instant < self.end - SAME_INSTANT


@dataclass(frozen=True, slots=True)
class Reason:
    """Why a night is not simply fine: what, by which job or machine, how much, and what squeezes.

    The times are those of the machine of the run that ended last: how long it waited to start, how
    long its disks moved, how long release, transform and verify took after that.

    Attributes:
        runs: how many runs of the job it concerns.
        machines: how many machines it concerns.
        occurrence: of the first of these runs; for an RPO the instant at which it breaks.
        seconds: over the window, or left before its end; None where time is not the matter.
        squeeze: the resource that limited the run's disks longest; None where nothing moved.
        squeeze_s: for how long, over all its disks.
        waited_for: the slot pool that was full longest while it waited; None if none was.
    """

    kind: ReasonKind
    job: str | None
    machine: str | None
    occurrence: float
    runs: int = 1
    machines: int = 0
    seconds: float | None = None
    squeeze: str | None = None
    squeeze_s: float = 0.0
    waited_for: str | None = None
    waited_s: float = 0.0
    moving_s: float = 0.0
    finishing_s: float = 0.0


@dataclass(frozen=True, slots=True)
class NightOutcome:
    """What a forecast says of one night.

    Attributes:
        last_end: when the last run that has a window ended; with no such run, the last of all.
        over_s: the most that a run ended after its window.
        missed: machine-runs that did not get done.
    """

    night: Night
    verdict: Verdict
    last_end: float | None
    over_s: float
    runs: int
    missed: int
    reasons: tuple[Reason, ...]


QUARTER_S = 15 * MINUTE


@lru_cache(maxsize=4096)
def night_of(day: date, zone: str) -> Night:
    """The night that begins on a day."""
    place = ZoneInfo(zone)
    noon = time(12)
    following = datetime.combine(day + timedelta(days=1), noon)
    start = instant_of(datetime.combine(day, noon), place)
    return Night(day, zone, start, instant_of(following, place))


def night_at(instant: float, zone: str) -> Night:
    """The night to which an instant belongs."""
    return _night_of_quarter(int(instant // QUARTER_S), zone)


@lru_cache(maxsize=16384)
def _night_of_quarter(quarter: int, zone: str) -> Night:
    """The night of a quarter of an hour: noon is at the beginning of one in every zone in use."""
    local = local_of(quarter * QUARTER_S, ZoneInfo(zone))
    day = local.date() if local.hour >= 12 else local.date() - timedelta(days=1)
    return night_of(day, zone)


def week_of(day: date, zone: str) -> list[Night]:
    """The seven nights, Monday to Sunday, of the week that holds a day."""
    monday = day - timedelta(days=day.weekday())
    return [night_of(monday + timedelta(days=i), zone) for i in range(7)]


def planner_zone(plan: Plan) -> str:
    """The zone in which nights are counted: that of the first site."""
    return plan.sites[0].time_zone if plan.sites else "UTC"


def today_of(plan: Plan, now: datetime) -> date:
    """The date that it is at an instant where a plan's nights are counted."""
    return now.astimezone(ZoneInfo(planner_zone(plan))).date()


def walls(plan: Plan, night: Night, jobs: Iterable[str]) -> tuple[float, float] | None:
    """From when to when the windows of some jobs are open that night, all together."""
    found = (window_of(plan, plan.job_by_id[job]) for job in jobs)
    used = {window.id: window for window in found if window is not None}
    spans = []
    for window in used.values():
        span = window_span(window, night.start)
        if span is not None and span.opens < night.end:
            spans.append(span)
    if not spans:
        return None
    closes = min(max(span.closes for span in spans), night.end)
    return min(span.opens for span in spans), closes


def chief_squeeze(seconds: Mapping[str, float]) -> tuple[str | None, float]:
    """What limited a run's disks longest (the streams' own ceiling only if nothing else did)."""
    shared = {name: value for name, value in seconds.items() if name != "transport"} or seconds
    if not shared:
        return None, 0.0
    name = max(shared, key=lambda key: shared[key])
    return name, shared[name]


def waited_for(forecast: Forecast, run: Run, until: float) -> str | None:
    """The pool whose slots were all taken for the longest part of a run's wait."""
    position = forecast.plan.job_position[run.job]
    start = run.occurrence if run.window_opens is None else run.window_opens
    return fullest_pool(forecast, position, start, until) if until > start else None


def _reason(
    forecast: Forecast,
    kind: ReasonKind,
    run: Run,
    *,
    seconds: float | None = None,
    machines: int = 0,
) -> Reason:
    totals = run.totals()
    squeeze, squeeze_s = chief_squeeze(totals.squeeze_s)
    reason = Reason(kind, run.job, None, run.occurrence, 1, machines, seconds, squeeze, squeeze_s)
    if kind == "skipped":
        return reason
    start, moved, ended = totals.last or (run.ended, None, run.ended)
    assert start is not None and ended is not None
    reason = replace(
        reason,
        waited_s=max(0.0, start - run.occurrence),
        waited_for=waited_for(forecast, run, start),
    )
    if moved is None:
        return reason
    return replace(reason, moving_s=moved - start, finishing_s=ended - moved)


def _run_reasons(forecast: Forecast, run: Run, margin: float) -> Iterable[tuple[Verdict, Reason]]:
    if run.over_s > SAME_INSTANT:
        yield "over", _reason(forecast, "over the window", run, seconds=run.over_s)
    for outcome in TROUBLE:
        count = run.outcomes[outcome]
        if count:
            yield "over", _reason(forecast, outcome, run, machines=count)
    if run.outcome == "skipped":
        yield "tight", _reason(forecast, "skipped", run)
    if run.window_end is not None and run.ended is not None and run.over_s <= SAME_INSTANT:
        left = run.window_end - run.ended
        if run.outcome in ("done", "incomplete") and left < margin - SAME_INSTANT:
            yield "tight", _reason(forecast, "close to the end", run, seconds=left)


def _rpo_breaks(forecast: Forecast) -> list[tuple[float, str]]:
    """(instant, machine) at which the exposure of a machine passes its RPO."""
    found: list[tuple[float, str]] = []
    for place, machine in enumerate(forecast.plan.machines):
        # Whoever was never exposed for longer than the RPO did not break it either. Exposures are
        # made only once somebody has an RPO.
        if machine.rpo_hours is None or forecast.exposure[place].rpo_met is not False:
            continue
        newest = forecast.newest_points[machine.id]
        for i, point in enumerate(newest):
            breaks = point.at + machine.rpo_hours * HOUR
            until = newest[i + 1].exists_from if i + 1 < len(newest) else forecast.to
            if until > breaks + SAME_INSTANT:
                found.append((breaks, machine.id))
    return found


def _rpo_reasons(forecast: Forecast, night: Night) -> Iterable[tuple[Verdict, Reason]]:
    """An RPO breaks in a night when the exposure passes it at an instant of that night."""
    for breaks, machine in forecast.once("RPO breaks", lambda: _rpo_breaks(forecast)):
        if night.holds(breaks):
            yield "tight", Reason("RPO breaks", None, machine, breaks, machines=1)


def _grouped(found: Iterable[tuple[Verdict, Reason]]) -> list[tuple[Verdict, Reason]]:
    """Several runs of a job with the same trouble are one reason, told by the worst of them."""
    groups: dict[tuple[str, str | None, str | None], list[tuple[Verdict, Reason]]] = {}
    for grade, reason in found:
        groups.setdefault((reason.kind, reason.job, reason.machine), []).append((grade, reason))
    result = []
    for members in groups.values():
        grade, worst = max(members, key=lambda item: _weight(item[1]))
        machines = sum(reason.machines for _, reason in members)
        result.append((grade, replace(worst, runs=len(members), machines=machines)))
    return result


def runs_of(forecast: Forecast, night: Night) -> Sequence[Run]:
    """The runs whose occurrence falls into a night; the forecast has them in that order."""
    first, last = (
        bisect_left(forecast.runs, at - SAME_INSTANT, key=_occurrence)
        for at in (night.start, night.end)
    )
    return forecast.runs[first:last]


def _occurrence(run: Run) -> float:
    return run.occurrence


def _is_fine(run: Run, margin: float) -> bool:
    """Whether nothing at all speaks against a run, as is so of nearly all of them."""
    if run.outcome != "done" or run.over_s > SAME_INSTANT or run.ended is None:
        return False
    return run.window_end is None or run.window_end - run.ended >= margin - SAME_INSTANT


def run_verdict(run: Run, *, margin: float = TIGHT_MARGIN_S) -> Verdict:
    """The verdict of one run: over where something is not done in time, tight where nearly so."""
    undone = any(run.outcomes[outcome] for outcome in TROUBLE)
    if undone or run.outcome == "missed" or run.over_s > SAME_INSTANT:
        return "over"
    if run.outcome == "skipped":
        return "tight"
    if run.window_end is not None and run.ended is not None:
        return "tight" if run.window_end - run.ended < margin - SAME_INSTANT else "fits"
    return "fits"


def worst(verdicts: Iterable[Verdict]) -> Verdict:
    """The worst of some verdicts; of none "fits"."""
    return min(verdicts, key=GRADES.index, default="fits")


def not_done(run: Run) -> int:
    """The machine-runs of a run that were missed, cut off or had no path."""
    return sum(run.outcomes[outcome] for outcome in TROUBLE)


def night_outcome(
    forecast: Forecast, night: Night, *, margin: float = TIGHT_MARGIN_S
) -> NightOutcome:
    """The verdict of a night and everything that speaks against it, the gravest first."""
    runs = runs_of(forecast, night)
    troubled = [run for run in runs if not _is_fine(run, margin)]
    reasons = [reason for run in troubled for reason in _run_reasons(forecast, run, margin)]
    found = _grouped([*reasons, *_rpo_reasons(forecast, night)])
    verdict = worst(grade for grade, _ in found)
    found.sort(key=lambda item: (GRADES.index(item[0]), -_weight(item[1])))
    return NightOutcome(
        night=night,
        verdict=verdict,
        last_end=_last_end(runs),
        over_s=max((run.over_s for run in runs), default=0.0),
        runs=len(runs),
        missed=sum(map(not_done, troubled)),
        reasons=tuple(reason for _, reason in found),
    )


def _last_end(runs: Iterable[Run]) -> float | None:
    ended = [run for run in runs if run.ended is not None]
    bound = [run for run in ended if run.window_end is not None] or ended
    return max((run.ended for run in bound if run.ended is not None), default=None)


def _weight(reason: Reason) -> float:
    if reason.kind == "over the window":
        return 1e9 + (reason.seconds or 0.0)
    return reason.machines * HOUR - (reason.seconds or 0.0)
