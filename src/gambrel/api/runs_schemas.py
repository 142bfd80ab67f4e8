"""What the API takes and gives about runs: runners, orders, nights, the ledger, the report."""

from __future__ import annotations

from apiflask import Schema
from apiflask.fields import Boolean, Dict, Float, Integer, List, Nested, Raw, String
from apiflask.validators import Length, OneOf, Range

from gambrel.api.schemas import Day, Instant, nullable, required
from gambrel.core.ledger.learned_times import STEPS
from gambrel.core.ledger.odd_sizes import MOST_STEPS
from gambrel.core.ledger.ordering import MOST_MORE_SLOTS, ORDER_KINDS
from gambrel.formats.inventory_csv import UNITS
from gambrel.formats.past_runs import DATE_ORDERS
from gambrel.standins.troubles import TROUBLE_KINDS
from gambrel.store.runners import RUNNER_KINDS

MOST_EVENTS = 2000
MOST_MACHINES = 10_000
LONGEST_WAIT_S = 25


# --- the runner protocol ------------------------------------------------------------------------


class EventsSchema(Schema):
    """A batch of events. `clock`: the runner's clock when it sends them; a stand-in's `speed`."""

    clock = Instant(load_default=None, allow_none=True)
    speed = Float(load_default=None, allow_none=True, validate=Range(0, 36_000))
    events = required(List, Raw(allow_none=True), validate=Length(max=MOST_EVENTS))


class RefusedEventSchema(Schema):
    id = required(String)
    field = required(String)
    reason = required(String)


class EventsTakenSchema(Schema):
    """`known` were reported before; `clock_offset_s` is what times were corrected by."""

    new = required(Integer)
    known = required(Integer)
    refused = required(List, Nested(RefusedEventSchema))
    clock_offset_s = required(Float)


class OrdersQuerySchema(Schema):
    after = Integer(load_default=0, validate=Range(0, 2**31))
    wait_s = Float(load_default=0.0, validate=Range(0, LONGEST_WAIT_S))


class OrderSchema(Schema):
    id = required(Integer)
    kind = required(String)
    job = nullable(String)
    machines = required(List, String())
    detail = required(Dict)
    state = required(String)
    words = required(String)
    effect = required(String)
    reason = required(String)
    actor = required(String)
    seconded_by = nullable(String)
    at = required(Instant)
    taken_at = nullable(Instant)
    ended_at = nullable(Instant)


class OrdersSchema(Schema):
    orders = required(List, Nested(OrderSchema))


class NightErrorSchema(Schema):
    """`error_s`: actual less predicted; `share`: its size by the night's length."""

    date = required(Day)
    predicted_end = required(Instant)
    last_end = required(Instant)
    error_s = required(Float)
    share = required(Float)
    trouble = required(Boolean)


class JobErrorSchema(Schema):
    """`median_s`: positive where runs end later than predicted; `tenth_s`: of nine in ten."""

    job = required(String)
    name = required(String)
    runs = required(Integer)
    median_s = required(Float)
    tenth_s = required(Float)


class ForecastErrorsSchema(Schema):
    """Medians are over nights without trouble; null where there is none."""

    nights = required(List, Nested(NightErrorSchema))
    jobs = required(List, Nested(JobErrorSchema))
    median_share = nullable(Float)
    median_s = nullable(Float)
    without = required(Integer)


class LearnedFactSchema(Schema):
    """A fact of a machine: stated, and learned with its standard error."""

    machine = required(String)
    folder = required(String)
    used_gib = required(Float)
    stated = required(Float)
    learned = required(Float)
    otherwise = required(
        Boolean, metadata={"description": "whether it speaks plainly against what is stated"}
    )
    error = required(Float)
    runs = required(Integer)
    left_out = required(Integer)


class LearnedChangeSchema(LearnedFactSchema):
    """Daily change as a share of what is in use: stated, and learned with its standard error.

    `since`: when the machine began to change plainly more or less, from which on runs count.
    """

    ceiling = nullable(Float)
    since = nullable(Instant)
    by_weekday = List(
        Float(),
        metadata={
            "description": "factors on the change of a night by its weekday, Monday first; empty "
            "where weekdays do not plainly differ"
        },
    )


class LearnedFactsSchema(Schema):
    by_itself = required(
        Boolean,
        metadata={"description": "whether a standing rule takes it over when a night begins"},
    )


class LearnedChangesSchema(LearnedFactsSchema):
    machines = required(List, Nested(LearnedChangeSchema))


