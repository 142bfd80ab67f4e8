"""The inbox of differences, standing rules, and what was accepted."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import asdict
from typing import Any
from weakref import WeakKeyDictionary

from apiflask import APIBlueprint
from flask import jsonify
from sqlalchemy.orm import Session

from gambrel.api import estate_schemas as schemas
from gambrel.api.serialize import acceptance_value, instant, utc
from gambrel.api.sessions import actor, planning
from gambrel.core.estate.effect import JobEffect, job_effects
from gambrel.core.plan.objects import Plan
from gambrel.store import acceptances, inbox, standing_rules
from gambrel.store.plans import plan_head
from gambrel.work.forecaster import Forecaster
from gambrel.work.machine_table import (
    Effect,
    effect,
)

blueprint = APIBlueprint("inbox", __name__, tag="Inbox", url_prefix="/api/v1")


# --- the inbox ------------------------------------------------------------------------------------


DIFFERENCES_AT_ONCE = 500
"""The most entries of the inbox that one answer lists in full."""


def effects_value(effects: Iterable[JobEffect], after: Plan) -> list[dict[str, Any]]:
    """Which machines join and leave which jobs in a plan."""
    return [
        {
            "machine": found.machine,
            "job": found.job,
            "joins": found.joins,
            "words": found.words(after),
        }
        for found in effects
    ]


def told_effects(before: Plan, after: Plan) -> list[dict[str, Any]]:
    """Which machines join and leave which jobs from one plan to another."""
    return effects_value(job_effects(before, after), after)


@blueprint.get("/plans/<int:plan_id>/inbox")
@blueprint.input(schemas.InboxQuerySchema, location="query")
@blueprint.output(schemas.InboxSchema)
def show_inbox(plan_id: int, query_data: dict[str, Any]) -> Any:
    """What sources say and the plan has otherwise, each with the jobs that it changes."""
    shared = planning()
    with shared.sessions() as db:
        head = plan_head(db, plan_id)
        entries = inbox.inbox(db, plan_id, query_data["state"])
        rules = standing_rules.standing_rules(db, plan_id)
        dismissed = len(inbox.inbox(db, plan_id, inbox.DISMISSED))
    jobs = _jobs_of_differences(shared.version(head.adopted_version), entries)
    ids_by_kind: dict[str, list[int]] = defaultdict(list)
    for entry in entries:
        ids_by_kind[entry.difference.kind].append(entry.id)
    return jsonify(
        {
            "total": len(entries),
            "ids_by_kind": ids_by_kind,
            "differences": [
                {
                    "id": entry.id,
                    "kind": entry.difference.kind,
                    "subject": {"kind": entry.difference.subject, "id": entry.difference.name},
                    "source": entry.difference.source,
                    "words": entry.difference.words,
                    "found_at": utc(entry.found_at),
                    "jobs": jobs.get(entry.difference.name, []),
                }
                for entry in entries[:DIFFERENCES_AT_ONCE]
            ],
            "rules": rules,
            "dismissed": dismissed,
        }
    )


Jobs = dict[str, list[dict[str, Any]]]
_jobs_known: WeakKeyDictionary[Forecaster, tuple[tuple[int, ...], Jobs]] = WeakKeyDictionary()
"""The last answer for a plan: an inbox is asked for again and again while nothing changes."""


def _jobs_of_differences(shown: Forecaster, entries: Sequence[inbox.InboxEntry]) -> Jobs:
    """What each machine joins and leaves once all differences are taken, by its name."""
    key = tuple(entry.id for entry in entries)
    known = _jobs_known.get(shown)
    if known is None or known[0] != key:
        known = _jobs_known[shown] = (key, _told_jobs(shown.plan, entries))
    return known[1]


def _told_jobs(plan: Plan, entries: Sequence[inbox.InboxEntry]) -> dict[str, list[dict[str, Any]]]:
    try:
        after = inbox.taken(plan, entries, planning().today(plan))
    except ValueError:
        return {}
    found: dict[str, list[dict[str, Any]]] = defaultdict(list)
    for told in told_effects(plan, after):
        found[told["machine"]].append(told)
    return found


@blueprint.post("/plans/<int:plan_id>/inbox/effect")
@blueprint.input(schemas.DifferencesEffectSchema)
@blueprint.output(schemas.EffectSchema)
def inbox_effect(plan_id: int, json_data: dict[str, Any]) -> Any:
    """What taking some differences would do to jobs and to the week that holds a night."""
    shared = planning()
    with shared.sessions() as db:
        head = plan_head(db, plan_id)
        entries = inbox.with_needed(inbox.inbox(db, plan_id), json_data["ids"])
    shown = shared.version(head.adopted_version)
    changed = inbox.taken(shown.plan, entries, shared.today(shown.plan))
    found = effect(shown, changed, json_data["night"])
    return jsonify({"jobs": effects_value(found.jobs, changed), "nights": nights_value(found)})


def nights_value(found: Effect) -> list[dict[str, Any]]:
    """What becomes of the nights that a change touches."""
    return [
        {
            **asdict(night),
            "date": night.date.isoformat(),
            "end_before": instant(night.end_before),
            "end_after": instant(night.end_after),
        }
        for night in found.nights
    ]


@blueprint.post("/plans/<int:plan_id>/inbox/accept")
@blueprint.input(schemas.ChosenDifferencesSchema)
@blueprint.output(schemas.AcceptanceSchema)
def accept_differences(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Take differences into the plan: a new version of it, which can be undone."""
    shared = planning()
    made = shared.write(
        lambda db: acceptances.accept_differences(
            db, plan_id, json_data["ids"], shared.plan, shared.today, actor=actor()
        )
    )
    return jsonify(acceptance_value(made))


