"""Drafts have an owner and can be shared; orders can wait for a second person."""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("drafts", sa.Column("owner", sa.String(200), nullable=True))
    op.add_column(
        "drafts", sa.Column("shared", sa.Boolean(), nullable=False, server_default=sa.true())
    )
    op.alter_column(
        "drafts", "shared", existing_type=sa.Boolean(), existing_nullable=False,
        server_default=None,
    )  # fmt: skip
    op.add_column("orders", sa.Column("seconded_by", sa.String(200), nullable=True))


def downgrade() -> None:
    op.drop_column("orders", "seconded_by")
    op.drop_column("drafts", "shared")
    op.drop_column("drafts", "owner")
