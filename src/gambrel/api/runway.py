"""The months ahead: space, tiers, occupancy, growth, nights, the next purchase."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, datetime
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from apiflask import APIBlueprint, EmptySchema
from flask import Response, jsonify

from gambrel.api import runway_schemas as schemas
from gambrel.api.answers import table_answer
from gambrel.api.balance import begin_computation
from gambrel.api.balance_schemas import ComputationSchema
from gambrel.api.plans import asked_about, looked_at
from gambrel.api.problems import ProblemError, field_error
from gambrel.api.sessions import planning
from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import operation_to_dict
from gambrel.core.ledger.growth import growth_by_role, learned_growth, used_sizes
from gambrel.core.model.selection import selected_machines, used_gib
from gambrel.core.plan.instants import format_instant, format_known
from gambrel.core.runway.expecting import local_midnight
from gambrel.core.runway.keeping_below import Candidate
from gambrel.core.runway.occupancy import Occupancy, Occupied
from gambrel.core.runway.projection import Projection
from gambrel.core.runway.space import Life, VolumeLife, drawn, drawn_volume, lives
from gambrel.core.runway.telling import assumption_in_words, next_date, notes
from gambrel.core.runway.tier_costs import held_now, tiers_ahead
from gambrel.core.units import GIB
from gambrel.store import computations as computation_store
from gambrel.store import ledger
from gambrel.work.computations import ahead_of
from gambrel.work.forecaster import Forecaster
from gambrel.work.runway import (
    Ahead,
    below,
    effect_on_the_second_week,
    end_of,
    months_of,
    occupied,
    projected,
)

blueprint = APIBlueprint("runway", __name__, tag="Runway", url_prefix="/api/v1/plans/<int:plan_id>")

NIGHTS_COMPARED = 3
"""Candidates whose nights are simulated."""


def _gib(values: Any) -> list[float]:
    found: list[float] = np.round(np.asarray(values, np.float64) / GIB, 3).tolist()
    return found


# --- space ----------------------------------------------------------------------------------------


@blueprint.post("/runway")
@blueprint.input(schemas.RunwayAskedSchema)
@blueprint.output(schemas.RunwaySchema)
def show_runway(plan_id: int, json_data: dict[str, Any]) -> Any:
    """The space of every repository over the months ahead. Nothing is written."""
    forecaster = asked_about(plan_id, json_data)
    ahead = ahead_of(json_data)
    pools = [i for i, r in enumerate(forecaster.plan.repositories) if r.volumes]
    expected, made = projected(forecaster, ahead, pools)
    feared = None
    if json_data["feared"] is not None:
        other = Ahead(ahead.months, json_data["feared"], ahead.provisioned_grows)
        feared = projected(forecaster, other)[1]
    found = lives(made)
    return jsonify(
        {
            "start": format_instant(made.from_),
            "end": format_instant(made.to),
            "months": [
                {"name": month.name, "start": format_instant(month.start)}
                for month in months_of(forecaster, ahead)
            ],
            "sentence": next_date(made, found),
            "notes": list(notes(made, expected)),
            "repositories": [_life(made, feared, i, life) for i, life in enumerate(found)],
            "assumptions": [
                {
                    "id": assumption.id,
                    "words": assumption_in_words(assumption),
                    "active": assumption.active,
                    "machines": expected.meant.get(assumption.id),
                }
                for assumption in forecaster.plan.assumptions
            ],
        }
    )


def _life(made: Projection, feared: Projection | None, position: int, life: Life) -> dict[str, Any]:
    plan = made.plan
    repository = plan.repositories[position]
    instants, total, by_job = drawn(made, position)
    chained, immutable = made.held(position)
    near = np.clip(np.searchsorted(made.samples, instants, "right") - 1, 0, None)
    return {
        "id": repository.id,
        "site": repository.site,
        "capacity_gib": repository.space_gib,
        "immutable_days": repository.immutable_days,
        "full_at": format_known(life.full_at),
        "feared_full_at": None if feared is None else format_known(feared.full_at(position)),
        "now_gib": round(float(life.space.bytes[0]) / GIB, 3),
        "peak_gib": round(life.peak_bytes / GIB, 3),
        "peak_at": format_instant(life.peak_at),
        "gib": _gib(total),
        "feared_gib": [] if feared is None else _gib(drawn(feared, position)[1]),
        "jobs": _jobs(made, position, by_job),
        "rest_gib": _gib(made.rest[position].at(instants)),
        "chained_gib": _gib(chained[near]),
        "immutable_gib": _gib(immutable[near]),
        "volumes": [_volume(made, position, volume) for volume in life.volumes],
        "tiers": [tier.id for tier in repository.tiers],
    }


def _jobs(
    made: Projection, repository: int, by_job: Sequence[tuple[int, Any]]
) -> list[dict[str, Any]]:
    """What each job keeps in a repository or a volume of it, the one that keeps most first."""
    plan = made.plan
    return [
        {
            "job": plan.jobs[job].id,
            "name": plan.jobs[job].name,
            "copies": plan.repositories[repository].id not in plan.jobs[job].repositories,
            "gib": _gib(values),
        }
        for job, values in sorted(by_job, key=lambda pair: -float(pair[1].max()))
        if values.any()
    ]


def _volume(made: Projection, repository: int, volume: VolumeLife) -> dict[str, Any]:
    _, total, by_job = drawn_volume(made, volume)
    return {
        "id": volume.volume,
        "capacity_gib": volume.capacity_bytes / GIB,
        "now_gib": round(float(volume.space.bytes[0]) / GIB, 3),
        "peak_gib": float(volume.space.until(made.to).bytes.max()) / GIB,
        "full_at": format_known(volume.full_at),
        "gib": _gib(total),
        "jobs": _jobs(made, repository, by_job),
        "rest_gib": _gib(total - sum((values for _, values in by_job), np.zeros(len(total)))),
    }


@blueprint.post("/runway/below")
@blueprint.input(schemas.BelowAskedSchema)
@blueprint.output(schemas.BelowSchema)
def keep_it_below(plan_id: int, json_data: dict[str, Any]) -> Any:
    """What would keep a repository below a part of its space, each answer projected."""
    forecaster = asked_about(plan_id, json_data)
    ahead = ahead_of(json_data)
    found = below(forecaster, ahead, json_data["repository"], json_data["part"])
    told = [
        _candidate(forecaster, candidate, compare=i < NIGHTS_COMPARED)
        for i, candidate in enumerate(found.candidates)
    ]
    together = found.together
    return jsonify(
        {
            "repository": found.repository,
            "most_gib": found.most_bytes / GIB,
            "peak_gib": found.peak_bytes / GIB,
            "until": format_instant(found.until),
            "candidates": told,
            "together": None
            if together is None
            else _candidate(forecaster, together, compare=True),
        }
    )


def _candidate(forecaster: Forecaster, candidate: Candidate, *, compare: bool) -> dict[str, Any]:
    effect = effect_on_the_second_week(forecaster, candidate.operations) if compare else None
    return {
        "words": candidate.words,
        "costs": list(candidate.costs),
        "peak_gib": candidate.peak_bytes / GIB,
        "full_at": format_known(candidate.full_at),
        "enough": candidate.enough,
        "loses_days": candidate.loses_days,
        "drops_points": candidate.drops_points,
        "nights": [
            {"date": night.isoformat(), "verdict": after, "was": before}
            for night, before, after in (effect.nights if effect else ())
        ],
        "rpo_missed": effect and {"was": effect.rpo_missed[0], "then": effect.rpo_missed[1]},
        "operations": [operation_to_dict(operation) for operation in candidate.operations],
    }


# --- tiers ----------------------------------------------------------------------------------------


@blueprint.post("/runway/tiers/<repository>")
@blueprint.input(schemas.AheadAskedSchema)
@blueprint.output(schemas.TiersSchema)
def show_tiers(plan_id: int, repository: str, json_data: dict[str, Any]) -> Any:
    """What lies in which tier of a repository month by month, and what it costs."""
    forecaster = asked_about(plan_id, json_data)
    plan = forecaster.plan
    if repository not in plan.repository_by_id:
        raise ProblemError(404, "There is no such repository", f"{repository} is not in this plan.")
    position = plan.repositories.index(plan.repository_by_id[repository])
    ahead = ahead_of(json_data)
    _, made = projected(forecaster, ahead, (position,))
    target = plan.repositories[position]
    delays = {tier.id: tier for tier in target.tiers}
    held = held_now(plan, target, made.from_)
    return jsonify(
        {
            "repository": repository,
            "immutable_days": target.immutable_days,
            "held_gib": held.bytes / GIB,
            "held_until": format_known(held.until),
            "tiers": [
                {
                    "id": tier.tier,
                    "after_days": tier.after_days,
                    "minimum_days": tier.minimum_days,
                    "delay_min": delays[tier.tier].delay_min if tier.tier in delays else 0.0,
                    "price_per_tib_month": tier.price_per_tib_month,
                    "read_price_per_tib": delays[tier.tier].read_price_per_tib
                    if tier.tier in delays
                    else None,
                    "months": [
                        {
                            "month": month.month,
                            "gib": month.bytes / GIB,
                            "paid_gib": month.paid_bytes / GIB,
                            "cost": month.cost,
                        }
                        for month in tier.months
                    ],
                }
                for tier in tiers_ahead(made, position, months_of(forecaster, ahead))
            ],
        }
    )


# --- occupancy ------------------------------------------------------------------------------------


def _instant_of(forecaster: Forecaster, ahead: Ahead, day: date | None) -> float:
    """The instant of a date: its midnight, or the beginning of the forecast on its first day."""
    origin = forecaster.origin
    if day is None or day == origin.date:
        return origin.start
    at = local_midnight(forecaster.plan, day)
    last = end_of(forecaster, ahead)
    if not origin.start <= at <= last:
        latest = datetime.fromtimestamp(last, ZoneInfo(origin.zone)).date()
        raise OperationError("day", day.isoformat(), f"is not between {origin.date} and {latest}")
    return at


def _occupancy(
    plan_id: int, forecaster: Forecaster, ahead: Ahead, at: float, asked: Mapping[str, Any]
) -> Occupancy:
    def read_before(start: float, end: float) -> dict[tuple[str, str], float]:
        with planning().sessions() as db:
            return ledger.bytes_read(db, plan_id, start, end)

    return occupied(forecaster, ahead, at, asked["by"], read_before)


def _occupied(group: Occupied) -> dict[str, Any]:
    return {
        "group": group.group,
        "machines": group.machines,
        "protected": group.protected,
        "provisioned_bytes": group.provisioned,
        "used_bytes": group.used,
        "read_bytes": group.read,
        "stored_bytes": group.stored,
        "copies_bytes": group.copies,
        "repositories": dict(group.by_repository),
        # A sum that lacks a part would be taken for the whole.
        "cost": group.cost if group.priced else None,
    }


@blueprint.post("/runway/occupancy")
@blueprint.input(schemas.OccupancyAskedSchema)
@blueprint.output(schemas.OccupancySchema)
def show_occupancy(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Who takes how much on a day: provisioned, used, read, stored, copies, by group."""
    forecaster = asked_about(plan_id, json_data)
    ahead = ahead_of(json_data)
    at = _instant_of(forecaster, ahead, json_data["day"])
    found = _occupancy(plan_id, forecaster, ahead, at, json_data)
    day = json_data["day"] or forecaster.origin.date
    return jsonify(
        {
            "day": day.isoformat(),
            "at": format_instant(at),
            "by": json_data["by"],
            "groups": [_occupied(group) for group in found.groups],
            "total": _occupied(found.total),
        }
    )


