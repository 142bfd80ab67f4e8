"""Plans and what they will do: the week, a night, a run, a preview."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from datetime import date
from typing import Any

from apiflask import APIBlueprint
from flask import Response, jsonify
from sqlalchemy.orm import Session

from gambrel.api import serialize
from gambrel.api.answers import revision_tag, tagged, tagged_with_drafts
from gambrel.api.problems import ProblemError, field_error
from gambrel.api.schemas import (
    DraftQuerySchema,
    FindingsSchema,
    HelpQuerySchema,
    HelpSchema,
    LanesRequestSchema,
    LanesSchema,
    MachineRunsSchema,
    NewPlanSchema,
    NightQuerySchema,
    NightSchema,
    PlanFileSchema,
    PlanListItemSchema,
    PlanSchema,
    PreviewRequestSchema,
    PreviewSchema,
    WeekSchema,
)
from gambrel.api.serialize import night_summary
from gambrel.api.sessions import actor, planning
from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import Operation, operation_from
from gambrel.core.findings import Finding, find
from gambrel.core.findings.help import suggestions
from gambrel.core.loads.lanes import lanes
from gambrel.core.nights.nights import Night, night_of, week_of
from gambrel.core.plan.instants import format_instant
from gambrel.core.plan.objects import Plan
from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.core.plan.recurrence_rules import EARLIEST_YEAR, LATEST_YEAR
from gambrel.core.simulation.forecast import Forecast
from gambrel.demo import SCENARIOS
from gambrel.formats.plan_file import read as read_plan_file
from gambrel.store import plans as store
from gambrel.work.forecaster import Forecaster, Week

blueprint = APIBlueprint("plans", __name__, tag="Plans", url_prefix="/api/v1/plans")


def day_of(text: str) -> date:
    reason = "is not a date like 2026-11-06"
    try:
        day = date.fromisoformat(text)
        if EARLIEST_YEAR <= day.year <= LATEST_YEAR:
            return day
        reason = f"is not between {EARLIEST_YEAR} and {LATEST_YEAR}"
    except ValueError:
        pass
    raise ProblemError(
        422,
        "This is no date of a plan",
        "Write it like 2026-11-06.",
        errors=[field_error("day", text, reason)],
    )


def looked_at(
    plan_id: int, draft_id: int | None
) -> tuple[store.PlanHead, store.Draft | None, Forecaster]:
    """A plan, the draft of it that is looked at, if any, and the forecaster of what is shown."""
    shared = planning()
    with shared.sessions() as db:
        head, draft = store.head_and_draft(db, plan_id, draft_id)
    forecaster = shared.version(head.adopted_version) if draft is None else shared.draft(draft)
    return head, draft, forecaster


def read_operations(values: Sequence[dict[str, Any]]) -> list[Operation]:
    """The operations of a request; a wrong one is named by its place in the list."""
    found = []
    for i, value in enumerate(values):
        try:
            found.append(operation_from(value))
        except OperationError as error:
            field = f"operations[{i}].{error.field}"
            raise OperationError(field, error.value, error.reason) from None
    return found


def asked_about(plan_id: int, asked: Mapping[str, Any]) -> Forecaster:
    """The forecaster of a plan, or a draft, with the operations of a request on top of it."""
    head, draft, _ = looked_at(plan_id, asked["draft"])
    return planning().preview(head, draft, read_operations(asked.get("operations", ())))


@blueprint.get("")
@blueprint.output(PlanListItemSchema(many=True))
def list_plans() -> list[dict[str, Any]]:
    """All plans, the one stored last first."""
    with planning().sessions() as db:
        heads = store.plan_heads(db)
    return [
        {"id": head.id, "name": head.name, "adopted_version": head.adopted_version}
        for head in sorted(heads, key=lambda head: -head.adopted_version)
    ]


BEGUN_FROM_SAMPLE = "larkmoor"


def _begun(asked: dict[str, Any]) -> Plan:
    """The plan to begin with. Raises PlanError for a file that is none, ProblemError."""
    if asked["begins"] == "sample":
        return read_plan(SCENARIOS[BEGUN_FROM_SAMPLE]())
    if asked["begins"] == "file":
        if not asked["file"]:
            raise ProblemError(
                422, "There is no file", "Nothing was stored.",
                errors=[field_error("file", None, "is needed to begin with a file")],
            )  # fmt: skip
        return read_plan_file(asked["file"].encode())
    site = {"id": asked["site"], "time_zone": asked["time_zone"]}
    return read_plan({"format": "gambrel-plan/1", "sites": [site]})


@blueprint.post("")
@blueprint.input(NewPlanSchema)
@blueprint.output(PlanListItemSchema, status_code=201)
def begin_plan(json_data: dict[str, Any]) -> dict[str, Any]:
    """Begin a plan: with one site and nothing in it, from a plan file, or with the sample."""
    name = json_data["name"].strip()
    plan = _begun(json_data)

    def write(db: Session) -> store.PlanHead:
        if name in {head.name for head in store.plan_heads(db)}:
            raise ProblemError(
                422, "There is a plan of this name already", "Nothing was stored.",
                errors=[field_error("name", name, "is the name of another plan")],
            )  # fmt: skip
        return store.store_plan(db, name, plan, actor=actor(), note="begun")

    head = planning().write(write)
    return {"id": head.id, "name": head.name, "adopted_version": head.adopted_version}


@blueprint.get("/<int:plan_id>")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(PlanSchema)
@tagged_with_drafts
def show_plan(plan_id: int, query_data: dict[str, Any]) -> Any:
    """A plan with its jobs, as adopted or as a draft has it."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    with planning().sessions() as db:
        open_drafts = store.drafts(db, plan_id)
    body = serialize.plan(head, forecaster, draft, open_drafts)
    return revision_tag(jsonify(body), head, draft, open_drafts)


