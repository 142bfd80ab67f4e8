"""Drafts: operations saved on top of the adopted plan."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from apiflask import APIBlueprint
from flask import Response, jsonify
from sqlalchemy.orm import Session

from gambrel.api import serialize
from gambrel.api.people import rules
from gambrel.api.plans import read_operations
from gambrel.api.problems import ProblemError, answer, field_error
from gambrel.api.revisions import needs_revision, seen_revision
from gambrel.api.rights import ADMINISTER
from gambrel.api.schemas import (
    AdoptSchema,
    DraftSchema,
    NewDraftSchema,
    OperationsSchema,
    PlanListItemSchema,
    RenameSchema,
    SharingSchema,
)
from gambrel.api.sessions import actor, is_person, may, planning
from gambrel.core.edits.edit_conflicts import conflicts
from gambrel.core.edits.operations import Operation
from gambrel.core.questions.job_problems import plan_problems
from gambrel.store import plans as store

blueprint = APIBlueprint("drafts", __name__, tag="Drafts", url_prefix="/api/v1")


def _answer(draft: store.Draft, status: int = 200) -> Response:
    response = jsonify(serialize.draft(draft))
    response.status_code = status
    response.set_etag(f"{draft.revision}")
    return response


def _met(error: store.Changed, operations: Sequence[Operation]) -> dict[str, Any]:
    """What others did since the caller looked, and where that meets what the caller did."""
    seen = seen_revision()
    theirs = [change for change in error.now.changes if change.revision > seen]
    undone = [change for change in error.now.undone if change.revision > seen]
    met = conflicts(operations, [change.operation for change in theirs])
    return {
        "theirs": [
            *({"words": c.words, "actor": c.actor, "undone": False} for c in theirs),
            *({"words": c.words, "actor": c.actor, "undone": True} for c in undone),
        ],
        "conflicts": [
            {
                "index": c.index,
                "key": c.key,
                "list": c.place[0],
                "id": c.place[1],
                "field": c.place[2],
                "theirs": [theirs[i].words for i in c.theirs],
            }
            for c in met
        ],
    }


def _changed(error: store.Changed, operations: Sequence[Operation] = ()) -> Response:
    title, detail = (
        "Somebody changed this draft in the meantime",
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
            now=serialize.draft(error.now),
            **_met(error, operations),
        )
    )


def _write(
    change: Callable[[Any, int], store.Draft], operations: Sequence[Operation] = ()
) -> Response:
    """Run a change of a draft as one transaction and answer with the draft as it is then."""
    revision = seen_revision()
    try:
        draft = planning().write(lambda db: change(db, revision))
    except store.Changed as error:
        return _changed(error, operations)
    return _answer(draft)


@blueprint.post("/plans/<int:plan_id>/drafts")
@blueprint.input(NewDraftSchema)
@blueprint.output(DraftSchema, status_code=201)
def start(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Start a draft of the adopted plan."""
    draft = planning().write(
        lambda db: store.start_draft(db, plan_id, json_data["name"], actor=actor())
    )
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
@needs_revision
def add(draft_id: int, json_data: dict[str, Any]) -> Any:
    """Save operations at the end of a draft."""
    operations = read_operations(json_data["operations"])
    acts = json_data["acts"]
    if acts is not None and sum(acts) != len(operations):
        raise ProblemError(
            422, "The acts do not fit the operations", "Nothing was saved.",
            errors=[field_error("acts", acts, f"do not add up to {len(operations)} operations")],
        )  # fmt: skip
    return _write(
        lambda db, revision: store.add_operations(
            db, draft_id, revision, operations, actor=actor(), acts=acts
        ),
        operations,
    )


@blueprint.post("/drafts/<int:draft_id>/undo")
@blueprint.output(DraftSchema)
@needs_revision
def undo(draft_id: int) -> Any:
    """Take the operations of the last act back."""
    return _write(lambda db, revision: store.undo(db, draft_id, revision, actor=actor()))


@blueprint.post("/drafts/<int:draft_id>/redo")
@blueprint.output(DraftSchema)
@needs_revision
def redo(draft_id: int) -> Any:
    """Bring the operations back that were last undone."""
    return _write(lambda db, revision: store.redo(db, draft_id, revision, actor=actor()))


