"""How sure a week is."""

import numpy as np
import pytest
from balances import crowded, larkmoor_problem

from gambrel.core.nights.nights import night_outcome
from gambrel.core.questions.how_sure import confidence, draw
from gambrel.core.simulation.simulate import simulate
from gambrel.core.simulation.varying import USUAL_SPREAD, Spread

STILL = Spread(change=0, rate=0, stream=0)


def test_without_any_spread_every_sample_is_the_forecast():
    problem = larkmoor_problem()
    forecast = simulate(problem.plan, problem.from_, problem.to)
    told = confidence(problem, draw(problem, STILL, 1, range(2)))
    for night, sure in zip(problem.nights, told, strict=True):
        outcome = night_outcome(forecast, night)
        assert sure.holds == (0.0 if outcome.verdict == "over" else 1.0)
        assert sure.median_end == sure.late_end == pytest.approx(outcome.last_end, abs=0.01)


def test_samples_depend_on_the_seed_and_their_number_only():
    problem = crowded(2)
    together = draw(problem, USUAL_SPREAD, 3, range(6))
    apart = [draw(problem, USUAL_SPREAD, 3, [n])[0] for n in (5, 0, 3)]
    assert apart == [together[5], together[0], together[3]]
    assert draw(problem, USUAL_SPREAD, 4, range(6)) != together


def test_more_spread_makes_late_nights_later():
    problem = crowded(2)
    small = confidence(problem, draw(problem, Spread(0.05, 0.02, 0.02), 1, range(60)))
    large = confidence(problem, draw(problem, Spread(0.5, 0.3, 0.3), 1, range(60)))
    friday = 4
    width = [c[friday].late_end - c[friday].median_end for c in (small, large)]
    assert 0 < width[0] < width[1]


def test_a_night_that_just_fits_holds_in_a_part_of_the_weeks():
    alone = crowded(1, gib=1)
    forecast = simulate(alone.plan, alone.from_, alone.to)
    assert night_outcome(forecast, alone.nights[4]).verdict == "fits"
    found = None
    for gib in np.linspace(1500, 2200, 8):
        problem = crowded(1, gib=float(gib))
        holds = confidence(problem, draw(problem, USUAL_SPREAD, 1, range(30)))[4].holds
        found = found or (0.1 < holds < 0.9)
    assert found


def test_machines_that_fail_take_nothing_from_the_time_and_are_counted():
    problem = crowded(3, gib=200)
    names = [machine.id for machine in problem.plan.machines]
    usual = draw(problem, USUAL_SPREAD, 1, range(40))
    never = draw(problem, USUAL_SPREAD, 1, range(40), {})
    assert [(s.last_end, s.over) for s in never] == [(s.last_end, s.over) for s in usual]
    plain, none = confidence(problem, usual), confidence(problem, never)
    always = confidence(problem, draw(problem, USUAL_SPREAD, 1, range(3), dict.fromkeys(names, 1)))
    some = confidence(problem, draw(problem, USUAL_SPREAD, 1, range(40), {names[0]: 0.3}))
    for before, with_none, with_all, with_some in zip(plain, none, always, some, strict=True):
        assert before.whole is None and before.failed is None
        assert (with_none.whole, with_none.failed) == (before.holds, 0.0)
        assert (with_all.whole, with_all.failed) == (0.0, 3.0)
        assert with_some.holds == before.holds >= with_some.whole
    # One machine of three in 7 nights of 40 weeks: 0.3 of 280 runs, within four deviations.
    assert 0.19 < np.mean([night.failed for night in some]) < 0.41


def test_no_samples_say_nothing():
    with pytest.raises(ValueError, match="no sample"):
        confidence(crowded(1), [])
