"""The audit trail: an entry stands in the transaction of the change that it tells of."""

from __future__ import annotations

from collections.abc import Iterator
from contextvars import ContextVar
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Text, cast, or_, select
from sqlalchemy.orm import Session

from gambrel.store.models import AuditRow

acting_from: ContextVar[str] = ContextVar("acting_from", default="")
"""The network address from which what is done now was asked for; "" for Gambrel itself."""
READ_AT_ONCE = 1_000


def audit(session: Session, actor: str, action: str, subject: str, **detail: Any) -> None:
    """Note who did what to what. `detail` has no secrets; `was` is what was before."""
    session.add(
        AuditRow(
            actor=actor[:200], action=action[:60], subject=subject[:200], detail=detail,
            address=acting_from.get()[:64],
        )
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry of the trail."""

    id: int
    at: datetime
    actor: str
    action: str
    subject: str
    detail: dict[str, Any]
    address: str


@dataclass(frozen=True, slots=True)
class Wanted:
    """Which entries are asked for; None: all.

    Attributes:
        said: a text that stands in the actor, the action, the subject or the detail.
        since, until: UTC.
    """

    actor: str | None = None
    action: str | None = None
    subject: str | None = None
    said: str | None = None
    since: datetime | None = None
    until: datetime | None = None


def entries(
    session: Session, wanted: Wanted, *, before: int | None = None, most: int = READ_AT_ONCE
) -> list[Entry]:
    """Entries with a lower number than `before`, the newest first."""
    query = select(AuditRow).order_by(AuditRow.id.desc()).limit(most)
    if before is not None:
        query = query.where(AuditRow.id < before)
    for column, value in (
        (AuditRow.actor, wanted.actor),
        (AuditRow.action, wanted.action),
        (AuditRow.subject, wanted.subject),
    ):
        if value is not None:
            query = query.where(column == value)
    if wanted.said:
        like = f"%{wanted.said.replace('!', '!!').replace('%', '!%').replace('_', '!_')}%"
        plain = (AuditRow.actor, AuditRow.action, AuditRow.subject, cast(AuditRow.detail, Text))
        query = query.where(or_(*(column.like(like, escape="!") for column in plain)))
    if wanted.since is not None:
        query = query.where(AuditRow.at >= wanted.since)
    if wanted.until is not None:
        query = query.where(AuditRow.at < wanted.until)
    return [
        Entry(row.id, row.at, row.actor, row.action, row.subject, dict(row.detail), row.address)
        for row in session.scalars(query)
    ]


def all_entries(session: Session, wanted: Wanted) -> Iterator[Entry]:
    """Every entry that is asked for, the newest first, read in pages."""
    before = None
    while True:
        found = entries(session, wanted, before=before)
        yield from found
        if len(found) < READ_AT_ONCE:
            return
        before = found[-1].id


def actions(session: Session) -> list[str]:
    """The actions that the trail knows, in order."""
    return list(session.scalars(select(AuditRow.action).distinct().order_by(AuditRow.action)))
