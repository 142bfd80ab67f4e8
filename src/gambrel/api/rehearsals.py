"""Rehearsals: a night of the plan in hand, carried out apart from the runs and kept nowhere."""

from __future__ import annotations

from typing import Any

from apiflask import APIBlueprint
from flask import current_app

from gambrel.api import runs_schemas as schemas
from gambrel.api import runs_serialize as bodies
from gambrel.api.answers import tag_of
from gambrel.api.plans import day_of, looked_at
from gambrel.api.problems import ProblemError, field_error
from gambrel.core.ledger.comparing import summarize
from gambrel.core.ledger.events import Event, event_to_dict
from gambrel.core.ledger.report import headline
from gambrel.core.nights.nights import night_of
from gambrel.core.plan.instants import format_instant
from gambrel.core.plan.objects import Plan
from gambrel.standins.rehearsal import Rehearsal
from gambrel.standins.troubles import OF_MACHINES, Trouble, subjects_of
from gambrel.work.rehearsing import Rehearsals

blueprint = APIBlueprint(
    "rehearsals", __name__, tag="Rehearsals", url_prefix="/api/v1/plans/<int:plan_id>"
)


def _rehearsed(plan_id: int, asked: dict[str, Any]) -> tuple[Plan, Rehearsal]:
    head, draft, forecaster = looked_at(plan_id, asked["draft"])
    plan = forecaster.plan
    night = night_of(day_of(asked["night"]), forecaster.origin.zone)
    told = None
    if asked["troubles"] is not None:
        told = tuple(_told(plan, i, each) for i, each in enumerate(asked["troubles"]))
    kept: Rehearsals = current_app.extensions["gambrel-rehearsals"]
    return plan, kept.of(forecaster, tag_of(head, draft), night, asked["seed"], told)


def _told(plan: Plan, i: int, asked: dict[str, Any]) -> str:
    """A trouble as the world reads it."""
    kind, subject = asked["kind"], asked["subject"]
    if subject not in subjects_of(plan, kind):
        raise ProblemError(
            422, "This cannot go wrong in this plan", "Nothing was rehearsed.",
            errors=[field_error(
                f"troubles[{i}].subject", subject, f"is not something that can have: {kind}"
            )],
        )  # fmt: skip
    return f"{kind}:{subject}:{asked['after_h']}:{asked['hours']}"


@blueprint.post("/rehearsals")
@blueprint.input(schemas.RehearsalRequestSchema)
@blueprint.output(schemas.RehearsalSchema)
def rehearse(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Rehearse a night of a plan or a draft in the stand-in's true world. Nothing is written.

    The same question has the same answer; another `seed` is another world.
    """
    plan, played = _rehearsed(plan_id, json_data)
    summary = summarize(played.night, played.runs, played.until)
    return {
        "words": headline(summary),
        "world": [_world(trouble) for trouble in played.troubles],
        **bodies.night_body(plan, summary, played.runs),
    }


def _world(trouble: Trouble) -> dict[str, Any]:
    # What befalls a machine does not name it.
    said = f"{trouble.subject}: " if trouble.kind in OF_MACHINES else ""
    return {
        "words": said + trouble.words,
        "begins": format_instant(trouble.begins),
        "ends": format_instant(trouble.ends),
    }


@blueprint.post("/rehearsals/run")
@blueprint.input(schemas.RehearsedRunRequestSchema)
@blueprint.output(schemas.LedgerRunSchema)
def show_rehearsed_run(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """A run of a rehearsal with its machines, predicted beside what came, and its events."""
    plan, played = _rehearsed(plan_id, json_data)
    job, occurrence = json_data["job"], json_data["occurrence"]
    run = next(
        (r for r in played.runs if r.job == job and format_instant(r.occurrence) == occurrence),
        None,
    )
    if run is None:
        raise ProblemError(
            404, "There is no such run", f"{job} does not run at {occurrence} in this rehearsal."
        )
    events = [e for e in played.events if (e.job, e.occurrence) == (run.job, run.occurrence)]
    return bodies.run_body(plan, run, [_event(e) for e in events])


def _event(event: Event) -> tuple[float, str, str | None, dict[str, Any], str | None]:
    return event.at, event.what, event.machine, event_to_dict(event), None
