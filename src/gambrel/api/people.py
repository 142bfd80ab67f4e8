"""Who may sign in, with which role; tokens of programs; the identity provider."""

from __future__ import annotations

from typing import Any

from apiflask import APIBlueprint
from flask import current_app, url_for
from sqlalchemy.orm import Session

from gambrel.api import people_schemas as schemas
from gambrel.api.problems import ProblemError, field_error
from gambrel.api.serialize import utc
from gambrel.api.sessions import PROVIDER, actor, base_address, planning
from gambrel.store import people as store
from gambrel.store import tokens
from gambrel.store.audit import audit
from gambrel.store.plans import NotFound
from gambrel.store.sealing import Sealer
from gambrel.store.settings import set_setting, setting
from gambrel.store.sign_in import INVITED_FOR, new_link

blueprint = APIBlueprint("people", __name__, tag="People", url_prefix="/api/v1")


def _person(person: store.Person) -> dict[str, Any]:
    return {
        "id": person.id,
        "name": person.name,
        "role": person.role,
        "has_password": person.has_password,
        "provided": person.provided,
        "created_at": utc(person.created_at),
        "barred_at": utc(person.barred_at),
        "seen_at": utc(person.seen_at),
    }


@blueprint.get("/people")
@blueprint.output(schemas.PeopleSchema)
def list_people() -> dict[str, Any]:
    """Everybody who may sign in, or might."""
    with planning().sessions() as db:
        return {"people": [_person(person) for person in store.people(db)]}


def _invited(person: store.Person, token: str) -> dict[str, Any]:
    # Behind the # it never reaches a log.
    return {
        "person": _person(person),
        "link": f"{base_address()}/sign-in#{token}",
        "valid_days": INVITED_FOR.days,
    }


@blueprint.post("/people")
@blueprint.input(schemas.NewPersonSchema)
@blueprint.output(schemas.InvitationSchema, status_code=201)
def add_person(json_data: dict[str, Any]) -> dict[str, Any]:
    """Add a person; the answer has a one-time link with which they sign in for the first time."""

    def add(db: Session) -> tuple[store.Person, str]:
        person = store.add_person(db, json_data["name"], json_data["role"], actor=actor())
        return person, new_link(db, person.name, person.role, INVITED_FOR)

    return _invited(*planning().write(add))