_COLUMNS = (
    "machines", "protected", "provisioned_bytes", "used_bytes", "read_bytes", "stored_bytes",
    "copies_bytes",
)  # fmt: skip


def _occupancy_table(plan_id: int, query: dict[str, Any]) -> tuple[list[str], list[list[Any]]]:
    """The header and rows of an occupancy on a day, or on the first of every month."""
    forecaster = asked_about(plan_id, query)
    ahead = ahead_of(query)
    plan = forecaster.plan
    if query["over_months"]:
        days: list[date | None] = [None]
        days += [
            date.fromisoformat(f"{month.name}-01")
            for month in months_of(forecaster, ahead)
            if month.start > forecaster.origin.start
        ]
    else:
        days = [query["day"]]
    names = [repository.id for repository in plan.repositories]
    rows: list[list[Any]] = []
    for day in days:
        at = _instant_of(forecaster, ahead, day)
        found = _occupancy(plan_id, forecaster, ahead, at, query)
        for group in (*found.groups, found.total):
            told = _occupied(group)
            # To the byte, so that sums over files agree with those of the ledger.
            values = [told[c] if isinstance(told[c], int) else round(told[c]) for c in _COLUMNS]
            parts = [round(told["repositories"].get(name, 0.0)) for name in names]
            shown = (day or forecaster.origin.date).isoformat()
            name = "all" if group is found.total else group.group
            cost = "" if told["cost"] is None else round(told["cost"], 2)
            rows.append([shown, name, *values, *parts, cost])
    header = ["day", query["by"], *_COLUMNS, *(f"{name}_bytes" for name in names), "cost_a_month"]
    return header, rows


