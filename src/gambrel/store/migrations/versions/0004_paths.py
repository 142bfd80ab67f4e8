"""Encryption of links, pins of hosts, zoning, what proxies are, volumes of repositories."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

IDENT = sa.String(190, collation="utf8mb4_nopad_bin")


def _flag(name: str) -> sa.Column[bool]:
    return sa.Column(name, sa.Boolean(), nullable=False, server_default="0")


def _list(name: str) -> sa.Column[object]:
    return sa.Column(name, sa.JSON(), nullable=False, server_default=sa.text("'[]'"))


def upgrade() -> None:
    op.add_column("links", _flag("encrypted"))
    op.add_column(
        "links", sa.Column("encryption_factor", sa.Double(), nullable=False, server_default="1")
    )
    op.add_column("hosts", sa.Column("proxies", sa.JSON(), nullable=True))
    op.add_column("datastores", _list("zoned_proxies"))
    op.add_column("proxies", sa.Column("memory_gib", sa.Double(), nullable=True))
    op.add_column("proxies", _flag("physical"))
    op.add_column("proxies", sa.Column("on_machine", IDENT, nullable=True))
    op.add_column("proxies", _list("left_out_datastores"))
    op.add_column(
        "proxies",
        sa.Column("throughput_from", sa.String(20), nullable=False, server_default="stated"),
    )
    op.add_column(
        "repositories", sa.Column("kind", sa.String(20), nullable=False, server_default="disk")
    )
    op.add_column("repositories", _list("volumes"))
    op.add_column(
        "repositories",
        sa.Column("placement", sa.String(20), nullable=False, server_default="most free"),
    )


def downgrade() -> None:
    for table, names in (
        ("repositories", ("placement", "volumes", "kind")),
        (
            "proxies",
            ("throughput_from", "left_out_datastores", "on_machine", "physical", "memory_gib"),
        ),
        ("datastores", ("zoned_proxies",)),
        ("hosts", ("proxies",)),
        ("links", ("encryption_factor", "encrypted")),
    ):
        for name in names:
            op.drop_column(table, name)
