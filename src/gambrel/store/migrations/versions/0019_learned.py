"""Keys of the transports that came later, as which of them were taken from the ledger."""

import sqlalchemy as sa
from alembic import op

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column(
        "versions", sa.Column("more", sa.JSON(), nullable=False, server_default=sa.text("'{}'"))
    )


def downgrade() -> None:
    op.drop_column("versions", "more")
