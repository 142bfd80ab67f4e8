"""What the API takes and gives of the estate. Instants are ISO 8601 UTC, sizes GiB."""

from __future__ import annotations

from typing import get_args

from apiflask import Schema
from apiflask.fields import Boolean, Date, Dict, File, Float, Integer, List, Nested, String
from apiflask.validators import Length, OneOf, Range

from gambrel.api.schemas import Day, DraftQuerySchema, Instant, SubjectSchema, nullable, required
from gambrel.core.estate.coverage import STATES
from gambrel.core.estate.differences import KINDS
from gambrel.core.estate.facts import Statement
from gambrel.formats.inventory_csv import UNITS
from gambrel.store.standing_rules import LEARNED
from gambrel.work.machine_table import GROUPS, SORTS

NAME = Length(min=1, max=190)
ROWS_AT_ONCE = 500


class MachineFilterSchema(DraftQuerySchema):
    """Which machines: words that all occur, states of coverage, `field:value` pairs."""

    search = String(load_default="", validate=Length(max=200))
    coverage = List(String(validate=OneOf(STATES)), load_default=list)
    where = List(String(validate=Length(max=300)), load_default=list)
    hazards = Boolean(load_default=False)
    group = String(load_default="none", validate=OneOf(GROUPS))
    sort = String(load_default="coverage", validate=OneOf(SORTS))
    descending = Boolean(load_default=False)
    as_of = Integer(load_default=None, metadata={"description": "a version of the plan"})


class MachinePageQuerySchema(MachineFilterSchema):
    offset = Integer(load_default=0, validate=Range(min=0))
    limit = Integer(load_default=100, validate=Range(min=1, max=ROWS_AT_ONCE))


class HazardSchema(Schema):
    kind = required(String)
    words = required(String)


class MachineEntrySchema(Schema):
    name = required(String)
    kind = required(String)
    group = required(String)
    site = required(String)
    host = nullable(String)
    cluster = required(String)
    folder = required(String)
    tags = required(List, String())
    role = required(String)
    owner = required(String)
    source = nullable(String)
    powered_on = required(Boolean)
    disks = required(Integer)
    used_gib = required(Float)
    provisioned_gib = required(Float)
    swap_gib = required(Float)
    daily_change = required(Float)
    change_from = required(String)
    compress_ratio = required(Float)
    growth_per_year = required(Float)
    overridden = required(List, String())
    coverage = required(String, validate=OneOf(STATES))
    coverage_words = required(String)
    since = nullable(Date)
    jobs = required(List, String())
    newest = nullable(Instant)
    rpo_hours = nullable(Float)
    rto_hours = nullable(Float)
    hazards = required(List, Nested(HazardSchema))


class GroupSchema(Schema):
    name = required(String)
    machines = required(Integer)
    used_gib = required(Float)
    not_protected = required(Integer)


class CoverageSumSchema(Schema):
    """How many machines are in a state, and the longest that one of them has been."""

    state = required(String, validate=OneOf(STATES))
    machines = required(Integer)
    used_gib = required(Float)
    since = nullable(Date)


class MachinePageSchema(Schema):
    total = required(Integer)
    all = required(Integer)
    groups = required(List, Nested(GroupSchema))
    coverage = required(List, Nested(CoverageSumSchema))
    to_review = required(List, String())
    as_of = required(Instant)
    rows = required(List, Nested(MachineEntrySchema))


class ExposureSchema(Schema):
    """Of each machine over a week in seconds, null where it has no point: its worst exposure, and
    how long a full restore from its newest point takes as the week ends."""

    worst_s = required(Dict)
    restore_s = required(Dict)


class DiskSchema(Schema):
    id = required(String)
    provisioned_gib = required(Float)
    used_gib = required(Float)
    swap_gib = required(Float)
    unused_gib = required(Float)
    datastore = nullable(String)
    holds_backups = required(Boolean)
    left_out_by = required(List, String())


class UserSnapshotSchema(Schema):
    name = required(String)
    taken_at = required(Instant)
    gib = required(Float)


class ProtectedBySchema(Schema):
    """A job that selects the machine; `how`: listed by name, or by which rule in words."""

    job = required(String)
    name = required(String)
    how = required(String)
    newest = nullable(Instant)
    points = required(Integer)


class NextRunSchema(Schema):
    job = required(String)
    occurrence = required(Instant)
    kind = nullable(String)
    start = nullable(Instant)
    ended = required(Instant)
    outcome = required(String)
    source_bytes = required(Float)


