"""The sample plans tell the story that they are meant to tell."""

from datetime import date

import pytest

from gambrel.core.nights import night_outcome, week_of
from gambrel.core.plan_reading import parse_instant, read_plan
from gambrel.core.selection import selected_machines
from gambrel.core.simulate import simulate
from gambrel.demo import SCENARIOS, larkmoor

WEEK = week_of(date(2026, 11, 2), "Europe/Dublin")


@pytest.fixture(scope="module")
def plan():
    return read_plan(larkmoor())


@pytest.fixture(scope="module")
def forecast(plan):
    return simulate(plan, WEEK[0].start, WEEK[-1].end)


def test_they_are_the_same_every_time():
    for make in SCENARIOS.values():
        assert make() == make()


def test_larkmoor_has_its_shape(plan):
    kinds = [machine.kind for machine in plan.machines]
    assert (kinds.count("vm"), kinds.count("server"), len(plan.jobs)) == (219, 18, 24)
    assert (len(plan.hosts), len(plan.proxies), len(plan.repositories)) == (18, 6, 4)
    sizes = sorted(sum(d.used_gib for d in m.disks) for m in plan.machines)
    assert sum(sizes[-24:]) > sum(sizes) / 2


def test_a_dozen_machines_are_in_no_job_and_some_in_two(plan):
    times = {machine.id: 0 for machine in plan.machines}
    for job in plan.jobs:
        for machine in selected_machines(plan, job):
            times[machine.id] += 1
    assert list(times.values()).count(0) == 12
    assert times["finance-db-01"] == 2


def test_friday_is_over_and_says_by_which_job_and_resource(forecast):
    verdicts = [night_outcome(forecast, night).verdict for night in WEEK]
    assert verdicts == ["fits", "fits", "fits", "fits", "over", "fits", "fits"]
    worst = night_outcome(forecast, WEEK[4]).reasons[0]
    assert (worst.job, worst.squeeze) == ("office-files", "proxy:quay-p2")
    assert worst.waited_for == "proxy:quay-p2"
    assert 60 * 60 < worst.seconds < 3 * 60 * 60


def test_friday_can_be_made_to_fit_by_hand(plan, forecast):
    """Moving a few fulls to other nights is enough: the sample asks for balance, not for money."""
    from gambrel.core.operations import MoveFull, apply_all

    moves = [MoveFull(job, 1, by) for job, by in (
        ("office-files", 1), ("fleet-telemetry", 2), ("database-servers", -1),
        ("office-desks", -2), ("old-vault", 2), ("cctv-store", 1),
    )]  # fmt: skip
    moved = apply_all(plan, moves)
    better = simulate(moved, WEEK[0].start, WEEK[-1].end)
    before, after = (night_outcome(f, WEEK[4]) for f in (forecast, better))
    assert after.over_s < before.over_s
    assert after.last_end < before.last_end - 3600


def test_points_of_the_past_are_all_usable_at_the_start(plan, forecast):
    begins = parse_instant("2026-11-02T12:00:00Z")
    assert max(point.exists_from for point in plan.state.points) <= begins
    monday = [r for r in forecast.runs if WEEK[0].holds(r.occurrence)]
    kinds = {m.kind for run in monday for m in run.machines}
    assert kinds == {"incremental", "differential"}
