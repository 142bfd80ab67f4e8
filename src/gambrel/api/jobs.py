"""Jobs: the list, the sentence as it is edited, and what is asked about one job."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import asdict
from typing import Any

from apiflask import APIBlueprint
from flask import jsonify

from gambrel.api import jobs_schemas as schemas
from gambrel.api import serialize
from gambrel.api.answers import revision_tag, tagged
from gambrel.api.plans import asked_about, day_of, looked_at
from gambrel.api.problems import ProblemError, field_error
from gambrel.api.schemas import DraftQuerySchema
from gambrel.api.serialize import instant
from gambrel.api.sessions import actor, planning
from gambrel.core.edits.item_edits import AddItem, OperationError, whole_value
from gambrel.core.edits.point_owners import points_elsewhere
from gambrel.core.model.destinations import destination_of
from gambrel.core.model.job_windows import default_window, window_id_of
from gambrel.core.model.selection import selected_machines, used_gib
from gambrel.core.nights.job_nights import job_night
from gambrel.core.nights.nights import Night, night_of, week_of
from gambrel.core.plan.conditions import DISK_OPS_BY_FIELD, OPS_BY_FIELD
from gambrel.core.plan.objects import Job, Kind, Plan
from gambrel.core.plan.reading import SCHEDULE
from gambrel.core.questions.even_split import even_split
from gambrel.core.questions.imagined_job import Imagined, with_fulls, with_imagined
from gambrel.core.questions.job_problems import JobProblem, job_problems
from gambrel.core.questions.new_job import new_job
from gambrel.core.questions.option_costs import option_costs
from gambrel.core.questions.points_ahead import MOST_DAYS, points_ahead
from gambrel.core.questions.selection_preview import look_at_selection
from gambrel.core.questions.start_search import room
from gambrel.core.questions.upcoming import ScheduleLook, look_at_schedule
from gambrel.core.questions.ways_to_keep import WEEKS, largest_machine, tradeoffs
from gambrel.core.schedules.words import (
    EXAMPLES,
    NotUnderstood,
    schedule_from_words,
    timing_in_words,
)
from gambrel.core.simulation.forecast import Forecast, Run
from gambrel.core.simulation.known_points import Snapshot
from gambrel.core.simulation.simulate import simulate_span
from gambrel.core.words import job_clauses, sentence
from gambrel.store import templates as store
from gambrel.work.forecaster import Forecaster

blueprint = APIBlueprint("jobs", __name__, tag="Jobs", url_prefix="/api/v1/plans")

MOST_COMPLETED = 3000
"""Machines whose names a browser completes; with more it would only be slow."""
MOST_SELECTED = 300
"""Machines of a job that are told one by one."""


def _job(plan: Plan, ident: str) -> Job:
    job = plan.job_by_id.get(ident)
    if job is None:
        raise ProblemError(404, "There is no such job", f"{ident} is no job of this plan.")
    return job


def _refused(field: str, value: Any, reason: str) -> ProblemError:
    return ProblemError(
        422,
        "This cannot be answered",
        f"{value} {reason}. Nothing was changed.",
        errors=[field_error(field, value, reason)],
    )


# --- the list ---------------------------------------------------------------------------------

_ORDERS: dict[str, Callable[[dict[str, Any]], Any]] = {
    "name": lambda row: row["name"].casefold(),
    "machines": lambda row: -row["machines"],
    "size": lambda row: -row["used_gib"],
    "priority": lambda row: -row["priority"],
}


def _row(plan: Plan, job: Job) -> dict[str, Any]:
    machines = selected_machines(plan, job)
    said = {clause.key: clause.text for clause in job_clauses(plan, job)}
    return {
        "id": job.id,
        "name": job.name,
        "priority": job.priority,
        "locked": job.locked,
        "on_hold": job.on_hold,
        "machines": len(machines),
        "used_gib": sum(map(used_gib, machines)),
        "selects": said["machines"].partition(": ")[2],
        "runs": said["runs"],
        "repositories": list(job.repositories),
        "window": window_id_of(plan, job),
        "kept": said["kept"],
    }


@blueprint.get("/<int:plan_id>/jobs")
@blueprint.input(schemas.JobListQuerySchema, location="query")
@blueprint.output(schemas.JobListSchema)
@tagged
def list_jobs(plan_id: int, query_data: dict[str, Any]) -> Any:
    """The jobs of a plan, found by words in their names, in an order, a page at a time."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    wanted = query_data["q"].casefold().split()
    plan = forecaster.plan
    jobs = [
        job
        for job in plan.jobs
        if all(word in f"{job.name} {job.id}".casefold() for word in wanted)
    ]
    rows = [_row(plan, job) for job in jobs]
    if query_data["sort"] != "plan":
        rows.sort(key=_ORDERS[query_data["sort"]])
    first = query_data["offset"]
    body = {"total": len(rows), "jobs": rows[first : first + query_data["limit"]]}
    return revision_tag(jsonify(body), head, draft)


