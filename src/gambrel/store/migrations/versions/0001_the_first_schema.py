"""The first schema"""

from collections.abc import Sequence

import sqlalchemy as sa
from alembic import op

revision: str = "0001"
down_revision: str | None = None
branch_labels: str | Sequence[str] | None = None
depends_on: str | Sequence[str] | None = None


def upgrade() -> None:
    op.create_table(
        "audit_entries",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.Column("actor", sa.String(length=200), nullable=False),
        sa.Column("action", sa.String(length=60), nullable=False),
        sa.Column("subject", sa.String(length=200), nullable=False),
        sa.Column("detail", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "plans",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("adopted_version", sa.Integer(), nullable=True),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("name"),
    )
    op.create_table(
        "sign_in_links",
        sa.Column("token_hash", sa.String(length=64), nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("expires_at", sa.DateTime(), nullable=False),
        sa.Column("used_at", sa.DateTime(), nullable=True),
        sa.PrimaryKeyConstraint("token_hash"),
    )
    op.create_table(
        "versions",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("plan_id", sa.Integer(), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("direct_mib_per_s", sa.Double(), nullable=False),
        sa.Column("hot_add_mib_per_s", sa.Double(), nullable=False),
        sa.Column("network_mib_per_s", sa.Double(), nullable=False),
        sa.Column("agent_mib_per_s", sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(
            ["plan_id"],
            ["plans.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "calendars",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("id", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("dates", sa.JSON(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "id"),
    )
    op.create_table(
        "clusters",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("id", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "id"),
    )
    op.create_table(
        "datastores",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("id", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("read_mib_per_s", sa.Double(), nullable=True),
        sa.Column("task_slots", sa.BigInteger(), nullable=True),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "id"),
    )
    op.create_table(
        "drafts",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("plan_id", sa.Integer(), nullable=False),
        sa.Column("base_version", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("state", sa.String(length=20), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["base_version"],
            ["versions.id"],
        ),
        sa.ForeignKeyConstraint(
            ["plan_id"],
            ["plans.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "sites",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("id", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("time_zone", sa.String(length=80), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "id"),
    )
    op.create_table(
        "windows",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("id", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("time_zone", sa.String(length=80), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "id"),
    )
    op.create_table(
        "draft_operations",
        sa.Column("draft_id", sa.Integer(), nullable=False),
        sa.Column("position", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("operation", sa.JSON(), nullable=False),
        sa.Column("words", sa.Text(), nullable=False),
        sa.Column("undone", sa.Boolean(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.ForeignKeyConstraint(
            ["draft_id"],
            ["drafts.id"],
        ),
        sa.PrimaryKeyConstraint("draft_id", "position"),
    )
    op.create_table(
        "hosts",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("id", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("site", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("cluster", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=True),
        sa.Column("nic_mbit_per_s", sa.Double(), nullable=True),
        sa.Column("snapshot_slots", sa.BigInteger(), nullable=True),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "cluster"],
            ["clusters.version_id", "clusters.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "site"],
            ["sites.version_id", "sites.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "id"),
    )
    op.create_table(
        "links",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("id", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column(
            "site_from", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False
        ),
        sa.Column("site_to", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("mbit_per_s", sa.Double(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "site_from"],
            ["sites.version_id", "sites.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "site_to"],
            ["sites.version_id", "sites.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "id"),
    )
    op.create_table(
        "repositories",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("id", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("site", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("stream_slots", sa.BigInteger(), nullable=True),
        sa.Column("ingest_mib_per_s", sa.Double(), nullable=True),
        sa.Column("read_mib_per_s", sa.Double(), nullable=True),
        sa.Column("transform_mib_per_s", sa.Double(), nullable=True),
        sa.Column("capacity_gib", sa.Double(), nullable=True),
        sa.Column("dedupe_ratio", sa.Double(), nullable=False),
        sa.Column("block_clone", sa.Boolean(), nullable=False),
        sa.Column("immutable_days", sa.Double(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "site"],
            ["sites.version_id", "sites.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "id"),
    )
    op.create_table(
        "window_exceptions",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("window", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("date", sa.Date(), nullable=False),
        sa.Column("open", sa.JSON(), nullable=False),
        sa.Column("position", sa.Integer(), autoincrement=False, nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "window"],
            ["windows.version_id", "windows.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "window", "position"),
    )
    op.create_table(
        "window_intervals",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("window", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("days", sa.JSON(), nullable=False),
        sa.Column("from_time", sa.Time(), nullable=False),
        sa.Column("to_time", sa.Time(), nullable=False),
        sa.Column("position", sa.Integer(), autoincrement=False, nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "window"],
            ["windows.version_id", "windows.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "window", "position"),
    )
    op.create_table(
        "datastore_hosts",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column(
            "datastore", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False
        ),
        sa.Column("host", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("position", sa.Integer(), autoincrement=False, nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "datastore"],
            ["datastores.version_id", "datastores.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "host"],
            ["hosts.version_id", "hosts.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "datastore", "position"),
    )
    op.create_table(
        "jobs",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("id", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("priority", sa.Integer(), nullable=False),
        sa.Column("share", sa.Double(), nullable=False),
        sa.Column("rules", sa.JSON(), nullable=False),
        sa.Column(
            "repository", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False
        ),
        sa.Column("any_proxy", sa.Boolean(), nullable=False),
        sa.Column("transport", sa.String(length=20), nullable=False),
        sa.Column("after", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=True),
        sa.Column("window", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=True),
        sa.Column("at_window_end", sa.String(length=20), nullable=False),
        sa.Column("start_within_min", sa.Double(), nullable=True),
        sa.Column("stop_after_min", sa.Double(), nullable=True),
        sa.Column("chain", sa.String(length=20), nullable=False),
        sa.Column("synthetic_full", sa.Boolean(), nullable=False),
        sa.Column("tracking", sa.Boolean(), nullable=False),
        sa.Column("skip_swap", sa.Boolean(), nullable=False),
        sa.Column("skip_unused", sa.Boolean(), nullable=False),
        sa.Column("compress", sa.Boolean(), nullable=False),
        sa.Column("quiesce_s", sa.Double(), nullable=False),
        sa.Column("before_min", sa.Double(), nullable=False),
        sa.Column("after_min", sa.Double(), nullable=False),
        sa.Column("verify", sa.String(length=20), nullable=False),
        sa.Column("boot_min", sa.Double(), nullable=False),
        sa.Column("limit_mbit_per_s", sa.Double(), nullable=True),
        sa.Column("max_streams", sa.BigInteger(), nullable=True),
        sa.Column("locked", sa.Boolean(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("keep_points", sa.BigInteger(), nullable=True),
        sa.Column("keep_days", sa.Double(), nullable=True),
        sa.Column("keep_full_days", sa.Double(), nullable=True),
        sa.Column("keep_incremental_days", sa.Double(), nullable=True),
        sa.Column("keep_weekly", sa.BigInteger(), nullable=False),
        sa.Column("keep_monthly", sa.BigInteger(), nullable=False),
        sa.Column("keep_yearly", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "after"],
            ["jobs.version_id", "jobs.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "repository"],
            ["repositories.version_id", "repositories.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "window"],
            ["windows.version_id", "windows.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "id"),
    )
    op.create_table(
        "link_limits",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("link", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("days", sa.JSON(), nullable=False),
        sa.Column("from_time", sa.Time(), nullable=False),
        sa.Column("to_time", sa.Time(), nullable=False),
        sa.Column("mbit_per_s", sa.Double(), nullable=False),
        sa.Column("position", sa.Integer(), autoincrement=False, nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "link"],
            ["links.version_id", "links.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "link", "position"),
    )
    op.create_table(
        "machines",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("id", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("kind", sa.String(length=10), nullable=False),
        sa.Column("host", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=True),
        sa.Column("site", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=True),
        sa.Column("nic_mbit_per_s", sa.Double(), nullable=True),
        sa.Column("agent_streams", sa.BigInteger(), nullable=False),
        sa.Column("tags", sa.JSON(), nullable=False),
        sa.Column("folder", sa.Text(), nullable=False),
        sa.Column("powered_on", sa.Boolean(), nullable=False),
        sa.Column("daily_change", sa.Double(), nullable=False),
        sa.Column("churn_ceiling", sa.Double(), nullable=False),
        sa.Column("compress_ratio", sa.Double(), nullable=False),
        sa.Column("rpo_hours", sa.Double(), nullable=True),
        sa.Column("rto_hours", sa.Double(), nullable=True),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "host"],
            ["hosts.version_id", "hosts.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "site"],
            ["sites.version_id", "sites.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "id"),
    )
    op.create_table(
        "proxies",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("id", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("site", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("slots", sa.BigInteger(), nullable=False),
        sa.Column("mib_per_s", sa.Double(), nullable=True),
        sa.Column("on_host", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=True),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "on_host"],
            ["hosts.version_id", "hosts.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "site"],
            ["sites.version_id", "sites.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "id"),
    )
    op.create_table(
        "disks",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("id", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("machine", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("provisioned_gib", sa.Double(), nullable=False),
        sa.Column("used_gib", sa.Double(), nullable=False),
        sa.Column("swap_gib", sa.Double(), nullable=False),
        sa.Column("datastore", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=True),
        sa.Column("read_mib_per_s", sa.Double(), nullable=True),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "datastore"],
            ["datastores.version_id", "datastores.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "machine"],
            ["machines.version_id", "machines.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "id", "machine"),
    )
    op.create_table(
        "job_copies",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("job", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column(
            "repository", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False
        ),
        sa.Column("delay_min", sa.Double(), nullable=False),
        sa.Column("keep_points", sa.BigInteger(), nullable=True),
        sa.Column("keep_days", sa.Double(), nullable=True),
        sa.Column("keep_full_days", sa.Double(), nullable=True),
        sa.Column("keep_incremental_days", sa.Double(), nullable=True),
        sa.Column("keep_weekly", sa.BigInteger(), nullable=False),
        sa.Column("keep_monthly", sa.BigInteger(), nullable=False),
        sa.Column("keep_yearly", sa.BigInteger(), nullable=False),
        sa.Column("position", sa.Integer(), autoincrement=False, nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "job"],
            ["jobs.version_id", "jobs.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "repository"],
            ["repositories.version_id", "repositories.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "job", "position"),
    )
    op.create_table(
        "job_machines",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("job", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("excluded", sa.Boolean(), nullable=False),
        sa.Column("machine", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("position", sa.Integer(), autoincrement=False, nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "job"],
            ["jobs.version_id", "jobs.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "machine"],
            ["machines.version_id", "machines.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "job", "excluded", "position"),
    )
    op.create_table(
        "job_proxies",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("job", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("proxy", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("position", sa.Integer(), autoincrement=False, nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "job"],
            ["jobs.version_id", "jobs.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "proxy"],
            ["proxies.version_id", "proxies.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "job", "position"),
    )
    op.create_table(
        "points",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("job", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("machine", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column(
            "repository", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False
        ),
        sa.Column("kind", sa.String(length=20), nullable=False),
        sa.Column("at", sa.Double(), nullable=False),
        sa.Column("exists_from", sa.Double(), nullable=False),
        sa.Column("stored_bytes", sa.Double(), nullable=False),
        sa.Column("position", sa.Integer(), autoincrement=False, nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "job"],
            ["jobs.version_id", "jobs.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "machine"],
            ["machines.version_id", "machines.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "repository"],
            ["repositories.version_id", "repositories.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "position"),
    )
    op.create_table(
        "proxy_datastores",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("proxy", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column(
            "datastore", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False
        ),
        sa.Column("position", sa.Integer(), autoincrement=False, nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "datastore"],
            ["datastores.version_id", "datastores.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "proxy"],
            ["proxies.version_id", "proxies.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "proxy", "position"),
    )
    op.create_table(
        "schedules",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("job", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("kind", sa.String(length=20), nullable=False),
        sa.Column("time_zone", sa.String(length=80), nullable=False),
        sa.Column("rrule", sa.Text(), nullable=True),
        sa.Column("start_local", sa.DateTime(), nullable=True),
        sa.Column("every_min", sa.Double(), nullable=True),
        sa.Column("from_time", sa.Time(), nullable=True),
        sa.Column("to_time", sa.Time(), nullable=True),
        sa.Column("days", sa.JSON(), nullable=True),
        sa.Column("start_date", sa.Date(), nullable=True),
        sa.Column("when_skipped", sa.String(length=20), nullable=False),
        sa.Column("skip_dates", sa.JSON(), nullable=False),
        sa.Column("extra", sa.JSON(), nullable=False),
        sa.Column("until", sa.Date(), nullable=True),
        sa.Column("position", sa.Integer(), autoincrement=False, nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "job"],
            ["jobs.version_id", "jobs.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "job", "position"),
    )
    op.create_table(
        "job_excluded_disks",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("job", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("machine", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("disk", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("position", sa.Integer(), autoincrement=False, nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "disk", "machine"],
            ["disks.version_id", "disks.id", "disks.machine"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "job"],
            ["jobs.version_id", "jobs.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "job", "position"),
    )
    op.create_table(
        "schedule_calendars",
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("job", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("schedule", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("calendar", sa.String(length=190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("position", sa.Integer(), autoincrement=False, nullable=False),
        sa.ForeignKeyConstraint(
            ["version_id", "calendar"],
            ["calendars.version_id", "calendars.id"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id", "job", "schedule"],
            ["schedules.version_id", "schedules.job", "schedules.position"],
        ),
        sa.ForeignKeyConstraint(
            ["version_id"],
            ["versions.id"],
        ),
        sa.PrimaryKeyConstraint("version_id", "job", "schedule", "position"),
    )
    # Plans and versions refer to each other: this one can only come when both are there.
    op.create_foreign_key(
        "fk_plans_adopted_version", "plans", "versions", ["adopted_version"], ["id"]
    )


def downgrade() -> None:
    op.drop_constraint("fk_plans_adopted_version", "plans", type_="foreignkey")
    op.drop_table("schedule_calendars")
    op.drop_table("job_excluded_disks")
    op.drop_table("schedules")
    op.drop_table("proxy_datastores")
    op.drop_table("points")
    op.drop_table("job_proxies")
    op.drop_table("job_machines")
    op.drop_table("job_copies")
    op.drop_table("disks")
    op.drop_table("proxies")
    op.drop_table("machines")
    op.drop_table("link_limits")
    op.drop_table("jobs")
    op.drop_table("datastore_hosts")
    op.drop_table("window_intervals")
    op.drop_table("window_exceptions")
    op.drop_table("repositories")
    op.drop_table("links")
    op.drop_table("hosts")
    op.drop_table("draft_operations")
    op.drop_table("windows")
    op.drop_table("sites")
    op.drop_table("drafts")
    op.drop_table("datastores")
    op.drop_table("clusters")
    op.drop_table("calendars")
    op.drop_table("versions")
    op.drop_table("sign_in_links")
    op.drop_table("plans")
    op.drop_table("audit_entries")
