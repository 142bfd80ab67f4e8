"""Plans with their adopted version and their drafts."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from gambrel.core.edits.operations import (
    Operation,
    applied,
    apply_all,
    operation_from,
    operation_to_dict,
    points_move,
)
from gambrel.core.edits.point_owners import Handover, handovers
from gambrel.core.plan.objects import ExistingPoint, Plan
from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.store.audit import audit
from gambrel.store.models import AdoptionRow, DraftOperationRow, DraftRow, PlanRow, VersionRow
from gambrel.store.plan_tables import Unreadable, load_plan, save_plan
from gambrel.store.point_owners import as_kept, given_back, hand_over, with_points_for


class NotFound(LookupError):
    """There is no such plan or draft."""


class Changed(RuntimeError):
    """Somebody else changed the draft, or adopted another plan; `now` is what the draft is now."""

    def __init__(self, now: Draft, *, base_left: bool = False) -> None:
        self.now = now
        self.base_left = base_left
        super().__init__(f"draft {now.id} is at revision {now.revision}")


class NotYours(RuntimeError):
    """A draft that somebody else keeps to themselves; the text is their name."""


@dataclass(frozen=True, slots=True)
class PlanHead:
    id: int
    name: str
    adopted_version: int


@dataclass(frozen=True, slots=True)
class DraftChange:
    """One saved operation of a draft, with what it did in words.

    Attributes:
        revision: of the draft at which it was saved, or last undone or redone.
        act: the same for operations that were made by one act of a planner: they are undone and
            brought back together.
    """

    operation: Operation
    words: str
    actor: str = ""
    revision: int = 0
    act: int = 0


@dataclass(frozen=True, slots=True)
class Draft:
    """An open draft. `owner`: who started it; None: it is nobody's. `shared`: all may change it."""

    id: int
    plan_id: int
    base_version: int
    name: str
    revision: int
    created_at: datetime
    changes: tuple[DraftChange, ...]
    can_redo: bool
    undone: tuple[DraftChange, ...] = ()
    owner: str | None = None
    shared: bool = True

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


def locked_plan(session: Session, plan_id: int) -> PlanRow:
    """The row of a plan, which nobody else changes until the end of the transaction.

    Whoever changes what a plan's version is, or what stands on it, does this first: two that took
    their locks in another order would stop each other. Raises NotFound.
    """
    row = session.scalar(select(PlanRow).where(PlanRow.id == plan_id).with_for_update())
    if row is None:
        raise NotFound(f"there is no plan {plan_id}")
    return row


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
        raise NotFound(f"version {version_id} is not kept, or there never was one") from None


def plan_of_version(session: Session, version_id: int) -> int | None:
    """The id of the plan that a version is of; None where there is no such version."""
    row = session.get(VersionRow, version_id)
    return None if row is None else row.plan_id


def version_made_at(session: Session, version_id: int) -> datetime:
    """When a version was written, UTC."""
    return session.get_one(VersionRow, version_id).created_at


LOOKED_BACK = 20
"""Versions that are tried, newest first, to find one that can be read."""


def last_readable(session: Session, plan_id: int) -> tuple[int, datetime] | None:
    """The newest version of a plan that can be read, and when it was written."""
    query = (
        select(VersionRow.id, VersionRow.created_at)
        .where(VersionRow.plan_id == plan_id, VersionRow.emptied_at.is_(None))
        .order_by(VersionRow.id.desc())
        .limit(LOOKED_BACK)
    )
    for ident, at in session.execute(query).all():
        try:
            load_plan(session, ident)
        except Unreadable:
            continue
        return ident, at
    return None


def restore_version(session: Session, plan_id: int, version_id: int, *, actor: str) -> PlanHead:
    """Adopt an earlier version again, because the adopted one cannot be read.

    Raises:
        NotFound: where it is no version of this plan, or is not kept any more.
        Unreadable: where it cannot be read either.
    """
    row = locked_plan(session, plan_id)
    version = session.get(VersionRow, version_id)
    if version is None or version.plan_id != plan_id:
        raise NotFound(f"there is no version {version_id} of plan {plan_id}")
    version_plan(session, version_id)
    before, row.adopted_version = row.adopted_version, version_id
    audit(session, actor, "restore", f"plan {plan_id}", version=version_id, before=before)
    session.flush()
    return PlanHead(row.id, row.name, version_id)


# --- drafts -----------------------------------------------------------------------------------


def _change(row: DraftOperationRow) -> DraftChange:
    return DraftChange(operation_from(row.operation), row.words, row.actor, row.revision, row.act)


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
        changes=tuple(_change(r) for r in rows if not r.undone),
        can_redo=any(r.undone for r in rows),
        undone=tuple(_change(r) for r in rows if r.undone),
        owner=row.owner,
        shared=row.shared,
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


