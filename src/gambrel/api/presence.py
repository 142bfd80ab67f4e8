"""Who is at a plan at this moment: told and asked by each browser every few seconds."""

from __future__ import annotations

from typing import Any

from apiflask import APIBlueprint, Schema
from apiflask.fields import Integer, List, Nested, String
from apiflask.validators import Length
from flask import current_app

from gambrel.api.schemas import nullable, required
from gambrel.api.sessions import actor, planning
from gambrel.store.plans import plan_head
from gambrel.work.presence import Presence, Present

blueprint = APIBlueprint("presence", __name__, tag="People", url_prefix="/api/v1")


class PresentSchema(Schema):
    """Where somebody is. `editing`: what is changed and not saved, in words; "" for nothing."""

    view = required(String, validate=Length(max=40))
    draft = nullable(Integer)
    editing = required(String, validate=Length(max=200))


class HereSchema(PresentSchema):
    """`window`: what tells this window of the browser from others."""

    window = required(String, validate=Length(min=1, max=40))


class OtherSchema(PresentSchema):
    name = required(String)


class OthersSchema(Schema):
    others = required(List, Nested(OtherSchema))


class LeavingSchema(Schema):
    window = required(String, validate=Length(min=1, max=40))


def _presence() -> Presence:
    found: Presence = current_app.extensions["gambrel-presence"]
    return found


def _key(window: str) -> str:
    # Nobody speaks for somebody else's window.
    return f"{actor()} {window}"


@blueprint.post("/plans/<int:plan_id>/presence")
@blueprint.input(HereSchema)
@blueprint.output(OthersSchema)
def tell(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Say where one is, and learn who else is at the plan. Forgotten after ten seconds."""
    with planning().sessions() as db:
        plan_head(db, plan_id)
    window = json_data.pop("window")
    others = _presence().note(plan_id, _key(window), Present(actor(), **json_data))
    return {
        "others": [
            {"name": o.name, "view": o.view, "draft": o.draft, "editing": o.editing} for o in others
        ]
    }


@blueprint.delete("/plans/<int:plan_id>/presence")
@blueprint.input(LeavingSchema, location="query")
@blueprint.output({}, status_code=204)
def leave(plan_id: int, query_data: dict[str, Any]) -> str:
    """Say that a window was closed."""
    _presence().leave(plan_id, _key(query_data["window"]))
    return ""
