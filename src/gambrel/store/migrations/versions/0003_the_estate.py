"""Sources, credentials, discoveries, differences and acceptances; facts of machines."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

IDENT = sa.String(190, collation="utf8mb4_nopad_bin")


def upgrade() -> None:
    for table in ("hosts", "datastores"):
        op.add_column(table, sa.Column("found_source", IDENT, nullable=True))
        op.add_column(table, sa.Column("found_uid", IDENT, nullable=True))
    op.add_column(
        "machines", sa.Column("facts", sa.JSON(), nullable=False, server_default=sa.text("'{}'"))
    )
    op.add_column(
        "disks", sa.Column("holds_backups", sa.Boolean(), nullable=False, server_default="0")
    )
    op.create_table(
        "sources",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("plans.id"), nullable=False),
        sa.Column("name", IDENT, nullable=False),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("make", sa.String(1), nullable=False),
        sa.Column("address", sa.String(500), nullable=False),
        sa.Column("site", IDENT, nullable=False),
        sa.Column("interval_min", sa.Integer(), nullable=True),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.UniqueConstraint("plan_id", "name"),
    )
    source = sa.ForeignKey("sources.id", ondelete="CASCADE")
    op.create_table(
        "credentials",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("source_id", sa.Integer(), source, nullable=False),
        sa.Column("scope", sa.String(200), nullable=False),
        sa.Column("user", sa.String(200), nullable=False),
        sa.Column("sealed_secret", sa.Text(), nullable=False),
        sa.Column("outcome", sa.String(20), nullable=False),
        sa.Column("failure", sa.Text(), nullable=False),
        sa.Column("advice", sa.Text(), nullable=False),
        sa.Column("tried_at", sa.DateTime(), nullable=True),
    )
    op.create_table(
        "discoveries",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column(
            "source_id",
            sa.Integer(),
            sa.ForeignKey("sources.id", ondelete="CASCADE"),
            nullable=False,
        ),
        sa.Column("state", sa.String(20), nullable=False),
        sa.Column("read", sa.Integer(), nullable=False),
        sa.Column("expected", sa.Integer(), nullable=True),
        sa.Column("message", sa.Text(), nullable=False),
        sa.Column("found", sa.Integer(), nullable=False),
        sa.Column("started_at", sa.DateTime(), nullable=False),
        sa.Column("ended_at", sa.DateTime(), nullable=True),
    )
    op.create_table(
        "acceptances",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("plans.id"), nullable=False),
        sa.Column("before_version", sa.Integer(), sa.ForeignKey("versions.id"), nullable=False),
        sa.Column("after_version", sa.Integer(), sa.ForeignKey("versions.id"), nullable=False),
        sa.Column("what", sa.String(20), nullable=False),
        sa.Column("words", sa.JSON(), nullable=False),
        sa.Column("subjects", sa.JSON(), nullable=False),
        sa.Column("actor", sa.String(200), nullable=False),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.Column("undone", sa.Boolean(), nullable=False),
    )
    op.create_table(
        "differences",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("plans.id"), nullable=False),
        sa.Column(
            "source_id",
            sa.Integer(),
            sa.ForeignKey("sources.id", ondelete="CASCADE"),
            nullable=False,
        ),
        sa.Column("key", sa.String(250, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("subject", sa.String(20), nullable=False),
        sa.Column("uid", IDENT, nullable=False),
        sa.Column("name", IDENT, nullable=False),
        sa.Column("words", mysql.TEXT(), nullable=False),
        sa.Column("now", sa.JSON(none_as_null=True), nullable=True),
        sa.Column("state", sa.String(20), nullable=False, index=True),
        sa.Column("acceptance_id", sa.Integer(), sa.ForeignKey("acceptances.id"), nullable=True),
        sa.Column("found_at", sa.DateTime(), nullable=False),
        sa.UniqueConstraint("plan_id", "key"),
    )
    op.create_table(
        "standing_rules",
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("plans.id"), primary_key=True),
        sa.Column("kind", sa.String(20), primary_key=True),
        sa.Column("action", sa.String(20), nullable=False),
    )


def downgrade() -> None:
    for table in ("standing_rules", "differences", "acceptances", "discoveries", "credentials"):
        op.drop_table(table)
    op.drop_table("sources")
    op.drop_column("disks", "holds_backups")
    op.drop_column("machines", "facts")
    for table in ("hosts", "datastores"):
        op.drop_column(table, "found_uid")
        op.drop_column(table, "found_source")
