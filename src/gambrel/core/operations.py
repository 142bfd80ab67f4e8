"""Small named edits of a plan: what a draft is made of.

An operation is a value. Applied to a Plan it gives another Plan; the first is not touched. The same
objects are previewed, saved in drafts, reversed by undo and proposed as moves.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import asdict, dataclass, replace
from datetime import datetime, time, timedelta
from typing import Any, ClassVar

from gambrel.core.plan import WEEKDAYS, DayRowSchedule, Job, Plan, RuleSchedule, Schedule

_RULE_DAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
_CLOCK_PARTS = {"BYHOUR", "BYMINUTE", "BYSECOND"}
_DATE_PARTS = {"BYMONTHDAY", "BYYEARDAY", "BYWEEKNO", "BYMONTH", "BYSETPOS", "BYEASTER"}


class OperationError(ValueError):
    """An operation that cannot be applied: the field at fault, its value, the reason."""

    def __init__(self, field: str, value: Any, reason: str) -> None:
        self.field = field
        self.value = value
        self.reason = reason
        super().__init__(f"{field}: {value!r} {reason}")


# --- help for schedules -----------------------------------------------------------------------


def _rule_parts(rule: str) -> dict[str, str]:
    return {k.upper(): v.upper() for k, _, v in (part.partition("=") for part in rule.split(";"))}


def _shifted_days(days: Iterable[int], by: int) -> tuple[int, ...]:
    return tuple((day + by) % 7 for day in days)


def _shift_rule(rule: str, by: int) -> str:
    """The rule with its weekdays moved by some days.

    Raises:
        OperationError: where the rule names dates that do not move along with a weekday.
    """
    parts = _rule_parts(rule)
    if by == 0:
        return rule
    named = sorted(_DATE_PARTS.intersection(parts))
    if named or parts.get("FREQ") not in ("DAILY", "WEEKLY"):
        what = named[0] if named else f"FREQ={parts.get('FREQ')}"
        raise OperationError("day_shift", by, f"cannot be applied to a rule with {what}")
    if "BYDAY" not in parts:
        return rule
    codes = parts["BYDAY"].split(",")
    if any(code not in _RULE_DAYS for code in codes):
        raise OperationError("day_shift", by, "cannot be applied to numbered weekdays")
    moved = ",".join(_RULE_DAYS[(_RULE_DAYS.index(code) + by) % 7] for code in codes)
    return re.sub(r"(?i)BYDAY=[^;]*", f"BYDAY={moved}", rule)


def _plain_days(schedule: Schedule) -> list[str]:
    """The weekdays that a weekly rule names; none where it is no such rule."""
    if not isinstance(schedule, RuleSchedule):
        return []
    parts = _rule_parts(schedule.rrule)
    codes = parts.get("BYDAY", "").split(",")
    plain = parts.get("FREQ") == "WEEKLY" and all(code in _RULE_DAYS for code in codes)
    return codes if plain else []


def _changed_places(schedule: Schedule, old: list[str], new: list[str]) -> Schedule:
    """A weekly schedule that ran on the new day and not on the old one, on the old one instead."""
    codes = _plain_days(schedule)
    if len(old) != 1 or len(new) != 1 or new[0] not in codes or old[0] in codes:
        return schedule
    assert isinstance(schedule, RuleSchedule)
    swapped = ",".join(old[0] if code == new[0] else code for code in codes)
    rule = re.sub(r"(?i)BYDAY=[^;]*", f"BYDAY={swapped}", schedule.rrule)
    return replace(schedule, rrule=rule)


def _days_of(schedule: Schedule) -> str:
    """The weekdays of a schedule in words: "Fri", "Mon, Wed" or "" for no particular day."""
    if isinstance(schedule, DayRowSchedule):
        days: Iterable[int] = schedule.days
    else:
        codes = _rule_parts(schedule.rrule).get("BYDAY", "").split(",")
        days = [_RULE_DAYS.index(code) for code in codes if code in _RULE_DAYS]
    return ", ".join(WEEKDAYS[day].capitalize() for day in days)


def starts_in_words(schedule: Schedule) -> str:
    """When a schedule starts: "Fri 21:00", or "20:00" where it is no particular day."""
    at = schedule.from_time if isinstance(schedule, DayRowSchedule) else schedule.start.time()
    return f"{_days_of(schedule)} {at:%H:%M}".strip()


def _shift_time(value: time, by: timedelta) -> time:
    return (datetime.combine(datetime(2000, 1, 2), value) + by).time()


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

    def _schedule(self, plan: Plan, position: int) -> Schedule:
        job = self._job(plan)
        if job.locked:
            raise OperationError("job", self.job, "is locked; unlock it first")
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
        by = timedelta(days=self.day_shift)
        if isinstance(schedule, DayRowSchedule):
            late = datetime.combine(schedule.start, at)
            moved = late - datetime.combine(schedule.start, schedule.from_time)
            return self._with_schedule(
                plan,
                self.schedule,
                replace(
                    schedule,
                    from_time=at,
                    to_time=_shift_time(schedule.to_time, moved),
                    days=_shifted_days(schedule.days, self.day_shift),
                    start=schedule.start + by,
                ),
            )
        clock = sorted(_CLOCK_PARTS.intersection(_rule_parts(schedule.rrule)))
        if clock:
            reason = f"cannot be set: the rule names its own times ({clock[0]})"
            raise OperationError("start_time", self.start_time, reason)
        moved_rule: Schedule = replace(
            schedule,
            start=datetime.combine(schedule.start.date() + by, at),
            rrule=_shift_rule(schedule.rrule, self.day_shift),
        )
        return self._with_schedule(plan, self.schedule, moved_rule)

    def describe(self, plan: Plan) -> str:
        return _moved_in_words(self, plan, self.schedule)


@dataclass(frozen=True, slots=True)
class MoveFull(_JobOperation):
    """Move a weekly full by some days, at the same time of day.

    A weekly schedule of the same job that ran on the full's new day, and not on its old one,
    changes places with it: a job with a full on Friday and incrementals on the six other days
    still does one run a day when the full is on Saturday.

    Attributes:
        schedule: position among the job's schedules, from 0.
        days: by how many days, -6 to 6.
    """

    name: ClassVar[str] = "MoveFull"
    schedule: int
    days: int

    def apply(self, plan: Plan) -> Plan:
        schedule = self._schedule(plan, self.schedule)
        if schedule.kind != "full":
            raise OperationError("schedule", self.schedule, f"is of kind {schedule.kind}, not full")
        if not -6 <= self.days <= 6:
            raise OperationError("days", self.days, "is not between -6 and 6")
        if not isinstance(schedule, RuleSchedule) or (
            _rule_parts(schedule.rrule).get("FREQ") != "WEEKLY"
        ):
            raise OperationError("schedule", self.schedule, "is not a weekly full")
        moved: Schedule = replace(
            schedule,
            start=schedule.start + timedelta(days=self.days),
            rrule=_shift_rule(schedule.rrule, self.days),
        )
        old, new = _plain_days(schedule), _plain_days(moved)
        others = [
            _changed_places(other, old, new) if i != self.schedule else moved
            for i, other in enumerate(self._job(plan).schedules)
        ]
        return self._with_job(plan, replace(self._job(plan), schedules=tuple(others)))

    def describe(self, plan: Plan) -> str:
        return _moved_in_words(self, plan, self.schedule)


@dataclass(frozen=True, slots=True)
class SetLocked(_JobOperation):
    """Peg a job to its place, or free it."""

    name: ClassVar[str] = "SetLocked"
    locked: bool

    def apply(self, plan: Plan) -> Plan:
        return self._with_job(plan, replace(self._job(plan), locked=self.locked))

    def describe(self, plan: Plan) -> str:
        return f"{self._job(plan).name}: {'locked' if self.locked else 'unlocked'}"


Operation = MoveStart | MoveFull | SetLocked

_OPERATIONS: dict[str, Callable[..., Operation]] = {
    kind.name: kind for kind in (MoveStart, MoveFull, SetLocked)
}
_FIELD_TYPES: dict[str, type] = {
    "job": str, "schedule": int, "start_time": str, "day_shift": int, "days": int, "locked": bool,
}  # fmt: skip
_FIELDS: dict[str, tuple[str, ...]] = {
    "MoveStart": ("job", "schedule", "start_time", "day_shift"),
    "MoveFull": ("job", "schedule", "days"),
    "SetLocked": ("job", "locked"),
}
_MAY_BE_MISSING = {"day_shift"}


def _moved_in_words(operation: MoveStart | MoveFull, plan: Plan, position: int) -> str:
    after = operation.apply(plan).job_by_id[operation.job]
    before = plan.job_by_id[operation.job]
    schedule = before.schedules[position]
    was, now = starts_in_words(schedule), starts_in_words(after.schedules[position])
    return f"{before.name}: {schedule.kind} starts {now} (was {was})"


def operation_from(value: Mapping[str, Any]) -> Operation:
    """The operation that a mapping with the key `operation` and its arguments describes.

    Raises:
        OperationError: for an unknown name, and for a missing, unknown or ill-typed argument.
    """
    name = value.get("operation")
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
        wanted = _FIELD_TYPES[key]
        item = arguments[key]
        if not isinstance(item, wanted) or (wanted is int and isinstance(item, bool)):
            raise OperationError(key, item, f"is not a {wanted.__name__}")
    return _OPERATIONS[name](**arguments)


def operation_to_dict(operation: Operation) -> dict[str, Any]:
    """The mapping from which `operation_from` makes the same operation."""
    return {"operation": operation.name, **asdict(operation)}


def apply_all(plan: Plan, operations: Iterable[Operation]) -> Plan:
    """The plan after all operations, one after the other.

    Raises:
        OperationError: where one of them cannot be applied.
    """
    for operation in operations:
        plan = operation.apply(plan)
    return plan
