"""People: their names, roles and passwords.

Passwords are kept as argon2id hashes (RFC 9106), with the parameters that argon2-cffi recommends.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import datetime
from threading import BoundedSemaphore

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError
from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from gambrel.store.audit import audit
from gambrel.store.models import PersonRow, SignInRow, now_utc
from gambrel.store.plans import NotFound

ROLES = ("read", "plan", "administer")
"""What people and tokens may do; each role may do what those before it may."""
LEAST_PASSWORD, MOST_PASSWORD = 12, 200

_hasher = PasswordHasher()
_HASHED_AT_ONCE = BoundedSemaphore(2)
"""Each hash takes 64 MiB while it is made."""
_NOBODYS = _hasher.hash("nobody has this password")


class PersonError(ValueError):
    """What cannot be done with a person: the field, its value, the reason."""

    def __init__(self, field: str, value: object, reason: str) -> None:
        self.field, self.value, self.reason = field, value, reason
        super().__init__(f"{field}: {reason}")


@dataclass(frozen=True, slots=True)
class Person:
    """Somebody who may sign in.

    Attributes:
        provided: whether an identity provider vouches for them.
        barred_at: since when they may not sign in; None: they may.
        seen_at: when they were last seen; None: not signed in anywhere now.
    """

    id: int
    name: str
    role: str
    has_password: bool
    provided: bool
    created_at: datetime
    barred_at: datetime | None
    seen_at: datetime | None = None


def _person(row: PersonRow, seen_at: datetime | None = None) -> Person:
    return Person(
        row.id, row.name, row.role, row.password_hash is not None, row.subject is not None,
        row.created_at, row.barred_at, seen_at,
    )  # fmt: skip


def people(session: Session) -> list[Person]:
    """Everybody, by name."""
    seen = dict(
        session.execute(
            select(SignInRow.person_id, func.max(SignInRow.seen_at)).group_by(SignInRow.person_id)
        ).all()
    )
    rows = session.scalars(select(PersonRow).order_by(PersonRow.name))
    return [_person(row, seen.get(row.id)) for row in rows]


def _row(session: Session, person_id: int) -> PersonRow:
    # The rows of all administrators are locked, so that two cannot both be the last to go.
    session.execute(select(PersonRow.id).where(PersonRow.role == "administer").with_for_update())
    row = session.get(PersonRow, person_id, with_for_update=True)
    if row is None:
        raise NotFound(f"there is no person {person_id}")
    return row


def person_by_name(session: Session, name: str) -> Person | None:
    """Who has a name."""
    row = session.scalar(select(PersonRow).where(PersonRow.name == name))
    return None if row is None else _person(row)


def a_name(name: str) -> str:
    """A name without blanks around it. Raises PersonError."""
    said = name.strip()
    if not 1 <= len(said) <= 100:
        raise PersonError("name", name, "is not a name of 1 to 100 characters")
    return said


def add_person(session: Session, name: str, role: str, *, actor: str) -> Person:
    """A new person, without a password. Raises PersonError."""
    said = a_name(name)
    if role not in ROLES:
        raise PersonError("role", role, f"is not one of {', '.join(ROLES)}")
    if person_by_name(session, said) is not None:
        raise PersonError("name", said, "is taken by somebody else")
    row = PersonRow(name=said, role=role)
    session.add(row)
    session.flush()
    audit(session, actor, "add person", f"person {row.id}", name=said, role=role)
    return _person(row)


def change_person(
    session: Session,
    person_id: int,
    *,
    role: str | None = None,
    barred: bool | None = None,
    actor: str,
) -> Person:
    """Give a person another role, bar them or let them in again.

    Raises:
        NotFound
        PersonError: where no administrator would be left who can sign in.
    """
    row = _row(session, person_id)
    before = {"role": row.role, "barred": row.barred_at is not None}
    if role is not None:
        row.role = role
    if barred is not None:
        row.barred_at = (row.barred_at or now_utc()) if barred else None
    session.flush()
    left = select(func.count()).where(PersonRow.role == "administer", PersonRow.barred_at.is_(None))
    if not session.scalar(left):
        field, value = ("barred", barred) if barred else ("role", role)
        raise PersonError(field, value, f"would leave nobody who administers: {row.name} is alone")
    if barred:
        end_all_sessions(session, person_id)
    now = {"role": row.role, "barred": row.barred_at is not None}
    audit(session, actor, "change person", f"person {person_id}", name=row.name, was=before,
          now=now)  # fmt: skip
    return _person(row)


def end_all_sessions(session: Session, person_id: int, *, but: str | None = None) -> None:
    """End the sessions of a person, but for one key's hash."""
    gone = delete(SignInRow).where(SignInRow.person_id == person_id)
    session.execute(gone if but is None else gone.where(SignInRow.key_hash != but))


