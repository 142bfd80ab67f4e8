"""People with roles and passwords, tokens of programs, where changes come from, requests to agree.

Who was signed in, or has a link that still works, had every right: they become administrators.
"""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None

IDENT = sa.String(190, collation="utf8mb4_nopad_bin")

NEVER_CHANGED = """
CREATE TRIGGER audit_entries_stay BEFORE UPDATE ON audit_entries FOR EACH ROW
SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'entries of the audit trail are never changed'
"""
KEPT_FOR_A_WHILE = """
CREATE TRIGGER audit_entries_are_kept BEFORE DELETE ON audit_entries FOR EACH ROW
IF OLD.at > UTC_TIMESTAMP() - INTERVAL 90 DAY THEN
SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'entries of the audit trail are kept for 90 days';
END IF
"""
NOT_ALLOWED = (1142, 1227, 1419)
"""MariaDB's numbers for a user who may not make triggers."""


def upgrade() -> None:
    op.create_table(
        "people",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("name", IDENT, nullable=False, unique=True),
        sa.Column("role", sa.String(20), nullable=False),
        sa.Column("password_hash", sa.String(200), nullable=True),
        sa.Column("subject", sa.String(64), nullable=True, unique=True),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("barred_at", sa.DateTime(), nullable=True),
    )
    op.execute(
        "INSERT IGNORE INTO people (name, role, created_at) "
        "SELECT DISTINCT LEFT(name, 190), 'administer', UTC_TIMESTAMP() FROM "
        "(SELECT name FROM sign_ins UNION SELECT name FROM sign_in_links WHERE used_at IS NULL) n"
    )
    op.add_column("sign_ins", sa.Column("person_id", sa.Integer(), nullable=True))
    op.execute("UPDATE sign_ins s JOIN people p ON p.name = LEFT(s.name, 190) SET s.person_id=p.id")
    op.execute("DELETE FROM sign_ins WHERE person_id IS NULL")
    op.alter_column("sign_ins", "person_id", existing_type=sa.Integer(), nullable=False)
    op.create_foreign_key("fk_sign_ins_person", "sign_ins", "people", ["person_id"], ["id"])
    op.drop_column("sign_ins", "name")
    op.add_column("sign_ins", sa.Column("seen_at", sa.DateTime(), nullable=True))
    for name in ("address", "agent"):
        op.add_column(
            "sign_ins", sa.Column(name, sa.String(200), nullable=False, server_default="")
        )
    op.add_column(
        "sign_in_links",
        sa.Column("role", sa.String(20), nullable=False, server_default="administer"),
    )
    op.create_table(
        "tokens",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("name", IDENT, nullable=False, unique=True),
        sa.Column("role", sa.String(20), nullable=False),
        sa.Column("token_hash", sa.String(64), nullable=False, unique=True),
        sa.Column("made_by", sa.String(200), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("expires_at", sa.DateTime(), nullable=True),
        sa.Column("used_at", sa.DateTime(), nullable=True),
    )
    op.add_column(
        "audit_entries", sa.Column("address", sa.String(64), nullable=False, server_default="")
    )
    op.create_index("ix_audit_entries_at", "audit_entries", ["at"])
    for trigger in (NEVER_CHANGED, KEPT_FOR_A_WHILE):
        try:
            op.execute(trigger)
        except sa.exc.DBAPIError as error:
            if error.orig is None or error.orig.args[0] not in NOT_ALLOWED:
                raise


def downgrade() -> None:
    for name in ("audit_entries_stay", "audit_entries_are_kept"):
        op.execute(f"DROP TRIGGER IF EXISTS {name}")
    op.drop_index("ix_audit_entries_at", "audit_entries")
    op.drop_column("audit_entries", "address")
    op.drop_table("tokens")
    op.drop_column("sign_in_links", "role")
    op.execute("DELETE FROM sign_ins")
    op.drop_constraint("fk_sign_ins_person", "sign_ins", type_="foreignkey")
    for name in ("person_id", "seen_at", "address", "agent"):
        op.drop_column("sign_ins", name)
    op.add_column("sign_ins", sa.Column("name", sa.String(200), nullable=False))
    op.drop_table("people")
