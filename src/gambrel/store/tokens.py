"""Tokens with which programs ask the API: a name, a role, an end, when they were last used."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from gambrel.store.audit import audit
from gambrel.store.models import TokenRow, now_utc
from gambrel.store.people import PersonError, a_name
from gambrel.store.plans import NotFound
from gambrel.store.sign_in import hashed

BEGINS_WITH = "gt_"


@dataclass(frozen=True, slots=True)
class Token:
    """A program's token. `expires_at`: None where it works until somebody ends it."""

    id: int
    name: str
    role: str
    made_by: str
    created_at: datetime
    expires_at: datetime | None
    used_at: datetime | None


def _token(row: TokenRow) -> Token:
    return Token(
        row.id, row.name, row.role, row.made_by, row.created_at, row.expires_at, row.used_at
    )


def tokens(session: Session) -> list[Token]:
    """All of them, those that have expired too, by name."""
    return [_token(row) for row in session.scalars(select(TokenRow).order_by(TokenRow.name))]


def new_token(
    session: Session, name: str, role: str, days: int | None, *, actor: str
) -> tuple[Token, str]:
    """A new token, and the secret itself, which is not kept. Raises PersonError."""
    said = a_name(name)
    if session.scalar(select(TokenRow.id).where(TokenRow.name == said)) is not None:
        raise PersonError("name", said, "is the name of another token")
    secret = BEGINS_WITH + secrets.token_urlsafe(30)
    row = TokenRow(
        name=said, role=role, token_hash=hashed(secret), made_by=actor,
        expires_at=None if days is None else now_utc() + timedelta(days=days),
    )  # fmt: skip
    session.add(row)
    session.flush()
    audit(session, actor, "make token", f"token {row.id}", name=said, role=role, days=days)
    return _token(row), secret


def end_token(session: Session, token_id: int, *, actor: str) -> None:
    """Have a token work no more. Raises NotFound."""
    row = session.get(TokenRow, token_id)
    if row is None:
        raise NotFound(f"there is no token {token_id}")
    session.execute(delete(TokenRow).where(TokenRow.id == token_id))
    audit(session, actor, "end token", f"token {token_id}", name=row.name, role=row.role)


def token_of_secret(session: Session, secret: str) -> Token | None:
    """Whose secret it is; None for a wrong one or one that has expired."""
    row = session.scalar(select(TokenRow).where(TokenRow.token_hash == hashed(secret)))
    if row is None or (row.expires_at is not None and row.expires_at <= now_utc()):
        return None
    return _token(row)


def note_used(session: Session, token_id: int) -> None:
    """Note that a token was used."""
    session.execute(update(TokenRow).where(TokenRow.id == token_id).values(used_at=now_utc()))
