"""The ladder of a search: the best plan for each number of moves, and what each next one buys.

A rung need not hold the moves of the one below it. A rung is on the ladder only where it is better
than every rung below: where more moves buy nothing, the ladder ends.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise

from gambrel.core.balance.bound import Bound
from gambrel.core.balance.explaining import (
    NightTold,
    PlanTold,
    Proposal,
    Tell,
    brought,
    night_name,
    outline,
)
from gambrel.core.balance.moves import Candidate
from gambrel.core.balance.objective import Score
from gambrel.core.balance.problem import Problem
from gambrel.core.balance.search import LARGE
from gambrel.core.balance.search_driver import Outcome
from gambrel.core.nights.nights import GRADES
from gambrel.core.units import MINUTE
from gambrel.core.words import count, duration

SIZES = (1, 2, 3, 5, 8, 12, 20, 30, 50, 80, 120, 200)
"""Numbers of moves that have a rung, beside that of the first plan that fits and of the best."""
MOST_BOUGHT = 3
"""Lines that say what a rung buys."""

Judge = Callable[[Sequence[Candidate]], Sequence[Score]]
"""Scores candidates of a problem, wherever it does that."""


@dataclass(frozen=True, slots=True)
class Rung:
    """A plan of so many moves.

    Attributes:
        reaches: what the worst of it is, such as "Friday 20 min late".
        buys: what is better than on the rung below, the gravest first.
    """

    candidate: Candidate
    proposal: Proposal
    reaches: str
    buys: tuple[str, ...]

    @property
    def told(self) -> PlanTold:
        """What becomes of the week."""
        return self.proposal.after


def chosen(problem: Problem, outcome: Outcome) -> list[Candidate]:
    """The candidates of a search that may become rungs, the fewest moves first.

    Each rung takes a simulation to tell, and one more for each of its moves. So of an estate of
    many machines only the lowest, the first that fits and the best are told.
    """
    found = [c for c in (*reversed(outcome.fewer), outcome.candidate) if len(c)]
    by_size = {len(candidate): candidate for candidate in found}
    # A number between two of these has a rung where the lower one has no plan of its own.
    spans = ([n for n in by_size if low <= n < high] for low, high in pairwise(SIZES))
    sizes = {min(span) for span in spans if span}
    if len(problem.plan.machines) >= LARGE:
        sizes = {min(sizes)} if sizes else set()
    if outcome.first_fit is not None and outcome.first_fit in by_size:
        sizes.add(outcome.first_fit)
    if found:
        sizes.add(len(found[-1]))
    return [by_size[size] for size in sorted(sizes)]


def ladder(
    problem: Problem,
    candidates: Sequence[Candidate],
    tell_all: Tell,
    limits: Bound,
    judge: Judge | None = None,
) -> tuple[PlanTold, tuple[Rung, ...]]:
    """(what becomes of the week as it is, the rungs from the lowest to the highest).

    What each move of a rung brings is not worked out yet; `explained` does that.

    Args:
        candidates: the fewest moves first.
        judge: by what rungs are compared, where that is not the week as told, such as how plans
            do in draws that no search has seen.
    """
    before, *told = tell_all([Candidate(), *candidates])
    scores = [each.score for each in (before, *told)]
    if judge is not None:
        scores = list(judge([Candidate(), *candidates]))
    best, kept = scores[0], list[tuple[Candidate, PlanTold]]()
    for candidate, after, score in zip(candidates, told, scores[1:], strict=True):
        if score.grades < best.grades:
            best = score
            kept.append((candidate, after))
    rungs, below = list[Rung](), before
    for candidate, after in kept:
        proposal = outline(problem, candidate, limits, before, after)
        bought = brought(problem, after, below)[:MOST_BOUGHT] or _a_little(problem, after, below)
        rungs.append(Rung(candidate, proposal, reaches(after), bought))
        below = after
    return before, tuple(rungs)


def _a_little(problem: Problem, after: PlanTold, below: PlanTold) -> tuple[str, ...]:
    """What is better by too little to be told night by night."""
    parts = (
        "fewer machines not done", "fewer RPOs missed", "RPOs missed by less", "a little less late",
        "fewer runs skipped", "a little more time to the end of the windows",
        f"less load above {problem.comfort * 100:.0f} %",
    )  # fmt: skip
    grades = zip(parts, after.score.grades, below.score.grades, strict=True)
    return tuple(part for part, now, was in grades if now < was)[:1]


def fits(told: PlanTold) -> bool:
    """Whether no night of a week is over."""
    return all(night.verdict != "over" for night in told.nights)


def reaches(told: PlanTold) -> str:
    """The worst that is left of a week, in a few words."""
    worst = min(told.nights, key=_badness)
    others = sum(night.verdict == worst.verdict for night in told.nights) - 1
    if worst.verdict == "fits":
        return "fits"
    day = night_name(worst, told.nights)
    also = f", and {count(others, 'more night')}" if others else ""
    if worst.lost:
        return f"{day}: {count(worst.lost, 'machine')} not done{also}"
    if worst.over_s >= MINUTE:
        return f"{day} {duration(worst.over_s)} late{also}"
    return f"{day} {worst.verdict}{also}"


def _badness(night: NightTold) -> tuple[float, ...]:
    return GRADES.index(night.verdict), -night.lost, -night.over_s