def _job_night(night: Night, runs: Sequence[Run]) -> dict[str, Any]:
    found = job_night(runs)
    return {
        **asdict(found),
        "date": night.date.isoformat(),
        "forecast": True,
        "kinds": list(found.kinds),
        "start": instant(found.start),
        "end": instant(found.end),
    }


def _unknown_night(night: Night) -> dict[str, Any]:
    return {**_job_night(night, ()), "forecast": False}


def _weeks(
    forecaster: Forecaster, nights: Iterable[Night], jobs: Iterable[str]
) -> dict[str, list[dict[str, Any]]]:
    """What each of some jobs does in each of some nights."""
    wanted: dict[str, list[dict[str, Any]]] = {job: [] for job in jobs}
    for night in nights:
        if not forecaster.covers(night):
            for rows in wanted.values():
                rows.append(_unknown_night(night))
            continue
        runs: dict[str, list[Run]] = {job: [] for job in wanted}
        for run in forecaster.night(night).runs:
            if run.job in runs and night.holds(run.occurrence):
                runs[run.job].append(run)
        for job, rows in wanted.items():
            rows.append(_job_night(night, runs[job]))
    return wanted


@blueprint.get("/<int:plan_id>/jobs/week/<day>")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(schemas.JobWeeksSchema)
@tagged
def show_weeks(plan_id: int, day: str, query_data: dict[str, Any]) -> Any:
    """What every job does in each night of the week that holds a day."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    nights = week_of(day_of(day), forecaster.origin.zone)
    found = _weeks(forecaster, nights, (job.id for job in forecaster.plan.jobs))
    body = {"jobs": [{"job": job, "nights": rows} for job, rows in found.items()]}
    return revision_tag(jsonify(body), head, draft)


@blueprint.get("/<int:plan_id>/jobs/choices")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(schemas.ChoicesSchema)
@tagged
def show_choices(plan_id: int, query_data: dict[str, Any]) -> Any:
    """What editors of jobs offer: fields and operators of rules, and what there is to name."""
    head, draft, forecaster = looked_at(plan_id, query_data["draft"])
    plan = forecaster.plan

    def distinct(values: Iterable[str | None]) -> list[str]:
        return sorted({value for value in values if value})

    body = {
        "fields": {name: list(ops) for name, ops in OPS_BY_FIELD.items()},
        "disk_fields": {name: list(ops) for name, ops in DISK_OPS_BY_FIELD.items()},
        "values": {
            "name": [m.id for m in plan.machines[:MOST_COMPLETED]],
            "folder": distinct(m.folder for m in plan.machines),
            "host": [host.id for host in plan.hosts],
            "cluster": distinct(host.cluster for host in plan.hosts),
            "datastore": [store_.id for store_ in plan.datastores],
            "site": [site.id for site in plan.sites],
            "kind": ["vm", "server"],
            "tag": distinct(tag for m in plan.machines for tag in m.tags),
        },
        "windows": [window.id for window in plan.windows],
        "repositories": [repository.id for repository in plan.repositories],
        "proxies": [proxy.id for proxy in plan.proxies],
        "calendars": [calendar.id for calendar in plan.calendars],
        "networks": plan.networks,
        "time_zones": distinct([*(s.time_zone for s in plan.sites), "UTC"]),
        "jobs": [{"id": job.id, "name": job.name} for job in plan.jobs],
    }
    return revision_tag(jsonify(body), head, draft)


# --- the sentence while it is edited ----------------------------------------------------------


def _problem(problem: JobProblem) -> dict[str, Any]:
    return {
        "job": problem.job,
        "clause": problem.clause,
        "weight": problem.weight,
        "words": problem.words,
    }


def _schedule(look: ScheduleLook, kind: str, zone: str) -> dict[str, Any]:
    return {
        "words": look.words,
        "kind": kind,
        "time_zone": zone,
        "a_day": look.a_day,
        "upcoming": [
            {
                "at": instant(entry.at),
                "local": entry.local.isoformat(timespec="minutes"),
                "time_zone": entry.time_zone,
                "kind": entry.kind,
                "note": entry.note,
            }
            for entry in look.upcoming
        ],
    }


def _selection(plan: Plan, job: Job) -> dict[str, Any]:
    look = look_at_selection(plan, job)
    return {
        "machines": len(look.selected),
        "protected_bytes": sum(entry.protected_bytes for entry in look.selected),
        "selected": [
            {
                "machine": entry.machine, "by": list(entry.by), "disks": list(entry.disks),
                "left_out": list(entry.left_out), "used_gib": entry.used_gib,
                "protected_bytes": entry.protected_bytes, "elsewhere": list(entry.elsewhere),
                "repository": destination_of(plan, job, plan.machine_by_id[entry.machine]),
            }
            for entry in look.selected[:MOST_SELECTED]
        ],
        "near": [
            {
                "machine": entry.machine, "why": entry.why, "used_gib": entry.used_gib,
                "elsewhere": list(entry.elsewhere),
            }
            for entry in look.near
        ],
        "near_count": look.near_count,
        "joins": look.joins,
    }  # fmt: skip


@blueprint.post("/<int:plan_id>/jobs/look")
@blueprint.input(schemas.LookRequestSchema)
@blueprint.output(schemas.LookSchema)
def look(plan_id: int, json_data: dict[str, Any]) -> Any:
    """A job as unsaved operations would make it: its sentence, and all that follows from it."""
    forecaster = asked_about(plan_id, json_data)
    plan = forecaster.plan
    job = _job(plan, json_data["job"])
    nights = week_of(json_data["night"], forecaster.origin.zone)
    from_ = next((n.start for n in nights if forecaster.covers(n)), forecaster.origin.start)
    return jsonify(
        {
            "job": job.id,
            "value": whole_value(job, "jobs"),
            "clauses": serialize.clauses(plan, job),
            "text": sentence(plan, job),
            "problems": [_problem(p) for p in job_problems(plan, job, from_)],
            **_selection(plan, job),
            "schedules": [
                _schedule(look_at_schedule(plan, job, i, from_), s.kind, s.time_zone)
                for i, s in enumerate(job.schedules)
            ],
            "nights": _weeks(forecaster, nights, [job.id])[job.id],
            "points_before": sum(
                point.job == job.id
                and point.repository == destination_of(plan, job, plan.machine_by_id[point.machine])
                for point in plan.state.points
            ),
            "default_window": default_window(plan, job),
            "points_elsewhere": [
                {
                    "job": each.job,
                    "repository": each.repository,
                    "points": each.points,
                    "machines": len(each.machines),
                    "full_bytes": each.full_bytes,
                    "carried": each.carried,
                }
                for each in points_elsewhere(plan, job)
            ],
        }
    )


@blueprint.post("/<int:plan_id>/jobs/say")
@blueprint.input(schemas.SayRequestSchema)
@blueprint.output(schemas.SaidSchema)
def say(plan_id: int, json_data: dict[str, Any]) -> Any:
    """The schedule that words name, or what they lack."""
    forecaster = asked_about(plan_id, json_data)
    plan = forecaster.plan
    found: dict[str, Any] = {"schedule": None, "words": None, "reason": None}
    try:
        schedule = schedule_from_words(
            json_data["text"],
            kind=json_data["kind"],
            day=json_data["day"],
            time_zone=json_data["time_zone"] or forecaster.origin.zone,
            calendars=[calendar.id for calendar in plan.calendars],
        )
        found["schedule"], found["words"] = SCHEDULE.write(schedule), timing_in_words(schedule)
    except NotUnderstood as error:
        found["reason"] = str(error)
    return jsonify({**found, "examples": list(EXAMPLES)})


@blueprint.post("/<int:plan_id>/jobs/begin")
@blueprint.input(schemas.BeginRequestSchema)
@blueprint.output(schemas.BegunSchema)
def begin(plan_id: int, json_data: dict[str, Any]) -> Any:
    """A new job to edit: from a clear default, from machines, from another job, a template."""
    forecaster = asked_about(plan_id, json_data)
    plan = forecaster.plan
    like = None if json_data["like"] is None else _job(plan, json_data["like"])
    template = None
    if json_data["template"] is not None:
        with planning().sessions() as db:
            known = {t.id: t for t in store.templates(db, plan_id)}
        if json_data["template"] not in known:
            raise ProblemError(404, "There is no such template", "It may have been removed.")
        template = known[json_data["template"]].value
    value = new_job(
        plan,
        json_data["name"],
        json_data["day"],
        machines=json_data["machines"],
        like=like,
        template=template,
    )
    made = AddItem("jobs", value).apply(plan).job_by_id[value["id"]]
    return jsonify({"value": whole_value(made, "jobs")})


# --- questions about one job ------------------------------------------------------------------


@blueprint.post("/<int:plan_id>/jobs/tradeoffs")
@blueprint.input(schemas.JobAskedSchema)
@blueprint.output(schemas.TradeoffsSchema)
def show_tradeoffs(plan_id: int, json_data: dict[str, Any]) -> Any:
    """What each way of keeping fulls and changes would cost this job."""
    forecaster = asked_about(plan_id, json_data)
    plan = forecaster.plan
    job = _job(plan, json_data["job"])
    largest = largest_machine(plan, job)
    ways = [
        {
            "name": way.name, "words": way.words, "now": way.now, "changes": dict(way.changes),
            "runs": way.runs, "moved_bytes": way.moved_bytes, "read_bytes": way.read_bytes,
            "longest_s": way.longest_s, "usual_s": way.usual_s, "space_bytes": way.space_bytes,
            "chain_points": way.chain_points, "restore_s": way.restore_s,
        }
        for way in tradeoffs(plan, job, forecaster.origin.start)
    ]  # fmt: skip
    return jsonify(
        {"weeks": WEEKS, "largest": None if largest is None else largest.id, "ways": ways}
    )


@blueprint.post("/<int:plan_id>/jobs/costs")
@blueprint.input(schemas.JobAskedSchema)
@blueprint.output(schemas.CostsSchema)
def show_costs(plan_id: int, json_data: dict[str, Any]) -> Any:
    """What each option that a job uses adds to a week of its runs, or spares it."""
    forecaster = asked_about(plan_id, json_data)
    plan = forecaster.plan
    job = _job(plan, json_data["job"])
    costs = option_costs(plan, job, forecaster.origin.start)
    return jsonify({"costs": [asdict(cost) for cost in costs]})


@blueprint.post("/<int:plan_id>/jobs/points")
@blueprint.input(schemas.PointsRequestSchema)
@blueprint.output(schemas.PointsAheadSchema)
def show_points(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Which points of a machine exist on a future day, what holds them, and the space till then."""
    forecaster = asked_about(plan_id, json_data)
    plan = forecaster.plan
    job = _job(plan, json_data["job"])
    noon = night_of(json_data["day"], forecaster.origin.zone).start
    try:
        found = points_ahead(plan, job, forecaster.origin.start, noon, json_data["machine"])
    except ValueError as error:
        raise _refused("day", json_data["day"].isoformat(), str(error)) from None
    return jsonify(
        {
            "machine": None if found is None else found.machine,
            "most_days": MOST_DAYS,
            "points": [
                {
                    "repository": point.repository, "kind": point.kind, "at": instant(point.at),
                    "stored_bytes": point.stored_bytes, "base_at": instant(point.base_at),
                    "kept_by": list(point.kept_by), "carries": point.carries, "cold": point.cold,
                }
                for point in (() if found is None else found.points)
            ],
            "space": None
            if found is None or found.space is None
            else [
                {
                    "repository": name,
                    "steps": [{"at": instant(at), "bytes": used} for at, used in steps],
                }
                for name, steps in found.space.items()
            ],
        }
    )  # fmt: skip


