"""Plans with their adopted version and their drafts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from gambrel.core.operations import (
    Operation,
    apply_all,
    operation_from,
    operation_to_dict,
)
from gambrel.core.plan import Plan
from gambrel.store.audit import audit
from gambrel.store.models import DraftOperationRow, DraftRow, PlanRow
from gambrel.store.plan_tables import load_plan, save_plan


class NotFound(LookupError):
    """There is no such plan or draft."""


class Changed(RuntimeError):
    """Somebody else changed the draft, or adopted another plan; `now` is what the draft is now."""

    def __init__(self, now: Draft, *, base_left: bool = False) -> None:
        self.now = now
        self.base_left = base_left
        super().__init__(f"draft {now.id} is at revision {now.revision}")


@dataclass(frozen=True, slots=True)
class PlanHead:
    id: int
    name: str
    adopted_version: int


@dataclass(frozen=True, slots=True)
class DraftChange:
    """One saved operation of a draft, with what it did in words."""

    operation: Operation
    words: str


@dataclass(frozen=True, slots=True)
class Draft:
    id: int
    plan_id: int
    base_version: int
    name: str
    revision: int
    created_at: datetime
    changes: tuple[DraftChange, ...]
    can_redo: bool

    @property
    def operations(self) -> tuple[Operation, ...]:
        return tuple(change.operation for change in self.changes)


# --- plans ------------------------------------------------------------------------------------


def plan_heads(session: Session) -> list[PlanHead]:
    """All plans that have an adopted version, oldest first."""
    rows = session.scalars(select(PlanRow).order_by(PlanRow.id))
    return [
        PlanHead(row.id, row.name, row.adopted_version)
        for row in rows
        if row.adopted_version is not None
    ]


def plan_head(session: Session, plan_id: int) -> PlanHead:
    """One plan by its id. Raises NotFound."""
    for head in plan_heads(session):
        if head.id == plan_id:
            return head
    raise NotFound(f"there is no plan {plan_id}")


def store_plan(session: Session, name: str, plan: Plan, *, actor: str, note: str = "") -> PlanHead:
    """Write a plan as the adopted version of the plan of this name, made if it is new."""
    row = session.scalar(select(PlanRow).where(PlanRow.name == name).with_for_update())
    if row is None:
        row = PlanRow(name=name)
        session.add(row)
        session.flush()
    row.adopted_version = save_plan(session, row.id, plan, note)
    audit(session, actor, "store plan", f"plan {row.id}", version=row.adopted_version, note=note)
    session.flush()
    return PlanHead(row.id, row.name, row.adopted_version)


def discard_drafts(session: Session, plan_id: int, *, actor: str) -> None:
    """Close all open drafts of a plan without adopting them."""
    query = select(DraftRow).where(DraftRow.plan_id == plan_id, DraftRow.state == "open")
    for row in session.scalars(query.with_for_update()):
        row.state = "discarded"
        row.revision += 1
        audit(session, actor, "discard", f"draft {row.id}")


def version_plan(session: Session, version_id: int) -> Plan:
    """The plan of a version. Raises NotFound."""
    try:
        return load_plan(session, version_id)
    except KeyError:
        raise NotFound(f"there is no version {version_id}") from None


# --- drafts -----------------------------------------------------------------------------------


def _draft(session: Session, row: DraftRow) -> Draft:
    rows = session.scalars(
        select(DraftOperationRow)
        .where(DraftOperationRow.draft_id == row.id)
        .order_by(DraftOperationRow.position)
    ).all()
    return Draft(
        id=row.id,
        plan_id=row.plan_id,
        base_version=row.base_version,
        name=row.name,
        revision=row.revision,
        created_at=row.created_at,
        changes=tuple(
            DraftChange(operation_from(r.operation), r.words) for r in rows if not r.undone
        ),
        can_redo=any(r.undone for r in rows),
    )


def drafts(session: Session, plan_id: int) -> list[Draft]:
    """The open drafts of a plan, newest first."""
    query = (
        select(DraftRow)
        .where(DraftRow.plan_id == plan_id, DraftRow.state == "open")
        .order_by(DraftRow.id.desc())
    )
    return [_draft(session, row) for row in session.scalars(query)]


def _locked_row(session: Session, draft_id: int) -> DraftRow:
    row = session.scalar(select(DraftRow).where(DraftRow.id == draft_id).with_for_update())
    if row is None or row.state != "open":
        raise NotFound(f"there is no open draft {draft_id}")
    return row


def draft(session: Session, draft_id: int) -> Draft:
    """An open draft by its id. Raises NotFound."""
    row = session.get(DraftRow, draft_id)
    if row is None or row.state != "open":
        raise NotFound(f"there is no open draft {draft_id}")
    return _draft(session, row)


def start_draft(session: Session, plan_id: int, name: str, *, actor: str) -> Draft:
    """A new, empty draft of a plan's adopted version."""
    head = plan_head(session, plan_id)
    row = DraftRow(plan_id=plan_id, base_version=head.adopted_version, name=name)
    session.add(row)
    session.flush()
    audit(session, actor, "start draft", f"draft {row.id}", plan=plan_id, name=name)
    return _draft(session, row)


