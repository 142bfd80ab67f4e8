"""The runner protocol: what those who carry a plan out read, are asked and report.

A runner sends its token as `Authorization: Bearer ...`. It needs no cookie, and therefore no token
of a session.
"""

from __future__ import annotations

import zlib
from typing import Any

from apiflask import APIBlueprint
from flask import Response, current_app, g, jsonify, request
from sqlalchemy.orm import Session

from gambrel.api.problems import ProblemError, field_error
from gambrel.api.runs_schemas import (
    EventsSchema,
    EventsTakenSchema,
    OrdersQuerySchema,
    OrdersSchema,
)
from gambrel.api.runs_serialize import order_body
from gambrel.api.schemas import PlanFileSchema
from gambrel.api.sessions import limiter, planning
from gambrel.core.nights.nights import night_at, planner_zone
from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.reading import write_plan
from gambrel.store import runners
from gambrel.store.plans import plan_head
from gambrel.work.runs import Runs

blueprint = APIBlueprint("runner", __name__, tag="Runner", url_prefix="/api/v1/runner")
WRONG_TOKENS = "30 per minute"


def runs() -> Runs:
    """The ledger of the running application."""
    found: Runs = current_app.extensions["gambrel-runs"]
    return found


def _runner() -> runners.Runner:
    """Whose token the request carries."""
    found: runners.Runner = g.runner
    return found


@blueprint.before_request
def _require_token() -> None:
    """Turn away whoever has no token, before the request is looked into."""
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    found = None
    if scheme.lower() == "bearer" and token:
        with planning().sessions() as db:
            found = runners.runner_of_token(db, token.strip())
    if found is None:
        raise ProblemError(
            401,
            "This is no token of a runner",
            "Send it as `Authorization: Bearer TOKEN`. A planner makes one under Runs, Runner.",
        )
    g.runner = found


def _limited(view: Any) -> Any:
    return limiter.limit(WRONG_TOKENS, deduct_when=lambda response: response.status_code == 401)(
        view
    )


@blueprint.get("/plan")
@blueprint.output(PlanFileSchema)
@_limited
def adopted_plan() -> Response:
    """The adopted plan; ask with If-None-Match to be told only when another was adopted."""
    runner = _runner()
    with planning().sessions() as db:
        head = plan_head(db, runner.plan_id)
    response = jsonify(write_plan(planning().plan(head.adopted_version)))
    bad = planning().bad_points(runner.plan_id)
    known = f"-{zlib.crc32(repr(sorted(bad.items())).encode()):08x}" if bad else ""
    response.set_etag(f"{planning().identity()}-{head.adopted_version}{known}")
    response.cache_control.no_cache = True
    response.make_conditional(request)
    return response


@blueprint.get("/state")
@blueprint.output(PlanFileSchema)
@_limited
def known_state() -> Response:
    """The adopted plan with `state` as the ledger knows it at the runner's last word.

    A runner that was restarted goes on from there. `state.running.at` is the instant; before the
    first word there is no `running`, and the points are those of the plan.
    """
    runner = _runner()
    with planning().sessions() as db:
        head = plan_head(db, runner.plan_id)
    plan = planning().plan(head.adopted_version)
    if runner.clock is not None:
        plan = runs().as_it_is(runner.plan_id, plan, runner.clock) or plan
    return jsonify(write_plan(plan))


@blueprint.get("/orders")
@blueprint.input(OrdersQuerySchema, location="query")
@blueprint.output(OrdersSchema)
@_limited
def orders(query_data: dict[str, Any]) -> dict[str, Any]:
    """Open orders after a number, oldest first; waits for one for `wait_s` seconds."""
    runner = _runner()

    def look(db: Session) -> list[runners.Order]:
        found = runners.orders_after(db, runner.plan_id, query_data["after"])
        if query_data["after"] == 0 and runner.clock is not None:
            # Who begins anew has forgotten what it was told to hold.
            head = plan_head(db, runner.plan_id)
            zone = planner_zone(planning().plan(head.adopted_version))
            night = night_at(runner.clock, zone)
            found += runners.lasting_orders(db, runner.plan_id, night.start)
        return sorted(found, key=lambda order: order.id)

    shared = runs()
    seen = shared.news(runner.plan_id)
    with planning().sessions() as db:
        found = look(db)
    if not found and query_data["wait_s"] > 0:
        shared.wait_for_news(runner.plan_id, seen, query_data["wait_s"])
        with planning().sessions() as db:
            found = look(db)
    planning().write(lambda db: runners.note_word(db, runner.id))
    return {"orders": [order_body(order) for order in found]}


@blueprint.post("/events")
@blueprint.input(EventsSchema)
@blueprint.output(EventsTakenSchema)
@_limited
def report(json_data: dict[str, Any]) -> dict[str, Any]:
    """Report events (`gambrel-events/1`), in batches; the same event twice does no harm.

    Every event is answered for: what is refused is named with the key at fault, and the others are
    taken.
    """
    runner = _runner()
    clock = json_data["clock"]
    if clock is not None:
        try:
            clock = parse_instant(clock)
        except ValueError as error:
            raise ProblemError(
                422, "This is no clock", "Nothing was taken.",
                errors=[field_error("clock", json_data["clock"], str(error))],
            ) from None  # fmt: skip
    batch = runs().take(runner, json_data["events"], clock=clock, speed=json_data["speed"])
    return {
        "new": batch.new,
        "known": batch.known,
        "refused": [
            {"id": ident, "field": key, "reason": reason} for ident, key, reason in batch.refused
        ],
        "clock_offset_s": batch.offset_s,
    }
