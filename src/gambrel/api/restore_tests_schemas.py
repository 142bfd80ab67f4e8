"""What the API takes and gives about restore tests and checks of points."""

from __future__ import annotations

from typing import Any

from apiflask import Schema
from apiflask.fields import Boolean, Float, Integer, List, Nested, String
from apiflask.validators import Length, OneOf, Range, Regexp

from gambrel.api.schemas import Day, Instant, nullable, required
from gambrel.core.loads.lanes import NO_TIER, TIERS
from gambrel.core.plan.objects import WEEKDAYS

MOST_TESTS = 500
LONGEST_NOTE = 500


def _clock(default: str) -> Any:
    return String(load_default=default, validate=Regexp(r"^([01]\d|2[0-3]):[0-5]\d$"))


class TestRuleSchema(Schema):
    """Every machine of a tier once in so many days."""

    tier = required(String, validate=OneOf([*TIERS, NO_TIER]))
    every_days = required(Integer, validate=Range(1, 3650))


class RotaSchema(Schema):
    """Who is tested how often, and when. `host`: where machines start; none: their own."""

    rules = List(Nested(TestRuleSchema), required=True, validate=Length(max=len(TIERS) + 1))
    at_once = Integer(load_default=2, validate=Range(1, 50))
    opens = _clock("09:00")
    closes = _clock("16:00")
    days = List(
        String(validate=OneOf(WEEKDAYS)),
        load_default=lambda: list(WEEKDAYS[:5]),
        validate=Length(min=1),
    )
    host = String(load_default=None, allow_none=True)


class SpanSchema(Schema):
    start = required(Instant)
    end = required(Instant)


class PlannedTestSchema(Schema):
    """A test to come. `due`: by when the machine must be tested."""

    machine = required(String)
    tier = required(String)
    host = required(String)
    job = required(String)
    repository = required(String)
    at = required(Instant)
    starts = required(Instant)
    ends = required(Instant)
    set_up_s = required(Float)
    due = required(Instant)


class TestDaySchema(Schema):
    """A day with the hours in which tests may run and nothing else does, and its tests."""

    date = required(Day)
    opens = required(Instant)
    closes = required(Instant)
    free = required(List, Nested(SpanSchema))
    tests = required(List, Nested(PlannedTestSchema))


class UntestedSchema(Schema):
    machine = required(String)
    due = required(Instant)
    why = required(
        String, validate=OneOf(["no point", "no host", "no route", "no free hour", "later"])
    )


class PointCheckSchema(Schema):
    """What was found out about a point. `predicted_s`, `took_s`: of a test, from its start."""

    job = required(String)
    machine = required(String)
    repository = required(String)
    at = required(Instant)
    source = required(String, validate=OneOf(["hand", "verify", "test"]))
    good = required(Boolean)
    checked_at = required(Instant)
    predicted_s = nullable(Float)
    took_s = nullable(Float)
    note = required(String)
    actor = required(String)


class MountedSchema(Schema):
    machine = required(String)
    what = required(String)
    since = required(Instant)
    age_s = required(Float)


class OrderedTestSchema(Schema):
    id = required(Integer)
    machine = required(String)
    words = required(String)
    state = required(String)
    starts = required(Instant)


class RestoreTestsSchema(Schema):
    """The rota with what it lays out, what is overdue, what is mounted and what was found."""

    now = required(Instant)
    time_zone = required(String)
    has_runner = required(Boolean)
    tiers = required(List, String(validate=OneOf([*TIERS, NO_TIER])))
    hosts = required(List, String())
    rota = nullable(Nested, RotaSchema)
    days = required(List, Nested(TestDaySchema))
    overdue = required(List, String())
    left_out = required(List, Nested(UntestedSchema))
    ordered = required(List, Nested(OrderedTestSchema))
    mounted = required(List, Nested(MountedSchema))
    record = required(List, Nested(PointCheckSchema))


class TestOrdersSchema(Schema):
    """Machines whose laid out tests are ordered."""

    machines = List(String(), required=True, validate=Length(min=1, max=MOST_TESTS))


class NewCheckSchema(Schema):
    """A check made by hand. `source` "test": the machine was started from the point."""

    job = required(String)
    machine = required(String)
    repository = required(String)
    at = required(Instant)
    good = required(Boolean)
    source = String(load_default="hand", validate=OneOf(["hand", "test"]))
    note = String(load_default="", validate=Length(max=LONGEST_NOTE))


class CleanedSchema(Schema):
    machine = required(String)
    what = required(String, validate=OneOf(["locked", "snapshot", "mount"]))
