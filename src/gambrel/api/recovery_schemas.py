"""What the API takes and gives about recoveries, points of machines and promises."""

from __future__ import annotations

from typing import Any

from apiflask import Schema
from apiflask.fields import Boolean, Dict, Float, Integer, List, Nested, String
from apiflask.validators import Length, OneOf, Range

from gambrel.api.restore_tests_schemas import PointCheckSchema
from gambrel.api.schemas import (
    Day,
    DraftQuerySchema,
    Instant,
    LoadSchema,
    NightSummarySchema,
    nullable,
    required,
)
from gambrel.core.recovery.coming_back import MOST_AT_ONCE

MOST_NAMES = 10_000


def _names(**more: Any) -> Any:
    return List(String(), load_default=list, validate=Length(max=MOST_NAMES), **more)


class LossSchema(Schema):
    """What is gone, by id; clusters by name. `at`: since when."""

    at = required(Instant)
    machines = _names()
    hosts = _names()
    clusters = _names()
    sites = _names()
    repositories = _names()


class RecoveryWaySchema(Schema):
    """How it is to come back; what is left out is as by default."""

    begins = Instant(
        load_default=None, allow_none=True, metadata={"description": "none: at the loss"}
    )
    order = _names(metadata={"description": "machines, the first first; others behind"})
    at_once = Integer(load_default=None, allow_none=True, validate=Range(1, MOST_AT_ONCE))
    instant = _names()
    to_site = String(load_default=None, allow_none=True)
    targets = Dict(String(), String(), load_default=dict)
    goes_on = Boolean(
        load_default=False, metadata={"description": "whether other backups go on meanwhile"}
    )


class LossSubjectSchema(Schema):
    """Something that can be lost; `machines`: how many machines go with it."""

    kind = required(String, validate=OneOf(["sites", "clusters", "hosts", "repositories"]))
    id = required(String)
    name = required(String)
    machines = required(Integer)


class SubjectsSchema(Schema):
    """`servers`: physical servers onto which a machine can be restored."""

    subjects = required(List, Nested(LossSubjectSchema))
    servers = required(List, String())


class RecoveryRequestSchema(Schema):
    draft = Integer(load_default=None, allow_none=True)
    loss = required(Nested, LossSchema)
    way = Nested(RecoveryWaySchema, load_default=lambda: RecoveryWaySchema().load({}))


class RestoredPointSchema(Schema):
    job = required(String)
    repository = required(String)
    at = required(Instant)


class ComesBackSchema(Schema):
    """A machine on its way back. `promise`: of the time until it is back after the loss (RTO)."""

    machine = required(String)
    tier = required(String)
    target = nullable(String)
    as_vm = required(Boolean)
    method = required(String, validate=OneOf(["full", "instant"]))
    outcome = required(
        String, validate=OneOf(["done", "no point", "no path", "cut off", "no target"])
    )
    point = nullable(Nested, RestoredPointSchema)
    points = nullable(Integer)
    start = nullable(Instant)
    ready = nullable(Instant, metadata={"description": "when its set-up ends"})
    back = nullable(Instant)
    whole = nullable(Instant)
    read_bytes = nullable(Float)
    written_bytes = nullable(Float)
    limited_by = nullable(String)
    limited_s = nullable(Float)
    exposure_s = nullable(Float)
    rpo_met = nullable(Boolean)
    promised_by = nullable(Instant)
    promise = required(String, validate=OneOf(["met", "missed", "none"]))
    late_s = nullable(Float)


class TierSchema(Schema):
    """`bound`: no order brings all of it back before, and why."""

    tier = required(String)
    machines = required(Integer)
    back = required(Integer)
    late = required(Integer)
    last_back = nullable(Instant)
    bound = nullable(Instant)
    bound_by = nullable(String)
    bound_bytes = required(Float)


class RecoverySchema(Schema):
    words = required(String)
    lost_at = required(Instant)
    begins = required(Instant)
    ends = required(Instant)
    time_zone = required(String)
    hosts_left = required(List, String())
    machines = required(List, Nested(ComesBackSchema))
    tiers = required(List, Nested(TierSchema))
    loads = required(List, Nested(LoadSchema))
    copies_missing = required(
        List, String(), metadata={"description": "jobs whose points lay only where they are lost"}
    )


class SecondCopySchema(Schema):
    job = required(String)
    repository = required(String)


class NightWithCopiesSchema(Schema):
    before = required(Nested, NightSummarySchema)
    after = required(Nested, NightSummarySchema)


class SecondCopiesSchema(Schema):
    """Copies that a loss would have left, as operations of a draft.

    `back`, `back_then`: how many machines come back without and with them; `nights`: those of the
    week of the loss that they change.
    """

    copies = required(List, Nested(SecondCopySchema))
    operations = required(List, Dict())
    back = required(Integer)
    back_then = required(Integer)
    last_back_then = nullable(Instant)
    nights = required(List, Nested(NightWithCopiesSchema))


