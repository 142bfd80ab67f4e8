"""Groups of settings that people change while Gambrel runs."""

from __future__ import annotations

from typing import Any

from sqlalchemy.orm import Session

from gambrel.store.audit import audit
from gambrel.store.ledger_models import SettingRow
from gambrel.store.models import now_utc


def setting(session: Session, name: str) -> dict[str, Any]:
    """A group of settings; empty where nothing was set."""
    row = session.get(SettingRow, name)
    return {} if row is None else dict(row.value)


def set_setting(
    session: Session, name: str, value: dict[str, Any], *, actor: str, told: dict[str, Any]
) -> None:
    """Replace a group of settings. `told` is what the audit trail says: no secret."""
    row = session.get(SettingRow, name, with_for_update=True)
    if row is None:
        session.add(SettingRow(name=name, value=value))
        was: dict[str, Any] = {}
    else:
        was = {key: row.value.get(key) for key in told}
        row.value, row.changed_at = value, now_utc()
    audit(session, actor, "set", name, was=was, now=told)
    session.flush()
