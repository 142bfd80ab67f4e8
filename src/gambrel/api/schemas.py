"""What the API takes and gives. Instants are ISO 8601 UTC; the unit of a number is in its name."""

from __future__ import annotations

from datetime import date
from typing import Any

from apiflask import Schema
from apiflask.fields import (
    Boolean,
    Date,
    Dict,
    Float,
    Integer,
    List,
    Nested,
    Raw,
    String,
)
from apiflask.validators import Length, OneOf, Range, Regexp
from marshmallow import ValidationError

from gambrel.core.loads.lanes import LANES_BY
from gambrel.core.plan.recurrence_rules import EARLIEST_YEAR, LATEST_YEAR
from gambrel.core.simulation.forecast import PURPOSES
from gambrel.store.people import MOST_PASSWORD, ROLES

Instant = String


class Day(Date):
    """A date of a plan; what is far beyond any plan is refused."""

    def _deserialize(self, value: Any, *arguments: Any, **more: Any) -> date:
        day: date = super()._deserialize(value, *arguments, **more)
        if not EARLIEST_YEAR <= day.year <= LATEST_YEAR:
            raise ValidationError(f"is not between {EARLIEST_YEAR} and {LATEST_YEAR}")
        return day


def required(field: type, *args: object, **more: object):  # type: ignore[no-untyped-def]
    return field(*args, required=True, **more)


def nullable(field: type, *args: object, **more: object):  # type: ignore[no-untyped-def]
    return field(*args, required=True, allow_none=True, **more)


# --- errors and sessions ----------------------------------------------------------------------


class FieldErrorSchema(Schema):
    field = required(String)
    value = Raw(allow_none=True)
    reason = required(String)


class GoodVersionSchema(Schema):
    version = required(Integer)
    written_at = required(Instant)


class UnreadablePlanSchema(Schema):
    """A stored plan that cannot be opened, and the newest version of it that can be."""

    plan = required(Integer)
    last_good = nullable(Nested, GoodVersionSchema)


class ProblemSchema(Schema):
    """RFC 9457 problem details."""

    type = required(String)
    title = required(String)
    status = required(Integer)
    detail = String()
    errors = List(Nested(FieldErrorSchema))
    unreadable = Nested(UnreadablePlanSchema)


class SessionSchema(Schema):
    """`provider`: what the identity provider is called, where one can be used to sign in."""

    signed_in = required(Boolean)
    name = nullable(String)
    role = nullable(String, validate=OneOf(ROLES))
    has_password = required(Boolean)
    provider = nullable(String)
    csrf_token = required(String)


class SignInSchema(Schema):
    token = required(String, validate=Length(min=1, max=200))


class PasswordSignInSchema(Schema):
    name = required(String, validate=Length(min=1, max=200))
    password = required(String, validate=Length(min=1, max=MOST_PASSWORD))


class PasswordChangeSchema(Schema):
    """`old`: the password so far, where there is one."""

    old = String(load_default=None, allow_none=True, validate=Length(max=MOST_PASSWORD))
    password = required(String, validate=Length(max=MOST_PASSWORD))


class OwnSessionSchema(Schema):
    """`this`: the session that asks."""

    id = required(String)
    began_at = required(Instant)
    seen_at = required(Instant)
    expires_at = required(Instant)
    address = required(String)
    agent = required(String)
    this = required(Boolean)


# --- plans ------------------------------------------------------------------------------------


MOST_PLAN_FILE = 7 * 2**20


class NewPlanSchema(Schema):
    """`site`, `time_zone`: of the first data room, where it begins empty; `file`: a plan file."""

    name = required(String, validate=[Length(1, 100), Regexp(r".*\S", error="is empty")])
    begins = String(load_default="empty", validate=OneOf(("empty", "file", "sample")))
    site = String(load_default="main", validate=Length(1, 100))
    time_zone = String(load_default="UTC", validate=Length(1, 80))
    file = String(load_default=None, allow_none=True, validate=Length(max=MOST_PLAN_FILE))


