"""Signing in by a one-time link, and who is signed in."""

from __future__ import annotations

from typing import Any

from apiflask import APIBlueprint
from flask import current_app, g, request, session
from flask_limiter import Limiter
from flask_limiter.util import get_remote_address
from flask_wtf.csrf import generate_csrf

from gambrel.api.problems import ProblemError
from gambrel.api.schemas import SessionSchema, SignInSchema
from gambrel.store import sign_in as store
from gambrel.work.discovery import Discoveries
from gambrel.work.planning import Planning

blueprint = APIBlueprint("session", __name__, tag="Session", url_prefix="/api/v1/session")

limiter = Limiter(get_remote_address, storage_uri="memory://", headers_enabled=True)
WRONG_LINKS = "10 per minute"
"""How many links that do not work an address may try."""

OPEN_ENDPOINTS = {"session.show", "session.sign_in", "openapi.spec", "openapi.docs"}
"""What may be asked for by somebody who is not signed in."""


WITH_OWN_TOKENS = "runner"
"""The part of the API that asks for a runner's token instead."""


def planning() -> Planning:
    """The shared forecasters and the database of the running application."""
    found: Planning = current_app.extensions["gambrel"]
    return found


def discoveries() -> Discoveries:
    """What reads sources for the running application."""
    found: Discoveries = current_app.extensions["gambrel-discoveries"]
    return found


def _signed_in() -> str | None:
    """The name of the person who is signed in, None for nobody; asked once in a request."""
    if "signed_in" not in g:
        key = session.get("key")
        g.signed_in = None
        if isinstance(key, str):
            with planning().sessions() as db:
                g.signed_in = store.signed_in(db, key)
    name: str | None = g.signed_in
    return name


def actor() -> str:
    """The name of the person who is signed in."""
    return str(_signed_in())


def require_sign_in() -> None:
    """Turn away requests for anything of the API from people who are not signed in."""
    if not request.path.startswith("/api/"):
        return
    if request.blueprint == WITH_OWN_TOKENS:
        return
    if request.endpoint in OPEN_ENDPOINTS or _signed_in() is not None:
        return
    raise ProblemError(
        401,
        "Sign in first",
        "Open the one-time link that the command printed; `./gambrel link` prints a new one.",
    )


def _state(name: str | None) -> dict[str, Any]:
    return {"signed_in": name is not None, "name": name, "csrf_token": generate_csrf()}


@blueprint.get("")
@blueprint.output(SessionSchema)
def show() -> dict[str, Any]:
    """Who is signed in, and the token that unsafe requests must carry."""
    return _state(_signed_in())


@blueprint.post("")
@blueprint.input(SignInSchema)
@blueprint.output(SessionSchema)
@limiter.limit(WRONG_LINKS, deduct_when=lambda response: response.status_code == 403)
def sign_in(json_data: dict[str, Any]) -> dict[str, Any]:
    """Sign in with the token of a one-time link."""

    def use(db: Any) -> tuple[str, str] | None:
        name = store.use_link(db, json_data["token"])
        return None if name is None else (name, store.begin_session(db, name))

    found = planning().write(use)
    if found is None:
        raise ProblemError(
            403,
            "This link does not work any more",
            "It was used, or it is too old. `./gambrel link` prints a new one.",
        )
    name, key = found
    session.clear()
    session["key"] = key
    session.permanent = True
    return _state(name)


@blueprint.delete("")
@blueprint.output(SessionSchema)
def sign_out() -> dict[str, Any]:
    """Sign out, in every browser that carries this session."""
    key = session.get("key")
    if isinstance(key, str):
        planning().write(lambda db: store.end_session(db, key))
    session.clear()
    return _state(None)
