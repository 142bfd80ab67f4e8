"""One-time sign-in links, and who is signed in. Tokens and keys are stored as hashes."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from gambrel.store.models import IdentityRow, SignInLinkRow, SignInRow, now_utc

VALID_FOR = timedelta(hours=12)
SIGNED_IN_FOR = timedelta(days=7)


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


def begin_session(session: Session, name: str) -> str:
    """Note that somebody is signed in; returns the key that the browser carries."""
    session.execute(delete(SignInRow).where(SignInRow.expires_at <= now_utc()))
    key = secrets.token_urlsafe(24)
    expires_at = now_utc() + SIGNED_IN_FOR
    session.add(SignInRow(key_hash=_hash(key), name=name, expires_at=expires_at))
    return key


def signed_in(session: Session, key: str) -> str | None:
    """Who is signed in with a key; None where the session ended or was ended."""
    return session.scalar(
        select(SignInRow.name).where(
            SignInRow.key_hash == _hash(key), SignInRow.expires_at > now_utc()
        )
    )


def end_session(session: Session, key: str) -> None:
    """End a session, in whatever browsers its key is."""
    session.execute(delete(SignInRow).where(SignInRow.key_hash == _hash(key)))


def identity(session: Session) -> str:
    """What tells this database from any other."""
    return str(session.scalars(select(IdentityRow.id)).one())
