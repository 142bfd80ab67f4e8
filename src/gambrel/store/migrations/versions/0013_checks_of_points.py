"""Checks of restore points, points that were found to be bad, memory of hosts and machines."""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None

IDENT = sa.String(190, collation="utf8mb4_nopad_bin")


def upgrade() -> None:
    op.add_column("points", sa.Column("bad_since", sa.Double(), nullable=True))
    for table in ("hosts", "machines"):
        op.add_column(table, sa.Column("memory_gib", sa.Double(), nullable=True))
    op.create_table(
        "point_checks",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("plans.id"), nullable=False),
        sa.Column("job", IDENT, nullable=False),
        sa.Column("machine", IDENT, nullable=False),
        sa.Column("repository", IDENT, nullable=False),
        sa.Column("at_us", sa.BigInteger(), nullable=False),
        sa.Column("source", sa.String(20), nullable=False),
        sa.Column("good", sa.Boolean(), nullable=False),
        sa.Column("began", sa.Double(), nullable=True),
        sa.Column("checked_at", sa.Double(), nullable=False),
        sa.Column("predicted_s", sa.Double(), nullable=True),
        sa.Column("note", sa.String(500), nullable=False),
        sa.Column("actor", sa.String(200), nullable=False),
        sa.Column("order_id", sa.Integer(), nullable=True),
        sa.Column("made_at", sa.DateTime(), nullable=False),
    )
    op.create_index("ix_point_checks_machine", "point_checks", ["plan_id", "machine"])


def downgrade() -> None:
    op.drop_table("point_checks")
    op.drop_column("points", "bad_since")
    for table in ("hosts", "machines"):
        op.drop_column(table, "memory_gib")
