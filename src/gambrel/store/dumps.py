"""Gambrel's own data as one file, and back: `gambrel-dump/1`.

A dump is a zip file. It has `tables/NAME.jsonl` for each table, a line for each row with the values
of its columns in order, `keys.json` with the keys that seal and sign, and, last, `manifest.json`:
the revision of the schema, and of each member its rows, its columns and its SHA-256. All rows are
those of one instant, whatever is written meanwhile. A dump of an older schema is brought to the
newest one after it was read.
"""

from __future__ import annotations

import base64
import hashlib
import json
import os
import re
import zipfile
from collections.abc import Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any

from pymysql.cursors import SSCursor
from sqlalchemy import Connection, Engine, inspect, select, text

from gambrel import __version__
from gambrel.store.database import knows_revision, migrate, newest_revision, revision_of, sessions
from gambrel.store.models import PlanRow
from gambrel.store.plans import version_plan

FORMAT = "gambrel-dump/1"
MANIFEST, KEYS = "manifest.json", "keys.json"
LEFT_OUT = "alembic_version"
ROWS_AT_ONCE = 1_000
LONGEST_LINE = 256 * 2**20


class DumpError(ValueError):
    """A file that is no dump that can be used, or a database into which it cannot go."""


@dataclass(frozen=True, slots=True)
class Member:
    """A table of a dump."""

    table: str
    columns: tuple[str, ...]
    rows: int
    sha256: str


@dataclass(frozen=True, slots=True)
class Manifest:
    """What a dump says of itself."""

    made_at: str
    version: str
    revision: str
    members: tuple[Member, ...]
    keys_sha256: str

    @property
    def rows(self) -> int:
        return sum(member.rows for member in self.members)


# --- out ----------------------------------------------------------------------------------------


def write_dump(engine: Engine, path: Path, keys: Mapping[str, str]) -> Manifest:
    """Write all that a database holds to a file, whole or not at all; others write meanwhile.

    Args:
        keys: what else is needed to go on with it, by name.

    Raises:
        DumpError: for a database without a schema.
    """
    part = path.with_name(path.name + ".part")
    part.unlink(missing_ok=True)
    descriptor = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    try:
        with os.fdopen(descriptor, "wb") as file:
            with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED, compresslevel=4) as archive:
                manifest = _write(engine, archive, keys)
            file.flush()
            os.fsync(file.fileno())
        part.replace(path)
    except BaseException:
        part.unlink(missing_ok=True)
        raise
    return manifest


def _write(engine: Engine, archive: zipfile.ZipFile, keys: Mapping[str, str]) -> Manifest:
    with engine.connect() as looking:
        revision = revision_of(looking)
        names = sorted(set(inspect(looking).get_table_names()) - {LEFT_OUT})
    if revision is None:
        raise DumpError("this database has no schema yet: there is nothing to dump")
    members = []
    with closing(engine.raw_connection()) as connection:
        with closing(connection.cursor()) as cursor:
            cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
            cursor.execute("START TRANSACTION WITH CONSISTENT SNAPSHOT")
        for name in names:
            members.append(_write_table(connection, archive, name))
        connection.rollback()
    told = json.dumps(dict(keys))
    archive.writestr(KEYS, told)
    manifest = Manifest(
        datetime.now(UTC).isoformat(timespec="seconds"), __version__, revision, tuple(members),
        _digest(told.encode()),
    )  # fmt: skip
    archive.writestr(MANIFEST, json.dumps(_as_json(manifest), indent=1))
    return manifest


def _write_table(connection: Any, archive: zipfile.ZipFile, name: str) -> Member:
    sha256, rows = hashlib.sha256(), 0
    with (
        closing(connection.driver_connection.cursor(SSCursor)) as cursor,
        archive.open(f"tables/{name}.jsonl", "w", force_zip64=True) as member,
    ):
        cursor.execute(f"SELECT * FROM `{name}`")  # noqa: S608 - a name of this database
        columns = tuple(column[0] for column in cursor.description)
        for row in cursor:
            line = json.dumps([_told(value) for value in row], ensure_ascii=False).encode() + b"\n"
            sha256.update(line)
            member.write(line)
            rows += 1
    return Member(name, columns, rows, sha256.hexdigest())


def _told(value: Any) -> Any:
    """A value as JSON; what JSON has no form for is an object of one key."""
    if isinstance(value, datetime):
        return {"datetime": value.isoformat()}
    if isinstance(value, date):
        return {"date": value.isoformat()}
    if isinstance(value, timedelta):
        return {"seconds": value.total_seconds()}
    if isinstance(value, bytes):
        return {"bytes": base64.b64encode(value).decode()}
    return value


def _read_value(value: Any) -> Any:
    if not isinstance(value, dict):
        return value
    ((kind, told),) = value.items()
    if kind == "seconds":
        return timedelta(seconds=told)
    if kind == "bytes":
        return base64.b64decode(told)
    return told


