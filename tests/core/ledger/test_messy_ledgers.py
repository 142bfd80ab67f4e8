"""Ledgers with gaps, jumps of clocks, runs of no length, renamed machines, bytes that cannot be."""

from __future__ import annotations

import math
from dataclasses import fields

from balances import MONDAY_NOON
from hypothesis import example, given, settings
from hypothesis import strategies as st
from plans import small_plan

from gambrel.core.ledger.failure_rates import failure_rates
from gambrel.core.ledger.growth import learned_growth
from gambrel.core.ledger.learned_change import learned_changes
from gambrel.core.ledger.learned_plan import as_learned
from gambrel.core.ledger.learned_ratio import learned_ratios
from gambrel.core.ledger.learned_times import learned_times, night_times
from gambrel.core.ledger.records import BYTES_EVER, MachineRecord, RunRecord
from gambrel.core.units import DAY

PLAN = small_plan()
NAMES = st.sampled_from(["gate", "fares", "renamed since"])
JOBS = st.sampled_from([PLAN.jobs[0].id, "gone"])
SIZES = st.one_of(
    st.just(0.0), st.floats(-1e9, 1e9), st.floats(1.0, BYTES_EVER), st.floats(1e9, 1e11)
)
DAYS = st.one_of(st.just(0.0), st.just(1.0), st.floats(-2.0, 400.0))
INSTANTS = st.floats(MONDAY_NOON - 400 * DAY, MONDAY_NOON + DAY)


def all_finite(told):
    """Whether every number of what was learned is one that can be shown."""
    return all(
        math.isfinite(value)
        for field in fields(told)
        if isinstance(value := getattr(told, field.name), float)
    )


@settings(max_examples=60)
@given(st.lists(st.tuples(NAMES, JOBS, DAYS, SIZES, INSTANTS), max_size=40))
@example([("gate", PLAN.jobs[0].id, 1.0, BYTES_EVER, MONDAY_NOON + i * DAY) for i in range(9)])
@example([("gate", PLAN.jobs[0].id, 1e-12, 1.0, MONDAY_NOON) for _ in range(9)])
def test_changes_stay_finite_and_say_what_they_left_out(increments):
    told = learned_changes(PLAN, increments)
    assert told.keys() <= {"gate", "fares"}
    for name, learned in told.items():
        assert all_finite(learned) and learned.change >= 0 and learned.error >= 0
        mine = [each for each in increments if each[:2] == (name, PLAN.jobs[0].id)]
        assert learned.runs + learned.left_out <= len(mine)
        if learned.since is None:
            assert learned.runs + learned.left_out == len(mine)
    # What was learned is a plan that can be simulated.
    for machine in as_learned(PLAN, told, []).machines:
        assert math.isfinite(machine.daily_change) and machine.daily_change >= 0


@settings(max_examples=60)
@given(st.lists(st.tuples(NAMES, JOBS, SIZES, SIZES), max_size=40))
def test_ratios_stay_finite_and_say_what_they_left_out(carried):
    for name, learned in learned_ratios(PLAN, carried).items():
        assert all_finite(learned) and learned.ratio > 0
        mine = [each for each in carried if each[:2] == (name, PLAN.jobs[0].id)]
        assert learned.runs + learned.left_out == len(mine)


@settings(max_examples=60)
@given(st.lists(st.tuples(NAMES, st.booleans(), st.sampled_from(["", "no"]), st.integers(1, 9))))
def test_failure_rates_are_shares(ended):
    overall, rates = failure_rates(PLAN, ended)
    assert 0 <= overall <= 1
    for rate in rates:
        assert 0 <= rate.low <= rate.rate <= rate.high <= 1


@settings(max_examples=60)
@given(st.lists(st.tuples(NAMES, JOBS, INSTANTS, SIZES), max_size=40))
def test_growth_stays_finite(fulls):
    for learned in learned_growth(fulls).values():
        assert all_finite(learned)


@settings(max_examples=40)
@given(
    st.lists(
        st.tuples(NAMES, JOBS, st.lists(st.one_of(st.none(), INSTANTS), min_size=6, max_size=6)),
        max_size=20,
    )
)
def test_times_of_clocks_that_jump_stay_finite(told):
    runs = []
    for machine, job, (queued, start, prepared, moved, released, ended) in told:
        record = MachineRecord(
            machine, "done", queued=queued, start=start, prepared=prepared, moved=moved,
            released=released, ended=ended,
            predicted={"parts": [["preparing", 60.0, ""], ["releasing", 20.0, ""]]},
        )  # fmt: skip
        runs.append(RunRecord(job, queued or MONDAY_NOON, machines={machine: record}))
    night = night_times(PLAN, runs)
    for learned in learned_times(PLAN, [night] * 8):
        assert all_finite(learned)
