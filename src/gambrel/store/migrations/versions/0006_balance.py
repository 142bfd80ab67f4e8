"""Fulls of a job spread over several days; long computations."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column(
        "jobs", sa.Column("spread_fulls", sa.Integer(), nullable=False, server_default="1")
    )
    op.create_table(
        "computations",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("plans.id"), nullable=False),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("asked", sa.JSON(), nullable=False),
        sa.Column("state", sa.String(20), nullable=False),
        sa.Column("progress", sa.JSON(), nullable=False),
        sa.Column("result", sa.JSON(none_as_null=True), nullable=True),
        sa.Column("message", sa.String(2000), nullable=False),
        sa.Column("actor", sa.String(200), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("ended_at", sa.DateTime(), nullable=True),
        sa.Index("ix_computations_plan_id", "plan_id"),
    )


def downgrade() -> None:
    op.drop_table("computations")
    op.drop_column("jobs", "spread_fulls")
