"""Calendars of holidays from iCalendar files."""

from datetime import date

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gambrel.formats.holidays_ics import MOST_BYTES, read_holidays

FROM, TO = date(2026, 1, 1), date(2029, 12, 31)


def ics(*events):
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//test//EN"]
    for event in events:
        lines += ["BEGIN:VEVENT", "UID:1", *event, "END:VEVENT"]
    return "\r\n".join([*lines, "END:VCALENDAR", ""]).encode()


def read(*events):
    return read_holidays(ics(*events), FROM, TO)


def days(*events):
    found = read(*events)
    assert found.problems == ()
    return [day.isoformat() for day, _ in found.dates]


def test_a_day_is_a_day_and_an_end_is_not_part_of_it():
    found = read(
        ("SUMMARY:Harbour day", "DTSTART;VALUE=DATE:20261224", "DTEND;VALUE=DATE:20261227")
    )
    assert [(day.isoformat(), name) for day, name in found.dates] == [
        ("2026-12-24", "Harbour day"),
        ("2026-12-25", "Harbour day"),
        ("2026-12-26", "Harbour day"),
    ]


@pytest.mark.parametrize(
    ("event", "expected"),
    [
        (("DTSTART;VALUE=DATE:20260501",), ["2026-05-01"]),
        (("DTSTART:20260501T090000Z", "DTEND:20260501T100000Z"), ["2026-05-01"]),
        (("DTSTART:20260501T220000", "DTEND:20260502T030000"), ["2026-05-01", "2026-05-02"]),
        (("DTSTART:20260501T090000", "DTEND:20260502T000000"), ["2026-05-01"]),
        (("DTSTART;VALUE=DATE:20260501", "DURATION:P2D"), ["2026-05-01", "2026-05-02"]),
        (
            ("DTSTART;VALUE=DATE:20240317", "RRULE:FREQ=YEARLY"),
            ["2026-03-17", "2027-03-17", "2028-03-17", "2029-03-17"],
        ),
        (
            (
                "DTSTART;VALUE=DATE:20260101",
                "RRULE:FREQ=YEARLY;COUNT=3",
                "EXDATE;VALUE=DATE:20270101",
            ),
            ["2026-01-01", "2028-01-01"],
        ),
        (("DTSTART;VALUE=DATE:20200101",), []),
    ],
)
def test_dates_of_events(event, expected):
    assert days(event) == expected


@pytest.mark.parametrize(
    ("event", "prop"),
    [
        (("SUMMARY:Odd", "DTSTART;VALUE=DATE:20260501", "RRULE:FREQ=SOMETIMES"), "RRULE"),
        (("SUMMARY:Odd", "DTSTART;VALUE=DATE:20261301"), "DTSTART"),
        (("SUMMARY:Odd",), "DTSTART"),
        (("SUMMARY:Odd", "DTSTART;VALUE=DATE:20260501", "DTEND;VALUE=DATE:20260401"), "DTEND"),
        (("SUMMARY:Odd", "DTSTART;VALUE=DATE:20260501", "DTEND;VALUE=DATE:20290401"), "DTEND"),
        (("SUMMARY:Odd", "DTSTART:20260501T000000", "RRULE:FREQ=SECONDLY"), "RRULE"),
    ],
)
def test_an_event_that_cannot_be_read_is_named_and_the_others_stay(event, prop):
    found = read(event, ("SUMMARY:Good", "DTSTART;VALUE=DATE:20260102"))
    assert [(p.event, p.property) for p in found.problems] == [("Odd", prop)]
    assert found.problems[0].reason
    assert [name for _, name in found.dates] == ["Good"]


@pytest.mark.parametrize("data", [b"", b"hello", b"\xff\xfe\x00", b"BEGIN:VEVENT\r\nEND:VEVENT\r\n",
                                  b" " * (MOST_BYTES + 1)])  # fmt: skip
def test_what_is_no_calendar_is_refused(data):
    with pytest.raises(ValueError, match=r"is no|is larger"):
        read_holidays(data, FROM, TO)


lines = st.sampled_from(
    [
        "DTSTART;VALUE=DATE:20260501", "DTSTART:20260501T090000", "DTSTART:nonsense",
        "DTSTART;TZID=Nowhere/Atall:20260501T090000", "DTEND;VALUE=DATE:20260503",
        "DTEND:20260401T000000Z", "DURATION:P2D", "DURATION:-P2D", "DURATION:XX",
        "RRULE:FREQ=YEARLY", "RRULE:FREQ=DAILY;INTERVAL=0", "RRULE:FREQ=WEEKLY;BYDAY=XX",
        "RRULE:FREQ=MONTHLY;UNTIL=20270101", "RRULE:", "EXDATE:20260501T090000",
        "EXDATE;VALUE=DATE:20260501", "SUMMARY:", "SUMMARY:a;b,c", "BEGIN:VALARM", "END:VALARM",
        "X-ANYTHING:1", ":", "RDATE:20260601T000000",
    ]
)  # fmt: skip


@settings(max_examples=150, deadline=None)
@given(st.lists(st.lists(lines, max_size=6), max_size=3))
def test_whatever_stands_in_an_event_is_read_or_named(events):
    try:
        found = read_holidays(ics(*events), FROM, TO)
    except ValueError as error:
        assert str(error)
        return
    assert all(FROM <= day <= TO for day, _ in found.dates)
    assert all(problem.reason for problem in found.problems)


@settings(max_examples=100, deadline=None)
@given(st.binary(max_size=300))
def test_bytes_that_are_no_calendar_are_refused_in_words(data):
    with pytest.raises(ValueError, match="is no iCalendar file"):
        read_holidays(data, FROM, TO)
