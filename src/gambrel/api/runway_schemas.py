"""What the API takes and gives about the months ahead."""

from __future__ import annotations

from typing import Any

from apiflask import Schema
from apiflask.fields import Boolean, Dict, Float, Integer, List, Nested, String
from apiflask.validators import Length, OneOf, Range

from gambrel.api.schemas import Day, Instant, nullable, required
from gambrel.core.runway.occupancy import GROUPINGS
from gambrel.core.runway.projection import MOST_MONTHS
from gambrel.work.runway import USUAL_MONTHS

MOST_OPERATIONS = 500


def _growth() -> Any:
    return Float(load_default=None, allow_none=True, validate=Range(min=-0.99, max=10))


class AheadSchema(Schema):
    """A plan or a draft of it, and how the months ahead are meant."""

    draft = Integer(load_default=None, allow_none=True)
    months = Integer(load_default=USUAL_MONTHS, validate=Range(min=1, max=MOST_MONTHS))
    feared_growth = _growth()
    provisioned_grows = Boolean(load_default=True)


class AheadAskedSchema(AheadSchema):
    """The same, with operations that are not saved on top."""

    operations = List(Dict(), load_default=list, validate=Length(max=MOST_OPERATIONS))


class RunwayAskedSchema(AheadAskedSchema):
    feared = Float(
        load_default=None, allow_none=True, validate=Range(min=-0.99, max=10),
        metadata={"description": "the growth of a second look, told beside the first"},
    )  # fmt: skip


class JobSpaceSchema(Schema):
    """What a job keeps in a repository at each instant; `copies` where these are only copies."""

    job = required(String)
    name = required(String)
    copies = required(Boolean)
    gib = required(List, Float())


class VolumeLifeSchema(Schema):
    """A volume of a pool, drawn as its repository is."""

    id = required(String)
    capacity_gib = required(Float)
    now_gib = required(Float)
    peak_gib = required(Float)
    full_at = nullable(Instant)
    gib = required(List, Float())
    jobs = required(List, Nested(JobSpaceSchema))
    rest_gib = required(List, Float(), metadata={"description": "points that no job looks after"})


class RepositoryLifeSchema(Schema):
    """A repository over the months; each number is of the instant of that place."""

    id = required(String)
    site = required(String)
    capacity_gib = nullable(Float)
    immutable_days = required(Float)
    full_at = nullable(Instant)
    feared_full_at = nullable(Instant)
    now_gib = required(Float)
    peak_gib = required(Float)
    peak_at = required(Instant)
    gib = required(List, Float())
    feared_gib = required(List, Float())
    jobs = required(List, Nested(JobSpaceSchema))
    rest_gib = required(List, Float(), metadata={"description": "points that no job looks after"})
    chained_gib = required(
        List, Float(), metadata={"description": "that no rule wants and a chain needs"}
    )
    immutable_gib = required(
        List, Float(), metadata={"description": "that no rule wants and an immutable span holds"}
    )
    volumes = required(List, Nested(VolumeLifeSchema))
    tiers = required(List, String())


class AssumptionToldSchema(Schema):
    """`machines`: how many the rules mean today; null where it does not count."""

    id = required(String)
    words = required(String)
    active = required(Boolean)
    machines = nullable(Integer)


class MonthStartSchema(Schema):
    name = required(String)
    start = required(Instant)


class RunwaySchema(Schema):
    """`instants`: of the numbers of each repository, each that of the most in its part."""

    start = required(Instant)
    end = required(Instant)
    months = required(List, Nested(MonthStartSchema))
    sentence = required(String)
    notes = required(List, String())
    repositories = required(List, Nested(RepositoryLifeSchema))
    assumptions = required(List, Nested(AssumptionToldSchema))


class BelowAskedSchema(AheadAskedSchema):
    repository = required(String, validate=Length(min=1, max=200))
    part = Float(load_default=0.8, validate=Range(min=0.01, max=1))


class WeekNightSchema(Schema):
    date = required(Day)
    verdict = required(String, validate=OneOf(("fits", "tight", "over")))
    was = required(String, validate=OneOf(("fits", "tight", "over")))


