"""How sure a week is."""

import numpy as np
import pytest
from balances import crowded, larkmoor_problem
from estates import larkmoor_plan

from gambrel.core.nights.nights import night_outcome
from gambrel.core.questions.how_sure import confidence, draw, learned_spread
from gambrel.core.simulation.engine.layout import layout_of
from gambrel.core.simulation.simulate import simulate
from gambrel.core.simulation.varying import USUAL_SPREAD, Spread, drawn

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


def factors_of_change(plan, spread, draws=400):
    """By machine the logarithms of the factors on its change, in many draws."""
    layout = layout_of(plan)
    each = [drawn(layout, plan, spread, 3, number)[0] for number in range(draws)]
    by_machine = {}
    for row, member in enumerate(layout.member):
        change = [found.member["change"][row] for found in each]
        by_machine[plan.machines[member["machine"]].id] = np.log(change) - np.log(member["change"])
    return by_machine


def test_what_is_known_of_a_machine_and_of_a_folder_is_drawn_so():
    plan = larkmoor_plan()
    wild, still, *others = (machine.id for machine in plan.machines if machine.daily_change > 0)
    pair = frozenset(others[:2])
    spread = Spread(
        change=0.1, machines={wild: 0.5, still: 0.0}, together=((0.3, pair),), rate=0, stream=0
    )
    found = factors_of_change(plan, spread)
    assert np.std(found[wild]) == pytest.approx(0.5, rel=0.15)
    assert np.std(found[still]) == 0.0
    assert np.std(found[others[5]]) == pytest.approx(0.1, rel=0.15)
    one, other = (found[machine] for machine in sorted(pair))
    assert np.std(one) == pytest.approx(np.hypot(0.3, 0.1), rel=0.15)
    assert np.corrcoef(one, other)[0, 1] > 0.8, "what they have in common they vary by together"
    assert abs(np.corrcoef(one, found[others[5]])[0, 1]) < 0.2
    # The middle of what is known: 0.5 and 0.0.
    assert spread.change_of_one == 0.25
    assert Spread(change=0.2).change_of_one == 0.2


def test_without_a_ledger_weeks_vary_as_usual():
    assert learned_spread(larkmoor_plan(), [], {}, []) == USUAL_SPREAD
