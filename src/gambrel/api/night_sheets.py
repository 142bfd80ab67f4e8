"""The night sheet: as data for the page that is printed, and as a PDF."""

from __future__ import annotations

import time
from typing import Any

from apiflask import APIBlueprint, EmptySchema, Schema
from apiflask.fields import Date, Float, Integer, List, Nested, String
from flask import Response

from gambrel.api.answers import file_answer
from gambrel.api.plans import day_of, looked_at
from gambrel.api.problems import ProblemError
from gambrel.api.schemas import DraftQuerySchema, Instant, nullable, required
from gambrel.api.serialize import instant
from gambrel.api.sessions import planning
from gambrel.core.findings import find
from gambrel.core.nights.nights import night_of
from gambrel.core.questions.night_sheet import NightSheet, expected, headline, night_sheet
from gambrel.core.words import night_title
from gambrel.formats.night_sheet_pdf import night_sheet_pdf
from gambrel.store import ledger
from gambrel.store.plans import Draft
from gambrel.store.settings import setting
from gambrel.work.mailing import run_settings_name

blueprint = APIBlueprint("night_sheets", __name__, tag="Runs", url_prefix="/api/v1")


class SheetRunSchema(Schema):
    job = required(String)
    name = required(String)
    occurrence = required(Instant)
    kind = required(String)
    begins = nullable(Instant)
    ends = nullable(Instant)
    window_end = nullable(Instant)
    over_s = required(Float)
    machines = required(Integer)
    undone = required(Integer)
    verdict = required(String)
    expected = required(String)
    notify = required(List, String())


class ContactSchema(Schema):
    name = required(String)
    phone = required(String)
    mail = required(String)
    jobs = required(List, String())


class NightSheetSchema(Schema):
    """One page to take along. `checks`: what to look at, in words, the gravest first."""

    date = required(Date)
    title = required(String)
    zone = required(String)
    verdict = required(String)
    headline = required(String)
    runs = required(List, Nested(SheetRunSchema))
    held = required(List, String())
    checks = required(List, String())
    contacts = required(List, Nested(ContactSchema))


def _sheet(plan_id: int, day: str, draft_id: int | None) -> tuple[str, Draft | None, NightSheet]:
    head, draft, forecaster = looked_at(plan_id, draft_id)
    night = night_of(day_of(day), forecaster.origin.zone)
    if not forecaster.covers(night):
        raise ProblemError(404, "This night has no forecast", "It lies before the plan's state.")
    forecast = forecaster.night(night)
    with planning().sessions() as db:
        left = ledger.left_overs(db, plan_id)
        value = setting(db, run_settings_name(plan_id))
    sheet = night_sheet(
        forecast, night, find(forecast, night.start, night.end), left,
        value.get("phones", {}), value.get("addresses", {}),
    )  # fmt: skip
    return head.name, draft, sheet


@blueprint.get("/plans/<int:plan_id>/nights/<day>/sheet")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(NightSheetSchema)
def show_night_sheet(plan_id: int, day: str, query_data: dict[str, Any]) -> dict[str, Any]:
    """What runs in a night in order, whom to call, what to check."""
    _, _, sheet = _sheet(plan_id, day, query_data["draft"])
    return {
        "date": sheet.night.date,
        "title": night_title(sheet.night.date),
        "zone": sheet.night.zone,
        "verdict": sheet.verdict,
        "headline": headline(sheet),
        "runs": [
            {
                "job": run.job, "name": run.name, "occurrence": instant(run.occurrence),
                "kind": run.kind, "begins": instant(run.begins), "ends": instant(run.ends),
                "window_end": instant(run.window_end), "over_s": run.over_s,
                "machines": run.machines, "undone": run.undone, "verdict": run.verdict,
                "expected": expected(run), "notify": list(run.notify),
            }
            for run in sheet.runs
        ],
        "held": list(sheet.held),
        "checks": list(sheet.checks),
        "contacts": [
            {"name": c.name, "phone": c.phone, "mail": c.mail, "jobs": list(c.jobs)}
            for c in sheet.contacts
        ],
    }  # fmt: skip


@blueprint.get("/plans/<int:plan_id>/nights/<day>/sheet.pdf")
@blueprint.input(DraftQuerySchema, location="query")
@blueprint.output(EmptySchema, content_type="application/pdf")
def night_sheet_file(plan_id: int, day: str, query_data: dict[str, Any]) -> Response:
    """The night sheet as a PDF."""
    name, draft, sheet = _sheet(plan_id, day, query_data["draft"])
    content = night_sheet_pdf(sheet, name, None if draft is None else draft.name, time.time())
    return file_answer(content, "application/pdf", f"night-{sheet.night.date}.pdf")
