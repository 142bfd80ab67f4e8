"""Sizes of past runs in another unit than they are read in."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from plans import small_plan

from gambrel.core.ledger.odd_sizes import Size, odd_sizes
from gambrel.core.model.volume import disk_volume, protected_disks
from gambrel.core.plan.conditions import Selection
from gambrel.core.units import DAY


def plan_of_four():
    """The small plan with four machines."""
    plan = small_plan()
    machines = tuple(
        replace(plan.machines[0], id=name) for name in ("gate", "fares", "desk", "mail")
    )
    nightly = replace(
        plan.jobs[0], machines=Selection(ids=tuple(machine.id for machine in machines))
    )
    return replace(plan, machines=machines, jobs=(nightly,))


PLAN = plan_of_four()
JOB = PLAN.jobs[0]


def sizes(times, kind="full", *, runs=4, stored=False):
    """What runs of the small plan read or stored, times a factor each."""
    found = []
    for i in range(runs):
        machine = PLAN.machines[i]
        since = DAY if kind == "incremental" else None
        volumes = [disk_volume(JOB, machine, d, since) for d in protected_disks(JOB, machine)]
        size = sum(v.wire if stored else v.source for v in volumes) * times(i)
        found.append(Size(JOB.id, machine.id, kind, 0.0 if stored else size, size))
    return found


@pytest.mark.parametrize("kind", ["full", "incremental"])
@pytest.mark.parametrize("stored", [False, True])
@pytest.mark.parametrize("steps", [-2, -1, 1, 2])
def test_another_unit_is_noticed_with_the_power_that_mends_it(kind, stored, steps):
    odd = odd_sizes(PLAN, sizes(lambda _: 1024.0**-steps, kind, stored=stored))
    assert odd is not None
    assert (odd.steps, odd.runs, odd.of) == (steps, 4, 4)
    assert odd.told_bytes * 1024.0**steps == pytest.approx(odd.expected_bytes)


@given(st.lists(st.floats(1 / 25, 25), min_size=4, max_size=4))
def test_facts_that_are_wrong_by_a_factor_of_ten_are_no_other_unit(factors):
    assert odd_sizes(PLAN, sizes(lambda i: factors[i])) is None
    assert odd_sizes(PLAN, sizes(lambda i: factors[i], "incremental")) is None


def test_decimal_units_count_as_well():
    assert odd_sizes(PLAN, sizes(lambda _: 1e-6)).steps == 2


def test_few_or_mixed_sizes_say_nothing():
    assert odd_sizes(PLAN, sizes(lambda _: 1 / 1024, runs=2)) is None
    assert odd_sizes(PLAN, sizes(lambda i: 1 / 1024 if i % 2 else 1.0)) is None
    assert odd_sizes(PLAN, []) is None
    nobody = [Size(JOB.id, "nobody", "full", 1.0, 1.0), Size("nothing", "gate", "full", 1.0, 1.0)]
    assert odd_sizes(PLAN, 3 * nobody) is None


def test_runs_of_no_kind_are_judged_by_the_largest_of_each_machine():
    def untold(times):
        fulls = [Size(s.job, s.machine, None, s.read * times, 0.0) for s in sizes(lambda _: 1.0)]
        small = [Size(s.job, s.machine, None, s.read / 900, 0.0) for s in fulls]
        return fulls + small

    odd = odd_sizes(PLAN, untold(1 / 1024))
    assert odd is not None
    assert (odd.steps, odd.runs, odd.of) == (1, 4, 4)
    assert odd_sizes(PLAN, untold(1.0)) is None
