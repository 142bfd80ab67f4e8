"""Daily changes learned from made-up increments whose truth is known."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from balances import MONDAY_NOON
from hypothesis import given, settings
from hypothesis import strategies as st
from plans import small_plan

from gambrel.core.ledger.growth import payload_bytes
from gambrel.core.ledger.learned_change import (
    LEAST_RUNS,
    learned_changes,
    used_bytes,
)
from gambrel.core.ledger.learned_plan import as_learned
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.volume import changed_bytes
from gambrel.core.units import DAY, HOUR

PLAN = small_plan()
JOB = PLAN.jobs[0]
MACHINE = selected_machines(PLAN, JOB)[0]
USED = used_bytes(JOB, MACHINE)
REDUCED = payload_bytes(PLAN, JOB, MACHINE, 1.0)
"""Bytes read for each that is stored."""


def share_changed(change, ceiling, days):
    """Section 4: what changes within some days, as a share of what is in use."""
    return ceiling * (1.0 - math.exp(-change * days / ceiling))


def increments(change, ceiling, spans, *, noise=0.0, seed=1, machine=MACHINE.id):
    """Increments of a machine that changes so, with noise of its logarithm."""
    random = np.random.default_rng(seed)
    at = 0.0
    for days in spans:
        at += days * DAY
        share = share_changed(change, ceiling, days) * math.exp(random.normal(0.0, noise))
        yield machine, JOB.id, days, USED * share / REDUCED, at


def learned(*args, **more):
    return learned_changes(PLAN, increments(*args, **more))[MACHINE.id]


def test_the_curve_is_that_of_the_model():
    for days in (0.1, 1.0, 7.0, 60.0):
        expected = changed_bytes(USED, MACHINE, days * DAY)
        told = USED * share_changed(MACHINE.daily_change, MACHINE.churn_ceiling, days)
        assert told == pytest.approx(expected)


@settings(max_examples=60, deadline=None)
@given(st.floats(0.002, 0.3), st.integers(0, 1000))
def test_nightly_runs_tell_the_change(change, seed):
    """With spans all alike the stated ceiling stands."""
    found = learned(change, MACHINE.churn_ceiling, [1.0] * 28, noise=0.15, seed=seed)
    assert found.ceiling is None and found.since is None
    assert found.change == pytest.approx(change, rel=0.2)
    assert 0 < found.error < 0.2 * change


@settings(max_examples=60, deadline=None)
@given(st.floats(0.01, 0.2), st.floats(0.15, 0.9), st.integers(0, 1000))
def test_spans_that_differ_tell_the_ceiling_too(change, ceiling, seed):
    spans = [1.0, 1.0, 1.0, 1.0, 3.0, 7.0, 14.0, 30.0] * 4
    found = learned(change, ceiling, spans, noise=0.05, seed=seed)
    assert found.ceiling is not None
    for days in (1.0, 7.0, 30.0):
        told = share_changed(found.change, found.ceiling, days)
        assert told == pytest.approx(share_changed(change, ceiling, days), rel=0.15)


def test_few_odd_runs_do_not_move_it():
    runs = list(increments(0.02, MACHINE.churn_ceiling, [1.0] * 28, noise=0.1))
    odd = [
        (m, j, d, c * (1024 if i in (3, 17) else 1), at) for i, (m, j, d, c, at) in enumerate(runs)
    ]
    assert learned_changes(PLAN, odd)[MACHINE.id].change == pytest.approx(0.02, rel=0.15)


def test_what_cannot_be_is_left_out_and_counted():
    runs = list(increments(0.02, 0.4, [1.0] * 10))
    bad = [
        (MACHINE.id, JOB.id, 0.0, 5.0, 0.0), (MACHINE.id, JOB.id, -1.0, 5.0, 0.0),
        (MACHINE.id, JOB.id, 1.0, 0.0, 0.0), (MACHINE.id, JOB.id, 1.0, -5.0, 0.0),
        (MACHINE.id, JOB.id, 1000.0, 5.0, 0.0), ("renamed since", JOB.id, 1.0, 5.0, 0.0),
        (MACHINE.id, "ghost", 1.0, 5.0, 0.0),
    ]  # fmt: skip
    found = learned_changes(PLAN, runs + bad)
    assert found.keys() == {MACHINE.id}
    assert (found[MACHINE.id].runs, found[MACHINE.id].left_out) == (10, 5)
    assert math.isfinite(found[MACHINE.id].change)
    assert learned_changes(PLAN, runs[: LEAST_RUNS - 1]) == {}
    assert learned_changes(PLAN, []) == {}


def test_a_change_of_behaviour_is_noticed_and_followed():
    before = list(increments(0.01, MACHINE.churn_ceiling, [1.0] * 20, noise=0.1))
    after = [
        (m, j, d, c, at + 20 * DAY)
        for m, j, d, c, at in increments(0.1, MACHINE.churn_ceiling, [1.0] * 4, noise=0.1)
    ]
    found = learned_changes(PLAN, before + after)[MACHINE.id]
    assert found.since == 21 * DAY
    assert found.change == pytest.approx(0.1, rel=0.2)
    assert found.runs == 4
    # Two odd nights are no change of behaviour yet.
    assert learned_changes(PLAN, before + after[:2])[MACHINE.id].since is None


def by_weekday(factors, *, weeks=4, noise=0.12, seed=1, machine=MACHINE.id):
    """Nightly increments from a Monday night on, with a factor for the nights of each weekday."""
    runs = increments(0.02, 0.4, [1.0] * (7 * weeks), noise=noise, seed=seed, machine=machine)
    for i, (ident, job, days, stored, _) in enumerate(runs):
        # 22:00 and 02:00 are of one night.
        at = MONDAY_NOON + i * DAY + (10 + 4 * (i % 2)) * HOUR
        yield ident, job, days, stored * factors[i % 7], at


@pytest.mark.parametrize("seed", range(6))
def test_weekdays_that_differ_plainly_are_told(seed):
    truth = (1.2, 1.0, 1.0, 1.0, 1.2, 0.35, 0.35)
    found = learned_changes(PLAN, by_weekday(truth, seed=seed))[MACHINE.id]
    assert found.by_weekday == pytest.approx(truth, rel=0.25)
    assert found.change == pytest.approx(0.02, rel=0.2)
    assert found.in_night(5) == pytest.approx(0.02 * 0.35, rel=0.35)
    assert as_learned(PLAN, {MACHINE.id: found}, (), (), 5).machine_by_id[
        MACHINE.id
    ].daily_change == (found.in_night(5))
    assert as_learned(PLAN, {MACHINE.id: found}, ()).machine_by_id[MACHINE.id].daily_change == (
        found.change
    )


def test_weekdays_that_differ_by_chance_are_not_told():
    told = [
        learned_changes(PLAN, by_weekday((1.0,) * 7, noise=0.3, seed=seed))[MACHINE.id].by_weekday
        for seed in range(150)
    ]
    assert sum(map(bool, told)) <= 2


def test_a_weekday_with_few_nights_or_long_spans_is_like_any_other():
    truth = (1.0, 1.0, 1.0, 1.0, 1.0, 0.3, 0.3)
    runs = list(by_weekday(truth))
    no_sundays = [run for i, run in enumerate(runs) if i % 7 != 6 or i < 14]
    assert learned_changes(PLAN, no_sundays)[MACHINE.id].by_weekday[6] == 1.0
    weekly = [(m, j, 7.0, c, at) for m, j, _, c, at in runs]
    assert learned_changes(PLAN, weekly)[MACHINE.id].by_weekday == ()
    assert learned_changes(PLAN, runs[:9])[MACHINE.id].by_weekday == ()


def test_weekdays_are_drawn_to_those_of_the_folder():
    machines = [replace(MACHINE, id=f"m{i}", folder="same") for i in range(4)]
    plan = replace(PLAN, machines=tuple(machines))
    runs = []
    for i, machine in enumerate(machines):
        weekend = 0.2 if i == 0 else 0.4
        truth = (1.0, 1.0, 1.0, 1.0, 1.0, weekend, weekend)
        runs += by_weekday(truth, noise=0.05, seed=i, machine=machine.id)
    found = learned_changes(plan, runs)["m0"].by_weekday
    assert 0.22 < found[5] < 0.36


def test_few_runs_are_drawn_to_the_folder():
    machines = [replace(m, folder="same") for m in selected_machines(PLAN, JOB)]
    if len(machines) < 3:
        machines = [replace(MACHINE, id=f"m{i}", folder="same") for i in range(4)]
    plan = replace(PLAN, machines=tuple(machines))
    runs = []
    for i, machine in enumerate(machines):
        change, nights = (0.08, 5) if i == 0 else (0.02, 28)
        runs += increments(change, 0.4, [1.0] * nights, machine=machine.id)
    found = learned_changes(plan, runs)
    alone = learned_changes(plan, [run for run in runs if run[0] == machines[0].id])
    first = machines[0].id
    assert found[first].change < alone[first].change
    drawn = (5 * math.log(alone[first].change) + 3 * math.log(found[machines[1].id].change)) / 8
    assert math.log(found[first].change) == pytest.approx(drawn, abs=0.05)


def test_bytes_that_changed_from_what_was_stored():
    stored = 1000.0
    ratio = PLAN.repository_by_id[JOB.repository].dedupe_ratio
    kappa = MACHINE.compress_ratio if JOB.compress else 1.0
    assert payload_bytes(PLAN, JOB, MACHINE, stored) == pytest.approx(stored * kappa * ratio)
