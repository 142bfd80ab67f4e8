"""What the API takes and gives of jobs, of comparisons and of what was adopted."""

from __future__ import annotations

from apiflask import Schema
from apiflask.fields import Boolean, Date, Dict, Float, Integer, List, Nested, String
from apiflask.validators import Length, OneOf, Range

from gambrel.api.schemas import (
    ClauseSchema,
    Day,
    DraftQuerySchema,
    FindingSchema,
    Instant,
    NightSummarySchema,
    OperationSchema,
    nullable,
    required,
)
from gambrel.core.edits.splitting import MOST_GROUPS
from gambrel.core.questions.points_ahead import MOST_DAYS

SORTS = ("plan", "name", "machines", "size", "priority")


class JobListQuerySchema(DraftQuerySchema):
    q = String(load_default="", validate=Length(max=200))
    sort = String(load_default="plan", validate=OneOf(SORTS))
    offset = Integer(load_default=0, validate=Range(min=0))
    limit = Integer(load_default=500, validate=Range(min=1, max=1000))


class JobRowSchema(Schema):
    id = required(String)
    name = required(String)
    priority = required(Integer)
    locked = required(Boolean)
    on_hold = required(Boolean)
    machines = required(Integer)
    used_gib = required(Float)
    selects = required(String)
    runs = required(String)
    repositories = required(List, String(), metadata={"description": "its own first"})
    window = nullable(String)
    kept = required(String)


class JobListSchema(Schema):
    total = required(Integer)
    jobs = required(List, Nested(JobRowSchema))


class AskedSchema(Schema):
    """A plan with unsaved operations on top of it."""

    draft = Integer(load_default=None, allow_none=True)
    operations = List(Nested(OperationSchema), load_default=list, validate=Length(max=200))


class JobAskedSchema(AskedSchema):
    job = required(String, validate=Length(min=1, max=200))


class LookRequestSchema(JobAskedSchema):
    night = required(Day)


class JobProblemSchema(Schema):
    job = required(String)
    clause = required(String)
    weight = required(String)
    words = required(String)


class UpcomingSchema(Schema):
    at = required(Instant)
    local = required(String)
    time_zone = required(String)
    kind = nullable(String)
    note = required(String)


class ScheduleLookSchema(Schema):
    words = required(String)
    kind = required(String)
    time_zone = required(String)
    a_day = nullable(Integer)
    upcoming = required(List, Nested(UpcomingSchema))


class SelectedSchema(Schema):
    machine = required(String)
    by = required(List, String())
    disks = required(List, String())
    left_out = required(List, String())
    used_gib = required(Float)
    protected_bytes = required(Float)
    repository = required(String, metadata={"description": "where it goes"})
    elsewhere = required(List, String())


class NearSchema(Schema):
    machine = required(String)
    why = required(String)
    used_gib = required(Float)
    elsewhere = required(List, String())


class JobNightSchema(Schema):
    """A night of a job: the worst of its runs there, and what they move together."""

    date = required(Date)
    forecast = required(Boolean)
    verdict = nullable(String)
    runs = required(Integer)
    kinds = required(List, String())
    start = nullable(Instant)
    end = nullable(Instant)
    over_s = required(Float)
    not_done = required(Integer)
    wire_bytes = required(Float)
    source_bytes = required(Float)


class CostSchema(Schema):
    """What the options of a job cost in its week: simulated with and without."""

    option = required(String)
    words = required(String)
    seconds = required(Float)
    wire_bytes = required(Float)


class PointsElsewhereSchema(Schema):
    """Points that the job could go on from, if they were its own and in its repository."""

    job = required(String)
    repository = required(String)
    points = required(Integer)
    machines = required(
        Integer, metadata={"description": "machines that would need no full of their own then"}
    )
    full_bytes = required(Float, metadata={"description": "what those fulls would hold"})
    carried = required(
        Boolean,
        metadata={"description": "whether some would have to be carried to another repository"},
    )


class LookSchema(Schema):
    job = required(String)
    value = required(Dict)
    clauses = required(List, Nested(ClauseSchema))
    text = required(String)
    problems = required(List, Nested(JobProblemSchema))
    machines = required(Integer)
    protected_bytes = required(Float)
    selected = required(List, Nested(SelectedSchema))
    near = required(List, Nested(NearSchema))
    near_count = required(Integer)
    joins = required(String)
    schedules = required(List, Nested(ScheduleLookSchema))
    nights = required(List, Nested(JobNightSchema))
    points_before = required(
        Integer, metadata={"description": "restore points that it goes on from, in its repository"}
    )
    points_elsewhere = required(List, Nested(PointsElsewhereSchema))
    default_window = nullable(
        String, metadata={"description": "the window that it has where it names none"}
    )


class SayRequestSchema(AskedSchema):
    text = required(String, validate=Length(max=500))
    kind = String(
        load_default="incremental", validate=OneOf(["full", "incremental", "differential"])
    )
    day = required(Day)
    time_zone = String(load_default=None, allow_none=True)


class SaidSchema(Schema):
    """A schedule out of words: null with a reason where they name none."""

    schedule = nullable(Dict)
    words = nullable(String)
    reason = nullable(String)
    examples = required(List, String())


class WaySchema(Schema):
    name = required(String)
    words = required(String)
    now = required(Boolean)
    changes = required(Dict)
    runs = required(Integer)
    moved_bytes = required(Float)
    read_bytes = required(Float)
    longest_s = required(Float)
    usual_s = required(Float)
    space_bytes = required(Float)
    chain_points = required(Integer)
    restore_s = nullable(Float)


