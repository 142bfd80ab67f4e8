"""Recovery: the day of the loss, points of machines, restores in a night, promises."""

from __future__ import annotations

from math import isfinite
from typing import Any

from apiflask import APIBlueprint
from flask import Response, jsonify

from gambrel.api import recovery_schemas as schemas
from gambrel.api import serialize
from gambrel.api.plans import day_of, looked_at
from gambrel.api.problems import ProblemError, field_error, instant_of
from gambrel.api.restore_tests import check_body, existing
from gambrel.api.schemas import DraftQuerySchema
from gambrel.api.sessions import actor, planning
from gambrel.core.edits.operations import operation_to_dict
from gambrel.core.loads.lanes import NO_TIER, TIERS, tier_of
from gambrel.core.loads.load_series import load_series
from gambrel.core.nights.nights import night_at, night_of
from gambrel.core.plan.instants import format_instant, format_known
from gambrel.core.plan.objects import Machine, NamedPoint, Plan, PlannedRestore
from gambrel.core.recovery.coming_back import ComesBack, Recovery, Way
from gambrel.core.recovery.loss import Loss, loss_in_words, lost_with
from gambrel.core.recovery.machine_points import MachinePoint, machine_points
from gambrel.core.recovery.one_restore import restore_in_a_night
from gambrel.core.recovery.promises import Kept, kept_in
from gambrel.core.recovery.second_copies import copies_that_help, jobs_without_copy
from gambrel.core.simulation.forecast import RestoredPoint
from gambrel.core.simulation.known_points import place_of_point
from gambrel.core.units import HOUR
from gambrel.core.words import load_label
from gambrel.standins.recovery_rehearsal import rehearse_recovery
from gambrel.store import ledger, point_checks
from gambrel.store import recoveries as store
from gambrel.work.forecaster import Forecaster
from gambrel.work.recovering import better_ways, come_back, points_at

blueprint = APIBlueprint(
    "recovery", __name__, tag="Recovery", url_prefix="/api/v1/plans/<int:plan_id>"
)

MOST_PROPOSALS = 12
LOADS_SHOWN = 4
"""How many rooflines stand under a recovery: of what limited it longest."""


def _loss(told: dict[str, Any]) -> Loss:
    kinds = ("machines", "hosts", "clusters", "sites", "repositories")
    return Loss(instant_of("loss.at", told["at"]), **{kind: tuple(told[kind]) for kind in kinds})


def _way(told: dict[str, Any]) -> Way:
    begins = told["begins"]
    return Way(
        begins=None if begins is None else instant_of("way.begins", begins),
        order=tuple(told["order"]),
        at_once=told["at_once"],
        instant=frozenset(told["instant"]),
        to_site=told["to_site"],
        targets=told["targets"],
        goes_on=told["goes_on"],
    )


def _way_body(way: Way) -> dict[str, Any]:
    return {
        "begins": format_known(way.begins),
        "order": list(way.order),
        "at_once": way.at_once,
        "instant": sorted(way.instant),
        "to_site": way.to_site,
        "targets": dict(way.targets),
        "goes_on": way.goes_on,
    }


# --- the day of the loss ------------------------------------------------------------------------


@blueprint.get("/recoveries/subjects")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(schemas.SubjectsSchema)
def list_subjects(plan_id: int, query_data: dict[str, Any]) -> dict[str, Any]:
    """What of a plan can be lost as a whole."""
    plan = looked_at(plan_id, query_data["draft"])[2].plan
    clusters = dict.fromkeys(h.cluster for h in plan.hosts if h.cluster is not None)
    subjects = [
        *(("sites", site.id, site.name) for site in plan.sites),
        *(("clusters", name, name) for name in clusters),
        *(("hosts", host.id, host.id) for host in plan.hosts),
        *(("repositories", each.id, each.id) for each in plan.repositories),
    ]
    return {
        "subjects": [
            {
                "kind": kind,
                "id": ident,
                "name": name,
                "machines": len(lost_with(plan, Loss(0.0, **{kind: (ident,)})).machines),
            }
            for kind, ident, name in subjects
        ],
        "servers": [m.id for m in plan.machines if m.kind == "server" and not m.gone],
    }


