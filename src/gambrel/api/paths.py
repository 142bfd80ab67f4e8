"""How data flow and when they may: the map, reach, windows, calendars, sizing."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import timedelta
from math import isfinite
from typing import Any

from apiflask import APIBlueprint
from flask import jsonify

from gambrel.api import paths_schemas as schemas
from gambrel.api.answers import revision_tag, tagged
from gambrel.api.plans import day_of, looked_at, read_operations
from gambrel.api.problems import ProblemError, field_error
from gambrel.api.schemas import DraftQuerySchema
from gambrel.api.serialize import instant
from gambrel.api.sessions import planning
from gambrel.core.edits import item_edits
from gambrel.core.edits.operations import operation_to_dict
from gambrel.core.loads.load_series import Measure, measure_of, shown_load_names
from gambrel.core.loads.night_loads import loads_in_spans
from gambrel.core.model.job_windows import has_default_window, window_id_of
from gambrel.core.model.repository_volumes import placed
from gambrel.core.model.restore_points import PointRecord
from gambrel.core.nights.nights import Night, night_of, week_of
from gambrel.core.plan.objects import Plan, Repository, Transports
from gambrel.core.plan.shapes import shape_of
from gambrel.core.questions import places, sizing
from gambrel.core.questions.reach import Cell, reach_reasons, reach_table
from gambrel.core.questions.window_openings import Opening, next_openings, touching
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.units import DAY
from gambrel.core.words import load_label
from gambrel.formats.holidays_ics import read_holidays
from gambrel.work.forecaster import Forecaster

blueprint = APIBlueprint("paths", __name__, tag="Paths", url_prefix="/api/v1/plans")

BINS = 96
"""Parts of a night: a quarter of an hour each."""
OPENINGS_DAYS = 28
CLOCK_CHANGE_DAYS = 366
HOLIDAYS_BACK = timedelta(days=31)
HOLIDAYS_AHEAD = timedelta(days=3 * 366)


# --- the map ----------------------------------------------------------------------------------


Words = Mapping[tuple[str, str], Sequence[str]]


def _item(plan: Plan, kind: str, item: Any, loads: Words, used_by: Words) -> dict[str, Any]:
    word = item_edits.WORDS[kind]
    advised = places.advised_slots(item) if kind == "proxies" else None
    label = load_label(plan, f"link:{item.id}") if kind == "links" else item.id
    return {
        "id": item.id,
        "label": item.name if kind == "sites" else label,
        "value": item_edits.whole_value(item, kind),
        "loads": list(loads.get((word, item.id), ())),
        "used_by": list(used_by.get((kind, item.id), ()))[:200],
        "notes": places.place_notes(plan, kind, item),
        "form": places.proxy_form(item) if kind == "proxies" else None,
        "advised_slots": None if advised is None else advised[0],
        "advised_by": None if advised is None else advised[1],
        "reads_directly": sorted(plan.direct_by_proxy[item.id]) if kind == "proxies" else [],
        "points": None,
        "used_bytes": None,
        "volumes": [],
    }


def _repository(
    points: Sequence[PointRecord], plan: Plan, item: Repository, loads: Words, used_by: Words
) -> dict[str, Any]:
    mine = [point for point in plan.state.points if point.repository == item.id]
    return {
        **_item(plan, "repositories", item, loads, used_by),
        "points": len(mine),
        "used_bytes": sum(point.stored_bytes for point in mine),
        "volumes": [
            {
                "volume": p.volume.id, "capacity_gib": p.volume.capacity_gib,
                "points": p.points, "used_bytes": p.used_bytes, "full_at": instant(p.full_at),
            }
            for p in placed(item, points)
        ],
    }  # fmt: skip


@blueprint.get("/<int:plan_id>/paths/<day>")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(schemas.PathsSchema)
@tagged
def show_paths(plan_id: int, day: str, query_data: dict[str, Any]) -> Any:
    """All that data flow through, with what each is, and what is on each repository."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    plan = forecaster.plan
    night = night_of(day_of(day), forecaster.origin.zone)
    points: tuple[PointRecord, ...] = ()
    if forecaster.covers(night):
        points = forecaster.night(night).history.at(night.end)
    loads, used_by = places.loads_by_place(plan), item_edits.users(plan)
    body = {
        **{
            kind: [_item(plan, kind, item, loads, used_by) for item in getattr(plan, kind)]
            for kind in ("sites", "links", "hosts", "datastores", "proxies")
        },
        "repositories": [_repository(points, plan, r, loads, used_by) for r in plan.repositories],
        "transports": shape_of(Transports).write(plan.transports, whole=True),
        "flows": [
            {"from": f.from_, "to": f.to, "by": f.by, "count": f.count, "over": list(f.over)}
            for f in places.flows(plan)
        ],
    }
    return revision_tag(jsonify(body), head, draft)


