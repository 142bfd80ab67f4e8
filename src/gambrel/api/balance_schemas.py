"""What the API takes and gives of proposals, of what-if and of confidence."""

from __future__ import annotations

from typing import get_args

from apiflask import Schema
from apiflask.fields import Boolean, Date, Dict, Float, Integer, List, Nested, String
from apiflask.validators import Length, OneOf, Range

from gambrel.api.schemas import (
    Day,
    Instant,
    NightSummarySchema,
    OperationSchema,
    nullable,
    required,
)
from gambrel.core.balance.problem import MOST_RULES, MOST_WEEKS, MOVE_KINDS
from gambrel.core.questions.what_if import LOSSES
from gambrel.store.computations import ComputationKind
from gambrel.work.computations import MOST_SAMPLES, MOST_SWEPT_SAMPLES, USUAL_SECONDS

MOST_SECONDS = 1800
KINDS = get_args(ComputationKind)
MOST_HAPPENINGS = 20
STANDS = (*LOSSES, "weeks")
VERDICTS = ("fits", "tight", "over")


class WeeksAskedSchema(Schema):
    """A plan or a draft of it, with what happens to it, from the week on that holds a day."""

    draft = Integer(load_default=None, allow_none=True)
    day = required(String, validate=Length(max=20))
    happens = List(Dict(), load_default=list, validate=Length(max=MOST_HAPPENINGS))


class RulesOverWeeksSchema(Schema):
    """Rules of the house, and over how many weeks they are kept."""

    weeks = Integer(load_default=1, validate=Range(min=1, max=MOST_WEEKS))
    rules = List(
        Dict(),
        load_default=list,
        validate=Length(max=MOST_RULES),
        metadata={
            "description": "rules of the house, which no proposal breaks where the plan does not: "
            '{"rule": "not before", "time": "20:00", "jobs": [...], "tag": "..."}, '
            '{"rule": "apart", "jobs": [...]} for fulls, {"rule": "last", "job": "..."}'
        },
    )


class SpreadAskedSchema(Schema):
    """How much weeks vary, as standard deviations of logarithms, null as the ledger shows it."""

    change = Float(load_default=None, allow_none=True, validate=Range(min=0, max=2))
    rate = Float(load_default=None, allow_none=True, validate=Range(min=0, max=1))
    stream = Float(load_default=None, allow_none=True, validate=Range(min=0, max=1))
    seed = Integer(load_default=1, validate=Range(min=0, max=2**31))


class BalanceRequestSchema(WeeksAskedSchema, RulesOverWeeksSchema, SpreadAskedSchema):
    jobs = List(String(validate=Length(min=1, max=200)), load_default=None, allow_none=True)
    kinds = List(String(validate=OneOf(MOVE_KINDS)), load_default=None, allow_none=True)
    most_moves = Integer(load_default=15, validate=Range(min=1, max=200))
    seconds = Float(load_default=USUAL_SECONDS, validate=Range(min=1, max=MOST_SECONDS))
    most_evaluations = Integer(load_default=20_000, validate=Range(min=1, max=1_000_000))
    comfort = Float(load_default=0.85, validate=Range(min=0.05, max=1))
    stands = List(
        String(validate=OneOf(STANDS)),
        load_default=list,
        validate=Length(max=len(STANDS)),
        metadata={
            "description": "what a plan shall also stand: each proxy lost, each host lost, the "
            "slowest link at half, each by itself; weeks in which things vary"
        },
    )


class ConfidenceRequestSchema(WeeksAskedSchema, SpreadAskedSchema):
    samples = Integer(load_default=300, validate=Range(min=10, max=MOST_SAMPLES))
    failures = Boolean(
        load_default=False,
        metadata={"description": "machines fail too, as often as the ledger shows"},
    )


class SweepRequestSchema(WeeksAskedSchema, SpreadAskedSchema):
    losses = List(
        String(validate=OneOf(LOSSES)),
        load_default=lambda: list(LOSSES),
        validate=Length(min=1, max=len(LOSSES)),
        metadata={"description": "each proxy, each host, the slowest link at half"},
    )
    samples = Integer(load_default=64, validate=Range(min=1, max=MOST_SWEPT_SAMPLES))


