"""Runs for people: tonight, past nights, the ledger, the morning report, orders, runners."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import asdict
from datetime import date
from statistics import median
from typing import Any

from apiflask import APIBlueprint, EmptySchema
from flask import Response, request

from gambrel.api import runs_schemas as schemas
from gambrel.api import runs_serialize as bodies
from gambrel.api.answers import file_answer, table_answer
from gambrel.api.people import rules
from gambrel.api.plans import day_of
from gambrel.api.problems import ProblemError, check_zone, field_error, instant_of
from gambrel.api.runner import runs
from gambrel.api.schemas import FindingsSchema
from gambrel.api.serialize import finding
from gambrel.api.sessions import actor, is_person, planning
from gambrel.core.findings.from_ledger import standing_findings
from gambrel.core.ledger.comparing import summarize
from gambrel.core.ledger.forecast_errors import forecast_errors
from gambrel.core.ledger.learned_change import LearnedChange
from gambrel.core.ledger.learned_rates import LearnedRate
from gambrel.core.ledger.learned_spreads import LEAST_TOLD
from gambrel.core.ledger.ordering import (
    Order,
    OrderRefused,
    effect_in_words,
    order_in_words,
    ordered,
)
from gambrel.core.ledger.records import RunRecord
from gambrel.core.nights.nights import night_at, night_of, planner_zone
from gambrel.core.plan.instants import format_known
from gambrel.core.plan.objects import Plan
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import HOUR
from gambrel.formats.inventory_csv import Unreadable, read_table
from gambrel.formats.ledger_files import COLUMNS, json_lines, rows
from gambrel.formats.past_runs import (
    FIELDS,
    CsvSettings,
    PastRuns,
    guessed_columns,
    past_runs_of_csv,
    past_runs_of_json_lines,
)
from gambrel.store import ledger, runners
from gambrel.store.database import Sessions
from gambrel.store.ledger_models import in_us
from gambrel.store.plans import PlanHead, SecondPersonNeeded, plan_head
from gambrel.store.standing_rules import LEARNED_CHANGE, LEARNED_RATIO, standing_rules
from gambrel.work import past_runs
from gambrel.work.learning import PAST_NIGHTS
from gambrel.work.runs import REST_AHEAD_S, order_from

blueprint = APIBlueprint("runs", __name__, tag="Runs", url_prefix="/api/v1/plans/<int:plan_id>")

NEWS_WITHIN_S = 20.0


def _plan(plan_id: int) -> tuple[PlanHead, Plan]:
    with planning().sessions() as db:
        head = plan_head(db, plan_id)
    return head, planning().plan(head.adopted_version)


# --- tonight ------------------------------------------------------------------------------------


@blueprint.get("/tonight")
@blueprint.output(schemas.TonightSchema)
def show_tonight(plan_id: int) -> dict[str, Any]:
    """The night under way: what ran, what runs, and how it goes on."""
    _, plan = _plan(plan_id)
    tonight = runs().tonight(plan_id)
    with planning().sessions() as db:
        recent = [
            order
            for order in runners.recent_orders(db, plan_id)
            if order.state == "open" or order.at > tonight.night.start
        ]
    return bodies.tonight_body(plan, tonight, recent, runs().news(plan_id))


@blueprint.get("/tonight/outlook")
@blueprint.output(schemas.OutlookSchema)
def show_outlook(plan_id: int) -> dict[str, Any]:
    """How the night under way will end, and what would help tonight only.

    It is drawn beside the requests: ask again until it is `current`.
    """
    _, plan = _plan(plan_id)
    return bodies.outlook_body(plan, runs().outlook(plan_id))


@blueprint.get("/news")
@blueprint.input(schemas.NewsQuerySchema, location="query")
@blueprint.output(EmptySchema, content_type="text/event-stream")
def news(plan_id: int, query_data: dict[str, Any]) -> Response:
    """Server-sent events: one for each change of runs or orders.

    The answer ends with the first change, or after a while; a browser's EventSource asks again by
    itself and says in Last-Event-ID what it has seen. So nobody keeps a thread of the server for
    long, and a page that is left open does not grow.
    """
    _plan(plan_id)
    seen = query_data["seen"]
    said = request.headers.get("Last-Event-ID", "")
    if said.isascii() and said.isdigit():
        seen = int(said[:15])
    count = runs().wait_for_news(plan_id, seen, NEWS_WITHIN_S)
    response = Response(
        f"retry: 1000\nid: {count}\ndata: {count}\n\n", mimetype="text/event-stream"
    )
    response.cache_control.no_store = True
    return response


@blueprint.get("/standing")
@blueprint.output(FindingsSchema)
def show_standing(plan_id: int) -> dict[str, Any]:
    """Findings that need the ledger: no good point, failed in a row, a forecast that is off."""
    found = standing_findings(runs().standing(plan_id))
    return {"findings": [finding(each) for each in found]}


# --- past nights --------------------------------------------------------------------------------


@blueprint.get("/past-nights")
@blueprint.output(schemas.PastNightsSchema)
def show_past_nights(plan_id: int) -> dict[str, Any]:
    """The nights that are over, newest first: what was predicted, and what came."""
    _, plan = _plan(plan_id)
    clock, _ = runs().clock(plan_id)
    found = [
        {
            "date": night.date, "start": format_known(night.start),
            "end": format_known(night.end), **mark,
        }
        for night, mark in runs().learning.marks(plan_id, plan, clock)
    ]  # fmt: skip
    return {"zone": planner_zone(plan), "nights": found}


@blueprint.get("/learned-spread")
@blueprint.output(schemas.LearnedSpreadSchema)
def show_learned_spread(plan_id: int) -> dict[str, Any]:
    """How much change and rates vary, as the ledger knows it; null where it is silent."""
    _, plan = _plan(plan_id)
    clock, _ = runs().clock(plan_id)
    rates = runs().learning.rates(plan_id, plan, clock)
    spread = runs().learning.week_spread(plan_id, plan, clock, rates)
    return {
        "change": spread.change_of_one if spread.machines else None,
        "rate": spread.rate if len(spread.rates) >= LEAST_TOLD else None,
        "stream": median(spread.streams.values()) if spread.streams else None,
        "nights": max((rate.nights for rate in rates), default=0),
    }


@blueprint.get("/learned-rates")
@blueprint.output(schemas.LearnedRatesSchema)
def show_learned_rates(plan_id: int) -> dict[str, Any]:
    """The rates of streams and shared resources as past nights show them, beside what is stated."""
    _, plan = _plan(plan_id)
    return bodies.learned_rates_body(plan, _rates(plan_id, plan))


@blueprint.get("/learned-times")
@blueprint.output(schemas.LearnedTimesSchema)
def show_learned_times(plan_id: int) -> dict[str, Any]:
    """How long machines prepare, release and verify by job, as past nights show it."""
    _, plan = _plan(plan_id)
    clock, _ = runs().clock(plan_id)
    found = runs().learning.times(plan_id, plan, clock)
    return {"times": [bodies.learned_time(plan, each) for each in found]}


def _rates(plan_id: int, plan: Plan) -> list[LearnedRate]:
    clock, _ = runs().clock(plan_id)
    return runs().learning.rates(plan_id, plan, clock)


@blueprint.get("/forecast-errors")
@blueprint.output(schemas.ForecastErrorsSchema)
def show_forecast_errors(plan_id: int) -> dict[str, Any]:
    """How good the forecasts of the nights that are over were, by night and by job."""
    _, plan = _plan(plan_id)
    clock, _ = runs().clock(plan_id)
    nights: dict[date, list[RunRecord]] = {}
    with planning().sessions() as db:
        for row in ledger.nights_known(db, plan_id)[:PAST_NIGHTS]:
            if clock >= night_of(row.night, row.zone).end:
                nights[row.night] = ledger.runs_of_night(db, plan_id, row.night, done=False)
    return bodies.forecast_errors_body(plan, forecast_errors(nights))


@blueprint.get("/learned-changes")
@blueprint.output(schemas.LearnedChangesSchema)
def show_learned_changes(plan_id: int) -> dict[str, Any]:
    """The daily change of machines as their incrementals show it, beside what is stated."""
    _, plan = _plan(plan_id)
    by_itself = _by_itself(plan_id, LEARNED_CHANGE)
    return bodies.learned_changes_body(plan, _changes(plan_id, plan), by_itself=by_itself)


@blueprint.get("/learned-ratios")
@blueprint.output(schemas.LearnedRatiosSchema)
def show_learned_ratios(plan_id: int) -> dict[str, Any]:
    """The compress ratio of machines as their incrementals show it, beside what is stated."""
    _, plan = _plan(plan_id)
    clock, _ = runs().clock(plan_id)
    found = runs().learning.ratios(plan_id, plan, clock)
    by_itself = _by_itself(plan_id, LEARNED_RATIO)
    return bodies.learned_ratios_body(plan, found, by_itself=by_itself)


def _by_itself(plan_id: int, rule: str) -> bool:
    with planning().sessions() as db:
        return standing_rules(db, plan_id).get(rule) == "accept"


@blueprint.get("/failure-rates")
@blueprint.output(schemas.FailureRatesSchema)
def show_failure_rates(plan_id: int) -> dict[str, Any]:
    """How often machines failed of late, beside all of them together."""
    _, plan = _plan(plan_id)
    clock, _ = runs().clock(plan_id)
    overall, found = runs().learning.failure_rates(plan_id, plan, clock)
    return {
        "overall": overall,
        "machines": [
            {**asdict(each), "folder": plan.machine_by_id[each.machine].folder} for each in found
        ],
    }


def _changes(plan_id: int, plan: Plan) -> Mapping[str, LearnedChange]:
    clock, _ = runs().clock(plan_id)
    return runs().learning.changes(plan_id, plan, clock)


@blueprint.get("/past-nights/<day>")
@blueprint.output(schemas.PastNightSchema)
def show_past_night(plan_id: int, day: str) -> dict[str, Any]:
    """A night in two layers: its runs as predicted, and as they went."""
    _, plan = _plan(plan_id)
    night, records = runs().night(plan_id, day_of(day))
    if not records:
        raise ProblemError(
            404, "The ledger has nothing of this night", "It keeps what runners report."
        )
    clock, _ = runs().clock(plan_id)
    summary = summarize(night, records, min(clock, night.end))
    return bodies.night_body(plan, summary, records)


@blueprint.get("/past-nights/<day>/report")
@blueprint.output(schemas.ReportSchema)
def show_report(plan_id: int, day: str) -> dict[str, Any]:
    """The morning report of a night."""
    head, _ = _plan(plan_id)
    try:
        report = runs().report(plan_id, day_of(day))
    except LookupError as error:
        raise ProblemError(404, "There is no report of this night", f"{error}.") from None
    return bodies.report_body(report, head.name)


# --- the ledger ---------------------------------------------------------------------------------


@blueprint.get("/ledger/runs/<job>/<occurrence>")
@blueprint.output(schemas.LedgerRunSchema)
def show_ledger_run(plan_id: int, job: str, occurrence: str) -> dict[str, Any]:
    """A run with its machines, predicted beside actual, and its events in order."""
    _, plan = _plan(plan_id)
    instant = instant_of("occurrence", occurrence)
    with planning().sessions() as db:
        run = ledger.one_run(db, plan_id, job, instant)
        events = ledger.events_of_run(db, plan_id, job, instant)
    if run is None:
        raise ProblemError(404, "There is no such run", f"The ledger has no run of {job} then.")
    return bodies.run_body(plan, run, events)


def _filter(plan: Plan, asked: dict[str, Any]) -> ledger.Filter:
    zone = planner_zone(plan)
    start, end = asked["start"], asked["end"]
    return ledger.Filter(
        asked["machine"],
        asked["job"],
        asked["outcome"],
        None if start is None else night_of(start, zone).start,
        None if end is None else night_of(end, zone).end,
    )


def _place(text: str | None) -> tuple[int, int] | None:
    if text is None:
        return None
    us, _, ident = text.partition(".")
    if not (us.lstrip("-").isascii() and us.lstrip("-").isdigit() and ident.isdigit()):
        raise ProblemError(
            422, "This is no place in the ledger", "Use `before` of the page before.",
            errors=[field_error("before", text, "is not the `before` of a page")],
        )  # fmt: skip
    return int(us), int(ident)


@blueprint.get("/ledger")
@blueprint.input(schemas.LedgerQuerySchema, location="query")
@blueprint.output(schemas.LedgerPageSchema)
def show_ledger(plan_id: int, query_data: dict[str, Any]) -> dict[str, Any]:
    """Machine-runs, the newest first; filtered and paged at the server."""
    _, plan = _plan(plan_id)
    most = query_data["most"]
    with planning().sessions() as db:
        found = ledger.page(
            db, plan_id, _filter(plan, query_data), before=_place(query_data["before"]),
            most=most + 1,
        )  # fmt: skip
    shown = found[:most]
    more = len(found) > most
    last = shown[-1] if shown else None
    return {
        "lines": [bodies.line_body(entry) for entry in shown],
        "before": f"{in_us(last.occurrence)}.{last.id}" if more and last else None,
    }


def _all_entries(
    sessions: Sessions, plan_id: int, wanted: ledger.Filter
) -> Iterator[ledger.LedgerEntry]:
    """All entries of a filter, a page at a time."""
    before = None
    while True:
        with sessions() as db:
            found = ledger.page(db, plan_id, wanted, before=before, most=2000)
        yield from found
        if len(found) < 2000:
            return
        before = (in_us(found[-1].occurrence), found[-1].id)


def _entries(plan_id: int, asked: dict[str, Any]) -> Iterator[ledger.LedgerEntry]:
    _, plan = _plan(plan_id)
    return _all_entries(planning().sessions, plan_id, _filter(plan, asked))


@blueprint.get("/ledger.<form>")
@blueprint.input(schemas.LedgerQuerySchema, location="query")
@blueprint.output(EmptySchema, content_type="text/csv")
def ledger_file(plan_id: int, form: str, query_data: dict[str, Any]) -> Response:
    """The ledger, filtered, as csv or xlsx."""
    return table_answer("ledger", form, COLUMNS, rows(_entries(plan_id, query_data)))


@blueprint.get("/ledger.jsonl")
@blueprint.input(schemas.LedgerQuerySchema, location="query")
@blueprint.output(EmptySchema, content_type="application/x-ndjson")
def ledger_jsonl(plan_id: int, query_data: dict[str, Any]) -> Response:
    """The ledger, filtered, as `gambrel-ledger/1` JSON lines."""
    lines = json_lines(_entries(plan_id, query_data))
    return file_answer(lines, "application/x-ndjson", "ledger.jsonl")


MOST_PROBLEMS = 100


@blueprint.post("/ledger/imports")
@blueprint.input(schemas.PastRunsRequestSchema)
@blueprint.output(schemas.PastRunsSchema)
def import_past_runs(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Past runs from a CSV file or `gambrel-ledger/1` JSON lines: a look, or written as a whole.

    It is written in one transaction, and only where every row can be read and fits a job and a
    machine, unless `only_good` leaves the others out. Where sizes seem to be in another unit, it is
    written only once `size_steps` says what they are. What the ledger has stays as it is.
    """
    _, plan = _plan(plan_id)
    header, columns, told = _read_past_runs(plan, json_data)
    rows, found = past_runs.named(
        plan, told, json_data["jobs"], json_data["machines"], json_data["size_steps"]
    )
    open_ = bool(told.problems or found.unknown_jobs or found.unknown_machines)
    written = json_data["write"] and found.odd is None and (json_data["only_good"] or not open_)
    if written:
        past_runs.write(planning(), plan_id, plan, rows, found)
        runs().tell(plan_id)
    else:
        past_runs.look(planning(), plan_id, plan, rows, found)
    return {
        "header": list(header),
        "columns": columns,
        "fields": list(FIELDS),
        "rows": len(told.rows),
        "new": found.new,
        "known": found.known,
        "problems": [
            {"line": p.line, "column": p.column, "value": p.value, "reason": p.reason}
            for p in told.problems[:MOST_PROBLEMS]
        ],
        "problems_in_all": len(told.problems),
        "unknown_jobs": found.unknown_jobs,
        "unknown_machines": found.unknown_machines,
        "odd_sizes": found.odd,
        "written": written,
    }


