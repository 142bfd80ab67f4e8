"""Changes of the estate to come."""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None

IDENT = sa.String(190, collation="utf8mb4_nopad_bin")


def upgrade() -> None:
    op.create_table(
        "assumptions",
        sa.Column("version_id", sa.Integer(), sa.ForeignKey("versions.id"), primary_key=True),
        sa.Column("id", IDENT, primary_key=True),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("more", sa.JSON(), nullable=False, server_default=sa.text("'{}'")),
    )


def downgrade() -> None:
    op.drop_table("assumptions")
