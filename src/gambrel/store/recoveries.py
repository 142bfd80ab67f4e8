"""Recoveries that a planner keeps by name: a loss with the way back that was chosen."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from gambrel.store.audit import audit
from gambrel.store.models import ID_LENGTH, RecoveryRow
from gambrel.store.plans import NotFound, plan_head

MOST_OF_A_PLAN = 200


class RecoveryRefused(ValueError):
    """A recovery that cannot be kept under its name."""


@dataclass(frozen=True, slots=True)
class SavedRecovery:
    id: int
    name: str
    asked: Mapping[str, Any]
    actor: str
    saved_at: datetime


def recoveries(session: Session, plan_id: int) -> list[SavedRecovery]:
    """The recoveries of a plan that were kept, by name."""
    query = select(RecoveryRow).where(RecoveryRow.plan_id == plan_id).order_by(RecoveryRow.name)
    return [
        SavedRecovery(row.id, row.name, row.asked, row.actor, row.saved_at)
        for row in session.scalars(query)
    ]


def save_recovery(
    session: Session, plan_id: int, name: str, asked: Mapping[str, Any], *, actor: str
) -> SavedRecovery:
    """Keep a recovery; one of the same name is replaced. Raises NotFound, RecoveryRefused."""
    plan_head(session, plan_id)
    said = name.strip()
    if not said or len(said) > ID_LENGTH:
        raise RecoveryRefused("a recovery needs a name that is not too long")
    rows = list(session.scalars(select(RecoveryRow).where(RecoveryRow.plan_id == plan_id)))
    row = next((row for row in rows if row.name.casefold() == said.casefold()), None)
    if row is None:
        if len(rows) >= MOST_OF_A_PLAN:
            raise RecoveryRefused(f"no more than {MOST_OF_A_PLAN} are kept; remove one first")
        row = RecoveryRow(plan_id=plan_id, name=said)
        session.add(row)
    row.name, row.asked, row.actor = said, dict(asked), actor
    session.flush()
    audit(session, actor, "save recovery", f"plan {plan_id}", name=said)
    return SavedRecovery(row.id, row.name, row.asked, row.actor, row.saved_at)


def remove_recovery(session: Session, plan_id: int, recovery_id: int, *, actor: str) -> None:
    """Forget a recovery. Raises NotFound."""
    row = session.get(RecoveryRow, recovery_id)
    if row is None or row.plan_id != plan_id:
        raise NotFound(f"there is no recovery {recovery_id} of plan {plan_id}")
    audit(session, actor, "remove recovery", f"plan {plan_id}", name=row.name)
    session.delete(row)