def _digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def _as_json(manifest: Manifest) -> dict[str, Any]:
    return {
        "format": FORMAT,
        "made_at": manifest.made_at,
        "version": manifest.version,
        "revision": manifest.revision,
        "keys_sha256": manifest.keys_sha256,
        "tables": {
            member.table: {
                "columns": list(member.columns), "rows": member.rows, "sha256": member.sha256,
            }
            for member in manifest.members
        },
    }  # fmt: skip


# --- in -----------------------------------------------------------------------------------------


def check_dump(path: Path) -> tuple[Manifest, dict[str, str]]:
    """Read a dump to its end; what it says of itself, and its keys.

    Raises:
        DumpError: where it is none, was made by a newer program, or is not whole.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            manifest = _manifest(archive)
            content = archive.read(KEYS)
            if _digest(content) != manifest.keys_sha256:
                raise DumpError("its keys are not those that were written")
            for member in manifest.members:
                _check_member(archive, member)
            return manifest, json.loads(content)
    except (OSError, zipfile.BadZipFile, KeyError, TypeError, json.JSONDecodeError) as error:
        raise DumpError(f"it cannot be read: {error}") from error


def _manifest(archive: zipfile.ZipFile) -> Manifest:
    told = json.loads(archive.read(MANIFEST))
    if told.get("format") != FORMAT:
        raise DumpError(f"it is no {FORMAT} file")
    if not knows_revision(told["revision"]):
        raise DumpError(
            f"it was made by a newer Gambrel, {told['version']} (schema {told['revision']}; this "
            f"one has {newest_revision()}). Use that one, or a newer one"
        )
    members = tuple(
        Member(table, tuple(each["columns"]), each["rows"], each["sha256"])
        for table, each in told["tables"].items()
    )
    for member in members:
        for name in (member.table, *member.columns):
            # They become part of statements.
            if not re.fullmatch(r"[a-z][a-z0-9_]*", name) or name == LEFT_OUT:
                raise DumpError(f"{name!r} is no name of a table or a column")
    return Manifest(
        told["made_at"], told["version"], told["revision"], members, told["keys_sha256"]
    )


def _lines(archive: zipfile.ZipFile, member: Member) -> Iterator[bytes]:
    with archive.open(f"tables/{member.table}.jsonl") as file:
        while line := file.readline(LONGEST_LINE):
            yield line


def _check_member(archive: zipfile.ZipFile, member: Member) -> None:
    sha256, rows = hashlib.sha256(), 0
    for line in _lines(archive, member):
        sha256.update(line)
        rows += 1
    if rows != member.rows or sha256.hexdigest() != member.sha256:
        raise DumpError(f"its table {member.table} is not as it was written")


def is_empty(connection: Connection) -> bool:
    """Whether a database has no plan, so that nothing can be lost in it."""
    names = inspect(connection).get_table_names()
    if "plans" not in names:
        return True
    return not connection.execute(text("SELECT COUNT(*) FROM plans")).scalar()


def load_dump(engine: Engine, path: Path) -> Manifest:
    """Replace all that a database holds by a dump, and bring it to the newest schema.

    The adopted version of every plan is read in the end: what cannot be read was not brought back.

    Raises:
        DumpError
    """
    manifest, _ = check_dump(path)
    with engine.begin() as connection:
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
        for name in inspect(connection).get_table_names():
            connection.execute(text(f"DROP TABLE `{name}`"))
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 1"))
    migrate(engine, manifest.revision)
    with zipfile.ZipFile(path) as archive, closing(engine.raw_connection()) as connection:
        with closing(connection.cursor()) as cursor:
            cursor.execute("SET FOREIGN_KEY_CHECKS = 0")
            for member in manifest.members:
                cursor.execute(f"TRUNCATE TABLE `{member.table}`")
                _load_table(cursor, archive, member)
            cursor.execute("SET FOREIGN_KEY_CHECKS = 1")
        connection.commit()
    migrate(engine)
    _check_loaded(engine, manifest)
    return manifest


def _load_table(cursor: Any, archive: zipfile.ZipFile, member: Member) -> None:
    names = ", ".join(f"`{column}`" for column in member.columns)
    values = ", ".join(["%s"] * len(member.columns))
    statement = f"INSERT INTO `{member.table}` ({names}) VALUES ({values})"  # noqa: S608 - checked
    rows: list[list[Any]] = []
    for line in _lines(archive, member):
        rows.append([_read_value(value) for value in json.loads(line)])
        if len(rows) == ROWS_AT_ONCE:
            cursor.executemany(statement, rows)
            rows = []
    if rows:
        cursor.executemany(statement, rows)


def _check_loaded(engine: Engine, manifest: Manifest) -> None:
    if manifest.revision == newest_revision():
        with engine.connect() as connection:
            for member in manifest.members:
                counted = text(f"SELECT COUNT(*) FROM `{member.table}`")  # noqa: S608 - checked
                found = connection.execute(counted).scalar()
                if found != member.rows:
                    raise DumpError(f"{found} of {member.rows} rows of {member.table} came back")
    with sessions(engine)() as db:
        adopted = select(PlanRow.adopted_version).where(PlanRow.adopted_version.is_not(None))
        for version in db.scalars(adopted):
            if version is not None:
                version_plan(db, version)
