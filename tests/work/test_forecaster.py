"""Forecasts by night are those of one long simulation, however they were come by."""

from datetime import date, timedelta

import pytest
from plans import small_plan

from gambrel.core.balance.objective import Evaluator
from gambrel.core.balance.problem import Problem, job_weight
from gambrel.core.edits.item_edits import RemoveItem
from gambrel.core.edits.operations import MoveFull, MoveStart, apply_all, change_job, operation_from
from gambrel.core.edits.point_owners import CarryPoints
from gambrel.core.edits.splitting import SplitJob
from gambrel.core.nights.nights import night_of, night_outcome, week_of
from gambrel.core.plan.reading import read_plan
from gambrel.core.questions.what_if import LoseHost
from gambrel.core.simulation.known_points import snapshot_of_state
from gambrel.core.simulation.simulate import simulate
from gambrel.demo import larkmoor
from gambrel.work import forecaster
from gambrel.work.forecaster import Forecaster, OutOfReach, first_difference, origin_night

TODAY = date(2026, 11, 23)
ZONE = "Europe/Dublin"
WEEK = week_of(date(2026, 11, 2), ZONE)


@pytest.fixture(scope="module")
def base():
    plan = read_plan(larkmoor())
    return Forecaster(plan, origin_night(plan, TODAY))


def outcomes(forecaster, nights):
    return [night_outcome(forecaster.night(night), night) for night in nights]


def test_the_first_night_begins_when_all_known_points_exist(base):
    assert base.origin == WEEK[0]
    assert origin_night(small_plan(), TODAY).date == TODAY


def edit(job, **changes):
    operation = {"operation": "ChangeItem", "list": "jobs", "id": job, "changes": changes}
    return operation_from(operation)


@pytest.mark.parametrize(
    "operations",
    [
        [edit("office-files", priority=5, max_streams=3)],
        [edit("ticketing-web", quiesce_s=300), edit("mail", window=None, copies=[])],
        [edit("fleet-telemetry", proxies=["quay-p1"], retention={"points": 2})],
        [MoveStart("office-files", 1, "20:00")],
        [MoveStart("ticketing-apps", 0, "22:10")],
        [MoveFull("fleet-telemetry", 1, 1), MoveStart("office-desks", 1, "00:30", 1)],
    ],
    ids=["queue", "steps and copies", "a pin", "a Friday full", "a daily start", "two moves"],
)
def test_a_changed_plan_is_forecast_as_if_it_were_simulated_whole(base, operations):
    plan = apply_all(base.plan, operations)
    quick = Forecaster(plan, base.origin, base)
    alone = night_outcome(quick.night(WEEK[4], alone=True), WEEK[4])
    whole = simulate(plan, WEEK[0].start, WEEK[-1].end)
    expected = [night_outcome(whole, night) for night in WEEK]
    assert alone == expected[4]
    first = quick.first_changed(WEEK[4])
    early = Forecaster(plan, base.origin, base).night(first, alone=True)
    assert night_outcome(early, first) == expected[WEEK.index(first)]
    # What comes before it is as it was.
    before = WEEK[: WEEK.index(first)]
    assert outcomes(base, before) == expected[: len(before)]
    assert outcomes(quick, WEEK) == expected


@pytest.mark.parametrize(
    "operations",
    [
        [RemoveItem("jobs", "ticketing-web")],
        [SplitJob("office-files", ({"id": "part", "machines": ["office-files-02"]},))],
        [
            edit("office-files", repository="quay-dedupe"),
            CarryPoints("office-files", "quay-disk"),
        ],
    ],
    ids=["a job less", "a split", "points carried"],
)
def test_a_plan_with_other_points_begins_with_its_own(base, operations):
    plan = apply_all(base.plan, operations)
    whole = simulate(plan, WEEK[0].start, WEEK[-1].end)
    expected = [night_outcome(whole, night) for night in WEEK]
    # One edit on top of another, as of a preview of a draft.
    draft = Forecaster(plan, base.origin, base)
    same = MoveStart("office-files", 1, "22:00").apply(plan)
    moved = simulate(same, WEEK[0].start, WEEK[-1].end)
    for first in (False, True):
        shown = Forecaster(plan, base.origin, base, passing=first)
        assert outcomes(shown, WEEK) == expected
        kinds = {
            (run.job, m.machine): m.kind
            for run in shown.night(WEEK[0]).runs
            for m in run.machines
            if WEEK[0].holds(run.occurrence)
        }
        assert kinds == {
            (run.job, m.machine): m.kind
            for run in whole.runs
            for m in run.machines
            if WEEK[0].holds(run.occurrence)
        }
    preview = Forecaster(same, base.origin, draft, passing=True)
    assert outcomes(preview, WEEK) == [night_outcome(moved, night) for night in WEEK]


