"""The engine against the reference, and what both must keep."""

import gc
import time
import weakref
from dataclasses import replace
from datetime import time as clock
from threading import Event, Thread

import pytest
from generated import ZONE, plans
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st
from invariants import check_engines_agree
from plans import DAY, FRIDAY_NOON, small_plan
from vector_cases import PLAN_CASES, differences, load

from gambrel.core.model.sharing import Demand, fair_rates
from gambrel.core.plan import reading
from gambrel.core.plan.instants import parse_instant
from gambrel.core.simulation import reference
from gambrel.core.simulation.forecast import totals_of
from gambrel.core.simulation.simulate import simulate
from gambrel.core.simulation.turns import PASSED_MOST, Turns, while_wanted
from gambrel.core.simulation_limits import Cancelled, TooMuch
from gambrel.formats.result_file import result

END = FRIDAY_NOON + 2 * DAY


@settings(max_examples=80, deadline=None)
@given(plans())
def test_the_engine_means_what_the_reference_says(plan):
    check_engines_agree(plan, FRIDAY_NOON, END)


@settings(max_examples=15, deadline=None)
@given(plans())
def test_the_totals_of_a_run_are_those_of_its_machines(plan):
    for run in simulate(plan, FRIDAY_NOON, END).runs:
        found, summed = run.totals(), totals_of(run.machines)
        assert (found.synthetic, found.last) == (summed.synthetic, summed.last)
        assert (found.first_start, found.moved) == (summed.first_start, summed.moved)
        assert sorted(found.kinds) == sorted(summed.kinds)
        assert sorted(found.proxies) == sorted(summed.proxies)
        assert found.squeeze_s == pytest.approx(dict(summed.squeeze_s))
        for name in ("source_bytes", "wire_bytes", "stored_bytes"):
            assert getattr(found, name) == pytest.approx(getattr(summed, name))


@pytest.mark.parametrize("name", PLAN_CASES)
def test_the_reference_gives_the_expected_result(name):
    case = load(name)
    start, end = (parse_instant(case[key]) for key in ("from", "to"))
    found = reference.simulate(reading.read_plan(case["plan"]), start, end)
    assert differences(case["result"], result(found)) == []


# --- fairness, by its definition ----------------------------------------------------------------

amounts = st.sampled_from([0.25, 0.5, 1.0, 2.0])
demands = st.lists(
    st.builds(
        Demand,
        st.sampled_from([0.5, 1.0, 3.0]),
        st.none() | st.sampled_from([1.0, 4.0, 9.0]),
        st.dictionaries(st.integers(0, 3), amounts, max_size=3).map(
            lambda uses: tuple(sorted(uses.items()))
        ),
    ),
    min_size=1,
    max_size=6,
)


@settings(max_examples=200)
@given(demands, st.dictionaries(st.integers(0, 3), st.sampled_from([0.0, 2.0, 5.0, 8.0])))
def test_no_stream_can_gain_without_a_poorer_one_losing(asked, capacity):
    """Max-min fairness: what limits a stream is full, and nobody on it has a higher level."""
    rates = [allotment.rate for allotment in fair_rates(asked, capacity)]
    used = {
        resource: sum(
            rate * use
            for demand, rate in zip(asked, rates, strict=True)
            for r, use in demand.uses
            if r == resource and rate != float("inf")
        )
        for resource in capacity
    }
    for resource, limit in capacity.items():
        assert used[resource] <= limit * (1 + 1e-9) + 1e-9
    for demand, rate in zip(asked, rates, strict=True):
        if demand.ceiling is not None and rate == pytest.approx(demand.ceiling):
            continue
        tight = [
            r
            for r, use in demand.uses
            if use > 0 and r in capacity and used[r] >= capacity[r] * (1 - 1e-6) - 1e-9
        ]
        level = rate / demand.share
        if not tight:
            assert rate == float("inf")
            continue
        assert any(
            all(
                other_rate / other.share <= level * (1 + 1e-6) + 1e-9
                for other, other_rate in zip(asked, rates, strict=True)
                if dict(other.uses).get(r, 0) > 0
            )
            for r in tight
        )


# --- what a plan may not depend on ---------------------------------------------------------------


