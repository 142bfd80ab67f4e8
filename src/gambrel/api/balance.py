"""Proposals for a better week, what would be if, and how sure a week is."""

from __future__ import annotations

from typing import Any

from apiflask import APIBlueprint
from flask import current_app, jsonify

from gambrel.api import balance_schemas as schemas
from gambrel.api.plans import day_of, looked_at, read_operations, week_summaries
from gambrel.api.sessions import actor, planning
from gambrel.core.edits.operations import apply_all
from gambrel.core.nights.nights import week_of
from gambrel.core.questions.what_if import happening_from
from gambrel.store import computations as store
from gambrel.work.computations import Computations, rules_broken
from gambrel.work.forecaster import Forecaster

blueprint = APIBlueprint("balance", __name__, tag="Balance", url_prefix="/api/v1")


def computations() -> Computations:
    """What runs long computations for the running application."""
    found: Computations = current_app.extensions["gambrel-computations"]
    return found


def _answer(ident: int, status: int = 200) -> Any:
    with planning().sessions() as db:
        found = store.computation(db, ident)
    response = jsonify(_told(found))
    response.status_code = status
    return response


def _told(item: store.Computation) -> dict[str, Any]:
    stands_on = computations().stands_on(item.plan_id, item.asked.get("draft"))
    return {
        "stale": item.asked.get("stands_on", stands_on) != stands_on,
        "id": item.id,
        "kind": item.kind,
        "asked": dict(item.asked),
        "state": item.state,
        "progress": dict(item.progress),
        "result": None if item.result is None else dict(item.result),
        "message": item.message,
        "actor": item.actor,
        "created_at": item.created_at.isoformat() + "Z",
        "ended_at": None if item.ended_at is None else item.ended_at.isoformat() + "Z",
    }


def _begin(plan_id: int, kind: store.ComputationKind, asked: dict[str, Any]) -> Any:
    day_of(asked["day"])
    return begin_computation(plan_id, kind, asked)


def begin_computation(plan_id: int, kind: store.ComputationKind, asked: dict[str, Any]) -> Any:
    """Begin a long computation, and answer with it."""
    return _answer(computations().begin(plan_id, kind, asked, actor=actor()), 201)


@blueprint.post("/plans/<int:plan_id>/balances")
@blueprint.input(schemas.BalanceRequestSchema)
@blueprint.output(schemas.ComputationSchema, status_code=201)
def begin_balance(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Begin to search for moves that make a plan fit better."""
    return _begin(plan_id, "balance", json_data)


@blueprint.post("/plans/<int:plan_id>/confidences")
@blueprint.input(schemas.ConfidenceRequestSchema)
@blueprint.output(schemas.ComputationSchema, status_code=201)
def begin_confidence(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Begin to simulate a week many times, with change and throughput that vary."""
    return _begin(plan_id, "confidence", json_data)


@blueprint.post("/plans/<int:plan_id>/sweeps")
@blueprint.input(schemas.SweepRequestSchema)
@blueprint.output(schemas.ComputationSchema, status_code=201)
def begin_sweep(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Begin to simulate a week many times after each single loss, with things that vary."""
    return _begin(plan_id, "sweep", json_data)


@blueprint.get("/plans/<int:plan_id>/computations")
@blueprint.input(schemas.ComputationListQuerySchema, location="query")
@blueprint.output(schemas.ComputationSchema(many=True))
def list_computations(plan_id: int, query_data: dict[str, Any]) -> Any:
    """The newest computations of a plan, the newest first."""
    with planning().sessions() as db:
        found = store.computations(db, plan_id, query_data["kind"])
    return jsonify([_told(item) for item in found])


@blueprint.get("/computations/<int:computation_id>")
@blueprint.output(schemas.ComputationSchema)
def show_computation(computation_id: int) -> Any:
    """How far a computation is, or what came out."""
    return _answer(computation_id)


@blueprint.post("/computations/<int:computation_id>/stop")
@blueprint.output(schemas.ComputationSchema)
def stop_computation(computation_id: int) -> Any:
    """Have a computation end with the best it has so far."""
    computations().stop(computation_id)
    return _answer(computation_id)


@blueprint.post("/computations/<int:computation_id>/cancel")
@blueprint.output(schemas.ComputationSchema)
def cancel_computation(computation_id: int) -> Any:
    """Have a computation end without a result."""
    computations().cancel(computation_id)
    return _answer(computation_id)


@blueprint.post("/computations/<int:computation_id>/resume")
@blueprint.output(schemas.ComputationSchema, status_code=201)
def resume_computation(computation_id: int) -> Any:
    """Begin an interrupted computation again, from the best it had."""
    return _answer(computations().resume(computation_id, actor=actor()), 201)


@blueprint.post("/plans/<int:plan_id>/what-if")
@blueprint.input(schemas.WeeksAskedSchema)
@blueprint.output(schemas.ScenarioSchema)
def show_scenario(plan_id: int, json_data: dict[str, Any]) -> Any:
    """The nights of a week if some things happen. Nothing is written."""
    _, _, forecaster = looked_at(plan_id, json_data["draft"])
    happenings = [happening_from(value) for value in json_data["happens"]]
    words, plan = [], forecaster.plan
    for happening in happenings:
        after = happening.apply(plan)
        words.append(happening.describe(plan))
        plan = after
    changed = Forecaster(plan, forecaster.origin, forecaster)
    nights = week_of(day_of(json_data["day"]), forecaster.origin.zone)
    return jsonify({"words": words, "nights": week_summaries(changed, nights)})


@blueprint.post("/plans/<int:plan_id>/broken-rules")
@blueprint.input(schemas.RulesAskedSchema)
@blueprint.output(schemas.RuleToldSchema(many=True))
def show_broken_rules(plan_id: int, json_data: dict[str, Any]) -> Any:
    """The rules of the house that operations would break where the plan does not."""
    day_of(json_data["day"])
    _, _, forecaster = looked_at(plan_id, json_data["draft"])
    plan = apply_all(forecaster.plan, read_operations(json_data["operations"]))
    return jsonify(rules_broken(forecaster, plan, json_data))
