"""Room for keys of the plan file that have no column of their own."""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

TABLES = (
    "sites", "links", "clusters", "hosts", "datastores", "proxies", "repositories", "machines",
    "disks", "windows", "calendars", "jobs", "job_copies",
)  # fmt: skip


def upgrade() -> None:
    for table in TABLES:
        op.add_column(
            table, sa.Column("more", sa.JSON(), nullable=False, server_default=sa.text("'{}'"))
        )


def downgrade() -> None:
    for table in TABLES:
        op.drop_column(table, "more")
