"""When windows open next, and what comes near their ends."""

from dataclasses import replace

import pytest
from plans import DAY, FRIDAY_NOON, small_plan, weekly, window

from gambrel.core.plan.instants import parse_instant
from gambrel.core.questions.window_openings import next_openings, touching
from gambrel.core.simulation.simulate import simulate


def openings(days=8, **keys):
    plan = small_plan(windows=[{**window("20:00", "06:00"), **keys}])
    return next_openings(plan.windows[0], FRIDAY_NOON, days)


def test_openings_come_in_order_and_begin_with_the_one_that_is_still_to_end():
    found = openings(days=2)
    assert [o.opens for o in found] == [FRIDAY_NOON + 8 * 3600 + i * DAY for i in range(2)]
    during = next_openings(
        small_plan(windows=[window("20:00", "06:00")]).windows[0], FRIDAY_NOON + 10 * 3600, 1
    )
    assert during[0].opens == FRIDAY_NOON + 8 * 3600


def test_exceptions_are_marked_and_closed_dates_are_not_there():
    closed = {"date": "2026-11-07", "open": []}
    short = {"date": "2026-11-08", "open": [{"from": "21:00", "to": "22:00"}]}
    found = openings(days=4, exceptions=[closed, short])
    assert [o.exception for o in found] == [False, True, False]
    assert found[1].closes - found[1].opens == 3600


@pytest.mark.parametrize(("start", "moved"), [("2027-03-27", 3600), ("2027-10-30", -3600)])
def test_an_opening_over_a_clock_change_says_by_how_much(start, moved):
    plan = small_plan(windows=[window("20:00", "06:00")])
    found = next_openings(plan.windows[0], parse_instant(f"{start}T12:00:00Z"), 2)
    assert [o.clock_moves_s for o in found] == [moved, 0]
    assert found[0].closes - found[0].opens == 10 * 3600 - moved


def test_no_more_openings_than_asked_for():
    plan = small_plan(windows=[window("20:00", "06:00")])
    assert len(next_openings(plan.windows[0], FRIDAY_NOON, 300, most=7)) == 7


def test_runs_near_or_past_the_end_of_their_window_are_told_the_worst_first():
    tight = small_plan(
        {"schedules": [weekly("full", "FR", "20:00")]}, windows=[window("20:00", "20:30")]
    )
    forecast = simulate(tight, FRIDAY_NOON, FRIDAY_NOON + DAY)
    ident = tight.windows[0].id
    found = touching(forecast, ident, FRIDAY_NOON, FRIDAY_NOON + DAY)
    assert [touch.job for touch in found] == [tight.jobs[0].id]
    assert found[0].left_s < 45 * 60
    wide = replace(tight, windows=(small_plan(windows=[window("20:00", "06:00")]).windows[0],))
    calm = simulate(wide, FRIDAY_NOON, FRIDAY_NOON + DAY)
    assert touching(calm, ident, FRIDAY_NOON, FRIDAY_NOON + DAY) == ()
