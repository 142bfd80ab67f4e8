"""What the store gives up again, and by which rule.

Of each plan the newest versions are kept, and whatever somebody still needs: the adopted one, those
that open drafts began from, and those of what was adopted lately. Of an older one only the line in
the history remains.
Finished computations, used links, ended sessions and what runners reported long ago go likewise.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import delete, func, or_, select, text, update
from sqlalchemy.orm import Session

from gambrel.core.units import DAY
from gambrel.store.ledger_models import (
    LedgerEventRow,
    LedgerNightRow,
    LedgerPointRow,
    LedgerRunRow,
    MailRow,
)
from gambrel.store.models import (
    AdoptionRow,
    AuditRow,
    Base,
    ComputationRow,
    DiscoveryRow,
    DraftRow,
    PlanRow,
    SignInLinkRow,
    SignInRow,
    VersionRow,
    now_utc,
)

AT_ONCE = 20
"""Versions that are emptied in one transaction."""


@dataclass(frozen=True, slots=True)
class Keep:
    """How much is kept of each plan.

    Attributes:
        versions: the newest so many.
        adoptions: the versions before and after the newest so many.
        computations: the newest so many; those that run are kept besides.
        discoveries: of each source, the newest so many.
        event_days: so long, in days, events of runners, mails that went out and restore points
            that are gone.
        audit_days: so long, in days, entries of the audit trail; at least 90.
        ledger_days: so long, in days before the newest night, the nights and runs of the ledger.
    """

    versions: int = 100
    adoptions: int = 20
    computations: int = 50
    discoveries: int = 50
    event_days: int = 90
    audit_days: int = 730
    ledger_days: int = 3650


LEAST_AUDIT_DAYS = 91
"""The database itself refuses to delete younger entries of the trail."""


def _old_versions(session: Session, keep: Keep) -> list[int]:
    place = func.row_number().over(partition_by=VersionRow.plan_id, order_by=VersionRow.id.desc())
    placed = select(VersionRow.id, place.label("place")).where(VersionRow.emptied_at.is_(None))
    numbered = placed.subquery()
    in_use = select(PlanRow.adopted_version).where(PlanRow.adopted_version.is_not(None))
    # Whoever adopted something lately can go back from it.
    turn = func.row_number().over(partition_by=AdoptionRow.plan_id, order_by=AdoptionRow.id.desc())
    turned = select(AdoptionRow.version_id, AdoptionRow.before_version, turn.label("turn"))
    recent = turned.subquery()
    ways_back = [
        select(column).where(recent.c.turn <= keep.adoptions, column.is_not(None))
        for column in (recent.c.version_id, recent.c.before_version)
    ]
    based_on = select(DraftRow.base_version).where(DraftRow.state == "open")
    query = select(numbered.c.id).where(
        numbered.c.place > keep.versions,
        numbered.c.id.not_in(in_use),
        numbered.c.id.not_in(based_on),
        *(numbered.c.id.not_in(way) for way in ways_back),
    )
    return list(session.scalars(query.order_by(numbered.c.id).limit(AT_ONCE)))


def empty_old_versions(session: Session, keep: Keep) -> int:
    """Give up the content of some versions that nobody stands on any more; returns how many.

    Plans are locked first, so that no draft begins on one of them meanwhile.
    """
    session.execute(select(PlanRow.id).order_by(PlanRow.id).with_for_update())
    old = _old_versions(session, keep)
    if not old:
        return 0
    # Children first, as rows refer to those of their owners.
    for table in reversed(Base.metadata.sorted_tables):
        if "version_id" in table.primary_key.columns:
            session.execute(delete(table).where(table.c.version_id.in_(old)))
    session.execute(update(VersionRow).where(VersionRow.id.in_(old)).values(emptied_at=now_utc()))
    return len(old)


def drop_old_results(session: Session, keep: Keep) -> int:
    """Give up old computations and discoveries, used links and ended sessions; how many rows."""
    dropped = 0
    for row, owner, count in (
        (ComputationRow, ComputationRow.plan_id, keep.computations),
        (DiscoveryRow, DiscoveryRow.source_id, keep.discoveries),
    ):
        place = func.row_number().over(partition_by=owner, order_by=row.id.desc())
        numbered = select(row.id, place.label("place")).where(row.state != "running").subquery()
        old = list(session.scalars(select(numbered.c.id).where(numbered.c.place > count)))
        session.execute(delete(row).where(row.id.in_(old)))
        dropped += len(old)
    now = now_utc()
    for gone in (
        delete(SignInLinkRow).where(
            or_(SignInLinkRow.expires_at <= now, SignInLinkRow.used_at.is_not(None))
        ),
        delete(SignInRow).where(SignInRow.expires_at <= now),
    ):
        dropped += session.execute(gone).rowcount  # type: ignore[attr-defined]
    return dropped + _drop_old_events(session, keep)


def _drop_old_events(session: Session, keep: Keep) -> int:
    since = now_utc() - timedelta(days=keep.event_days)
    old = [
        delete(LedgerEventRow).where(LedgerEventRow.received_at < since),
        delete(MailRow).where(MailRow.created_at < since, MailRow.state != "waiting"),
    ]
    # A runner's clock may be a simulated one, so points are as old as its newest news.
    newest = session.execute(
        select(LedgerPointRow.plan_id, func.max(LedgerPointRow.gone_at)).group_by(
            LedgerPointRow.plan_id
        )
    )
    old += [
        delete(LedgerPointRow).where(
            LedgerPointRow.plan_id == plan_id,
            LedgerPointRow.gone_at < last - keep.event_days * DAY,
        )
        for plan_id, last in newest
        if last is not None
    ]
    old.append(
        delete(AuditRow).where(
            AuditRow.at < now_utc() - timedelta(days=max(LEAST_AUDIT_DAYS, keep.audit_days))
        )
    )
    nights = session.execute(
        select(LedgerNightRow.plan_id, func.max(LedgerNightRow.night)).group_by(
            LedgerNightRow.plan_id
        )
    )
    for plan_id, last in nights:
        before = last - timedelta(days=keep.ledger_days)
        old += [
            # The machine-runs of a run go with it.
            delete(row).where(row.plan_id == plan_id, row.night < before)
            for row in (LedgerRunRow, LedgerNightRow)
        ]
    return sum(session.execute(gone).rowcount for gone in old)  # type: ignore[attr-defined]


# --- what takes how much ------------------------------------------------------------------------

_KINDS = {
    "the ledger": ("ledger_", "point_checks", "left_overs", "orders", "runners"),
    "the audit trail": ("audit_entries",),
    "proposals and other long computations": ("computations",),
    "drafts and templates": ("draft", "job_templates", "recoveries"),
    "sources and what they say": (
        "sources", "credentials", "discoveries", "differences", "standing_rules", "acceptances",
    ),
    "people, tokens, feeds and mail": (
        "people", "tokens", "feeds", "sign_in", "mails", "settings", "identity", "alembic",
    ),
}  # fmt: skip
"""By kind the beginnings of names of tables; all others hold versions of plans."""


@dataclass(frozen=True, slots=True)
class Taken:
    """What a kind of data takes in the database, as the database estimates it."""

    kind: str
    rows: int
    bytes: int


def taken(session: Session) -> list[Taken]:
    """What takes how much, the most first."""
    rows = session.execute(
        text(
            "SELECT table_name, COALESCE(table_rows, 0), "
            "COALESCE(data_length, 0) + COALESCE(index_length, 0) "
            "FROM information_schema.tables WHERE table_schema = DATABASE()"
        )
    )
    sums: dict[str, list[int]] = {}
    for name, count, size in rows:
        kinds = (kind for kind, begins in _KINDS.items() if name.startswith(begins))
        told = sums.setdefault(next(kinds, "versions of plans"), [0, 0])
        told[0] += int(count)
        told[1] += int(size)
    return sorted((Taken(kind, *told) for kind, told in sums.items()), key=lambda t: -t.bytes)