class OperationSchema(Schema):
    """A named edit; which arguments it takes depends on `operation`."""

    class Meta:
        unknown = "include"

    operation = required(String)
    job = String()
    schedule = Integer(strict=True)
    start_time = String(metadata={"description": "HH:MM in the schedule's zone"})
    day_shift = Integer(strict=True)
    days = Integer(strict=True)
    locked = Boolean()
    proxies = List(String(), allow_none=True)
    transport = String()
    machine = String()
    disk = String()
    verify = String()
    minutes = Integer(strict=True)
    window = String(allow_none=True)
    at_window_end = String()
    list = String(metadata={"description": "of an item: the list of the plan file"})
    id = String()
    value = Dict(metadata={"description": "an entry as the plan file has it"})
    changes = Dict(metadata={"description": "new values by key, as the plan file has them"})
    parts = List(
        Dict(), metadata={"description": "new jobs: id, name, machines, repository, full_days"}
    )
    from_job = String()
    from_repository = String()
    calendar = String()
    skips = Boolean()


class ChangeSchema(Schema):
    operation = required(Nested, OperationSchema)
    words = required(String)
    actor = required(String)


class DraftSchema(Schema):
    id = required(Integer)
    plan_id = required(Integer)
    name = required(String)
    revision = required(Integer)
    base_version = required(Integer)
    changes = required(List, Nested(ChangeSchema))
    can_redo = required(Boolean)
    undone = required(List, Nested(ChangeSchema), metadata={"description": "the next redo first"})
    owner = nullable(String, metadata={"description": "who started it; null: it is nobody's"})
    shared = required(Boolean, metadata={"description": "whether others may change it, too"})


class ClauseSchema(Schema):
    key = required(String)
    lead = required(String)
    plain = required(Boolean, metadata={"description": "whether it goes without saying"})
    text = required(String)


class ScheduleSchema(Schema):
    position = required(Integer)
    kind = required(String)
    words = required(String)
    start_time = required(String)
    time_zone = required(String)
    every_weeks = nullable(
        Integer, metadata={"description": "of a weekly rule: how many weeks apart its dates are"}
    )


class JobSchema(Schema):
    id = required(String)
    name = required(String)
    priority = required(Integer)
    locked = required(Boolean)
    after = nullable(String)
    window = nullable(String)
    repository = required(String)
    machines = required(Integer)
    used_gib = required(Float)
    schedules = required(List, Nested(ScheduleSchema))
    clauses = required(List, Nested(ClauseSchema))


class LoadNameSchema(Schema):
    name = required(String)
    label = required(String)


class PlanListItemSchema(Schema):
    id = required(Integer)
    name = required(String)
    adopted_version = required(Integer)


class PlanSchema(Schema):
    id = required(Integer)
    name = required(String)
    adopted_version = required(Integer)
    time_zone = required(String)
    first_night = required(Date)
    last_night = required(Date)
    draft = nullable(Nested, DraftSchema)
    open_drafts = required(List, Nested(DraftSchema))
    jobs = required(List, Nested(JobSchema))
    loads = required(List, Nested(LoadNameSchema))
    machines = required(Integer)
    proxies = required(Integer)
    repositories = required(Integer)
    windows = required(Integer)
    sites = required(Integer)
    site_ids = required(List, String())
    host_ids = required(List, String())


class DraftQuerySchema(Schema):
    draft = Integer(load_default=None, metadata={"description": "id of a draft; none: adopted"})


class NewDraftSchema(Schema):
    name = required(String, validate=Length(min=1, max=200))


class OperationsSchema(Schema):
    operations = required(List, Nested(OperationSchema), validate=Length(min=1, max=200))
    acts = List(
        Integer(validate=Range(min=1)),
        load_default=None,
        allow_none=True,
        metadata={
            "description": "how many of the operations, in order, belong to each act of the "
            "planner, which one undo takes back; without it they are one act"
        },
    )


class SharingSchema(Schema):
    shared = required(Boolean)


class RenameSchema(Schema):
    name = required(String, validate=Length(min=1, max=200))


class AdoptSchema(Schema):
    note = String(load_default="", validate=Length(max=2000))
    despite = Boolean(
        load_default=False, metadata={"description": "adopt what can never work, with a note"}
    )


