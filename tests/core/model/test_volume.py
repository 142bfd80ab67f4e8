"""How much a run moves."""

from dataclasses import replace
from math import exp

import pytest
from plans import small_file, small_plan

from gambrel.core.model.volume import (
    changed_bytes,
    disk_volume,
    disks_at,
    effective_kind,
    growth_factor,
    protected_disks,
)
from gambrel.core.plan.reading import read_plan
from gambrel.core.units import DAY, GIB


@pytest.fixture
def parts():
    file = small_file()
    file["machines"][0]["disks"][0]["swap_gib"] = 4
    plan = read_plan(file)
    machine = plan.machines[0]
    return plan.jobs[0], machine, machine.disks[0]


def gib(volume):
    return pytest.approx((volume.source / GIB, volume.wire / GIB))


@pytest.mark.parametrize(
    ("changes", "expected"),
    [
        ({}, (36, 36 / 1.6)),
        ({"compress": False}, (36, 36)),
        ({"skip_swap": False}, (40, 40 / 1.6)),
        ({"skip_unused": False}, (76, 36 / 1.6)),
        ({"skip_unused": False, "skip_swap": False}, (80, 40 / 1.6)),
    ],
)
def test_a_full_reads_what_the_job_asks_for_and_sends_what_is_protected(parts, changes, expected):
    job, machine, disk = parts
    assert expected == gib(disk_volume(replace(job, **changes), machine, disk, None))


def test_an_incremental_moves_what_changed_since_its_base(parts):
    job, machine, disk = parts
    changed = 36 * 0.4 * (1 - exp(-0.02 * 2 / 0.4))
    assert gib(disk_volume(job, machine, disk, 2 * DAY)) == (changed, changed / 1.6)


def test_without_tracking_everything_is_read_to_find_what_changed(parts):
    job, machine, disk = parts
    untracked = disk_volume(replace(job, tracking=False), machine, disk, 2 * DAY)
    assert untracked.source == 36 * GIB
    assert untracked.wire == disk_volume(job, machine, disk, 2 * DAY).wire
    assert untracked.wire_per_source == untracked.wire / untracked.source


def test_change_starts_at_its_rate_and_levels_off_at_its_ceiling(parts):
    _, machine, _ = parts
    assert changed_bytes(100.0, machine, 60) == pytest.approx(100 * 0.02 * 60 / DAY, rel=1e-3)
    assert changed_bytes(100.0, machine, 1000 * DAY) == pytest.approx(40)
    for still in (replace(machine, daily_change=0.0), replace(machine, churn_ceiling=0.0)):
        assert changed_bytes(100.0, still, DAY) == 0


def test_nothing_read_is_nothing_sent_for_each_byte(parts):
    job, machine, disk = parts
    assert disk_volume(job, machine, disk, 0.0).wire_per_source == 0


@pytest.mark.parametrize(
    ("chain", "scheduled", "expected"),
    [
        ("incremental", "full", "full"),
        ("incremental", "incremental", "incremental"),
        ("incremental", "differential", "incremental"),
        ("differential", "incremental", "differential"),
        ("differential", "full", "full"),
        ("forever", "full", "incremental"),
        ("full_only", "incremental", "full"),
    ],
)
def test_the_chain_decides_the_kind_and_without_a_full_it_is_a_full(chain, scheduled, expected):
    job = small_plan({"chain": chain}).jobs[0]
    assert effective_kind(job, scheduled, has_full=True) == expected
    assert effective_kind(job, scheduled, has_full=False) == "full"


def test_excluded_disks_are_those_of_their_own_machine():
    plan = small_plan({"exclude_disks": [["gate", "0"]]})
    assert [len(protected_disks(plan.jobs[0], machine)) for machine in plan.machines] == [0, 1]


def test_disks_grow_from_the_instant_of_their_sizes_on_and_swap_stays(parts):
    job, machine, _disk = parts
    grows = replace(machine, facts=replace(machine.facts, growth_per_year=0.21))

    def used(as_of, instant):
        return [(d.used_gib, d.swap_gib) for d in disks_at(job, grows, as_of, instant)]

    assert used(1000.0, 1000.0 + 365 * DAY / 2) == [(pytest.approx(40 * 1.1), 4)]
    assert used(1000.0, 0.0) == used(None, 9e9) == [(40, 4)]
    job = replace(job, skip_unused=False)
    later = disks_at(job, grows, 0.0, 365 * DAY)[0]
    assert gib(disk_volume(job, grows, later, None)) == (80 * 1.21 - 4, (40 * 1.21 - 4) / 1.6)


def test_disks_that_shrink_to_nothing_protect_nothing(parts):
    job, machine, _disk = parts
    shrinks = replace(machine, facts=replace(machine.facts, growth_per_year=-1.0))
    assert growth_factor(shrinks, 0.0, DAY) == 0.0
    disk = disks_at(job, shrinks, 0.0, DAY)[0]
    assert gib(disk_volume(job, shrinks, disk, None)) == (0, 0)
