"""Operations of a draft that were made by one act of a planner are undone together."""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column(
        "draft_operations", sa.Column("act", sa.Integer(), nullable=False, server_default="0")
    )
    # What is there already is undone one by one, as before.
    op.execute("UPDATE draft_operations SET act = position")
    op.alter_column(
        "draft_operations", "act", existing_type=sa.Integer(), nullable=False, server_default=None
    )


def downgrade() -> None:
    op.drop_column("draft_operations", "act")
