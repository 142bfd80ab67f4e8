"""The connection to MariaDB, its schema, and how a change is written."""

from __future__ import annotations

import random
import time
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, Engine, create_engine
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session, sessionmaker

Sessions = sessionmaker[Session]

T = TypeVar("T")

CONNECT_WITHIN_S = 5
ANSWER_WITHIN_S = 30
"""A database that says nothing for so long is taken to be away."""
LOCK_WITHIN_S = 10
POOLED = 20
"""Connections that are kept open; as many again may be open for a while."""

LOCK_NOT_GIVEN, DEADLOCK = 1205, 1213
WRITTEN_AT_ONCE = (LOCK_NOT_GIVEN, DEADLOCK)
"""MariaDB's numbers for a lock that is not given in time, and for a deadlock."""
TRIES = 6


def connect(url: str, *, patient: bool = False) -> Engine:
    """An engine for a database URL such as mariadb+pymysql://user@127.0.0.1:3307/gambrel.

    Args:
        patient: wait as long as it takes for an answer, as a change of the schema may need.
    """
    asked = {"connect_timeout": CONNECT_WITHIN_S}
    if not patient:
        asked |= {"read_timeout": ANSWER_WITHIN_S, "write_timeout": ANSWER_WITHIN_S}
    return create_engine(
        url,
        pool_pre_ping=True,
        pool_recycle=1800,
        pool_size=POOLED,
        max_overflow=POOLED,
        pool_timeout=CONNECT_WITHIN_S,
        connect_args={
            **asked,
            "init_command": f"SET SESSION innodb_lock_wait_timeout = {LOCK_WITHIN_S}",
        },
    )


def migrate(engine: Engine, to: str = "head", *, back: bool = False) -> None:
    """Bring the schema of a database to a revision, or the newest.

    Args:
        back: to an older one; what that has no place for is lost.
    """
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        (command.downgrade if back else command.upgrade)(config, to)


def revision_of(connection: Connection) -> str | None:
    """The revision of the schema of a database; None where it has none."""
    return MigrationContext.configure(connection).get_current_revision()


def newest_revision() -> str:
    """The revision of the schema that this program works with."""
    found = _scripts().get_current_head()
    assert found is not None
    return found


def revisions() -> list[str]:
    """All revisions of the schema that this program knows, the oldest first."""
    return [script.revision for script in _scripts().walk_revisions()][::-1]


def knows_revision(revision: str) -> bool:
    """Whether this program knows a revision of the schema: a newer one it does not."""
    return revision in revisions()


def is_current(connection: Connection) -> bool:
    """Whether a database has the schema that this program works with."""
    return revision_of(connection) == newest_revision()


def _scripts() -> ScriptDirectory:
    return ScriptDirectory(str(Path(__file__).parent / "migrations"))


def sessions(engine: Engine) -> Sessions:
    """A maker of sessions; `with maker.begin() as session:` is one transaction."""
    return sessionmaker(engine, expire_on_commit=False)


def in_transaction(maker: Sessions, work: Callable[[Session], T]) -> T:
    """Run a change as one transaction, and again where another got in its way.

    Whoever changes something of a plan locks the plan's row first and a draft's after it, so that
    two seldom stop each other; where they do, MariaDB ends one of them (a deadlock) and that one is
    tried again. Each statement sees what is committed by then (READ COMMITTED): what is read after
    a lock is as it is now.

    Args:
        work: may run several times; it changes nothing but the database.

    Raises:
        OperationalError: where the database is away, or others were in the way each time.
    """
    for attempt in range(TRIES):
        try:
            with maker() as session:
                session.connection(execution_options={"isolation_level": "READ COMMITTED"})
                result = work(session)
                session.commit()
                return result
        except OperationalError as error:
            number = error.orig.args[0] if error.orig is not None and error.orig.args else 0
            if number not in WRITTEN_AT_ONCE or attempt == TRIES - 1:
                raise
            time.sleep(random.uniform(0.0, 0.02 * 2**attempt))  # noqa: S311 - no secret
    raise AssertionError("the last try returns or raises")