@settings(max_examples=20, deadline=None, suppress_health_check=[HealthCheck.filter_too_much])
@given(plans(), st.sampled_from(["20:30", "22:00", "02:00"]))
def test_a_longer_window_never_makes_a_run_miss(plan, closes):
    """Of one job alone: with several, what one gains another may lose."""
    own = plan.jobs[0].schedules[:1]
    job = replace(
        plan.jobs[0], window="night", copies=(), at_window_end="finish", schedules=own,
        spread_fulls=1,
    )  # fmt: skip
    assume(job.schedules)
    shorter, longer = (
        replace(plan, jobs=(job,), windows=(window(plan, until),)) for until in (closes, "06:00")
    )
    assume(job.start_within_min is None and job.stop_after_min is None)
    assume(all(len(s.rrule) < 12 for s in job.schedules))  # daily: runs do not meet one another
    state = replace(plan.state, points=())
    one = simulate(replace(shorter, state=state), FRIDAY_NOON, FRIDAY_NOON + DAY)
    other = simulate(replace(longer, state=state), FRIDAY_NOON, FRIDAY_NOON + DAY)
    for a, b in zip(one.runs, other.runs, strict=True):
        # A run that waits for the next night has all of it, where a longer one takes it in at once.
        if a.window_opens == b.window_opens:
            assert b.outcomes["missed"] <= a.outcomes["missed"]


def window(plan, until):
    opening = replace(plan.windows[0].open[0], to_time=clock.fromisoformat(until))
    return replace(plan.windows[0], open=(opening,), time_zone=ZONE)


@settings(max_examples=40, deadline=None)
@given(plans(), st.randoms(use_true_random=False))
def test_the_order_of_what_has_no_position_does_not_matter(plan, random):
    """Keys of an object, calendars, windows and points may stand in any order."""
    file = reading.write_plan(plan)
    state = file.pop("state", {})
    points = list(state.get("points", ()))
    random.shuffle(points)
    file["state"] = {**state, "points": points}
    keys = list(file)
    random.shuffle(keys)
    shuffled = {"format": file["format"], **{key: file[key] for key in keys}}
    one = simulate(plan, FRIDAY_NOON, END)
    other = simulate(reading.read_plan(shuffled), FRIDAY_NOON, END)
    assert differences(result(one), result(other)) == []


# --- limits --------------------------------------------------------------------------------------


def every(minutes):
    return {
        "kind": "incremental",
        "every_min": minutes,
        "from": "00:00",
        "to": "23:59",
        "days": ["mon", "tue", "wed", "thu", "fri", "sat", "sun"],
        "start": "2026-01-01",
        "time_zone": ZONE,
    }


def ruled(rule, start):
    return {"kind": "full", "rrule": rule, "start": start, "time_zone": "UTC"}


def test_too_many_occurrences_are_refused_with_the_job_and_the_limit():
    plan = small_plan({"schedules": [ruled("FREQ=HOURLY", "2026-11-01T08:00")]})
    with pytest.raises(TooMuch, match=r"Job nightly: .* more than 250,000 occurrences"):
        simulate(plan, FRIDAY_NOON, FRIDAY_NOON + 30 * 365.25 * DAY)


def test_a_rule_that_counts_too_far_is_refused_with_its_place():
    rule = ruled("FREQ=HOURLY;COUNT=99999999", "2026-01-01T08:00")
    with pytest.raises(reading.PlanError, match=r"schedules\[0\]\.rrule.*COUNT=99999999"):
        small_plan({"schedules": [rule]})


@pytest.mark.parametrize("often", ["DAILY", "MONTHLY", "YEARLY"])
def test_a_rule_without_any_date_is_refused_with_its_place(often):
    rule = ruled(f"FREQ={often};BYMONTH=2;BYMONTHDAY=30", "2026-01-01T08:00")
    with pytest.raises(reading.PlanError, match=r"schedules\[0\]\.rrule.*has no date"):
        small_plan({"schedules": [rule]})


def test_a_century_of_runs_is_refused_with_the_numbers():
    plan = small_plan({"schedules": [every(60)]})
    with pytest.raises(TooMuch, match=r"Job nightly"):
        simulate(plan, FRIDAY_NOON, FRIDAY_NOON + 100 * 365.25 * DAY)


def test_a_rule_that_began_long_ago_is_not_followed_from_its_beginning():
    plan = small_plan({"schedules": [ruled("FREQ=HOURLY;INTERVAL=12", "1970-01-01T08:00")]})
    assert len(simulate(plan, FRIDAY_NOON, END).runs) == 4