@blueprint.get("/<int:plan_id>/file")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(PlanFileSchema)
@tagged
def plan_file(plan_id: int, query_data: dict[str, Any]) -> Any:
    """The plan as a plan file (`gambrel-plan/1`)."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    return revision_tag(jsonify(write_plan(forecaster.plan)), head, draft)


def _begin_summaries(
    beside: Executor, forecaster: Forecaster, nights: Sequence[Night]
) -> list[Future[dict[str, Any]]]:
    """Have nights simulated, and their summaries made beside what the caller does next."""
    forecasts = {night: forecaster.night(night) for night in nights if forecaster.covers(night)}

    def summary(night: Night) -> dict[str, Any]:
        known = forecasts.get(night)
        return serialize.no_forecast(night) if known is None else night_summary(known, night)

    return [beside.submit(summary, night) for night in nights]


def week_summaries(forecaster: Forecaster, nights: Sequence[Night]) -> list[dict[str, Any]]:
    """The summaries of some nights, also of those that cannot be forecast."""
    # Side by side: in a large estate it is the loads that take time, and those are compiled code.
    with ThreadPoolExecutor(2) as beside:
        return [told.result() for told in _begin_summaries(beside, forecaster, nights)]


@blueprint.get("/<int:plan_id>/weeks/<day>")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(WeekSchema)
@tagged
def show_week(plan_id: int, day: str, query_data: dict[str, Any]) -> Any:
    """The seven nights of the week that holds a day, with their verdicts."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    nights = week_of(day_of(day), forecaster.origin.zone)
    body = {"monday": nights[0].date.isoformat(), "nights": week_summaries(forecaster, nights)}
    return revision_tag(jsonify(body), head, draft)


def _night(forecaster: Forecaster, night: Night, names: list[str] | None, *, alone: bool) -> Any:
    try:
        return serialize.night(forecaster.night(night, alone=alone), night, names)
    except KeyError as error:
        name = error.args[0]
        raise ProblemError(
            422,
            "There is no such load",
            "The plan lists the loads that it has.",
            errors=[field_error("load", name, "is not the name of a load of this plan")],
        ) from None


def _night_and_week(
    forecaster: Forecaster, night: Night, names: list[str] | None
) -> tuple[Any, list[dict[str, Any]]]:
    """A night, and the summaries of its week."""
    week = week_of(night.date, night.zone)
    if not serialize.is_large(forecaster.plan):
        return _night(forecaster, night, names, alone=False), week_summaries(forecaster, week)
    with ThreadPoolExecutor(2) as beside:
        others = _begin_summaries(beside, forecaster, [each for each in week if each != night])
        shown = _night(forecaster, night, names, alone=False)
        told = [each.result() for each in others]
    told.insert(week.index(night), night_summary(forecaster.night(night), night))
    return shown, told


