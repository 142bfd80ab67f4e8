"""Where there is room for a run of a job: its end for every start of a night, each simulated."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from gambrel.core.nights.nights import (
    TROUBLE,
    Night,
    NightOutcome,
    Verdict,
    night_outcome,
    run_verdict,
    week_of,
)
from gambrel.core.plan.objects import Job, Kind, Plan, RuleSchedule
from gambrel.core.schedules.calendars import instant_of, job_occurrences, local_of
from gambrel.core.simulation.forecast import Forecast, Run
from gambrel.core.units import DAY, HOUR, MINUTE, SAME_INSTANT
from gambrel.core.words import duration, moment

Play = Callable[[Plan], Forecast]
"""Simulates a plan over one night."""

STEP_MIN = 30
"""Minutes between the starts that are tried."""
LATER_S = 5 * MINUTE
"""A night that ends this much later counts as unharmed."""


@dataclass(frozen=True, slots=True)
class Start:
    """A start that was tried.

    Attributes:
        end: of the run; None where it was skipped.
        verdict: of the run: over where it misses machines or ends after its window, else that of
            how close it ends to it.
        harms_s: by how much more the night's other runs are over their windows, in seconds; a
            machine that is not done any more counts for an hour.
        left_s: seconds left before its window's end; None without one.
        opens: when its window opens, where it is closed at this start: the run only waits then.
        rank: smaller is better.
        why: in words.
    """

    at: float
    local: datetime
    end: float | None
    length_s: float
    verdict: Verdict
    harms_s: float
    left_s: float | None
    opens: float | None
    rank: float
    why: str


def _only_at(kind: Kind, zone: str, instants: Iterable[float]) -> RuleSchedule:
    """A schedule that occurs at some instants: its rule has one date, long ago."""
    return RuleSchedule(
        kind=kind,
        rrule="FREQ=DAILY;COUNT=1",
        start=datetime(2000, 1, 1),
        time_zone=zone,
        extra=tuple(local_of(instant, ZoneInfo(zone)) for instant in instants),
    )


KEPT_BEFORE_S, KEPT_AFTER_S = 62 * DAY, 40 * DAY
"""How far around a simulation the job's other runs are written down."""


def run_at(
    plan: Plan,
    job: Job,
    kind: Kind,
    night: Night,
    at: float | None,
    *,
    from_: float | None = None,
    own: Sequence[float] = (),
) -> Plan:
    """The plan with one run of a job at an instant of a night, in place of its own that night.

    A full also stands for the fulls that the job has on the other nights of that week. All its
    other runs stay what they are.

    Args:
        at: UTC seconds; None: the job does not run that night.
        from_: where simulations of this plan begin; the night's week where it is not said.
        own: of a job that follows another, the occurrences that it has.
    """
    week = week_of(night.date, night.zone)
    begins = week[0].start if from_ is None else from_
    first, last = begins - KEPT_BEFORE_S, week[-1].end + KEPT_AFTER_S
    found = job_occurrences(job, plan.calendar_by_id, first, last)
    kept: dict[int, list[float]] = {}
    for instant, of_kind, position in found:
        same_night = night.holds(instant)
        same_full = of_kind == "full" == kind and week[0].start <= instant < week[-1].end
        if not (same_night or same_full):
            kept.setdefault(position, []).append(instant)
    # Every schedule keeps its place, so that runs which stay are the same runs.
    schedules = [
        _only_at(s.kind, s.time_zone, kept.get(i, ())) for i, s in enumerate(job.schedules)
    ]
    if own:
        others = [instant for instant in own if not night.holds(instant)]
        schedules.append(_only_at("incremental", night.zone, others))
    if at is not None:
        zone = job.schedules[0].time_zone if job.schedules else night.zone
        schedules.append(_only_at(kind, zone, [at]))
    moved = replace(job, schedules=tuple(schedules), after=None, on_hold=False, hold_until=None)
    return replace(plan, jobs=tuple(moved if j.id == job.id else j for j in plan.jobs))


def _own_run(forecast: Forecast, job: Job, at: float) -> Run | None:
    return next(
        (r for r in forecast.runs if r.job == job.id and abs(r.occurrence - at) < 1.0), None
    )


