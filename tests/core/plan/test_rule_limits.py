"""Recurrence rules that would burn a core are refused in words, and windows far off are quick."""

from datetime import date, datetime

import pytest
from plans import FRIDAY_NOON, small_file, small_plan, window

from gambrel.core.plan.reading import read_plan
from gambrel.core.plan.recurrence_rules import parse_rule
from gambrel.core.plan.values import PlanError
from gambrel.core.schedules.calendars import window_span

START = datetime(2026, 11, 3, 21)


@pytest.mark.parametrize(
    ("rule", "reason"),
    [
        ("FREQ=DAILY;BYDAY=MO;BYSETPOS=2", "may not hold BYSETPOS"),
        ("FREQ=MINUTELY;BYSETPOS=2", "runs by the minute"),
        ("FREQ=SECONDLY", "runs by the minute"),
        ("FREQ=HOURLY;BYWEEKNO=53;BYMONTH=6", "may not hold BYWEEKNO"),
        ("FREQ=DAILY;INTERVAL=0", "INTERVAL=0"),
        ("FREQ=DAILY;INTERVAL=-1", "INTERVAL=-1"),
        ("FREQ=WEEKLY;INTERVAL=99999999999999999999", "not between 1 and 1000"),
        ("FREQ=DAILY;COUNT=" + "9" * 5000, "longer than 500 characters"),
        ("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "no date in forty years"),
        ("FREQ=MONTHLY;BYDAY=MO;BYSETPOS=6", "no date in forty years"),
        ("FREQ=DAILY;INTERVAL=7;BYDAY=MO", "no date in forty years"),
        ("FREQ=MONTHLY;INTERVAL=12;BYMONTH=5", "no date in forty years"),
        ("FREQ=WEEKLY;BYDAY=2MO", "may not number a weekday"),
        ("FREQ=MONTHLY;BYDAY=0MO", "may not number a weekday"),
        ("FREQ=FORTNIGHTLY", "needs FREQ"),
        ("INTERVAL=2", "needs FREQ"),
    ],
)
def test_rules_that_never_yield_are_refused(rule, reason):
    with pytest.raises(ValueError, match=reason):
        parse_rule(rule, START)


@pytest.mark.parametrize(
    "rule",
    [
        "FREQ=DAILY", "FREQ=HOURLY;INTERVAL=5", "FREQ=WEEKLY;INTERVAL=2;BYDAY=MO,FR;WKST=SU",
        "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1", "FREQ=MONTHLY;BYMONTHDAY=-1",
        "FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13", "FREQ=YEARLY;BYWEEKNO=53;BYDAY=MO",
        "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29", "FREQ=YEARLY;BYYEARDAY=-1",
        "FREQ=DAILY;BYHOUR=6,18;COUNT=10", "FREQ=DAILY;INTERVAL=3;BYDAY=MO",
        "freq=weekly;byday=sa;UNTIL=20270101T000000",
    ],
)  # fmt: skip
def test_rules_that_people_use_are_read(rule):
    assert next(iter(parse_rule(rule, START).rule)) >= START


def test_a_window_with_an_exception_far_off_is_known_at_once():
    far = {"date": "2199-12-31", "open": []}
    nights = small_plan(windows=[{**window("20:00", "06:00"), "exceptions": [far]}])
    always = small_plan(windows=[{**window("00:00", "00:00"), "exceptions": [far]}])
    span = window_span(nights.windows[0], FRIDAY_NOON)
    assert span is not None
    assert span.closes - span.opens == 10 * 3600
    # One that is always open closes with the day that is taken out, however far that is.
    closing = window_span(always.windows[0], FRIDAY_NOON)
    assert closing is not None
    assert datetime.fromtimestamp(closing.closes).date() == date(2199, 12, 31)


def test_an_exception_that_keeps_a_window_open_is_counted():
    days = [{"date": f"2026-11-{d:02d}", "open": [{"from": "00:00", "to": "00:00"}]}
            for d in range(7, 30)]  # fmt: skip
    plan = small_plan(windows=[{**window("20:00", "06:00"), "exceptions": days}])
    span = window_span(plan.windows[0], FRIDAY_NOON)
    assert span is not None
    assert datetime.fromtimestamp(span.closes) == datetime(2026, 11, 30)


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"windows": [{"id": "w", "time_zone": "UTC", "open": [],
                       "exceptions": [{"date": "9000-01-01", "open": []}]}]}, "windows[0]"),
        ({"calendars": [{"id": "c", "dates": ["0001-01-01"]}]}, "calendars[0]"),
        ({"sites": [{"id": "x" * 200, "time_zone": "UTC"}]}, "sites[0].id"),
        ({"sites": [{"id": "quay", "name": "\ud800", "time_zone": "UTC"}]}, "sites[0].name"),
        ({"repositories": [{"id": "vault", "site": "quay", "read_mib_per_s": 1e300}]},
         "repositories[0].read_mib_per_s"),
    ],
)  # fmt: skip
def test_what_lies_outside_all_ranges_is_named(change, field):
    file = {**small_file(), **change}
    with pytest.raises(PlanError) as error:
        read_plan(file)
    assert any(problem.path.startswith(field) for problem in error.value.problems)