@blueprint.post("/recoveries/simulated")
@blueprint.input(schemas.RecoveryRequestSchema)
@blueprint.output(schemas.RecoverySchema)
def simulate_recovery(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Bring back what is lost in one way, from the points that the forecast has then.

    Nothing is written.
    """
    _, _, forecaster = looked_at(plan_id, json_data["draft"])
    recovery = come_back(forecaster, _loss(json_data["loss"]), _way(json_data["way"]))
    return _body(forecaster, recovery)


@blueprint.post("/recoveries/proposals")
@blueprint.input(schemas.RecoveryRequestSchema)
@blueprint.output(schemas.ProposalsSchema)
def propose_recoveries(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Better ways back than one: each simulated, the best first. Nothing is written."""
    _, _, forecaster = looked_at(plan_id, json_data["draft"])
    loss = _loss(json_data["loss"])
    now, found = better_ways(forecaster, loss, _way(json_data["way"]))
    return {
        "proposals": [
            {
                "words": each.words,
                "way": _way_body(each.recovery.way),
                "late": len(each.recovery.late),
                "back": _back(each.recovery),
                "last_back": format_known(_last_back(each.recovery.rows)),
                "late_before": len(now.late),
                "last_back_before": format_known(_last_back(now.rows)),
            }
            for each in found[:MOST_PROPOSALS]
        ],
    }


@blueprint.post("/recoveries/rehearsed")
@blueprint.input(schemas.RehearsedRequestSchema)
@blueprint.output(schemas.RehearsedSchema)
def rehearse(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Rehearse a recovery in the stand-in's true world. Nothing is written.

    The same question has the same answer; another `seed` is another world. What is under way at
    `at` is forecast anew from there, by the rates of the plan.
    """
    _, _, forecaster = looked_at(plan_id, json_data["draft"])
    recovery = come_back(forecaster, _loss(json_data["loss"]), _way(json_data["way"]))
    at = None if json_data["at"] is None else instant_of("at", json_data["at"])
    day = night_at(recovery.loss.at, forecaster.origin.zone).date
    went = rehearse_recovery(recovery, json_data["seed"], day, at)
    lost_at = recovery.loss.at
    return {
        "at": format_instant(went.at),
        "begins": format_instant(went.begins),
        "ends": format_instant(went.ends),
        "machines": [
            {
                "machine": each.row.machine,
                "tier": each.row.tier,
                "planned": format_known(each.planned),
                "rehearsed": format_known(each.rehearsed),
                "promised_by": None
                if each.row.rto_s is None
                else format_instant(lost_at + each.row.rto_s),
                "stage": each.stage,
                "part": each.part,
                "foreseen": format_known(each.foreseen),
            }
            for each in went.machines
        ],
    }


def _back(recovery: Recovery) -> int:
    return sum(row.back is not None for row in recovery.rows)


def _last_back(rows: tuple[ComesBack, ...] | list[ComesBack]) -> float | None:
    return max((row.back for row in rows if row.back is not None), default=None)


def _body(forecaster: Forecaster, recovery: Recovery) -> dict[str, Any]:
    plan, loss = recovery.plan, recovery.loss
    ends = max(
        (row.whole for row in recovery.rows if row.whole is not None), default=recovery.begins
    )
    return {
        "words": loss_in_words(plan, loss, recovery.lost),
        "lost_at": format_instant(loss.at),
        "begins": format_instant(recovery.begins),
        "ends": format_instant(ends),
        "time_zone": forecaster.origin.zone,
        "hosts_left": [h.id for h in plan.hosts if h.id not in recovery.lost.hosts],
        "machines": [_row(recovery, row) for row in recovery.rows],
        "tiers": [
            _tier(recovery, tier)
            for tier in (*TIERS, NO_TIER)
            if any(row.tier == tier for row in recovery.rows)
        ],
        "loads": _loads(recovery, ends),
        "copies_missing": [job.id for job in jobs_without_copy(forecaster.plan, recovery)],
    }


def _row(recovery: Recovery, row: ComesBack) -> dict[str, Any]:
    plan, lost_at = recovery.plan, recovery.loss.at
    late = row.late_s(lost_at)
    limit = row.squeezes[0] if row.squeezes else None
    rpo_met = None
    if row.rpo_s is not None:
        rpo_met = row.exposure_s is not None and row.exposure_s <= row.rpo_s
    return {
        "machine": row.machine,
        "tier": row.tier,
        "target": row.target,
        "as_vm": row.as_vm,
        "method": row.method,
        "outcome": row.outcome,
        "point": _point(row.point),
        "points": row.points,
        "start": format_known(row.start),
        "ready": format_known(None if row.start is None else row.start + recovery.set_up_s(row)),
        "back": format_known(row.back),
        "whole": format_known(row.whole),
        "read_bytes": row.read_bytes,
        "written_bytes": row.written_bytes,
        "limited_by": None if limit is None else load_label(plan, limit[0]),
        "limited_s": None if limit is None else limit[1],
        "exposure_s": row.exposure_s,
        "rpo_met": rpo_met,
        "promised_by": None if row.rto_s is None else format_instant(lost_at + row.rto_s),
        "promise": "none" if late is None else "missed" if late else "met",
        "late_s": late if late is not None and isfinite(late) else None,
    }


def _point(point: RestoredPoint | None) -> dict[str, Any] | None:
    if point is None:
        return None
    return {"job": point.job, "repository": point.repository, "at": format_instant(point.at)}


def _tier(recovery: Recovery, tier: str) -> dict[str, Any]:
    rows = [row for row in recovery.rows if row.tier == tier]
    bound = recovery.bounds.get(tier)
    return {
        "tier": tier,
        "machines": len(rows),
        "back": sum(row.back is not None for row in rows),
        "late": sum(bool(row.late_s(recovery.loss.at)) for row in rows),
        "last_back": format_known(_last_back(rows)),
        "bound": None if bound is None else format_instant(bound.at),
        "bound_by": None
        if bound is None or bound.resource is None
        else load_label(recovery.plan, bound.resource),
        "bound_bytes": 0.0 if bound is None else bound.bytes,
    }


def _loads(recovery: Recovery, ends: float) -> list[dict[str, Any]]:
    """The rooflines of what limited the restores longest."""
    forecast = recovery.forecast
    if forecast is None or ends <= recovery.loss.at:
        return []
    seconds: dict[str, float] = {}
    for row in recovery.rows:
        for name, each in row.squeezes:
            if name != "transport" and not name.startswith("datastore_write"):
                seconds[name] = seconds.get(name, 0.0) + each
    names = sorted(seconds, key=lambda name: -seconds[name])[:LOADS_SHOWN]
    start = recovery.loss.at
    return [
        serialize.load(recovery.plan, load_series(forecast, name, start, ends), start)
        for name in names
    ]


@blueprint.post("/recoveries/copies")
@blueprint.input(schemas.RecoveryRequestSchema)
@blueprint.output(schemas.SecondCopiesSchema)
def show_copies(plan_id: int, json_data: dict[str, Any]) -> Response:
    """Copies to what a loss leaves: what they would have saved, and what they cost the week.

    The same loss is simulated again from the points that the plan with the copies would have had.
    Nothing is written.
    """
    head, draft, forecaster = looked_at(plan_id, json_data["draft"])
    loss, way = _loss(json_data["loss"]), _way(json_data["way"])
    now = come_back(forecaster, loss, way)
    plan = forecaster.plan
    operations = copies_that_help(plan, now.lost, jobs_without_copy(plan, now))
    changed = planning().preview(head, draft, operations) if operations else forecaster
    then = come_back(changed, loss, way)
    night = night_at(loss.at, forecaster.origin.zone)
    nights = [n for n in forecaster.nights_of_week(night.date) if forecaster.covers(n)]
    body = {
        "copies": [
            {"job": each.id, "repository": each.changes["copies"][-1]["repository"]}
            for each in operations
        ],
        "operations": [operation_to_dict(each) for each in operations],
        "back": _back(now),
        "back_then": _back(then),
        "last_back_then": format_known(_last_back(then.rows)),
        "nights": [
            {"before": was, "after": found}
            for was, found in (
                (
                    serialize.night_summary(forecaster.night(n), n),
                    serialize.night_summary(changed.night(n), n),
                )
                for n in nights
            )
            if (was["verdict"], was["last_end"]) != (found["verdict"], found["last_end"])
        ],
    }
    return jsonify(body)


# --- recoveries by name -------------------------------------------------------------------------


@blueprint.get("/recoveries")
@blueprint.output(schemas.SavedRecoverySchema(many=True))
def list_recoveries(plan_id: int) -> list[dict[str, Any]]:
    """The recoveries that were kept, by name."""
    with planning().sessions() as db:
        return [_saved(each) for each in store.recoveries(db, plan_id)]


@blueprint.post("/recoveries")
@blueprint.input(schemas.NewRecoverySchema)
@blueprint.output(schemas.SavedRecoverySchema, status_code=201)
def keep_recovery(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Keep a loss and its way back by name; one of the same name is replaced."""
    instant_of("loss.at", json_data["loss"]["at"])
    asked = {"loss": json_data["loss"], "way": json_data["way"]}
    try:
        made = planning().write(
            lambda db: store.save_recovery(db, plan_id, json_data["name"], asked, actor=actor())
        )
    except store.RecoveryRefused as error:
        raise ProblemError(
            422, "This recovery cannot be kept", "Nothing was saved.",
            errors=[field_error("name", json_data["name"], str(error))],
        ) from None  # fmt: skip
    return _saved(made)


@blueprint.delete("/recoveries/<int:recovery_id>")
@blueprint.output({}, status_code=204)
def forget_recovery(plan_id: int, recovery_id: int) -> tuple[str, int]:
    """Forget a recovery that was kept."""
    planning().write(lambda db: store.remove_recovery(db, plan_id, recovery_id, actor=actor()))
    return "", 204


def _saved(item: store.SavedRecovery) -> dict[str, Any]:
    return {
        "id": item.id,
        "name": item.name,
        **item.asked,
        "actor": item.actor,
        "saved_at": item.saved_at.isoformat() + "Z",
    }


# --- points -------------------------------------------------------------------------------------


def _machine(plan: Plan, ident: str) -> Machine:
    if ident not in plan.machine_by_id:
        raise ProblemError(404, "There is no such machine", f"{ident} is not in this plan.")
    return plan.machine_by_id[ident]


@blueprint.get("/machines/<machine_id>/points")
@blueprint.input(schemas.PointsQuerySchema, location="query")
@blueprint.output(schemas.MachinePointsSchema)
def show_points(plan_id: int, machine_id: str, query_data: dict[str, Any]) -> dict[str, Any]:
    """The restore points of a machine at an instant, with the ways back from each."""
    _, _, forecaster = looked_at(plan_id, query_data["draft"])
    machine = _machine(forecaster.plan, machine_id)
    at = instant_of("at", query_data["at"])
    points = points_at(forecaster, at)
    found = machine_points(forecaster.plan, machine, points, at, query_data["to_host"])
    with planning().sessions() as db:
        checks = point_checks.checks_of(db, plan_id, machine=machine_id)
        verified = ledger.verified_points(db, plan_id, machine_id)
    known = {place_of_point(each): each for each in existing(plan_id, forecaster, machine_id)}
    bodies = []
    for each in found:
        place = (each.job, machine_id, each.told.repository, round(each.told.at * 1000))
        there = known.get(place)
        job = forecaster.plan.job_by_id[each.job]
        ended = verified.get(place[3])
        told = {
            "exists": there is not None,
            "bad_since": format_known(None if there is None else there.bad_since),
            "verified_at": format_known(None if job.verify == "none" else ended),
            "checks": [check_body(check) for check in checks if check.place == place],
        }
        bodies.append({**told, **_point_body(forecaster.plan, each)})
    return {"machine": machine_id, "at": format_instant(at), "points": bodies}


def _point_body(plan: Plan, point: MachinePoint) -> dict[str, Any]:
    told, way = point.told, point.way
    return {
        "job": point.job,
        "repository": told.repository,
        "kind": told.kind,
        "at": format_instant(told.at),
        "base_at": format_known(told.base_at),
        "stored_bytes": told.stored_bytes,
        "kept_by": list(told.kept_by),
        "carries": told.carries,
        "cold": told.cold,
        "chain_points": point.chain_points,
        "chain_bytes": point.chain_bytes,
        "usable": point.usable,
        "way": None
        if way is None
        else {
            "read_bytes": way.restore.read_bytes,
            "written_bytes": way.restore.written_bytes,
            "full_s": way.restore.full_s,
            "instant_s": way.restore.instant_s,
            "files_s": way.restore.files_s,
            "limited_by": None if way.limited_by is None else load_label(plan, way.limited_by),
            "disks": [
                {"disk": d.disk, "written_bytes": d.written_bytes, "seconds": d.seconds}
                for d in way.disks
            ],
        },
    }


@blueprint.post("/machines/<machine_id>/restore-in-a-night")
@blueprint.input(schemas.OneRestoreSchema)
@blueprint.output(schemas.InANightSchema)
def show_restore_in_a_night(plan_id: int, machine_id: str, json_data: dict[str, Any]) -> Response:
    """A restore in the middle of a night: its times there, and what it does to the night."""
    _, _, forecaster = looked_at(plan_id, json_data["draft"])
    plan = forecaster.plan
    machine = _machine(plan, machine_id)
    night = night_of(json_data["night"], forecaster.origin.zone)
    told = json_data["point"]
    planned = PlannedRestore(
        machine.id,
        machine.id,
        instant_of("at", json_data["at"]),
        None
        if told is None
        else NamedPoint(told["job"], told["repository"], instant_of("point.at", told["at"])),
        json_data["method"],
        json_data["to_host"],
    )
    without = forecaster.night(night)
    start = forecaster.start_of(night) if plan.state.running is None else None
    found = restore_in_a_night(
        plan, without, night, start or (forecaster.origin.start, None), planned
    )
    restore = found.restore
    squeezes = sorted((restore.squeeze_s or {}).items(), key=lambda pair: -pair[1])
    body = {
        "outcome": restore.outcome or "cut off",
        "start": format_known(restore.start),
        "back": format_known(restore.back),
        "whole": format_known(restore.whole if restore.start is not None else None),
        "limited_by": load_label(plan, squeezes[0][0]) if squeezes else None,
        "night": serialize.night_summary(found.forecast, night),
        "was": serialize.night_summary(without, night),
        "later": [{"job": job, "seconds": seconds} for job, seconds in found.later],
    }
    return jsonify(body)


# --- promises -----------------------------------------------------------------------------------


@blueprint.get("/promises/<day>")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(schemas.PromisesSchema)
def show_promises(plan_id: int, day: str, query_data: dict[str, Any]) -> dict[str, Any]:
    """RPO and RTO of every machine, in each night of a week that can be forecast."""
    _, _, forecaster = looked_at(plan_id, query_data["draft"])
    plan = forecaster.plan
    week = forecaster.nights_of_week(day_of(day))
    nights = [night for night in week if forecaster.covers(night)]
    kept = [kept_in(plan, forecaster.night(night), night) for night in nights]
    return {
        "dates": [night.date for night in nights],
        "machines": [
            {
                "machine": machine.id,
                "tier": tier_of(machine),
                "rpo_s": None if machine.rpo_hours is None else machine.rpo_hours * HOUR,
                "rto_s": None if machine.rto_hours is None else machine.rto_hours * HOUR,
                "nights": [_kept_body(plan, of_night[i]) for of_night in kept],
            }
            for i, machine in enumerate(plan.machines)
        ],
    }


def _kept_body(plan: Plan, kept: Kept) -> dict[str, Any]:
    return {
        **kept._asdict(),
        "worst_at": format_known(kept.worst_at),
        "worst_since": format_known(kept.worst_since),
        "limited_by": None if kept.limited_by is None else load_label(plan, kept.limited_by),
    }