def head_and_draft(
    session: Session, plan_id: int, draft_id: int | None
) -> tuple[PlanHead, Draft | None]:
    """A plan, and the open draft of it that is asked for, if any. Raises NotFound."""
    head = plan_head(session, plan_id)
    found = None if draft_id is None else draft(session, draft_id)
    if found is not None and found.plan_id != plan_id:
        raise NotFound(f"draft {draft_id} is not of plan {plan_id}")
    return head, found


def start_draft(session: Session, plan_id: int, name: str, *, actor: str) -> Draft:
    """A new, empty draft of a plan's adopted version; only who starts it changes it at first."""
    locked_plan(session, plan_id)
    head = plan_head(session, plan_id)
    row = DraftRow(
        plan_id=plan_id, base_version=head.adopted_version, name=name, owner=actor, shared=False
    )
    session.add(row)
    session.flush()
    audit(session, actor, "start draft", f"draft {row.id}", plan=plan_id, name=name)
    return _draft(session, row)


def _locked_plan_of(session: Session, draft_id: int) -> PlanRow:
    plan_id = session.scalar(select(DraftRow.plan_id).where(DraftRow.id == draft_id))
    if plan_id is None:
        raise NotFound(f"there is no open draft {draft_id}")
    return locked_plan(session, plan_id)


def _checked_row(session: Session, draft_id: int, revision: int, actor: str) -> DraftRow:
    """The locked row of a draft that is still as its reader saw it and that they may change."""
    row = _locked_row(session, draft_id)
    if row.owner not in (None, actor) and not row.shared:
        raise NotYours(row.owner)
    if row.revision != revision:
        raise Changed(_draft(session, row))
    return row


def add_operations(
    session: Session,
    draft_id: int,
    revision: int,
    operations: Sequence[Operation],
    *,
    actor: str,
    acts: Sequence[int] | None = None,
) -> Draft:
    """Save operations at the end of a draft; what had been undone is gone for good.

    Args:
        acts: how many of the operations, in order, belong to each act of the planner; None where
            they are all one act.

    Raises:
        NotFound: where there is no such open draft.
        Changed: where the draft is no longer at this revision.
        OperationError: where an operation cannot be applied; nothing is saved then.
    """
    row = _checked_row(session, draft_id, revision, actor)
    before = _draft(session, row)
    plan = apply_all(_base(session, row, [*before.operations, *operations]), before.operations)
    session.execute(
        delete(DraftOperationRow).where(
            DraftOperationRow.draft_id == draft_id, DraftOperationRow.undone
        )
    )
    last, last_act = session.execute(
        select(func.max(DraftOperationRow.position), func.max(DraftOperationRow.act)).where(
            DraftOperationRow.draft_id == draft_id
        )
    ).one()
    sizes = [len(operations)] if acts is None else acts
    act_of = [act for act, size in enumerate(sizes, start=(last_act or 0) + 1) for _ in range(size)]
    for offset, (operation, act) in enumerate(zip(operations, act_of, strict=True), start=1):
        plan, words = applied(plan, operation)
        session.add(
            DraftOperationRow(
                draft_id=draft_id,
                position=(last or 0) + offset,
                operation=operation_to_dict(operation),
                words=words,
                act=act,
                actor=actor,
                revision=row.revision + 1,
            )
        )
        audit(session, actor, operation.name, f"draft {draft_id}", words=words)
    row.revision += 1
    session.flush()
    return _draft(session, row)


def _set_undone(
    session: Session, draft_id: int, revision: int, *, undone: bool, actor: str
) -> Draft:
    row = _checked_row(session, draft_id, revision, actor)
    order = DraftOperationRow.position.desc() if undone else DraftOperationRow.position
    open_ = session.scalars(
        select(DraftOperationRow)
        .where(DraftOperationRow.draft_id == draft_id, DraftOperationRow.undone != undone)
        .order_by(order)
    ).all()
    targets = [each for each in open_ if each.act == open_[0].act]
    if targets:
        row.revision += 1
        for target in targets:
            target.undone = undone
            target.revision = row.revision
        action = "undo" if undone else "redo"
        words = "; ".join(target.words for target in targets)
        audit(session, actor, action, f"draft {draft_id}", words=words)
        session.flush()
    return _draft(session, row)


def undo(session: Session, draft_id: int, revision: int, *, actor: str) -> Draft:
    """Take the operations of the last act in a draft back; nothing happens where there is none."""
    return _set_undone(session, draft_id, revision, undone=True, actor=actor)


