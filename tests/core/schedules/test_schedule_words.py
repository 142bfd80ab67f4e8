"""Schedules as people say them, and back."""

from datetime import date, datetime, time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gambrel.core.plan.objects import DayRowSchedule, RuleSchedule
from gambrel.core.schedules.calendars import occurrences
from gambrel.core.schedules.words import (
    CODES,
    EXAMPLES,
    NotUnderstood,
    runs_a_day,
    schedule_from_words,
    schedule_in_words,
)

MONDAY = date(2026, 11, 2)
ZONE = "Europe/Dublin"


def heard(text, **more):
    return schedule_from_words(text, day=MONDAY, time_zone=ZONE, calendars=["holidays"], **more)


@pytest.mark.parametrize(
    ("text", "rule", "at"),
    [
        ("every day at 20:00", "FREQ=DAILY", "20:00"),
        ("every weekday at 8 pm", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", "20:00"),
        ("Saturdays at 21", "FREQ=WEEKLY;BYDAY=SA", "21:00"),
        ("Mon, Wed and Fri at 06:15", "FREQ=WEEKLY;BYDAY=MO,WE,FR", "06:15"),
        ("Mon to Thu at 20:00", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH", "20:00"),
        ("Sat-Mon at noon", "FREQ=WEEKLY;BYDAY=MO,SA,SU", "12:00"),
        ("every day but Friday at 20:00", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,SA,SU", "20:00"),
        ("second Saturday at 21:00", "FREQ=MONTHLY;BYDAY=2SA", "21:00"),
        ("first and third Sunday at 1 am", "FREQ=MONTHLY;BYDAY=1SU,3SU", "01:00"),
        ("last Friday of the month at midnight", "FREQ=MONTHLY;BYDAY=-1FR", "00:00"),
        ("on the last weekday of the month at 22:30",
         "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1", "22:30"),
        ("on the 1st and 15th of the month at 22:00", "FREQ=MONTHLY;BYMONTHDAY=1,15", "22:00"),
        ("on the last day of the month at 22:00", "FREQ=MONTHLY;BYMONTHDAY=-1", "22:00"),
        ("every other Saturday at 21:00", "FREQ=WEEKLY;INTERVAL=2;BYDAY=SA", "21:00"),
        ("every 3 days at 04:00", "FREQ=DAILY;INTERVAL=3", "04:00"),
        ("FREQ=YEARLY;BYMONTH=1;BYDAY=1MO at 20:00", "FREQ=YEARLY;BYMONTH=1;BYDAY=1MO", "20:00"),
    ],
)  # fmt: skip
def test_what_is_said_becomes_a_rule(text, rule, at):
    found = heard(text)
    assert (found.rrule, found.start.time()) == (rule, time.fromisoformat(at))
    assert found.start.date() == MONDAY


def test_many_runs_a_day_are_counted():
    found = heard("every 20 minutes from 06:10 to 05:40")
    assert isinstance(found, DayRowSchedule)
    assert runs_a_day(found) == 71
    start = datetime(2026, 11, 4, 6, 0).timestamp()
    assert len(occurrences(found, {}, start, start + 86_400)) == 71
    assert runs_a_day(heard("every 4 hours")) == 6
    assert runs_a_day(heard("every hour from 08:00 to 18:00 on weekdays")) == 11


def test_once_is_once():
    found = heard("full once on 2026-11-30 at 22:00")
    assert found.kind == "full"
    start = datetime(2026, 11, 1).timestamp()
    assert occurrences(found, {}, start, start + 90 * 86_400) == [
        datetime(2026, 11, 30, 22, 0).timestamp()
    ]


def test_exceptions_and_ends_are_said_too():
    found = heard(
        "differential every weekday at 20:00, moved off holidays and 2026-12-24, "
        "also on 2026-12-27 18:00, until 2027-01-31, from 2026-12-01"
    )
    assert (found.kind, found.when_skipped, found.skip) == (
        "differential", "next_day", ("holidays",),
    )  # fmt: skip
    assert found.skip_dates == (date(2026, 12, 24),)
    assert found.extra == (datetime(2026, 12, 27, 18, 0),)
    assert found.until == date(2027, 1, 31)
    assert found.start == datetime(2026, 12, 1, 20, 0)


@pytest.mark.parametrize(
    ("text", "reason"),
    [
        ("", "say when"),
        ("on Friday", "say the time too"),
        ("every blah at 9", "no day of the week"),
        ("every day at 20:00, not on feasts", "no calendar of this plan; there is holidays"),
        ("every day at 20:00, until 2026-13-01", "is no date"),
        ("FREQ=SOMETIMES at 20:00", "is not a recurrence rule"),
        ("FREQ=WEEKLY;BYDAY=FR", "say the time too"),
        ("every 0 minutes from 06:00 to 07:00", "1 minute to 24 hours"),
        ("on the 45th of the month at 20:00", "days 1 to 31"),
        ("every day at 13 pm", "no time of day"),
    ],
)
def test_what_is_not_understood_says_what_is_missing(text, reason):
    with pytest.raises(NotUnderstood, match=reason):
        heard(text)


@pytest.mark.parametrize("text", EXAMPLES)
def test_every_example_is_understood(text):
    found = heard(text)
    assert heard(schedule_in_words(found)).kind == "incremental"


hours = st.times().map(lambda t: t.replace(second=0, microsecond=0))
some_days = st.sets(st.integers(0, 6), min_size=1).map(sorted)
kinds = st.sampled_from(["full", "incremental", "differential"])
plain = st.builds(
    lambda kind, at, days, skip, until: RuleSchedule(
        kind, "FREQ=WEEKLY;BYDAY=" + ",".join(CODES[d] for d in days) if len(days) < 7
        else "FREQ=DAILY",
        datetime.combine(MONDAY, at), ZONE, skip=skip, until=until,
    ),
    kinds, hours, some_days, st.sampled_from([(), ("holidays",)]),
    st.sampled_from([None, date(2027, 3, 1)]),
)  # fmt: skip
monthly = st.builds(
    lambda kind, at, place, day: RuleSchedule(
        kind, f"FREQ=MONTHLY;BYDAY={place}{CODES[day]}", datetime.combine(MONDAY, at), ZONE
    ),
    kinds, hours, st.sampled_from([1, 2, 3, 4, 5, -1]), st.integers(0, 6),
)  # fmt: skip
rows = st.builds(
    lambda kind, every, begin, end, days: DayRowSchedule(
        kind, float(every), begin, end, tuple(days), MONDAY, ZONE
    ),
    kinds, st.integers(1, 1440), hours, hours, some_days,
)  # fmt: skip


@given(plain | monthly | rows)
def test_words_of_a_schedule_name_it_again(schedule):
    assert heard(schedule_in_words(schedule)) == schedule


@given(st.text(max_size=60))
def test_any_text_is_a_schedule_or_a_reason(text):
    try:
        found = heard(text)
    except NotUnderstood as error:
        assert str(error)
    else:
        assert found.kind in ("full", "incremental", "differential")
