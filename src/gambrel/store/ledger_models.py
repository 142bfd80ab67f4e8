"""The tables of the ledger: runners, orders, runs, what is left behind, mail.

Instants of the runner's clock are UTC seconds; `occurrence_us` are microseconds, as a number that
is looked for must be exact. Names of jobs, machines and the like are kept as they were: the plan
may have changed since.
"""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import JSON, BigInteger, ForeignKey, Index, Integer, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from gambrel.store.models import Base, Ident, now_utc


def in_us(instant: float) -> int:
    """An instant in whole microseconds."""
    return round(instant * 1e6)


EVENT_ID = String(80, collation="utf8mb4_nopad_bin")


class RunnerRow(Base):
    """Whoever may report runs of a plan; only the hash of the token is kept.

    `clock` is the last instant that it told, `offset_s` how far its clock is ahead of ours.
    """

    __tablename__ = "runners"

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"), index=True)
    name: Mapped[str] = mapped_column(String(200))
    kind: Mapped[str] = mapped_column(String(20))
    token_hash: Mapped[str] = mapped_column(String(64), unique=True)
    created_at: Mapped[datetime] = mapped_column(default=now_utc)
    revoked_at: Mapped[datetime | None]
    last_seen_at: Mapped[datetime | None]
    clock: Mapped[float | None]
    offset_s: Mapped[float] = mapped_column(default=0.0)
    speed: Mapped[float | None]


class OrderRow(Base):
    """Something that a runner is asked to do once."""

    __tablename__ = "orders"

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"), index=True)
    kind: Mapped[str] = mapped_column(String(20))
    job: Mapped[str | None] = mapped_column(Ident)
    machines: Mapped[list[Any]]
    detail: Mapped[dict[str, Any]]
    state: Mapped[str] = mapped_column(String(20), default="open", index=True)
    words: Mapped[str] = mapped_column(String(1000))
    effect: Mapped[str] = mapped_column(String(2000), default="")
    reason: Mapped[str] = mapped_column(String(500), default="")
    actor: Mapped[str] = mapped_column(String(200))
    seconded_by: Mapped[str | None] = mapped_column(String(200))
    created_at: Mapped[datetime] = mapped_column(default=now_utc)
    at: Mapped[float]
    taken_at: Mapped[float | None]
    ended_at: Mapped[float | None]


class LedgerNightRow(Base):
    """A night that has begun: of which version its predictions are, and whether it was reported."""

    __tablename__ = "ledger_nights"

    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"), primary_key=True)
    night: Mapped[date] = mapped_column(primary_key=True)
    zone: Mapped[str] = mapped_column(String(80))
    version_id: Mapped[int]
    predicted_at: Mapped[float]
    summary: Mapped[dict[str, Any] | None] = mapped_column(JSON(none_as_null=True))
    mailed_at: Mapped[datetime | None]


class LedgerRunRow(Base):
    __tablename__ = "ledger_runs"
    __table_args__ = (
        UniqueConstraint("plan_id", "job", "occurrence_us"),
        Index("ix_ledger_runs_night", "plan_id", "night"),
    )

    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"))
    night: Mapped[date]
    job: Mapped[str] = mapped_column(Ident)
    occurrence_us: Mapped[int] = mapped_column(BigInteger)
    kind: Mapped[str | None] = mapped_column(String(20))
    outcome: Mapped[str | None] = mapped_column(String(20))
    began: Mapped[float | None]
    ended: Mapped[float | None]
    window_end: Mapped[float | None]
    order_id: Mapped[int | None] = mapped_column(Integer)
    origin: Mapped[str] = mapped_column(String(20))
    predicted: Mapped[dict[str, Any] | None] = mapped_column(JSON(none_as_null=True))


class LedgerMachineRow(Base):
    """A machine in a run."""

    __tablename__ = "ledger_machine_runs"
    __table_args__ = (
        UniqueConstraint("run_id", "machine"),
        Index("ix_ledger_machine_runs_time", "plan_id", "occurrence_us", "id"),
        Index("ix_ledger_machine_runs_machine", "plan_id", "machine", "occurrence_us"),
        Index("ix_ledger_machine_runs_job", "plan_id", "job", "occurrence_us"),
        Index("ix_ledger_machine_runs_outcome", "plan_id", "outcome", "occurrence_us"),
    )

    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("ledger_runs.id", ondelete="CASCADE"))
    plan_id: Mapped[int]
    night: Mapped[date]
    job: Mapped[str] = mapped_column(Ident)
    occurrence_us: Mapped[int] = mapped_column(BigInteger)
    machine: Mapped[str] = mapped_column(Ident)
    outcome: Mapped[str | None] = mapped_column(String(20))
    reason: Mapped[str] = mapped_column(String(500), default="")
    kind: Mapped[str | None] = mapped_column(String(20))
    queued: Mapped[float | None]
    start: Mapped[float | None]
    prepared: Mapped[float | None]
    moved: Mapped[float | None]
    released: Mapped[float | None]
    ended: Mapped[float | None]
    end_id: Mapped[str] = mapped_column(EVENT_ID, default="")
    source_bytes: Mapped[float] = mapped_column(default=0.0)
    wire_bytes: Mapped[float] = mapped_column(default=0.0)
    stored_bytes: Mapped[float] = mapped_column(default=0.0)
    disks: Mapped[list[Any]]
    left: Mapped[list[Any]]
    predicted: Mapped[dict[str, Any] | None] = mapped_column(JSON(none_as_null=True))


