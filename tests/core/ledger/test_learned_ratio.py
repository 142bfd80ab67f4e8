"""Compress ratios learned from made-up incrementals whose truth is known."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from plans import DAY, FRIDAY_NOON, small_plan

from gambrel.core.ledger.learned_ratio import learned_ratios
from gambrel.core.ledger.robust import LEAST_RUNS
from gambrel.core.plan.objects import Plan
from gambrel.core.simulation.simulate import simulate

PLAN = small_plan()
JOB = PLAN.jobs[0]


def carried(ratio, runs, *, noise=0.0, seed=1, machine="gate", job=JOB.id):
    random = np.random.default_rng(seed)
    for _ in range(runs):
        yield machine, job, 1e9, 1e9 / ratio * math.exp(random.normal(0.0, noise))


def with_job(**changes) -> Plan:
    return replace(PLAN, jobs=(replace(JOB, **changes),))


@settings(max_examples=60, deadline=None)
@given(st.floats(0.5, 8.0), st.integers(0, 1000))
def test_runs_tell_the_ratio(ratio, seed):
    found = learned_ratios(PLAN, carried(ratio, 30, noise=0.1, seed=seed))["gate"]
    assert found.runs == 30
    assert abs(found.ratio - ratio) < 5 * found.error + 0.02 * ratio
    assert not found.speaks_against(found.ratio)
    assert found.speaks_against(2.0 * found.ratio)


def test_what_a_simulation_moves_tells_the_ratio_that_is_stated():
    """The inverse of section 4: increments read Δ and send Δ/κ."""
    forecast = simulate(PLAN, FRIDAY_NOON, FRIDAY_NOON + 12 * DAY)
    lines = [
        (m.machine, run.job, m.source_bytes, m.wire_bytes)
        for run in forecast.runs
        for m in run.machines
        if m.outcome == "done" and m.kind == "incremental"
    ]
    assert lines
    for machine, told in learned_ratios(PLAN, lines).items():
        stated = PLAN.machine_by_id[machine].compress_ratio
        assert told.ratio == pytest.approx(stated)
        assert not told.speaks_against(stated)


def test_few_runs_tell_nothing_and_odd_ones_are_counted():
    assert learned_ratios(PLAN, carried(2.0, LEAST_RUNS - 1)) == {}
    odd = [
        ("gate", JOB.id, 0.0, 1.0),
        ("gate", JOB.id, 1.0, 0.0),
        ("gate", JOB.id, 1.0, 1024.0),
        ("gate", "gone", 1.0, 1.0),
        ("gone", JOB.id, 1.0, 1.0),
    ]
    found = learned_ratios(PLAN, [*odd, *carried(2.0, LEAST_RUNS)])
    assert set(found) == {"gate"}
    assert (found["gate"].ratio, found["gate"].left_out) == (pytest.approx(2.0), 3)
    far = [("gate", JOB.id, 9.0, 1.0)] * 3
    assert learned_ratios(PLAN, [*far, *carried(2.0, 20)])["gate"].ratio == pytest.approx(2.0)


@pytest.mark.parametrize("changes", [{"compress": False}, {"tracking": False}])
def test_jobs_that_cannot_tell_it_are_not_asked(changes):
    assert learned_ratios(with_job(**changes), carried(2.0, 20)) == {}


def test_a_ratio_moves_towards_its_folder_as_far_as_its_own_runs_do_not_tell_it():
    machines = tuple(
        replace(PLAN.machines[0], id=name, folder="tills") for name in ("a", "b", "c", "d")
    )
    job = replace(JOB, machines=replace(JOB.machines, ids=("a", "b", "c", "d")))
    plan = replace(PLAN, machines=machines, jobs=(job,), state=replace(PLAN.state, points=()))
    sure = [line for name, ratio in (("a", 1.9), ("b", 2.0), ("c", 2.1))
            for line in carried(ratio, 10, machine=name)]  # fmt: skip
    unsure = [("d", JOB.id, ratio, 1.0) for ratio in (2.0, 3.0, 4.0, 5.0, 6.0)]
    found = learned_ratios(plan, [*sure, *unsure])
    assert [found[name].ratio for name in "abc"] == pytest.approx([1.9, 2.0, 2.1])
    own = 1.4826**2 / 5
    apart = sum((each - 2.05) ** 2 for each in (1.9, 2.0, 2.1, 4.0)) / 4
    weight = apart / (apart + own)
    assert found["d"].ratio == pytest.approx(weight * 4.0 + (1 - weight) * 2.05)
    # One that differs from a folder of which all others are alike is what its runs say.
    alike = [line for name in "abc" for line in carried(1.68, 10, machine=name)]
    apart_told = learned_ratios(plan, [*alike, *carried(1.8, 900, machine="d", noise=0.01)])
    assert apart_told["d"].ratio == pytest.approx(1.8, rel=0.002)
    alone = learned_ratios(plan, unsure)
    assert alone["d"].ratio == pytest.approx(4.0)