@blueprint.get("/<int:plan_id>/nights/<day>")
@blueprint.input(NightQuerySchema, location="query")
@blueprint.output(NightSchema)
@tagged
def show_night(plan_id: int, day: str, query_data: dict[str, Any]) -> Any:
    """The forecast of the night that begins on a day."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    night = night_of(day_of(day), forecaster.origin.zone)
    body = _night(forecaster, night, query_data["load"], alone=False)
    return revision_tag(jsonify(body), head, draft)


@blueprint.get("/<int:plan_id>/nights/<day>/runs/<job>/<occurrence>")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(MachineRunsSchema)
def show_run(
    plan_id: int, day: str, job: str, occurrence: str, query_data: dict[str, Any]
) -> dict[str, Any]:
    """The machines of one run."""
    _, _, forecaster = looked_at(plan_id, query_data["draft"])
    forecast = forecaster.night(night_of(day_of(day), forecaster.origin.zone))
    for run in forecast.runs:
        if run.job == job and format_instant(run.occurrence) == occurrence:
            machines = [serialize.machine_run(forecast, run, m) for m in run.machines]
            return {"job": job, "occurrence": occurrence, "machines": machines}
    raise ProblemError(404, "There is no such run", f"{job} does not run at {occurrence}.")


def findings_of(forecaster: Forecaster, day: str) -> list[Finding]:
    """The findings of the week that holds a day, the gravest first."""
    return _found(forecaster, day)[0]


def _found(forecaster: Forecaster, day: str) -> tuple[list[Finding], Week | None]:
    """The findings of the week that holds a day, and the week; None where it has no forecast."""
    if not forecaster.nights_of_week(day_of(day)):
        return [], None
    week = forecaster.week(day_of(day))
    return find(week.forecast, week.start, week.end), week


@blueprint.get("/<int:plan_id>/findings/<day>")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(FindingsSchema)
@tagged
def show_findings(plan_id: int, day: str, query_data: dict[str, Any]) -> Any:
    """What is wrong with the week that holds a day, the gravest first."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    found, _ = _found(forecaster, day)
    body = {"findings": [serialize.finding(f) for f in found]}
    return revision_tag(jsonify(body), head, draft)


@blueprint.get("/<int:plan_id>/findings/<day>/help")
@blueprint.input(HelpQuerySchema, location="query")
@blueprint.output(HelpSchema)
@tagged
def show_help(plan_id: int, day: str, query_data: dict[str, Any]) -> Any:
    """Operations that help against a finding: each was simulated."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    found, week = _found(forecaster, day)
    chosen = next((f for f in found if f.key == query_data["key"]), None)
    if chosen is None or week is None:
        raise ProblemError(404, "There is no such finding", "It may be gone since you looked.")

    def play(changed: Plan) -> Forecast:
        return Forecaster(changed, forecaster.origin, forecaster).week(day_of(day)).forecast

    offered = suggestions(chosen, week.forecast, week.start, week.end, play)
    body = {
        "tried": offered.tried,
        "suggestions": [serialize.suggestion(s) for s in offered.found],
    }
    return revision_tag(jsonify(body), head, draft)


@blueprint.post("/<int:plan_id>/preview")
@blueprint.input(PreviewRequestSchema)
@blueprint.output(PreviewSchema)
def preview(plan_id: int, json_data: dict[str, Any]) -> Response:
    """What operations would do to a night and its week. Nothing is written."""
    shared = planning()
    head, draft, shown = looked_at(plan_id, json_data["draft"])
    operations = read_operations(json_data["operations"])
    forecaster = shared.preview(head, draft, operations)
    # All of them could be applied by now; the last need not be once more.
    words, plan = [], shown.plan
    for i, operation in enumerate(operations):
        words.append(operation.describe(plan))
        if i + 1 < len(operations):
            plan = operation.apply(plan)
    night = night_of(json_data["night"], forecaster.origin.zone)
    scope = json_data["scope"]
    if scope == "week":
        shown_night, summaries = _night_and_week(forecaster, night, json_data["load"])
    else:
        only = night if scope == "night" else forecaster.first_changed(night)
        shown_night = None
        if only == night:
            shown_night = _night(forecaster, night, json_data["load"], alone=True)
        summaries = [night_summary(forecaster.night(only, alone=True), only)]
    return jsonify({"night": shown_night, "nights": summaries, "words": words})


@blueprint.post("/<int:plan_id>/lanes")
@blueprint.input(LanesRequestSchema)
@blueprint.output(LanesSchema)
def show_lanes(plan_id: int, json_data: dict[str, Any]) -> Response:
    """Who is busy when in a night or its week, in lanes of machines, proxies and so on.

    It is a POST for the operations that it is to be shown with; nothing is written.
    """
    head, draft, _ = looked_at(plan_id, json_data["draft"])
    operations = read_operations(json_data["operations"])
    forecaster = planning().preview(head, draft, operations)
    night = night_of(json_data["night"], forecaster.origin.zone)
    if json_data["span"] == "week":
        week = forecaster.week(night.date)
        forecast, start, end = week.forecast, week.start, week.end
    else:
        forecast, start, end = forecaster.night(night), night.start, night.end
    found, cut = lanes(forecast, json_data["by"], start, end)
    return jsonify(serialize.lanes(found, start, end, cut))
