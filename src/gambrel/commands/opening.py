"""Opening what is stored: one server for each folder, the database with its newest schema."""

from __future__ import annotations

import contextlib
import fcntl
from collections.abc import Iterator

from sqlalchemy.exc import OperationalError

from gambrel.commands import own_data
from gambrel.commands.keys import keys
from gambrel.commands.places import STATE, CommandError
from gambrel.store.database import (
    Sessions,
    connect,
    knows_revision,
    migrate,
    newest_revision,
    revision_of,
    sessions,
)
from gambrel.store.dumps import is_empty


@contextlib.contextmanager
def only_one() -> Iterator[None]:
    """Hold the lock of this folder; two servers on one database folder would harm each other."""
    STATE.mkdir(parents=True, exist_ok=True)
    with (STATE / "running").open("a+") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            lock.seek(0)
            raise CommandError(
                f"Gambrel already runs from this folder: {lock.read().strip() or 'just starting'}. "
                "Stop it there with Ctrl+C, or use the one that runs; "
                "`./gambrel link` prints a new sign-in link for it."
            ) from None
        yield


def prepared(url: str) -> Sessions:
    """The database with its newest schema; of an older one that has plans a dump is made before.

    Raises:
        CommandError: where it cannot be used, or a newer program has written it.
    """
    engine = connect(url)
    try:
        with engine.connect() as connection:
            revision = revision_of(connection)
            empty = is_empty(connection)
        if revision is not None and not knows_revision(revision):
            raise CommandError(
                f"The database was written by a newer Gambrel (its schema is {revision}, this "
                f"program knows up to {newest_revision()}). Start that one, or bring back a dump "
                "that was made before with `./gambrel undump`. Nothing was changed."
            )
        if revision not in (None, newest_revision()) and not empty:
            own_data.dump_before(engine, f"upgrade-from-{revision}", keys())
        migrate(engine)
    except OperationalError as error:
        raise CommandError(
            f"The database cannot be used: {error.orig}. Check GAMBREL_DATABASE_URL and the "
            "rights of its user."
        ) from error
    return sessions(engine)
