"""Long computations, kept so that a page that is loaded again finds them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from gambrel.store.audit import audit
from gambrel.store.models import ComputationRow, now_utc
from gambrel.store.plans import NotFound

ComputationKind = Literal["balance", "confidence", "sweep", "nights ahead", "purchase"]
State = Literal["running", "done", "cancelled", "failed", "interrupted"]
MOST_LISTED = 20


@dataclass(frozen=True, slots=True)
class Computation:
    """One long computation.

    Attributes:
        asked: what it computes, as it was asked for.
        progress: how far it is; its keys depend on the kind.
        result: None as long as there is none.
        message: why it has none; "" otherwise.
    """

    id: int
    plan_id: int
    kind: ComputationKind
    asked: Mapping[str, Any]
    state: State
    progress: Mapping[str, Any]
    result: Mapping[str, Any] | None
    message: str
    actor: str
    created_at: datetime
    ended_at: datetime | None


def _told(row: ComputationRow) -> Computation:
    return Computation(
        row.id, row.plan_id, row.kind, row.asked, row.state, row.progress, row.result,  # type: ignore[arg-type]
        row.message, row.actor, row.created_at, row.ended_at,
    )  # fmt: skip


def begin(
    session: Session,
    plan_id: int,
    kind: ComputationKind,
    asked: Mapping[str, Any],
    *,
    actor: str,
    progress: Mapping[str, Any] | None = None,
) -> int:
    """Note a computation that begins; returns its id."""
    row = ComputationRow(
        plan_id=plan_id, kind=kind, asked=dict(asked), progress=dict(progress or {}), actor=actor
    )
    session.add(row)
    audit(session, actor, kind, f"plan {plan_id}")
    session.flush()
    return row.id


def computation(session: Session, ident: int) -> Computation:
    """One computation. Raises NotFound."""
    row = session.get(ComputationRow, ident)
    if row is None:
        raise NotFound(f"there is no computation {ident}")
    return _told(row)


def computations(session: Session, plan_id: int, kind: str | None) -> list[Computation]:
    """The newest computations of a plan, the newest first."""
    asked = select(ComputationRow).where(ComputationRow.plan_id == plan_id)
    if kind is not None:
        asked = asked.where(ComputationRow.kind == kind)
    rows = session.scalars(asked.order_by(ComputationRow.id.desc()).limit(MOST_LISTED))
    return [_told(row) for row in rows]


def note_progress(session: Session, ident: int, progress: Mapping[str, Any]) -> None:
    """Write down how far a running computation is."""
    session.execute(
        update(ComputationRow)
        .where(ComputationRow.id == ident, ComputationRow.state == "running")
        .values(progress=dict(progress))
    )


def end(
    session: Session,
    ident: int,
    state: State,
    *,
    result: Mapping[str, Any] | None = None,
    message: str = "",
) -> None:
    """Note how a running computation ended."""
    session.execute(
        update(ComputationRow)
        .where(ComputationRow.id == ident, ComputationRow.state == "running")
        .values(
            state=state,
            result=None if result is None else dict(result),
            message=message,
            ended_at=now_utc(),
        )
    )


def interrupt(session: Session) -> None:
    """Mark what was running when the application ended."""
    session.execute(
        update(ComputationRow)
        .where(ComputationRow.state == "running")
        .values(
            state="interrupted",
            ended_at=now_utc(),
            message="The application was stopped meanwhile. It can go on from the best so far.",
        )
    )