def _trouble(outcome: NightOutcome, job: Job) -> float:
    """What is wrong with the other jobs of a night, in seconds."""
    found = 0.0
    for reason in outcome.reasons:
        if reason.job == job.id:
            continue
        if reason.kind == "over the window":
            found += reason.seconds or 0.0
        elif reason.kind in TROUBLE:
            found += reason.machines * HOUR
    return found


def _judged(run: Run) -> tuple[Verdict, float | None]:
    left = None
    if run.window_end is not None and run.ended is not None:
        left = run.window_end - run.ended
    return "over" if run.outcome == "skipped" else run_verdict(run), left


def _opens_later(run: Run) -> float | None:
    opens = run.window_opens
    return opens if opens is not None and opens > run.occurrence + SAME_INSTANT else None


def _words(run: Run, left: float | None, harms: float, zone: str) -> str:
    if run.ended is None or run.outcome == "skipped":
        return "its run before that is still going"
    opens = _opens_later(run)
    waits = [] if opens is None else [f"waits for its window until {moment(opens, zone)}"]
    said = [*waits, f"ends {moment(run.ended, zone)}, after {duration(run.ended - run.occurrence)}"]
    missed = sum(run.outcomes[name] for name in TROUBLE)
    if missed:
        said.append(f"{missed} machines not backed up")
    if run.over_s > SAME_INSTANT:
        said.append(f"{duration(run.over_s)} late")
    elif left is not None:
        said.append(f"{duration(left)} before its window ends")
    said.append("delays no other job" if harms <= 0 else f"delays others by {duration(harms)}")
    return "; ".join(said)


def _rank(run: Run, verdict: Verdict, harms: float, left: float | None) -> float:
    """Verdict first, then harm to others, then how long it takes, then how much is left."""
    grade = ("fits", "tight", "over").index(verdict)
    length = 0.0 if run.ended is None else run.ended - run.occurrence
    spare = min(left or 0.0, 4 * HOUR) if left is not None else 4 * HOUR
    return grade * 1e7 + min(harms, 9e5) * 10 + max(run.over_s, 0.0) * 10 + length - 0.25 * spare


def starts_of(night: Night, zone: str, step_min: int = STEP_MIN) -> Iterator[float]:
    """The instants of a night that are tried, by the wall clock, each once."""
    place = ZoneInfo(zone)
    local = local_of(night.start, place)
    last = None
    while True:
        at = instant_of(local, place)
        if at >= night.end - SAME_INSTANT:
            return
        if at != last:
            yield at
        last = at
        local += timedelta(minutes=step_min)


def room(
    plan: Plan,
    job: Job,
    kind: Kind,
    night: Night,
    play: Play,
    *,
    from_: float,
    own: Sequence[float] = (),
    step_min: int = STEP_MIN,
) -> Iterator[Start]:
    """A run of a job at every start of a night, the other jobs as they are.

    Args:
        play: simulates a plan from `from_` on; its forecast holds the night whole.
        from_: an instant up to which the plans that are simulated are the same.
        own: of a job that follows another, the occurrences that it has from `from_` on.
    """
    zone = job.schedules[0].time_zone if job.schedules else night.zone
    empty = run_at(plan, job, kind, night, None, from_=from_, own=own)
    before = _trouble(night_outcome(play(empty), night), job)
    for at in starts_of(night, zone, step_min):
        forecast = play(run_at(plan, job, kind, night, at, from_=from_, own=own))
        run = _own_run(forecast, job, at)
        if run is None:
            continue
        verdict, left = _judged(run)
        harms = _trouble(night_outcome(forecast, night), job) - before
        harms = harms if harms > LATER_S else 0.0
        length = 0.0 if run.ended is None else run.ended - run.occurrence
        yield Start(
            at=at,
            local=local_of(at, ZoneInfo(zone)),
            end=run.ended,
            length_s=length,
            verdict="over" if harms > 0 else verdict,
            harms_s=harms,
            left_s=left,
            opens=_opens_later(run),
            rank=_rank(run, "over" if harms > 0 else verdict, harms, left),
            why=_words(run, left, harms, zone),
        )
