"""The sample plans tell the story that they are meant to tell."""

from datetime import date

import pytest

from gambrel.core.edits.operations import MoveFull, MoveStart, apply_all
from gambrel.core.model.selection import selected_machines
from gambrel.core.nights.nights import night_outcome, week_of
from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.simulate import simulate
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


def test_friday_can_be_mended_by_hand(plan):
    """The three moves of the guide: the sample asks for balance, not for money."""
    moves = [
        MoveFull("office-files", 1, 1),
        MoveFull("fleet-telemetry", 1, 2),
        MoveStart("database-servers", 1, "20:00"),
    ]
    better = simulate(apply_all(plan, moves), WEEK[0].start, WEEK[-1].end)
    verdicts = [night_outcome(better, night).verdict for night in WEEK]
    assert verdicts == ["fits", "fits", "fits", "fits", "tight", "fits", "fits"]
    assert night_outcome(better, WEEK[4]).missed == 0


def test_points_of_the_past_are_all_usable_at_the_start(plan, forecast):
    begins = parse_instant("2026-11-02T12:00:00Z")
    assert max(point.exists_from for point in plan.state.points) <= begins
    monday = [r for r in forecast.runs if WEEK[0].holds(r.occurrence)]
    kinds = {m.kind for run in monday for m in run.machines}
    assert kinds == {"incremental", "differential"}
