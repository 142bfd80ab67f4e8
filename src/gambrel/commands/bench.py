"""`gambrel bench`: the benchmarks, which lie beside the application."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Sequence

from gambrel.commands.places import PROJECT


def run(sections: Sequence[str]) -> int:
    """Measure some sections or all, print, and write docs/benchmarks.md. Returns the exit code."""
    return subprocess.run(
        [sys.executable, str(PROJECT / "bench" / "measure.py"), *sections], check=False
    ).returncode
