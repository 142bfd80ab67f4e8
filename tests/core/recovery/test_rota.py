"""Restore tests are laid out evenly, in hours in which nothing else runs."""

from dataclasses import replace
from datetime import datetime, time
from zoneinfo import ZoneInfo

import pytest
from generated import plans
from hypothesis import given, settings
from hypothesis import strategies as st
from plans import DAY, FRIDAY_NOON, small_plan

from gambrel.core.model.destinations import destination_of
from gambrel.core.recovery.restore_tests import AWAY_S, Busy, Rota, TestRule, due_at, laid_out
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import HOUR, MINUTE

ZONE = "Europe/Dublin"
EVERY = tuple(TestRule(tier, 7) for tier in ("gold", "silver", "bronze", "no tier"))


def rota(**more):
    return replace(Rota(FRIDAY_NOON - 30 * DAY, EVERY, weekdays=tuple(range(7))), **more)


def layout(plan, asked, tested=None, now=FRIDAY_NOON):
    forecast = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + 8 * DAY)
    made = laid_out(
        plan, asked, tested or {}, Busy(plan, [forecast]),
        lambda machine, at: forecast.history.at(at, machine=machine), now, ZONE,
    )  # fmt: skip
    return made, forecast


@settings(max_examples=40, deadline=None)
@given(plans(), st.integers(1, 3), st.sampled_from([(time(9), time(16)), (time(0), time(23))]))
def test_no_test_meets_a_run_or_another_test(plan, at_once, hours):
    asked = rota(at_once=at_once, opens=hours[0], closes=hours[1])
    made, forecast = layout(plan, asked)
    host = {machine.id: machine.host for machine in plan.machines}
    assert len({test.machine for test in made.tests}) == len(made.tests)
    for test in made.tests:
        local = [datetime.fromtimestamp(at, ZoneInfo(ZONE)) for at in (test.starts, test.ends)]
        assert asked.opens <= local[0].time() and local[1].time() <= asked.closes
        beside = [o for o in made.tests if o.starts <= test.starts < o.ends]
        assert len(beside) <= at_once
        slots = plan.repository_by_id[test.repository].stream_slots
        assert slots is None or sum(o.repository == test.repository for o in beside) <= slots
        for run in forecast.runs:
            for machine in run.machines:
                if machine.start is None or machine.ended <= test.starts:
                    continue
                if machine.start >= test.ends:
                    continue
                assert machine.machine != test.machine
                itself = plan.machine_by_id[machine.machine]
                assert destination_of(plan, plan.job_by_id[run.job], itself) != test.repository
                if machine.released > test.starts:
                    assert host[machine.machine] != test.host
    placed = {test.machine for test in made.tests} | {each.machine for each in made.left_out}
    assert placed == {machine.id for machine in plan.machines}


def test_a_test_takes_what_an_instant_start_and_a_boot_take():
    made, forecast = layout(small_plan(), rota())
    test = made.tests[0]
    point = next(
        p for p in forecast.history.at(test.starts, machine=test.machine) if p.at == test.at
    )
    assert test.set_up_s == 120 + 20 * point.chain_points
    assert test.ends - test.starts == pytest.approx(test.set_up_s + 6 * MINUTE + AWAY_S)


def test_the_longest_due_comes_first_and_what_is_not_due_waits_its_turn():
    plan = small_plan()
    first, second = (machine.id for machine in plan.machines[:2])
    asked = rota(at_once=1)
    tested = {first: FRIDAY_NOON - DAY, second: FRIDAY_NOON - 9 * DAY}
    made, _ = layout(plan, asked, tested)
    assert [test.machine for test in made.tests] == [second, first]
    assert made.overdue == (second,)
    assert due_at(asked, plan.machines[0], tested) == FRIDAY_NOON + 6 * DAY


def test_tests_are_spread_over_the_days():
    plan = small_plan()
    machines = tuple(replace(plan.machines[0], id=f"m{i}") for i in range(14))
    job = replace(
        plan.jobs[0], machines=replace(plan.jobs[0].machines, ids=tuple(m.id for m in machines))
    )
    plan = replace(plan, machines=machines, jobs=(job,))
    made, _ = layout(plan, rota(begins=FRIDAY_NOON))
    days = [round((test.starts - FRIDAY_NOON) // DAY) for test in made.tests]
    assert len(made.tests) >= 12
    assert max(days.count(day) for day in set(days)) <= 2


@pytest.mark.parametrize(
    ("changed", "why"),
    [({"opens": time(9), "closes": time(9, 5)}, "no free hour"), ({}, "no point")],
)
def test_what_cannot_be_tested_says_why(changed, why):
    plan = small_plan()
    if why == "no point":
        plan = replace(plan, jobs=(replace(plan.jobs[0], on_hold=True),))
    made, _ = layout(plan, rota(**changed))
    assert made.tests == ()
    assert {each.why for each in made.left_out} == {why}


def test_a_tier_without_a_rule_is_not_tested():
    plan = small_plan()
    made, _ = layout(plan, rota(rules=(TestRule("platinum", 7),)))
    assert (made.tests, made.left_out, made.overdue) == ((), (), ())


def test_free_hours_leave_out_what_runs_then():
    plan = small_plan()
    forecast = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + DAY)
    busy = Busy(plan, [forecast])
    span = (FRIDAY_NOON, FRIDAY_NOON + DAY)
    free = busy.free([plan.jobs[0].repository], span)
    runs = sum(run.ended - run.began for run in forecast.runs)
    taken = DAY - sum(end - start for start, end in free)
    assert 0 < taken <= runs + 1
    assert busy.after("repository", plan.jobs[0].repository, *free[0]) is None
    assert busy.after("repository", "nowhere", *span) is None
    assert free[0][1] - free[0][0] > HOUR
