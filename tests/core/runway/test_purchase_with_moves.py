"""What has to be bought beside moves, held against plain simulations of the plan with both."""

from dataclasses import replace
from functools import lru_cache

import pytest
from balances import crowded, crowded_file, larkmoor_problem, problem_of

from gambrel.core.balance.moves import Candidate, plan_of
from gambrel.core.balance.search_driver import balance
from gambrel.core.balance.stopping import MostEvaluations
from gambrel.core.edits.operations import MoveStart, apply_all
from gambrel.core.nights.nights import night_outcome
from gambrel.core.plan.reading import read_plan
from gambrel.core.runway.purchase_with_moves import bought_beside, least_purchase
from gambrel.core.simulation.simulate import simulate_span


def over(problem, plan):
    """The nights that are over, as one long simulation has them."""
    begins, points = problem.first or (problem.begins or problem.from_, problem.points)
    forecast = simulate_span(plan, begins, problem.to, points=points)
    return [n.date for n in problem.nights if night_outcome(forecast, n).verdict == "over"]


def with_both(problem, bought):
    operations = [each for item in bought.items for each in item.operations]
    return plan_of(replace(problem, plan=apply_all(problem.plan, operations)), bought.candidate)


def searched(problem, start, evaluations=20):
    return balance(problem, MostEvaluations(evaluations), seed=2, start=start).candidate


@lru_cache
def of_one_kind():
    """The sample, with starts alone to be moved: that is not enough."""
    problem = replace(larkmoor_problem(), kinds=frozenset({"start"}), most_moves=2)
    return problem, searched(problem, Candidate())


def test_as_it_is_the_purchase_makes_every_night_fit_and_nothing_of_it_can_be_left_out():
    problem, _ = of_one_kind()
    assert over(problem, problem.plan)
    bought = bought_beside(problem, Candidate())
    assert bought.fits and bought.items and not len(bought.candidate)
    assert over(problem, with_both(problem, bought)) == []
    for left_out in range(len(bought.items)):
        rest = bought.items[:left_out] + bought.items[left_out + 1 :]
        assert over(problem, with_both(problem, replace(bought, items=rest)))


@pytest.mark.long
def test_beside_moves_no_more_is_bought_than_as_it_is():
    problem, best = of_one_kind()
    assert over(problem, plan_of(problem, best))
    bought = least_purchase(problem, best, searched)
    assert bought.fits and len(bought.items) == 1 and len(bought.candidate) <= problem.most_moves
    assert over(problem, with_both(problem, bought)) == []
    as_it_is = bought_beside(problem, Candidate())
    if [i.subject for i in as_it_is.items] == [i.subject for i in bought.items]:
        assert bought.items[0].amount <= as_it_is.items[0].amount


def test_the_amount_is_the_least():
    """One step less is not enough, even with the moves searched anew beside it."""
    file = crowded_file(6, 1500.0)
    file["proxies"][0] |= {"slots": 1, "mib_per_s": None}
    problem = problem_of(read_plan(file), kinds=frozenset({"start"}), most_moves=2)
    best = searched(problem, Candidate())
    (item,) = least_purchase(problem, best, searched).items
    assert (item.what, item.amount) == ("link", 500.0)
    (operation,) = item.operations
    less = apply_all(problem.plan, [replace(operation, changes={"mbit_per_s": 1250})])
    beside = replace(problem, plan=less)
    assert over(beside, plan_of(beside, searched(beside, best)))


def test_never_more_is_bought_than_is_enough_without_moves():
    problem, _ = of_one_kind()
    as_it_is = bought_beside(problem, Candidate())

    def finds_nothing(changed, start):
        return start

    # Without a search beside them these moves do worse than none.
    worse = Candidate.of({("lab-builds", "start", 0): MoveStart("lab-builds", 0, "05:00")})
    bought = least_purchase(problem, worse, finds_nothing, as_it_is)
    assert bought.fits and over(problem, with_both(problem, bought)) == []
    assert len(bought.items) <= len(as_it_is.items)


def test_where_moves_are_enough_nothing_is_bought():
    problem = crowded(gib=350)
    best = balance(problem, MostEvaluations(80), seed=1)
    assert best.score.fits

    def never(*_):
        raise AssertionError("there is nothing to search for")

    bought = least_purchase(problem, best.candidate, never)
    assert (bought.items, bought.fits, bought.candidate) == ((), True, best.candidate)