def test_a_simulation_can_be_cancelled():
    with while_wanted(lambda: True), pytest.raises(Cancelled):
        simulate(small_plan(), FRIDAY_NOON, END)
    assert simulate(small_plan(), FRIDAY_NOON, END).runs


def test_a_forecast_that_nobody_holds_is_gone_at_once():
    plan = small_plan()
    len(simulate(plan, FRIDAY_NOON, END).runs)
    gc.collect()
    gc.disable()
    try:
        forecast = simulate(plan, FRIDAY_NOON, END)
        held = [weakref.ref(forecast)]
        assert len(forecast.runs) == len(list(forecast.runs))
        del forecast
        assert held[0]() is None
        assert gc.collect() == 0
    finally:
        gc.enable()


def test_no_more_simulations_run_at_once_than_there_are_turns():
    turns, most = Turns(2), []

    def work() -> None:
        with turns.take():
            most.append(turns.running)
            time.sleep(0.01)

    threads = [Thread(target=work) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(most) == 8
    assert max(most) == 2
    assert (turns.running, turns.waiting) == (0, 0)


def begun(turns, size, told, ends):
    """A thread that takes a turn for work of a size, says so, and holds it until it may end."""

    def work() -> None:
        with turns.take(size):
            told.append(size)
            ends.wait(10)

    thread = Thread(target=work)
    thread.start()
    return thread


def until(what):
    deadline = time.monotonic() + 10
    while not what():
        assert time.monotonic() < deadline
        time.sleep(0.002)


def test_what_is_too_much_for_the_memory_waits_and_what_is_small_goes_before_it():
    turns, told, ends = Turns(3), [], Event()
    turns.most_bytes, turns.held_bytes = 100, lambda: 30
    threads = [begun(turns, 60, told, ends)]
    until(lambda: told == [60])
    threads.append(begun(turns, 50, told, ends))
    until(lambda: turns.waiting == 1)
    threads.append(begun(turns, 10, told, ends))
    until(lambda: told == [60, 10])
    assert (turns.running, turns.waiting) == (2, 1)
    ends.set()
    for thread in threads:
        thread.join()
    assert told == [60, 10, 50]
    assert (turns.running, turns.waiting) == (0, 0)


def test_what_waits_for_memory_is_not_passed_for_ever():
    turns, told, first, others = Turns(2), [], Event(), Event()
    turns.most_bytes, turns.held_bytes = 100, lambda: 30
    threads = [begun(turns, 60, told, first)]
    until(lambda: told == [60])
    threads.append(begun(turns, 50, told, others))
    until(lambda: turns.waiting == 1)
    for _ in range(PASSED_MOST):
        with turns.take(1):
            pass
    threads.append(begun(turns, 1, told, others))
    until(lambda: turns.waiting == 2)
    time.sleep(0.1)
    assert (turns.running, turns.waiting) == (1, 2)
    first.set()
    until(lambda: len(told) == 3)
    others.set()
    for thread in threads:
        thread.join()
    assert told == [60, 50, 1]


def test_what_is_small_never_waits_for_memory():
    turns = Turns(2)
    turns.most_bytes, turns.small_bytes, turns.held_bytes = 100, 5, lambda: 1_000
    with turns.take(1_000), turns.take(5):
        assert turns.running == 2


def test_even_what_is_larger_than_the_memory_runs_alone():
    turns = Turns(2)
    turns.most_bytes, turns.held_bytes = 100, lambda: 99
    with turns.take(1_000):
        assert turns.running == 1


def test_who_waits_for_a_turn_and_is_not_wanted_any_more_goes_away():
    turns = Turns(1)
    with turns.take():
        with while_wanted(lambda: True), pytest.raises(Cancelled), turns.take():
            pass
        assert (turns.running, turns.waiting) == (1, 0)


@settings(max_examples=40, deadline=None)
@given(plans())
def test_the_account_of_every_machine_run_adds_up(plan):
    for run in simulate(plan, FRIDAY_NOON, END).runs:
        for m in run.machines:
            if m.queued is None:
                assert tuple(m.account) == ()
                continue
            spent = sum(part.seconds for part in m.account)
            assert spent == pytest.approx(m.ended - m.queued, abs=1e-5)
            assert all(part.seconds > 0 for part in m.account)
