"""Points that turned out bad: nothing builds on them, nothing is restored from them."""

from dataclasses import replace

import pytest
from plans import DAY, FRIDAY_NOON, small_plan

from gambrel.core.plan.instants import format_instant, parse_instant
from gambrel.core.plan.objects import ExistingPoint, NamedPoint, PlannedRestore, Retention
from gambrel.core.plan.reading import PlanError, read_plan, write_plan
from gambrel.core.simulation import reference
from gambrel.core.simulation.simulate import simulate

BOTH = pytest.mark.parametrize("play", [simulate, reference.simulate], ids=["engine", "reference"])
END = FRIDAY_NOON + 2 * DAY


def plan_with(*points, chain="incremental", kind="incremental"):
    """A plan whose first job has the points (kind, days before the horizon, days it is bad)."""
    plan = small_plan()
    job = plan.jobs[0]
    schedules = tuple(replace(s, kind=kind) for s in job.schedules)
    job = replace(job, chain=chain, schedules=schedules, synthetic_full=False)
    told = tuple(
        ExistingPoint(
            job.id, plan.machines[0].id, job.repository, kind, FRIDAY_NOON - before * DAY,
            FRIDAY_NOON - before * DAY + 600, 5e9,
            None if bad is None else FRIDAY_NOON - bad * DAY,
        )
        for kind, before, bad in points
    )  # fmt: skip
    return replace(plan, jobs=(job, *plan.jobs[1:]), state=replace(plan.state, points=told))


def first_run(forecast, plan):
    run = next(run for run in forecast.runs if run.job == plan.jobs[0].id)
    return run.machines[0]


@BOTH
def test_with_the_only_full_bad_the_next_run_is_a_full(play):
    good = plan_with(("full", 5, None), ("incremental", 3, None))
    assert first_run(play(good, FRIDAY_NOON, END), good).kind == "incremental"
    bad = plan_with(("full", 5, 1), ("incremental", 3, None))
    assert first_run(play(bad, FRIDAY_NOON, END), bad).kind == "full"


@BOTH
def test_the_next_run_builds_on_what_is_good_and_moves_more(play):
    good = plan_with(("full", 5, None), ("incremental", 1, None))
    bad = plan_with(("full", 5, None), ("incremental", 1, 0.5))
    moved = [first_run(play(p, FRIDAY_NOON, END), p).source_bytes for p in (good, bad)]
    assert moved[1] > moved[0] > 0
    before = [play(p, FRIDAY_NOON, END).exposure[0].worst_s for p in (good, bad)]
    assert before[1] - before[0] == pytest.approx(4 * DAY, abs=120)


@BOTH
def test_what_was_built_on_it_falls_and_what_came_later_stands(play):
    plan = plan_with(
        ("full", 6, None), ("incremental", 5, 2), ("incremental", 4, None), ("incremental", 1, None)
    )
    machine = plan.machines[0].id
    usable = {
        round((FRIDAY_NOON - point.at) / DAY): point.usable
        for point in play(plan, FRIDAY_NOON, END).points
        if point.machine == machine and point.at < FRIDAY_NOON
    }
    assert usable == {6: True, 5: False, 4: False, 1: True}


@BOTH
def test_a_machine_comes_back_from_the_newest_good_point(play):
    plan = plan_with(("full", 5, None), ("incremental", 1, 0.5))
    job, machine = plan.jobs[0], plan.machines[0].id
    restores = (
        PlannedRestore("a", machine, FRIDAY_NOON),
        PlannedRestore(
            "b", machine, FRIDAY_NOON, replace(_named(plan), at=FRIDAY_NOON - DAY)
        ),
    )  # fmt: skip
    plan = replace(plan, state=replace(plan.state, restores=restores))
    newest, named = play(plan, FRIDAY_NOON, END).restores
    assert (newest.outcome, newest.point.at) == ("done", FRIDAY_NOON - 5 * DAY)
    assert newest.point.job == job.id
    assert named.outcome == "no point"


def _named(plan):
    return NamedPoint(plan.jobs[0].id, plan.jobs[0].repository, FRIDAY_NOON)


@BOTH
def test_a_chain_for_ever_drops_what_is_bad_and_merges_only_what_is_good(play):
    points = (("full", 9, None), ("incremental", 8, 2), ("incremental", 7, None))
    plan = plan_with(*points, ("incremental", 1, None), chain="forever")
    job = replace(plan.jobs[0], retention=Retention(points=4))
    plan = replace(plan, jobs=(job, *plan.jobs[1:]))
    machine = plan.machines[0].id
    left = sorted(
        point.at
        for point in play(plan, FRIDAY_NOON, FRIDAY_NOON + DAY).points
        if point.machine == machine and point.job == job.id
    )
    assert left[:2] == [FRIDAY_NOON - 9 * DAY, FRIDAY_NOON - DAY]
    assert len(left) == 4


def test_it_is_written_and_read_with_the_plan():
    plan = plan_with(("full", 5, 1))
    file = write_plan(plan)
    assert parse_instant(file["state"]["points"][0]["bad_since"]) == FRIDAY_NOON - DAY
    assert read_plan(file).state.points == plan.state.points
    file["state"]["points"][0]["bad_since"] = format_instant(FRIDAY_NOON - 6 * DAY)
    with pytest.raises(PlanError, match="exists_from"):
        read_plan(file)
