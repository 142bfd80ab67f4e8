"""Crontabs and systemd timers for servers that are backed up by scripts of their own.

A script is started when its job is due and reports through the shell function of
`docs/examples/report-run.sh`. What recurs by the week is one line; whatever else a schedule says
(months, holidays, single dates) is a list of dates, which systemd takes and cron does not.
"""

from __future__ import annotations

import re
import shlex
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from gambrel.core.model.selection import selected_machines
from gambrel.core.plan.objects import Job, Machine, Plan, Schedule
from gambrel.core.schedules.calendars import job_occurrences
from gambrel.core.schedules.words import schedule_in_words
from gambrel.core.units import DAY

LOOKED_AT_WEEKS = 10
"""Whether a schedule recurs by the week is seen over so many."""
DATES_FOR_DAYS = 182
"""For so long dates are listed where it does not."""
SYSTEMD_DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
FUNCTION = "/etc/gambrel/report-run.sh"


@dataclass(frozen=True, slots=True)
class Timing:
    """When a script is started: by the week, or on dates, in local time of a zone.

    Attributes:
        weekly: (weekday, "HH:MM:SS"), Monday is 0; empty where dates are listed.
        dates: local times, in order.
    """

    zone: str
    weekly: frozenset[tuple[int, str]]
    dates: tuple[datetime, ...]


def timing(job: Job, schedule: Schedule, plan: Plan, since: float) -> Timing:
    """When a schedule of a job is due from an instant on."""
    zone = ZoneInfo(schedule.time_zone)
    alone = replace(job, schedules=(schedule,), after=None, spread_fulls=1)

    def local(days: float) -> list[datetime]:
        found = job_occurrences(alone, plan.calendar_by_id, since, since + days * DAY)
        return [datetime.fromtimestamp(at, zone).replace(tzinfo=None) for at, _, _ in found]

    plain = not (schedule.skip or schedule.skip_dates or schedule.extra or schedule.until)
    weeks: dict[int, set[tuple[int, str]]] = defaultdict(set)
    first = datetime.fromtimestamp(since, zone).date()
    monday = first - timedelta(days=first.weekday())
    for at in local(7 * LOOKED_AT_WEEKS):
        week = (at.date() - monday).days // 7
        weeks[week].add((at.weekday(), f"{at:%H:%M:%S}"))
    whole = [weeks[week] for week in range(1, LOOKED_AT_WEEKS - 1)]
    if plain and whole and whole[0] and all(week == whole[0] for week in whole):
        return Timing(schedule.time_zone, frozenset(whole[0]), ())
    return Timing(schedule.time_zone, frozenset(), tuple(local(DATES_FOR_DAYS)))


def cron_lines(told: Timing, command: str) -> list[str]:
    """Lines of a crontab (crontab(5), with a user); none where cron cannot say it."""
    by_time: dict[str, set[int]] = defaultdict(set)
    for day, at in told.weekly:
        by_time[at].add((day + 1) % 7)
    said = command.replace("%", "\\%")
    lines = []
    for at in sorted(by_time):
        hour, minute, _ = map(int, at.split(":"))
        days = by_time[at]
        on = "*" if len(days) == 7 else ",".join(map(str, sorted(days)))
        lines.append(f"{minute} {hour} * * {on}  root  {said}")
    return lines


def calendar_lines(told: Timing) -> list[str]:
    """OnCalendar lines of a timer (systemd.time(7))."""
    by_time: dict[str, set[int]] = defaultdict(set)
    for day, at in told.weekly:
        by_time[at].add(day)
    lines = []
    for at in sorted(by_time):
        days = by_time[at]
        on = "" if len(days) == 7 else ",".join(SYSTEMD_DAYS[day] for day in sorted(days)) + " "
        lines.append(f"OnCalendar={on}*-*-* {at} {told.zone}")
    return lines + [f"OnCalendar={at:%Y-%m-%d %H:%M:%S} {told.zone}" for at in told.dates]


def _slug(text: str) -> str:
    return re.sub(r"[^A-Za-z0-9_.-]+", "-", text).strip("-.") or "unnamed"


def _command(job: Job, machine: Machine, kind: str) -> str:
    script = f"/etc/gambrel/backup-{_slug(job.id)}"
    said = shlex.join(["report_run", job.id, machine.id, kind, script, kind])
    return f". {FUNCTION}; {said}"


def _one_line(text: str) -> str:
    return " ".join(text.split())


def server_files(plan: Plan, address: str, since: float) -> Iterator[tuple[str, str]]:
    """(path, content) of the files for each server of a job.

    Args:
        address: where Gambrel is, for the reports.
    """
    jobs: dict[str, list[Job]] = defaultdict(list)
    for job in plan.jobs:
        for machine in selected_machines(plan, job):
            if machine.kind == "server":
                jobs[machine.id].append(job)
    for machine in plan.machines:
        if machine.id in jobs:
            yield from _files_of(plan, machine, jobs[machine.id], address, since)


def _files_of(
    plan: Plan, machine: Machine, jobs: list[Job], address: str, since: float
) -> Iterator[tuple[str, str]]:
    folder = _slug(machine.id)
    crontab = [
        f"# Backups of {_one_line(machine.id)}: put this into /etc/cron.d, or the timers beside it "
        "into /etc/systemd/system.",
        "# GAMBREL_TOKEN is the token of a reporting script, made under Runs, Runner.",
        f"GAMBREL_URL={address}",
        "GAMBREL_TOKEN=",
    ]
    for job in jobs:
        source = job
        while source.after is not None:
            source = plan.job_by_id[source.after]
        for position, schedule in enumerate(source.schedules):
            told = timing(source, schedule, plan, since)
            command = _command(job, machine, schedule.kind)
            about = f"{_one_line(job.name)}: {_one_line(schedule_in_words(schedule))}"
            lines = cron_lines(told, command)
            if not told.weekly and not told.dates:
                crontab += ["", f"# {about}: not due within half a year"]
                continue
            crontab += ["", f"# {about}", f"CRON_TZ={told.zone}"]
            crontab += lines or [
                "# cron cannot say that; the timer beside this file has the dates of half a year"
            ]
            name = f"gambrel-{_slug(job.id)}-{schedule.kind}-{position + 1}"
            yield f"{folder}/{name}.timer", _timer(about, told)
            yield f"{folder}/{name}.service", _service(about, command, address)
    yield f"{folder}/crontab", "\n".join(crontab) + "\n"


def _timer(about: str, told: Timing) -> str:
    lines = [
        "[Unit]", f"Description={about.replace('%', '%%')}", "", "[Timer]", *calendar_lines(told),
        "AccuracySec=1s", "", "[Install]", "WantedBy=timers.target",
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


def _service(about: str, command: str, address: str) -> str:
    quoted = command.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$")
    lines = [
        "[Unit]", f"Description={about.replace('%', '%%')}", "", "[Service]", "Type=oneshot",
        f"Environment=GAMBREL_URL={address}", "EnvironmentFile=-/etc/gambrel/environment",
        f'ExecStart=/bin/sh -c "{quoted}"',
    ]  # fmt: skip
    return "\n".join(lines) + "\n"
