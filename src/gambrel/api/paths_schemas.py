"""What the API takes and gives of paths, windows and sizing. Instants are ISO 8601 UTC."""

from __future__ import annotations

from apiflask import Schema
from apiflask.fields import Boolean, Date, Dict, File, Float, Integer, List, Nested, String
from apiflask.validators import Length, OneOf

from gambrel.api.schemas import Day, DraftQuerySchema, Instant, OperationSchema, nullable, required
from gambrel.core.questions.reach import GROUPS


class PlacedSchema(Schema):
    volume = required(String)
    capacity_gib = required(Float)
    points = required(Integer)
    used_bytes = required(Float)
    full_at = nullable(Instant)


class ItemSchema(Schema):
    """A site, link, host, datastore, proxy or repository: `value` is its entry in the plan file."""

    id = required(String)
    label = required(String)
    value = required(Dict)
    loads = required(List, String())
    used_by = required(List, String())
    notes = required(List, String(), metadata={"description": "what deserves a look"})
    form = nullable(String, metadata={"description": "of a proxy: what it is"})
    advised_slots = nullable(Integer)
    advised_by = nullable(String)
    reads_directly = required(List, String())
    points = nullable(Integer)
    used_bytes = nullable(Float, metadata={"description": "of a repository, before the horizon"})
    volumes = required(List, Nested(PlacedSchema))


class FlowSchema(Schema):
    """Who hands data to whom: `by` a transport, "agent", "write" or "copy"; `over` which links."""

    from_ = required(String, data_key="from")
    to = required(String)
    by = required(String)
    count = required(Integer)
    over = required(List, String())


class PathsSchema(Schema):
    sites = required(List, Nested(ItemSchema))
    links = required(List, Nested(ItemSchema))
    hosts = required(List, Nested(ItemSchema))
    datastores = required(List, Nested(ItemSchema))
    proxies = required(List, Nested(ItemSchema))
    repositories = required(List, Nested(ItemSchema))
    transports = required(Dict)
    flows = required(List, Nested(FlowSchema))


class LoadOfItemSchema(Schema):
    """A load in equal parts of a night: what it carries, what it can carry, who waits."""

    name = required(String)
    label = required(String)
    unit = required(String)
    total = required(List, Float())
    capacity = nullable(List, cls_or_instance=Float())
    waiting = required(List, Float())
    full_s = required(Float)
    peak = required(Float)
    waiting_jobs = required(List, String())


class NightLoadsSchema(Schema):
    date = required(String)
    start = required(Instant)
    end = required(Instant)
    forecast = required(Boolean)
    loads = required(List, Nested(LoadOfItemSchema))


class WeekOfLoadQuerySchema(DraftQuerySchema):
    name = required(String, validate=Length(min=1, max=500))


class LoadUserSchema(Schema):
    job = required(String)
    name = required(String)
    amount = required(Float)
    waited_s = required(Float)


class WeekOfLoadSchema(Schema):
    """A load over a week, night by night, and who makes it: bytes, or seconds of slots held."""

    nights = required(List, Nested(NightLoadsSchema))
    users = required(List, Nested(LoadUserSchema))


class ReachQuerySchema(DraftQuerySchema):
    by = String(load_default="host", validate=OneOf(GROUPS))


class WhyQuerySchema(ReachQuerySchema):
    group = required(String, validate=Length(max=300))
    proxy = required(String, validate=Length(min=1, max=300))


class CellSchema(Schema):
    proxy = required(String)
    best = nullable(String)
    disks = required(Dict)
    unreached = required(Integer)
    jobs = required(List, String())


class ReachRowSchema(Schema):
    name = required(String)
    machines = required(Integer)
    used_gib = required(Float)
    cells = required(List, Nested(CellSchema))


class ReachSchema(Schema):
    proxies = required(List, String())
    rows = required(List, Nested(ReachRowSchema))


class ReachReasonSchema(Schema):
    host = required(String)
    datastore = required(String)
    disks = required(Integer)
    transport = nullable(String)
    pinned = required(Boolean)
    why = required(List, String())


class WhySchema(Schema):
    reasons = required(List, Nested(ReachReasonSchema))


class OpeningSchema(Schema):
    opens = required(Instant)
    closes = required(Instant)
    clock_moves_s = required(Float)
    exception = required(Boolean)


class TouchSchema(Schema):
    job = required(String)
    name = required(String)
    occurrence = required(Instant)
    ended = required(Instant)
    left_s = required(Float)
    lost = required(Integer)


class JobInWindowSchema(Schema):
    job = required(String)
    name = required(String)
    at_window_end = required(String)
    locked = required(Boolean)
    by_default = required(
        Boolean, metadata={"description": "whether the window is the default of its machines"}
    )


class WindowSchema(Schema):
    id = required(String)
    value = required(Dict)
    openings = required(List, Nested(OpeningSchema))
    clock_changes = required(List, Nested(OpeningSchema))
    jobs = required(List, Nested(JobInWindowSchema))
    touching = required(List, Nested(TouchSchema))


class CalendarSchema(Schema):
    id = required(String)
    value = required(Dict)
    used_by = required(List, String())


class WindowsSchema(Schema):
    windows = required(List, Nested(WindowSchema))
    calendars = required(List, Nested(CalendarSchema))
    jobs_without = required(List, Nested(JobInWindowSchema))


class IcsFormSchema(Schema):
    file = required(File)


class HolidaySchema(Schema):
    date = required(Date)
    name = required(String)


class IcsProblemSchema(Schema):
    event = required(String)
    property = required(String)
    value = required(String)
    reason = required(String)


class IcsSchema(Schema):
    dates = required(List, Nested(HolidaySchema))
    problems = required(List, Nested(IcsProblemSchema))


class SizingRequestSchema(Schema):
    """A night, of a plan with unsaved operations on top of it."""

    draft = Integer(load_default=None, allow_none=True)
    night = required(Day)
    operations = List(Nested(OperationSchema), load_default=list, validate=Length(max=200))


class TryRequestSchema(SizingRequestSchema):
    key = required(String, validate=Length(min=1, max=500))


class StateSchema(Schema):
    verdict = required(String)
    over_s = required(Float)
    lost = required(Integer)
    last_end = nullable(Instant)


class RemedySchema(Schema):
    key = required(String)
    words = required(String)
    amounts = required(Integer)
    takes_away = required(Boolean)


class NeedSchema(Schema):
    name = required(String)
    label = required(String)
    bytes = required(Float)
    due = required(Instant)
    by = required(Instant)
    earliest = nullable(Instant)
    share = nullable(Float)
    jobs = required(List, String())


class SizingSchema(Schema):
    state = required(Nested, StateSchema)
    pressed = required(List, String())
    remedies = required(List, Nested(RemedySchema))
    needs = required(List, Nested(NeedSchema))


class AdviceSchema(Schema):
    """What trying came to; `helps` is false where it is no advice, and the rest is empty then."""

    key = required(String)
    helps = required(Boolean)
    words = required(String)
    operations = required(List, Nested(OperationSchema))
    fits = required(Boolean)
    after = required(Nested, StateSchema, allow_none=True)
    tried = required(Integer)