class RpoMissedSchema(Schema):
    """Machines whose exposure passes their RPO within a week."""

    was = required(Integer)
    then = required(Integer)


class CandidateSchema(Schema):
    """`nights`: those of the second week whose verdict changes.

    `rpo_missed` is of the same week; null where nothing was simulated.
    """

    words = required(String)
    costs = required(List, String())
    peak_gib = required(Float)
    full_at = nullable(Instant)
    enough = required(Boolean)
    loses_days = required(Float)
    drops_points = required(Boolean)
    nights = required(List, Nested(WeekNightSchema))
    rpo_missed = nullable(Nested, RpoMissedSchema)
    operations = required(List, Dict())


class BelowSchema(Schema):
    repository = required(String)
    most_gib = required(Float)
    peak_gib = required(Float)
    until = required(Instant)
    candidates = required(List, Nested(CandidateSchema))
    together = nullable(Nested, CandidateSchema)


class TierMonthSchema(Schema):
    month = required(String)
    gib = required(Float)
    paid_gib = required(Float)
    cost = nullable(Float)


class TierAheadSchema(Schema):
    """A tier month by month; id "" is where points lie at first."""

    id = required(String)
    after_days = required(Float)
    minimum_days = required(Float)
    delay_min = required(Float)
    price_per_tib_month = nullable(Float)
    read_price_per_tib = nullable(Float)
    months = required(List, Nested(TierMonthSchema))


class TiersSchema(Schema):
    """`held_until`: the day before which nothing that exists now can be freed; null: none is."""

    repository = required(String)
    immutable_days = required(Float)
    held_gib = required(Float)
    held_until = nullable(Instant)
    tiers = required(List, Nested(TierAheadSchema))


class OccupancyAskedSchema(AheadAskedSchema):
    by = String(load_default="folder", validate=OneOf(GROUPINGS))
    day = Day(load_default=None, allow_none=True)


class OccupiedSchema(Schema):
    """Bytes of a group; `read`: in the four weeks up to the day."""

    group = required(String)
    machines = required(Integer)
    protected = required(Integer)
    provisioned_bytes = required(Float)
    used_bytes = required(Float)
    read_bytes = required(Float)
    stored_bytes = required(Float)
    copies_bytes = required(Float)
    repositories = required(Dict, String(), Float())
    cost = nullable(Float)


class OccupancySchema(Schema):
    day = required(Day)
    at = required(Instant)
    by = required(String)
    groups = required(List, Nested(OccupiedSchema))
    total = required(Nested, OccupiedSchema)


class OccupancyQuerySchema(AheadSchema):
    by = String(load_default="folder", validate=OneOf(GROUPINGS))
    day = Day(load_default=None, allow_none=True)
    over_months = Boolean(load_default=False)


class PurchaseQuerySchema(Schema):
    computation = required(Integer)


class LearnedGrowthSchema(Schema):
    """Growth of a machine, as shares a year: stated, and learned with its 90 % interval."""

    machine = required(String)
    folder = required(String)
    used_gib = required(Float)
    stated = required(Float)
    learned = required(Float)
    low = required(Float)
    high = required(Float)
    fulls = required(Integer)
    days = required(Float)


class RoleGrowthSchema(Schema):
    """A machine with too few fulls, and how others of its role grow: the median of `machines`."""

    machine = required(String)
    folder = required(String)
    role = required(String)
    used_gib = required(Float)
    stated = required(Float)
    usual = required(Float)
    machines = required(Integer)


class GrowthSchema(Schema):
    """`without`: machines of jobs whose growth neither their fulls nor their role tells."""

    machines = required(List, Nested(LearnedGrowthSchema))
    by_role = required(List, Nested(RoleGrowthSchema))
    without = required(Integer)


class NightsAheadRequestSchema(AheadSchema):
    pass


class PurchaseRequestSchema(AheadSchema):
    reserve = Float(load_default=0.1, validate=Range(min=0, max=0.9))