class TradeoffsSchema(Schema):
    weeks = required(Integer)
    largest = nullable(String)
    ways = required(List, Nested(WaySchema))


class CostsSchema(Schema):
    costs = required(List, Nested(CostSchema))


class PointsRequestSchema(JobAskedSchema):
    day = required(Day)
    machine = String(load_default=None, allow_none=True)


class PointAheadSchema(Schema):
    repository = required(String)
    kind = required(String)
    at = required(Instant)
    stored_bytes = required(Float)
    base_at = nullable(Instant)
    kept_by = required(List, String())
    carries = required(Integer)
    cold = required(Boolean)


class SpaceStepSchema(Schema):
    at = required(Instant)
    bytes = required(Float)


class SpaceAheadSchema(Schema):
    repository = required(String)
    steps = required(List, Nested(SpaceStepSchema))


class PointsAheadSchema(Schema):
    machine = nullable(String)
    most_days = required(Integer, metadata={"description": f"{MOST_DAYS}"})
    points = required(List, Nested(PointAheadSchema))
    space = nullable(List, Nested(SpaceAheadSchema))


class RoomRequestSchema(JobAskedSchema):
    kind = required(String, validate=OneOf(["full", "incremental", "differential"]))
    night = required(Day)


class RoomStartSchema(Schema):
    at = required(Instant)
    local = required(String)
    end = nullable(Instant)
    length_s = required(Float)
    verdict = required(String)
    harms_s = required(Float)
    left_s = nullable(Float)
    opens = nullable(Instant)
    rank = required(Float)
    why = required(String)


class RoomSchema(Schema):
    forecast = required(Boolean)
    starts = required(List, Nested(RoomStartSchema))


class ImaginedRequestSchema(AskedSchema):
    """A job that nobody has made yet; `gib` are the used GiB of all its machines together."""

    gib = required(Float)
    machines = Integer(load_default=1)
    daily_change = Float(load_default=0.02)
    site = required(String, validate=Length(min=1, max=200))
    repository = required(String, validate=Length(min=1, max=200))
    kind = required(String, validate=OneOf(["full", "incremental", "differential"]))
    window = String(load_default=None, allow_none=True)
    night = required(Day)


class ImaginedSchema(RoomSchema):
    """`where`: in words, where the machines would run."""

    where = required(String)


class SplitRequestSchema(JobAskedSchema):
    groups = required(Integer, validate=Range(min=2, max=MOST_GROUPS))


class JobGroupSchema(Schema):
    id = required(String)
    name = required(String)
    machines = required(List, String())
    full_s = required(Float)
    incremental_s = required(Float)


class SplitSchema(Schema):
    groups = required(List, Nested(JobGroupSchema))
    by_count = required(
        List, Float(), metadata={"description": "seconds of fulls if dealt by count"}
    )


class TemplateSchema(Schema):
    id = required(Integer)
    name = required(String)
    value = required(Dict)


class NewTemplateSchema(Schema):
    name = required(String, validate=Length(min=1, max=150))
    value = required(Dict)


class BeginRequestSchema(AskedSchema):
    name = required(String, validate=Length(min=1, max=150))
    day = required(Day)
    machines = List(String(), load_default=list)
    like = String(load_default=None, allow_none=True)
    template = Integer(load_default=None, allow_none=True)


class BegunSchema(Schema):
    value = required(Dict)


class ChoicesSchema(Schema):
    """What the values of a job may be, for editors."""

    fields = required(Dict)
    disk_fields = required(Dict)
    values = required(Dict)
    windows = required(List, String())
    repositories = required(List, String())
    proxies = required(List, String())
    calendars = required(List, String())
    networks = required(List, String())
    time_zones = required(List, String())
    jobs = required(List, Dict())


# --- comparison, validation, what was adopted -------------------------------------------------


class CompareQuerySchema(Schema):
    one = String(load_default="adopted", metadata={"description": "adopted, draft:ID, version:ID"})
    other = required(String)


class PlanChangeSchema(Schema):
    kind = required(String)
    subject = required(String)
    id = required(String)
    name = required(String)
    lines = required(List, String())


class SideSchema(Schema):
    side = required(String)
    name = required(String)
    nights = required(List, Nested(NightSummarySchema))


class CompareSchema(Schema):
    one = required(Nested, SideSchema)
    other = required(Nested, SideSchema)
    changes = required(List, Nested(PlanChangeSchema))
    came = required(List, Nested(FindingSchema))
    went = required(List, Nested(FindingSchema))
    stayed = required(Integer)


class ValidationSchema(Schema):
    stops = required(List, Nested(JobProblemSchema))
    look = required(List, Nested(JobProblemSchema))
    breaks = required(List, Nested(FindingSchema))


class AdoptionSchema(Schema):
    id = required(Integer)
    version = required(Integer)
    before_version = nullable(Integer)
    note = required(String)
    words = required(List, String())
    actor = required(String)
    at = required(Instant)
    in_force = required(Boolean)
    kept = required(
        Boolean, metadata={"description": "whether one can still look at it and go back"}
    )


class RestoreSchema(Schema):
    version = required(Integer, validate=Range(min=1, max=2**31 - 1))


class GoBackSchema(Schema):
    note = String(load_default="", validate=Length(max=2000))


class JobWeekSchema(Schema):
    job = required(String)
    nights = required(List, Nested(JobNightSchema))


class JobWeeksSchema(Schema):
    jobs = required(List, Nested(JobWeekSchema))