@blueprint.patch("/people/<int:person_id>")
@blueprint.input(schemas.PersonChangeSchema)
@blueprint.output(schemas.PersonSchema)
def change_person(person_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Give a person another role, bar them from signing in, or let them in again."""
    return _person(
        planning().write(
            lambda db: store.change_person(
                db, person_id, role=json_data.get("role"), barred=json_data.get("barred"),
                actor=actor(),
            )
        )
    )  # fmt: skip


def _found(db: Session, person_id: int) -> store.Person:
    found = next((person for person in store.people(db) if person.id == person_id), None)
    if found is None:
        raise NotFound(f"there is no person {person_id}")
    return found


@blueprint.post("/people/<int:person_id>/invitations")
@blueprint.output(schemas.InvitationSchema, status_code=201)
def invite(person_id: int) -> dict[str, Any]:
    """Make a new one-time link for a person."""

    def make(db: Session) -> tuple[store.Person, str]:
        person = _found(db, person_id)
        if person.barred_at is not None:
            raise store.PersonError("barred", True, "comes first: let them in again")
        audit(db, actor(), "invite", f"person {person_id}", name=person.name)
        return person, new_link(db, person.name, person.role, INVITED_FOR)

    return _invited(*planning().write(make))


@blueprint.delete("/people/<int:person_id>/password")
@blueprint.output(schemas.PersonSchema)
def forget_password(person_id: int) -> dict[str, Any]:
    """Have a person's password work no more; all their sessions end."""

    def forget(db: Session) -> store.Person:
        store.forget_password(db, person_id, actor=actor())
        return _found(db, person_id)

    return _person(planning().write(forget))


@blueprint.delete("/people/<int:person_id>/sessions")
@blueprint.output(schemas.PersonSchema)
def end_sessions(person_id: int) -> dict[str, Any]:
    """Sign a person out everywhere."""

    def end(db: Session) -> store.Person:
        person = _found(db, person_id)
        store.end_all_sessions(db, person_id)
        audit(db, actor(), "end sessions", f"person {person_id}", name=person.name)
        return _found(db, person_id)

    return _person(planning().write(end))


# --- tokens ---------------------------------------------------------------------------------------


def _token(token: tokens.Token) -> dict[str, Any]:
    return {
        "id": token.id,
        "name": token.name,
        "role": token.role,
        "made_by": token.made_by,
        "created_at": utc(token.created_at),
        "expires_at": utc(token.expires_at),
        "used_at": utc(token.used_at),
    }


@blueprint.get("/tokens")
@blueprint.output(schemas.TokensSchema)
def list_tokens() -> dict[str, Any]:
    """The tokens of programs, those that have expired too."""
    with planning().sessions() as db:
        return {"tokens": [_token(token) for token in tokens.tokens(db)]}


@blueprint.post("/tokens")
@blueprint.input(schemas.NewTokenSchema)
@blueprint.output(schemas.MadeTokenSchema, status_code=201)
def make_token(json_data: dict[str, Any]) -> dict[str, Any]:
    """Make a token. A program sends it as `Authorization: Bearer ...`, and needs no cookie."""
    made, secret = planning().write(
        lambda db: tokens.new_token(
            db, json_data["name"], json_data["role"], json_data["days"], actor=actor()
        )
    )
    return {"token": _token(made), "secret": secret}


@blueprint.delete("/tokens/<int:token_id>")
@blueprint.output({}, status_code=204)
def end_token(token_id: int) -> str:
    """Have a token work no more."""
    planning().write(lambda db: tokens.end_token(db, token_id, actor=actor()))
    return ""


# --- rules of the house ---------------------------------------------------------------------------

RULES = "rules"


def rules(db: Session) -> dict[str, Any]:
    """What is asked of everybody here."""
    return {"second_person": False, "second_person_for_orders": False, **setting(db, RULES)}


@blueprint.get("/rules")
@blueprint.output(schemas.RulesSchema)
def show_rules() -> dict[str, Any]:
    """What is asked of everybody here."""
    with planning().sessions() as db:
        return rules(db)


@blueprint.put("/rules")
@blueprint.input(schemas.RulesSchema)
@blueprint.output(schemas.RulesSchema)
def set_rules(json_data: dict[str, Any]) -> dict[str, Any]:
    """Set what is asked of everybody here."""

    def write(db: Session) -> dict[str, Any]:
        set_setting(db, RULES, json_data, actor=actor(), told=json_data)
        return rules(db)

    return planning().write(write)


# --- the identity provider ------------------------------------------------------------------------


def provider_settings() -> dict[str, Any]:
    """What is set of the identity provider, its sealed secret too."""
    with planning().sessions() as db:
        value = setting(db, PROVIDER)
    usual = {"label": "", "issuer": "", "client_id": "", "groups_claim": "groups", "roles": {}}
    return {**usual, **value}


def redirect_uri() -> str:
    """Where the provider sends people back to."""
    return base_address() + url_for("provider.from_provider")


def _provider() -> dict[str, Any]:
    return {**provider_settings(), "redirect_uri": redirect_uri()}


@blueprint.get("/identity-provider")
@blueprint.output(schemas.ProviderShownSchema)
def show_provider() -> dict[str, Any]:
    """The identity provider that is set."""
    return _provider()


@blueprint.put("/identity-provider")
@blueprint.input(schemas.ProviderChangeSchema)
@blueprint.output(schemas.ProviderShownSchema)
def set_provider(json_data: dict[str, Any]) -> dict[str, Any]:
    """Set the identity provider; its secret is kept sealed."""
    secret = json_data.pop("client_secret")
    sealed = provider_settings().get("sealed_secret", "")
    if secret is not None:
        sealer: Sealer = current_app.extensions["gambrel-sealer"]
        sealed = sealer.seal(secret) if secret else ""
    if json_data["issuer"] and not json_data["client_id"]:
        raise ProblemError(
            422, "The provider has to know Gambrel", "Nothing was changed.",
            errors=[field_error("client_id", "", "is what the provider calls Gambrel: fill it in")],
        )  # fmt: skip
    value = {**json_data, "sealed_secret": sealed}
    planning().write(lambda db: set_setting(db, PROVIDER, value, actor=actor(), told=json_data))
    return _provider()