def _read_past_runs(
    plan: Plan, asked: dict[str, Any]
) -> tuple[tuple[str, ...], dict[str, str], PastRuns]:
    """The header of a file, which column is which, and its rows."""
    try:
        if asked["text"].lstrip("\ufeff").startswith("{"):
            return (), {}, past_runs_of_json_lines(asked["text"].lstrip("\ufeff"))
        table = read_table(asked["name"], asked["text"].encode())
    except Unreadable as error:
        raise ProblemError(
            422, "This file cannot be read", f"{error} Nothing was written.",
            errors=[field_error("text", asked["name"], str(error))],
        ) from None  # fmt: skip
    columns = asked["columns"]
    if columns is None:
        columns = guessed_columns(table.header)
    columns = {k: v for k, v in columns.items() if k in FIELDS and v in table.header}
    zone = asked["time_zone"] or planner_zone(plan)
    check_zone(zone, "Nothing was written.")
    settings = CsvSettings(columns, asked["unit"], zone, asked["date_order"])
    return table.header, columns, past_runs_of_csv(table, settings)


# --- orders -------------------------------------------------------------------------------------


def _order(plan: Plan, asked: dict[str, Any]) -> Order:
    if asked["kind"] == "more slots":
        if asked["proxy"] not in {proxy.id for proxy in plan.proxies}:
            raise ProblemError(
                422, "There is no such proxy", "Nothing was ordered.",
                errors=[field_error("proxy", asked["proxy"], "is not a proxy of the adopted plan")],
            )  # fmt: skip
        if asked["slots"] < 1:
            raise ProblemError(
                422, "How many slots more?", "Nothing was ordered.",
                errors=[field_error("slots", asked["slots"], "is less than 1")],
            )  # fmt: skip
        return Order("more slots", "", proxy=asked["proxy"], slots=asked["slots"])
    if asked["job"] not in plan.job_by_id:
        raise ProblemError(
            422, "There is no such job", "Nothing was ordered.",
            errors=[field_error("job", asked["job"], "is not a job of the adopted plan")],
        )  # fmt: skip
    return Order(asked["kind"], asked["job"], tuple(asked["machines"]))


