"""The audit trail: an entry stands in the transaction of the change that it tells of."""

from __future__ import annotations

from typing import Any

from sqlalchemy.orm import Session

from gambrel.store.models import AuditRow


def audit(session: Session, actor: str, action: str, subject: str, **detail: Any) -> None:
    """Note who did what to what."""
    session.add(AuditRow(actor=actor, action=action, subject=subject, detail=detail))