class JobOfferSchema(Schema):
    """A job that could take the machine: how many alike it has (same folder, host or role)."""

    job = required(String)
    name = required(String)
    alike = required(Integer)


class LeftOutSchema(Schema):
    reason = required(String, validate=Length(min=1, max=500))
    review = Day(allow_none=True, load_default=None)


class MachineSchema(MachineEntrySchema):
    churn_ceiling = required(Float)
    memory_gib = nullable(Float)
    nic_mbit_per_s = nullable(Float)
    agent_streams = nullable(Integer)
    backup_network = nullable(String)
    backup_nic_mbit_per_s = nullable(Float)
    uid = nullable(String)
    known_since = nullable(Date)
    gone_since = nullable(Date)
    quiesces = required(Boolean)
    left_out = nullable(Nested, LeftOutSchema)
    reported = required(Dict)
    disk_list = required(List, Nested(DiskSchema))
    snapshots = required(List, Nested(UserSnapshotSchema))
    protected_by = required(List, Nested(ProtectedBySchema))
    worst_exposure_s = nullable(Float)
    next_runs = required(List, Nested(NextRunSchema))
    offers = required(List, Nested(JobOfferSchema))


class MachineQuerySchema(DraftQuerySchema):
    night = required(Day)


class StatedSnapshotSchema(Schema):
    """A snapshot that somebody took by hand."""

    name = required(String, validate=Length(min=1, max=190))
    taken_at = required(Instant)
    gib = Float(load_default=0.0, validate=Range(min=0, max=1e9))


class FactEditSchema(Schema):
    """What is stated of some machines, brought back, or said to be left out on purpose."""

    machines = required(List, String(), validate=Length(min=1, max=20_000))
    state = Dict(keys=String(), load_default=dict)
    revert = List(String(), load_default=list)
    snapshots = List(
        Nested(StatedSnapshotSchema), allow_none=True, load_default=None, validate=Length(max=50)
    )
    leave_out = Nested(LeftOutSchema, allow_none=True, load_default=None)
    take_in = Boolean(load_default=False)
    source = String(
        load_default="stated",
        validate=OneOf(get_args(Statement)),
        metadata={"description": "learned: the values are taken over from what the ledger shows"},
    )


class JobEffectSchema(Schema):
    machine = required(String)
    job = required(String)
    joins = required(Boolean)
    words = required(String)


# --- imports ----------------------------------------------------------------------------------


class ImportFormSchema(Schema):
    """Files with what a planner says of them.

    `mapping` and `words` are JSON: the column of each field; by field what words of the file mean.
    `night` is a night of the week whose forecast is compared. Hosts that the plan does not have are
    added at the site `new_hosts_at`; without it they are problems.
    """

    files = required(List, File(), validate=Length(min=1, max=200))  # type: ignore[no-untyped-call]
    mapping = String(load_default="", validate=Length(max=20_000))
    words = String(load_default="", validate=Length(max=20_000))
    night = Date(load_default=None)
    unit = String(load_default="GiB", validate=OneOf(UNITS))
    host = String(load_default="", validate=Length(max=190))
    new_hosts_at = String(load_default="", validate=Length(max=190))
    good_rows = Boolean(load_default=False)
    base_version = Integer(load_default=None)


class ImportProblemSchema(Schema):
    file = required(String)
    line = nullable(Integer)
    column = nullable(String)
    value = required(String)
    reason = required(String)


class WordSchema(Schema):
    """A word of a file, what it is taken for (null: not understood), in how many rows it stands."""

    field = required(String)
    word = required(String)
    meaning = nullable(String)
    rows = required(Integer)


class ReadFileSchema(Schema):
    """A file as it was understood; for CSV its columns, what they are taken for, some rows."""

    name = required(String)
    kind = required(String)
    machines = required(Integer)
    columns = required(List, String())
    mapping = required(Dict)
    sample = required(List, List(String()))
    words = required(List, Nested(WordSchema))


class ImportPreviewSchema(Schema):
    base_version = required(Integer)
    files = required(List, Nested(ReadFileSchema))
    lines = required(List, String())
    unchanged = required(Integer)
    problems = required(List, Nested(ImportProblemSchema))
    more_problems = required(Integer)
    fields = required(List, String())
    jobs = required(List, Nested(JobEffectSchema))
    roles = required(List, String())
    nights = required(List, Nested(lambda: NightEffectSchema))
    hosts_not_there = required(List, String())


