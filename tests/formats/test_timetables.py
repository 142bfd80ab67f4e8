"""Crontabs and calendars of elsewhere as schedules: due when cron or the calendar would be."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from plans import small_plan

from gambrel.core.schedules.calendars import job_occurrences
from gambrel.formats.timetables import MOST_ENTRIES, read_calendar, read_crontab
from gambrel.work.timetables import Said, drafted, entries

DAY = date(2026, 6, 1)
ZONE = "Etc/UTC"
DAYS = 500


def due(schedules, day=DAY, days=DAYS):
    """The instants at which schedules are due, as naive times of UTC."""
    job = replace(
        small_plan().jobs[0], schedules=tuple(schedules), after=None, spread_fulls=1, on_hold=False,
        hold_until=None,
    )  # fmt: skip
    start = datetime(day.year, day.month, day.day, tzinfo=UTC).timestamp()
    found = job_occurrences(job, {}, start, start + days * 86400)
    return sorted({datetime.fromtimestamp(at, UTC).replace(tzinfo=None) for at, _, _ in found})


# --- what cron would do, written down plainly -----------------------------------------------------


def values(field, low, high):
    found = set()
    for part in field.split(","):
        span, _, step = part.partition("/")
        if span == "*":
            begin, end = low, high
        elif "-" in span:
            begin, end = map(int, span.split("-"))
        else:
            begin, end = int(span), (high if step else int(span))
        found.update(range(begin, end + 1, int(step or 1)))
    return found


def cron_times(fields, day=DAY, days=DAYS):
    minutes, hours = values(fields[0], 0, 59), values(fields[1], 0, 23)
    month_days, months = values(fields[2], 1, 31), values(fields[3], 1, 12)
    week_days = {value % 7 for value in values(fields[4], 0, 7)}
    found = []
    for offset in range(days):
        at = day + timedelta(days=offset)
        by_month_day, by_week_day = at.day in month_days, at.isoweekday() % 7 in week_days
        either = not fields[2].startswith("*") and not fields[4].startswith("*")
        fits = by_month_day or by_week_day if either else by_month_day and by_week_day
        if at.month in months and fits:
            found += [
                datetime(at.year, at.month, at.day, hour, minute)
                for hour in sorted(hours) for minute in sorted(minutes)
            ]  # fmt: skip
    return found


def field(low, high, *, star=3):
    number = st.integers(low, high)
    span = st.tuples(number, number).map(lambda two: f"{min(two)}-{max(two)}")
    listed = st.lists(number.map(str) | span, min_size=1, max_size=3).map(",".join)
    stepped = st.tuples(st.just("*") | span, st.integers(1, high)).map(lambda t: f"{t[0]}/{t[1]}")
    return st.one_of(*[st.just("*")] * star, number.map(str), listed, stepped)


lines = st.tuples(
    st.integers(0, 59).map(str) | st.sampled_from(["*/15", "*/20", "0,30", "5", "10-50/20"]),
    st.integers(0, 23).map(str) | st.sampled_from(["*", "*/2", "*/6", "8-18", "1,13", "22"]),
    field(1, 31), field(1, 12), field(0, 7),
)  # fmt: skip


@settings(max_examples=150, deadline=None)
@given(lines)
def test_a_line_is_due_when_cron_would_start_it(fields):
    table = read_crontab(f"{' '.join(fields)} /usr/local/bin/x", day=DAY, zone=ZONE)
    if not table.starts:
        # What cannot be said is named with what it is that cannot be.
        assert table.problems[0].line == 1
        assert table.problems[0].reason.startswith(("binds days", "names more than"))
        return
    assert due(table.starts[0].schedules) == cron_times(fields)


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("61 2 * * * x", "not between 0 and 59"),
        ("0 2 * * frog x", "no number or name"),
        ("0 2 * * *", "no command"),
        ("*/0 2 * * * x", "steps by nothing"),
        ("5-1 2 * * * x", "not between"),
        ("@reboot x", "no time of a day"),
        ("0 2 */2 * 1 x", "at once"),
        ("*/7 * 3 * * x", "more than 24 times"),
        ("TZ=Nowhere/Else", "no IANA time zone"),
    ],
)
def test_what_cannot_be_said_is_named(line, words):
    table = read_crontab(f"# a comment\n\n{line}\n0 3 * * * y", day=DAY, zone=ZONE)
    assert [(p.line, words in p.reason) for p in table.problems] == [(3, True)]
    assert [start.line for start in table.starts] == [4], "the others are read"


def test_users_zones_names_and_kinds():
    text = (
        "SHELL=/bin/sh\nCRON_TZ=Europe/Vienna\n"
        "10 22 * * 1-5 root /opt/backup/mail-store.sh --incr\n"
        "10 22 * * 6 root nice -n 10 /opt/backup/mail-store.sh --full % a\n"
        "@daily root FOO=1 dump.pl \\% x\n"
    )
    table = read_crontab(text, day=DAY, zone=ZONE)
    assert table.with_user
    assert [(s.name, s.schedules[0].kind) for s in table.starts] == [
        ("mail-store", "incremental"), ("mail-store", "full"), ("dump", "incremental"),
    ]  # fmt: skip
    assert {s.schedules[0].time_zone for s in table.starts} == {"Europe/Vienna"}
    assert not read_crontab("10 22 * * 1-5 /opt/x --now", day=DAY, zone=ZONE).with_user
    many = "\n".join(["0 1 * * * x y"] * (MOST_ENTRIES + 5))
    assert len(read_crontab(many, day=DAY, zone=ZONE).problems) == 1


# --- calendars ------------------------------------------------------------------------------------

CALENDAR = """BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//test//EN
BEGIN:VEVENT
UID:1
SUMMARY:Full of gate
DTSTART;TZID=Europe/Dublin:20260605T213000
RRULE:FREQ=MONTHLY;BYDAY=1FR;UNTIL=20261231T235959Z
EXDATE;TZID=Europe/Dublin:20260807T213000
END:VEVENT
BEGIN:VEVENT
UID:2
SUMMARY:Nightly changes
DTSTART:20260601T190000Z
RRULE:FREQ=WEEKLY;BYDAY=MO,TU
RDATE:20260613T190000Z
END:VEVENT
BEGIN:VEVENT
UID:3
SUMMARY:A holiday
DTSTART;VALUE=DATE:20260603
END:VEVENT
BEGIN:VEVENT
UID:4
SUMMARY:Once
DTSTART;TZID=Europe/Dublin:20260610T090000
END:VEVENT
BEGIN:VEVENT
UID:5
SUMMARY:Long over
DTSTART:20200101T090000Z
END:VEVENT
BEGIN:VEVENT
UID:2
RECURRENCE-ID:20260608T190000Z
SUMMARY:Nightly changes
DTSTART:20260608T200000Z
END:VEVENT
END:VCALENDAR
""".replace("\n", "\r\n").encode()


def test_events_are_due_when_the_calendar_says():
    table = read_calendar(CALENDAR, day=DAY, zone="Europe/Dublin")
    full, nightly, once = table.starts
    dublin = ZoneInfo("Europe/Dublin")
    told = [at.replace(tzinfo=UTC).astimezone(dublin) for at in due(full.schedules, days=400)]
    assert [f"{at:%m-%d %H:%M}" for at in told] == [
        "06-05 21:30", "07-03 21:30", "09-04 21:30", "10-02 21:30", "11-06 21:30", "12-04 21:30",
    ]  # fmt: skip
    assert full.schedules[0].kind == "full"
    assert [f"{at:%m-%d %H:%M}" for at in due(nightly.schedules, days=14)] == [
        "06-01 19:00", "06-02 19:00", "06-08 19:00", "06-09 19:00", "06-13 19:00",
    ]  # fmt: skip
    assert due(once.schedules, days=60) == [datetime(2026, 6, 10, 8)]
    assert [(p.line, p.value) for p in table.problems] == [
        (3, "A holiday"), (5, "Long over"), (6, "Nightly changes"),
    ]  # fmt: skip
    with pytest.raises(ValueError):
        read_calendar(b"BEGIN:VCALENDAR\r\nnonsense", day=DAY, zone=ZONE)


# --- jobs -----------------------------------------------------------------------------------------


def test_lines_of_one_name_are_one_job_and_guesses_are_overruled():
    plan = small_plan()
    machine = plan.machines[0].id
    text = (
        f"0 21 * * 1-5 /opt/{machine}-dump.sh\n0 21 * * 6 /opt/{machine}-dump.sh --full\n"
        "0 5 * * * /opt/other.sh\n0 6 * * * /opt/third.sh\n"
    )
    table = read_crontab(text, day=DAY, zone=ZONE)
    found = entries(plan, table, {}, "")
    assert [entry.machine for entry in found] == [machine, machine, "", ""]
    assert [bool(entry.wrong) for entry in found] == [False, False, True, True]
    (job,) = drafted(plan, found, DAY)
    made = job.operation.apply(plan).jobs[-1]
    assert [s.kind for s in made.schedules] == ["incremental", "full"]
    assert made.machines.ids == (machine,)
    said = {
        2: Said(take=False), 3: Said(job="Other", kind="full", machine=machine),
        4: Said(machine="ghost"),
    }  # fmt: skip
    found = entries(plan, table, said, machine)
    assert "ghost is not a machine" in found[3].wrong
    jobs = drafted(plan, found, DAY)
    assert [job.name for job in jobs] == [f"{machine}-dump", "Other"]
    after = jobs[1].operation.apply(jobs[0].operation.apply(plan))
    assert [s.kind for s in after.jobs[-1].schedules] == ["full"]
    assert "full" in jobs[1].words