@blueprint.post("/<int:plan_id>/jobs/room")
@blueprint.input(schemas.RoomRequestSchema)
@blueprint.output(schemas.RoomSchema)
def show_room(plan_id: int, json_data: dict[str, Any]) -> Any:
    """The end of a run of this job for every start of a night, each simulated."""
    forecaster = asked_about(plan_id, json_data)
    plan = forecaster.plan
    job = _job(plan, json_data["job"])
    night = night_of(json_data["night"], forecaster.origin.zone)
    if not forecaster.covers(night):
        return jsonify({"forecast": False, "starts": []})

    kind = json_data["kind"]
    # Up to here all that is tried is the same. A full may take the place of an earlier one.
    week = forecaster.week(night.date)
    from_, points = forecaster.start_of(week.nights[0] if kind == "full" else night)
    own = [r.occurrence for r in week.forecast.runs if job.after and r.job == job.id]
    return jsonify(_room(plan, job, kind, night, from_, points, own))


@blueprint.post("/<int:plan_id>/jobs/imagined")
@blueprint.input(schemas.ImaginedRequestSchema)
@blueprint.output(schemas.ImaginedSchema)
def show_room_for_imagined(plan_id: int, json_data: dict[str, Any]) -> Any:
    """The end of a run of a job that nobody has made yet, for every start of a night."""
    forecaster = asked_about(plan_id, json_data)
    wanted = Imagined(
        **{name: json_data[name] for name in ("gib", "machines", "daily_change", "site",
                                              "repository", "kind", "window")}
    )  # fmt: skip
    try:
        plan, job, where = with_imagined(forecaster.plan, wanted)
    except OperationError as error:
        raise _refused(error.field, error.value, error.reason) from error
    night = night_of(json_data["night"], forecaster.origin.zone)
    if not forecaster.covers(night):
        return jsonify({"forecast": False, "where": where, "starts": []})
    from_, points = forecaster.start_of(night)
    if wanted.kind != "full":
        points = with_fulls(plan, job, points, from_)
    return jsonify({**_room(plan, job, wanted.kind, night, from_, points), "where": where})


