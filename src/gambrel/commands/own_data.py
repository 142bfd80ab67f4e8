"""Dumps that are made before something is replaced: an upgrade, or bringing back another dump."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import Engine

from gambrel.commands.places import STATE, CommandError, say
from gambrel.store.dumps import DumpError, write_dump

DUMPS = STATE / "dumps"
KEPT = 5
"""So many dumps of this kind are kept, the newest."""


def dump_before(engine: Engine, what: str, keys: Mapping[str, str]) -> Path:
    """Write a dump before something is done; returns where. Raises CommandError."""
    DUMPS.mkdir(parents=True, exist_ok=True, mode=0o700)
    path = DUMPS / f"{datetime.now(UTC):%Y%m%dT%H%M%SZ}-before-{what}.gambrel-dump"
    try:
        write_dump(engine, path, keys)
    except (DumpError, OSError) as error:
        raise CommandError(f"No dump could be made before the {what}: {error}.") from error
    say(f"What was there before is kept in {path}.")
    for old in sorted(DUMPS.glob("*-before-*.gambrel-dump"))[:-KEPT]:
        old.unlink()
    return path