class ScoreSchema(Schema):
    lost = required(Float)
    rpo_missed = required(Float)
    rpo_s = required(Float)
    over_s = required(Float)
    skipped = required(Float)
    margin_s = required(Float)
    strain_s = required(Float)
    fits = required(Boolean)


class NightToldSchema(Schema):
    date = required(Date)
    verdict = required(String, validate=OneOf(VERDICTS))
    last_end = nullable(Instant)
    over_s = required(Float)
    lost = required(Integer)
    skipped = required(Integer)
    fulls = required(Integer)


class PlanToldSchema(Schema):
    score = required(Nested, ScoreSchema)
    strained = required(String)
    nights = required(List, Nested(NightToldSchema))


class CurvePointSchema(Schema):
    seconds = required(Float)
    grades = required(List, Float())


class MoveSchema(Schema):
    operation = required(Dict)
    turn = required(
        Integer, metadata={"description": "its place in the order in which moves are applied"}
    )
    words = required(String)
    reason = required(String)
    cost = String(metadata={"description": "of protection, in a sentence; empty for none"})
    brings = required(List, String())
    without = nullable(
        Nested,
        ScoreSchema,
        metadata={"description": "the score without it; null while that is not worked out"},
    )


class AfterLossSchema(Schema):
    """What becomes of a plan after one loss; `words` stand after "if"."""

    words = required(String)
    reaches = required(String)
    fits = required(Boolean, metadata={"description": "no night is over"})


class NightConfidenceSchema(Schema):
    date = required(Date)
    median_end = nullable(Instant)
    late_end = nullable(Instant)
    holds = required(Float)
    whole = Float(
        allow_none=True,
        metadata={"description": "the part in which it is not over and no machine fails"},
    )
    failed = Float(
        allow_none=True, metadata={"description": "machine-runs that fail, on the average"}
    )


class RungSchema(Schema):
    """The best plan of so many moves; `buys` is what the rung below does not have."""

    after = required(Nested, PlanToldSchema)
    moves = required(List, Nested(MoveSchema))
    reaches = required(String)
    buys = required(List, String())
    chance = nullable(Float, metadata={"description": "the part of the draws in which it fits"})
    draws = required(Integer)
    chances = required(List, Nested(NightConfidenceSchema))
    losses = required(List, Nested(AfterLossSchema))


class LeastNeedSchema(Schema):
    resource = required(String)
    part = required(Float)
    night = required(Day)
    needed_s = required(Float)
    open_s = required(Float)


class BoundSchema(Schema):
    lost = required(Float)
    rpo_missed = required(Float)
    over_s = required(Float)
    worst = required(Float)
    binding = required(List, String())
    longest = nullable(String)
    words = required(String)
    peaks = required(List, Nested(LeastNeedSchema))


class SpreadSchema(Schema):
    change = required(Float)
    rate = required(Float)
    stream = required(Float)


class ReasonAheadSchema(Schema):
    """What speaks most against a night of the months ahead."""

    kind = required(String)
    job = nullable(String)
    seconds = nullable(Float)
    machines = required(Integer)
    squeeze = nullable(String)
    waited_for = nullable(String)


class WindowAheadSchema(Schema):
    window = required(String)
    verdict = required(String, validate=OneOf(VERDICTS))
    nights_over = required(Integer)
    first_over = nullable(Date)
    worst = nullable(Date)
    over_s = required(Float)
    not_done = required(Integer)
    reason = nullable(Nested, ReasonAheadSchema)


class MonthAheadSchema(Schema):
    month = required(String)
    nights = required(Integer)
    verdict = required(String, validate=OneOf(VERDICTS))
    windows = required(List, Nested(WindowAheadSchema))


class NightsFoundSchema(Schema):
    """The months that are done; `breaks`: by window the first month in which it is over."""

    months = required(List, Nested(MonthAheadSchema))
    breaks = required(Dict, String(), String())


class PurchaseItemSchema(Schema):
    what = required(String, validate=OneOf(("space", "slots", "proxy", "link", "rate", "streams")))
    subject = required(String)
    amount = required(Float)
    unit = required(String)
    words = required(String)
    needed_by = required(Instant)
    order_by = required(Instant)
    lead_days = nullable(Float)
    price = nullable(Float)
    monthly = required(Boolean)
    why = required(String)
    operations = required(List, Dict())