def _room(
    plan: Plan,
    job: Job,
    kind: Kind,
    night: Night,
    from_: float,
    points: Snapshot,
    own: Sequence[float] = (),
) -> dict[str, Any]:
    """Every start of a night, simulated from an instant on with the points that exist there."""

    def play(changed: Plan) -> Forecast:
        return simulate_span(changed, from_, night.end, points=points)

    starts = [
        {
            "at": instant(start.at), "local": start.local.isoformat(timespec="minutes"),
            "end": instant(start.end), "length_s": start.length_s, "verdict": start.verdict,
            "harms_s": start.harms_s, "left_s": start.left_s,
            "opens": instant(start.opens), "rank": start.rank,
            "why": start.why,
        }
        for start in room(plan, job, kind, night, play, from_=from_, own=own)
    ]  # fmt: skip
    return {"forecast": True, "starts": starts}


@blueprint.post("/<int:plan_id>/jobs/split")
@blueprint.input(schemas.SplitRequestSchema)
@blueprint.output(schemas.SplitSchema)
def show_split(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Even groups of a job's machines by what their fulls and incrementals take."""
    forecaster = asked_about(plan_id, json_data)
    plan = forecaster.plan
    job = _job(plan, json_data["job"])
    number = json_data["groups"]
    try:
        found = even_split(plan, job, number, forecaster.origin.start)
    except ValueError as error:
        raise _refused("groups", number, f"is too many: {error}") from None
    groups = [
        {
            "id": part.id, "name": part.name, "machines": list(part.group.machines),
            "full_s": part.group.full_s, "incremental_s": part.group.incremental_s,
        }
        for part in found.parts
    ]  # fmt: skip
    return jsonify({"groups": groups, "by_count": list(found.by_count)})


# --- templates --------------------------------------------------------------------------------


@blueprint.get("/<int:plan_id>/templates")
@blueprint.output(schemas.TemplateSchema(many=True))
def list_templates(plan_id: int) -> list[dict[str, Any]]:
    """The templates of jobs."""
    with planning().sessions() as db:
        return [
            {"id": t.id, "name": t.name, "value": dict(t.value)}
            for t in store.templates(db, plan_id)
        ]


@blueprint.post("/<int:plan_id>/templates")
@blueprint.input(schemas.NewTemplateSchema)
@blueprint.output(schemas.TemplateSchema, status_code=201)
def add_template(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Keep the settings of a job for others."""
    try:
        made = planning().write(
            lambda db: store.save_template(
                db, plan_id, json_data["name"], json_data["value"], actor=actor()
            )
        )
    except store.NameTaken as error:
        raise _refused("name", json_data["name"], str(error)) from None
    return {"id": made.id, "name": made.name, "value": dict(made.value)}


@blueprint.delete("/<int:plan_id>/templates/<int:template_id>")
@blueprint.output({}, status_code=204)
def forget_template(plan_id: int, template_id: int) -> tuple[str, int]:
    """Forget a template. Jobs that began with it stay as they are."""
    planning().write(lambda db: store.remove_template(db, plan_id, template_id, actor=actor()))
    return "", 204