# --- forecasts --------------------------------------------------------------------------------


class ReasonSchema(Schema):
    kind = required(String)
    job = nullable(String)
    machine = nullable(String)
    occurrence = required(Instant)
    runs = required(Integer)
    machines = required(Integer)
    seconds = nullable(Float)
    squeeze = nullable(String)
    squeeze_s = required(Float)
    waited_for = nullable(String)
    waited_s = required(Float)
    moving_s = required(Float)
    finishing_s = required(Float)


class SilhouetteSchema(Schema):
    """The load of the night's busiest slots, in equal parts of the night, 1 = all slots."""

    name = nullable(String)
    label = nullable(String)
    load = required(List, Float())
    waiting = required(List, Float())
    opens = nullable(Float, metadata={"description": "part of the night, 0 to 1"})
    closes = nullable(Float, metadata={"description": "part of the night, 0 to 1"})


class TightestSchema(Schema):
    name = required(String)
    label = required(String)
    unit = required(String)
    peak = required(Float)
    capacity = nullable(Float)
    full_s = required(Float)
    waiting_jobs = required(List, String())


class NightSummarySchema(Schema):
    date = required(Date)
    start = required(Instant)
    end = required(Instant)
    forecast = required(Boolean)
    verdict = nullable(String, validate=OneOf(["fits", "tight", "over"]))
    last_end = nullable(Instant)
    over_s = required(Float)
    runs = required(Integer)
    missed = required(Integer)
    reasons = required(List, Nested(ReasonSchema))
    tightest = nullable(Nested, TightestSchema)
    silhouette = nullable(Nested, SilhouetteSchema)


class WeekSchema(Schema):
    monday = required(Date)
    nights = required(List, Nested(NightSummarySchema))


class SqueezeSchema(Schema):
    name = required(String)
    label = required(String)
    seconds = required(Float)


class RunSchema(Schema):
    job = required(String)
    occurrence = required(Instant)
    kind = required(String)
    runs_as = required(String)
    synthetic = required(Boolean)
    schedule = nullable(Integer)
    outcome = required(String)
    began = nullable(Instant)
    first_start = nullable(Instant)
    moved = nullable(Instant)
    ended = nullable(Instant)
    window_opens = nullable(Instant)
    window_end = nullable(Instant)
    over_s = required(Float)
    machines = required(Integer)
    done = required(Integer)
    source_bytes = required(Float)
    wire_bytes = required(Float)
    stored_bytes = required(Float)
    squeezes = required(List, Nested(SqueezeSchema))
    proxies = required(List, String())


class CopySchema(Schema):
    """The copies of one run to one repository, taken together."""

    job = required(String)
    occurrence = required(Instant)
    repository = required(String)
    machines = required(Integer)
    start = required(Instant)
    ended = required(Instant)
    wire_bytes = required(Float)


class WindowSpanSchema(Schema):
    job = required(String)
    opens = required(Instant)
    closes = required(Instant)


class LoadPartSchema(Schema):
    """What one job loads it with, for one purpose: disks read, copies, or work in a repository.

    What is restored is of no job: its name is empty.
    """

    job = required(String)
    purpose = required(String, validate=OneOf(PURPOSES))
    steps = required(List, List(Float()))


class LoadSchema(Schema):
    """Steps are [seconds from the start of the night, value from there on]."""

    name = required(String)
    label = required(String)
    unit = required(String)
    capacity = nullable(List, List(Float()))
    parts = required(List, Nested(LoadPartSchema))
    waiting = required(List, List(Float()))
    peak = required(Float)
    full_s = required(Float)
    waiting_jobs = required(List, String())


class NightSchema(NightSummarySchema):
    time_zone = required(String)
    windows = required(List, Nested(WindowSpanSchema))
    run_list = required(List, Nested(RunSchema))
    copies = required(List, Nested(CopySchema))
    loads = required(List, Nested(LoadSchema))


class NightQuerySchema(DraftQuerySchema):
    load = List(  # type: ignore[assignment]
        String(),
        load_default=None,
        metadata={"description": "names of loads to show; none: the tightest ones"},
    )


