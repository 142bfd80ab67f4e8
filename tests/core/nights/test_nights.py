"""Verdicts of nights, and the reasons given for them."""

from datetime import date

import pytest
from plans import DAY, FRIDAY_NOON, small_file, small_plan, weekly, window

from gambrel.core.nights.nights import night_at, night_of, night_outcome, walls, week_of
from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.simulate import simulate

FRIDAY = night_of(date(2026, 11, 6), "Europe/Dublin")


def outcome_of(plan, night=FRIDAY, days=1, **more):
    return night_outcome(simulate(plan, FRIDAY_NOON, FRIDAY_NOON + days * DAY), night, **more)


def test_a_night_goes_from_noon_to_noon_and_is_named_by_its_first_day():
    assert night_at(parse_instant("2026-11-07T11:59:00Z"), "Europe/Dublin") == FRIDAY
    assert night_at(parse_instant("2026-11-07T12:00:00Z"), "Europe/Dublin").date.day == 7
    changed = night_of(date(2026, 10, 24), "Europe/Dublin")
    assert changed.end - changed.start == 25 * 3600


def test_a_week_goes_from_monday_to_sunday():
    assert [n.date.day for n in week_of(date(2026, 11, 8), "UTC")] == [2, 3, 4, 5, 6, 7, 8]


def test_a_night_whose_runs_end_in_good_time_fits():
    outcome = outcome_of(small_plan())
    assert (outcome.verdict, outcome.reasons, outcome.runs) == ("fits", (), 2)


def test_ending_shortly_before_the_window_is_tight_and_the_margin_is_a_setting():
    plan = small_plan(
        {"schedules": [weekly("full", "FR", "20:00")]}, windows=[window("20:00", "20:30")]
    )
    outcome = outcome_of(plan)
    assert outcome.verdict == "tight"
    assert outcome.reasons[0].kind == "close to the end"
    assert outcome.reasons[0].seconds == pytest.approx(30 * 60 - 460, abs=60)
    assert outcome_of(plan, margin=15 * 60).verdict == "fits"


def test_ending_after_the_window_is_over_and_says_what_squeezed():
    plan = small_plan(
        {"schedules": [weekly("full", "FR", "20:00")]}, windows=[window("20:00", "20:05")]
    )
    outcome = outcome_of(plan)
    reason = outcome.reasons[0]
    assert (outcome.verdict, reason.kind, reason.job) == ("over", "over the window", "nightly")
    assert reason.squeeze == "link:lan"
    assert reason.seconds == outcome.over_s > 0
    assert reason.waited_for is None


def test_waiting_is_laid_to_the_pool_that_was_full():
    plan = small_plan(
        {"schedules": [weekly("full", "FR", "20:00")]},
        proxies=[{"id": "p1", "site": "quay", "slots": 1, "on_host": "h1"}],
        windows=[window("20:00", "20:05")],
    )
    reason = outcome_of(plan).reasons[0]
    assert reason.waited_for == "proxy:p1"
    assert reason.waited_s > 200


def test_missed_machines_are_counted():
    plan = small_plan(windows=[{"id": "night", "time_zone": "UTC", "open": []}])
    outcome = outcome_of(plan)
    assert (outcome.verdict, outcome.missed) == ("over", 4)
    assert [(r.kind, r.runs, r.machines) for r in outcome.reasons] == [("missed", 2, 4)]


def test_a_skipped_run_makes_a_night_tight():
    again = {**weekly("incremental", "FR", "21:01")}
    plan = small_plan({"schedules": [weekly("full", "FR", "21:00"), again]})
    outcome = outcome_of(plan)
    assert (outcome.verdict, [r.kind for r in outcome.reasons]) == ("tight", ["skipped"])


def test_an_rpo_breaks_in_the_night_in_which_the_exposure_passes_it():
    file = small_file()
    file["machines"][0]["rpo_hours"] = 30
    file["jobs"][0]["schedules"] = [weekly("full", "FR", "20:00")]
    plan = read_plan(file)
    saturday, sunday = (night_of(date(2026, 11, d), "Europe/Dublin") for d in (7, 8))
    forecast = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + 3 * DAY)
    found = [night_outcome(forecast, night).verdict for night in (FRIDAY, saturday, sunday)]
    assert found == ["fits", "tight", "fits"]
    reason = night_outcome(forecast, saturday).reasons[0]
    assert (reason.kind, reason.machine) == ("RPO breaks", "gate")


def test_walls_stand_around_the_windows_of_the_jobs_asked_for():
    plan = small_plan()
    opens, closes = walls(plan, FRIDAY, ["nightly"])
    assert (opens - FRIDAY.start, closes - FRIDAY.start) == (8 * 3600, 18 * 3600)
    assert walls(plan, FRIDAY, []) is None


def test_the_last_end_is_that_of_runs_bound_to_a_window():
    file = small_file()
    free = {**file["jobs"][0], "id": "free", "window": None}
    free["schedules"] = [weekly("incremental", "SA", "11:00")]
    file["jobs"].append(free)
    outcome = outcome_of(read_plan(file))
    assert outcome.last_end < parse_instant("2026-11-07T00:00:00Z")