def _capacities(measure: Measure, start: float, end: float) -> list[float] | None:
    """The capacity in force at the middle of each part."""
    if measure.capacity is None:
        return None
    step = (end - start) / BINS
    found, steps, now = [], list(measure.capacity), measure.capacity[0][1]
    for i in range(BINS):
        while steps and steps[0][0] <= start + (i + 0.5) * step:
            now = steps.pop(0)[1]
        found.append(now)
    return found


def _night_loads(
    forecaster: Forecaster, nights: Sequence[Night], names: Iterable[str]
) -> list[dict[str, Any]]:
    answers = []
    for night in nights:
        covered = forecaster.covers(night)
        told = []
        if covered:
            forecast = forecaster.night(night)
            (spans,) = loads_in_spans(forecast, names, [(night.start, night.end)], BINS)
            for span in spans:
                measure = measure_of(forecast, span.name, night.start, night.end)
                told.append(
                    {
                        "name": span.name,
                        "label": load_label(forecast.plan, span.name),
                        "unit": span.unit,
                        "total": span.total.round(2).tolist(),
                        "capacity": _capacities(measure, night.start, night.end),
                        "waiting": span.waiting.tolist(),
                        "full_s": span.full_s,
                        "peak": span.peak,
                        "waiting_jobs": list(span.waiting_jobs),
                    }
                )
        answers.append(
            {
                "date": night.date.isoformat(), "start": instant(night.start),
                "end": instant(night.end), "forecast": covered, "loads": told,
            }
        )  # fmt: skip
    return answers


@blueprint.get("/<int:plan_id>/paths/<day>/loads")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(schemas.NightLoadsSchema)
@tagged
def show_loads(plan_id: int, day: str, query_data: dict[str, Any]) -> Any:
    """All loads of a night, in quarters of an hour."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    night = night_of(day_of(day), forecaster.origin.zone)
    body = _night_loads(forecaster, [night], shown_load_names(forecaster.plan))[0]
    return revision_tag(jsonify(body), head, draft)


@blueprint.post("/<int:plan_id>/paths/loads")
@blueprint.input(schemas.SizingRequestSchema)
@blueprint.output(schemas.NightLoadsSchema)
def preview_loads(plan_id: int, json_data: dict[str, Any]) -> Any:
    """All loads of a night as unsaved operations would make them. Nothing is written."""
    forecaster, night = _sized(plan_id, json_data)
    return jsonify(_night_loads(forecaster, [night], shown_load_names(forecaster.plan))[0])


@blueprint.get("/<int:plan_id>/paths/<day>/week")
@blueprint.input(schemas.WeekOfLoadQuerySchema, location="query")
@blueprint.output(schemas.WeekOfLoadSchema)
@tagged
def show_week_of_load(plan_id: int, day: str, query_data: dict[str, Any]) -> Any:
    """One load over the week that holds a day, and who makes it."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    name = query_data["name"]
    if name not in shown_load_names(forecaster.plan):
        reason = "is not the name of a load of this plan"
        raise ProblemError(
            422, "There is no such load", "The plan lists the loads that it has.",
            errors=[field_error("name", name, reason)],
        )  # fmt: skip
    users = []
    if forecaster.nights_of_week(day_of(day)):
        week = forecaster.week(day_of(day))
        users = [
            {
                "job": user.job, "name": forecaster.plan.job_by_id[user.job].name,
                "amount": user.amount, "waited_s": user.waited_s,
            }
            for user in places.load_users(week.forecast, name, week.start, week.end)
        ]  # fmt: skip
    nights = week_of(day_of(day), forecaster.origin.zone)
    body = {"nights": _night_loads(forecaster, nights, [name]), "users": users}
    return revision_tag(jsonify(body), head, draft)


# --- reach ------------------------------------------------------------------------------------


def _cell(cell: Cell) -> dict[str, Any]:
    return {
        "proxy": cell.proxy, "best": cell.best, "disks": dict(cell.disks),
        "unreached": cell.unreached, "jobs": list(cell.jobs),
    }  # fmt: skip


