"""Sources with their accounts, discoveries, the inbox of differences, and what was accepted."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import apply_all
from gambrel.core.estate.differences import (
    KINDS,
    Difference,
    EstateError,
    accept_all,
    in_order,
    takeable,
)
from gambrel.core.estate.effect import with_estate_of
from gambrel.core.estate.facts import FactEdit
from gambrel.core.plan.objects import Plan
from gambrel.store.audit import audit
from gambrel.store.models import (
    AcceptanceRow,
    CredentialRow,
    DifferenceRow,
    DiscoveryRow,
    DraftRow,
    PlanRow,
    SourceRow,
    StandingRuleRow,
    now_utc,
)
from gambrel.store.plan_tables import save_plan
from gambrel.store.plans import NotFound, draft, emptied_versions, locked_plan
from gambrel.store.sealing import Sealer

PlanOf = Callable[[int], Plan]
TodayOf = Callable[[Plan], date]
"""Gives the plan of a version, from memory where it is known."""

OPEN, ACCEPTED, DISMISSED = "open", "accepted", "dismissed"
WORKS_FOR_MOST = "works for most"


# --- sources ----------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Credential:
    """An account of a source without its secret, which never leaves the store but to connect."""

    id: int
    scope: str
    user: str
    outcome: str
    failure: str
    advice: str
    tried_at: datetime | None


@dataclass(frozen=True, slots=True)
class Discovery:
    id: int
    state: str
    read: int
    expected: int | None
    message: str
    found: int
    started_at: datetime
    ended_at: datetime | None


@dataclass(frozen=True, slots=True)
class Source:
    """A source; `access` sums its accounts up: works, works for most, fails, or not tried."""

    id: int
    plan_id: int
    name: str
    kind: str
    make: str
    address: str
    site: str
    interval_min: int | None
    revision: int
    access: str
    credentials: tuple[Credential, ...]
    last_discovery: Discovery | None
    differences: int


def _access(credentials: Sequence[Credential]) -> str:
    outcomes = {credential.outcome for credential in credentials}
    if not outcomes or outcomes == {"not tried"}:
        return "not tried"
    if outcomes == {"works"}:
        return "works"
    return WORKS_FOR_MOST if "works" in outcomes else "fails"


def sources(session: Session, plan_id: int) -> list[Source]:
    """All sources of a plan by kind and name, in a number of queries that does not grow."""
    rows = session.scalars(
        select(SourceRow).where(SourceRow.plan_id == plan_id).order_by(SourceRow.id)
    ).all()
    of_plan = select(SourceRow.id).where(SourceRow.plan_id == plan_id)
    credentials: dict[int, list[Credential]] = {}
    for row in session.scalars(
        select(CredentialRow).where(CredentialRow.source_id.in_(of_plan)).order_by(CredentialRow.id)
    ):
        credentials.setdefault(row.source_id, []).append(_credential(row))
    newest = (
        select(func.max(DiscoveryRow.id))
        .where(DiscoveryRow.source_id.in_(of_plan))
        .group_by(DiscoveryRow.source_id)
    )
    discoveries = {
        row.source_id: _discovery(row)
        for row in session.scalars(select(DiscoveryRow).where(DiscoveryRow.id.in_(newest)))
    }
    open_of = session.execute(
        select(DifferenceRow.source_id, func.count())
        .where(DifferenceRow.plan_id == plan_id, DifferenceRow.state == OPEN)
        .group_by(DifferenceRow.source_id)
    )
    counts = {row[0]: row[1] for row in open_of}
    return [
        Source(
            row.id, row.plan_id, row.name, row.kind, row.make, row.address, row.site,
            row.interval_min, row.revision, _access(credentials.get(row.id, [])),
            tuple(credentials.get(row.id, ())), discoveries.get(row.id), counts.get(row.id, 0),
        )
        for row in rows
    ]  # fmt: skip


def _credential(row: CredentialRow) -> Credential:
    return Credential(
        row.id, row.scope, row.user, row.outcome, row.failure, row.advice, row.tried_at
    )


def _discovery(row: DiscoveryRow) -> Discovery:
    return Discovery(
        row.id, row.state, row.read, row.expected, row.message, row.found, row.started_at,
        row.ended_at,
    )  # fmt: skip


def source(session: Session, source_id: int) -> Source:
    """One source. Raises NotFound."""
    row = session.get(SourceRow, source_id)
    if row is None:
        raise NotFound(f"there is no source {source_id}")
    return next(found for found in sources(session, row.plan_id) if found.id == source_id)


def add_source(
    session: Session,
    plan_id: int,
    fields: dict[str, Any],
    accounts: Iterable[tuple[str, str, str]],
    sealer: Sealer,
    *,
    actor: str,
) -> Source:
    """A new source with accounts of (scope, user, secret).

    Raises:
        EstateError: where the plan has a source of that name.
    """
    taken = session.scalar(
        select(SourceRow.id).where(SourceRow.plan_id == plan_id, SourceRow.name == fields["name"])
    )
    if taken is not None:
        raise EstateError(fields["name"], "is the name of another source of this plan")
    row = SourceRow(plan_id=plan_id, **fields)
    session.add(row)
    session.flush()
    for scope, user, secret in accounts:
        session.add(
            CredentialRow(
                source_id=row.id, scope=scope, user=user, sealed_secret=sealer.seal(secret)
            )
        )
    audit(session, actor, "add source", f"source {row.id}", name=row.name, address=row.address)
    session.flush()
    return source(session, row.id)


def change_source(
    session: Session, source_id: int, revision: int, fields: dict[str, Any], *, actor: str
) -> Source:
    """Change the address, site or interval of a source. Raises NotFound, EstateError."""
    row = session.scalar(select(SourceRow).where(SourceRow.id == source_id).with_for_update())
    if row is None:
        raise NotFound(f"there is no source {source_id}")
    if row.revision != revision:
        raise EstateError(row.name, "was changed by somebody else meanwhile; nothing was saved")
    for name, value in fields.items():
        setattr(row, name, value)
    row.revision += 1
    audit(session, actor, "change source", f"source {row.id}", **fields)
    session.flush()
    return source(session, source_id)


def remove_source(session: Session, source_id: int, *, actor: str) -> None:
    """Forget a source with its accounts and open differences; the plan keeps what it found."""
    row = session.get(SourceRow, source_id)
    if row is None:
        raise NotFound(f"there is no source {source_id}")
    audit(session, actor, "remove source", f"source {source_id}", name=row.name)
    session.delete(row)


def set_secret(
    session: Session, credential_id: int, user: str, secret: str, sealer: Sealer, *, actor: str
) -> Source:
    """Replace the user and secret of an account, which counts as not tried from then on."""
    row = session.get(CredentialRow, credential_id)
    if row is None:
        raise NotFound(f"there is no account {credential_id}")
    row.user, row.sealed_secret = user, sealer.seal(secret)
    row.outcome, row.failure, row.advice, row.tried_at = "not tried", "", "", None
    audit(session, actor, "set secret", f"source {row.source_id}", scope=row.scope, user=user)
    session.flush()
    return source(session, row.source_id)


def sealed_accounts(session: Session, source_id: int) -> list[tuple[int, str, str, str]]:
    """(id, scope, user, sealed secret) of the accounts of a source, in their order."""
    rows = session.scalars(
        select(CredentialRow).where(CredentialRow.source_id == source_id).order_by(CredentialRow.id)
    )
    return [(row.id, row.scope, row.user, row.sealed_secret) for row in rows]


def note_access(session: Session, results: Iterable[tuple[int, bool, str, str]]) -> None:
    """Keep how accounts did: (id, works, failure, advice)."""
    for ident, works, failure, advice in results:
        session.execute(
            update(CredentialRow)
            .where(CredentialRow.id == ident)
            .values(
                outcome="works" if works else "fails", failure=failure, advice=advice,
                tried_at=now_utc(),
            )
        )  # fmt: skip


# --- discoveries ------------------------------------------------------------------------------


def start_discovery(session: Session, source_id: int, *, actor: str) -> int:
    """Note that a source is read; returns the id of the discovery. Raises EstateError."""
    row = session.scalar(select(SourceRow).where(SourceRow.id == source_id).with_for_update())
    if row is None:
        raise NotFound(f"there is no source {source_id}")
    running = session.scalar(
        select(DiscoveryRow.id).where(
            DiscoveryRow.source_id == source_id, DiscoveryRow.state == "running"
        )
    )
    if running is not None:
        raise EstateError(row.name, "is being read at this moment")
    made = DiscoveryRow(source_id=source_id)
    session.add(made)
    audit(session, actor, "discover", f"source {source_id}", name=row.name)
    session.flush()
    return made.id


def note_progress(session: Session, discovery_id: int, read: int, expected: int | None) -> None:
    session.execute(
        update(DiscoveryRow)
        .where(DiscoveryRow.id == discovery_id, DiscoveryRow.state == "running")
        .values(read=read, expected=expected)
    )


def discovery(session: Session, discovery_id: int) -> Discovery:
    """One reading of a source. Raises NotFound."""
    row = session.get(DiscoveryRow, discovery_id)
    if row is None:
        raise NotFound(f"there is no discovery {discovery_id}")
    return _discovery(row)


def end_discovery(
    session: Session, discovery_id: int, state: str, message: str, found: int = 0
) -> None:
    session.execute(
        update(DiscoveryRow)
        .where(DiscoveryRow.id == discovery_id)
        .values(state=state, message=message, found=found, ended_at=now_utc())
    )


def interrupt_discoveries(session: Session) -> None:
    """Mark what was running when the application ended."""
    session.execute(
        update(DiscoveryRow)
        .where(DiscoveryRow.state == "running")
        .values(
            state="interrupted", ended_at=now_utc(),
            message="The application was stopped meanwhile. Nothing was changed.",
        )
    )  # fmt: skip


def due_sources(session: Session, now: datetime) -> list[int]:
    """Sources whose interval has passed since they were read last."""
    newest = (
        select(DiscoveryRow.source_id, func.max(DiscoveryRow.started_at).label("at"))
        .group_by(DiscoveryRow.source_id)
        .subquery()
    )
    rows = session.execute(
        select(SourceRow.id, SourceRow.interval_min, newest.c.at)
        .outerjoin(newest, newest.c.source_id == SourceRow.id)
        .where(SourceRow.interval_min.is_not(None))
    )
    return [
        ident
        for ident, interval, at in rows
        if at is None or (now - at).total_seconds() >= 60 * interval
    ]


# --- the inbox --------------------------------------------------------------------------------


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
    _chosen(session, plan_id, ids)
    session.execute(update(DifferenceRow).where(DifferenceRow.id.in_(ids)).values(state=DISMISSED))
    audit(session, actor, "dismiss differences", f"plan {plan_id}", ids=list(ids))


def bring_to_inbox(session: Session, plan_id: int, ids: Sequence[int], *, actor: str) -> None:
    """Put dismissed differences on the inbox again."""
    lock_plan(session, plan_id)
    _chosen(session, plan_id, ids, DISMISSED)
    session.execute(update(DifferenceRow).where(DifferenceRow.id.in_(ids)).values(state=OPEN))
    audit(session, actor, "reopen differences", f"plan {plan_id}", ids=list(ids))


def _chosen(
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


# --- acceptances ------------------------------------------------------------------------------


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
    plan = change(plan_of(before))
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
            apply_all(plan, draft(session, row.id).operations)
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
    _chosen(session, plan_id, ids)
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
    session: Session, plan_id: int, edit: FactEdit, plan_of: PlanOf, *, actor: str
) -> Acceptance:
    """Edit facts of machines. Raises FactError; nothing is changed then."""
    row = _change_estate(
        session, plan_id, plan_of, edit.apply, what="edit", words=lambda: [edit.describe()],
        subjects=list(edit.machines), actor=actor,
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


# --- standing rules ---------------------------------------------------------------------------


def standing_rules(session: Session, plan_id: int) -> dict[str, str]:
    """What is done with differences as soon as they are found, by kind."""
    rows = session.scalars(select(StandingRuleRow).where(StandingRuleRow.plan_id == plan_id))
    return {row.kind: row.action for row in rows}


def set_standing_rule(
    session: Session, plan_id: int, kind: str, action: str | None, *, actor: str
) -> None:
    """Accept or dismiss a kind as soon as it is found, or ask again (None)."""
    session.execute(
        delete(StandingRuleRow).where(
            StandingRuleRow.plan_id == plan_id, StandingRuleRow.kind == kind
        )
    )
    if action is not None:
        session.add(StandingRuleRow(plan_id=plan_id, kind=kind, action=action))
    audit(session, actor, "standing rule", f"plan {plan_id}", kind=kind, now=action)
    session.flush()


def follow_standing_rules(
    session: Session, plan_id: int, ids: Sequence[int], plan_of: PlanOf, today_of: TodayOf
) -> None:
    """Accept and dismiss what standing rules say of newly found differences.

    What cannot be accepted, such as a machine on a host that was dismissed, stays in the inbox.
    """
    rules = standing_rules(session, plan_id)
    if not rules:
        return
    new = set(ids)
    mine = [entry for entry in inbox(session, plan_id) if entry.id in new]
    for action in ("dismiss", "accept"):
        chosen = [e.id for e in mine if rules.get(e.difference.kind) == action]
        if action == "accept":
            plan = plan_of(lock_plan(session, plan_id))
            taking = with_needed(inbox(session, plan_id), chosen)
            fitting = takeable(plan, in_order(entry.difference for entry in taking), today_of(plan))
            keys = {(d.source, d.key) for d in fitting}
            new = {e.id for e in mine if (e.difference.source, e.difference.key) in keys}
            chosen = [ident for ident in chosen if ident in new]
        if chosen and action == "accept":
            accept_differences(session, plan_id, chosen, plan_of, today_of, actor="standing rule")
        elif chosen:
            dismiss(session, plan_id, chosen, actor="standing rule")
