"""Options of jobs, who made an edit of a draft, adoptions, templates of jobs."""

from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None

IDENT = sa.String(190, collation="utf8mb4_nopad_bin")


def _flag(name: str) -> sa.Column[bool]:
    return sa.Column(name, sa.Boolean(), nullable=False, server_default="0")


def _number(name: str, default: str) -> sa.Column[float]:
    return sa.Column(name, sa.Double(), nullable=False, server_default=default)


def _word(name: str, default: str) -> sa.Column[str]:
    return sa.Column(name, sa.String(20), nullable=False, server_default=default)


def _list(name: str) -> sa.Column[object]:
    return sa.Column(name, sa.JSON(), nullable=False, server_default=sa.text("'[]'"))


def _of_job() -> list[sa.Column[Any]]:
    return [
        _flag("on_hold"),
        sa.Column("hold_until", sa.Date(), nullable=True),
        _word("machine_order", "listed"),
        _list("exclude_disk_rules"),
        _list("exclude_paths"),
        _number("guest_before_s", "0"),
        _number("guest_after_s", "0"),
        _word("if_quiesce_fails", "as it is"),
        _word("standstill", "none"),
        _number("standstill_s", "30"),
        _flag("encrypt"),
        _number("encrypt_factor", "1"),
        _word("notify", "never"),
        _list("notify_to"),
    ]


def upgrade() -> None:
    for column in _of_job():
        op.add_column("jobs", column)
    op.add_column("job_copies", sa.Column("cold_after_days", sa.Double(), nullable=True))
    op.add_column(
        "draft_operations",
        sa.Column("actor", sa.String(200), nullable=False, server_default=""),
    )
    op.add_column(
        "draft_operations", sa.Column("revision", sa.Integer(), nullable=False, server_default="1")
    )
    op.create_table(
        "adoptions",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("plans.id"), nullable=False),
        sa.Column("before_version", sa.Integer(), sa.ForeignKey("versions.id"), nullable=True),
        sa.Column("version_id", sa.Integer(), sa.ForeignKey("versions.id"), nullable=False),
        sa.Column("draft_id", sa.Integer(), sa.ForeignKey("drafts.id"), nullable=True),
        sa.Column("note", sa.Text(), nullable=False),
        sa.Column("words", sa.JSON(), nullable=False),
        sa.Column("actor", sa.String(200), nullable=False),
        sa.Column("at", sa.DateTime(), nullable=False),
    )
    op.create_table(
        "job_templates",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("plans.id"), nullable=False),
        sa.Column("name", IDENT, nullable=False),
        sa.Column("value", sa.JSON(), nullable=False),
        sa.Column("actor", sa.String(200), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.UniqueConstraint("plan_id", "name"),
    )


def downgrade() -> None:
    op.drop_table("job_templates")
    op.drop_table("adoptions")
    op.drop_column("draft_operations", "revision")
    op.drop_column("draft_operations", "actor")
    op.drop_column("job_copies", "cold_after_days")
    for column in _of_job():
        op.drop_column("jobs", column.name)