class ReadingSchema(Schema):
    disk = required(String)
    proxy = nullable(String)
    transport = nullable(String)


class TimePartSchema(Schema):
    """A stretch of a machine-run's time; `by` is what limited it or was waited for."""

    kind = required(String)
    seconds = required(Float)
    by = nullable(String)
    label = nullable(String)


class MachineRunSchema(Schema):
    machine = required(String)
    outcome = required(String)
    kind = nullable(String)
    queued = nullable(Instant)
    start = nullable(Instant)
    moved = nullable(Instant)
    ended = required(Instant)
    source_bytes = required(Float)
    wire_bytes = required(Float)
    stored_bytes = required(Float)
    waiting_s = required(Float)
    squeezes = required(List, Nested(SqueezeSchema))
    readings = required(List, Nested(ReadingSchema))
    account = required(List, Nested(TimePartSchema))


class MachineRunsSchema(Schema):
    job = required(String)
    occurrence = required(Instant)
    machines = required(List, Nested(MachineRunSchema))


class SubjectSchema(Schema):
    kind = required(String)
    id = required(String)


class FindingSchema(Schema):
    """What is wrong, in two lines; `key` is the same for the same thing in another forecast."""

    key = required(String)
    kind = required(String)
    gravity = required(String)
    subjects = required(List, Nested(SubjectSchema))
    what = required(String)
    why = required(String)
    at = nullable(Instant)
    weight = required(Float)
    figures = required(Dict)


class FindingsSchema(Schema):
    findings = required(List, Nested(FindingSchema))


class HelpQuerySchema(DraftQuerySchema):
    key = required(String, validate=Length(min=1, max=500))


class SuggestionSchema(Schema):
    """Operations that were simulated and help; the weight is that of the finding."""

    words = required(String)
    operations = required(List, Nested(OperationSchema))
    before = required(Float)
    after = required(Float)
    over_s_before = required(Float)
    over_s_after = required(Float)
    not_done_before = required(Integer)
    not_done_after = required(Integer)


class HelpSchema(Schema):
    tried = required(Integer)
    suggestions = required(List, Nested(SuggestionSchema))


class PreviewRequestSchema(Schema):
    draft = Integer(load_default=None, allow_none=True)
    operations = required(List, Nested(OperationSchema), validate=Length(max=200))
    night = required(Day)
    load = List(String(), load_default=None, allow_none=True)  # type: ignore[assignment]
    scope = String(
        load_default="week",
        validate=OneOf(["night", "first", "week"]),
        metadata={
            "description": "the night, the first night of its week that changes, or the week"
        },
    )


class PreviewSchema(Schema):
    night = nullable(
        Nested,
        NightSchema,
        metadata={"description": "the night that was asked for; null where only another was"},
    )
    nights = required(List, Nested(NightSummarySchema))
    words = required(List, String())


class PlanFileSchema(Schema):
    """A plan file, `gambrel-plan/1`: the lists of the planning model's section 1."""

    class Meta:
        unknown = "include"

    format = required(String)


class LanesRequestSchema(Schema):
    draft = Integer(load_default=None, allow_none=True)
    operations = List(Nested(OperationSchema), load_default=list, validate=Length(max=200))
    night = required(Day)
    by = String(load_default="job", validate=OneOf(LANES_BY))
    span = String(load_default="night", validate=OneOf(("night", "week")))


class LaneSchema(Schema):
    id = required(String)
    label = required(String)
    rows = required(
        List,
        List(Integer()),
        metadata={
            "description": "[job, machine or -1, kind, start, moved, end, mark] of each stretch: "
            "places in `jobs` and `machines`; kinds full, incremental, differential, synthetic, "
            "copy, rewrite; milliseconds from `start`; marks none, late, not done, "
            "skipped"
        },
    )


class LanesSchema(Schema):
    start = required(Instant)
    end = required(Instant)
    cut = required(Boolean)
    jobs = required(List, String())
    machines = required(List, String())
    lanes = required(List, Nested(LaneSchema))
