"""`gambrel dump` and `gambrel undump`: Gambrel's own data into one file, and back."""

from __future__ import annotations

import os
from pathlib import Path

from sqlalchemy import Engine, make_url, text
from sqlalchemy.exc import DBAPIError

from gambrel.commands.database import database
from gambrel.commands.keys import keys
from gambrel.commands.opening import only_one
from gambrel.commands.own_data import dump_before
from gambrel.commands.places import STATE, CommandError, say
from gambrel.commands.state_files import write_whole
from gambrel.store.database import connect, revision_of
from gambrel.store.dumps import DumpError, check_dump, is_empty, load_dump, write_dump

TRIED_IN = "gambrel_undump"
"""The database in which a dump is tried before it replaces anything."""


def dump(path: str) -> None:
    """Write all that the database holds, and the keys, to a file; while it runs."""
    target = Path(path)
    with database() as (url, _):
        try:
            made = write_dump(connect(url, patient=True), target, keys())
        except (DumpError, OSError) as error:
            raise CommandError(f"{path}: {error}.") from error
    size = target.stat().st_size / 2**20
    say(
        f"{made.rows:,} rows of {len(made.members)} tables are in {path} ({size:,.1f} MiB). It "
        "holds passwords of sources, sealed, and the key to them: keep it where only you can read."
    )


def undump(path: str, *, replace: bool) -> None:
    """Bring Gambrel's own data back from a file; it is tried before anything is replaced.

    Args:
        replace: whether plans that are there may be replaced.

    Raises:
        CommandError: where it cannot; all is as it was then, but for a failure of the database
            itself while it is replaced. The message says where the dump from before is.
    """
    source = Path(path)
    try:
        manifest, brought = check_dump(source)
    except DumpError as error:
        raise CommandError(f"{path} cannot be brought back: {error}.") from error
    say(f"{path} is whole: {manifest.rows:,} rows, made {manifest.made_at}.")
    with only_one(), database() as (url, _):
        engine = connect(url, patient=True)
        with engine.connect() as connection:
            empty, revision = is_empty(connection), revision_of(connection)
        if not empty and not replace:
            raise CommandError(
                "There are plans in the database already. Add --replace to have the dump take "
                "their place; a dump of them is made first. Nothing was changed."
            )
        _try(engine, url, source)
        kept = None
        if not empty and revision is not None:
            kept = dump_before(engine, "undump", keys())
        try:
            load_dump(engine, source)
        except (DumpError, DBAPIError) as error:
            where = f" What was there before is in {kept}." if kept else ""
            raise CommandError(f"{path} did not come back: {error}.{where}") from error
        _bring_keys(brought)
    say("It is back. Start with `./gambrel start`; sign in as before, or with `./gambrel link`.")


def _try(engine: Engine, url: str, source: Path) -> None:
    """Bring a dump back into a database of its own, which goes again. Raises CommandError."""
    try:
        with engine.begin() as connection:
            connection.execute(text(f"DROP DATABASE IF EXISTS `{TRIED_IN}`"))
            connection.execute(text(f"CREATE DATABASE `{TRIED_IN}` CHARACTER SET utf8mb4"))
    except DBAPIError:
        say("The user of this database may make no other: it is not tried before.")
        return
    tried = connect(
        make_url(url).set(database=TRIED_IN).render_as_string(hide_password=False), patient=True
    )
    try:
        load_dump(tried, source)
    except (DumpError, DBAPIError) as error:
        raise CommandError(
            f"{source} cannot be brought back: {error}. Nothing was changed."
        ) from error
    finally:
        tried.dispose()
        with engine.begin() as connection:
            connection.execute(text(f"DROP DATABASE IF EXISTS `{TRIED_IN}`"))


def _bring_keys(brought: dict[str, str]) -> None:
    """Have the keys of the dump take the place of those of this folder."""
    for name, variable in (
        ("secret-key", "GAMBREL_SECRET_KEY"),
        ("sealing-key", "GAMBREL_SEALING_KEY"),
    ):
        if name not in brought:
            continue
        given = os.environ.get(variable)
        if given is None:
            write_whole(STATE / name, brought[name])
        elif given != brought[name]:
            say(f"{variable} is not the key of the dump: set it to {name} of its keys.json.")
