"""Sessions, the identity of this database, versions whose content was given up."""

import uuid

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "sign_ins",
        sa.Column("key_hash", sa.String(64), primary_key=True),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("began_at", sa.DateTime(), nullable=False),
        sa.Column("expires_at", sa.DateTime(), nullable=False),
    )
    op.add_column("versions", sa.Column("emptied_at", sa.DateTime(), nullable=True))
    identity = op.create_table(
        "identity", sa.Column("id", sa.String(36), primary_key=True, nullable=False)
    )
    op.bulk_insert(identity, [{"id": str(uuid.uuid4())}])


def downgrade() -> None:
    op.drop_column("versions", "emptied_at")
    op.drop_table("identity")
    op.drop_table("sign_ins")
