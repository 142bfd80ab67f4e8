"""Plans side by side, what speaks against adopting one, what was adopted, and going back."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from apiflask import APIBlueprint
from flask import jsonify

from gambrel.api import jobs_schemas as schemas
from gambrel.api import serialize
from gambrel.api.answers import revision_tag, tagged
from gambrel.api.plans import day_of, findings_of, looked_at, week_summaries
from gambrel.api.problems import ProblemError, field_error
from gambrel.api.schemas import DraftQuerySchema, PlanListItemSchema
from gambrel.api.sessions import actor, planning
from gambrel.core.edits.plan_diff import compare
from gambrel.core.nights.nights import Night, week_of
from gambrel.core.questions.job_problems import JobProblem, plan_problems
from gambrel.store import plans as store
from gambrel.work.forecaster import Forecaster
from gambrel.work.planning import PlanUnreadable

blueprint = APIBlueprint("versions", __name__, tag="Versions", url_prefix="/api/v1/plans")


def _side(plan_id: int, said: str) -> tuple[str, Forecaster]:
    """The name and the forecaster of "adopted", "draft:3" or "version:7"."""
    shared = planning()
    match = re.fullmatch(r"(draft|version):(\d+)", said)
    if said == "adopted":
        _, _, forecaster = looked_at(plan_id, None)
        return "Adopted plan", forecaster
    if match is None:
        raise ProblemError(
            422,
            "There is no such plan to compare",
            "Name the sides like adopted, draft:3 or version:7.",
            errors=[field_error("other", said, "is none of adopted, draft:ID, version:ID")],
        )
    number = int(match[2])
    if match[1] == "draft":
        _, draft, forecaster = looked_at(plan_id, number)
        assert draft is not None
        return draft.name, forecaster
    with shared.sessions() as db:
        known = {a.version: a for a in store.adoptions(db, plan_id)}
        before = {a.before_version for a in known.values()}
    if number not in known and number not in before:
        raise store.NotFound(f"there is no version {number} of plan {plan_id}")
    name = f"adopted {known[number].at:%Y-%m-%d %H:%M}" if number in known else "before that"
    return name, shared.version(number)


def _told(side: str, name: str, forecaster: Forecaster, nights: Sequence[Night]) -> dict[str, Any]:
    return {"side": side, "name": name, "nights": week_summaries(forecaster, nights)}


@blueprint.get("/<int:plan_id>/compare/<day>")
@blueprint.input(schemas.CompareQuerySchema, location="query")
@blueprint.output(schemas.CompareSchema)
def show_comparison(plan_id: int, day: str, query_data: dict[str, Any]) -> Any:
    """Two plans: what of the one is otherwise in the other, and what that does to a week."""
    one_name, one = _side(plan_id, query_data["one"])
    other_name, other = _side(plan_id, query_data["other"])
    nights = week_of(day_of(day), other.origin.zone)
    before = {f.key: f for f in findings_of(one, day)}
    after = {f.key: f for f in findings_of(other, day)}
    return jsonify(
        {
            "one": _told(query_data["one"], one_name, one, nights),
            "other": _told(query_data["other"], other_name, other, nights),
            "changes": [
                {
                    "kind": change.kind, "subject": change.subject, "id": change.id,
                    "name": change.name, "lines": list(change.lines),
                }
                for change in compare(one.plan, other.plan)
            ],
            "came": [serialize.finding(f) for key, f in after.items() if key not in before],
            "went": [serialize.finding(f) for key, f in before.items() if key not in after],
            "stayed": len(before.keys() & after.keys()),
        }
    )  # fmt: skip


def _problem(problem: JobProblem) -> dict[str, Any]:
    return {
        "job": problem.job, "clause": problem.clause, "weight": problem.weight,
        "words": problem.words,
    }  # fmt: skip


@blueprint.get("/<int:plan_id>/validation/<day>")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(schemas.ValidationSchema)
@tagged
def show_validation(plan_id: int, day: str, query_data: dict[str, Any]) -> Any:
    """What would stop this plan from being adopted, and what merely deserves a look."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    found = plan_problems(forecaster.plan, forecaster.origin.start)
    body = {
        "stops": [_problem(p) for p in found if p.weight == "stops"],
        "look": [_problem(p) for p in found if p.weight == "look"],
        "breaks": [
            serialize.finding(f) for f in findings_of(forecaster, day) if f.gravity == "breaks"
        ],
    }
    return revision_tag(jsonify(body), head, draft)


@blueprint.get("/<int:plan_id>/adoptions")
@blueprint.output(schemas.AdoptionSchema(many=True))
def list_adoptions(plan_id: int) -> list[dict[str, Any]]:
    """What was adopted, the newest first, with the notes."""
    with planning().sessions() as db:
        head = store.plan_head(db, plan_id)
        found = store.adoptions(db, plan_id)
    return [
        {
            "id": a.id, "version": a.version, "before_version": a.before_version,
            "note": a.note, "words": list(a.words), "actor": a.actor,
            "at": a.at.isoformat() + "Z", "in_force": a.version == head.adopted_version,
            "kept": a.kept,
        }
        for a in found
    ]  # fmt: skip


@blueprint.post("/<int:plan_id>/restore")
@blueprint.input(schemas.RestoreSchema)
@blueprint.output(PlanListItemSchema)
def restore(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Adopt an earlier version again where the adopted one cannot be opened."""
    shared = planning()
    with shared.sessions() as db:
        head = store.plan_head(db, plan_id)
    try:
        shared.version(head.adopted_version)
    except PlanUnreadable:
        head = shared.write(
            lambda db: store.restore_version(db, plan_id, json_data["version"], actor=actor())
        )
        return {"id": head.id, "name": head.name, "adopted_version": head.adopted_version}
    raise ProblemError(
        409, "This plan can be opened", "Nothing was changed. Go back to what was adopted instead."
    )


@blueprint.post("/<int:plan_id>/adoptions/<int:adoption_id>/back")
@blueprint.input(schemas.GoBackSchema)
@blueprint.output(PlanListItemSchema)
def go_back(plan_id: int, adoption_id: int, json_data: dict[str, Any]) -> Any:
    """Adopt again what was in force before an adoption, on the estate as it is now."""
    head = planning().write(
        lambda db: store.go_back(db, plan_id, adoption_id, actor=actor(), note=json_data["note"])
    )
    return {"id": head.id, "name": head.name, "adopted_version": head.adopted_version}
