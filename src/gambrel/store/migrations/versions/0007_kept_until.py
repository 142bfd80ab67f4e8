"""A date up to which all points of a job, or of a copy, are kept."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for table in ("jobs", "job_copies"):
        op.add_column(table, sa.Column("keep_until", sa.Date(), nullable=True))


def downgrade() -> None:
    for table in ("jobs", "job_copies"):
        op.drop_column(table, "keep_until")
