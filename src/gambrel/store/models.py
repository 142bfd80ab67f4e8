"""The tables.

A plan has numbered versions; a version holds one whole plan file in the tables below it, keyed by
(version, id). Columns are named like the keys of the file (`from` and `to` become `from_time` and
`to_time`). What refers to another object is a foreign key; short lists of plain values (weekdays,
dates, tags) are JSON. A draft is a list of operations on a version.
"""

from __future__ import annotations

from datetime import UTC, date, datetime, time
from typing import Any

from sqlalchemy import (
    JSON,
    BigInteger,
    Boolean,
    Date,
    DateTime,
    Double,
    ForeignKey,
    ForeignKeyConstraint,
    Integer,
    String,
    Text,
    Time,
    UniqueConstraint,
    text,
)
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

ID_LENGTH = 190
"""The longest id that the store takes, in characters (four bytes each must fit an index)."""
EXACT = "utf8mb4_nopad_bin"
"""Ids differ by case, accents and trailing blanks, as they do in the plan file."""

KEYS_WITHOUT_A_COLUMN: dict[str, Any] = {"default": dict, "server_default": text("'{}'")}
"""Of a column that holds the keys of the plan file that the table has no column for."""

Ident = String(ID_LENGTH, collation=EXACT)


def now_utc() -> datetime:
    """This second, in UTC: what a DateTime column keeps."""
    return datetime.now(UTC).replace(tzinfo=None, microsecond=0)


class Base(DeclarativeBase):
    type_annotation_map = {  # noqa: RUF012 - read by SQLAlchemy on the class
        str: Text,
        int: Integer,
        float: Double,
        bool: Boolean,
        date: Date,
        datetime: DateTime,
        time: Time,
        list[Any]: JSON,
        dict[str, Any]: JSON,
    }


# --- plans, versions, drafts ------------------------------------------------------------------


class PlanRow(Base):
    __tablename__ = "plans"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(Ident, unique=True)
    adopted_version: Mapped[int | None] = mapped_column(
        ForeignKey("versions.id", use_alter=True, name="fk_plans_adopted_version")
    )
    created_at: Mapped[datetime] = mapped_column(default=now_utc)


class VersionRow(Base):
    """One whole plan file, never changed once written; its content may be given up one day."""

    __tablename__ = "versions"

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"))
    note: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = mapped_column(default=now_utc)
    emptied_at: Mapped[datetime | None]
    direct_mib_per_s: Mapped[float]
    hot_add_mib_per_s: Mapped[float]
    network_mib_per_s: Mapped[float]
    agent_mib_per_s: Mapped[float]
    more: Mapped[dict[str, Any]] = mapped_column(**KEYS_WITHOUT_A_COLUMN)


class DraftRow(Base):
    """Operations on a version; `revision` counts every change of them.

    `owner`: who started it, None for one that is nobody's; `shared`: others may change it, too.
    """

    __tablename__ = "drafts"

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"))
    base_version: Mapped[int] = mapped_column(ForeignKey("versions.id"))
    name: Mapped[str] = mapped_column(String(200))
    state: Mapped[str] = mapped_column(String(20), default="open")
    revision: Mapped[int] = mapped_column(default=1)
    owner: Mapped[str | None] = mapped_column(String(200))
    shared: Mapped[bool] = mapped_column(default=False)
    created_at: Mapped[datetime] = mapped_column(default=now_utc)


class DraftOperationRow(Base):
    __tablename__ = "draft_operations"

    draft_id: Mapped[int] = mapped_column(ForeignKey("drafts.id"), primary_key=True)
    position: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    operation: Mapped[dict[str, Any]]
    words: Mapped[str]
    act: Mapped[int]
    undone: Mapped[bool] = mapped_column(default=False)
    created_at: Mapped[datetime] = mapped_column(default=now_utc)
    actor: Mapped[str] = mapped_column(String(200))
    revision: Mapped[int]


