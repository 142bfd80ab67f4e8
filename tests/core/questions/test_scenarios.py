"""What if: things that happen to a plan."""

import pytest
from balances import larkmoor_problem
from plans import small_file, small_plan

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.core.questions.what_if import (
    AddProxy,
    AddSlots,
    CloseNight,
    Grow,
    LinkAt,
    LoseHost,
    LoseProxy,
    happen_all,
    happening_from,
)
from gambrel.core.simulation.simulate import simulate


def plan():
    return larkmoor_problem().plan


def valid(changed):
    """A plan that the file's own reader takes."""
    return read_plan(write_plan(changed))


@pytest.mark.parametrize(
    "happening",
    [
        LoseProxy("quay-p2"),
        LoseHost("qa-h1"),
        LoseHost("qs-h1"),
        LoseHost("qb-h1"),
        LinkAt("quay-hill", 0.5),
        Grow(1.5),
        Grow(2, "finance"),
        AddProxy("quay-p3"),
        AddSlots("quay-p2", 3),
        CloseNight("2026-11-06"),
    ],
)
def test_what_is_left_is_a_plan_that_can_be_simulated(happening):
    problem = larkmoor_problem()
    changed = valid(happening.apply(plan()))
    assert changed != plan()
    assert simulate(changed, problem.from_, problem.from_ + 86_400).runs
    assert happening.describe(plan())


def test_machines_of_a_lost_host_restart_on_the_others_of_its_cluster():
    changed = LoseHost("qa-h1").apply(plan())
    cluster = {h.id for h in plan().hosts if h.cluster == "quay-a"}
    moved = [m for m in plan().machines if m.host == "qa-h1"]
    assert moved
    assert {changed.machine_by_id[m.id].host for m in moved} <= cluster - {"qa-h1"}
    counts = [sum(1 for m in changed.machines if m.host == host) for host in cluster - {"qa-h1"}]
    assert max(counts) - min(counts) <= 10


def test_machines_of_a_lone_host_are_off_and_their_points_with_them():
    lone = next(h.id for h in plan().hosts if h.cluster is None and h.site == "quay")
    gone = {m.id for m in plan().machines if m.host == lone}
    changed = LoseHost(lone).apply(plan())
    assert gone
    assert not gone & {m.id for m in changed.machines}
    assert not gone & {point.machine for point in changed.state.points}
    assert not gone & {m for job in changed.jobs for m in job.machines.ids}


def test_a_host_takes_its_proxies_along():
    changed = LoseHost("qb-h1").apply(plan())
    assert "quay-p3" not in {proxy.id for proxy in changed.proxies}
    assert not any("quay-p3" in (job.proxies or ()) for job in changed.jobs)


def test_a_lost_proxy_leaves_what_is_pinned_to_it_without_a_path():
    problem = larkmoor_problem()
    changed = LoseProxy("quay-p2").apply(plan())
    runs = simulate(changed, problem.from_, problem.from_ + 86_400).runs
    assert any(run.outcomes["no path"] for run in runs)


def test_a_link_and_its_limits_carry_a_part():
    was = next(link for link in plan().links if link.id == "quay-hill")
    now = next(
        link for link in LinkAt("quay-hill", 0.25).apply(plan()).links if link.id == "quay-hill"
    )
    assert now.mbit_per_s == was.mbit_per_s / 4
    assert now.limits[0].mbit_per_s == was.limits[0].mbit_per_s / 4


def test_data_grow_where_they_are_said_to_and_disks_with_them():
    changed = Grow(10, "finance").apply(plan())
    for was, now in zip(plan().machines, changed.machines, strict=True):
        factor = 10 if was.folder == "finance" else 1
        for one, other in zip(was.disks, now.disks, strict=True):
            assert other.used_gib == pytest.approx(one.used_gib * factor)
            assert other.provisioned_gib >= other.used_gib


def test_another_proxy_reads_for_whoever_is_pinned_to_the_first():
    changed = AddProxy("quay-p2").apply(plan())
    assert changed.proxies[-1].id == "quay-p2-2"
    pinned = [job for job in plan().jobs if job.proxies == ("quay-p2",)]
    assert pinned
    assert all(changed.job_by_id[job.id].proxies == ("quay-p2", "quay-p2-2") for job in pinned)


def test_in_a_closed_night_nothing_with_a_window_starts():
    problem = larkmoor_problem()
    friday = problem.nights[4]
    changed = CloseNight(friday.date.isoformat()).apply(plan())
    for run in simulate(changed, friday.start, friday.end).runs:
        if changed.job_by_id[run.job].window is not None:
            assert all(m.start is None or m.start >= friday.end for m in run.machines)


def test_several_things_happen_one_after_the_other():
    both = happen_all(plan(), [AddProxy("quay-p1"), LoseProxy("quay-p1")])
    assert "quay-p1" not in {proxy.id for proxy in both.proxies}
    assert "quay-p1-2" in {proxy.id for proxy in both.proxies}


@pytest.mark.parametrize(
    ("value", "field"),
    [
        ({}, "happens"),
        ({"happens": "Flood"}, "happens"),
        ({"happens": "LoseProxy"}, "proxy"),
        ({"happens": "LoseProxy", "proxy": 3}, "proxy"),
        ({"happens": "LoseProxy", "proxy": "p1", "host": "h1"}, "host"),
        ({"happens": "AddSlots", "proxy": "p1", "slots": True}, "slots"),
    ],
)
def test_what_is_not_said_well_is_refused_by_name(value, field):
    with pytest.raises(OperationError) as refused:
        happening_from(value)
    assert refused.value.field == field


@pytest.mark.parametrize(
    ("happening", "field"),
    [
        (LoseProxy("nobody"), "proxy"),
        (LoseHost("nobody"), "host"),
        (LinkAt("nobody", 0.5), "link"),
        (LinkAt("lan", 0), "part"),
        (LinkAt("lan", 1.5), "part"),
        (Grow(0), "factor"),
        (Grow(1e9), "factor"),
        (Grow(2, "nowhere"), "folder"),
        (AddProxy("nobody"), "proxy"),
        (AddSlots("p1", 0), "slots"),
        (CloseNight("soon"), "night"),
    ],
)
def test_what_cannot_happen_is_refused_by_name(happening, field):
    with pytest.raises(OperationError) as refused:
        happening.apply(small_plan())
    assert refused.value.field == field


def test_without_windows_no_night_can_be_closed():
    file = small_file(windows=[])
    file["jobs"][0].pop("window")
    with pytest.raises(OperationError):
        CloseNight("2026-11-06").apply(read_plan(file))