class UnmetSchema(Schema):
    """A night that nothing that can be bought makes fit."""

    month = required(String)
    night = required(Date)
    window = required(String)
    reason = nullable(Nested, ReasonAheadSchema)


class BoughtSchema(Schema):
    """What would have to be bought; `operations` are the moves beside it."""

    items = required(List, Nested(PurchaseItemSchema))
    fits = required(Boolean)
    moves = required(Integer)
    operations = required(List, Dict())


class PurchaseBesideMovesSchema(Schema):
    """What would have to be bought for the plan as it is, and beside moves."""

    as_it_is = required(Nested, BoughtSchema)
    with_moves = required(Nested, BoughtSchema)


class RuleToldSchema(Schema):
    """A rule of the house in words; the nights in which the plan breaks it, and which jobs do."""

    words = required(String)
    nights = required(List, Day())
    jobs = required(List, String())


class RulesAskedSchema(RulesOverWeeksSchema):
    """Operations on a plan or a draft of it, and the rules of the house that they may break."""

    draft = Integer(load_default=None, allow_none=True)
    day = required(String, validate=Length(max=20))
    operations = List(Nested(OperationSchema), load_default=list, validate=Length(max=200))


class NightStoodSchema(Schema):
    date = required(String)
    holds = required(Float)


class StoodSchema(Schema):
    """What many weeks after a loss come to; `holds`: the part of them in which it fits."""

    words = required(String)
    happens = nullable(Dict, metadata={"description": "none: nothing happens"})
    samples = required(Integer)
    holds = required(Float)
    nights = required(List, Nested(NightStoodSchema))


class ResultSchema(Schema):
    """What came out; of each kind of computation with its own keys."""

    months = List(Nested(MonthAheadSchema))
    breaks = Dict(String(), String())
    space = List(Nested(PurchaseItemSchema))
    items = List(Nested(PurchaseItemSchema))
    unmet = List(Nested(UnmetSchema))

    ended = String()
    evaluations = Integer()
    seconds = Float()
    curve = List(Nested(CurvePointSchema))
    before = Nested(PlanToldSchema)
    after = Nested(PlanToldSchema)
    moves = List(Nested(MoveSchema))
    rungs = List(Nested(RungSchema))
    rules = List(Nested(RuleToldSchema))
    bound = Nested(BoundSchema)
    purchase = Nested(PurchaseBesideMovesSchema)
    samples = Integer()
    spread = Nested(SpreadSchema)
    nights = List(Nested(NightConfidenceSchema))
    losses = List(Nested(StoodSchema))


class RungSoFarSchema(Schema):
    moves = required(Integer)
    score = required(Nested, ScoreSchema)


class ProgressSchema(Schema):
    phase = String(
        metadata={
            "description": "waiting, searching, explaining, weighing, buying or simulating; "
            "`ahead` others wait"
        }
    )
    ahead = Integer()
    evaluations = Integer()
    moves = Integer()
    score = Nested(ScoreSchema)
    parts = Integer()
    parts_done = Integer()
    curve = List(Nested(CurvePointSchema))
    rungs = List(Nested(RungSoFarSchema))
    best = List(Dict())
    result = Nested(ResultSchema, metadata={"description": "while its rungs are weighed"})
    samples = Integer()
    months = Integer()
    found = Nested(NightsFoundSchema)
    of = Integer()


class ComputationSchema(Schema):
    id = required(Integer)
    kind = required(String, validate=OneOf(KINDS))
    asked = required(Dict)
    state = required(
        String, validate=OneOf(("running", "done", "cancelled", "failed", "interrupted"))
    )
    stale = required(Boolean, metadata={"description": "the plan has been changed since"})
    progress = required(Nested, ProgressSchema)
    result = nullable(Nested, ResultSchema)
    message = required(String)
    actor = required(String)
    created_at = required(Instant)
    ended_at = nullable(Instant)


class ComputationListQuerySchema(Schema):
    kind = String(load_default=None, validate=OneOf(KINDS))


class ScenarioSchema(Schema):
    """The nights of a week after some things have happened."""

    words = required(List, String())
    nights = required(List, Nested(NightSummarySchema))