@blueprint.post("/plans/<int:plan_id>/inbox/dismiss")
@blueprint.input(schemas.ChosenDifferencesSchema)
@blueprint.output({}, status_code=204)
def dismiss_differences(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Take differences off the inbox; they stay off until the source says something else."""
    planning().write(lambda db: inbox.dismiss(db, plan_id, json_data["ids"], actor=actor()))
    return "", 204


@blueprint.post("/plans/<int:plan_id>/inbox/reopen")
@blueprint.input(schemas.ChosenDifferencesSchema)
@blueprint.output({}, status_code=204)
def reopen_differences(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Put dismissed differences on the inbox again."""
    planning().write(lambda db: inbox.bring_to_inbox(db, plan_id, json_data["ids"], actor=actor()))
    return "", 204


@blueprint.put("/plans/<int:plan_id>/standing-rules")
@blueprint.input(schemas.StandingRuleSchema)
@blueprint.output(schemas.StandingRuleSchema)
def set_standing_rule(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Have a kind of difference accepted or dismissed as soon as it is found, or asked about."""

    def change(db: Session) -> None:
        plan_head(db, plan_id)
        standing_rules.set_standing_rule(
            db, plan_id, json_data["kind"], json_data["action"], actor=actor()
        )

    planning().write(change)
    return jsonify(json_data)


# --- what was accepted ----------------------------------------------------------------------------


@blueprint.get("/plans/<int:plan_id>/acceptances")
@blueprint.output(schemas.AcceptancesSchema)
def list_acceptances(plan_id: int) -> Any:
    """All changes of the estate, newest first."""
    with planning().sessions() as db:
        plan_head(db, plan_id)
        found = acceptances.acceptances(db, plan_id)
    return jsonify({"acceptances": [acceptance_value(each) for each in found]})


@blueprint.post("/acceptances/<int:acceptance_id>/undo")
@blueprint.output(schemas.AcceptanceSchema)
def undo_acceptance(acceptance_id: int) -> Any:
    """Bring back what one change of the estate changed."""
    shared = planning()
    made = shared.write(
        lambda db: acceptances.undo_acceptance(
            db, acceptance_id, shared.plan, shared.today, actor=actor()
        )
    )
    return jsonify(acceptance_value(made))


@blueprint.post("/acceptances/<int:acceptance_id>/bring-back")
@blueprint.output(schemas.AcceptanceSchema)
def bring_back(acceptance_id: int) -> Any:
    """Bring back the whole estate as it was after a change; jobs and points stay."""
    shared = planning()
    made = shared.write(
        lambda db: acceptances.bring_back(
            db, acceptance_id, shared.plan, shared.today, actor=actor()
        )
    )
    return jsonify(acceptance_value(made))