def _simulated(plan_id: int, plan: Plan, order: Order) -> list[str]:
    """What an order would do to the night. Raises OrderRefused."""
    clock, _ = runs().clock(plan_id)
    now = runs().as_it_is(plan_id, plan, clock)
    if now is None:
        raise OrderRefused("no runner has reported anything yet")
    after = ordered(now, order)
    end = clock + REST_AHEAD_S
    return effect_in_words(
        plan, order, simulate(now, clock, end), simulate(after, clock, end), clock
    )


@blueprint.post("/orders/preview")
@blueprint.input(schemas.OrderRequestSchema)
@blueprint.output(schemas.OrderEffectSchema)
def preview_order(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """What an order would do to the night, simulated from where it is now. Nothing is ordered."""
    _, plan = _plan(plan_id)
    order = _order(plan, json_data)
    try:
        effect, possible = _simulated(plan_id, plan, order), True
    except OrderRefused as error:
        effect, possible = [f"{error}."], False
    return {"words": order_in_words(plan, order), "effect": effect, "possible": possible}


@blueprint.post("/orders")
@blueprint.input(schemas.OrderRequestSchema)
@blueprint.output(schemas.OrderSchema, status_code=201)
def give_order(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Give an order to the runner of the plan; it can be taken back until the runner takes it."""
    _, plan = _plan(plan_id)
    order = _order(plan, json_data)
    needs_runner(plan_id)
    try:
        effect = _simulated(plan_id, plan, order)
    except OrderRefused as error:
        raise ProblemError(409, "This cannot be ordered now", f"{error}.") from None
    clock, _ = runs().clock(plan_id)
    made = planning().write(
        lambda db: runners.add_order(
            db, plan_id, order.kind, job=order.job or None, machines=order.machines,
            detail=order.detail,
            words=order_in_words(plan, order), effect=" ".join(effect), at=clock, actor=actor(),
            second_person=rules(db)["second_person_for_orders"],
        )
    )  # fmt: skip
    runs().tell(plan_id)
    return bodies.order_body(made)


@blueprint.post("/orders/<int:order_id>/confirmation")
@blueprint.output(schemas.OrderSchema, status_code=201)
def confirm_order(plan_id: int, order_id: int) -> dict[str, Any]:
    """Confirm, as a second person, an order that waits for one. It takes a new number."""
    _, plan = _plan(plan_id)
    with planning().sessions() as db:
        waiting = runners.order_of(db, plan_id, order_id)
    if waiting.state != runners.WAITS:
        raise _too_late(waiting.state)
    if not is_person():
        raise _second_person()
    order = order_from(waiting)
    try:
        effect = _simulated(plan_id, plan, order)
    except OrderRefused as error:
        raise ProblemError(409, "This cannot be ordered any more", f"{error}.") from None
    clock, _ = runs().clock(plan_id)
    try:
        made = planning().write(
            lambda db: runners.confirm_order(
                db, plan_id, order_id, effect=" ".join(effect), at=clock, actor=actor()
            )
        )
    except runners.OrderGone as error:
        raise _too_late(str(error)) from None
    except SecondPersonNeeded:
        raise _second_person() from None
    runs().tell(plan_id)
    return bodies.order_body(made)


def _too_late(state: str) -> ProblemError:
    return ProblemError(409, "It is too late for this", f"The order is {state} already.")


def _second_person() -> ProblemError:
    return ProblemError(
        409,
        "Somebody else has to confirm this",
        "A second person is asked for here: who gives an order does not confirm it, nor does a "
        "program. The order waits.",
    )


def needs_runner(plan_id: int) -> runners.Runner:
    """The runner of a plan; refuses where there is none."""
    with planning().sessions() as db:
        runner = runners.runner_in_charge(db, plan_id)
    if runner is None:
        raise ProblemError(
            409, "No runner carries this plan out", "Add one first; nothing was ordered."
        )
    return runner


@blueprint.delete("/orders/<int:order_id>")
@blueprint.output(schemas.OrderSchema)
def take_back_order(plan_id: int, order_id: int) -> dict[str, Any]:
    """Take an order back that the runner has not taken."""
    try:
        made = planning().write(lambda db: runners.take_back(db, plan_id, order_id, actor=actor()))
    except runners.OrderGone as error:
        raise _too_late(str(error)) from None
    runs().tell(plan_id)
    return bodies.order_body(made)


@blueprint.post("/clock")
@blueprint.input(schemas.ClockSchema)
@blueprint.output(schemas.OrderSchema, status_code=201)
def set_clock(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Ask the stand-in to run its clock faster or slower, to hold it, or to go to an instant."""
    _, plan = _plan(plan_id)
    runner = needs_runner(plan_id)
    if runner.kind != "stand-in" or runner.clock is None:
        raise ProblemError(
            409, "This runner's clock is the real one", "Only a stand-in's clock can be set."
        )
    detail = {key: value for key, value in json_data.items() if value is not None}
    if json_data["to_next"] is not None:
        zone = planner_zone(plan)
        hour = 0.0 if json_data["to_next"] == "noon" else 19.5
        detail = {"until": _next(runner.clock, zone, hour)}
    made = planning().write(
        lambda db: runners.add_order(
            db, plan_id, "clock", job=None, machines=(), detail=detail, words="Set the clock",
            effect="", at=runner.clock or 0.0, actor=actor(),
        )
    )  # fmt: skip
    runs().tell(plan_id)
    return bodies.order_body(made)


def _next(clock: float, zone: str, hours_after_noon: float) -> float:
    """The next instant so many hours after a noon."""
    night = night_at(clock, zone)
    instant = night.start + (hours_after_noon % 24) * HOUR
    while instant <= clock + 1:
        night = night_at(night.end + HOUR, zone)
        instant = night.start + (hours_after_noon % 24) * HOUR
    return instant


# --- runners ------------------------------------------------------------------------------------


@blueprint.get("/runners")
@blueprint.output(schemas.RunnersSchema)
def show_runners(plan_id: int) -> dict[str, Any]:
    """Whoever may report runs of the plan."""
    _plan(plan_id)
    with planning().sessions() as db:
        return {"runners": [bodies.runner_body(r) for r in runners.runners(db, plan_id)]}


@blueprint.post("/runners")
@blueprint.input(schemas.NewRunnerSchema)
@blueprint.output(schemas.RunnerTokenSchema, status_code=201)
def add_runner(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """A new runner or reporting script; its token is shown once."""
    token = planning().write(
        lambda db: runners.new_runner(
            db, plan_id, json_data["name"], json_data["kind"], actor=actor()
        )
    )
    return {"token": token}


@blueprint.delete("/runners/<int:runner_id>")
@blueprint.output(EmptySchema, status_code=204)
def remove_runner(plan_id: int, runner_id: int) -> tuple[str, int]:
    """Have a runner's token work no more; what it reported stays."""
    planning().write(lambda db: runners.revoke_runner(db, plan_id, runner_id, actor=actor()))
    runs().tell(plan_id)
    return "", 204
