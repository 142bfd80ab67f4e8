"""Cores of proxies."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("proxies", sa.Column("cores", sa.BigInteger(), nullable=True))


def downgrade() -> None:
    op.drop_column("proxies", "cores")
