"""Crontabs and systemd timers: due exactly when the plan says, whatever the schedule."""

from __future__ import annotations

import re
import shutil
import subprocess
from dataclasses import replace
from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from plans import FRIDAY_NOON

from gambrel.core.plan.reading import read_plan
from gambrel.core.schedules.calendars import job_occurrences
from gambrel.core.units import DAY
from gambrel.demo import larkmoor
from gambrel.formats.server_scripts import calendar_lines, cron_lines, server_files, timing


def job_with(**schedule):
    plan = larkmoor()
    job = next(j for j in plan["jobs"] if not j.get("after"))
    job["schedules"] = [{"kind": "full", "time_zone": "Europe/Dublin", **schedule}]
    job["machines"] = {"ids": [next(m["id"] for m in plan["machines"] if m["kind"] == "server")]}
    plan["jobs"] = [job]
    plan["state"] = {}
    return read_plan(plan)


SCHEDULES = [
    {"start": "2026-11-02T20:00", "rrule": "FREQ=DAILY"},
    {"start": "2026-11-06T21:15", "rrule": "FREQ=WEEKLY;BYDAY=FR"},
    {"start": "2026-11-02T01:30", "rrule": "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR"},
    {"start": "2026-11-02T22:00", "rrule": "FREQ=WEEKLY;INTERVAL=2;BYDAY=SA"},
    {"start": "2026-11-02T22:00", "rrule": "FREQ=MONTHLY;BYDAY=1SU"},
    {"start": "2026-11-02T22:00", "rrule": "FREQ=MONTHLY;BYMONTHDAY=-1"},
    {
        "days": ["mon", "tue", "fri"],
        "from": "06:00",
        "to": "20:00",
        "every_min": 240,
        "start": "2026-02-02",
    },
]


def by_cron(lines, first, days):
    """The local times at which lines of a crontab are due, read plainly."""
    found = set()
    for line in lines:
        minute, hour, _, _, on = line.split()[:5]
        for i in range(days):
            day = first + timedelta(days=i)
            if on == "*" or str((day.weekday() + 1) % 7) in on.split(","):
                found.add(datetime(day.year, day.month, day.day, int(hour), int(minute)))
    return found


def by_systemd(lines, first, days):
    """The same of OnCalendar lines."""
    names = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
    found = set()
    for line in lines:
        said = re.fullmatch(r"OnCalendar=(?:([A-Z][A-Za-z,]+) )?(\S+) (\S+) Europe/Dublin", line)
        on, when, at = said.groups()
        for i in range(days):
            day = first + timedelta(days=i)
            if (on is None or names[day.weekday()] in on.split(",")) and when in (
                "*-*-*",
                str(day),
            ):
                found.add(datetime.fromisoformat(f"{day} {at}"))
    return found


@pytest.mark.parametrize("schedule", SCHEDULES, ids=lambda s: s.get("rrule", "a row of a day"))
def test_a_script_starts_when_the_job_is_due(schedule):
    plan = job_with(**schedule)
    job = plan.jobs[0]
    told = timing(job, job.schedules[0], plan, FRIDAY_NOON)
    zone, days = ZoneInfo("Europe/Dublin"), 120
    due = {
        datetime.fromtimestamp(at, zone).replace(tzinfo=None)
        for at, _, _ in job_occurrences(job, plan.calendar_by_id, FRIDAY_NOON,
                                        FRIDAY_NOON + days * DAY)
    }  # fmt: skip
    first = datetime.fromtimestamp(FRIDAY_NOON, zone).date() + timedelta(days=1)
    last = first + timedelta(days=days - 3)
    within = {at for at in due if first <= at.date() < last}
    assert within
    lines = calendar_lines(told)
    assert {at for at in by_systemd(lines, first, days) if at.date() < last} == within
    cron = cron_lines(told, "x")
    if cron:
        assert {at for at in by_cron(cron, first, days) if at.date() < last} == within
    else:
        assert told.dates, "what cron cannot say has dates"


def test_holidays_are_left_out_of_the_dates():
    plan = job_with(start="2026-11-06T21:00", rrule="FREQ=WEEKLY;BYDAY=FR")
    job = plan.jobs[0]
    schedule = replace(job.schedules[0], skip_dates=(date(2026, 11, 13),))
    told = timing(replace(job, schedules=(schedule,)), schedule, plan, FRIDAY_NOON)
    assert not told.weekly
    assert date(2026, 11, 13) not in {at.date() for at in told.dates}
    assert date(2026, 11, 20) in {at.date() for at in told.dates}


def test_odd_names_stay_in_their_place():
    plan = job_with(start="2026-11-06T21:00", rrule="FREQ=DAILY")
    job = replace(plan.jobs[0], name="100 %\nrm -rf /", id="a'b; $(touch x)")
    files = dict(server_files(replace(plan, jobs=(job,)), "https://g.example.org", FRIDAY_NOON))
    assert all(".." not in path and path.count("/") == 1 for path in files)
    crontab = next(text for path, text in files.items() if path.endswith("crontab"))
    lines = [line for line in crontab.splitlines() if line and not line.startswith("#")]
    assert [line for line in lines if "rm -rf" in line] == []
    assert any("""'a'"'"'b; $(touch x)'""" in line for line in lines)


@pytest.mark.skipif(shutil.which("systemd-analyze") is None, reason="no systemd here")
def test_systemd_takes_every_timer_of_the_sample():
    plan = read_plan(larkmoor())
    files = dict(server_files(plan, "https://plan.example.org", FRIDAY_NOON))
    timers = {path: text for path, text in files.items() if path.endswith(".timer")}
    assert timers.keys() == {p[: -len("service")] + "timer" for p in files if ".service" in p}
    said = {line.partition("=")[2] for text in timers.values() for line in text.splitlines()
            if line.startswith("OnCalendar=")}  # fmt: skip
    assert said
    done = subprocess.run(
        ["systemd-analyze", "calendar", *sorted(said)], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