class RehearsedRequestSchema(RecoveryRequestSchema):
    """A recovery to rehearse. `seed`: which world; `at`: the instant to look at, none: the end."""

    seed = Integer(load_default=1, validate=Range(0, 2**31 - 1))
    at = Instant(load_default=None, allow_none=True)


class OnItsWaySchema(Schema):
    """A machine in a rehearsal. `part`: of its bytes that are written; `foreseen`: when it is
    back by the forecast made at that instant."""

    machine = required(String)
    tier = required(String)
    planned = nullable(Instant)
    rehearsed = nullable(Instant)
    promised_by = nullable(Instant)
    stage = required(
        String, validate=OneOf(["waits", "set up", "written", "back", "whole", "not at all"])
    )
    part = required(Float)
    foreseen = nullable(Instant)


class RehearsedSchema(Schema):
    at = required(Instant)
    begins = required(Instant)
    ends = required(Instant)
    machines = required(List, Nested(OnItsWaySchema))


class ProposalSchema(Schema):
    words = required(String)
    way = required(Nested, RecoveryWaySchema)
    late = required(Integer)
    back = required(Integer)
    last_back = nullable(Instant)
    late_before = required(Integer)
    last_back_before = nullable(Instant)


class ProposalsSchema(Schema):
    proposals = required(List, Nested(ProposalSchema))


class NewRecoverySchema(Schema):
    name = required(String, validate=Length(1, 190))
    loss = required(Nested, LossSchema)
    way = required(Nested, RecoveryWaySchema)


class SavedRecoverySchema(Schema):
    id = required(Integer)
    name = required(String)
    loss = required(Nested, LossSchema)
    way = required(Nested, RecoveryWaySchema)
    actor = required(String)
    saved_at = required(Instant)


# --- points -------------------------------------------------------------------------------------


class PointsQuerySchema(DraftQuerySchema):
    at = required(Instant)
    to_host = String(load_default=None, allow_none=True)


class DiskEstimateSchema(Schema):
    disk = required(String)
    written_bytes = required(Float)
    seconds = required(Float)


class WayBackSchema(Schema):
    """Each alone, section 10 of the planning model."""

    read_bytes = required(Float)
    written_bytes = required(Float)
    full_s = required(Float)
    instant_s = required(Float)
    files_s = required(Float)
    limited_by = nullable(String)
    disks = required(List, Nested(DiskEstimateSchema))


class MachinePointSchema(Schema):
    """A point. `exists`: whether it is there already, and not only forecast.

    `bad_since`: when it was found to be bad. `verified_at`: when its run had ended well with the
    verify of its job. `checks`: what was found out about it since, the newest first.
    """

    exists = required(Boolean)
    bad_since = nullable(Instant)
    verified_at = nullable(Instant)
    checks = required(List, Nested(PointCheckSchema))
    job = required(String)
    repository = required(String)
    kind = required(String)
    at = required(Instant)
    base_at = nullable(Instant)
    stored_bytes = required(Float)
    kept_by = required(List, String())
    carries = required(Integer)
    cold = required(Boolean)
    chain_points = required(Integer)
    chain_bytes = required(Float)
    usable = required(Boolean)
    way = nullable(Nested, WayBackSchema)


class MachinePointsSchema(Schema):
    machine = required(String)
    at = required(Instant)
    points = required(List, Nested(MachinePointSchema))


class OneRestoreSchema(Schema):
    """A restore in the middle of a night. `point`: none for the newest."""

    draft = Integer(load_default=None, allow_none=True)
    night = required(Day)
    at = required(Instant)
    point = Nested(RestoredPointSchema, load_default=None, allow_none=True)
    method = String(load_default="full", validate=OneOf(["full", "instant"]))
    to_host = String(load_default=None, allow_none=True)


class LaterJobSchema(Schema):
    job = required(String)
    seconds = required(Float)


class InANightSchema(Schema):
    outcome = required(String)
    start = nullable(Instant)
    back = nullable(Instant)
    whole = nullable(Instant)
    limited_by = nullable(String)
    night = required(Nested, NightSummarySchema)
    was = required(Nested, NightSummarySchema)
    later = required(List, Nested(LaterJobSchema))


# --- promises -----------------------------------------------------------------------------------


class PromiseNightSchema(Schema):
    """Of one machine in one night. `exposure_s`: the worst; none with no point at all.

    Where the RPO is broken, `worst_at` says when most would be lost: all since `worst_since`. Where
    the RTO is, `limited_by` says what the restore waits for.
    """

    exposure_s = nullable(Float)
    rpo_met = nullable(Boolean)
    restore_s = nullable(Float)
    rto_met = nullable(Boolean)
    worst_at = nullable(Instant)
    worst_since = nullable(Instant)
    limited_by = nullable(String)


class PromisedMachineSchema(Schema):
    machine = required(String)
    tier = required(String)
    rpo_s = nullable(Float)
    rto_s = nullable(Float)
    nights = required(List, Nested(PromiseNightSchema))


class PromisesSchema(Schema):
    """One entry of `nights` for each date."""

    dates = required(List, Day())
    machines = required(List, Nested(PromisedMachineSchema))
