"""`gambrel bench`: the benchmarks, which lie beside the application."""

from __future__ import annotations

import subprocess
import sys

from gambrel.commands.places import PROJECT


def run() -> int:
    """Measure, print, and write docs/benchmarks.md. Returns the exit code."""
    return subprocess.run(
        [sys.executable, str(PROJECT / "bench" / "measure.py")], check=False
    ).returncode
