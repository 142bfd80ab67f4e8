"""Windows and rules where the clock, the calendar or the planner is odd."""

from datetime import datetime

import pytest
from plans import small_file, small_plan, window

from gambrel.core.plan.instants import format_instant, parse_instant
from gambrel.core.plan.reading import read_plan
from gambrel.core.schedules.calendars import NEVER, job_occurrences, parse_rule, window_span


def span(description, occurrence):
    plan = small_plan(windows=[description])
    found = window_span(plan.windows[0], parse_instant(occurrence))
    if found is None:
        return None
    closes = None if found.closes == NEVER else format_instant(found.closes)[:16]
    return format_instant(found.opens)[:16], closes


def test_an_occurrence_inside_gets_the_present_closing():
    assert span(window("20:00", "06:00"), "2026-11-06T22:00:00Z") == (
        "2026-11-06T22:00",
        "2026-11-07T06:00",
    )


def test_an_occurrence_at_the_closing_waits_for_the_next_opening():
    assert span(window("20:00", "06:00"), "2026-11-07T06:00:00Z") == (
        "2026-11-07T20:00",
        "2026-11-08T06:00",
    )


def test_touching_intervals_are_one_and_a_window_of_whole_days_never_closes():
    assert span(window("00:00", "00:00"), "2026-11-06T22:00:00Z") == ("2026-11-06T22:00", None)
    weekend = window("00:00", "00:00", ["sat", "sun"])
    assert span(weekend, "2026-11-06T22:00:00Z") == ("2026-11-07T00:00", "2026-11-09T00:00")


def test_a_window_open_but_for_one_exception_closes_there():
    holiday = [{"date": "2027-03-17", "open": []}]
    always = window("00:00", "00:00", exceptions=holiday)
    assert span(always, "2026-11-06T22:00:00Z")[1] == "2027-03-17T00:00"
    assert span(always, "2027-03-18T22:00:00Z")[1] is None


def test_exactly_eight_days_is_within_eight_days():
    saturday = window("20:00", "21:00", ["sat"], exceptions=[{"date": "2026-11-07", "open": []}])
    assert span(saturday, "2026-11-06T20:00:00Z") == ("2026-11-14T20:00", "2026-11-14T21:00")
    assert span(saturday, "2026-11-06T19:59:00Z") is None


def test_several_exceptions_on_one_date_are_joined():
    both = [
        {"date": "2026-11-06", "open": [{"from": "08:00", "to": "09:00"}]},
        {"date": "2026-11-06", "open": [{"from": "09:00", "to": "10:00"}]},
    ]
    described = window("20:00", "22:00", exceptions=both)
    assert span(described, "2026-11-06T08:30:00Z") == ("2026-11-06T08:30", "2026-11-06T10:00")
    assert span(described, "2026-11-06T12:00:00Z")[0] == "2026-11-07T20:00"


def test_an_hour_that_a_clock_change_removes_is_never_open():
    gone = window("01:00", "02:00", ["sun"])
    assert span(gone, "2026-03-28T12:00:00Z") is None or (
        span(gone, "2026-03-28T12:00:00Z")[0] >= "2026-04-05"
    )


@pytest.mark.parametrize(
    "rule",
    ["", "daily", "FREQ=DAILY;FREQ=WEEKLY", "FREQ=DAILY\nEXDATE=1", "FREQ=DAILY;BYDAY=XX",
     "FREQ=DAILY;UNTIL=2026T1", "FREQ=WEEKLY;INTERVAL=x", "DTSTART=20260101T000000"],
)  # fmt: skip
def test_rules_that_are_none_are_refused(rule):
    with pytest.raises(ValueError, match=r".+"):
        parse_rule(rule, datetime(2026, 1, 1, 20))


def test_the_heaviest_kind_of_one_instant_stands_alone():
    file = small_file()
    schedules = file["jobs"][0]["schedules"]
    schedules[1]["start"] = "2026-10-01T21:00"
    plan = read_plan(file)
    start = parse_instant("2026-11-05T12:00:00Z")
    found = job_occurrences(plan.jobs[0], {}, start, start + 3 * 86_400)
    assert [(format_instant(i)[8:16], kind, position) for i, kind, position in found] == [
        ("05T21:00", "incremental", 1),
        ("06T21:00", "full", 0),
        ("07T21:00", "incremental", 1),
    ]
