"""The inbox: differences between what sources say and the plan."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime

from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from gambrel.core.estate.differences import (
    KINDS,
    Difference,
    accept_all,
    in_order,
)
from gambrel.core.plan.objects import Plan
from gambrel.store.audit import audit
from gambrel.store.models import (
    DifferenceRow,
    SourceRow,
)
from gambrel.store.plans import NotFound, locked_plan

OPEN, ACCEPTED, DISMISSED = "open", "accepted", "dismissed"


@dataclass(frozen=True, slots=True)
class InboxEntry:
    id: int
    difference: Difference
    state: str
    found_at: datetime


def _entry(row: DifferenceRow, source_name: str, site: str) -> InboxEntry:
    found = Difference(
        row.kind, row.subject, source_name, row.uid, row.name, row.words, row.now, site  # type: ignore[arg-type]
    )  # fmt: skip
    return InboxEntry(row.id, found, row.state, row.found_at)


def inbox(session: Session, plan_id: int, state: str = OPEN) -> list[InboxEntry]:
    """The differences of a plan, by kind and name."""
    rows = session.execute(
        select(DifferenceRow, SourceRow.name, SourceRow.site)
        .join(SourceRow, SourceRow.id == DifferenceRow.source_id)
        .where(DifferenceRow.plan_id == plan_id, DifferenceRow.state == state)
        .order_by(DifferenceRow.name, DifferenceRow.id)
    )
    entries = [_entry(row, name, site) for row, name, site in rows]
    return sorted(entries, key=lambda entry: KINDS.index(entry.difference.kind))


def lock_plan(session: Session, plan_id: int) -> int:
    """Have nobody else change the estate of a plan; returns its adopted version."""
    version = locked_plan(session, plan_id).adopted_version
    if version is None:
        raise NotFound(f"there is no plan {plan_id}")
    return version


def note_differences(
    session: Session, source_id: int, plan_id: int, found: Sequence[Difference]
) -> list[int]:
    """Make the inbox say what a finished discovery found; returns the ids of what is open.

    What was dismissed stays dismissed until the source says something else of it.
    """
    known = {
        key: (ident, state)
        for key, ident, state in session.execute(
            select(DifferenceRow.key, DifferenceRow.id, DifferenceRow.state).where(
                DifferenceRow.source_id == source_id
            )
        )
    }
    keys = {difference.key for difference in found}
    settled = [i for key, (i, state) in known.items() if key not in keys and state != ACCEPTED]
    for first in range(0, len(settled), 1000):
        some = settled[first : first + 1000]
        session.execute(delete(DifferenceRow).where(DifferenceRow.id.in_(some)))
    again = [i for key, (i, state) in known.items() if key in keys and state == ACCEPTED]
    for first in range(0, len(again), 1000):
        some = again[first : first + 1000]
        session.execute(
            update(DifferenceRow)
            .where(DifferenceRow.id.in_(some))
            .values(state=OPEN, acceptance_id=None)
        )
    rows = [
        {
            "plan_id": plan_id, "source_id": source_id, "key": d.key, "kind": d.kind,
            "subject": d.subject, "uid": d.uid, "name": d.name, "words": d.words, "now": d.now,
            "state": OPEN,
        }
        for d in {d.key: d for d in found}.values()
        if d.key not in known
    ]  # fmt: skip
    if rows:
        session.execute(DifferenceRow.__table__.insert(), rows)  # type: ignore[attr-defined]
    session.flush()
    return list(
        session.scalars(
            select(DifferenceRow.id).where(
                DifferenceRow.source_id == source_id, DifferenceRow.state == OPEN
            )
        )
    )


def dismiss(session: Session, plan_id: int, ids: Sequence[int], *, actor: str) -> None:
    """Take differences off the inbox without changing the plan."""
    lock_plan(session, plan_id)
    chosen_rows(session, plan_id, ids)
    session.execute(update(DifferenceRow).where(DifferenceRow.id.in_(ids)).values(state=DISMISSED))
    audit(session, actor, "dismiss differences", f"plan {plan_id}", ids=list(ids))


def bring_to_inbox(session: Session, plan_id: int, ids: Sequence[int], *, actor: str) -> None:
    """Put dismissed differences on the inbox again."""
    lock_plan(session, plan_id)
    chosen_rows(session, plan_id, ids, DISMISSED)
    session.execute(update(DifferenceRow).where(DifferenceRow.id.in_(ids)).values(state=OPEN))
    audit(session, actor, "reopen differences", f"plan {plan_id}", ids=list(ids))


def chosen_rows(
    session: Session, plan_id: int, ids: Sequence[int], state: str = OPEN
) -> list[InboxEntry]:
    entries = {entry.id: entry for entry in inbox(session, plan_id, state)}
    for ident in ids:
        if ident not in entries:
            raise NotFound(f"difference {ident} is not {state} any more; nothing was changed")
    return [entries[ident] for ident in dict.fromkeys(ids)]


def with_needed(entries: Sequence[InboxEntry], ids: Iterable[int]) -> list[InboxEntry]:
    """Chosen entries, and the new hosts and datastores of their sources that they may need."""
    wanted = set(ids)
    chosen = {entry.id: entry for entry in entries if entry.id in wanted}
    needing = {
        entry.difference.source
        for entry in chosen.values()
        if entry.difference.kind in ("new", "moved", "grown", "changed")
    }
    for entry in entries:
        found = entry.difference
        base = found.subject != "machine" and found.kind in ("new", "changed")
        if base and found.source in needing:
            chosen[entry.id] = entry
    return list(chosen.values())


def taken(plan: Plan, entries: Iterable[InboxEntry], today: date) -> Plan:
    """A plan with the differences of entries taken over. Raises EstateError."""
    return accept_all(plan, in_order(entry.difference for entry in entries), today)
