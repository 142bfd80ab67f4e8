"""What would have to be bought for the nights of a search's horizon to fit, and beside which moves.

More slots and moved jobs can stand in for one another. So the purchase is asked for twice: for the
plan as it is, and for a plan that is balanced anew beside each purchase that is tried.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable
from dataclasses import dataclass, replace

from gambrel.core.balance.moves import Candidate, plan_of
from gambrel.core.balance.problem import Problem
from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import apply_all
from gambrel.core.nights.nights import night_outcome
from gambrel.core.questions.sizing import Remedy
from gambrel.core.runway.months import Month
from gambrel.core.runway.nights_ahead import Stage
from gambrel.core.runway.purchase import Item, for_sale, item_of, nights_to_buy
from gambrel.core.simulation.forecast import Forecast

MOST_SEARCHES = 16
"""How often the moves are searched anew at most, each time beside another purchase."""

Search = Callable[[Problem, Candidate], Candidate]
"""The best moves of a problem, going on from others."""


@dataclass(frozen=True, slots=True)
class Bought:
    """A purchase with the moves beside it.

    Attributes:
        fits: whether no night of the horizon is over with both.
    """

    candidate: Candidate
    items: tuple[Item, ...]
    fits: bool


def bought_beside(problem: Problem, candidate: Candidate) -> Bought:
    """The smallest purchase with which every night fits, the moves staying as they are."""
    stage = _stage(problem, candidate)
    found = nights_to_buy([stage])
    plan = apply_all(stage.plan, [each for item in found.items for each in item.operations])
    return Bought(candidate, found.items, _fits(stage, stage.play(plan)))


def least_purchase(
    problem: Problem, candidate: Candidate, search: Search, as_it_is: Bought | None = None
) -> Bought:
    """The smallest purchase with which a balanced plan fits, and that plan's moves.

    Everything that can be bought against the worst night is tried in growing amounts, each time
    with the moves searched anew. The cheapest that is enough is taken; of those without a price,
    the smallest amount, then the one that presses most. Where nothing alone is enough, it is what
    is needed beside the moves as they are.

    Args:
        candidate: the best moves without a purchase.
        as_it_is: what is enough without moves, where that is known; taken where it costs less, or
            where nothing else was found to be enough.
    """
    beside = bought_beside(problem, candidate)
    if not beside.items:
        return beside
    stage = _stage(problem, candidate)
    forecast = stage.play()
    night = next(n for n in stage.nights if night_outcome(forecast, n).verdict == "over")
    trials = _Trials(problem, candidate, search)
    found: list[tuple[float, int, int, Bought]] = []
    for order, remedy in enumerate(for_sale(stage, problem.plan, forecast)):
        least = trials.least(remedy)
        if least is None:
            continue
        amount, moves = least
        operations, words = remedy.amounts[amount]
        item = item_of(problem.plan, remedy, operations, words, night, forecast)
        bought = Bought(moves, (item,), True)
        found.append((_cost(bought), amount, order, bought))
    best = min(found, key=lambda each: each[:3])[3] if found else beside
    if as_it_is is None or not as_it_is.fits:
        return best
    return as_it_is if not best.fits or _cost(as_it_is) < _cost(best) else best


def _cost(bought: Bought) -> float:
    """What a purchase costs; infinite where a price is not known."""
    return sum(float("inf") if item.price is None else item.price for item in bought.items)


class _Trials:
    """Purchases tried so far, each with the moves that were found beside it."""

    def __init__(self, problem: Problem, candidate: Candidate, search: Search) -> None:
        self.problem, self.candidate, self.search = problem, candidate, search
        self.left = MOST_SEARCHES

    def least(self, remedy: Remedy) -> tuple[int, Candidate] | None:
        """The smallest amount that is enough, with its moves; searched by halving."""
        known: dict[int, Candidate | None] = {}

        def enough(amount: int) -> bool:
            if amount not in known:
                known[amount] = self._moves_with(remedy, amount)
            return known[amount] is not None

        last = len(remedy.amounts) - 1
        if not enough(0) and (last == 0 or not enough(last)):
            return None
        amount = 0 if enough(0) else bisect_left(range(last), True, lo=1, key=enough)
        moves = known.get(amount)
        return None if moves is None else (amount, moves)

    def _moves_with(self, remedy: Remedy, amount: int) -> Candidate | None:
        """The moves with which everything fits beside a purchase; None where none were found."""
        if not self.left:
            return None
        self.left -= 1
        try:
            plan = apply_all(self.problem.plan, remedy.amounts[amount][0])
        except OperationError:
            return None
        with_it = replace(self.problem, plan=plan)
        moves = self.search(with_it, self.candidate)
        stage = _stage(with_it, moves)
        return moves if _fits(stage, stage.play()) else None


def _stage(problem: Problem, candidate: Candidate) -> Stage:
    """The horizon of a problem as one month, from where forecasts of the plan begin."""
    plan = plan_of(problem, candidate)
    begins, points = problem.beginning(plan, from_first=True)
    month = Month(f"{problem.nights[0].date:%Y-%m}", problem.from_, problem.to)
    return Stage(plan, points, begins, problem.to, month, problem.nights)


def _fits(stage: Stage, forecast: Forecast) -> bool:
    return all(night_outcome(forecast, night).verdict != "over" for night in stage.nights)
