"""Jobs, loads, times and sizes in plain words."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from zoneinfo import ZoneInfo

from gambrel.core.calendars import local_of
from gambrel.core.plan import (
    WEEKDAYS,
    Condition,
    Copy,
    DayRowSchedule,
    Job,
    Plan,
    Retention,
    RuleSchedule,
    Schedule,
)
from gambrel.core.selection import selected_machines
from gambrel.core.units import GIB, HOUR, MINUTE

_RULE_DAYS = {"MO": 0, "TU": 1, "WE": 2, "TH": 3, "FR": 4, "SA": 5, "SU": 6}
_DAY_NAMES = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_OPS = {
    "is": "is",
    "is_not": "is not",
    "contains": "contains",
    "starts_with": "starts with",
    "has": "",
    "has_not": "not",
    "at_least": "at least",
    "at_most": "at most",
}
_WINDOW_END = {
    "stop": "stopped at its end",
    "finish": "what has begun may finish",
    "run_on": "runs on past its end",
}
_TRANSPORT = {
    "auto": "best transport",
    "direct": "direct from storage only",
    "hot_add": "hot-add only",
    "network": "over the network only",
}


@dataclass(frozen=True, slots=True)
class Clause:
    """A part of the sentence that a job is: how it leads in, and what stands there."""

    lead: str
    text: str


def count(number: int, noun: str) -> str:
    """A number with its noun: "1 machine", "12 machines"."""
    plural = noun[:-1] + "ies" if noun.endswith("y") else noun + "s"
    return f"{number:,} {noun if number == 1 else plural}"


def _number(value: float) -> str:
    return f"{value:,.10g}"


def _condition(condition: Condition) -> str:
    value = condition.value
    op = _OPS[condition.op]
    if condition.field == "powered_on":
        return "powered on" if value else "powered off"
    if condition.field == "tag":
        return f"{op} tagged {value}".strip()
    if condition.field in ("used_gib", "provisioned_gib"):
        what = condition.field.removesuffix("_gib")
        assert not isinstance(value, str)
        return f"{op} {_number(value)} GiB {what}"
    return f"{condition.field} {op} {value}".replace(" is ", " ", 1 if condition.op == "is" else 0)


def rule_in_words(rule: Iterable[Condition]) -> str:
    """A rule of a selection: its conditions, all of which must hold."""
    return " and ".join(_condition(condition) for condition in rule)


def _machines(plan: Plan, job: Job) -> str:
    selection = job.machines
    parts = list(selection.ids[:3])
    if len(selection.ids) > 3:
        parts.append(f"{len(selection.ids) - 3} more by name")
    parts += [rule_in_words(rule) for rule in selection.rules]
    said = " or ".join(parts) if parts else "nothing selected yet"
    if selection.exclude:
        said += f", except {count(len(selection.exclude), 'machine')}"
    if job.exclude_disks:
        said += f", without {count(len(job.exclude_disks), 'disk')}"
    return f"{count(len(selected_machines(plan, job)), 'machine')}: {said}"


def _rule(schedule: RuleSchedule) -> str:
    parts = {
        k.upper(): v.upper() for k, _, v in (x.partition("=") for x in schedule.rrule.split(";"))
    }
    known = {"FREQ", "BYDAY"}
    at = f"{schedule.start:%H:%M}"
    days = parts.get("BYDAY", "").split(",") if "BYDAY" in parts else []
    plain = all(day in _RULE_DAYS for day in days)
    if set(parts) <= known and parts["FREQ"] == "DAILY" and not days:
        return f"every day at {at}"
    if set(parts) <= known and parts["FREQ"] in ("WEEKLY", "DAILY") and plain:
        if set(days) == {"MO", "TU", "WE", "TH", "FR"}:
            return f"every weekday at {at}"
        if len(set(days)) == 6:
            missing = next(day for code, day in _RULE_DAYS.items() if code not in days)
            return f"every day but {_DAY_NAMES[missing]} at {at}"
        names = [_DAY_NAMES[_RULE_DAYS[day]] for day in days]
        names = names or [_DAY_NAMES[schedule.start.weekday()]]
        listed = " and ".join(filter(None, [", ".join(names[:-1]), names[-1]]))
        return f"on {listed} at {at}"
    return f"by the rule {schedule.rrule} from {at}"


def schedule_in_words(schedule: Schedule) -> str:
    """A schedule as one would say it: "full on Friday at 21:00"."""
    if isinstance(schedule, DayRowSchedule):
        said = (
            f"every {_number(schedule.every_min)} minutes "
            f"from {schedule.from_time:%H:%M} to {schedule.to_time:%H:%M}"
        )
        if len(set(schedule.days)) < 7:
            said += " on " + ", ".join(WEEKDAYS[day].capitalize() for day in schedule.days)
    else:
        said = _rule(schedule)
    if schedule.skip or schedule.skip_dates:
        moved = "moved off" if schedule.when_skipped == "next_day" else "not on"
        said += f", {moved} " + " and ".join([*schedule.skip, *map(str, schedule.skip_dates)])
    if schedule.until is not None:
        said += f", until {schedule.until}"
    return f"{schedule.kind} {said}"


def retention_in_words(retention: Retention) -> str:
    """What a retention keeps: "14 points", "5 days and 8 weekly fulls", "everything"."""
    parts = []
    if retention.points is not None:
        parts.append(count(retention.points, "point"))
    for value, what in (
        (retention.days, "days"),
        (retention.full_days, "days of fulls"),
        (retention.incremental_days, "days of the rest"),
    ):
        if value is not None:
            parts.append(f"{_number(value)} {what}")
    for number, what in (
        (retention.weekly, "weekly full"),
        (retention.monthly, "monthly full"),
        (retention.yearly, "yearly full"),
    ):
        if number:
            parts.append(count(number, what))
    return " and ".join(parts) if parts else "everything"


def _copy(copy: Copy) -> str:
    delay = f" after {_number(copy.delay_min)} min" if copy.delay_min else ""
    return f"{copy.repository}{delay}, kept {retention_in_words(copy.retention)}"


def _runs(plan: Plan, job: Job) -> str:
    if job.after is not None:
        return f"whatever {plan.job_by_id[job.after].name} runs, after it"
    said = ", ".join(schedule_in_words(schedule) for schedule in job.schedules) or "on demand only"
    extra = {
        "forever": "; one full for ever",
        "differential": "; differentials from the last full",
        "full_only": "; always full",
        "incremental": "",
    }[job.chain]
    return said + ("; fulls made in the repository" if job.synthetic_full else "") + extra


def _readers(job: Job) -> str:
    proxies = "any proxy" if job.proxies is None else " or ".join(job.proxies) or "no proxy"
    return f"{proxies}, {_TRANSPORT[job.transport]}"


def _check(job: Job) -> str:
    if job.verify == "boot":
        return f"a boot test of {_number(job.boot_min)} min"
    return "a checksum" if job.verify == "checksum" else "nothing"


def job_clauses(plan: Plan, job: Job) -> list[Clause]:
    """The sentence that a job is, in its parts."""
    window = (
        "no window" if job.window is None else f"{job.window}, {_WINDOW_END[job.at_window_end]}"
    )
    clauses = [
        Clause("Back up", _machines(plan, job)),
        Clause("to", job.repository),
        Clause("as", _runs(plan, job)),
        Clause("inside", window),
        Clause("read by", _readers(job)),
        Clause("kept", retention_in_words(job.retention)),
        Clause("checked by", _check(job)),
    ]
    if job.copies:
        clauses.append(Clause("copied to", "; ".join(_copy(copy) for copy in job.copies)))
    limits = []
    if job.max_streams is not None:
        limits.append(f"{count(job.max_streams, 'stream')} at once")
    if job.limit_mbit_per_s is not None:
        limits.append(f"{_number(job.limit_mbit_per_s)} Mbit/s")
    if job.start_within_min is not None:
        limits.append(f"a start within {_number(job.start_within_min)} min")
    if job.stop_after_min is not None:
        limits.append(f"a stop after {_number(job.stop_after_min)} min")
    if limits:
        clauses.append(Clause("limited to", ", ".join(limits)))
    return clauses


# --- times, sizes, loads ------------------------------------------------------------------------


def duration(seconds: float) -> str:
    """A length of time as "3 h 40 min", "12 min" or "40 s"."""
    if seconds < MINUTE:
        return f"{round(seconds)} s"
    minutes = round(seconds / MINUTE)
    hours, rest = divmod(minutes, 60)
    if hours == 0:
        return f"{rest} min"
    days, hours_of_day = divmod(hours, 24)
    if days >= 2:
        return f"{days} d {hours_of_day} h" if hours_of_day else f"{days} d"
    return f"{hours} h {rest} min" if rest else f"{hours} h"


def moment(instant: float, zone: str) -> str:
    """An instant as "Fri 21:30" in a zone."""
    return f"{local_of(instant, ZoneInfo(zone)):%a %H:%M}"


def size(number: float) -> str:
    """Bytes as GiB or TiB."""
    return gib(number / GIB)


def gib(number: float) -> str:
    """GiB as GiB or TiB; small ones with one decimal."""
    if number >= 1024:
        return f"{number / 1024:.1f} TiB"
    return f"{number:.1f} GiB" if 0 < number < 10 else f"{number:.0f} GiB"


def hours(value: float) -> str:
    """Hours as a length of time."""
    return duration(value * HOUR)


def load_label(plan: Plan, name: str) -> str:
    """What a load, a resource or a slot pool is called on the screen."""
    slots = name.startswith("slots:")
    kind, _, ident = name.removeprefix("slots:").partition(":")
    if kind == "transport":
        return "the ceiling of one stream"
    sites = plan.site_by_id
    if kind == "link":
        link = next(link for link in plan.links if link.id == ident)
        one, other = (sites[site].name for site in link.between)
        return f"Link {one} to {other}" if one != other else f"Backup network at {one}"
    nouns = {
        "proxy": "Proxy",
        "repository": "Repository",
        "repository_read": "Reading from",
        "datastore": "Datastore",
        "server_disk": "Disk",
        "host_nic": "NIC of host",
        "server_nic": "NIC of server",
        "agent": "Agent on",
        "host": "Snapshots on host",
        "job": "Limit of job",
    }
    name = plan.job_by_id[ident].name if kind == "job" else ident
    return f"{nouns[kind]} {name}" + (", slots" if slots else "")
