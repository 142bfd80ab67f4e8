"""Sources of the estate: their accounts, and how each was read."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from gambrel.core.estate.differences import (
    EstateError,
)
from gambrel.store.audit import audit
from gambrel.store.inbox import OPEN
from gambrel.store.models import (
    CredentialRow,
    DifferenceRow,
    DiscoveryRow,
    SourceRow,
    now_utc,
)
from gambrel.store.plans import NotFound
from gambrel.store.sealing import Sealer

WORKS_FOR_MOST = "works for most"


# --- sources ------------------------------------------------------------------------------------


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


# --- discoveries --------------------------------------------------------------------------------


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