class LedgerEventRow(Base):
    """An event as it was reported; `refused` says why it was not taken."""

    __tablename__ = "ledger_events"
    __table_args__ = (
        UniqueConstraint("plan_id", "event_id"),
        Index("ix_ledger_events_run", "plan_id", "job", "occurrence_us"),
    )

    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    plan_id: Mapped[int]
    event_id: Mapped[str] = mapped_column(EVENT_ID)
    runner_id: Mapped[int]
    at: Mapped[float]
    received_at: Mapped[datetime] = mapped_column(default=now_utc)
    what: Mapped[str] = mapped_column(String(30))
    job: Mapped[str | None] = mapped_column(Ident)
    occurrence_us: Mapped[int | None] = mapped_column(BigInteger)
    machine: Mapped[str | None] = mapped_column(Ident)
    body: Mapped[dict[str, Any]]
    refused: Mapped[str | None] = mapped_column(String(500))


class LedgerPointRow(Base):
    """A restore point that really exists, or did."""

    __tablename__ = "ledger_points"
    __table_args__ = (
        UniqueConstraint("plan_id", "repository", "job", "machine", "at_us", "kind"),
        Index("ix_ledger_points_machine", "plan_id", "machine"),
    )

    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    plan_id: Mapped[int]
    repository: Mapped[str] = mapped_column(Ident)
    job: Mapped[str] = mapped_column(Ident)
    machine: Mapped[str] = mapped_column(Ident)
    kind: Mapped[str] = mapped_column(String(20))
    at_us: Mapped[int] = mapped_column(BigInteger)
    exists_from: Mapped[float | None]
    stored_bytes: Mapped[float]
    gone_at: Mapped[float | None]


class PointCheckRow(Base):
    """What was found out about a restore point; rows are only added, the newest counts.

    `checked_at` and `began` are instants of the runner's clock.
    """

    __tablename__ = "point_checks"
    __table_args__ = (Index("ix_point_checks_machine", "plan_id", "machine"),)

    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"))
    job: Mapped[str] = mapped_column(Ident)
    machine: Mapped[str] = mapped_column(Ident)
    repository: Mapped[str] = mapped_column(Ident)
    at_us: Mapped[int] = mapped_column(BigInteger)
    source: Mapped[str] = mapped_column(String(20))
    good: Mapped[bool]
    began: Mapped[float | None]
    checked_at: Mapped[float]
    predicted_s: Mapped[float | None]
    note: Mapped[str] = mapped_column(String(500), default="")
    actor: Mapped[str] = mapped_column(String(200))
    order_id: Mapped[int | None]
    made_at: Mapped[datetime] = mapped_column(default=now_utc)


class LeftOverRow(Base):
    """What runs left on a machine; open where it was left after it was last cleaned up."""

    __tablename__ = "left_overs"

    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"), primary_key=True)
    machine: Mapped[str] = mapped_column(Ident, primary_key=True)
    what: Mapped[str] = mapped_column(String(20), primary_key=True)
    since: Mapped[float | None]
    cleaned_at: Mapped[float | None]


class MailRow(Base):
    """A mail that is to go out, or went. `key` keeps the same mail from going twice."""

    __tablename__ = "mails"

    id: Mapped[int] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(String(190), unique=True)
    to: Mapped[list[Any]]
    subject: Mapped[str] = mapped_column(String(300))
    text: Mapped[str]
    html: Mapped[str]
    state: Mapped[str] = mapped_column(String(20), default="waiting", index=True)
    tries: Mapped[int] = mapped_column(default=0)
    next_try_at: Mapped[datetime] = mapped_column(default=now_utc)
    created_at: Mapped[datetime] = mapped_column(default=now_utc)
    sent_at: Mapped[datetime | None]
    error: Mapped[str] = mapped_column(String(500), default="")


class SettingRow(Base):
    """A group of settings: of a plan ("plan 3 runs"), or of the whole installation ("mail")."""

    __tablename__ = "settings"

    name: Mapped[str] = mapped_column(String(60), primary_key=True)
    value: Mapped[dict[str, Any]]
    changed_at: Mapped[datetime] = mapped_column(default=now_utc)
