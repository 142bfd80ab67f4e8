"""Drafts: operations saved on top of the adopted plan."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from apiflask import APIBlueprint
from flask import Response, jsonify

from gambrel.api import present
from gambrel.api.plans import read_operations
from gambrel.api.problems import ProblemError, answer
from gambrel.api.revisions import seen_revision
from gambrel.api.schemas import (
    AdoptSchema,
    DraftSchema,
    NewDraftSchema,
    OperationsSchema,
    PlanListItemSchema,
)
from gambrel.api.sessions import actor, planning
from gambrel.store import plans as store

blueprint = APIBlueprint("drafts", __name__, tag="Drafts", url_prefix="/api/v1")


def _answer(draft: store.Draft, status: int = 200) -> Response:
    response = jsonify(present.draft(draft))
    response.status_code = status
    response.set_etag(f"{draft.revision}")
    return response


def _changed(error: store.Changed) -> Response:
    title, detail = (
        "The draft has changed meanwhile",
        "Nothing was saved. The draft as it is now comes with this answer.",
    )
    if error.base_left:
        title, detail = (
            "Another plan was adopted since this draft was started",
            "Nothing was adopted, and the draft is kept.",
        )
    return answer(
        ProblemError(
            412,
            title,
            detail,
            yours=seen_revision(),
            now=present.draft(error.now),
        )
    )


def _write(change: Callable[[Any, int], store.Draft]) -> Response:
    """Run a change of a draft as one transaction and answer with the draft as it is then."""
    revision = seen_revision()
    try:
        with planning().sessions.begin() as db:
            draft = change(db, revision)
    except store.Changed as error:
        return _changed(error)
    return _answer(draft)


@blueprint.post("/plans/<int:plan_id>/drafts")
@blueprint.input(NewDraftSchema)
@blueprint.output(DraftSchema, status_code=201)
def start(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Start a draft of the adopted plan."""
    with planning().sessions.begin() as db:
        draft = store.start_draft(db, plan_id, json_data["name"], actor=actor())
    return _answer(draft, 201)


@blueprint.get("/drafts/<int:draft_id>")
@blueprint.output(DraftSchema)
def show(draft_id: int) -> Any:
    """A draft with its changes in words."""
    with planning().sessions() as db:
        return _answer(store.draft(db, draft_id))


@blueprint.post("/drafts/<int:draft_id>/operations")
@blueprint.input(OperationsSchema)
@blueprint.output(DraftSchema)
def add(draft_id: int, json_data: dict[str, Any]) -> Any:
    """Save operations at the end of a draft."""
    operations = read_operations(json_data["operations"])
    return _write(
        lambda db, revision: store.add_operations(db, draft_id, revision, operations, actor=actor())
    )


@blueprint.post("/drafts/<int:draft_id>/undo")
@blueprint.output(DraftSchema)
def undo(draft_id: int) -> Any:
    """Take the last operation back."""
    return _write(lambda db, revision: store.undo(db, draft_id, revision, actor=actor()))


@blueprint.post("/drafts/<int:draft_id>/redo")
@blueprint.output(DraftSchema)
def redo(draft_id: int) -> Any:
    """Bring the operation back that was last undone."""
    return _write(lambda db, revision: store.redo(db, draft_id, revision, actor=actor()))


@blueprint.post("/drafts/<int:draft_id>/adopt")
@blueprint.input(AdoptSchema)
@blueprint.output(PlanListItemSchema)
def adopt(draft_id: int, json_data: dict[str, Any]) -> Any:
    """Make the draft the adopted plan."""
    revision = seen_revision()
    try:
        with planning().sessions.begin() as db:
            head = store.adopt(db, draft_id, revision, actor=actor(), note=json_data["note"])
    except store.Changed as error:
        return _changed(error)
    return {"id": head.id, "name": head.name, "adopted_version": head.adopted_version}
