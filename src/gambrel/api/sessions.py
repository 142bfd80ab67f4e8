"""Signing in by a one-time link, and who is signed in."""

from __future__ import annotations

from typing import Any

from apiflask import APIBlueprint
from flask import current_app, request, session
from flask_wtf.csrf import generate_csrf

from gambrel.api.problems import ProblemError
from gambrel.api.schemas import SessionSchema, SignInSchema
from gambrel.store.sign_in import use_link
from gambrel.work.discovery import Discoveries
from gambrel.work.planning import Planning

blueprint = APIBlueprint("session", __name__, tag="Session", url_prefix="/api/v1/session")

OPEN_ENDPOINTS = {"session.show", "session.sign_in", "openapi.spec", "openapi.docs"}
"""What may be asked for by somebody who is not signed in."""


def planning() -> Planning:
    """The shared forecasters and the database of the running application."""
    found: Planning = current_app.extensions["gambrel"]
    return found


def discoveries() -> Discoveries:
    """What reads sources for the running application."""
    found: Discoveries = current_app.extensions["gambrel-discoveries"]
    return found


def actor() -> str:
    """The name of the person who is signed in."""
    return str(session["name"])


def require_sign_in() -> None:
    """Turn away requests for anything of the API from people who are not signed in."""
    if not request.path.startswith("/api/"):
        return
    if request.endpoint in OPEN_ENDPOINTS or "name" in session:
        return
    raise ProblemError(
        401,
        "Sign in first",
        "Open the one-time link that the command printed; `./gambrel link` prints a new one.",
    )


def _state() -> dict[str, Any]:
    return {
        "signed_in": "name" in session,
        "name": session.get("name"),
        "csrf_token": generate_csrf(),
    }


@blueprint.get("")
@blueprint.output(SessionSchema)
def show() -> dict[str, Any]:
    """Who is signed in, and the token that unsafe requests must carry."""
    return _state()


@blueprint.post("")
@blueprint.input(SignInSchema)
@blueprint.output(SessionSchema)
def sign_in(json_data: dict[str, Any]) -> dict[str, Any]:
    """Sign in with the token of a one-time link."""
    with planning().sessions.begin() as db:
        name = use_link(db, json_data["token"])
    if name is None:
        raise ProblemError(
            403,
            "This link does not work any more",
            "It was used, or it is too old. `./gambrel link` prints a new one.",
        )
    session.clear()
    session["name"] = name
    session.permanent = True
    return _state()


@blueprint.delete("")
@blueprint.output(SessionSchema)
def sign_out() -> dict[str, Any]:
    """Sign out."""
    session.clear()
    return _state()
