"""Jobs, loads, times and sizes in plain words."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date
from zoneinfo import ZoneInfo

from gambrel.core.model.job_windows import has_default_window, window_of
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.volume import effective_kind
from gambrel.core.plan.learned import source_in_words
from gambrel.core.plan.objects import Condition, Copy, Job, Plan, Retention, Schedule
from gambrel.core.schedules.calendars import local_of
from gambrel.core.schedules.words import listed, number, schedule_in_words
from gambrel.core.units import GIB, HOUR, MINUTE

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
    """A part of the sentence that a job is.

    Attributes:
        key: which part.
        lead: how it leads in.
        text: what stands there.
        plain: whether it says no more than what goes without saying.
    """

    key: str
    lead: str
    text: str
    plain: bool = False


def count(amount: int, noun: str) -> str:
    """A number with its noun: "1 machine", "12 machines"."""
    ends_in_ies = noun.endswith("y") and noun[-2:-1] not in "aeiou"
    plural = noun[:-1] + "ies" if ends_in_ies else noun + "s"
    return f"{amount:,} {noun if amount == 1 else plural}"


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
        return f"{op} {number(value)} GiB {what}"
    return f"{condition.field} {op} {value}".replace(" is ", " ", 1 if condition.op == "is" else 0)


def rule_in_words(rule: Iterable[Condition]) -> str:
    """A rule of a selection: its conditions, all of which must hold."""
    return " and ".join(_condition(condition) for condition in rule)


def disk_rule_in_words(rule: Condition) -> str:
    """A rule by which disks are left out: "swap disks", "disks on d1"."""
    if rule.field == "only_swap":
        return "swap disks" if rule.value else "disks that are more than swap"
    if rule.field == "holds_backups":
        return "disks that hold backups" if rule.value else "disks that hold no backups"
    if rule.field == "used_gib":
        assert not isinstance(rule.value, str)
        return f"disks of {_OPS[rule.op]} {number(rule.value)} GiB"
    if rule.field == "datastore":
        return "disks on " + f"{_OPS[rule.op]} {rule.value}".removeprefix("is ")
    return "disks called " + f"{_OPS[rule.op]} {rule.value}".removeprefix("is ")


_ORDERS = {"largest": "the largest first", "smallest": "the smallest first", "name": "by name"}


def _machines(plan: Plan, job: Job) -> str:
    selection = job.machines
    parts = []
    if selection.ids:
        named = list(selection.ids[:3])
        more = len(selection.ids) - len(named)
        parts.append(listed([*named, f"{more} more by name"] if more else named))
    parts += [rule_in_words(rule) for rule in selection.rules]
    said = " or ".join(parts) if parts else "nothing selected yet"
    if selection.exclude:
        said += f", except {count(len(selection.exclude), 'machine')}"
    without = [disk_rule_in_words(rule) for rule in job.exclude_disk_rules]
    if job.exclude_disks:
        without.append(count(len(job.exclude_disks), "disk"))
    if job.exclude_paths:
        without.append(count(len(job.exclude_paths), "path"))
    if without:
        said += f", without {listed(without)}"
    if job.machine_order != "listed":
        said += f", {_ORDERS[job.machine_order]}"
    return f"{count(len(selected_machines(plan, job)), 'machine')}: {said}"


def retention_in_words(retention: Retention) -> str:
    """What a retention keeps: "14 points", "5 days and 8 weekly fulls", "everything".

    With a date: "14 points, and everything until 2027-01-31".
    """
    parts = []
    if retention.points is not None:
        parts.append(count(retention.points, "point"))
    for value, what in (
        (retention.days, "days"),
        (retention.full_days, "days of fulls"),
        (retention.incremental_days, "days of the rest"),
    ):
        if value is not None:
            parts.append(f"{number(value)} {what}")
    for tally, what in (
        (retention.weekly, "weekly full"),
        (retention.monthly, "monthly full"),
        (retention.yearly, "yearly full"),
    ):
        if tally:
            parts.append(count(tally, what))
    if retention.until is not None:
        said = f"everything until {retention.until}"
        return f"{' and '.join(parts)}, and {said}" if parts else said
    return " and ".join(parts) if parts else "everything"


def _copy(copy: Copy) -> str:
    delay = f" after {number(copy.delay_min)} min" if copy.delay_min else ""
    cold = ""
    if copy.cold_after_days is not None:
        cold = f", cold after {number(copy.cold_after_days)} days"
    return f"{copy.repository}{delay}, kept {retention_in_words(copy.retention)}{cold}"


def _runs(plan: Plan, job: Job) -> str:
    if job.after is not None:
        return f"whatever {plan.job_by_id[job.after].name} runs, after it" + _hold(job)
    said = ", ".join(_schedule(job, schedule) for schedule in job.schedules) or "on demand only"
    extra = {
        "forever": "; one full for ever",
        "differential": "; differentials from the last full",
        "full_only": "; always full",
        "incremental": "",
    }[job.chain]
    made = "; fulls made in the repository" if job.synthetic_full else ""
    if job.spread_fulls > 1:
        made += f"; fulls spread over {job.spread_fulls} days by machine"
    read = "" if job.tracking else "; changes found by reading all"
    return said + made + extra + read + _hold(job)


def _schedule(job: Job, schedule: Schedule) -> str:
    said = schedule_in_words(schedule)
    runs_as = effective_kind(job, schedule.kind, has_full=True)
    article = "an" if runs_as == "incremental" else "a"
    return said if runs_as == schedule.kind else f"{said} (runs as {article} {runs_as})"


def _hold(job: Job) -> str:
    if not job.on_hold:
        return ""
    return "; on hold" + ("" if job.hold_until is None else f" until {job.hold_until}")


def _readers(job: Job) -> str:
    proxies = "any proxy" if job.proxies is None else " or ".join(job.proxies) or "no proxy"
    return f"{proxies}, {_TRANSPORT[job.transport]}"


def _check(job: Job) -> str:
    if job.verify == "none":
        return "nothing"
    test = f"a boot test of {number(job.boot_min)} min" if job.verify == "boot" else "a checksum"
    return test if job.verify_fulls else f"{test}, except for fulls"


def _window(plan: Plan, job: Job) -> str:
    window = window_of(plan, job)
    said = "no window"
    if window is not None:
        of = " (the default of its machines)" if has_default_window(plan, job) else ""
        said = f"{window.id}{of}, {_WINDOW_END[job.at_window_end]}"
    if job.start_within_min is not None:
        said += f", started within {number(job.start_within_min)} min"
    if job.stop_after_min is not None:
        said += f", stopped after {number(job.stop_after_min)} min"
    return said


_FALLBACK = {
    "as it is": "",
    "standstill": ", else halted",
    "leave out": ", else left out",
}


def _preparation(job: Job) -> str:
    parts = []
    if job.before_min:
        parts.append(f"waiting {number(job.before_min)} min")
    if job.guest_before_s:
        name = job.guest_before_name or "steps"
        parts.append(f"{name} in the guest of {duration(job.guest_before_s)}")
    if job.quiesce_s:
        said = f"quiescing for {duration(job.quiesce_s)}{_FALLBACK[job.if_quiesce_fails]}"
        parts.append(said)
    if job.standstill != "none":
        word = "pausing" if job.standstill == "pause" else "stopping"
        parts.append(f"{word} for {duration(job.standstill_s)}")
    if job.guest_after_s:
        name = job.guest_after_name or "steps"
        parts.append(f"{name} in the guest after it of {duration(job.guest_after_s)}")
    if job.after_min:
        parts.append(f"closing work of {number(job.after_min)} min")
    return listed(parts) or "nothing but a snapshot"


def _reduction(job: Job) -> str:
    parts = ["compressed" if job.compress else "not compressed"]
    if job.encrypt:
        left = "" if job.encrypt_factor == 1 else f" at {number(job.encrypt_factor * 100)} % speed"
        parts.append(f"encrypted{left}")
    kept = [
        what
        for what, skipped in (("swap", job.skip_swap), ("unused blocks", job.skip_unused))
        if not skipped
    ]
    if kept:
        parts.append(f"{listed(kept)} included")
    return ", ".join(parts)


def _limits(job: Job) -> str:
    parts = []
    if job.max_streams is not None:
        parts.append(f"{count(job.max_streams, 'stream')} at once")
    if job.limit_mbit_per_s is not None:
        parts.append(f"{number(job.limit_mbit_per_s)} Mbit/s")
    if job.network is not None:
        parts.append(f"the network {job.network}")
    return ", ".join(parts) or "no limit of its own"


def _notices(job: Job) -> str:
    if job.notify == "never":
        return "nobody"
    who = listed(list(job.notify_to)) or "nobody yet"
    return who + (" on trouble" if job.notify == "trouble" else " every time")


def _to(job: Job) -> str:
    others = [
        f"{' or '.join(map(_called, each.rules))} to {each.repository}" for each in job.destinations
    ]
    return f"{job.repository}, but {' and '.join(others)}" if others else job.repository


def _called(rule: Sequence[Condition]) -> str:
    """A rule in words; a machine that is named is its name."""
    if [(each.field, each.op) for each in rule] == [("name", "is")]:
        return str(rule[0].value)
    return rule_in_words(rule)


def job_clauses(plan: Plan, job: Job) -> list[Clause]:
    """The sentence that a job is, in its parts: all of them, the plain ones too."""
    rank = f"priority {job.priority}"
    if job.share != 1:
        rank += f", share {number(job.share)}"
    readied = any(
        (job.before_min, job.after_min, job.guest_before_s, job.guest_after_s, job.quiesce_s)
    )
    copies = "; ".join(_copy(copy) for copy in job.copies) or "nowhere else"
    return [
        Clause("machines", "Back up", _machines(plan, job)),
        Clause("to", "to", _to(job)),
        Clause("runs", "as", _runs(plan, job)),
        Clause("window", "inside", _window(plan, job)),
        Clause("readers", "read by", _readers(job)),
        Clause("kept", "kept", retention_in_words(job.retention)),
        Clause("check", "checked by", _check(job)),
        Clause("copies", "copied to", copies, not job.copies),
        Clause(
            "preparation",
            "prepared by",
            _preparation(job),
            not readied and job.standstill == "none",
        ),
        Clause(
            "reduction",
            "sent",
            _reduction(job),
            job.compress and job.skip_swap and job.skip_unused and not job.encrypt,
        ),
        Clause("rank", "with", rank, job.priority == 3 and job.share == 1),
        Clause(
            "limits",
            "limited to",
            _limits(job),
            job.max_streams is None and job.limit_mbit_per_s is None and job.network is None,
        ),
        Clause("notices", "notify", _notices(job), job.notify == "never"),
    ]


def sentence(plan: Plan, job: Job) -> str:
    """The whole sentence as text; clauses that go without saying are left out."""
    clauses = [c for c in job_clauses(plan, job) if not c.plain]
    return f"{job.name}: " + ", ".join(f"{c.lead} {c.text}" for c in clauses) + "."


def job_changes(before: Plan, was: Job, after: Plan, now: Job) -> list[str]:
    """What became of a job, clause by clause: "as full on Saturday at 21:00 (was …)"."""
    told = [] if was.name == now.name else [f"is called {now.name}"]
    if was.locked != now.locked:
        told.append("locked" if now.locked else "unlocked")
    for old, new in zip(job_clauses(before, was), job_clauses(after, now), strict=True):
        if old.text != new.text:
            told.append(f"{new.lead} {new.text} (was {old.text})")
    if was.learned != now.learned and told:
        told.append(source_in_words(was, now))
    if not told and was != now:
        told.append("other details")
    return told


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


def night_title(day: date) -> str:
    """The heading of a page about a night: "The night of Friday 6 November 2026"."""
    return f"The night of {day:%A} {day.day} {day:%B %Y}"


def moment(instant: float, zone: str) -> str:
    """An instant as "Fri 21:30" in a zone."""
    return f"{local_of(instant, ZoneInfo(zone)):%a %H:%M}"


def dated_moment(instant: float, zone: str) -> str:
    """An instant that may be weeks away, by weekday and date: "Sun 18 Oct 12:00"."""
    local = local_of(instant, ZoneInfo(zone))
    return f"{local:%a} {local.day} {local:%b %H:%M}"


def size(number: float) -> str:
    """Bytes as MiB, GiB or TiB, as the screens write them."""
    return gib(number / GIB)


def gib(number: float) -> str:
    """GiB as MiB, GiB or TiB; a decimal where it tells something."""
    if number >= 1024:
        return f"{_trimmed(number / 1024, 1)} TiB"
    if number >= 1 or number == 0:
        return f"{_trimmed(number, 1 if number < 100 else 0)} GiB"
    return f"{_trimmed(number * 1024, 0)} MiB"


def _trimmed(number: float, digits: int) -> str:
    """A number with thousands set apart, without zeros at its end."""
    text = f"{number:,.{digits}f}"
    return text.rstrip("0").rstrip(".") if "." in text else text


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
        if link.network is not None:
            return f"Network {link.network} at {one}"
        return f"Link {one} to {other}" if one != other else f"Backup network at {one}"
    nouns = {
        "proxy": "Proxy",
        "repository": "Repository",
        "repository_read": "Reading from",
        "datastore": "Datastore",
        "server_disk": "Disk",
        "host_nic": "NIC of host",
        "host_nic_2": "Second NIC of host",
        "server_nic": "NIC of server",
        "server_nic_2": "Second NIC of server",
        "agent": "Agent on",
        "host": "Snapshots on host",
        "job": "Limit of job",
    }
    name = plan.job_by_id[ident].name if kind == "job" else ident
    return f"{nouns[kind]} {name}" + (", slots" if slots else "")
