"""Small files of the state folder: written whole or not at all, and checked when they are read.

A machine that loses power may leave a file that is empty or cut short. An empty password, key or
port must not be used as if somebody had chosen it.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from gambrel.commands.places import CommandError

KEPT_LOGS = 3


def write_whole(path: Path, text: str) -> None:
    """Write a file that only its owner may read, so that it is there whole or as it was before."""
    made = path.with_name(path.name + ".new")
    made.unlink(missing_ok=True)
    descriptor = os.open(made, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "w") as file:
        file.write(text)
        file.flush()
        os.fsync(file.fileno())
    made.replace(path)


def kept_text(
    path: Path, make: Callable[[], str], *, least: int = 1, lost: str | None = None
) -> str:
    """The text of a file, made where there is none.

    Args:
        least: characters that it has if it is whole.
        lost: what would be lost with it; None where a new text does as well.

    Raises:
        CommandError: where it is not whole, and something would be lost.
    """
    text = path.read_text(errors="replace").strip() if path.exists() else ""
    if len(text) >= least:
        return text
    if path.exists() and lost is not None:
        raise CommandError(
            f"{path} is empty or cut short. Bring it back from a backup. Or delete it, and a new "
            f"one is made: {lost}."
        )
    text = make()
    write_whole(path, text)
    return text


def rotated(path: Path, most_bytes: int) -> Path:
    """A log file to be written on, readable by its owner only; a large one is put aside before."""
    if path.exists() and path.stat().st_size > most_bytes:
        for number in range(KEPT_LOGS - 1, 0, -1):
            older = path.with_name(f"{path.name}.{number}")
            if older.exists():
                older.replace(path.with_name(f"{path.name}.{number + 1}"))
        path.replace(path.with_name(f"{path.name}.1"))
    path.touch(mode=0o600)
    path.chmod(0o600)
    return path
