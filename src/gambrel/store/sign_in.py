"""One-time sign-in links: the token is shown once, its hash is stored."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from sqlalchemy import update
from sqlalchemy.orm import Session

from gambrel.store.models import SignInLinkRow, now_utc

VALID_FOR = timedelta(hours=12)


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def new_link(session: Session, name: str) -> str:
    """Store a new link for a person and return its token."""
    token = secrets.token_urlsafe(24)
    link = SignInLinkRow(token_hash=_hash(token), name=name, expires_at=now_utc() + VALID_FOR)
    session.add(link)
    return token


def use_link(session: Session, token: str) -> str | None:
    """The person whom an unused, unexpired token signs in; the token is used up by it."""
    taken = session.execute(
        update(SignInLinkRow)
        .where(
            SignInLinkRow.token_hash == _hash(token),
            SignInLinkRow.used_at.is_(None),
            SignInLinkRow.expires_at > now_utc(),
        )
        .values(used_at=now_utc())
    )
    if taken.rowcount != 1:  # type: ignore[attr-defined]
        return None
    row = session.get(SignInLinkRow, _hash(token))
    return None if row is None else row.name
