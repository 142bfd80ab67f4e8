"""Which build of the program this is."""

from __future__ import annotations

import hashlib
from functools import cache
from pathlib import Path


@cache
def build() -> str:
    """A short name of this build: another one wherever a line of the program differs."""
    whole = hashlib.sha256()
    for file in sorted(Path(__file__).parent.rglob("*.py")):
        whole.update(file.read_bytes())
    return whole.hexdigest()[:12]
