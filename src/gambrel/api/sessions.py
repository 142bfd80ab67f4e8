"""Who is signed in, by which right a request is taken, and signing in by a link or a password."""

from __future__ import annotations

from typing import Any

from apiflask import APIBlueprint, APIFlask
from flask import current_app, request, session
from flask_limiter import Limiter
from flask_limiter.util import get_remote_address
from flask_login import LoginManager, UserMixin, current_user, login_user, logout_user
from flask_wtf.csrf import generate_csrf
from sqlalchemy.orm import Session

from gambrel.api.problems import ProblemError
from gambrel.api.rights import ADMINISTER, OPEN, RIGHTS, WITH_OWN_TOKENS
from gambrel.api.schemas import (
    OwnSessionSchema,
    PasswordChangeSchema,
    PasswordSignInSchema,
    SessionSchema,
    SignInSchema,
)
from gambrel.api.serialize import utc
from gambrel.store import people
from gambrel.store import sign_in as store
from gambrel.store.audit import acting_from
from gambrel.store.settings import setting
from gambrel.store.tokens import BEGINS_WITH, note_used, token_of_secret
from gambrel.work.discovery import Discoveries
from gambrel.work.planning import Planning

blueprint = APIBlueprint("session", __name__, tag="Session", url_prefix="/api/v1/session")


def _address_and_name() -> str:
    """Whoever guesses shuts out themselves: their address, for the name that they try."""
    body = request.get_json(silent=True)
    name = body.get("name") if isinstance(body, dict) else None
    return f"{get_remote_address()} {str(name)[:100].strip().lower()}"


limiter = Limiter(get_remote_address, storage_uri="memory://", headers_enabled=True)
WRONG_LINKS = "10 per minute"
"""How many links that do not work an address may try."""
WRONG_PASSWORDS = "5 per 5 minutes;20 per day"
"""How many wrong passwords an address may try for one name."""
WRONG_PASSWORDS_OF_ALL = "30 per 5 minutes"
"""How many an address may try for all names."""

PROVIDER = "identity provider"
"""The settings of the identity provider."""


class Visitor(UserMixin):  # type: ignore[misc]
    """Who asks: a person in a session, or a program with a token."""

    def __init__(self, name: str, role: str, person_id: int | None, key: str = "") -> None:
        self.name, self.role, self.person_id, self.key = name, role, person_id, key

    def get_id(self) -> str:
        return self.key

    def may(self, right: str) -> bool:
        """Whether their role has a right."""
        return people.ROLES.index(self.role) >= people.ROLES.index(right)


def planning() -> Planning:
    """The shared forecasters and the database of the running application."""
    found: Planning = current_app.extensions["gambrel"]
    return found


def discoveries() -> Discoveries:
    """What reads sources for the running application."""
    found: Discoveries = current_app.extensions["gambrel-discoveries"]
    return found


def register(app: APIFlask) -> None:
    """Have an application know who asks, and refuse what they may not."""
    manager = LoginManager(app)
    # Sessions are keys in the database; nothing of the browser is mixed into them.
    manager.session_protection = None

    @manager.user_loader  # type: ignore[untyped-decorator,unused-ignore]
    def by_key(key: str) -> Visitor | None:
        if sent_token() is not None:
            return None
        with planning().sessions() as db:
            found = store.signed_in(db, key)
        if found is None:
            return None
        if store.is_to_note(found.seen_at):
            planning().write(lambda db: store.note_seen(db, found.key_hash))
        return Visitor(found.name, found.role, found.person_id, key)

    @manager.request_loader  # type: ignore[untyped-decorator,unused-ignore]
    def by_token(_request: Any) -> Visitor | None:
        secret = sent_token()
        if secret is None:
            return None
        with planning().sessions() as db:
            found = token_of_secret(db, secret)
        if found is None:
            return None
        if store.is_to_note(found.used_at):
            planning().write(lambda db: note_used(db, found.id))
        return Visitor(f"token {found.name}", found.role, None)

    app.before_request(_note_address)
    app.before_request(_require_right)


def sent_token() -> str | None:
    """The API token that a request carries; whoever sends one is nobody else."""
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    token = token.strip()
    return token if scheme.lower() == "bearer" and token.startswith(BEGINS_WITH) else None


def _visitor() -> Visitor | None:
    found = current_user._get_current_object()
    return found if isinstance(found, Visitor) else None


def actor() -> str:
    """The name of who asks."""
    found = _visitor()
    return "" if found is None else found.name


def is_person() -> bool:
    """Whether a person asks, and not a program with a token."""
    found = _visitor()
    return found is not None and found.person_id is not None


def may(right: str) -> bool:
    """Whether who asks has a right."""
    found = _visitor()
    return found is not None and found.may(right)


def _note_address() -> None:
    acting_from.set(get_remote_address() or "")


def _require_right() -> None:
    """Turn away requests for anything of the API that whoever asks may not ask for."""
    if not request.path.startswith("/api/"):
        return
    endpoint = request.endpoint
    # Only people who are signed in learn which addresses do not exist.
    right = "read" if endpoint is None or endpoint == "page" else RIGHTS.get(endpoint)
    if request.blueprint == WITH_OWN_TOKENS or right == OPEN:
        return
    require(right)


