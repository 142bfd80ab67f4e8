"""What the API takes and gives about people, tokens, the identity provider and the audit trail."""

from __future__ import annotations

from apiflask import Schema
from apiflask.fields import URL, Boolean, Dict, Integer, List, Nested, String
from apiflask.validators import Length, OneOf, Range, Regexp

from gambrel.api.schemas import Instant, nullable, required
from gambrel.store.people import ROLES

MOST_TOKEN_DAYS = 3650


class PersonSchema(Schema):
    """`seen_at`: null where they are signed in nowhere; `barred_at`: since when they may not."""

    id = required(Integer)
    name = required(String)
    role = required(String, validate=OneOf(ROLES))
    has_password = required(Boolean)
    provided = required(Boolean)
    created_at = required(Instant)
    barred_at = nullable(Instant)
    seen_at = nullable(Instant)


class PeopleSchema(Schema):
    people = required(List, Nested(PersonSchema))


class NewPersonSchema(Schema):
    name = required(String, validate=Length(1, 100))
    role = required(String, validate=OneOf(ROLES))


class InvitationSchema(Schema):
    """A one-time link: shown once, and not kept."""

    person = required(Nested, PersonSchema)
    link = required(String)
    valid_days = required(Integer)


class PersonChangeSchema(Schema):
    role = String(validate=OneOf(ROLES))
    barred = Boolean()


class TokenSchema(Schema):
    id = required(Integer)
    name = required(String)
    role = required(String)
    made_by = required(String)
    created_at = required(Instant)
    expires_at = nullable(Instant)
    used_at = nullable(Instant)


class TokensSchema(Schema):
    tokens = required(List, Nested(TokenSchema))


class NewTokenSchema(Schema):
    """`days`: for how long it works; null: until somebody ends it."""

    name = required(String, validate=Length(1, 100))
    role = required(String, validate=OneOf(ROLES))
    days = Integer(load_default=90, allow_none=True, validate=Range(min=1, max=MOST_TOKEN_DAYS))


class MadeTokenSchema(Schema):
    """`secret`: shown once, and not kept."""

    token = required(Nested, TokenSchema)
    secret = required(String)


class ProviderSchema(Schema):
    """An OpenID Connect provider. An empty `issuer` turns it off; the secret is never shown."""

    label = String(load_default="", validate=Length(max=60))
    issuer = String(
        load_default="",
        validate=[Length(max=300), Regexp(r"^$|^https?://\S+$", error="is no address")],
    )
    client_id = String(load_default="", validate=Length(max=200))
    groups_claim = String(load_default="groups", validate=Length(1, 100))
    roles = Dict(
        keys=String(validate=OneOf(ROLES)),
        values=List(String(validate=Length(1, 200)), validate=Length(max=50)),
        load_default=dict,
        metadata={"description": "by role the groups that have it; the highest role counts"},
    )


class ProviderChangeSchema(ProviderSchema):
    """`client_secret`: null keeps the one that is set."""

    client_secret = String(load_default=None, allow_none=True, validate=Length(max=500))


class ProviderShownSchema(ProviderSchema):
    """`redirect_uri`: where the provider must send people back to."""

    redirect_uri = required(URL, require_tld=False)


class RulesSchema(Schema):
    """What takes two people.

    `second_person`: whether who changed something in a draft may not adopt it;
    `second_person_for_orders`: whether an order to a runner waits until somebody else confirms it.
    """

    second_person = required(Boolean)
    second_person_for_orders = Boolean(load_default=False, dump_default=False)


class AuditEntrySchema(Schema):
    id = required(Integer)
    at = required(Instant)
    actor = required(String)
    action = required(String)
    subject = required(String)
    address = required(String)
    detail = required(Dict)


class AuditTrailSchema(Schema):
    """`next`: the number to ask `before` of for the next page; null at the end."""

    entries = required(List, Nested(AuditEntrySchema))
    actions = required(List, String())
    next = nullable(Integer)


class AuditQuerySchema(Schema):
    actor = String(load_default=None, validate=Length(max=200))
    action = String(load_default=None, validate=Length(max=60))
    subject = String(load_default=None, validate=Length(max=200))
    said = String(load_default=None, validate=Length(max=200))
    since = String(load_default=None, metadata={"description": "an instant or a date, UTC"})
    until = String(load_default=None, metadata={"description": "an instant or a date, UTC"})
    before = Integer(load_default=None)
    most = Integer(load_default=100, validate=Range(1, 500))
