"""Reading and writing `gambrel-plan/1` as plain JSON values (planning model, section 1).

Every shape of the file is declared once, below, and serves both directions. Reading collects all
problems before it gives up, so that a planner can mend a file in one go.
"""

from __future__ import annotations

import dataclasses
import math
import re
from collections.abc import Callable, Container, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache
from typing import Any
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from gambrel.core.plan import objects as p
from gambrel.core.plan.recurrence_rules import EARLIEST_YEAR, LATEST_YEAR, parse_rule
from gambrel.core.plan.text_limits import LARGEST, MOST_CHARACTERS, MOST_OF_AN_ID, text_problem

FORMAT = "gambrel-plan/1"


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing that is wrong with a plan file: where, what stands there, and why it cannot be."""

    path: str
    value: Any
    reason: str

    def __str__(self) -> str:
        shown = repr(self.value)
        shown = shown if len(shown) <= 80 else shown[:77] + "..."
        return f"{self.path}: {shown} {self.reason}"


class PlanError(ValueError):
    """A plan file that breaks the format. `problems` names every place."""

    def __init__(self, problems: Sequence[Problem]) -> None:
        self.problems = tuple(problems)
        super().__init__("; ".join(str(problem) for problem in self.problems))


_MISSING: Any = object()
"""Stands for a value that could not be read; it never leaves this module."""


class _Context:
    def __init__(self) -> None:
        self.problems: list[Problem] = []
        self.references: list[tuple[str, str, str]] = []

    def problem(self, path: str, value: Any, reason: str) -> Any:
        self.problems.append(Problem(path, value, reason))
        return _MISSING


@dataclass(frozen=True, slots=True)
class Value:
    """How one JSON value is read and written."""

    read: Callable[[_Context, str, Any], Any]
    write: Callable[[Any], Any] = lambda value: value


# --- single values ----------------------------------------------------------------------------


def _read_text(ctx: _Context, path: str, value: Any) -> Any:
    if not isinstance(value, str):
        return ctx.problem(path, value, "is not a text")
    return _checked_text(ctx, path, value, MOST_CHARACTERS)


def _checked_text(ctx: _Context, path: str, value: str, most: int) -> Any:
    reason = text_problem(value, most)
    return value if reason is None else ctx.problem(path, ascii(value[:40]), reason)


def _read_filled_text(ctx: _Context, path: str, value: Any) -> Any:
    if not isinstance(value, str) or not value:
        return ctx.problem(path, value, "is not a text with at least one character")
    return _checked_text(ctx, path, value, MOST_OF_AN_ID)


def _read_flag(ctx: _Context, path: str, value: Any) -> Any:
    if not isinstance(value, bool):
        return ctx.problem(path, value, "is neither true nor false")
    return value


def _number(
    *,
    above: float | None = None,
    least: float | None = None,
    most: float = LARGEST,
    whole: bool = False,
) -> Value:
    def read(ctx: _Context, path: str, value: Any) -> Any:
        if isinstance(value, bool) or not isinstance(value, int | float):
            return ctx.problem(path, value, "is not a number")
        try:
            number = float(value)
        except OverflowError:
            number = math.inf
        if not math.isfinite(number):
            return ctx.problem(path, value, "is not a finite number")
        if whole and not number.is_integer():
            return ctx.problem(path, value, "is not a whole number")
        if above is not None and not number > above:
            return ctx.problem(path, value, f"is not above {above:g}")
        if least is not None and number < least:
            return ctx.problem(path, value, f"is below {least:g}")
        if number > most:
            return ctx.problem(path, value, f"is above {most:g}")
        return int(number) if whole else number

    return Value(read, _write_number)


def _write_number(value: float) -> float | int:
    return int(value) if float(value).is_integer() and abs(value) < 2**53 else value


def _choice(*words: str) -> Value:
    def read(ctx: _Context, path: str, value: Any) -> Any:
        if value not in words or not isinstance(value, str):
            return ctx.problem(path, value, "is none of " + ", ".join(words))
        return value

    return Value(read)


def _pattern(form: str, example: str, parse: Callable[[str], Any], write: Any) -> Value:
    compiled = re.compile(form, re.ASCII)

    def read(ctx: _Context, path: str, value: Any) -> Any:
        if not isinstance(value, str) or not compiled.fullmatch(value):
            return ctx.problem(path, value, f"is not written like {example}")
        try:
            found = parse(value)
        except ValueError:
            return ctx.problem(path, value, "does not exist")
        if isinstance(found, date) and not EARLIEST_YEAR <= found.year <= LATEST_YEAR:
            reason = f"is not between the years {EARLIEST_YEAR} and {LATEST_YEAR}"
            return ctx.problem(path, value, reason)
        return found

    return Value(read, write)


_EPOCH = datetime(1970, 1, 1)


def parse_instant(text: str) -> float:
    """Seconds of an ISO 8601 instant in UTC, such as 2026-11-06T21:00:00Z.

    Raises:
        ValueError: where the text is no such instant.
    """
    if not re.fullmatch(r"\d{4}-\d\d-\d\dT\d\d:\d\d(:\d\d(\.\d{1,6})?)?Z", text, re.ASCII):
        raise ValueError(f"{text!r} is not an instant like 2026-11-06T21:00:00Z")
    return datetime.fromisoformat(text[:-1]).replace(tzinfo=UTC).timestamp()


@lru_cache(maxsize=1 << 14)  # a night that is looked at again has mostly the instants it had
def format_instant(instant: float) -> str:
    """ISO 8601 in UTC, rounded to milliseconds, with "Z"."""
    at = _EPOCH + timedelta(milliseconds=round(instant * 1000))
    return at.isoformat(timespec="milliseconds") + "Z"


def _write_exact_instant(instant: float) -> str:
    text = datetime.fromtimestamp(instant, UTC).isoformat().removesuffix("+00:00")
    return text + "Z"


def _read_instant(ctx: _Context, path: str, value: Any) -> Any:
    try:
        found = parse_instant(value) if isinstance(value, str) else parse_instant("")
    except ValueError:
        return ctx.problem(path, value, "is not an instant like 2026-11-06T21:00:00Z")
    if not EARLIEST_YEAR <= int(value[:4]) <= LATEST_YEAR:
        reason = f"is not between the years {EARLIEST_YEAR} and {LATEST_YEAR}"
        return ctx.problem(path, value, reason)
    return found


def _read_zone(ctx: _Context, path: str, value: Any) -> Any:
    if isinstance(value, str) and value:
        try:
            ZoneInfo(value)
            return value
        except (ZoneInfoNotFoundError, ValueError, OSError):
            pass
    return ctx.problem(path, value, "is not a known IANA time zone like Europe/Dublin")


TEXT = Value(_read_text)
IDENT = Value(_read_filled_text)
FLAG = Value(_read_flag)
ZONE = Value(_read_zone)
INSTANT = Value(_read_instant, _write_exact_instant)
CAPACITY = _number(above=0)
AMOUNT = _number(least=0)
COUNT = _number(least=1, whole=True)
TALLY = _number(least=0, whole=True)
SPAN = _number(least=1)
FRACTION = _number(least=0, most=1)
TIME = _pattern(
    r"\d\d:\d\d", "20:30", lambda t: time.fromisoformat(t), lambda t: t.strftime("%H:%M")
)
DATE = _pattern(r"\d{4}-\d\d-\d\d", "2026-11-06", date.fromisoformat, date.isoformat)
LOCAL = _pattern(
    r"\d{4}-\d\d-\d\dT\d\d:\d\d",
    "2026-11-06T21:00",
    datetime.fromisoformat,
    lambda t: t.isoformat(timespec="minutes"),
)
WEEKDAY = Value(
    lambda ctx, path, value: (
        p.WEEKDAYS.index(value)
        if isinstance(value, str) and value in p.WEEKDAYS
        else ctx.problem(path, value, "is none of " + ", ".join(p.WEEKDAYS))
    ),
    lambda day: p.WEEKDAYS[day],
)


def reference(to: str) -> Value:
    """The id of an object in the list `to`, checked when the whole file has been read."""

    def read(ctx: _Context, path: str, value: Any) -> Any:
        text = _read_filled_text(ctx, path, value)
        if text is not _MISSING:
            ctx.references.append((path, text, to))
        return text

    return Value(read)


def optional(value: Value) -> Value:
    """A value or null."""
    return Value(
        lambda ctx, path, raw: None if raw is None else value.read(ctx, path, raw),
        lambda item: None if item is None else value.write(item),
    )


def many(value: Value, *, distinct: bool = False, least: int = 0) -> Value:
    """A list of values."""

    def read(ctx: _Context, path: str, raw: Any) -> Any:
        if not isinstance(raw, list):
            return ctx.problem(path, raw, "is not a list")
        if len(raw) < least:
            return ctx.problem(path, raw, f"has fewer than {least} entries")
        items = [value.read(ctx, f"{path}[{i}]", item) for i, item in enumerate(raw)]
        if distinct:
            seen = set()
            for i, item in enumerate(items):
                if item is not _MISSING and item in seen:
                    ctx.problem(f"{path}[{i}]", raw[i], "stands in the list twice")
                seen.add(item)
        return _MISSING if any(item is _MISSING for item in items) else tuple(items)

    return Value(read, lambda items: [value.write(item) for item in items])


def pair(first: Value, second: Value) -> Value:
    """A list of exactly two values."""

    def read(ctx: _Context, path: str, raw: Any) -> Any:
        if not isinstance(raw, list) or len(raw) != 2:
            return ctx.problem(path, raw, "is not a list of two")
        items = (first.read(ctx, f"{path}[0]", raw[0]), second.read(ctx, f"{path}[1]", raw[1]))
        return _MISSING if _MISSING in items else items

    return Value(read, lambda items: [first.write(items[0]), second.write(items[1])])


# --- objects ----------------------------------------------------------------------------------


@dataclass(frozen=True)
class Shape:
    """A JSON object that is read into a dataclass; defaults are those of the dataclass."""

    target: type
    keys: Mapping[str, Value]
    check: Callable[[_Context, str, Any], None] | None = None
    constants: Mapping[str, Any] = dataclasses.field(default_factory=dict)
    fallback: Mapping[str, str] = dataclasses.field(default_factory=dict)
    foreign: Mapping[str, str] = dataclasses.field(default_factory=dict)

    def defaults(self) -> dict[str, Any]:
        found: dict[str, Any] = {}
        for field in dataclasses.fields(self.target):
            if field.default is not dataclasses.MISSING:
                found[field.name] = field.default
            elif field.default_factory is not dataclasses.MISSING:
                found[field.name] = field.default_factory()
        return found

    def read(self, ctx: _Context, path: str, raw: Any) -> Any:
        if not isinstance(raw, dict):
            return ctx.problem(path, raw, "is not an object")
        prefix = f"{path}." if path else ""
        for key in raw:
            if key not in self.keys:
                reason = self.foreign.get(key, "is not a key that is known here")
                ctx.problem(f"{prefix}{key}", raw[key], reason)
        defaults = self.defaults()
        values: dict[str, Any] = dict(self.constants)
        broken = False
        for key, value in self.keys.items():
            name = attribute(key)
            if key in raw:
                values[name] = value.read(ctx, f"{prefix}{key}", raw[key])
            elif key in self.fallback and self.fallback[key] in raw:
                values[name] = raw[self.fallback[key]]
            elif name in defaults:
                values[name] = defaults[name]
            else:
                values[name] = ctx.problem(f"{prefix}{key}", None, "is required and missing")
            broken = broken or values[name] is _MISSING
        if broken:
            return _MISSING
        result = self.target(**values)
        if self.check is not None:
            before = len(ctx.problems)
            self.check(ctx, path, result)
            if len(ctx.problems) > before:
                return _MISSING
        return result

    def write(self, item: Any, *, whole: bool = False) -> dict[str, Any]:
        """The object as JSON values; those at their default are left out unless `whole`."""
        defaults = {} if whole else self.defaults()
        written: dict[str, Any] = {}
        for key, value in self.keys.items():
            name = attribute(key)
            current = getattr(item, name)
            if name in defaults and current == defaults[name]:
                continue
            if (
                not whole
                and key in self.fallback
                and current == getattr(item, attribute(self.fallback[key]))
            ):
                continue
            written[key] = value.write(current)
        return written

    def value(self) -> Value:
        return Value(self.read, self.write)


def attribute(key: str) -> str:
    """The name in Python of a key in the file: `from` is a reserved word."""
    return {"from": "from_time", "to": "to_time"}.get(key, key)


def _distinct_ids(items: str) -> Callable[[_Context, str, Any], None]:
    def check(ctx: _Context, path: str, owner: Any) -> None:
        seen: set[str] = set()
        for i, item in enumerate(getattr(owner, items)):
            if item.id in seen:
                where = f"{path}.{items}" if path else items
                ctx.problem(f"{where}[{i}].id", item.id, f"stands twice in {where}")
            seen.add(item.id)

    return check


SITE = Shape(p.Site, {"id": IDENT, "name": TEXT, "time_zone": ZONE}, fallback={"name": "id"})
LINK_LIMIT = Shape(
    p.LinkLimit, {"days": many(WEEKDAY), "from": TIME, "to": TIME, "mbit_per_s": AMOUNT}
)
LINK = Shape(
    p.Link,
    {
        "id": IDENT,
        "between": pair(reference("sites"), reference("sites")),
        "mbit_per_s": CAPACITY,
        "limits": many(LINK_LIMIT.value()),
        "encrypted": FLAG,
        "encryption_factor": _number(above=0, most=1),
    },
)
FOUND = Shape(p.Found, {"source": IDENT, "uid": IDENT})
HOST = Shape(
    p.Host,
    {
        "id": IDENT,
        "site": reference("sites"),
        "cluster": optional(IDENT),
        "nic_mbit_per_s": optional(CAPACITY),
        "snapshot_slots": optional(COUNT),
        "proxies": optional(many(reference("proxies"), distinct=True)),
        "found": optional(FOUND.value()),
    },
)
DATASTORE = Shape(
    p.Datastore,
    {
        "id": IDENT,
        "hosts": many(reference("hosts"), distinct=True),
        "read_mib_per_s": optional(CAPACITY),
        "task_slots": optional(COUNT),
        "zoned_proxies": many(reference("proxies"), distinct=True),
        "found": optional(FOUND.value()),
    },
)


def _check_proxy(ctx: _Context, path: str, proxy: p.Proxy) -> None:
    at = f"{path}." if path else ""
    if proxy.on_machine is not None and proxy.on_host is not None:
        reason = "stands beside on_machine; the host is that of the machine"
        ctx.problem(f"{at}on_host", proxy.on_host, reason)
    if proxy.physical and (proxy.on_machine is not None or proxy.on_host is not None):
        ctx.problem(f"{at}physical", True, "is no word for a proxy that runs on a host")


PROXY = Shape(
    p.Proxy,
    {
        "id": IDENT,
        "site": reference("sites"),
        "slots": COUNT,
        "mib_per_s": optional(CAPACITY),
        "direct_datastores": many(reference("datastores"), distinct=True),
        "on_host": optional(reference("hosts")),
        "cores": optional(COUNT),
        "memory_gib": optional(CAPACITY),
        "physical": FLAG,
        "on_machine": optional(reference("machines")),
        "left_out_datastores": many(reference("datastores"), distinct=True),
        "throughput_from": _choice("stated", "learned"),
    },
    check=_check_proxy,
)
VOLUME = Shape(p.Volume, {"id": IDENT, "capacity_gib": CAPACITY})


def _check_repository(ctx: _Context, path: str, repository: p.Repository) -> None:
    if repository.volumes and repository.capacity_gib is not None:
        at = f"{path}.capacity_gib" if path else "capacity_gib"
        reason = "stands beside volumes; the capacity is theirs"
        ctx.problem(at, repository.capacity_gib, reason)
    _distinct_ids("volumes")(ctx, path, repository)


REPOSITORY = Shape(
    p.Repository,
    {
        "id": IDENT,
        "site": reference("sites"),
        "stream_slots": optional(COUNT),
        "ingest_mib_per_s": optional(CAPACITY),
        "read_mib_per_s": optional(CAPACITY),
        "transform_mib_per_s": optional(CAPACITY),
        "capacity_gib": optional(CAPACITY),
        "dedupe_ratio": CAPACITY,
        "block_clone": FLAG,
        "immutable_days": AMOUNT,
        "kind": _choice("disk", "deduplicating", "object", "tape"),
        "volumes": many(VOLUME.value()),
        "placement": _choice("most free", "chain together"),
    },
    check=_check_repository,
)


def _check_disk(ctx: _Context, path: str, disk: p.Disk) -> None:
    if disk.used_gib > disk.provisioned_gib:
        ctx.problem(f"{path}.used_gib", disk.used_gib, "is more than provisioned_gib")
    if disk.swap_gib > disk.used_gib:
        ctx.problem(f"{path}.swap_gib", disk.swap_gib, "is more than used_gib, of which it is part")


_DISK_KEYS = {
    "id": IDENT,
    "provisioned_gib": AMOUNT,
    "used_gib": AMOUNT,
    "swap_gib": AMOUNT,
    "holds_backups": FLAG,
}
USER_SNAPSHOT = Shape(p.UserSnapshot, {"name": TEXT, "taken_at": INSTANT, "gib": AMOUNT})
LEFT_OUT = Shape(p.LeftOut, {"reason": IDENT, "review": optional(DATE)})
FACTS = Shape(
    p.Facts,
    {
        "found": optional(FOUND.value()),
        "role": TEXT,
        "change_from": _choice("stated", "learned", "role", "reported"),
        "growth_per_year": _number(least=-1, most=100),
        "quiesces": FLAG,
        "snapshots": many(USER_SNAPSHOT.value()),
        "left_out": optional(LEFT_OUT.value()),
        "known_since": optional(DATE),
        "gone_since": optional(DATE),
        "reported": many(pair(IDENT, optional(_number(least=-1)))),
    },
)
VM_DISK = Shape(
    p.Disk,
    {**_DISK_KEYS, "datastore": reference("datastores")},
    check=_check_disk,
    foreign={"read_mib_per_s": "is a key of a server's disk; this is a VM"},
)
SERVER_DISK = Shape(
    p.Disk,
    {**_DISK_KEYS, "read_mib_per_s": optional(CAPACITY)},
    check=_check_disk,
    foreign={"datastore": "is a key of a VM's disk; this is a server"},
)
_MACHINE_KEYS = {
    "tags": many(IDENT, distinct=True),
    "folder": TEXT,
    "powered_on": FLAG,
    "daily_change": AMOUNT,
    "churn_ceiling": FRACTION,
    "compress_ratio": CAPACITY,
    "rpo_hours": optional(CAPACITY),
    "rto_hours": optional(CAPACITY),
    "facts": FACTS.value(),
}
VM = Shape(
    p.Machine,
    {
        "id": IDENT,
        "kind": _choice("vm", "server"),
        "host": reference("hosts"),
        **_MACHINE_KEYS,
        "disks": many(VM_DISK.value()),
    },
    check=_distinct_ids("disks"),
    foreign=dict.fromkeys(
        ("site", "nic_mbit_per_s", "agent_streams"), "is a key of a server; this is a VM"
    ),
)
SERVER = Shape(
    p.Machine,
    {
        "id": IDENT,
        "kind": _choice("vm", "server"),
        "site": reference("sites"),
        "nic_mbit_per_s": optional(CAPACITY),
        "agent_streams": COUNT,
        **_MACHINE_KEYS,
        "disks": many(SERVER_DISK.value()),
    },
    check=_distinct_ids("disks"),
    foreign={"host": "is a key of a VM; this is a server"},
)


def _read_machine(ctx: _Context, path: str, raw: Any) -> Any:
    shape = SERVER if isinstance(raw, dict) and raw.get("kind") == "server" else VM
    return shape.read(ctx, path, raw)


MACHINE = Value(_read_machine, lambda m: (SERVER if m.kind == "server" else VM).write(m))

OPEN_INTERVAL = Shape(p.OpenInterval, {"days": many(WEEKDAY), "from": TIME, "to": TIME})
DATE_INTERVAL = Shape(p.DateInterval, {"from": TIME, "to": TIME})
WINDOW_EXCEPTION = Shape(p.WindowException, {"date": DATE, "open": many(DATE_INTERVAL.value())})
WINDOW = Shape(
    p.Window,
    {
        "id": IDENT,
        "time_zone": ZONE,
        "open": many(OPEN_INTERVAL.value()),
        "exceptions": many(WINDOW_EXCEPTION.value()),
    },
)
CALENDAR = Shape(p.Calendar, {"id": IDENT, "dates": many(DATE)})

TEXT_OPS = ("is", "is_not", "contains", "starts_with")
TEXT_FIELDS = ("name", "folder", "host", "cluster", "datastore", "site", "kind")
OPS_BY_FIELD: dict[str, tuple[str, ...]] = {
    **dict.fromkeys(TEXT_FIELDS, TEXT_OPS),
    "tag": ("has", "has_not"),
    "used_gib": ("at_least", "at_most"),
    "provisioned_gib": ("at_least", "at_most"),
    "powered_on": ("is",),
}


DISK_OPS_BY_FIELD: dict[str, tuple[str, ...]] = {
    "disk": ("is", "contains", "starts_with"),
    "datastore": ("is", "contains", "starts_with"),
    "only_swap": ("is",),
    "holds_backups": ("is",),
    "used_gib": ("at_least", "at_most"),
}
"""Conditions on disks: what a job leaves out by rule."""
_FLAGS = ("powered_on", "only_swap", "holds_backups")


def _condition_reader(ops: Mapping[str, tuple[str, ...]]) -> Any:
    def read(ctx: _Context, path: str, raw: Any) -> Any:
        if not isinstance(raw, dict):
            return ctx.problem(path, raw, "is not an object")
        field = raw.get("field")
        if not isinstance(field, str) or field not in ops:
            return ctx.problem(f"{path}.field", field, "is none of " + ", ".join(ops))
        if field in ("used_gib", "provisioned_gib"):
            value = AMOUNT
        else:
            value = FLAG if field in _FLAGS else IDENT
        keys = {"field": TEXT, "op": _choice(*ops[field]), "value": value}
        return Shape(p.Condition, keys).read(ctx, path, raw)

    return read


def _write_condition(condition: p.Condition) -> dict[str, Any]:
    value = condition.value
    if isinstance(value, float):
        value = _write_number(value)
    return {"field": condition.field, "op": condition.op, "value": value}


CONDITION = Value(_condition_reader(OPS_BY_FIELD), _write_condition)
DISK_CONDITION = Value(_condition_reader(DISK_OPS_BY_FIELD), _write_condition)
SELECTION = Shape(
    p.Selection,
    {
        "ids": many(reference("machines"), distinct=True),
        "rules": many(many(CONDITION, least=1)),
        "exclude": many(reference("machines"), distinct=True),
    },
)

_KIND = _choice("full", "incremental", "differential")
_SCHEDULE_KEYS = {
    "time_zone": ZONE,
    "skip": many(reference("calendars"), distinct=True),
    "when_skipped": _choice("drop", "next_day"),
    "skip_dates": many(DATE),
    "extra": many(LOCAL),
    "until": optional(DATE),
}


def _check_rule(ctx: _Context, path: str, schedule: p.RuleSchedule) -> None:
    try:
        parse_rule(schedule.rrule, schedule.start)
    except ValueError as error:
        ctx.problem(f"{path}.rrule", schedule.rrule, str(error))


RULE_SCHEDULE = Shape(
    p.RuleSchedule,
    {"kind": _KIND, "rrule": IDENT, "start": LOCAL, **_SCHEDULE_KEYS},
    check=_check_rule,
)
DAY_ROW_SCHEDULE = Shape(
    p.DayRowSchedule,
    {
        "kind": _KIND,
        "every_min": SPAN,
        "from": TIME,
        "to": TIME,
        "days": many(WEEKDAY, distinct=True),
        "start": DATE,
        **_SCHEDULE_KEYS,
    },
    foreign={"rrule": "stands beside every_min; a schedule has one of the two"},
)


def _read_schedule(ctx: _Context, path: str, raw: Any) -> Any:
    shape = DAY_ROW_SCHEDULE if isinstance(raw, dict) and "every_min" in raw else RULE_SCHEDULE
    return shape.read(ctx, path, raw)


SCHEDULE = Value(
    _read_schedule,
    lambda s: (RULE_SCHEDULE if isinstance(s, p.RuleSchedule) else DAY_ROW_SCHEDULE).write(s),
)
RETENTION = Shape(
    p.Retention,
    {
        "points": optional(COUNT),
        "days": optional(SPAN),
        "full_days": optional(SPAN),
        "incremental_days": optional(SPAN),
        "weekly": TALLY,
        "monthly": TALLY,
        "yearly": TALLY,
        "until": optional(DATE),
    },
)
COPY = Shape(
    p.Copy,
    {
        "repository": reference("repositories"),
        "delay_min": AMOUNT,
        "retention": RETENTION.value(),
        "cold_after_days": optional(SPAN),
    },
)
EXCLUDED_PATH = Shape(
    p.ExcludedPath,
    {"machine": reference("machines"), "disk": IDENT, "path": IDENT, "gib": AMOUNT},
)


def _check_job(ctx: _Context, path: str, job: p.Job) -> None:
    if job.after is not None and job.schedules:
        ctx.problem(f"{path}.after", job.after, "stands beside schedules; a job has one of the two")
    if job.after is not None and job.spread_fulls > 1:
        ctx.problem(
            f"{path}.spread_fulls", job.spread_fulls, "is for a job with schedules of its own"
        )
    for i, copy in enumerate(job.copies):
        if copy.repository == job.repository:
            ctx.problem(
                f"{path}.copies[{i}].repository", copy.repository, "is the job's own repository"
            )
    if job.hold_until is not None and not job.on_hold:
        ctx.problem(f"{path}.hold_until", job.hold_until.isoformat(), "stands without on_hold")


JOB = Shape(
    p.Job,
    {
        "id": IDENT,
        "name": TEXT,
        "priority": _number(least=1, most=5, whole=True),
        "share": CAPACITY,
        "machines": SELECTION.value(),
        "exclude_disks": many(pair(IDENT, IDENT), distinct=True),
        "repository": reference("repositories"),
        "proxies": optional(many(reference("proxies"), distinct=True)),
        "transport": _choice("auto", "direct", "hot_add", "network"),
        "schedules": many(SCHEDULE),
        "after": optional(reference("jobs")),
        "window": optional(reference("windows")),
        "at_window_end": _choice("stop", "finish", "run_on"),
        "start_within_min": optional(AMOUNT),
        "stop_after_min": optional(AMOUNT),
        "chain": _choice("incremental", "differential", "forever", "full_only"),
        "synthetic_full": FLAG,
        "tracking": FLAG,
        "skip_swap": FLAG,
        "skip_unused": FLAG,
        "compress": FLAG,
        "quiesce_s": AMOUNT,
        "before_min": AMOUNT,
        "after_min": AMOUNT,
        "verify": _choice("none", "checksum", "boot"),
        "boot_min": AMOUNT,
        "limit_mbit_per_s": optional(CAPACITY),
        "max_streams": optional(COUNT),
        "retention": RETENTION.value(),
        "copies": many(COPY.value()),
        "locked": FLAG,
        "spread_fulls": _number(least=1, most=14, whole=True),
        "on_hold": FLAG,
        "hold_until": optional(DATE),
        "machine_order": _choice("listed", "largest", "smallest", "name"),
        "exclude_disk_rules": many(DISK_CONDITION),
        "exclude_paths": many(EXCLUDED_PATH.value()),
        "guest_before_s": AMOUNT,
        "guest_after_s": AMOUNT,
        "if_quiesce_fails": _choice("as it is", "standstill", "leave out"),
        "standstill": _choice("none", "pause", "stop"),
        "standstill_s": AMOUNT,
        "encrypt": FLAG,
        "encrypt_factor": _number(above=0, most=1),
        "notify": _choice("never", "trouble", "always"),
        "notify_to": many(IDENT, distinct=True),
    },
    check=_check_job,
    fallback={"name": "id"},
)
TRANSPORTS = Shape(
    p.Transports,
    dict.fromkeys(
        ("direct_mib_per_s", "hot_add_mib_per_s", "network_mib_per_s", "agent_mib_per_s"), CAPACITY
    ),
)


def _check_point(ctx: _Context, path: str, point: p.ExistingPoint) -> None:
    if point.exists_from < point.at:
        ctx.problem(
            f"{path}.exists_from", format_instant(point.exists_from), "is before the point's `at`"
        )


POINT = Shape(
    p.ExistingPoint,
    {
        "job": reference("jobs"),
        "machine": reference("machines"),
        "repository": reference("repositories"),
        "kind": _KIND,
        "at": INSTANT,
        "exists_from": INSTANT,
        "stored_bytes": AMOUNT,
    },
    check=_check_point,
)
STATE = Shape(p.State, {"points": many(POINT.value())})

ITEMS: dict[str, Shape] = {
    "sites": SITE,
    "links": LINK,
    "hosts": HOST,
    "datastores": DATASTORE,
    "proxies": PROXY,
    "repositories": REPOSITORY,
    "windows": WINDOW,
    "calendars": CALENDAR,
    "jobs": JOB,
}
"""The lists whose entries can be edited one by one (`core.items`)."""

LISTS: dict[str, Value] = {
    "sites": SITE.value(),
    "links": LINK.value(),
    "hosts": HOST.value(),
    "datastores": DATASTORE.value(),
    "proxies": PROXY.value(),
    "repositories": REPOSITORY.value(),
    "machines": MACHINE,
    "windows": WINDOW.value(),
    "calendars": CALENDAR.value(),
    "jobs": JOB.value(),
}
"""The lists of a plan file, in their order."""

PLAN = Shape(
    p.Plan,
    {
        **{name: many(value) for name, value in LISTS.items()},
        "transports": TRANSPORTS.value(),
        "state": STATE.value(),
    },
)


# --- the whole file ---------------------------------------------------------------------------


def _check_distinct_ids(ctx: _Context, raw: Mapping[str, Any]) -> dict[str, set[str]]:
    known: dict[str, set[str]] = {}
    for name in LISTS:
        ids: set[str] = set()
        entries = raw.get(name, [])
        for i, entry in enumerate(entries if isinstance(entries, list) else []):
            ident = entry.get("id") if isinstance(entry, dict) else None
            if isinstance(ident, str):
                if ident in ids:
                    ctx.problem(f"{name}[{i}].id", ident, f"stands twice in {name}")
                ids.add(ident)
        known[name] = ids
    return known


def _check_whole(ctx: _Context, plan: p.Plan) -> None:
    disks = {(machine.id, disk.id) for machine in plan.machines for disk in machine.disks}
    for i, job in enumerate(plan.jobs):
        for j, excluded in enumerate(job.exclude_disks):
            if excluded not in disks:
                ctx.problem(
                    f"jobs[{i}].exclude_disks[{j}]", list(excluded), "is no disk of a machine here"
                )
        for j, path in enumerate(job.exclude_paths):
            if (path.machine, path.disk) not in disks:
                at = f"jobs[{i}].exclude_paths[{j}].disk"
                ctx.problem(at, path.disk, f"is no disk of {path.machine}")
    follows = {job.id: job.after for job in plan.jobs}
    for i, job in enumerate(plan.jobs):
        seen, current = {job.id}, job.after
        while current is not None and current not in seen:
            seen.add(current)
            current = follows[current]
        if current == job.id:
            ctx.problem(
                f"jobs[{i}].after", job.after, "closes a loop of jobs that wait for another"
            )


def read_plan(raw: Any) -> p.Plan:
    """The Plan that a decoded plan file describes.

    Raises:
        PlanError: with every problem found: path in the file, value, reason.
    """
    ctx = _Context()
    if not isinstance(raw, dict):
        raise PlanError([Problem("(file)", raw, "is not a JSON object")])
    if raw.get("format") != FORMAT:
        raise PlanError([Problem("format", raw.get("format"), f"is not {FORMAT}")])
    body = {key: value for key, value in raw.items() if key != "format"}
    known = _check_distinct_ids(ctx, body)
    plan = PLAN.read(ctx, "", body)
    for path, value, target in ctx.references:
        if value not in known[target]:
            ctx.problem(path, value, f"is not the id of any entry of {target}")
    if not ctx.problems:
        _check_whole(ctx, plan)
    if ctx.problems:
        raise PlanError(ctx.problems)
    result: p.Plan = plan
    return result


def read_entry(name: str, raw: Any, known: Mapping[str, Container[str]]) -> Any:
    """One entry of a list of the plan file, such as a link of `links`.

    Args:
        known: ids that it may refer to, by list.

    Raises:
        PlanError: with every problem found; paths are those within the entry.
    """
    ctx = _Context()
    entry = LISTS[name].read(ctx, "", raw)
    for path, value, target in ctx.references:
        if value not in known[target]:
            ctx.problem(path, value, f"is not the id of any entry of {target}")
    if ctx.problems:
        raise PlanError(ctx.problems)
    return entry


def facts_from(raw: Any) -> p.Facts:
    """The facts of a machine that `FACTS` wrote. Raises PlanError."""
    ctx = _Context()
    facts = FACTS.read(ctx, "facts", raw)
    if ctx.problems:
        raise PlanError(ctx.problems)
    result: p.Facts = facts
    return result


def write_plan(plan: p.Plan) -> dict[str, Any]:
    """The plan as JSON values: keys in the order of the model, values at their default left out."""
    return {"format": FORMAT, **PLAN.write(plan)}
