"""Small named edits of a plan: what a draft is made of.

An operation is a value. Applied to a Plan it gives another Plan; the first is not touched. The same
objects are previewed, saved in drafts, reversed by undo and proposed as moves.

`ChangeItem` edits any key of an entry. An operation has a name of its own only where it says less
than a new value would: `MoveStart`, `MoveFull` and `SetInterval` change one schedule and leave the
others to other people, `IncludeMachine`, `ExcludeMachine` and `ExcludeDisk` add to a list, and
`SetProxies` can be hashed, as a search needs it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import asdict, dataclass, fields, replace
from datetime import time, timedelta
from typing import Any, ClassVar, get_args

from gambrel.core.edits.full_moves import weekdays_of_weekly, with_full_moved
from gambrel.core.edits.item_edits import (
    AddItem,
    ChangeItem,
    OperationError,
    RemoveItem,
    editable_job,
    item_changes,
    read_as,
)
from gambrel.core.edits.point_owners import CarryPoints, TakeOverPoints
from gambrel.core.edits.splitting import SplitJob
from gambrel.core.plan.objects import (
    WEEKDAYS,
    DayRowSchedule,
    Job,
    Machine,
    Plan,
    Schedule,
    Transports,
)
from gambrel.core.plan.shapes import shape_of
from gambrel.core.schedules.moves import (
    CannotMove,
    is_on_numbered_weekday,
    moved,
)
from gambrel.core.schedules.words import CODES, rule_parts, timing_in_words
from gambrel.core.words import count

# --- help for schedules -----------------------------------------------------------------------


def _days_of(schedule: Schedule) -> str:
    """The weekdays of a schedule in words: "Fri", "Mon, Wed" or "" for no particular day."""
    if isinstance(schedule, DayRowSchedule):
        days: Iterable[int] = schedule.days
    else:
        codes = rule_parts(schedule.rrule).get("BYDAY", "").split(",")
        days = [CODES.index(code) for code in codes if code in CODES]
    return ", ".join(WEEKDAYS[day].capitalize() for day in days)


def starts_in_words(schedule: Schedule) -> str:
    """When a schedule starts: "Fri 21:00", or "20:00" where it is no particular day."""
    at = schedule.from_time if isinstance(schedule, DayRowSchedule) else schedule.start.time()
    return f"{_days_of(schedule)} {at:%H:%M}".strip()


# --- operations -------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class _JobOperation:
    """An operation on one job."""

    name: ClassVar[str]
    job: str

    def _job(self, plan: Plan) -> Job:
        job = plan.job_by_id.get(self.job)
        if job is None:
            raise OperationError("job", self.job, "is not the id of a job of this plan")
        return job

    def _unlocked(self, plan: Plan) -> Job:
        return editable_job(plan, self.job)

    def _known(self, plan: Plan, machine: str) -> Machine:
        if machine not in plan.machine_by_id:
            raise OperationError("machine", machine, "is not the id of a machine of this plan")
        return plan.machine_by_id[machine]

    def _schedule(self, plan: Plan, position: int) -> Schedule:
        job = self._unlocked(plan)
        if not job.schedules and job.after is not None:
            reason = f"has no start of its own: it follows {job.after}"
            raise OperationError("job", self.job, reason)
        if not 0 <= position < len(job.schedules):
            reason = f"is no schedule of {self.job}, which has {len(job.schedules)}"
            raise OperationError("schedule", position, reason)
        return job.schedules[position]

    def _with_job(self, plan: Plan, job: Job) -> Plan:
        return replace(plan, jobs=tuple(job if j.id == self.job else j for j in plan.jobs))

    def _with_schedule(self, plan: Plan, position: int, schedule: Schedule) -> Plan:
        job = self._job(plan)
        schedules = list(job.schedules)
        schedules[position] = schedule
        return self._with_job(plan, replace(job, schedules=tuple(schedules)))


@dataclass(frozen=True, slots=True)
class MoveStart(_JobOperation):
    """Start a schedule at another time of day; over midnight with `day_shift` -1 or 1.

    Attributes:
        schedule: position among the job's schedules, from 0.
        start_time: "HH:MM", in the schedule's own zone.
        day_shift: days by which the schedule's weekdays move along.
    """

    name: ClassVar[str] = "MoveStart"
    schedule: int
    start_time: str
    day_shift: int = 0

    def _time(self) -> time:
        if not re.fullmatch(r"([01]\d|2[0-3]):[0-5]\d", self.start_time, re.ASCII):
            reason = "is no time of day between 00:00 and 23:59"
            raise OperationError("start_time", self.start_time, reason)
        return time.fromisoformat(self.start_time)

    def apply(self, plan: Plan) -> Plan:
        at = self._time()
        if self.day_shift not in (-1, 0, 1):
            raise OperationError("day_shift", self.day_shift, "is none of -1, 0, 1")
        schedule = self._schedule(plan, self.schedule)
        row = isinstance(schedule, DayRowSchedule)
        was = schedule.from_time if isinstance(schedule, DayRowSchedule) else schedule.start.time()
        by = timedelta(
            days=self.day_shift, hours=at.hour - was.hour, minutes=at.minute - was.minute,
            seconds=0 if row else -was.second,
        )  # fmt: skip
        try:
            made = moved(schedule, by)
        except CannotMove as error:
            field = "day_shift" if self.day_shift else "start_time"
            value = self.day_shift or self.start_time
            raise OperationError(field, value, f"cannot be set: the rule {error}") from None
        return self._with_schedule(plan, self.schedule, made)

    def describe(self, plan: Plan) -> str:
        return _moved_in_words(self, plan, self.schedule)


@dataclass(frozen=True, slots=True)
class MoveFull(_JobOperation):
    """Move a full to another night or week, at the same time of day.

    A weekly full moves by days; one every few weeks by weeks too; one on a numbered weekday of the
    month ("second Saturday") by whole weeks only.

    A weekly schedule of the same job that ran on the full's new day, and not on its old one,
    changes places with it: a job with a full on Friday and incrementals on the six other days
    still does one run a day when the full is on Saturday.

    Attributes:
        schedule: position among the job's schedules, from 0.
        days: by how many days; less than the full comes apart.
    """

    name: ClassVar[str] = "MoveFull"
    schedule: int
    days: int

    def apply(self, plan: Plan) -> Plan:
        self._schedule(plan, self.schedule)
        return self._with_job(plan, with_full_moved(self._job(plan), self.schedule, self.days))

    def describe(self, plan: Plan) -> str:
        return _moved_in_words(self, plan, self.schedule)


@dataclass(frozen=True, slots=True)
class SetProxies(_JobOperation):
    """Let a job be read by some proxies only, or by any (None)."""

    name: ClassVar[str] = "SetProxies"
    proxies: tuple[str, ...] | None

    def apply(self, plan: Plan) -> Plan:
        chosen = None if self.proxies is None else tuple(self.proxies)
        known = {proxy.id for proxy in plan.proxies}
        for proxy in chosen or ():
            if proxy not in known:
                raise OperationError("proxies", proxy, "is not the id of a proxy of this plan")
        return self._with_job(plan, replace(self._unlocked(plan), proxies=chosen))

    def describe(self, plan: Plan) -> str:
        read = "any proxy" if self.proxies is None else " or ".join(self.proxies) or "no proxy"
        return f"{self._job(plan).name}: read by {read}"


@dataclass(frozen=True, slots=True)
class IncludeMachine(_JobOperation):
    """Have a job protect one more machine."""

    name: ClassVar[str] = "IncludeMachine"
    machine: str

    def apply(self, plan: Plan) -> Plan:
        job = self._unlocked(plan)
        self._known(plan, self.machine)
        chosen = job.machines
        if self.machine in chosen.ids and self.machine not in chosen.exclude:
            raise OperationError("machine", self.machine, f"is in {job.name} already")
        ids = chosen.ids if self.machine in chosen.ids else (*chosen.ids, self.machine)
        left_out = tuple(m for m in chosen.exclude if m != self.machine)
        return self._with_job(
            plan, replace(job, machines=replace(chosen, ids=ids, exclude=left_out))
        )

    def describe(self, plan: Plan) -> str:
        return f"{self._job(plan).name}: {self.machine} joins"


@dataclass(frozen=True, slots=True)
class ExcludeMachine(_JobOperation):
    """Leave a machine out of a job."""

    name: ClassVar[str] = "ExcludeMachine"
    machine: str

    def apply(self, plan: Plan) -> Plan:
        job = self._unlocked(plan)
        self._known(plan, self.machine)
        if self.machine in job.machines.exclude:
            raise OperationError("machine", self.machine, f"is left out of {job.name} already")
        chosen = replace(job.machines, exclude=(*job.machines.exclude, self.machine))
        return self._with_job(plan, replace(job, machines=chosen))

    def describe(self, plan: Plan) -> str:
        return f"{self._job(plan).name}: {self.machine} is left out"


@dataclass(frozen=True, slots=True)
class ExcludeDisk(_JobOperation):
    """Leave a disk of a machine out of a job."""

    name: ClassVar[str] = "ExcludeDisk"
    machine: str
    disk: str

    def apply(self, plan: Plan) -> Plan:
        job = self._unlocked(plan)
        machine = self._known(plan, self.machine)
        if self.disk not in {disk.id for disk in machine.disks}:
            raise OperationError("disk", self.disk, f"is no disk of {self.machine}")
        if (self.machine, self.disk) in job.exclude_disks:
            raise OperationError("disk", self.disk, f"is left out of {job.name} already")
        left_out = (*job.exclude_disks, (self.machine, self.disk))
        return self._with_job(plan, replace(job, exclude_disks=left_out))

    def describe(self, plan: Plan) -> str:
        return f"{self._job(plan).name}: disk {self.disk} of {self.machine} is left out"


@dataclass(frozen=True, slots=True)
class SkipCalendar(_JobOperation):
    """Have all schedules of a job skip the dates of a calendar, or no longer skip them.

    What falls on such a date is dropped where the schedule did not say otherwise.
    """

    name: ClassVar[str] = "SkipCalendar"
    calendar: str
    skips: bool

    def apply(self, plan: Plan) -> Plan:
        job = self._unlocked(plan)
        if self.calendar not in plan.calendar_by_id:
            raise OperationError("calendar", self.calendar, "is no calendar of this plan")
        if not job.schedules:
            raise OperationError("job", self.job, "has no schedules of its own that could skip it")
        if all((self.calendar in s.skip) is self.skips for s in job.schedules):
            word = "skips" if self.skips else "does not skip"
            raise OperationError(
                "calendar", self.calendar, f"is one that {job.name} {word} already"
            )
        return self._with_job(
            plan, replace(job, schedules=tuple(map(self._skipping, job.schedules)))
        )

    def _skipping(self, schedule: Schedule) -> Schedule:
        others = tuple(name for name in schedule.skip if name != self.calendar)
        return replace(schedule, skip=(*others, self.calendar) if self.skips else others)

    def describe(self, plan: Plan) -> str:
        word = "skips" if self.skips else "no longer skips"
        return f"{self._job(plan).name}: {word} the dates of {self.calendar}"


@dataclass(frozen=True, slots=True)
class SetTransports:
    """Set ceilings of one stream by transport; values as the plan file has them."""

    name: ClassVar[str] = "SetTransports"
    changes: Mapping[str, Any]

    def apply(self, plan: Plan) -> Plan:
        """The plan with other ceilings. Raises OperationError."""
        now = shape_of(Transports).write(plan.transports, whole=True)
        return replace(plan, transports=read_as(Transports, {**now, **self.changes}))

    def describe(self, plan: Plan) -> str:
        told = item_changes(plan.transports, self.apply(plan).transports, list(self.changes))
        return f"ceilings of one stream: {', '.join(told) or 'as they are'}"


@dataclass(frozen=True, slots=True)
class SetInterval(_JobOperation):
    """Run a schedule of many runs a day more or less often."""

    name: ClassVar[str] = "SetInterval"
    schedule: int
    minutes: int

    def apply(self, plan: Plan) -> Plan:
        schedule = self._schedule(plan, self.schedule)
        if not isinstance(schedule, DayRowSchedule):
            raise OperationError("schedule", self.schedule, "is not one of many runs a day")
        if not 1 <= self.minutes <= 1440:
            raise OperationError("minutes", self.minutes, "is not between 1 and 1440")
        changed = replace(schedule, every_min=float(self.minutes))
        return self._with_schedule(plan, self.schedule, changed)

    def describe(self, plan: Plan) -> str:
        return f"{self._job(plan).name}: every {self.minutes} min"


Operation = (
    MoveStart
    | MoveFull
    | SetProxies
    | IncludeMachine
    | ExcludeMachine
    | ExcludeDisk
    | SkipCalendar
    | SetTransports
    | SetInterval
    | AddItem
    | ChangeItem
    | RemoveItem
    | SplitJob
    | TakeOverPoints
    | CarryPoints
)

_OPERATIONS: dict[str, Callable[..., Operation]] = {kind.name: kind for kind in get_args(Operation)}
_FIELD_TYPES: dict[str, type] = {
    "job": str, "schedule": int, "start_time": str, "day_shift": int, "days": int, "machine": str,
    "disk": str, "minutes": int, "list": str, "id": str, "value": dict, "changes": dict,
    "parts": list, "from_job": str, "from_repository": str, "calendar": str, "skips": bool,
}  # fmt: skip
_FIELDS: dict[str, tuple[str, ...]] = {
    kind.name: tuple(field.name for field in fields(kind)) for kind in get_args(Operation)
}
_MAY_BE_MISSING = {"day_shift"}
_KEYS_OF_EARLIER_NAMES = {
    "SetLocked": ("locked",),
    "SetTransport": ("transport",),
    "SetVerify": ("verify",),
    "SetWindow": ("window", "at_window_end"),
}
"""Operations that drafts may still hold: each set these keys of a job, as `ChangeItem` does now."""


def change_job(job: str, **changes: Any) -> ChangeItem:
    """Change some keys of a job; values as the plan file has them."""
    return ChangeItem("jobs", job, changes)


def _moved_in_words(operation: MoveStart | MoveFull, plan: Plan, position: int) -> str:
    after = operation.apply(plan).job_by_id[operation.job]
    before = plan.job_by_id[operation.job]
    schedule, changed = before.schedules[position], after.schedules[position]
    if is_on_numbered_weekday(schedule) and isinstance(operation, MoveFull):
        said = f"full {timing_in_words(changed)} (was {timing_in_words(schedule)})"
    else:
        was, now = starts_in_words(schedule), starts_in_words(changed)
        said = f"{schedule.kind} starts {now} (was {was})"
        weeks = _weeks_in_words(operation)
        if weeks:
            said += f", {weeks}"
    for i, (one, other) in enumerate(zip(before.schedules, after.schedules, strict=True)):
        if i != position and one != other:
            old, new = weekdays_of_weekly(one), weekdays_of_weekly(other)
            left, taken = (
                ", ".join(
                    WEEKDAYS[CODES.index(code)].capitalize() for code in codes if code not in of
                )
                for codes, of in ((old, new), (new, old))
            )
            said += f"; {one.kind} runs on {taken} instead of {left}"
    return f"{before.name}: {said}"


def _weeks_in_words(operation: MoveStart | MoveFull) -> str:
    """By how many days a full moves where that is a week or more: its weekday does not tell."""
    if not isinstance(operation, MoveFull) or abs(operation.days) < 7:
        return ""
    weeks, days = divmod(abs(operation.days), 7)
    said = count(weeks, "week") + (f" and {count(days, 'day')}" if days else "")
    return f"{said} {'later' if operation.days > 0 else 'earlier'}"


def _names(field: str, value: Any) -> tuple[str, ...] | None:
    if value is None:
        return None
    if not isinstance(value, list | tuple) or not all(isinstance(name, str) for name in value):
        raise OperationError(field, value, "is neither null nor a list of ids")
    return tuple(value)


def operation_from(value: Mapping[str, Any]) -> Operation:
    """The operation that a mapping with the key `operation` and its arguments describes.

    Raises:
        OperationError: for an unknown name, and for a missing, unknown or ill-typed argument.
    """
    name = value.get("operation")
    if isinstance(name, str) and name in _KEYS_OF_EARLIER_NAMES:
        value = _in_todays_name(value, _KEYS_OF_EARLIER_NAMES[name])
        name = ChangeItem.name
    if not isinstance(name, str) or name not in _OPERATIONS:
        raise OperationError("operation", name, "is none of " + ", ".join(_OPERATIONS))
    arguments = {key: item for key, item in value.items() if key != "operation"}
    for key in arguments:
        if key not in _FIELDS[name]:
            raise OperationError(key, arguments[key], f"is no argument of {name}")
    for key in _FIELDS[name]:
        if key not in arguments:
            if key in _MAY_BE_MISSING:
                continue
            raise OperationError(key, None, f"is required by {name} and missing")
        item = arguments[key]
        if key == "proxies":
            arguments[key] = _names(key, item)
            continue
        wanted = _FIELD_TYPES[key]
        if not isinstance(item, wanted) or (wanted is int and isinstance(item, bool)):
            word = {"str": "text", "int": "whole number", "bool": "yes or no", "dict": "object",
                    "list": "list"}  # fmt: skip
            raise OperationError(key, item, f"is not a {word[wanted.__name__]}")
    if "parts" in arguments:
        arguments["parts"] = tuple(arguments["parts"])
    return _OPERATIONS[name](**arguments)


def _in_todays_name(value: Mapping[str, Any], keys: tuple[str, ...]) -> dict[str, Any]:
    for key in ("job", *keys):
        if key not in value:
            raise OperationError(key, None, f"is required by {value['operation']} and missing")
    for key in value.keys() - {"operation", "job", *keys}:
        raise OperationError(key, value[key], f"is no argument of {value['operation']}")
    changes = {key: value[key] for key in keys}
    return {"operation": "ChangeItem", "list": "jobs", "id": value["job"], "changes": changes}


def operation_to_dict(operation: Operation) -> dict[str, Any]:
    """The mapping from which `operation_from` makes the same operation."""
    said = {"operation": operation.name, **asdict(operation)}
    return {key: list(item) if isinstance(item, tuple) else item for key, item in said.items()}


def points_move(operations: Iterable[Operation]) -> bool:
    """Whether restore points are another job's after them, or lie in another repository."""
    return any(isinstance(each, SplitJob | TakeOverPoints | CarryPoints) for each in operations)


def apply_all(plan: Plan, operations: Iterable[Operation]) -> Plan:
    """The plan after all operations, one after the other.

    Raises:
        OperationError: where one of them cannot be applied.
    """
    for operation in operations:
        plan = operation.apply(plan)
    return plan


def applied(plan: Plan, operation: Operation) -> tuple[Plan, str]:
    """The plan after an operation, and what it did in words.

    It is applied first: only of what can be applied is there something to say.

    Raises:
        OperationError: where it cannot be applied.
    """
    return operation.apply(plan), operation.describe(plan)