@blueprint.get("/runway/occupancy.<form>")
@blueprint.input(schemas.OccupancyQuerySchema, location="query")
@blueprint.output(EmptySchema, content_type="text/csv")
def occupancy_file(plan_id: int, form: str, query_data: dict[str, Any]) -> Response:
    """The occupancy on a day, or over the months, as csv or xlsx."""
    header, rows = _occupancy_table(plan_id, query_data)
    return table_answer("occupancy", form, header, rows)


# --- growth ---------------------------------------------------------------------------------------


@blueprint.get("/runway/growth")
@blueprint.output(schemas.GrowthSchema)
def show_growth(plan_id: int) -> Any:
    """The growth of machines as their fulls in the ledger show it, beside what is stated."""
    _, _, forecaster = looked_at(plan_id, None)
    plan = forecaster.plan
    with planning().sessions() as db:
        fulls = ledger.fulls(db, plan_id)
    found = learned_growth(used_sizes(plan, fulls))
    roles = growth_by_role(plan, found)
    taken = {m.id for job in plan.jobs for m in selected_machines(plan, job)}
    known = [(machine, found[machine.id]) for machine in plan.machines if machine.id in found]
    known.sort(
        key=lambda pair: -abs(pair[1].growth - pair[0].facts.growth_per_year) * used_gib(pair[0])
    )
    rows = [
        {
            "machine": machine.id,
            "folder": machine.folder,
            "used_gib": used_gib(machine),
            "stated": machine.facts.growth_per_year,
            "learned": told.growth,
            "low": told.low,
            "high": told.high,
            "fulls": told.fulls,
            "days": told.days,
        }
        for machine, told in known
    ]
    by_role = []
    for machine in plan.machines:
        usual = roles.get(machine.facts.role)
        if machine.id in taken and machine.id not in found and usual is not None:
            by_role.append(
                {
                    "machine": machine.id,
                    "folder": machine.folder,
                    "role": machine.facts.role,
                    "used_gib": used_gib(machine),
                    "stated": machine.facts.growth_per_year,
                    "usual": usual.growth,
                    "machines": usual.machines,
                }
            )
    return jsonify(
        {"machines": rows, "by_role": by_role, "without": len(taken - found.keys()) - len(by_role)}
    )


