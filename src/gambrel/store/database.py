"""The connection to MariaDB, and its schema."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, create_engine
from sqlalchemy.orm import Session, sessionmaker

Sessions = sessionmaker[Session]


def connect(url: str) -> Engine:
    """An engine for a database URL such as mariadb+pymysql://user@127.0.0.1:3307/gambrel."""
    return create_engine(url, pool_pre_ping=True, pool_recycle=1800)


def migrate(engine: Engine) -> None:
    """Bring the schema of a database to the newest revision."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")


def sessions(engine: Engine) -> Sessions:
    """A maker of sessions; `with maker.begin() as session:` is one transaction."""
    return sessionmaker(engine, expire_on_commit=False)