@blueprint.get("/<int:plan_id>/reach")
@blueprint.input(schemas.ReachQuerySchema, location="query")
@blueprint.output(schemas.ReachSchema)
@tagged
def show_reach(plan_id: int, query_data: dict[str, Any]) -> Any:
    """Groups of machines against proxies: by which transport each could read them."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    plan = forecaster.plan
    body = {
        "proxies": [proxy.id for proxy in plan.proxies],
        "rows": [
            {
                "name": row.name, "machines": row.machines, "used_gib": row.used_gib,
                "cells": [_cell(cell) for cell in row.cells],
            }
            for row in reach_table(plan, query_data["by"])
        ],
    }  # fmt: skip
    return revision_tag(jsonify(body), head, draft)


@blueprint.get("/<int:plan_id>/reach/why")
@blueprint.input(schemas.WhyQuerySchema, location="query")
@blueprint.output(schemas.WhySchema)
@tagged
def show_why(plan_id: int, query_data: dict[str, Any]) -> Any:
    """Why a proxy reads a group of machines as it does, and why not by a better transport."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    try:
        found = reach_reasons(
            forecaster.plan, query_data["by"], query_data["group"], query_data["proxy"]
        )
    except KeyError:
        raise ProblemError(
            404, "There is no such proxy", f"The plan has no {query_data['proxy']}."
        ) from None
    body = {
        "reasons": [
            {
                "host": r.host, "datastore": r.datastore, "disks": r.disks,
                "transport": r.found.transport, "pinned": r.found.pinned, "why": list(r.found.why),
            }
            for r in found
        ]
    }  # fmt: skip
    return revision_tag(jsonify(body), head, draft)


# --- windows and calendars --------------------------------------------------------------------


def _opening(opening: Opening) -> dict[str, Any]:
    return {
        "opens": instant(opening.opens), "closes": instant(opening.closes),
        "clock_moves_s": opening.clock_moves_s, "exception": opening.exception,
    }  # fmt: skip


def _jobs_in(plan: Plan, window: str | None) -> list[dict[str, Any]]:
    """The jobs that run in a window; None: those without one."""
    return [
        {
            "job": job.id, "name": job.name, "at_window_end": job.at_window_end,
            "locked": job.locked, "by_default": has_default_window(plan, job),
        }
        for job in plan.jobs
        if window_id_of(plan, job) == window
    ]  # fmt: skip