def _checked_row(session: Session, draft_id: int, revision: int) -> DraftRow:
    row = _locked_row(session, draft_id)
    if row.revision != revision:
        raise Changed(_draft(session, row))
    return row


def add_operations(
    session: Session, draft_id: int, revision: int, operations: Sequence[Operation], *, actor: str
) -> Draft:
    """Save operations at the end of a draft; what had been undone is gone for good.

    Raises:
        NotFound: where there is no such open draft.
        Changed: where the draft is no longer at this revision.
        OperationError: where an operation cannot be applied; nothing is saved then.
    """
    row = _checked_row(session, draft_id, revision)
    before = _draft(session, row)
    plan = apply_all(version_plan(session, row.base_version), before.operations)
    session.execute(
        delete(DraftOperationRow).where(
            DraftOperationRow.draft_id == draft_id, DraftOperationRow.undone
        )
    )
    last = session.scalar(
        select(func.max(DraftOperationRow.position)).where(DraftOperationRow.draft_id == draft_id)
    )
    for offset, operation in enumerate(operations, start=1):
        words = operation.describe(plan)
        plan = operation.apply(plan)
        session.add(
            DraftOperationRow(
                draft_id=draft_id,
                position=(last or 0) + offset,
                operation=operation_to_dict(operation),
                words=words,
            )
        )
        audit(session, actor, operation.name, f"draft {draft_id}", words=words)
    row.revision += 1
    session.flush()
    return _draft(session, row)


def _set_undone(
    session: Session, draft_id: int, revision: int, *, undone: bool, actor: str
) -> Draft:
    row = _checked_row(session, draft_id, revision)
    order = DraftOperationRow.position.desc() if undone else DraftOperationRow.position
    target = session.scalar(
        select(DraftOperationRow)
        .where(DraftOperationRow.draft_id == draft_id, DraftOperationRow.undone != undone)
        .order_by(order)
        .limit(1)
    )
    if target is not None:
        target.undone = undone
        row.revision += 1
        action = "undo" if undone else "redo"
        audit(session, actor, action, f"draft {draft_id}", words=target.words)
        session.flush()
    return _draft(session, row)


def undo(session: Session, draft_id: int, revision: int, *, actor: str) -> Draft:
    """Take the last operation of a draft back; nothing happens where there is none."""
    return _set_undone(session, draft_id, revision, undone=True, actor=actor)


def redo(session: Session, draft_id: int, revision: int, *, actor: str) -> Draft:
    """Bring the operation back that was last undone; nothing happens where there is none."""
    return _set_undone(session, draft_id, revision, undone=False, actor=actor)


def adopt(session: Session, draft_id: int, revision: int, *, actor: str, note: str) -> PlanHead:
    """Make the draft's plan the adopted version and close the draft.

    Raises:
        Changed: where the draft, or the plan that it stands on, has changed meanwhile.
    """
    row = _checked_row(session, draft_id, revision)
    current = _draft(session, row)
    head_row = session.scalar(select(PlanRow).where(PlanRow.id == row.plan_id).with_for_update())
    assert head_row is not None
    if head_row.adopted_version != row.base_version:
        raise Changed(current, base_left=True)
    plan = apply_all(version_plan(session, row.base_version), current.operations)
    head_row.adopted_version = save_plan(session, row.plan_id, plan, note)
    row.state = "adopted"
    row.revision += 1
    audit(session, actor, "adopt", f"draft {draft_id}", version=head_row.adopted_version)
    session.flush()
    return PlanHead(head_row.id, head_row.name, head_row.adopted_version)