def redo(session: Session, draft_id: int, revision: int, *, actor: str) -> Draft:
    """Bring the operations back that were last undone; nothing happens where there is none."""
    return _set_undone(session, draft_id, revision, undone=False, actor=actor)


def rename(session: Session, draft_id: int, revision: int, name: str, *, actor: str) -> Draft:
    """Give a draft another name. Raises Changed."""
    row = _checked_row(session, draft_id, revision, actor)
    audit(session, actor, "rename", f"draft {draft_id}", was=row.name, now=name)
    row.name = name
    row.revision += 1
    session.flush()
    return _draft(session, row)


def share(
    session: Session, draft_id: int, *, shared: bool, actor: str, despite_owner: bool = False
) -> Draft:
    """Let everybody who may plan change a draft, or only its owner.

    Args:
        despite_owner: for somebody else's, as its owner may have left.

    Raises:
        NotFound, NotYours
    """
    row = _locked_row(session, draft_id)
    if row.owner not in (None, actor) and not despite_owner:
        raise NotYours(row.owner)
    if row.shared != shared:
        row.shared = shared
        row.owner = row.owner or actor
        row.revision += 1
        audit(session, actor, "share" if shared else "keep to oneself", f"draft {draft_id}",
              name=row.name, owner=row.owner)  # fmt: skip
    session.flush()
    return _draft(session, row)


def duplicate(session: Session, draft_id: int, name: str, *, actor: str) -> Draft:
    """Another draft with the same operations on the same version. Raises NotFound."""
    source = draft(session, draft_id)
    row = DraftRow(
        plan_id=source.plan_id, base_version=source.base_version, name=name, owner=actor,
        shared=False,
    )  # fmt: skip
    session.add(row)
    session.flush()
    for position, change in enumerate(source.changes, start=1):
        session.add(
            DraftOperationRow(
                draft_id=row.id,
                position=position,
                operation=operation_to_dict(change.operation),
                words=change.words,
                act=change.act,
                actor=change.actor,
                revision=1,
            )
        )
    audit(session, actor, "start draft", f"draft {row.id}", like=draft_id, name=name)
    session.flush()
    return _draft(session, row)


def discard(session: Session, draft_id: int, revision: int, *, actor: str) -> None:
    """Close a draft without adopting it. Raises Changed."""
    row = _checked_row(session, draft_id, revision, actor)
    row.state = "discarded"
    row.revision += 1
    audit(session, actor, "discard", f"draft {draft_id}", name=row.name)


def carry_over(session: Session, draft_id: int, revision: int, *, actor: str) -> Draft:
    """Have a draft stand on the plan that is adopted now. What was undone is gone for good.

    Raises:
        Changed: where the draft is no longer at this revision.
        OperationError: where one of its operations does not fit that plan; nothing changes then.
    """
    _locked_plan_of(session, draft_id)
    row = _checked_row(session, draft_id, revision, actor)
    head = plan_head(session, row.plan_id)
    plan = version_plan(session, head.adopted_version)
    current = _draft(session, row)
    session.execute(delete(DraftOperationRow).where(DraftOperationRow.draft_id == draft_id))
    row.base_version = head.adopted_version
    row.revision += 1
    for position, change in enumerate(current.changes, start=1):
        plan, words = applied(plan, change.operation)
        session.add(
            DraftOperationRow(
                draft_id=draft_id,
                position=position,
                operation=operation_to_dict(change.operation),
                words=words,
                act=change.act,
                actor=change.actor,
                revision=row.revision,
            )
        )
    audit(session, actor, "carry over", f"draft {draft_id}", version=head.adopted_version)
    session.flush()
    return _draft(session, row)


class SecondPersonNeeded(RuntimeError):
    """Who changed something in a draft may not be the one who adopts it."""


def adopt(
    session: Session,
    draft_id: int,
    revision: int,
    *,
    actor: str,
    note: str,
    second_person: bool = False,
) -> PlanHead:
    """Make the draft's plan the adopted version and close the draft.

    Args:
        second_person: whether it takes somebody who changed nothing in it.

    Raises:
        Changed: where the draft, or the plan that it stands on, has changed meanwhile.
        SecondPersonNeeded
    """
    head_row = _locked_plan_of(session, draft_id)
    row = _checked_row(session, draft_id, revision, actor)
    current = _draft(session, row)
    if second_person:
        authors = select(DraftOperationRow.actor).where(
            DraftOperationRow.draft_id == draft_id, DraftOperationRow.undone.is_(False)
        )
        if actor in set(session.scalars(authors)):
            raise SecondPersonNeeded(actor)
    if head_row.adopted_version != row.base_version:
        raise Changed(current, base_left=True)
    base = _base(session, row, current.operations)
    plan = apply_all(base, current.operations)
    moved: tuple[Handover, ...] = ()
    if points_move(current.operations):
        moved = handovers(base.state.points, plan.state.points)
        hand_over(session, row.plan_id, plan, moved)
    head_row.adopted_version = save_plan(session, row.plan_id, plan, note)
    row.state = "adopted"
    row.revision += 1
    session.add(
        AdoptionRow(
            plan_id=row.plan_id,
            before_version=row.base_version,
            version_id=head_row.adopted_version,
            draft_id=draft_id,
            note=note,
            words=[change.words for change in current.changes],
            actor=actor,
            handovers=as_kept(moved),
        )
    )
    audit(session, actor, "adopt", f"draft {draft_id}", version=head_row.adopted_version, note=note)
    session.flush()
    return PlanHead(head_row.id, head_row.name, head_row.adopted_version)