def require(right: str | None) -> None:
    """Turn away who may not. `right`: None is a right that nobody has. Raises ProblemError."""
    found = _visitor()
    if found is None:
        raise ProblemError(
            401,
            "Sign in first",
            "Open the page to sign in. `./gambrel link` prints a one-time link on the machine "
            "where Gambrel runs. Programs send a token.",
        )
    if right is None or not found.may(right):
        raise ProblemError(
            403,
            "You have not the right to do this",
            f"It takes the right to {right or ADMINISTER}; yours is to {found.role}. Somebody who "
            "administers Gambrel can change that. Nothing was changed.",
            right=right,
        )


def _state() -> dict[str, Any]:
    found = _visitor()
    with planning().sessions() as db:
        provider = setting(db, PROVIDER)
        person = None if found is None else people.person_by_name(db, found.name)
    return {
        "signed_in": found is not None,
        "name": None if found is None else found.name,
        "role": None if found is None else found.role,
        "has_password": person is not None and person.has_password,
        "provider": (provider.get("label") or None) if provider.get("issuer") else None,
        "csrf_token": generate_csrf(),
    }


def enter(key: str) -> dict[str, Any]:
    """Have the browser carry the key of a session that has begun."""
    session.clear()
    with planning().sessions() as db:
        found = store.signed_in(db, key)
    assert found is not None
    login_user(Visitor(found.name, found.role, found.person_id, key))
    session.permanent = True
    return _state()


def base_address() -> str:
    """The address at which people reach this application."""
    return current_app.config["ADDRESS"] or request.host_url.rstrip("/")


def begun(db: Session, person_id: int) -> str:
    """A session of a person, begun from where this request comes."""
    agent = request.user_agent.string
    return store.begin_session(db, person_id, get_remote_address() or "", agent)


@blueprint.get("")
@blueprint.output(SessionSchema)
def show() -> dict[str, Any]:
    """Who is signed in, with which role, and the token that unsafe requests must carry."""
    return _state()


@blueprint.post("")
@blueprint.input(SignInSchema)
@blueprint.output(SessionSchema)
@limiter.limit(WRONG_LINKS, deduct_when=lambda response: response.status_code == 403)
def sign_in(json_data: dict[str, Any]) -> dict[str, Any]:
    """Sign in with the token of a one-time link."""

    def use(db: Session) -> str | None:
        person_id = store.use_link(db, json_data["token"])
        return None if person_id is None else begun(db, person_id)

    key = planning().write(use)
    if key is None:
        raise ProblemError(
            403,
            "This link does not work any more",
            "It was used, or it is too old. `./gambrel link` prints a new one; somebody who "
            "administers Gambrel can make one, too.",
        )
    return enter(key)


def _wrong(response: Any) -> bool:
    return bool(response.status_code == 403)


@blueprint.post("/password")
@blueprint.input(PasswordSignInSchema)
@blueprint.output(SessionSchema)
@limiter.limit(WRONG_PASSWORDS, key_func=_address_and_name, deduct_when=_wrong)
@limiter.limit(WRONG_PASSWORDS_OF_ALL, deduct_when=_wrong)
def sign_in_with_password(json_data: dict[str, Any]) -> dict[str, Any]:
    """Sign in with a name and a password."""

    def check(db: Session) -> str | None:
        found = people.person_with_password(db, json_data["name"], json_data["password"])
        return None if found is None else begun(db, found.id)

    key = planning().write(check)
    if key is None:
        raise ProblemError(
            403,
            "This name and this password do not belong together",
            "Look at both and try again. Who has forgotten their password asks somebody who "
            "administers Gambrel for a new link.",
        )
    return enter(key)


@blueprint.delete("")
@blueprint.output(SessionSchema)
def sign_out() -> dict[str, Any]:
    """Sign out, in every browser that carries this session."""
    found = _visitor()
    if found is not None and found.key:
        planning().write(lambda db: store.end_session(db, found.key))
    logout_user()
    session.clear()
    return _state()


# --- one's own sessions and password --------------------------------------------------------------


def _person() -> Visitor:
    """Who asks, where that is a person. Raises ProblemError for a program."""
    found = _visitor()
    if found is None or found.person_id is None:
        raise ProblemError(403, "A token has no sessions", "Sign in as a person for this.")
    return found


@blueprint.get("/all")
@blueprint.output(OwnSessionSchema(many=True))
def list_sessions() -> Any:
    """Where whoever asks is signed in, the newest first."""
    found = _person()
    with planning().sessions() as db:
        mine = store.sessions_of(db, found.person_id or 0)
    here = store.hashed(found.key)
    return [
        {
            "id": each.id,
            "began_at": utc(each.began_at),
            "seen_at": utc(each.seen_at),
            "expires_at": utc(each.expires_at),
            "address": each.address,
            "agent": each.agent,
            "this": here.startswith(each.id),
        }
        for each in mine
    ]


@blueprint.delete("/all/<session_id>")
@blueprint.output({}, status_code=204)
def end_one(session_id: str) -> str:
    """End one of one's own sessions."""
    found = _person()
    planning().write(
        lambda db: store.end_session_of(db, found.person_id or 0, session_id, actor=found.name)
    )
    return ""


@blueprint.put("/password")
@blueprint.input(PasswordChangeSchema)
@blueprint.output(SessionSchema)
@limiter.limit(WRONG_PASSWORDS_OF_ALL, deduct_when=lambda response: response.status_code == 422)
def set_password(json_data: dict[str, Any]) -> dict[str, Any]:
    """Set one's own password; all other sessions end."""
    found = _person()
    planning().write(
        lambda db: people.set_password(
            db,
            found.person_id or 0,
            json_data["password"],
            old=json_data["old"],
            keep=store.hashed(found.key),
            actor=found.name,
        )
    )
    return _state()
