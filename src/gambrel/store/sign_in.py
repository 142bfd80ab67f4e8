"""One-time sign-in links, and who is signed in. Tokens and keys are stored as hashes."""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from gambrel.store.audit import audit
from gambrel.store.models import IdentityRow, PersonRow, SignInLinkRow, SignInRow, now_utc
from gambrel.store.plans import NotFound

VALID_FOR = timedelta(hours=12)
INVITED_FOR = timedelta(days=7)
SIGNED_IN_FOR = timedelta(days=7)
SEEN_AGAIN_AFTER = timedelta(minutes=1)
"""How often it is noted that somebody was seen."""
SHOWN_OF_A_KEY = 16


def hashed(token: str) -> str:
    """What is kept of a token."""
    return hashlib.sha256(token.encode()).hexdigest()


def is_to_note(seen_at: datetime | None) -> bool:
    """Whether it is time to note again that somebody, or a program, was seen."""
    return seen_at is None or seen_at < now_utc() - SEEN_AGAIN_AFTER


@dataclass(frozen=True, slots=True)
class SignedIn:
    """Who is signed in with a key. `key_hash` tells this session from others of theirs."""

    person_id: int
    name: str
    role: str
    key_hash: str
    seen_at: datetime | None


@dataclass(frozen=True, slots=True)
class SessionShown:
    """A session as its owner sees it."""

    id: str
    began_at: datetime
    seen_at: datetime
    expires_at: datetime
    address: str
    agent: str


def new_link(
    session: Session, name: str, role: str = "administer", valid_for: timedelta = VALID_FOR
) -> str:
    """Store a new link for a person and return its token. `role`: of a person who is new."""
    token = secrets.token_urlsafe(24)
    expires_at = now_utc() + valid_for
    session.add(
        SignInLinkRow(token_hash=hashed(token), name=name, role=role, expires_at=expires_at)
    )
    return token


def use_link(session: Session, token: str) -> int | None:
    """The person whom an unused, unexpired token signs in; the token is used up by it.

    Somebody who was not there yet is made then. None for somebody who is barred.
    """
    taken = session.execute(
        update(SignInLinkRow)
        .where(
            SignInLinkRow.token_hash == hashed(token),
            SignInLinkRow.used_at.is_(None),
            SignInLinkRow.expires_at > now_utc(),
        )
        .values(used_at=now_utc())
    )
    if taken.rowcount != 1:  # type: ignore[attr-defined]
        return None
    link = session.get_one(SignInLinkRow, hashed(token))
    row = session.scalar(select(PersonRow).where(PersonRow.name == link.name))
    if row is None:
        row = PersonRow(name=link.name, role=link.role)
        session.add(row)
        session.flush()
        audit(session, link.name, "add person", f"person {row.id}", name=row.name, role=row.role)
    return None if row.barred_at is not None else row.id


def begin_session(session: Session, person_id: int, address: str = "", agent: str = "") -> str:
    """Note that somebody is signed in; returns the key that the browser carries."""
    session.execute(delete(SignInRow).where(SignInRow.expires_at <= now_utc()))
    key = secrets.token_urlsafe(24)
    session.add(
        SignInRow(
            key_hash=hashed(key), person_id=person_id, expires_at=now_utc() + SIGNED_IN_FOR,
            address=address[:200], agent=agent[:200],
        )
    )  # fmt: skip
    person = session.get_one(PersonRow, person_id)
    audit(session, person.name, "sign in", f"person {person_id}")
    return key


def signed_in(session: Session, key: str) -> SignedIn | None:
    """Who is signed in with a key; None where the session has ended, or they are barred."""
    found = session.execute(
        select(SignInRow, PersonRow)
        .join(PersonRow, PersonRow.id == SignInRow.person_id)
        .where(
            SignInRow.key_hash == hashed(key),
            SignInRow.expires_at > now_utc(),
            PersonRow.barred_at.is_(None),
        )
    ).one_or_none()
    if found is None:
        return None
    row, person = found
    return SignedIn(person.id, person.name, person.role, row.key_hash, row.seen_at)


def note_seen(session: Session, key_hash: str) -> None:
    """Note that a session was used."""
    session.execute(
        update(SignInRow).where(SignInRow.key_hash == key_hash).values(seen_at=now_utc())
    )


def sessions_of(session: Session, person_id: int) -> list[SessionShown]:
    """Where a person is signed in, the newest first."""
    rows = session.scalars(
        select(SignInRow)
        .where(SignInRow.person_id == person_id, SignInRow.expires_at > now_utc())
        .order_by(SignInRow.began_at.desc(), SignInRow.key_hash)
    )
    return [
        SessionShown(
            row.key_hash[:SHOWN_OF_A_KEY], row.began_at, row.seen_at or row.began_at,
            row.expires_at, row.address, row.agent,
        )
        for row in rows
    ]  # fmt: skip


def end_session(session: Session, key: str) -> None:
    """End a session, in whatever browsers its key is."""
    session.execute(delete(SignInRow).where(SignInRow.key_hash == hashed(key)))


def end_session_of(session: Session, person_id: int, session_id: str, *, actor: str) -> None:
    """End a session of a person by its id. Raises NotFound."""
    row = session.scalar(
        select(SignInRow).where(
            SignInRow.person_id == person_id,
            SignInRow.key_hash.startswith(session_id[:SHOWN_OF_A_KEY]),
        )
    )
    if row is None or len(session_id) != SHOWN_OF_A_KEY:
        raise NotFound("there is no such session")
    session.delete(row)
    audit(session, actor, "end session", f"person {person_id}", ended=session_id)


def identity(session: Session) -> str:
    """What tells this database from any other."""
    return str(session.scalars(select(IdentityRow.id)).one())
