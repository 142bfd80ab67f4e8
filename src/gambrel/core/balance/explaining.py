"""A proposal in words: what each move is for, what it does on its own, what the nights become."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date as day_of_calendar

from gambrel.core.balance.bound import Bound
from gambrel.core.balance.move_costs import cost_of
from gambrel.core.balance.moves import Aspect, Candidate, plan_of, split_days
from gambrel.core.balance.objective import Evaluator, Score
from gambrel.core.balance.problem import Problem
from gambrel.core.edits.item_edits import ChangeItem
from gambrel.core.edits.operations import MoveFull, MoveStart, Operation, SetProxies
from gambrel.core.edits.splitting import SplitJob
from gambrel.core.loads.load_series import load_names
from gambrel.core.loads.night_loads import loads_in_spans
from gambrel.core.nights.nights import Verdict, night_outcome, runs_of
from gambrel.core.plan.objects import Plan
from gambrel.core.simulation.engine.array_forecast import forecast_of
from gambrel.core.simulation.forecast import Forecast, Run
from gambrel.core.units import HOUR, MINUTE
from gambrel.core.words import count, duration, load_label

DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
WORTH_TELLING_S = 5 * MINUTE


@dataclass(frozen=True, slots=True)
class NightTold:
    """What becomes of a night.

    Attributes:
        date: "YYYY-MM-DD".
        over_s: the most that a run ends after its window.
        lost: machine-runs that are not done.
        skipped: runs that are skipped.
        fulls: (job, kind as scheduled) of its full runs, by job id.
        full_loads: (load, seconds it is full while somebody waits, the jobs that read through it
            or wait there), the longest first.
        late: (job, seconds from its window's end to its end) of runs that end past it, or sooner
            before it than the margin (then below 0), the latest first.
    """

    date: str
    verdict: Verdict
    last_end: float | None
    over_s: float
    lost: int
    skipped: int
    fulls: tuple[str, ...]
    full_loads: tuple[tuple[str, float, frozenset[str]], ...]
    late: tuple[tuple[str, float], ...]


@dataclass(frozen=True, slots=True)
class PlanTold:
    """A simulated plan, as far as a proposal tells of it.

    Attributes:
        strained: the load with most strain, "" where there is none.
    """

    score: Score
    nights: tuple[NightTold, ...]
    strained: str


@dataclass(frozen=True, slots=True)
class Move:
    """One proposed change.

    Attributes:
        turn: its place among the moves of the proposal in the order in which they are applied.
            Moves need not commute: a start that passes midnight takes its weekdays along.
        operation: what a draft would hold.
        words: what it does.
        reason: why it was proposed.
        cost: of protection, in a sentence; "" for none.
        brings: what is lost without it, one line for each thing; empty where it brings nothing
            but strain, or nothing without the others.
        without: the score of the proposal without it; None where that has not been worked out.
    """

    operation: Operation
    turn: int
    words: str
    reason: str
    cost: str
    brings: tuple[str, ...]
    without: Score | None


@dataclass(frozen=True, slots=True)
class Proposal:
    """What a search proposes, its moves in order of gain; they are applied by their turns."""

    before: PlanTold
    after: PlanTold
    moves: tuple[Move, ...]
    bound: Bound


EXPLAINED_AT_ONCE = 4
"""Moves that are judged together; few, so that somebody who waits can have it ended."""

Tell = Callable[[Sequence[Candidate]], Sequence[PlanTold]]
"""Simulates candidates and tells of them, wherever it does that."""


def tell(problem: Problem, candidate: Candidate) -> PlanTold:
    """Simulate a candidate as a draft of it would be, and tell of it."""
    evaluator = Evaluator(problem)
    walk = evaluator.walk(plan_of(problem, candidate), from_first=True)
    by_load = evaluator.strains(walk)
    worst = max(by_load, key=lambda name: by_load[name], default="")
    strained = worst if worst and by_load[worst] > 0 else ""
    return PlanTold(evaluator.score_of(walk), _nights(problem, forecast_of(walk)), strained)


def _nights(problem: Problem, forecast: Forecast) -> tuple[NightTold, ...]:
    told = []
    nights = problem.nights
    spans = [(night.start, night.end) for night in nights]
    by_night = loads_in_spans(forecast, load_names(forecast.plan), spans, 1)
    for i, night in enumerate(nights):
        outcome = night_outcome(forecast, night, margin=problem.margin_s)
        runs = runs_of(forecast, night)
        full = [
            (load.name, load.full_s, frozenset((*load.reading_jobs, *load.waiting_jobs)))
            for load in by_night[i]
            if load.full_s > 0 and load.waiters.any()
        ]
        told.append(
            NightTold(
                date=night.date.isoformat(),
                verdict=outcome.verdict,
                last_end=outcome.last_end,
                over_s=outcome.over_s,
                lost=outcome.missed,
                skipped=sum(1 for run in runs if run.outcome == "skipped"),
                fulls=tuple(sorted(run.job for run in runs if run.kind == "full")),
                full_loads=tuple(sorted(full, key=lambda entry: -entry[1])),
                late=_late(runs, problem.margin_s),
            )
        )
    return tuple(told)


def _late(runs: Iterable[Run], margin: float) -> tuple[tuple[str, float], ...]:
    found: dict[str, float] = {}
    for run in runs:
        if run.ended is not None and run.window_end is not None and any(run.outcomes.values()):
            past = run.ended - run.window_end
            if past > -margin:
                found[run.job] = max(found.get(run.job, -margin), past)
    return tuple(sorted(found.items(), key=lambda entry: -entry[1]))


def outline(
    problem: Problem, candidate: Candidate, limits: Bound, before: PlanTold, after: PlanTold
) -> Proposal:
    """A proposal from a candidate of a search, as yet without what each move brings.

    Args:
        before, after: what becomes of the week as it is, and with the candidate.
    """
    moves = []
    plan = problem.plan
    for turn, (aspect, operation) in enumerate(candidate.choices):
        # A start of a full that moves to another night is told as it will be.
        words = _words(plan, aspect, operation)
        cost = cost_of(plan, aspect, operation)
        plan = operation.apply(plan)
        reason = _reason(problem, before, candidate, aspect, operation)
        moves.append(Move(operation, turn, words, reason, cost, (), None))
    return Proposal(before, after, tuple(moves), limits)


def explained(
    problem: Problem,
    candidate: Candidate,
    proposal: Proposal,
    tell_all: Tell,
    enough: Callable[[], bool] = lambda: False,
) -> Proposal:
    """A proposal with what each move brings: judged by the proposal without it.

    Each takes one more simulation. The move that the plan would miss most comes first; moves that
    there was no time to judge come last.

    Args:
        candidate: that the proposal was made of.
        enough: asked now and then; the moves that are left then are not judged.
    """
    moves = list(proposal.moves)
    for begin in range(0, len(moves), EXPLAINED_AT_ONCE):
        if enough():
            break
        chunk = candidate.choices[begin : begin + EXPLAINED_AT_ONCE]
        others = tell_all([candidate.with_choice(aspect, None) for aspect, _ in chunk])
        for turn, other in enumerate(others, begin):
            brings = brought(problem, proposal.after, other)
            moves[turn] = replace(moves[turn], brings=brings, without=other.score)

    def loss(move: Move) -> tuple[float, ...]:
        return () if move.without is None else move.without.grades

    return replace(proposal, moves=tuple(sorted(moves, key=loss, reverse=True)))


def explain(
    problem: Problem,
    candidate: Candidate,
    tell_all: Tell,
    limits: Bound,
    before: PlanTold,
    after: PlanTold,
) -> Proposal:
    """A proposal from a candidate of a search, with what each move brings."""
    outlined = outline(problem, candidate, limits, before, after)
    return explained(problem, candidate, outlined, tell_all)


def _words(plan: Plan, aspect: Aspect, operation: Operation) -> str:
    job, kind, _ = aspect
    name = plan.job_by_id[job].name
    if isinstance(operation, ChangeItem):
        value = next(iter(operation.changes.values()))
        if kind == "spread":
            return f"{name}: fulls spread over {value} days by machine"
        if kind == "order":
            return f"{name}: the {value} machines first"
        if kind == "streams":
            streams = "any number of streams" if value is None else count(value, "stream")
            return f"{name}: {streams} at once"
        if kind == "repository":
            return f"{name}: into {value}"
        if kind == "synthetic":
            return f"{name}: fulls made in the repository"
        if kind == "chain" and value == "forever":
            return f"{name}: one full for ever, and increments alone from then on"
        if kind == "chain":
            return f"{name}: increments in place of differentials"
    return operation.describe(plan)


# --- why --------------------------------------------------------------------------------------


def night_name(night: NightTold, nights: Sequence[NightTold]) -> str:
    """The weekday of a night; with its date where there are several of that name."""
    day = day_name(night.date)
    if len(nights) <= len(DAYS):
        return day
    return f"{day} {day_of_calendar.fromisoformat(night.date):%-d %b}"


def day_name(date: str) -> str:
    """The weekday of "YYYY-MM-DD"."""
    return DAYS[day_of_calendar.fromisoformat(date).weekday()]


def _full_nights(told: PlanTold, job: str) -> list[NightTold]:
    return [night for night in told.nights if job in night.fulls]


def _reason(
    problem: Problem, before: PlanTold, candidate: Candidate, aspect: Aspect, operation: Operation
) -> str:
    job, kind, _ = aspect
    plan = problem.plan
    own = _full_nights(before, job)
    troubled = [night for night in before.nights if night.verdict != "fits"] or list(before.nights)
    at = next((night for night in own if night in troubled), own[0] if own else troubled[0])
    tight, day = _tightness(plan, at, job), night_name(at, before.nights)
    if isinstance(operation, MoveFull):
        target = _moved_to(before, at, operation.days)
        there = (
            "" if target is None else f"; {night_name(target, before.nights)} has {_fulls(target)}"
        )
        also = f", and {tight}" if tight else ""
        return f"{day} has {_fulls(at)}{also}{there}."
    if isinstance(operation, SplitJob):
        own_days = sum(
            other.days
            for (name, *_), other in candidate.choices
            if name == job and isinstance(other, MoveFull)
        )
        target = _moved_to(before, at, own_days + (split_days(operation) or 0))
        there = "" if target is None else f" on {night_name(target, before.nights)}"
        what = f", and {tight}" if tight else ""
        return f"{day} has {_fulls(at)}{what}; half of this one can be made{there}."
    if isinstance(operation, MoveStart):
        moved = any(kind == "night" for (other, kind, _), _ in candidate.choices if other == job)
        late = None if moved else dict(at.late).get(job)
        if late is not None and late > 0:
            return f"On {day} it ends {duration(late)} late."
        if moved:
            return f"In its new night it needs the time from {operation.start_time} on."
        if late is not None:
            return f"On {day} it ends only {duration(-late)} before its window does."
        what = f"{day} is {at.verdict}" + (f", {tight}" if tight else "")
        return f"{what}. From {operation.start_time} on there is more room, for it or for others."
    if isinstance(operation, SetProxies):
        others = " and ".join(operation.proxies or ()) or "other proxies"
        when = f"On {day} {tight}; " if tight else f"{day} is {at.verdict}; "
        return f"{when}{others} can read it."
    if kind == "spread":
        return f"Its fulls all fall on {day}{', when ' + tight if tight else ''}."
    if kind == "order":
        return "What takes longest ends last; begun in another order it ends earlier."
    if kind == "synthetic":
        return "Its fulls would read only what changed; the repository makes the rest."
    if isinstance(operation, ChangeItem) and operation.changes.get("chain") == "forever":
        return "Without fulls it reads only what changed."
    return f"On {day} {tight}." if tight else f"{day} is {at.verdict}."


def _tightness(plan: Plan, night: NightTold, job: str) -> str:
    """What is full longest, of all that a job itself goes through or waits for; "" for nothing."""
    own = ((name, seconds) for name, seconds, jobs in night.full_loads if job in jobs)
    name, seconds = next(own, ("", 0.0))
    if not name:
        return ""
    label = load_label(plan, name)
    return f"{label[0].lower() + label[1:]} is full for {duration(seconds)}"


def _fulls(night: NightTold) -> str:
    return "no full" if not night.fulls else count(len(night.fulls), "full")


def _moved_to(before: PlanTold, at: NightTold, days: int) -> NightTold | None:
    place = before.nights.index(at) + days
    if not 0 <= place < len(before.nights):
        place = (before.nights.index(at) + days) % 7
    return before.nights[place] if place < len(before.nights) else None


# --- what it brings ---------------------------------------------------------------------------


def brought(problem: Problem, after: PlanTold, without: PlanTold) -> tuple[str, ...]:
    """What is better in one plan than in another, night by night, the gravest first."""
    lines = []
    for with_it, other in zip(after.nights, without.nights, strict=True):
        day = night_name(other, after.nights)
        if other.lost > with_it.lost:
            lines.append((3e6, f"{day}: {count(other.lost - with_it.lost, 'machine')} more done"))
        past = other.over_s - with_it.over_s
        if past > MINUTE:
            lines.append((2e6 + past, f"{day}: {duration(past)} less late"))
        if other.skipped > with_it.skipped:
            runs = count(other.skipped - with_it.skipped, "run")
            lines.append((1e6, f"{day}: {runs} fewer skipped"))
        if other.verdict == "tight" and with_it.verdict == "fits" and not past > MINUTE:
            lines.append((5e5, f"{day} fits and is not tight"))
        if other.last_end is not None and with_it.last_end is not None:
            sooner = other.last_end - with_it.last_end
            if sooner > WORTH_TELLING_S:
                lines.append((sooner, f"{day} ends {duration(sooner)} earlier"))
    strain = without.score.strain_s - after.score.strain_s
    if strain > WORTH_TELLING_S:
        name = (
            load_label(problem.plan, without.strained) if without.strained else "The fullest load"
        )
        hours = f"{duration(strain)} of full load" if strain < 100 * HOUR else "much"
        lines.append(
            (0.0, f"{name}: {hours} less above {problem.comfort:.0%}".replace("%", "\u00a0%"))
        )
    return tuple(words for _, words in sorted(lines, key=lambda line: -line[0]))


# --- how far any plan could go ------------------------------------------------------------------


def bound_words(problem: Problem, limits: Bound) -> str:
    """What no arrangement can go below, and what is to blame, in a sentence or two."""
    plan = problem.plan
    if limits.lost > 0:
        return (
            "No schedule of these jobs gets everything done: what is due in windows that cut "
            "runs off does not fit into them, or has no path."
        )
    if limits.over_s > 0:
        if limits.longest is not None:
            name = plan.job_by_id[limits.longest].name
            return (
                f"No schedule of these jobs keeps inside the windows: a machine of {name} alone "
                f"takes longer than its window is open."
            )
        return "No schedule of these jobs keeps inside the windows." + _needed(problem, limits)
    return "Everything can fit." + _needed(problem, limits)


def _needed(problem: Problem, limits: Bound) -> str:
    if not limits.peaks:
        return ""
    need = limits.peaks[0]
    label = load_label(problem.plan, need.resource)
    label = label[0].lower() + label[1:]
    day = day_name(problem.nights[need.night].date.isoformat())
    return (
        f" No schedule gets {label} below {need.part * 100:.0f} % of its capacity: "
        f"even spread evenly, it is needed for {duration(need.seconds)} of {day}'s "
        f"{duration(need.open_s)}."
    )
