"""The ledger: runners, orders, runs and machine-runs, events, points, what is left, mail."""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "runners",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("plans.id"), nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("token_hash", sa.String(64), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("revoked_at", sa.DateTime(), nullable=True),
        sa.Column("last_seen_at", sa.DateTime(), nullable=True),
        sa.Column("clock", sa.Double(), nullable=True),
        sa.Column("offset_s", sa.Double(), nullable=False),
        sa.Column("speed", sa.Double(), nullable=True),
        sa.UniqueConstraint("token_hash"),
    )
    op.create_index("ix_runners_plan_id", "runners", ["plan_id"])
    op.create_table(
        "orders",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("plans.id"), nullable=False),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("job", sa.String(190, collation="utf8mb4_nopad_bin"), nullable=True),
        sa.Column("machines", sa.JSON(), nullable=False),
        sa.Column("detail", sa.JSON(), nullable=False),
        sa.Column("state", sa.String(20), nullable=False),
        sa.Column("words", sa.String(1000), nullable=False),
        sa.Column("effect", sa.String(2000), nullable=False),
        sa.Column("reason", sa.String(500), nullable=False),
        sa.Column("actor", sa.String(200), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("at", sa.Double(), nullable=False),
        sa.Column("taken_at", sa.Double(), nullable=True),
        sa.Column("ended_at", sa.Double(), nullable=True),
    )
    op.create_index("ix_orders_plan_id", "orders", ["plan_id"])
    op.create_index("ix_orders_state", "orders", ["state"])
    op.create_table(
        "ledger_nights",
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("plans.id"), primary_key=True),
        sa.Column("night", sa.Date(), primary_key=True),
        sa.Column("zone", sa.String(80), nullable=False),
        sa.Column("version_id", sa.Integer(), nullable=False),
        sa.Column("predicted_at", sa.Double(), nullable=False),
        sa.Column("summary", sa.JSON(), nullable=True),
        sa.Column("mailed_at", sa.DateTime(), nullable=True),
    )
    op.create_table(
        "ledger_runs",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("plans.id"), nullable=False),
        sa.Column("night", sa.Date(), nullable=False),
        sa.Column("job", sa.String(190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("occurrence_us", sa.BigInteger(), nullable=False),
        sa.Column("kind", sa.String(20), nullable=True),
        sa.Column("outcome", sa.String(20), nullable=True),
        sa.Column("began", sa.Double(), nullable=True),
        sa.Column("ended", sa.Double(), nullable=True),
        sa.Column("window_end", sa.Double(), nullable=True),
        sa.Column("order_id", sa.Integer(), nullable=True),
        sa.Column("origin", sa.String(20), nullable=False),
        sa.Column("predicted", sa.JSON(), nullable=True),
        sa.UniqueConstraint("plan_id", "job", "occurrence_us"),
    )
    op.create_index("ix_ledger_runs_night", "ledger_runs", ["plan_id", "night"])
    op.create_table(
        "ledger_machine_runs",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("run_id", sa.BigInteger(), sa.ForeignKey("ledger_runs.id", ondelete="CASCADE"), nullable=False),
        sa.Column("plan_id", sa.Integer(), nullable=False),
        sa.Column("night", sa.Date(), nullable=False),
        sa.Column("job", sa.String(190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("occurrence_us", sa.BigInteger(), nullable=False),
        sa.Column("machine", sa.String(190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("outcome", sa.String(20), nullable=True),
        sa.Column("reason", sa.String(500), nullable=False),
        sa.Column("kind", sa.String(20), nullable=True),
        sa.Column("queued", sa.Double(), nullable=True),
        sa.Column("start", sa.Double(), nullable=True),
        sa.Column("prepared", sa.Double(), nullable=True),
        sa.Column("moved", sa.Double(), nullable=True),
        sa.Column("released", sa.Double(), nullable=True),
        sa.Column("ended", sa.Double(), nullable=True),
        sa.Column("end_id", sa.String(80, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("source_bytes", sa.Double(), nullable=False),
        sa.Column("wire_bytes", sa.Double(), nullable=False),
        sa.Column("stored_bytes", sa.Double(), nullable=False),
        sa.Column("disks", sa.JSON(), nullable=False),
        sa.Column("left", sa.JSON(), nullable=False),
        sa.Column("predicted", sa.JSON(), nullable=True),
        sa.UniqueConstraint("run_id", "machine"),
    )
    op.create_index("ix_ledger_machine_runs_job", "ledger_machine_runs", ["plan_id", "job", "occurrence_us"])
    op.create_index("ix_ledger_machine_runs_machine", "ledger_machine_runs", ["plan_id", "machine", "occurrence_us"])
    op.create_index("ix_ledger_machine_runs_outcome", "ledger_machine_runs", ["plan_id", "outcome", "occurrence_us"])
    op.create_index("ix_ledger_machine_runs_time", "ledger_machine_runs", ["plan_id", "occurrence_us", "id"])
    op.create_table(
        "ledger_events",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("plan_id", sa.Integer(), nullable=False),
        sa.Column("event_id", sa.String(80, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("runner_id", sa.Integer(), nullable=False),
        sa.Column("at", sa.Double(), nullable=False),
        sa.Column("received_at", sa.DateTime(), nullable=False),
        sa.Column("what", sa.String(30), nullable=False),
        sa.Column("job", sa.String(190, collation="utf8mb4_nopad_bin"), nullable=True),
        sa.Column("occurrence_us", sa.BigInteger(), nullable=True),
        sa.Column("machine", sa.String(190, collation="utf8mb4_nopad_bin"), nullable=True),
        sa.Column("body", sa.JSON(), nullable=False),
        sa.Column("refused", sa.String(500), nullable=True),
        sa.UniqueConstraint("plan_id", "event_id"),
    )
    op.create_index("ix_ledger_events_run", "ledger_events", ["plan_id", "job", "occurrence_us"])
    op.create_table(
        "ledger_points",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("plan_id", sa.Integer(), nullable=False),
        sa.Column("repository", sa.String(190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("job", sa.String(190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("machine", sa.String(190, collation="utf8mb4_nopad_bin"), nullable=False),
        sa.Column("kind", sa.String(20), nullable=False),
        sa.Column("at_us", sa.BigInteger(), nullable=False),
        sa.Column("exists_from", sa.Double(), nullable=True),
        sa.Column("stored_bytes", sa.Double(), nullable=False),
        sa.Column("gone_at", sa.Double(), nullable=True),
        sa.UniqueConstraint("plan_id", "repository", "job", "machine", "at_us", "kind"),
    )
    op.create_index("ix_ledger_points_machine", "ledger_points", ["plan_id", "machine"])
    op.create_table(
        "left_overs",
        sa.Column("plan_id", sa.Integer(), sa.ForeignKey("plans.id"), primary_key=True),
        sa.Column("machine", sa.String(190, collation="utf8mb4_nopad_bin"), primary_key=True),
        sa.Column("what", sa.String(20), primary_key=True),
        sa.Column("since", sa.Double(), nullable=True),
        sa.Column("cleaned_at", sa.Double(), nullable=True),
    )
    op.create_table(
        "mails",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("key", sa.String(190), nullable=False),
        sa.Column("to", sa.JSON(), nullable=False),
        sa.Column("subject", sa.String(300), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("html", sa.Text(), nullable=False),
        sa.Column("state", sa.String(20), nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("next_try_at", sa.DateTime(), nullable=False),
        sa.Column("created_at", sa.DateTime(), nullable=False),
        sa.Column("sent_at", sa.DateTime(), nullable=True),
        sa.Column("error", sa.String(500), nullable=False),
        sa.UniqueConstraint("key"),
    )
    op.create_index("ix_mails_state", "mails", ["state"])
    op.create_table(
        "settings",
        sa.Column("name", sa.String(60), primary_key=True),
        sa.Column("value", sa.JSON(), nullable=False),
        sa.Column("changed_at", sa.DateTime(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("settings")
    op.drop_table("mails")
    op.drop_table("left_overs")
    op.drop_table("ledger_points")
    op.drop_table("ledger_events")
    op.drop_table("ledger_machine_runs")
    op.drop_table("ledger_runs")
    op.drop_table("ledger_nights")
    op.drop_table("orders")
    op.drop_table("runners")
