"""A first draft of jobs from crontab lines or a calendar: shown line by line, then added."""

from __future__ import annotations

from typing import Any

from apiflask import APIBlueprint, Schema
from apiflask.fields import Boolean, Dict, Integer, List, Nested, String
from apiflask.validators import Length, OneOf

from gambrel.api.jobs_schemas import AskedSchema
from gambrel.api.plans import asked_about
from gambrel.api.problems import ProblemError, check_zone, field_error
from gambrel.api.schemas import Day, required
from gambrel.core.edits.operations import operation_to_dict
from gambrel.core.nights.nights import planner_zone
from gambrel.formats.timetables import Timetable, read_calendar, read_crontab
from gambrel.work.timetables import Said, drafted, entries

blueprint = APIBlueprint("timetables", __name__, tag="Jobs", url_prefix="/api/v1/plans")

MOST_CHARACTERS = 1_000_000
KINDS = ("incremental", "differential", "full")


class SaidOfLineSchema(Schema):
    """What the planner says of a line; null leaves it to the guess."""

    line = required(Integer)
    take = Boolean(load_default=True)
    job = String(load_default=None, allow_none=True, validate=Length(min=1, max=150))
    kind = String(load_default=None, allow_none=True, validate=OneOf(KINDS))
    machine = String(load_default=None, allow_none=True, validate=Length(max=200))


class TimetableAskedSchema(AskedSchema):
    """A crontab or a calendar. `with_user`: a user stands before each command; null: it is seen."""

    text = required(String, validate=Length(min=1, max=MOST_CHARACTERS))
    day = required(Day)
    time_zone = String(load_default="", validate=Length(max=80))
    with_user = Boolean(load_default=None, allow_none=True)
    machine = String(load_default="", validate=Length(max=200))
    said = List(Nested(SaidOfLineSchema), load_default=list, validate=Length(max=1000))


class TimetableLineSchema(Schema):
    """A line as it would be taken; `wrong` says why it cannot be."""

    line = required(Integer)
    text = required(String)
    take = required(Boolean)
    job = required(String)
    kind = required(String)
    machine = required(String)
    words = required(String)
    wrong = required(String)


class TimetableProblemSchema(Schema):
    line = required(Integer)
    value = required(String)
    reason = required(String)


class DraftedJobSchema(Schema):
    name = required(String)
    words = required(String)


class TimetableSchema(Schema):
    """`operations` add the jobs to a draft."""

    kind = required(String)
    with_user = required(Boolean)
    time_zone = required(String)
    lines = required(List, Nested(TimetableLineSchema))
    problems = required(List, Nested(TimetableProblemSchema))
    jobs = required(List, Nested(DraftedJobSchema))
    operations = required(List, Dict())


@blueprint.post("/<int:plan_id>/jobs/timetable")
@blueprint.input(TimetableAskedSchema)
@blueprint.output(TimetableSchema)
def read_timetable(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Crontab lines or a calendar as jobs, as guessed and as said. Nothing is kept."""
    plan = asked_about(plan_id, json_data).plan
    zone = json_data["time_zone"] or planner_zone(plan)
    check_zone(zone, "Nothing was read.")
    kind, table = _read(json_data, zone)
    said = {each.pop("line"): Said(**each) for each in json_data["said"]}
    lines = entries(plan, table, said, json_data["machine"])
    jobs = drafted(plan, lines, json_data["day"])
    return {
        "kind": kind,
        "with_user": table.with_user,
        "time_zone": zone,
        "lines": [
            {
                "line": entry.start.line, "text": entry.start.text, "take": entry.take,
                "job": entry.job, "kind": entry.kind, "machine": entry.machine,
                "words": entry.words, "wrong": entry.wrong,
            }
            for entry in lines
        ],
        "problems": [
            {"line": p.line, "value": p.value[:200], "reason": p.reason} for p in table.problems
        ],
        "jobs": [{"name": job.name, "words": job.words} for job in jobs],
        "operations": [operation_to_dict(job.operation) for job in jobs],
    }  # fmt: skip


def _read(asked: dict[str, Any], zone: str) -> tuple[str, Timetable]:
    text: str = asked["text"]
    if "BEGIN:VCALENDAR" not in text[:2000].upper():
        table = read_crontab(text, day=asked["day"], zone=zone, with_user=asked["with_user"])
        return "crontab", table
    try:
        return "calendar", read_calendar(text.encode(), day=asked["day"], zone=zone)
    except ValueError as error:
        raise ProblemError(
            422, "This calendar cannot be read", "Nothing was read.",
            errors=[field_error("text", text[:60], str(error))],
        ) from None  # fmt: skip
