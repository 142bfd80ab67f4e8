"""`gambrel bench` and `gambrel drill`: what is beside the application and runs it."""

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


def drill(arguments: Sequence[str]) -> int:
    """Run some drills or all; writes docs/reliability.md. Returns the exit code."""
    return subprocess.run(
        [sys.executable, str(PROJECT / "drills" / "drill.py"), *arguments], check=False
    ).returncode
