"""Mail: the server, to whom a plan's mornings and notices go, a test, and what went out."""

from __future__ import annotations

from typing import Any

from apiflask import APIBlueprint, Schema
from apiflask.fields import Boolean, Dict, Email, Integer, List, Nested, String
from apiflask.validators import Length, Range, Regexp
from flask import current_app

from gambrel.api.problems import ProblemError
from gambrel.api.schemas import Instant, nullable, required
from gambrel.api.serialize import utc
from gambrel.api.sessions import actor, planning
from gambrel.store import mails
from gambrel.store.plans import plan_head
from gambrel.store.settings import set_setting, setting
from gambrel.work.mailing import DEFAULT_REPORT_AT, Mailing, run_settings_name

blueprint = APIBlueprint("mail", __name__, tag="Mail", url_prefix="/api/v1")

MOST_ADDRESSES = 50


class MailServerSchema(Schema):
    """The mail server. An empty `host` turns mail off; a password is never shown."""

    host = required(String, validate=Length(max=255))
    port = required(Integer, validate=Range(1, 65535))
    sender = required(String, validate=Length(max=200))
    user = String(load_default="", validate=Length(max=200))
    starttls = Boolean(load_default=False)


class MailServerChangeSchema(MailServerSchema):
    """`password`: null keeps the one that is set."""

    password = String(load_default=None, allow_none=True, validate=Length(max=500))


class RunSettingsSchema(Schema):
    """When and to whom the morning report goes.

    `addresses` and `phones`: by the names that jobs notify; `phones` are for the night sheet.
    """

    report_at = required(
        String, validate=Regexp(r"^([01]\d|2[0-3]):[0-5]\d$", error="is not a time like 07:30")
    )
    report_to = required(List, Email(), validate=Length(max=MOST_ADDRESSES))
    addresses = required(
        Dict, keys=String(validate=Length(1, 190)), values=Email(), validate=Length(max=200)
    )
    phones = Dict(
        keys=String(validate=Length(1, 190)), values=String(validate=Length(1, 60)),
        validate=Length(max=200), load_default=dict,
    )  # fmt: skip


class TestMailSchema(Schema):
    to = required(Email)


class MailSchema(Schema):
    id = required(Integer)
    to = required(List, String())
    subject = required(String)
    state = required(String)
    tries = required(Integer)
    created_at = required(Instant)
    sent_at = nullable(Instant)
    error = required(String)


class OutboxSchema(Schema):
    mails = required(List, Nested(MailSchema))


def mailing() -> Mailing:
    """What sends mail for the running application."""
    found: Mailing = current_app.extensions["gambrel-mailing"]
    return found


def _server() -> dict[str, Any]:
    with planning().sessions() as db:
        value = setting(db, "mail")
    return {
        "host": value.get("host", ""),
        "port": value.get("port", 25),
        "sender": value.get("sender", ""),
        "user": value.get("user", ""),
        "starttls": value.get("starttls", False),
    }


@blueprint.get("/mail")
@blueprint.output(MailServerSchema)
def show_server() -> dict[str, Any]:
    """The mail server that is set."""
    return _server()


@blueprint.put("/mail")
@blueprint.input(MailServerChangeSchema)
@blueprint.output(MailServerSchema)
def set_server(json_data: dict[str, Any]) -> dict[str, Any]:
    """Set the mail server; the password is kept sealed."""
    if json_data["host"] and "@" not in json_data["sender"]:
        raise ProblemError(
            422, "From whom does mail come?", "Nothing was changed.",
            errors=[{"field": "sender", "value": json_data["sender"], "reason": "is no address"}],
        )  # fmt: skip
    password = json_data.pop("password")
    with planning().sessions() as db:
        before = setting(db, "mail")
    sealed = before.get("sealed_password", "")
    if password is not None:
        sealed = mailing().sealer.seal(password) if password else ""
    value = {**json_data, "sealed_password": sealed}
    planning().write(lambda db: set_setting(db, "mail", value, actor=actor(), told=json_data))
    return _server()


@blueprint.post("/mail/test")
@blueprint.input(TestMailSchema)
@blueprint.output(OutboxSchema, status_code=202)
def test_mail(json_data: dict[str, Any]) -> dict[str, Any]:
    """Send a test mail; the outbox says how it goes."""
    mailing().test(json_data["to"])
    return _outbox()


def _outbox() -> dict[str, Any]:
    with planning().sessions() as db:
        found = mails.recent_mails(db)
    return {
        "mails": [
            {
                "id": mail.id, "to": list(mail.to), "subject": mail.subject, "state": mail.state,
                "tries": mail.tries, "created_at": utc(mail.created_at),
                "sent_at": utc(mail.sent_at), "error": mail.error,
            }
            for mail in found
        ]
    }  # fmt: skip


@blueprint.get("/mail/outbox")
@blueprint.output(OutboxSchema)
def show_outbox() -> dict[str, Any]:
    """The newest mails, newest first, and how they went."""
    return _outbox()


def _run_settings(plan_id: int) -> dict[str, Any]:
    with planning().sessions() as db:
        plan_head(db, plan_id)
        value = setting(db, run_settings_name(plan_id))
    return {
        "report_at": value.get("report_at", DEFAULT_REPORT_AT),
        "report_to": value.get("report_to", []),
        "addresses": value.get("addresses", {}),
        "phones": value.get("phones", {}),
    }


@blueprint.get("/plans/<int:plan_id>/run-settings")
@blueprint.output(RunSettingsSchema)
def show_run_settings(plan_id: int) -> dict[str, Any]:
    """When and to whom a plan's mornings and notices go."""
    return _run_settings(plan_id)


@blueprint.put("/plans/<int:plan_id>/run-settings")
@blueprint.input(RunSettingsSchema)
@blueprint.output(RunSettingsSchema)
def set_run_settings(plan_id: int, json_data: dict[str, Any]) -> dict[str, Any]:
    """Set when and to whom a plan's mornings and notices go."""
    with planning().sessions() as db:
        plan_head(db, plan_id)
    name = run_settings_name(plan_id)
    planning().write(lambda db: set_setting(db, name, json_data, actor=actor(), told=json_data))
    return _run_settings(plan_id)
