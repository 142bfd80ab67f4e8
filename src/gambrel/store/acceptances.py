"""What was accepted: changes of the estate from one version of the plan to the next."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from datetime import date, datetime

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import apply_all
from gambrel.core.estate.differences import (
    EstateError,
)
from gambrel.core.estate.effect import new_names, with_estate_of
from gambrel.core.estate.facts import FactEdit
from gambrel.core.plan.objects import Plan
from gambrel.store.audit import audit
from gambrel.store.inbox import ACCEPTED, OPEN, chosen_rows, inbox, lock_plan, taken, with_needed
from gambrel.store.models import (
    AcceptanceRow,
    DifferenceRow,
    DraftRow,
    PlanRow,
)
from gambrel.store.plan_tables import save_plan
from gambrel.store.plans import NotFound, draft, emptied_versions
from gambrel.store.point_owners import rename_machines, with_points_for

PlanOf = Callable[[int], Plan]
"""Gives the plan of a version, from memory where it is known."""
TodayOf = Callable[[Plan], date]
"""Gives the date at the planner."""


@dataclass(frozen=True, slots=True)
class Acceptance:
    """A change of the estate: what it was, its lines, the versions before and after.

    Attributes:
        kept: whether the content of both versions is kept, so that it can be undone.
    """

    id: int
    what: str
    words: tuple[str, ...]
    before_version: int
    after_version: int
    actor: str
    at: datetime
    undone: bool
    kept: bool


def acceptances(session: Session, plan_id: int) -> list[Acceptance]:
    """All changes of the estate of a plan, newest first."""
    rows = session.scalars(
        select(AcceptanceRow)
        .where(AcceptanceRow.plan_id == plan_id)
        .order_by(AcceptanceRow.id.desc())
    )
    emptied = emptied_versions(session, plan_id)
    return [_acceptance(row, emptied) for row in rows]


def _acceptance(row: AcceptanceRow, emptied: Collection[int] = ()) -> Acceptance:
    kept = row.before_version not in emptied and row.after_version not in emptied
    return Acceptance(
        row.id, row.what, tuple(row.words), row.before_version, row.after_version, row.actor,
        row.at, row.undone, kept,
    )  # fmt: skip


def _change_estate(
    session: Session,
    plan_id: int,
    plan_of: PlanOf,
    change: Callable[[Plan], Plan],
    *,
    what: str,
    words: Callable[[], Sequence[str]],
    subjects: Sequence[str],
    actor: str,
) -> AcceptanceRow:
    """Adopt a version with another estate; open drafts move onto it where they can.

    Args:
        words: what it did, asked once it could be done.
    """
    before = lock_plan(session, plan_id)
    head = session.get_one(PlanRow, plan_id)
    was = plan_of(before)
    plan = change(was)
    rename_machines(session, plan_id, new_names(was, plan))
    told = list(words())
    head.adopted_version = save_plan(session, plan_id, plan, f"{what}: {len(told)}")
    row = AcceptanceRow(
        plan_id=plan_id, before_version=before, after_version=head.adopted_version, what=what,
        words=told, subjects=list(subjects), actor=actor, undone=False,
    )  # fmt: skip
    session.add(row)
    session.flush()
    _move_drafts(session, plan_id, before, head.adopted_version, plan)
    audit(
        session,
        actor,
        what,
        f"plan {plan_id}",
        version=head.adopted_version,
        lines=told[:50],
    )
    return row


def _move_drafts(session: Session, plan_id: int, before: int, after: int, plan: Plan) -> None:
    """Have drafts stand on the new version, those left alone whose operations do not fit it."""
    rows = session.scalars(
        select(DraftRow)
        .where(
            DraftRow.plan_id == plan_id, DraftRow.state == "open", DraftRow.base_version == before
        )
        .with_for_update()
    ).all()
    for row in rows:
        try:
            operations = draft(session, row.id).operations
            apply_all(with_points_for(session, plan_id, plan, operations), operations)
        except OperationError:
            continue
        row.base_version = after
        row.revision += 1
    session.flush()


def accept_differences(
    session: Session,
    plan_id: int,
    ids: Sequence[int],
    plan_of: PlanOf,
    today_of: TodayOf,
    *,
    actor: str,
) -> Acceptance:
    """Take differences into the plan, new hosts and datastores that they need with them.

    Raises:
        NotFound: where one of them is not open any more.
        EstateError: where one cannot be taken; nothing is changed then.
    """
    lock_plan(session, plan_id)
    chosen_rows(session, plan_id, ids)
    entries = with_needed(inbox(session, plan_id), ids)
    names = {entry.difference.name for entry in entries}
    names |= {str((entry.difference.now or {}).get("name", "")) for entry in entries} - {""}
    row = _change_estate(
        session, plan_id, plan_of, lambda plan: taken(plan, entries, today_of(plan)),
        what="accept", words=lambda: [entry.difference.words for entry in entries],
        subjects=sorted(names), actor=actor,
    )  # fmt: skip
    chosen = [entry.id for entry in entries]
    for first in range(0, len(chosen), 1000):
        session.execute(
            update(DifferenceRow)
            .where(DifferenceRow.id.in_(chosen[first : first + 1000]))
            .values(state=ACCEPTED, acceptance_id=row.id)
        )
    session.flush()
    return _acceptance(row)


def edit_facts(
    session: Session, plan_id: int, edits: Sequence[FactEdit], plan_of: PlanOf, *, actor: str
) -> Acceptance:
    """Edit facts of machines, all in one change. Raises FactError; nothing is changed then."""

    def change(plan: Plan) -> Plan:
        for edit in edits:
            plan = edit.apply(plan)
        return plan

    row = _change_estate(
        session, plan_id, plan_of, change, what="edit",
        words=lambda: [edit.describe() for edit in edits],
        subjects=[machine for edit in edits for machine in edit.machines], actor=actor,
    )  # fmt: skip
    return _acceptance(row)


def replace_estate(
    session: Session, plan_id: int, plan: Plan, words: Sequence[str], subjects: Sequence[str],
    plan_of: PlanOf, base_version: int, *, actor: str,
) -> Acceptance:  # fmt: skip
    """Adopt an imported estate. Raises EstateError where the plan changed meanwhile."""

    def change(_now: Plan) -> Plan:
        head = session.get(PlanRow, plan_id)
        if head is None or head.adopted_version != base_version:
            raise EstateError("plan", "was changed meanwhile; look at the preview again")
        return plan

    row = _change_estate(
        session, plan_id, plan_of, change, what="import", words=lambda: words, subjects=subjects,
        actor=actor,
    )  # fmt: skip
    return _acceptance(row)


def undo_acceptance(
    session: Session, acceptance_id: int, plan_of: PlanOf, today_of: TodayOf, *, actor: str
) -> Acceptance:
    """Bring back what one change of the estate changed; its differences come to the inbox again."""
    row = session.get(AcceptanceRow, acceptance_id)
    if row is not None:
        lock_plan(session, row.plan_id)
        session.refresh(row)
    if row is None or row.undone:
        raise NotFound(f"there is no change {acceptance_id} that could be undone")
    then = plan_of(row.before_version)
    made = _change_estate(
        session, row.plan_id, plan_of,
        lambda plan: with_estate_of(plan, then, today_of(plan), row.subjects),
        what="undo", words=lambda: [f"undone: {line}" for line in row.words], subjects=row.subjects,
        actor=actor,
    )  # fmt: skip
    row.undone = True
    session.execute(
        update(DifferenceRow)
        .where(DifferenceRow.acceptance_id == acceptance_id)
        .values(state=OPEN, acceptance_id=None)
    )
    session.flush()
    return _acceptance(made)


def bring_back(
    session: Session, acceptance_id: int, plan_of: PlanOf, today_of: TodayOf, *, actor: str
) -> Acceptance:
    """Bring back the whole estate as it was after a change; jobs and points stay as they are."""
    row = session.get(AcceptanceRow, acceptance_id)
    if row is None:
        raise NotFound(f"there is no change {acceptance_id}")
    then = plan_of(row.after_version)
    made = _change_estate(
        session, row.plan_id, plan_of, lambda plan: with_estate_of(plan, then, today_of(plan)),
        what="bring back", words=lambda: [f"the estate as of {row.at:%d %b %Y %H:%M} UTC"],
        subjects=[], actor=actor,
    )  # fmt: skip
    return _acceptance(made)