# --- passwords ----------------------------------------------------------------------------------


def set_password(
    session: Session,
    person_id: int,
    password: str,
    *,
    old: str | None,
    keep: str | None,
    actor: str,
) -> None:
    """Set the password of a person; all their sessions end but the one that is kept.

    Args:
        old: the password so far; needed where there is one.
        keep: the hash of the key of the session that stays.

    Raises:
        NotFound
        PersonError: for a password that is too easy, or a wrong old one.
    """
    row = _row(session, person_id)
    if row.password_hash is not None and not _fits(row.password_hash, old or ""):
        raise PersonError("old", None, "is not the password that you have now")
    if not LEAST_PASSWORD <= len(password) <= MOST_PASSWORD:
        reason = f"has not {LEAST_PASSWORD} to {MOST_PASSWORD} characters"
        raise PersonError("password", None, reason)
    if row.name.lower() in password.lower() or len(set(password)) < 5:
        raise PersonError("password", None, "is too easy to guess")
    with _HASHED_AT_ONCE:
        row.password_hash = _hasher.hash(password)
    end_all_sessions(session, person_id, but=keep)
    audit(session, actor, "set password", f"person {person_id}", name=row.name)


def forget_password(session: Session, person_id: int, *, actor: str) -> None:
    """Have a person's password work no more, and end their sessions. Raises NotFound."""
    row = _row(session, person_id)
    row.password_hash = None
    end_all_sessions(session, person_id)
    audit(session, actor, "forget password", f"person {person_id}", name=row.name)


def _fits(hashed: str, password: str) -> bool:
    with _HASHED_AT_ONCE:
        try:
            return _hasher.verify(hashed, password)
        except (VerifyMismatchError, InvalidHashError):
            return False


def person_with_password(session: Session, name: str, password: str) -> Person | None:
    """Who has this name and this password, and is not barred.

    It takes as long for a name that nobody has as for a wrong password.
    """
    row = session.scalar(select(PersonRow).where(PersonRow.name == name.strip()))
    known = row.password_hash if row is not None else None
    fits = _fits(known or _NOBODYS, password[:MOST_PASSWORD])
    if row is None or known is None or not fits or row.barred_at is not None:
        return None
    return _person(row)


# --- identity providers -------------------------------------------------------------------------


def person_of_provider(
    session: Session, issuer: str, subject: str, name: str, role: str
) -> Person | None:
    """Whom an identity provider vouches for; known by its subject, whatever they are called now.

    Somebody new gets a name that is not taken yet. Their role is what their groups give them at
    each sign-in. None where they are barred.
    """
    digest = hashlib.sha256(f"{issuer}\n{subject}".encode()).hexdigest()
    row = session.scalar(select(PersonRow).where(PersonRow.subject == digest).with_for_update())
    if row is None:
        made = add_person(session, _free_name(session, name), role, actor="the identity provider")
        row = session.get_one(PersonRow, made.id)
        row.subject = digest
    if row.barred_at is not None:
        return None
    if row.role != role:
        was, row.role = row.role, role
        audit(session, "the identity provider", "change person", f"person {row.id}",
              name=row.name, was={"role": was}, now={"role": role})  # fmt: skip
    session.flush()
    return _person(row)


def _free_name(session: Session, wanted: str) -> str:
    base = wanted.strip()[:90] or "somebody"
    name, number = base, 2
    while person_by_name(session, name) is not None:
        name, number = f"{base} {number}", number + 1
    return name