@blueprint.get("/<int:plan_id>/windows/<day>")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(schemas.WindowsSchema)
@tagged
def show_windows(plan_id: int, day: str, query_data: dict[str, Any]) -> Any:
    """Windows with their next openings, what happens at their ends, and what touches them."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    plan = forecaster.plan
    week = None
    if forecaster.nights_of_week(day_of(day)):
        week = forecaster.week(day_of(day))
    start = night_of(day_of(day), forecaster.origin.zone).start
    told = []
    for window in plan.windows:
        ahead = next_openings(window, start, CLOCK_CHANGE_DAYS, most=CLOCK_CHANGE_DAYS * 4)
        touches = (
            () if week is None
            else touching(week.forecast, window.id, week.start, week.end)
        )  # fmt: skip
        told.append(
            {
                "id": window.id,
                "value": item_edits.whole_value(window, "windows"),
                "openings": [
                    _opening(o) for o in ahead if o.opens < start + OPENINGS_DAYS * DAY
                ][:40],
                "clock_changes": [_opening(o) for o in ahead if o.clock_moves_s],
                "jobs": _jobs_in(plan, window.id),
                "touching": [
                    {
                        "job": t.job, "name": plan.job_by_id[t.job].name,
                        "occurrence": instant(t.occurrence), "ended": instant(t.ended),
                        "left_s": t.left_s, "lost": t.lost,
                    }
                    for t in touches
                ],
            }
        )  # fmt: skip
    used_by = item_edits.users(plan)
    body = {
        "windows": told,
        "calendars": [
            {
                "id": c.id, "value": item_edits.whole_value(c, "calendars"),
                "used_by": list(used_by.get(("calendars", c.id), ())),
            }
            for c in plan.calendars
        ],
        "jobs_without": _jobs_in(plan, None),
    }  # fmt: skip
    return revision_tag(jsonify(body), head, draft)


@blueprint.post("/<int:plan_id>/calendars/read")
@blueprint.input(schemas.IcsFormSchema, location="files")
@blueprint.output(schemas.IcsSchema)
def read_calendar(plan_id: int, files_data: dict[str, Any]) -> Any:
    """The dates of an iCalendar file, to be put into a calendar. Nothing is written."""
    _, _, forecaster = looked_at(plan_id, None)
    today = planning().today(forecaster.plan)
    file = files_data["file"]
    try:
        found = read_holidays(file.read(), today - HOLIDAYS_BACK, today + HOLIDAYS_AHEAD)
    except ValueError as error:
        raise ProblemError(
            422, "This calendar cannot be read", "Nothing was changed.",
            errors=[field_error("file", file.filename or "file", str(error))],
        ) from None  # fmt: skip
    return jsonify(
        {
            "dates": [{"date": day.isoformat(), "name": name} for day, name in found.dates],
            "problems": [
                {"event": p.event, "property": p.property, "value": p.value, "reason": p.reason}
                for p in found.problems
            ],
        }
    )


# --- sizing -----------------------------------------------------------------------------------


def _state(state: sizing.State) -> dict[str, Any]:
    return {
        "verdict": state.verdict, "over_s": state.over_s, "lost": state.lost,
        "last_end": instant(state.last_end),
    }  # fmt: skip


def _sized(plan_id: int, asked: dict[str, Any]) -> tuple[Forecaster, Night]:
    """The forecaster of what is asked about, and its night. Raises OutOfReach."""
    shared = planning()
    head, draft, _ = looked_at(plan_id, asked["draft"])
    forecaster = shared.preview(head, draft, read_operations(asked["operations"]))
    return forecaster, night_of(asked["night"], forecaster.origin.zone)


@blueprint.post("/<int:plan_id>/sizing")
@blueprint.input(schemas.SizingRequestSchema)
@blueprint.output(schemas.SizingSchema)
def show_sizing(plan_id: int, json_data: dict[str, Any]) -> Any:
    """What presses in a night, what may help, what may go, what cannot be done at all."""
    forecaster, night = _sized(plan_id, json_data)
    forecast = forecaster.week(night.date).forecast
    plan = forecaster.plan
    state, loads = sizing.state_of(forecast, night), sizing.pressed(forecast, night)
    return jsonify(
        {
            "state": _state(state),
            "pressed": [load_label(plan, load.name) for load in loads],
            "remedies": [
                {
                    "key": r.key, "words": r.words, "amounts": len(r.amounts),
                    "takes_away": away,
                }
                for r, away in sizing.offered(forecast, night, state, loads)
            ],
            "needs": [
                {
                    "name": n.name, "label": load_label(plan, n.name), "bytes": n.bytes,
                    "due": instant(n.from_), "by": instant(n.by),
                    "earliest": instant(n.earliest) if isfinite(n.earliest) else None,
                    "share": n.share if isfinite(n.share) else None, "jobs": list(n.jobs),
                }
                for n in sizing.needs(forecast, night)
            ],
        }
    )  # fmt: skip


@blueprint.post("/<int:plan_id>/sizing/try")
@blueprint.input(schemas.TryRequestSchema)
@blueprint.output(schemas.AdviceSchema)
def try_remedy(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Try one remedy: the smallest amount that is enough, each amount simulated."""
    forecaster, night = _sized(plan_id, json_data)
    forecast = forecaster.week(night.date).forecast
    state, loads = sizing.state_of(forecast, night), sizing.pressed(forecast, night)
    offered = sizing.offered(forecast, night, state, loads)
    chosen = next(((r, away) for r, away in offered if r.key == json_data["key"]), None)
    if chosen is None:
        raise ProblemError(404, "There is no such remedy", "The plan may have changed meanwhile.")

    def play(changed: Plan) -> Forecast:
        return Forecaster(changed, forecaster.origin, forecaster).week(night.date).forecast

    remedy, away = chosen
    advice = (
        sizing.try_without(remedy, forecast, night, play)
        if away
        else sizing.try_remedy(remedy, forecaster.plan, state, night, play)
    )
    return jsonify(
        {
            "key": remedy.key,
            "helps": advice is not None,
            "words": remedy.words if advice is None else advice.words,
            "operations": []
            if advice is None
            else [operation_to_dict(operation) for operation in advice.operations],
            "fits": advice is not None and advice.fits,
            "after": None if advice is None else _state(advice.after),
            "tried": 1 if advice is None else advice.tried,
        }
    )