class AdoptionRow(Base):
    """A plan that was adopted: the version that came in force, and the one before it."""

    __tablename__ = "adoptions"

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"))
    before_version: Mapped[int | None] = mapped_column(ForeignKey("versions.id"))
    version_id: Mapped[int] = mapped_column(ForeignKey("versions.id"))
    draft_id: Mapped[int | None] = mapped_column(ForeignKey("drafts.id"))
    note: Mapped[str]
    words: Mapped[list[Any]]
    actor: Mapped[str] = mapped_column(String(200))
    at: Mapped[datetime] = mapped_column(default=now_utc)
    handovers: Mapped[list[Any] | None] = mapped_column(JSON(none_as_null=True))


class ComputationRow(Base):
    """A long computation: what was asked, how far it is, what came out."""

    __tablename__ = "computations"

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"), index=True)
    kind: Mapped[str] = mapped_column(String(20))
    asked: Mapped[dict[str, Any]]
    state: Mapped[str] = mapped_column(String(20), default="running")
    progress: Mapped[dict[str, Any]]
    result: Mapped[dict[str, Any] | None] = mapped_column(JSON(none_as_null=True))
    message: Mapped[str] = mapped_column(String(2000), default="")
    actor: Mapped[str] = mapped_column(String(200))
    created_at: Mapped[datetime] = mapped_column(default=now_utc)
    ended_at: Mapped[datetime | None]


