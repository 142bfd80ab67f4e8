"""Recoveries that are kept by name."""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "recoveries",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("plans.id"), nullable=False),
        sa.Column("name", sa.String(190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("asked", sa.JSON(), nullable=False),
        sa.Column("actor", sa.String(200), nullable=False),
        sa.Column("saved_at", sa.DateTime(), nullable=False),
        sa.UniqueConstraint("plan_id", "name"),
    )


def downgrade() -> None:
    op.drop_table("recoveries")
