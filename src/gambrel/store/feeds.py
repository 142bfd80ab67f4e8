"""Feeds: who has the secret address of one reads a calendar, and nothing else."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from gambrel.store.audit import audit
from gambrel.store.models import FeedRow, now_utc
from gambrel.store.plans import NotFound, locked_plan
from gambrel.store.sign_in import hashed, is_to_note

WHAT = ("nights", "nights and runs")


@dataclass(frozen=True, slots=True)
class Feed:
    """A feed of a plan's adopted version. `used_at`: when a calendar read it last."""

    id: int
    plan_id: int
    name: str
    what: str
    made_by: str
    created_at: datetime
    used_at: datetime | None


def _feed(row: FeedRow) -> Feed:
    return Feed(row.id, row.plan_id, row.name, row.what, row.made_by, row.created_at, row.used_at)


def feeds(session: Session, plan_id: int) -> list[Feed]:
    """Those of a plan, oldest first."""
    query = select(FeedRow).where(FeedRow.plan_id == plan_id).order_by(FeedRow.id)
    return [_feed(row) for row in session.scalars(query)]


def new_feed(
    session: Session, plan_id: int, name: str, what: str, *, actor: str
) -> tuple[Feed, str]:
    """A new feed and the secret of its address, which is not kept. Raises NotFound."""
    locked_plan(session, plan_id)
    secret = secrets.token_urlsafe(30)
    row = FeedRow(plan_id=plan_id, name=name, what=what, token_hash=hashed(secret), made_by=actor)
    session.add(row)
    session.flush()
    audit(session, actor, "make feed", f"plan {plan_id}", name=name, what=what)
    return _feed(row), secret


def end_feed(session: Session, plan_id: int, feed_id: int, *, actor: str) -> None:
    """Have the address of a feed lead nowhere. Raises NotFound."""
    row = session.get(FeedRow, feed_id)
    if row is None or row.plan_id != plan_id:
        raise NotFound(f"there is no feed {feed_id} of plan {plan_id}")
    session.delete(row)
    audit(session, actor, "end feed", f"plan {plan_id}", name=row.name, what=row.what)


def feed_of_secret(session: Session, secret: str) -> Feed | None:
    """The feed at an address; None where there is none, or it was ended."""
    row = session.scalar(select(FeedRow).where(FeedRow.token_hash == hashed(secret)))
    if row is None:
        return None
    if is_to_note(row.used_at):
        row.used_at = now_utc()
    return _feed(row)