class JobTemplateRow(Base):
    """A job to start others from: an entry of `jobs` without its id and its machines."""

    __tablename__ = "job_templates"
    __table_args__ = (UniqueConstraint("plan_id", "name"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"))
    name: Mapped[str] = mapped_column(Ident)
    value: Mapped[dict[str, Any]]
    actor: Mapped[str] = mapped_column(String(200))
    created_at: Mapped[datetime] = mapped_column(default=now_utc)


class RecoveryRow(Base):
    """A loss and the way back from it, as they were asked for."""

    __tablename__ = "recoveries"
    __table_args__ = (UniqueConstraint("plan_id", "name"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"))
    name: Mapped[str] = mapped_column(Ident)
    asked: Mapped[dict[str, Any]]
    actor: Mapped[str] = mapped_column(String(200))
    saved_at: Mapped[datetime] = mapped_column(default=now_utc, onupdate=now_utc)


class PersonRow(Base):
    """Somebody who may sign in. `subject`: the hash of who they are to an identity provider."""

    __tablename__ = "people"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(Ident, unique=True)
    role: Mapped[str] = mapped_column(String(20))
    password_hash: Mapped[str | None] = mapped_column(String(200))
    subject: Mapped[str | None] = mapped_column(String(64), unique=True)
    created_at: Mapped[datetime] = mapped_column(default=now_utc)
    barred_at: Mapped[datetime | None]


class TokenRow(Base):
    """A program that may ask the API; only the hash of its token is kept."""

    __tablename__ = "tokens"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(Ident, unique=True)
    role: Mapped[str] = mapped_column(String(20))
    token_hash: Mapped[str] = mapped_column(String(64), unique=True)
    made_by: Mapped[str] = mapped_column(String(200))
    created_at: Mapped[datetime] = mapped_column(default=now_utc)
    expires_at: Mapped[datetime | None]
    used_at: Mapped[datetime | None]


class FeedRow(Base):
    """A calendar at a secret address; only the hash of the secret is kept."""

    __tablename__ = "feeds"

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"))
    name: Mapped[str] = mapped_column(String(200))
    what: Mapped[str] = mapped_column(String(20))
    token_hash: Mapped[str] = mapped_column(String(64), unique=True)
    made_by: Mapped[str] = mapped_column(String(200))
    created_at: Mapped[datetime] = mapped_column(default=now_utc)
    used_at: Mapped[datetime | None]


class SignInLinkRow(Base):
    """A one-time link; only the hash of its token is kept. `role`: of a person who is new."""

    __tablename__ = "sign_in_links"

    token_hash: Mapped[str] = mapped_column(String(64), primary_key=True)
    name: Mapped[str] = mapped_column(String(200))
    role: Mapped[str] = mapped_column(String(20), default="administer")
    expires_at: Mapped[datetime]
    used_at: Mapped[datetime | None]


class SignInRow(Base):
    """Somebody who is signed in; only the hash of the session's key is kept."""

    __tablename__ = "sign_ins"

    key_hash: Mapped[str] = mapped_column(String(64), primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("people.id"))
    began_at: Mapped[datetime] = mapped_column(default=now_utc)
    seen_at: Mapped[datetime | None] = mapped_column(default=now_utc)
    address: Mapped[str] = mapped_column(String(200), default="")
    agent: Mapped[str] = mapped_column(String(200), default="")
    expires_at: Mapped[datetime]


class IdentityRow(Base):
    """What tells this database from any other; one row, written with the schema."""

    __tablename__ = "identity"

    id: Mapped[str] = mapped_column(String(36), primary_key=True)


class AuditRow(Base):
    """Who changed what: written in the transaction of the change itself."""

    __tablename__ = "audit_entries"

    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    at: Mapped[datetime] = mapped_column(default=now_utc)
    actor: Mapped[str] = mapped_column(String(200))
    action: Mapped[str] = mapped_column(String(60))
    subject: Mapped[str] = mapped_column(String(200))
    detail: Mapped[dict[str, Any]]
    address: Mapped[str] = mapped_column(String(64), default="")


# --- the estate -------------------------------------------------------------------------------


class SourceRow(Base):
    """A host, a manager of hosts or an agent that can be asked what there is.

    `name` is what the `found` entries of a plan call it.
    """

    __tablename__ = "sources"
    __table_args__ = (UniqueConstraint("plan_id", "name"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"))
    name: Mapped[str] = mapped_column(Ident)
    kind: Mapped[str] = mapped_column(String(20))
    make: Mapped[str] = mapped_column(String(1))
    address: Mapped[str] = mapped_column(String(500))
    site: Mapped[str] = mapped_column(Ident)
    interval_min: Mapped[int | None]
    revision: Mapped[int] = mapped_column(default=1)


class CredentialRow(Base):
    """A user and a sealed secret for one part of a source, and how the last try of it went."""

    __tablename__ = "credentials"

    id: Mapped[int] = mapped_column(primary_key=True)
    source_id: Mapped[int] = mapped_column(ForeignKey("sources.id", ondelete="CASCADE"))
    scope: Mapped[str] = mapped_column(String(200))
    user: Mapped[str] = mapped_column(String(200))
    sealed_secret: Mapped[str]
    outcome: Mapped[str] = mapped_column(String(20), default="not tried")
    failure: Mapped[str] = mapped_column(default="")
    advice: Mapped[str] = mapped_column(default="")
    tried_at: Mapped[datetime | None]


class DiscoveryRow(Base):
    """One reading of a source; only a finished one changes anything."""

    __tablename__ = "discoveries"

    id: Mapped[int] = mapped_column(primary_key=True)
    source_id: Mapped[int] = mapped_column(ForeignKey("sources.id", ondelete="CASCADE"))
    state: Mapped[str] = mapped_column(String(20), default="running")
    read: Mapped[int] = mapped_column(default=0)
    expected: Mapped[int | None]
    message: Mapped[str] = mapped_column(default="")
    found: Mapped[int] = mapped_column(default=0)
    started_at: Mapped[datetime] = mapped_column(default=now_utc)
    ended_at: Mapped[datetime | None]


class DifferenceRow(Base):
    """Something that a source says and the plan has otherwise: an entry of the inbox."""

    __tablename__ = "differences"
    __table_args__ = (UniqueConstraint("plan_id", "key"),)

    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"))
    source_id: Mapped[int] = mapped_column(ForeignKey("sources.id", ondelete="CASCADE"))
    key: Mapped[str] = mapped_column(String(250, collation=EXACT))
    kind: Mapped[str] = mapped_column(String(20))
    subject: Mapped[str] = mapped_column(String(20))
    uid: Mapped[str] = mapped_column(Ident)
    name: Mapped[str] = mapped_column(Ident)
    words: Mapped[str]
    now: Mapped[dict[str, Any] | None] = mapped_column(JSON(none_as_null=True))
    state: Mapped[str] = mapped_column(String(20), default="open", index=True)
    acceptance_id: Mapped[int | None] = mapped_column(ForeignKey("acceptances.id"))
    found_at: Mapped[datetime] = mapped_column(default=now_utc)


class StandingRuleRow(Base):
    """What is done with differences of a kind as soon as they are found."""

    __tablename__ = "standing_rules"

    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"), primary_key=True)
    kind: Mapped[str] = mapped_column(String(20), primary_key=True)
    action: Mapped[str] = mapped_column(String(20))


class AcceptanceRow(Base):
    """A change of the estate: from one version of the plan to the next."""

    __tablename__ = "acceptances"

    id: Mapped[int] = mapped_column(primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plans.id"))
    before_version: Mapped[int] = mapped_column(ForeignKey("versions.id"))
    after_version: Mapped[int] = mapped_column(ForeignKey("versions.id"))
    what: Mapped[str] = mapped_column(String(20))
    words: Mapped[list[Any]]
    subjects: Mapped[list[Any]]
    actor: Mapped[str] = mapped_column(String(200))
    at: Mapped[datetime] = mapped_column(default=now_utc)
    undone: Mapped[bool] = mapped_column(default=False)


# --- the plan file ----------------------------------------------------------------------------


class InVersion:
    """An object of a list of the plan file."""

    version_id: Mapped[int] = mapped_column(
        ForeignKey("versions.id"), primary_key=True, sort_order=-2
    )
    id: Mapped[str] = mapped_column(Ident, primary_key=True, sort_order=-1)
    position: Mapped[int]
    more: Mapped[dict[str, Any]] = mapped_column(**KEYS_WITHOUT_A_COLUMN)


class Entry:
    """An entry of a list that belongs to an object of the plan file."""

    version_id: Mapped[int] = mapped_column(
        ForeignKey("versions.id"), primary_key=True, sort_order=-2
    )
    position: Mapped[int] = mapped_column(primary_key=True, autoincrement=False, sort_order=1)


def _refers(column: str, table: str) -> ForeignKeyConstraint:
    return ForeignKeyConstraint(["version_id", column], [f"{table}.version_id", f"{table}.id"])


class SiteRow(InVersion, Base):
    __tablename__ = "sites"

    name: Mapped[str]
    time_zone: Mapped[str] = mapped_column(String(80))


class LinkRow(InVersion, Base):
    __tablename__ = "links"
    __table_args__ = (_refers("site_from", "sites"), _refers("site_to", "sites"))

    site_from: Mapped[str] = mapped_column(Ident)
    site_to: Mapped[str] = mapped_column(Ident)
    mbit_per_s: Mapped[float]
    encrypted: Mapped[bool]
    encryption_factor: Mapped[float]


class LinkLimitRow(Entry, Base):
    __tablename__ = "link_limits"
    __table_args__ = (_refers("link", "links"),)

    link: Mapped[str] = mapped_column(Ident, primary_key=True)
    days: Mapped[list[Any]]
    from_time: Mapped[time]
    to_time: Mapped[time]
    mbit_per_s: Mapped[float]


class ClusterRow(InVersion, Base):
    """A cluster of hosts; the plan file knows it by the hosts that name it."""

    __tablename__ = "clusters"


class HostRow(InVersion, Base):
    __tablename__ = "hosts"
    __table_args__ = (_refers("site", "sites"), _refers("cluster", "clusters"))

    site: Mapped[str] = mapped_column(Ident)
    cluster: Mapped[str | None] = mapped_column(Ident)
    nic_mbit_per_s: Mapped[float | None]
    snapshot_slots: Mapped[int | None] = mapped_column(BigInteger)
    proxies: Mapped[list[Any] | None] = mapped_column(JSON(none_as_null=True))
    memory_gib: Mapped[float | None]
    found_source: Mapped[str | None] = mapped_column(Ident)
    found_uid: Mapped[str | None] = mapped_column(Ident)


class DatastoreRow(InVersion, Base):
    __tablename__ = "datastores"

    read_mib_per_s: Mapped[float | None]
    task_slots: Mapped[int | None] = mapped_column(BigInteger)
    zoned_proxies: Mapped[list[Any]]
    found_source: Mapped[str | None] = mapped_column(Ident)
    found_uid: Mapped[str | None] = mapped_column(Ident)


class DatastoreHostRow(Entry, Base):
    """A host that mounts a datastore."""

    __tablename__ = "datastore_hosts"
    __table_args__ = (_refers("datastore", "datastores"), _refers("host", "hosts"))

    datastore: Mapped[str] = mapped_column(Ident, primary_key=True)
    host: Mapped[str] = mapped_column(Ident)


class ProxyRow(InVersion, Base):
    __tablename__ = "proxies"
    __table_args__ = (_refers("site", "sites"), _refers("on_host", "hosts"))

    site: Mapped[str] = mapped_column(Ident)
    slots: Mapped[int] = mapped_column(BigInteger)
    mib_per_s: Mapped[float | None]
    on_host: Mapped[str | None] = mapped_column(Ident)
    cores: Mapped[int | None] = mapped_column(BigInteger)
    memory_gib: Mapped[float | None]
    physical: Mapped[bool]
    # Not a foreign key: machines refer to hosts and are written after proxies.
    on_machine: Mapped[str | None] = mapped_column(Ident)
    left_out_datastores: Mapped[list[Any]]
    throughput_from: Mapped[str] = mapped_column(String(20))


class ProxyDatastoreRow(Entry, Base):
    """A datastore that a proxy reads directly."""

    __tablename__ = "proxy_datastores"
    __table_args__ = (_refers("proxy", "proxies"), _refers("datastore", "datastores"))

    proxy: Mapped[str] = mapped_column(Ident, primary_key=True)
    datastore: Mapped[str] = mapped_column(Ident)


class RepositoryRow(InVersion, Base):
    __tablename__ = "repositories"
    __table_args__ = (_refers("site", "sites"),)

    site: Mapped[str] = mapped_column(Ident)
    stream_slots: Mapped[int | None] = mapped_column(BigInteger)
    ingest_mib_per_s: Mapped[float | None]
    read_mib_per_s: Mapped[float | None]
    transform_mib_per_s: Mapped[float | None]
    capacity_gib: Mapped[float | None]
    dedupe_ratio: Mapped[float]
    block_clone: Mapped[bool]
    immutable_days: Mapped[float]
    kind: Mapped[str] = mapped_column(String(20))
    volumes: Mapped[list[Any]]
    placement: Mapped[str] = mapped_column(String(20))


class MachineRow(InVersion, Base):
    __tablename__ = "machines"
    __table_args__ = (_refers("host", "hosts"), _refers("site", "sites"))

    kind: Mapped[str] = mapped_column(String(10))
    host: Mapped[str | None] = mapped_column(Ident)
    site: Mapped[str | None] = mapped_column(Ident)
    nic_mbit_per_s: Mapped[float | None]
    agent_streams: Mapped[int] = mapped_column(BigInteger)
    tags: Mapped[list[Any]]
    folder: Mapped[str]
    powered_on: Mapped[bool]
    daily_change: Mapped[float]
    churn_ceiling: Mapped[float]
    compress_ratio: Mapped[float]
    rpo_hours: Mapped[float | None]
    rto_hours: Mapped[float | None]
    memory_gib: Mapped[float | None]
    facts: Mapped[dict[str, Any]] = mapped_column(default=dict)


class DiskRow(InVersion, Base):
    __tablename__ = "disks"
    __table_args__ = (_refers("machine", "machines"), _refers("datastore", "datastores"))

    machine: Mapped[str] = mapped_column(Ident, primary_key=True)
    provisioned_gib: Mapped[float]
    used_gib: Mapped[float]
    swap_gib: Mapped[float]
    datastore: Mapped[str | None] = mapped_column(Ident)
    read_mib_per_s: Mapped[float | None]
    holds_backups: Mapped[bool] = mapped_column(default=False)


class WindowRow(InVersion, Base):
    __tablename__ = "windows"

    time_zone: Mapped[str] = mapped_column(String(80))


class WindowIntervalRow(Entry, Base):
    __tablename__ = "window_intervals"
    __table_args__ = (_refers("window", "windows"),)

    window: Mapped[str] = mapped_column(Ident, primary_key=True)
    days: Mapped[list[Any]]
    from_time: Mapped[time]
    to_time: Mapped[time]


class WindowExceptionRow(Entry, Base):
    __tablename__ = "window_exceptions"
    __table_args__ = (_refers("window", "windows"),)

    window: Mapped[str] = mapped_column(Ident, primary_key=True)
    date: Mapped[date]
    open: Mapped[list[Any]]


class CalendarRow(InVersion, Base):
    __tablename__ = "calendars"

    dates: Mapped[list[Any]]


class AssumptionRow(InVersion, Base):
    __tablename__ = "assumptions"


class RetentionColumns:
    keep_points: Mapped[int | None] = mapped_column(BigInteger)
    keep_days: Mapped[float | None]
    keep_full_days: Mapped[float | None]
    keep_incremental_days: Mapped[float | None]
    keep_weekly: Mapped[int] = mapped_column(BigInteger)
    keep_monthly: Mapped[int] = mapped_column(BigInteger)
    keep_yearly: Mapped[int] = mapped_column(BigInteger)
    keep_until: Mapped[date | None]


class JobRow(InVersion, RetentionColumns, Base):
    __tablename__ = "jobs"
    __table_args__ = (
        _refers("repository", "repositories"),
        _refers("window", "windows"),
        _refers("after", "jobs"),
    )

    name: Mapped[str]
    priority: Mapped[int]
    share: Mapped[float]
    rules: Mapped[list[Any]]
    repository: Mapped[str] = mapped_column(Ident)
    any_proxy: Mapped[bool]
    transport: Mapped[str] = mapped_column(String(20))
    after: Mapped[str | None] = mapped_column(Ident)
    window: Mapped[str | None] = mapped_column(Ident)
    at_window_end: Mapped[str] = mapped_column(String(20))
    start_within_min: Mapped[float | None]
    stop_after_min: Mapped[float | None]
    chain: Mapped[str] = mapped_column(String(20))
    synthetic_full: Mapped[bool]
    tracking: Mapped[bool]
    skip_swap: Mapped[bool]
    skip_unused: Mapped[bool]
    compress: Mapped[bool]
    quiesce_s: Mapped[float]
    before_min: Mapped[float]
    after_min: Mapped[float]
    verify: Mapped[str] = mapped_column(String(20))
    boot_min: Mapped[float]
    verify_fulls: Mapped[bool]
    limit_mbit_per_s: Mapped[float | None]
    max_streams: Mapped[int | None] = mapped_column(BigInteger)
    locked: Mapped[bool]
    spread_fulls: Mapped[int]
    on_hold: Mapped[bool]
    hold_until: Mapped[date | None]
    machine_order: Mapped[str] = mapped_column(String(20))
    exclude_disk_rules: Mapped[list[Any]]
    exclude_paths: Mapped[list[Any]]
    guest_before_s: Mapped[float]
    guest_after_s: Mapped[float]
    if_quiesce_fails: Mapped[str] = mapped_column(String(20))
    standstill: Mapped[str] = mapped_column(String(20))
    standstill_s: Mapped[float]
    encrypt: Mapped[bool]
    encrypt_factor: Mapped[float]
    notify: Mapped[str] = mapped_column(String(20))
    notify_to: Mapped[list[Any]]


class JobMachineRow(Entry, Base):
    """A machine that a job lists by id, or leaves out (`excluded`)."""

    __tablename__ = "job_machines"
    __table_args__ = (_refers("job", "jobs"), _refers("machine", "machines"))

    job: Mapped[str] = mapped_column(Ident, primary_key=True)
    excluded: Mapped[bool] = mapped_column(primary_key=True)
    machine: Mapped[str] = mapped_column(Ident)


class JobExcludedDiskRow(Entry, Base):
    __tablename__ = "job_excluded_disks"
    __table_args__ = (
        _refers("job", "jobs"),
        ForeignKeyConstraint(
            ["version_id", "disk", "machine"],
            ["disks.version_id", "disks.id", "disks.machine"],
        ),
    )

    job: Mapped[str] = mapped_column(Ident, primary_key=True)
    machine: Mapped[str] = mapped_column(Ident)
    disk: Mapped[str] = mapped_column(Ident)


class JobProxyRow(Entry, Base):
    __tablename__ = "job_proxies"
    __table_args__ = (_refers("job", "jobs"), _refers("proxy", "proxies"))

    job: Mapped[str] = mapped_column(Ident, primary_key=True)
    proxy: Mapped[str] = mapped_column(Ident)


class ScheduleRow(Entry, Base):
    """A schedule of a job: by `rrule` and `start_local`, or by `every_min` with its hours."""

    __tablename__ = "schedules"
    __table_args__ = (_refers("job", "jobs"),)

    job: Mapped[str] = mapped_column(Ident, primary_key=True)
    kind: Mapped[str] = mapped_column(String(20))
    time_zone: Mapped[str] = mapped_column(String(80))
    rrule: Mapped[str | None]
    start_local: Mapped[datetime | None]
    every_min: Mapped[float | None]
    from_time: Mapped[time | None]
    to_time: Mapped[time | None]
    days: Mapped[list[Any] | None]
    start_date: Mapped[date | None]
    when_skipped: Mapped[str] = mapped_column(String(20))
    skip_dates: Mapped[list[Any]]
    extra: Mapped[list[Any]]
    until: Mapped[date | None]


class ScheduleCalendarRow(Entry, Base):
    """A calendar whose dates a schedule skips."""

    __tablename__ = "schedule_calendars"
    __table_args__ = (
        ForeignKeyConstraint(
            ["version_id", "job", "schedule"],
            ["schedules.version_id", "schedules.job", "schedules.position"],
        ),
        _refers("calendar", "calendars"),
    )

    job: Mapped[str] = mapped_column(Ident, primary_key=True)
    schedule: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    calendar: Mapped[str] = mapped_column(Ident)


class JobCopyRow(Entry, RetentionColumns, Base):
    __tablename__ = "job_copies"
    __table_args__ = (_refers("job", "jobs"), _refers("repository", "repositories"))

    job: Mapped[str] = mapped_column(Ident, primary_key=True)
    repository: Mapped[str] = mapped_column(Ident)
    delay_min: Mapped[float]
    cold_after_days: Mapped[float | None]
    more: Mapped[dict[str, Any]] = mapped_column(**KEYS_WITHOUT_A_COLUMN)


class PointRow(Entry, Base):
    """A restore point that exists before the horizon; instants are UTC seconds."""

    __tablename__ = "points"
    __table_args__ = (
        _refers("job", "jobs"),
        _refers("machine", "machines"),
        _refers("repository", "repositories"),
    )

    job: Mapped[str] = mapped_column(Ident)
    machine: Mapped[str] = mapped_column(Ident)
    repository: Mapped[str] = mapped_column(Ident)
    kind: Mapped[str] = mapped_column(String(20))
    at: Mapped[float]
    exists_from: Mapped[float]
    stored_bytes: Mapped[float]
    bad_since: Mapped[float | None]