class LearnedRatioSchema(LearnedFactSchema):
    """Bytes read for each that is sent: stated, and learned with its standard error."""


class LearnedRatiosSchema(LearnedFactsSchema):
    machines = required(List, Nested(LearnedRatioSchema))


class ValueTakenSchema(Schema):
    """A value of an entry that was taken over from the ledger, and what was stated before."""

    key = required(String)
    value = required(Float)
    stated = required(Float)


class FromPlanSchema(Schema):
    """What an entry of the plan says of a value, and where that comes from.

    `taken`: all values of the entry that were ever taken over; one counts where it is still so.
    """

    now = nullable(Float)
    stated_before = nullable(
        Float, metadata={"description": "what was stated, where the value is one of the ledger"}
    )
    taken = required(List, Nested(ValueTakenSchema))


class LearnedTimeSchema(FromPlanSchema):
    """How long a step of the machines of a job takes: predicted, and as nights show it."""

    job = required(String)
    name = required(String)
    step = required(String, validate=OneOf(STEPS))
    predicted_s = required(Float)
    learned_s = required(Float)
    low_s = required(Float)
    high_s = required(Float)
    differs = required(Boolean, metadata={"description": "nights speak against what is predicted"})
    nights = required(Integer)
    runs = required(Integer)
    key = nullable(String, metadata={"description": "the job's key that states it, if one does"})
    value = nullable(Float, metadata={"description": "what that key would have to be"})


class LearnedTimesSchema(Schema):
    times = required(List, Nested(LearnedTimeSchema))


class FailureRateSchema(Schema):
    """How often a machine fails: `rate`, with the range in which nine of ten such rates lie."""

    machine = required(String)
    folder = required(String)
    runs = required(Integer, metadata={"description": "of it that were done or failed"})
    failed = required(Integer)
    rate = required(Float)
    low = required(Float)
    high = required(Float)
    reason = required(String, metadata={"description": "the most frequent one"})
    alike = required(Integer, metadata={"description": "how many failed for it"})
    plainly = required(
        Boolean, metadata={"description": "whether it fails plainly more than others"}
    )


class FailureRatesSchema(Schema):
    overall = required(Float, metadata={"description": "of all machines together"})
    machines = required(List, Nested(FailureRateSchema))


# --- runners and orders -------------------------------------------------------------------------


class RunnerSchema(Schema):
    id = required(Integer)
    name = required(String)
    kind = required(String)
    last_seen_at = nullable(Instant)
    clock = nullable(Instant)
    clock_offset_s = required(Float)
    speed = nullable(Float)


class RunnersSchema(Schema):
    runners = required(List, Nested(RunnerSchema))


class NewRunnerSchema(Schema):
    name = required(String, validate=Length(1, 200))
    kind = String(load_default="runner", validate=OneOf(RUNNER_KINDS[:2]))


class RunnerTokenSchema(Schema):
    """The token of a new runner: it is shown once."""

    token = required(String)


class OrderRequestSchema(Schema):
    kind = required(String, validate=OneOf(ORDER_KINDS))
    job = String(load_default="", validate=Length(max=190))
    machines = List(String(), load_default=[], validate=Length(max=MOST_MACHINES))
    proxy = String(load_default=None, allow_none=True, validate=Length(1, 190))
    slots = Integer(load_default=0, validate=Range(0, MOST_MORE_SLOTS))


class OrderEffectSchema(Schema):
    """What an order would do, simulated from now."""

    words = required(String)
    effect = required(List, String())
    possible = required(Boolean)


class LearnedRateSchema(FromPlanSchema):
    """A rate as nights show it. `low` to `high`: 90 % of what it may be; `unit` of all of them.

    `list`, `id`, `key`: where the plan states it; `list` is null for the ceilings of streams.
    """

    what = required(String)
    words = required(String)
    unit = required(String)
    stated = required(Float)
    learned = required(Float)
    low = required(Float)
    high = required(Float)
    spread = required(Float)
    nights = required(Integer)
    runs = required(Integer)
    list = nullable(String)
    id = nullable(String)
    key = required(String)


class LearnedRatesSchema(Schema):
    rates = required(List, Nested(LearnedRateSchema))


class LearnedSpreadSchema(Schema):
    """Standard deviations of the logarithm of what varies, see "How sure"; null: not known."""

    change = nullable(Float)
    rate = nullable(Float)
    stream = nullable(Float)
    nights = required(Integer)


