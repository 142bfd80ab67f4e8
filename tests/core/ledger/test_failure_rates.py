"""How often machines fail, from made-up runs."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from plans import small_plan

from gambrel.core.ledger.failure_rates import (
    LIKE_RUNS,
    failure_rates,
    overall_rate,
    rates_of_all,
)

PLAN = small_plan()


def ended(machine, done, **failed):
    yield machine, False, "", done
    for reason, count in failed.items():
        yield machine, True, reason, count


@given(st.integers(0, 200), st.integers(1, 60), st.integers(0, 400))
def test_a_rate_lies_between_its_own_runs_and_those_of_all(done, failed, others):
    lines = [*ended("gate", done, access=failed), *ended("fares", others)]
    overall, (found,) = failure_rates(PLAN, lines)
    assert overall == overall_rate(done + failed + others, failed)
    own = failed / (done + failed)
    assert min(own, overall) - 1e-9 <= found.rate <= max(own, overall) + 1e-9
    weighed = (failed + LIKE_RUNS * overall) / (done + failed + LIKE_RUNS)
    assert found.rate == pytest.approx(weighed)
    assert 0 <= found.low < found.rate < found.high <= 1
    assert (found.runs, found.failed) == (done + failed, failed)


def test_machines_that_never_failed_have_a_rate_too():
    lines = [*ended("gate", 18, access=2), *ended("fares", 20), ("stranger", True, "", 5)]
    rates = rates_of_all(PLAN, lines)
    overall, (gate,) = failure_rates(PLAN, lines)
    assert rates["gate"] == gate.rate
    assert rates["fares"] == pytest.approx(LIKE_RUNS * overall / (20 + LIKE_RUNS))
    assert set(rates) == {machine.id for machine in PLAN.machines}
    assert rates_of_all(PLAN, []) == {}, "of nothing nothing is known"


def test_nine_of_ten_ranges_hold_the_rate_that_is_true():
    """Where machines differ as the model has them, the range says what it promises."""
    random = np.random.default_rng(3)
    overall, held, all_of_them = 0.05, 0, 2000
    true = random.beta(LIKE_RUNS * overall, LIKE_RUNS * (1 - overall), all_of_them)
    fails = random.binomial(40, true)
    many = [("fares", False, "", 950_000), ("fares", True, "x", 50_000)]
    told = {}
    for failed in set(fails.tolist()) - {0}:
        lines = [*many, *ended("gate", 40 - failed, access=failed)]
        told[failed] = next(f for f in failure_rates(PLAN, lines)[1] if f.machine == "gate")
    asked = [(t, f) for t, f in zip(true, fails.tolist(), strict=True) if f]
    held = sum(told[f].low <= t <= told[f].high for t, f in asked)
    assert 0.85 < held / len(asked) < 0.95


def test_the_worst_comes_first_with_its_most_frequent_reason():
    lines = [
        *ended("gate", 27, access=1, locked=2),
        *ended("fares", 10, snapshot=20),
        *ended("gone", 0, access=9),
    ]
    overall, found = failure_rates(PLAN, lines)
    assert [each.machine for each in found] == ["fares", "gate"]
    assert (found[1].reason, found[1].alike) == ("locked", 2)
    assert overall == overall_rate(60, 23)
    assert not found[1].plainly
    many = [*ended("gate", 500), *ended("fares", 10, snapshot=20)]
    assert [each.plainly for each in failure_rates(PLAN, many)[1]] == [True]


def test_where_nothing_failed_nobody_is_told_of():
    assert failure_rates(PLAN, []) == (overall_rate(0, 0), [])
    assert failure_rates(PLAN, ended("gate", 9))[1] == []