@blueprint.patch("/drafts/<int:draft_id>")
@blueprint.input(RenameSchema)
@blueprint.output(DraftSchema)
@needs_revision
def rename(draft_id: int, json_data: dict[str, Any]) -> Any:
    """Give a draft another name."""
    name = json_data["name"]
    return _write(lambda db, revision: store.rename(db, draft_id, revision, name, actor=actor()))


@blueprint.put("/drafts/<int:draft_id>/sharing")
@blueprint.input(SharingSchema)
@blueprint.output(DraftSchema)
def share(draft_id: int, json_data: dict[str, Any]) -> Any:
    """Let all who may plan change one's own draft, or only oneself. Administrators: any draft."""
    made = planning().write(
        lambda db: store.share(
            db, draft_id, shared=json_data["shared"], actor=actor(), despite_owner=may(ADMINISTER)
        )
    )
    return _answer(made)


@blueprint.post("/drafts/<int:draft_id>/copies")
@blueprint.input(NewDraftSchema)
@blueprint.output(DraftSchema, status_code=201)
def duplicate(draft_id: int, json_data: dict[str, Any]) -> Any:
    """Another draft with the same changes, to go on from in another direction."""
    draft = planning().write(
        lambda db: store.duplicate(db, draft_id, json_data["name"], actor=actor())
    )
    return _answer(draft, 201)


@blueprint.delete("/drafts/<int:draft_id>")
@blueprint.output({}, status_code=204)
@needs_revision
def discard(draft_id: int) -> Any:
    """Close a draft without adopting it."""
    revision = seen_revision()
    try:
        planning().write(lambda db: store.discard(db, draft_id, revision, actor=actor()))
    except store.Changed as error:
        return _changed(error)
    return "", 204


@blueprint.post("/drafts/<int:draft_id>/carry-over")
@blueprint.output(DraftSchema)
@needs_revision
def carry_over(draft_id: int) -> Any:
    """Have a draft stand on the plan that is adopted now."""
    return _write(lambda db, revision: store.carry_over(db, draft_id, revision, actor=actor()))


def _check_adoptable(draft_id: int, asked: dict[str, Any]) -> None:
    """Refuse a plan of which something can never work, unless a note says that it is meant."""
    shared = planning()
    with shared.sessions() as db:
        draft = store.draft(db, draft_id)
    forecaster = shared.draft(draft)
    found = plan_problems(forecaster.plan, forecaster.origin.start)
    stops = [problem for problem in found if problem.weight == "stops"]
    if not stops or (asked["despite"] and asked["note"].strip()):
        return
    raise ProblemError(
        422,
        "Part of this plan can never work",
        "Nothing was adopted; the draft is kept. Fix it, or adopt it anyway with a note.",
        errors=[
            field_error(f"jobs.{problem.job}.{problem.clause}", problem.job, problem.words)
            for problem in stops
        ],
    )


@blueprint.post("/drafts/<int:draft_id>/adopt")
@blueprint.input(AdoptSchema)
@blueprint.output(PlanListItemSchema)
@needs_revision
def adopt(draft_id: int, json_data: dict[str, Any]) -> Any:
    """Make the draft the adopted plan."""
    revision = seen_revision()
    _check_adoptable(draft_id, json_data)

    def write(db: Session) -> store.PlanHead:
        second = rules(db)["second_person"]
        if second and not is_person():
            raise store.SecondPersonNeeded(actor())
        return store.adopt(
            db, draft_id, revision, actor=actor(), note=json_data["note"], second_person=second
        )

    try:
        head = planning().write(write)
    except store.Changed as error:
        return _changed(error)
    except store.SecondPersonNeeded:
        raise ProblemError(
            409,
            "Somebody else has to adopt this",
            "A second person is asked for here: who changed something in a draft does not adopt "
            "it. Have somebody who may plan look at it. The draft is as it was.",
        ) from None
    return {"id": head.id, "name": head.name, "adopted_version": head.adopted_version}