def _base(session: Session, row: DraftRow, operations: Iterable[Operation]) -> Plan:
    """The plan that a draft stands on; with the points of now where operations move such."""
    plan = version_plan(session, row.base_version)
    return with_points_for(session, row.plan_id, plan, operations)


# --- what was adopted, and going back ----------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Adoption:
    """A plan that came in force: what changed in words, why, by whom, and what was before.

    Attributes:
        kept: whether the content of both versions is kept, so that one can look at it and go back.
    """

    id: int
    version: int
    before_version: int | None
    note: str
    words: tuple[str, ...]
    actor: str
    at: datetime
    kept: bool


def emptied_versions(session: Session, plan_id: int) -> set[int]:
    """The versions of a plan whose content is not kept any more."""
    query = select(VersionRow.id).where(
        VersionRow.plan_id == plan_id, VersionRow.emptied_at.is_not(None)
    )
    return set(session.scalars(query))


def adoptions(session: Session, plan_id: int) -> list[Adoption]:
    """All that was adopted by hand, the newest first."""
    query = (
        select(AdoptionRow).where(AdoptionRow.plan_id == plan_id).order_by(AdoptionRow.id.desc())
    )
    emptied = emptied_versions(session, plan_id)
    return [
        Adoption(
            row.id, row.version_id, row.before_version, row.note, tuple(row.words), row.actor,
            row.at, not emptied & {row.version_id, row.before_version},
        )
        for row in session.scalars(query)
    ]  # fmt: skip


def _points_given_back(now: Plan, old: Plan) -> tuple[ExistingPoint, ...]:
    """The points that exist now, under the jobs that the older plan knows for them."""
    owners = {(p.machine, p.repository, p.at): p.job for p in old.state.points}
    found = []
    for point in now.state.points:
        job = owners.get((point.machine, point.repository, point.at), point.job)
        if job in old.job_by_id:
            found.append(replace(point, job=job))
    return tuple(found)


def go_back(session: Session, plan_id: int, adoption_id: int, *, actor: str, note: str) -> PlanHead:
    """Adopt again what was in force before an adoption, on the estate as it is now.

    Raises:
        NotFound: where there is no such adoption of this plan.
        PlanError: where the older plan names what the estate has no longer; nothing changes then.
    """
    adoption = session.get(AdoptionRow, adoption_id)
    if adoption is None or adoption.plan_id != plan_id or adoption.before_version is None:
        raise NotFound(f"there is no adoption {adoption_id} of plan {plan_id} to go back from")
    head_row = locked_plan(session, plan_id)
    assert head_row.adopted_version is not None
    now = version_plan(session, head_row.adopted_version)
    old = version_plan(session, adoption.before_version)
    kept = {name: getattr(now, name) for name in ("hosts", "datastores", "machines")}
    state = replace(now.state, points=_points_given_back(now, old))
    plan = read_plan(write_plan(replace(old, **kept, state=state)))
    since = session.scalars(
        select(AdoptionRow)
        .where(AdoptionRow.plan_id == plan_id, AdoptionRow.id >= adoption_id)
        .order_by(AdoptionRow.id.desc())
    )
    moved = given_back(since, plan)
    hand_over(session, plan_id, plan, moved)
    before = head_row.adopted_version
    head_row.adopted_version = save_plan(session, plan_id, plan, note)
    session.add(
        AdoptionRow(
            plan_id=plan_id,
            before_version=before,
            version_id=head_row.adopted_version,
            draft_id=None,
            note=note,
            words=[f"back to what was in force before {adoption.at:%Y-%m-%d %H:%M} UTC"],
            actor=actor,
            handovers=as_kept(moved),
        )
    )
    audit(session, actor, "go back", f"plan {plan_id}", version=head_row.adopted_version, note=note)
    session.flush()
    return PlanHead(head_row.id, head_row.name, head_row.adopted_version)
