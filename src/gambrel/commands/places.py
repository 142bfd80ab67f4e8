"""Where things lie on this machine, and how the command speaks."""

from __future__ import annotations

import os
import shutil
import sys
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[3]
STATE = Path(os.environ.get("GAMBREL_STATE") or PROJECT / ".gambrel")
"""All that is made while running: database, logs, secrets. GAMBREL_STATE moves it."""
APPLICATION_LOG = "application.log"
APPLICATION_OUTPUT = "application-output.log"
"""What the application's process says outside its log, such as why it could not start."""
PAGES = PROJECT / "web" / "dist"


def chromium_path() -> str | None:
    """Debian's Chromium, where it is: rather the one without windows, which is much faster."""
    return shutil.which("chromium-headless-shell") or shutil.which("chromium")


class CommandError(Exception):
    """Something that keeps the command from its work; the text says what to do about it."""


def say(text: str) -> None:
    print(text, flush=True)


def complain(text: str) -> None:
    print(text, file=sys.stderr, flush=True)