# --- nights and purchases -------------------------------------------------------------------------


@blueprint.post("/nights-ahead")
@blueprint.input(schemas.NightsAheadRequestSchema)
@blueprint.output(ComputationSchema, status_code=201)
def begin_nights_ahead(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Begin to simulate every night of the months ahead."""
    return begin_computation(plan_id, "nights ahead", json_data)


@blueprint.post("/purchases")
@blueprint.input(schemas.PurchaseRequestSchema)
@blueprint.output(ComputationSchema, status_code=201)
def begin_purchase(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Begin to look for what must be bought so that space and nights hold."""
    return begin_computation(plan_id, "purchase", json_data)


def _purchase_table(plan_id: int, computation: int) -> tuple[list[str], list[list[Any]]]:
    with planning().sessions() as db:
        found = computation_store.computation(db, computation)
    if found.plan_id != plan_id or found.kind != "purchase" or found.result is None:
        raise ProblemError(
            422, "This is no purchase", "Use the number of a purchase of this plan that is done.",
            errors=[field_error("computation", computation, "is no purchase that is done")],
        )  # fmt: skip
    zone = ZoneInfo(looked_at(plan_id, None)[2].origin.zone)

    def day(text: str) -> str:
        return datetime.fromisoformat(text).astimezone(zone).date().isoformat()

    header = ["order_by", "needed_by", "what", "amount", "unit", "for", "price", "price_is", "why"]
    rows = [
        [
            day(item["order_by"]), day(item["needed_by"]), item["words"], item["amount"],
            item["unit"], item["subject"], "" if item["price"] is None else item["price"],
            "" if item["price"] is None else "a month" if item["monthly"] else "once", item["why"],
        ]
        for item in (*found.result["space"], *found.result["items"])
    ]  # fmt: skip
    rows.sort(key=lambda row: (row[0], row[2]))
    return header, rows


@blueprint.get("/runway/purchase.<form>")
@blueprint.input(schemas.PurchaseQuerySchema, location="query")
@blueprint.output(EmptySchema, content_type="text/csv")
def purchase_file(plan_id: int, form: str, query_data: dict[str, Any]) -> Response:
    """What a purchase comes to, as csv or xlsx."""
    header, rows = _purchase_table(plan_id, query_data["computation"])
    return table_answer("purchase", form, header, rows)