class RunOutlookSchema(Schema):
    """How a run that is not over is likely to end; `late_share` and `share`: of the draws."""

    job = required(String)
    occurrence = required(Instant)
    early = nullable(Instant)
    middle = nullable(Instant)
    late = nullable(Instant)
    late_share = required(Float)
    likely_missed = required(List, String())


class ShownSchema(Schema):
    """What the night has shown of a rate or of change: how many times as planned."""

    what = required(String)
    words = required(String)
    factor = required(Float)
    low = required(Float)
    high = required(Float)
    runs = required(Integer)


class SavedSchema(Schema):
    """A machine that would be done."""

    job = required(String)
    machine = required(String)


class HelpTonightSchema(Schema):
    """An order that would help. `fits_before`, `fits_after`: of the draws."""

    words = required(String)
    order = required(Nested, OrderRequestSchema)
    brings = required(List, String())
    costs = required(List, String())
    saved = required(List, Nested(SavedSchema))
    fits_before = required(Float)
    fits_after = required(Float)


class OutlookSchema(Schema):
    """How the night will end, drawn `draws` times.

    `current`: whether nothing was reported since; `draws` is 0 where there is nothing to draw.
    `looking`: whether what would help is still looked for; `help` is of `help_at` until then.
    """

    current = required(Boolean)
    looking = required(Boolean)
    at = nullable(Instant)
    draws = required(Integer)
    verdict = nullable(String)
    fits = required(Float)
    early_end = nullable(Instant)
    last_end = nullable(Instant)
    late_end = nullable(Instant)
    words = required(String)
    runs = required(List, Nested(RunOutlookSchema))
    shown = required(List, Nested(ShownSchema))
    help_at = nullable(Instant)
    help = required(List, Nested(HelpTonightSchema))


class ClockSchema(Schema):
    """What a stand-in's clock is asked to do: run at a speed (0 holds it), or go to an instant."""

    speed = Float(load_default=None, allow_none=True, validate=Range(0, 3600))
    to_next = String(load_default=None, allow_none=True, validate=OneOf(["noon", "morning"]))


# --- nights -------------------------------------------------------------------------------------


class TroubleSchema(Schema):
    job = required(String)
    occurrence = required(Instant)
    machine = required(String)
    outcome = required(String)
    reason = required(String)
    made_good = required(Boolean)
    left = required(List, String())


class OtherThanPredictedSchema(Schema):
    job = required(String)
    occurrence = required(Instant)
    predicted_end = nullable(Instant)
    ended = nullable(Instant)
    late_s = required(Float)
    why = required(String)


class NightSoFarSchema(Schema):
    date = required(Day)
    start = required(Instant)
    end = required(Instant)
    zone = required(String)
    verdict = required(String)
    predicted_verdict = nullable(String)
    predicted_end = nullable(Instant)
    last_end = nullable(Instant)
    over_s = required(Float)
    done = required(Integer)
    moving = required(Integer)
    failed = required(Integer)
    waiting = required(Integer)
    total = required(Integer)
    runs_open = required(Integer)
    moved_bytes = required(Float)


class RunBarSchema(Schema):
    """A run of a night: predicted, as it went, and as it goes on."""

    job = required(String)
    name = required(String)
    occurrence = required(Instant)
    kind = nullable(String)
    state = required(String)
    outcome = nullable(String)
    began = nullable(Instant)
    ended = nullable(Instant)
    window_end = nullable(Instant)
    predicted_began = nullable(Instant)
    predicted_ended = nullable(Instant)
    ahead_end = nullable(Instant)
    ahead_missed = required(Integer)
    order = nullable(Integer)
    done = required(Integer)
    moving = required(Integer)
    failed = required(Integer)
    total = required(Integer)
    moved_bytes = required(Float)
    predicted_bytes = required(Float)


class TonightSchema(Schema):
    """The night under way. `ahead_*`: as it goes on, simulated from what has really moved."""

    clock = required(Instant)
    news = required(Integer)
    words = required(String)
    runner = nullable(Nested, RunnerSchema)
    silent_since = nullable(Instant)
    summary = required(Nested, NightSoFarSchema)
    runs = required(List, Nested(RunBarSchema))
    troubles = required(List, Nested(TroubleSchema))
    orders = required(List, Nested(OrderSchema))


class PastNightSchema(Schema):
    summary = required(Nested, NightSoFarSchema)
    runs = required(List, Nested(RunBarSchema))
    troubles = required(List, Nested(TroubleSchema))
    differences = required(List, Nested(OtherThanPredictedSchema))