def test_nights_before_the_change_are_those_of_the_base(base):
    plan = MoveStart("office-files", 1, "20:00").apply(base.plan)
    quick = Forecaster(plan, base.origin, base)
    assert quick.night(WEEK[2]) is base.night(WEEK[2])
    assert quick.night(WEEK[4]) is not base.night(WEEK[4])


def test_the_next_week_goes_on_from_this_one(base):
    following = week_of(date(2026, 11, 9), ZONE)
    long = simulate(base.plan, WEEK[0].start, following[-1].end)
    assert outcomes(base, following) == [night_outcome(long, night) for night in following]


def test_a_lock_changes_no_number(base):
    locked = change_job("mail", locked=True).apply(base.plan)
    assert first_difference(base.plan, locked, WEEK[0].start, WEEK[-1].end) == WEEK[-1].end


def test_a_difference_is_found_where_the_first_changed_run_is_due(base):
    moved = MoveStart("office-files", 1, "20:00").apply(base.plan)
    at = first_difference(base.plan, moved, WEEK[0].start, WEEK[-1].end)
    assert at == WEEK[4].start + 8 * 3600


def test_nights_out_of_reach_are_refused(base):
    for day in (date(2026, 11, 1), date(2027, 11, 1)):
        with pytest.raises(OutOfReach, match="begin with the night of 2026-11-02"):
            base.night(night_of(day, ZONE))


# --- where a later week begins ------------------------------------------------------------------


def later_problem(forecaster, weeks=1):
    nights = [night_of(night.date + timedelta(weeks=weeks), ZONE) for night in WEEK]
    begins, points = forecaster.start_of(nights[0])
    plan = forecaster.plan
    jobs = frozenset(job.id for job in plan.jobs)
    return Problem(plan, nights[0].start, nights[-1].end, ZONE, points, jobs, begins=begins), nights


def test_the_first_week_begins_with_the_points_of_the_state(base):
    begins, points = base.start_of(WEEK[0])
    assert begins == WEEK[0].start
    assert len(points.points) == len(base.plan.state.points)


def test_a_later_week_begins_at_a_quiet_instant_and_comes_out_the_same(base):
    problem, nights = later_problem(base)
    assert problem.begins <= nights[0].start
    forecast = base.night(nights[-1])
    score = Evaluator(problem).score(problem.plan)
    weight = {job.id: job_weight(job) for job in problem.plan.jobs}
    runs = [run for night in nights for run in forecast.runs if night.holds(run.occurrence)]
    assert score.over_s == pytest.approx(sum(weight[run.job] * run.over_s for run in runs))
    assert score.lost == sum(weight[run.job] * run.outcomes["missed"] for run in runs)
    assert [night.date for night in problem.nights] == [night.date for night in nights]


def test_a_draft_begins_its_later_weeks_with_its_own_points(base):
    moved = apply_all(base.plan, [MoveFull("office-files", 1, 1)])
    changed = Forecaster(moved, base.origin, base)
    mine, _ = later_problem(changed)
    theirs, _ = later_problem(base)
    assert Evaluator(mine).score(mine.plan) != Evaluator(theirs).score(theirs.plan)
    whole = simulate(moved, WEEK[0].start, mine.to)
    over = sum(
        job_weight(moved.job_by_id[run.job]) * run.over_s
        for run in whole.runs
        if run.occurrence >= mine.from_
    )
    assert Evaluator(mine).score(mine.plan).over_s == pytest.approx(over)


def test_points_are_carried_over_to_a_plan_with_fewer_machines(base):
    _, points = base.start_of(WEEK[0])
    changed = LoseHost("qs-h1").apply(base.plan)
    carried = points.of_plan(base.plan, changed)
    state = snapshot_of_state(changed)
    assert len(carried.points) == len(state.points)
    names = [changed.machines[i].id for i in carried.points["machine"].tolist()]
    assert sorted(names) == sorted(point.machine for point in changed.state.points)
    needing = carried.points[carried.points["base"] >= 0]
    assert (carried.points["job"][needing["base"]] == needing["job"]).all()
    assert (carried.points["machine"][needing["base"]] == needing["machine"]).all()


def test_quiet_instants_given_up_for_their_bytes_are_found_again(base, monkeypatch):
    """A week comes out the same where most of the points before it were given up."""
    plan, origin = base.plan, base.origin
    day = origin.date + timedelta(weeks=7)
    whole = Forecaster(plan, origin).week(day).forecast
    monkeypatch.setattr(forecaster, "MOST_BYTES_OF_QUIET", 1)
    small = Forecaster(plan, origin)
    for weeks in (9, 3, 7):
        found = small.week(origin.date + timedelta(weeks=weeks)).forecast
        assert len(small._quiet) <= 2
    since = max(whole.from_, found.from_)
    later = [run for run in whole.runs if run.occurrence >= since]
    assert later
    assert [run for run in found.runs if run.occurrence >= since] == later