# --- sources ----------------------------------------------------------------------------------


class CredentialSchema(Schema):
    """An account; its secret is never given."""

    id = required(Integer)
    scope = required(String)
    user = required(String)
    outcome = required(String, validate=OneOf(["not tried", "works", "fails"]))
    failure = required(String)
    advice = required(String)
    tried_at = nullable(Instant)


class DiscoverySchema(Schema):
    id = required(Integer)
    state = required(String)
    read = required(Integer)
    expected = nullable(Integer)
    message = required(String)
    found = required(Integer)
    started_at = required(Instant)
    ended_at = nullable(Instant)


class SourceSchema(Schema):
    id = required(Integer)
    name = required(String)
    kind = required(String)
    make = required(String)
    address = required(String)
    site = required(String)
    interval_min = nullable(Integer)
    revision = required(Integer)
    access = required(String, validate=OneOf(["not tried", "works", "works for most", "fails"]))
    credentials = required(List, Nested(CredentialSchema))
    last_discovery = nullable(Nested, DiscoverySchema)
    differences = required(Integer)


class SourcesSchema(Schema):
    sources = required(List, Nested(SourceSchema))


class NewAccountSchema(Schema):
    scope = String(load_default="source", validate=Length(min=1, max=200))
    user = required(String, validate=Length(min=1, max=200))
    secret = required(String, validate=Length(min=1, max=1000), load_only=True)


ADDRESS = Length(min=8, max=500)
INTERVAL = Range(min=5, max=60 * 24 * 30)


class NewSourceSchema(Schema):
    name = required(String, validate=NAME)
    kind = required(String, validate=OneOf(["manager", "host", "agent"]))
    make = required(String, validate=OneOf(["A", "B", "C"]))
    address = required(String, validate=ADDRESS)
    site = required(String, validate=NAME)
    interval_min = Integer(allow_none=True, load_default=None, validate=INTERVAL)
    accounts = required(List, Nested(NewAccountSchema), validate=Length(min=1, max=500))


class SourceEditSchema(Schema):
    address = String(validate=ADDRESS)
    site = String(validate=NAME)
    interval_min = Integer(allow_none=True, validate=INTERVAL)


class SecretSchema(Schema):
    user = required(String, validate=Length(min=1, max=200))
    secret = required(String, validate=Length(min=1, max=1000), load_only=True)


class ChosenSourcesSchema(Schema):
    sources = required(List, Integer(), validate=Length(min=1, max=2000))


# --- the inbox --------------------------------------------------------------------------------


class NightEffectSchema(Schema):
    date = required(Date)
    verdict_before = required(String)
    verdict_after = required(String)
    end_before = nullable(Instant)
    end_after = nullable(Instant)
    over_s_before = required(Float)
    over_s_after = required(Float)


class EffectSchema(Schema):
    jobs = required(List, Nested(JobEffectSchema))
    nights = required(List, Nested(NightEffectSchema))


class DifferenceSchema(Schema):
    id = required(Integer)
    kind = required(String, validate=OneOf(KINDS))
    subject = required(Nested, SubjectSchema)
    source = required(String)
    words = required(String)
    found_at = required(Instant)
    jobs = required(List, Nested(JobEffectSchema))


class InboxSchema(Schema):
    """The first differences in full, and the ids of all by kind."""

    total = required(Integer)
    ids_by_kind = required(Dict)
    differences = required(List, Nested(DifferenceSchema))
    rules = required(Dict)
    dismissed = required(Integer)


class InboxQuerySchema(Schema):
    state = String(load_default="open", validate=OneOf(["open", "dismissed"]))


class ChosenDifferencesSchema(Schema):
    ids = required(List, Integer(), validate=Length(min=1, max=20_000))


class DifferencesEffectSchema(ChosenDifferencesSchema):
    night = required(Day)


class StandingRuleSchema(Schema):
    kind = required(String, validate=OneOf([*KINDS, *LEARNED]))
    action = nullable(String, validate=OneOf(["accept", "dismiss"]))


class AcceptanceSchema(Schema):
    id = required(Integer)
    what = required(String)
    words = required(List, String())
    before_version = required(Integer)
    after_version = required(Integer)
    actor = required(String)
    at = required(Instant)
    undone = required(Boolean)
    kept = required(
        Boolean, metadata={"description": "whether one can still look at it and undo it"}
    )


class AcceptancesSchema(Schema):
    acceptances = required(List, Nested(AcceptanceSchema))