class NightMarkSchema(Schema):
    """A night in the list of past nights."""

    date = required(Day)
    start = required(Instant)
    end = required(Instant)
    verdict = required(String)
    predicted_verdict = nullable(String)
    predicted_end = nullable(Instant)
    last_end = nullable(Instant)
    done = required(Integer)
    total = required(Integer)
    why = required(String)


class PastNightsSchema(Schema):
    zone = required(String)
    nights = required(List, Nested(NightMarkSchema))


# --- a run ---------------------------------------------------------------------------------------


class TimeShareSchema(Schema):
    part = required(String)
    predicted_s = nullable(Float)
    actual_s = nullable(Float)


class MovedDiskSchema(Schema):
    disk = required(String)
    source_bytes = required(Float)
    proxy = nullable(String)
    transport = nullable(String)
    moved = required(Boolean)


class LedgerMachineSchema(Schema):
    machine = required(String)
    step = required(String)
    outcome = nullable(String)
    reason = required(String)
    kind = nullable(String)
    queued = nullable(Instant)
    start = nullable(Instant)
    moved = nullable(Instant)
    ended = nullable(Instant)
    source_bytes = required(Float)
    wire_bytes = required(Float)
    stored_bytes = required(Float)
    mib_per_s = nullable(Float)
    proxies = required(List, String())
    predicted_start = nullable(Instant)
    predicted_ended = nullable(Instant)
    predicted_bytes = nullable(Float)
    parts = required(List, Nested(TimeShareSchema))
    disks = required(List, Nested(MovedDiskSchema))
    left = required(List, String())


class RunEventSchema(Schema):
    at = required(Instant)
    what = required(String)
    machine = nullable(String)
    words = required(String)
    refused = nullable(String)


class LedgerRunSchema(Schema):
    run = required(Nested, RunBarSchema)
    why = required(String)
    machines = required(List, Nested(LedgerMachineSchema))
    events = required(List, Nested(RunEventSchema))


MOST_TROUBLES = 10


class RehearsedTroubleSchema(Schema):
    """Something that goes wrong in a rehearsal, so many hours after noon and for so long."""

    kind = required(String, validate=OneOf(TROUBLE_KINDS))
    subject = required(String, validate=Length(1, 190))
    after_h = required(Float, validate=Range(0, 24))
    hours = required(Float, validate=Range(0, 24))


class RehearsalRequestSchema(Schema):
    """Which night is rehearsed, in which world; without troubles: those that come by chance."""

    draft = Integer(load_default=None, allow_none=True)
    night = required(String, validate=Length(max=20))
    seed = Integer(load_default=1, validate=Range(min=0, max=2**31))
    troubles = List(
        Nested(RehearsedTroubleSchema),
        load_default=None,
        allow_none=True,
        validate=Length(max=MOST_TROUBLES),
    )


class RehearsedRunRequestSchema(RehearsalRequestSchema):
    job = required(String, validate=Length(1, 190))
    occurrence = required(String, validate=Length(max=40))


class WorldTroubleSchema(Schema):
    """What the world did to a rehearsal."""

    words = required(String)
    begins = required(Instant)
    ends = required(Instant)


class RehearsalSchema(Schema):
    """A night carried out apart: predicted beside what came. Nothing of it is kept."""

    words = required(String)
    world = required(List, Nested(WorldTroubleSchema))
    summary = required(Nested, NightSoFarSchema)
    runs = required(List, Nested(RunBarSchema))
    troubles = required(List, Nested(TroubleSchema))
    differences = required(List, Nested(OtherThanPredictedSchema))


class LedgerQuerySchema(Schema):
    machine = String(load_default=None, validate=Length(max=190))
    job = String(load_default=None, validate=Length(max=190))
    outcome = String(load_default=None, validate=Length(max=20))
    start = Day(data_key="from", load_default=None)
    end = Day(data_key="to", load_default=None)
    before = String(load_default=None, validate=Length(max=60))
    most = Integer(load_default=100, validate=Range(1, 500))


class LedgerLineSchema(Schema):
    job = required(String)
    occurrence = required(Instant)
    machine = required(String)
    outcome = nullable(String)
    reason = required(String)
    kind = nullable(String)
    start = nullable(Instant)
    ended = nullable(Instant)
    source_bytes = required(Float)
    stored_bytes = required(Float)
    predicted_start = nullable(Instant)
    predicted_ended = nullable(Instant)
    predicted_bytes = nullable(Float)


