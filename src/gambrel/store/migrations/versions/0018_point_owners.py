"""What an adoption did to whose restore points are, so that going back can give them back."""

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("adoptions", sa.Column("handovers", sa.JSON(), nullable=True))


def downgrade() -> None:
    op.drop_column("adoptions", "handovers")
