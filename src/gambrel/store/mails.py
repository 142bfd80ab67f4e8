"""Mail that waits to go out, and the settings of mail and of a plan's runs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from gambrel.store.ledger_models import MailRow
from gambrel.store.models import now_utc

FIRST_PAUSE_S = 30
LONGEST_PAUSE_S = 1800
GIVEN_UP_AFTER = timedelta(days=3)
SHOWN = 50


@dataclass(frozen=True, slots=True)
class StoredMail:
    id: int
    to: tuple[str, ...]
    subject: str
    text: str
    html: str
    state: str
    tries: int
    created_at: datetime
    sent_at: datetime | None
    error: str


def _mail(row: MailRow) -> StoredMail:
    return StoredMail(
        row.id, tuple(row.to), row.subject, row.text, row.html, row.state, row.tries,
        row.created_at, row.sent_at, row.error,
    )  # fmt: skip


def queue_mail(
    session: Session, key: str, to: Sequence[str], subject: str, text: str, html: str
) -> None:
    """Have a mail go out; one with a key that is known already does not go again."""
    statement = insert(MailRow).values(
        key=key, to=list(to), subject=subject[:300], text=text, html=html, state="waiting",
        tries=0, next_try_at=now_utc(), created_at=now_utc(), error="",
    )  # fmt: skip
    session.execute(statement.on_duplicate_key_update({"key": statement.inserted.key}))


def due_mails(session: Session, most: int = 20) -> list[StoredMail]:
    """Mails that wait and whose next try is due, oldest first."""
    query = (
        select(MailRow)
        .where(MailRow.state == "waiting", MailRow.next_try_at <= now_utc())
        .order_by(MailRow.id)
        .limit(most)
    )
    return [_mail(row) for row in session.scalars(query)]


def recent_mails(session: Session) -> list[StoredMail]:
    """The newest mails, newest first."""
    query = select(MailRow).order_by(MailRow.id.desc()).limit(SHOWN)
    return [_mail(row) for row in session.scalars(query)]


def note_sent(session: Session, mail_id: int) -> None:
    """Note that a mail has gone."""
    row = session.get_one(MailRow, mail_id)
    row.state, row.sent_at, row.error = "sent", now_utc(), ""
    row.tries += 1


def note_failed(session: Session, mail_id: int, error: str) -> None:
    """Note that a try failed; the next comes after a longer pause, for three days."""
    row = session.get_one(MailRow, mail_id)
    row.tries += 1
    row.error = error[:500]
    pause = min(LONGEST_PAUSE_S, FIRST_PAUSE_S * 2 ** min(row.tries - 1, 10))
    row.next_try_at = now_utc() + timedelta(seconds=pause)
    if now_utc() - row.created_at > GIVEN_UP_AFTER:
        row.state = "given up"