class LedgerPageSchema(Schema):
    """A page; `before` asks for the next one, null on the last."""

    lines = required(List, Nested(LedgerLineSchema))
    before = nullable(String)


# --- the report ----------------------------------------------------------------------------------


class NeedsHandSchema(Schema):
    machine = required(String)
    tags = required(List, String())
    good_at = nullable(Instant)
    exposure_s = nullable(Float)
    rpo_s = nullable(Float)
    breaks_rpo = required(Boolean)
    why = required(String)
    advice = required(String)
    also = required(List, String())


class LeftOverSchema(Schema):
    machine = required(String)
    what = required(String)
    since = required(Instant)


class JobLineSchema(Schema):
    job = required(String)
    name = required(String)
    outcome = required(String)
    done = required(Integer)
    total = required(Integer)
    ended = nullable(Instant)
    predicted_end = nullable(Instant)
    window_end = nullable(Instant)


class TonightAheadSchema(Schema):
    date = required(Day)
    verdict = required(String)
    last_end = nullable(Instant)
    over_s = required(Float)
    missed = required(Integer)


class StandingSchema(Schema):
    """A trouble that stands for days."""

    kind = required(String)
    machine = nullable(String)
    job = nullable(String)
    what = required(String)
    why = required(String)


class TestOfTheDaySchema(Schema):
    machine = required(String)
    starts = required(Instant)


class BrokenSchema(Schema):
    """How many machines of a tier would break what was promised in the coming night."""

    tier = required(String)
    rpo = required(Integer)
    rto = required(Integer)


class ReportSchema(Schema):
    tests = required(List, Nested(TestOfTheDaySchema))
    broken = required(List, Nested(BrokenSchema))
    plan = required(String)
    at = required(Instant)
    words = required(String)
    summary = required(Nested, NightSoFarSchema)
    needs_hand = required(List, Nested(NeedsHandSchema))
    left = required(List, Nested(LeftOverSchema))
    differences = required(List, Nested(OtherThanPredictedSchema))
    taught = required(List, String())
    jobs = required(List, Nested(JobLineSchema))
    tonight = nullable(Nested, TonightAheadSchema)
    standing = required(List, Nested(StandingSchema))
    silent_since = nullable(Instant)


class NewsQuerySchema(Schema):
    seen = Integer(load_default=-1, validate=Range(-1, 2**53))


# --- past runs from files ------------------------------------------------------------------------


class PastRunsRequestSchema(Schema):
    """A file of past runs, and how to read it. Nothing is written unless `write` is true.

    `jobs` and `machines` are ids by the names of the file; "" leaves the rows of a name out.
    `size_steps` is the power of 1,024 by which sizes are multiplied; null where it is to be asked.
    """

    name = required(String, validate=Length(1, 200))
    text = required(String, validate=Length(max=7 * 2**20))
    columns = Dict(keys=String(), values=String(), load_default=None, allow_none=True)
    unit = String(load_default="GiB", validate=OneOf(UNITS))
    time_zone = String(load_default=None, allow_none=True, validate=Length(max=80))
    date_order = String(load_default="day first", validate=OneOf(DATE_ORDERS))
    jobs = Dict(keys=String(), values=String(), load_default={})
    machines = Dict(keys=String(), values=String(), load_default={})
    size_steps = Integer(
        load_default=None, allow_none=True, validate=Range(-MOST_STEPS, MOST_STEPS)
    )
    only_good = Boolean(load_default=False)
    write = Boolean(load_default=False)


class RowProblemSchema(Schema):
    line = required(Integer)
    column = required(String)
    value = required(String)
    reason = required(String)


class OddSizesSchema(Schema):
    """Sizes that would have to be multiplied by a power of 1,024, and a machine as an example."""

    steps = required(Integer)
    runs = required(Integer)
    of = required(Integer)
    machine = required(String)
    told_bytes = required(Float)
    expected_bytes = required(Float)


class PastRunsSchema(Schema):
    """What a file comes to: rows that are new and known, what is wrong, what fits nothing."""

    header = required(List, String())
    columns = required(Dict)
    fields = required(List, String())
    rows = required(Integer)
    new = required(Integer)
    known = required(Integer)
    problems = required(List, Nested(RowProblemSchema))
    problems_in_all = required(Integer)
    unknown_jobs = required(Dict)
    unknown_machines = required(Dict)
    odd_sizes = nullable(Nested, OddSizesSchema)
    written = required(Boolean)
