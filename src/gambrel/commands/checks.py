"""`gambrel test`: every check and every test, in one go."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from gambrel.commands.descriptions import MADE
from gambrel.commands.places import PROJECT, complain, say

WEB = PROJECT / "web"
BIN = Path(sys.executable).parent
MOST_WORKERS = 4
"""Test files run side by side, each worker with a database server of its own."""


def _step(name: str, command: Sequence[str], *, cwd: Path = PROJECT) -> bool:
    done = subprocess.run(command, cwd=cwd, check=False, capture_output=True, text=True)
    say(f"— {name}\n{done.stdout}{done.stderr}".rstrip())
    if done.returncode != 0:
        complain(f"{name}: failed")
    return done.returncode == 0


def _are_current(folder: Path, names: Sequence[str]) -> bool:
    """Hold files that were made anew in a folder against the committed ones."""
    stale = [n for n in names if (folder / n).read_bytes() != (PROJECT / n).read_bytes()]
    if stale:
        complain(
            f"{', '.join(stale)}: stale. Run `./gambrel describe`, then `npm run types` in web/, "
            "and commit what they wrote."
        )
    return not stale


def _python_checks() -> list[bool]:
    return [
        _step("ruff", [str(BIN / "ruff"), "check", "."]),
        _step("ruff format", [str(BIN / "ruff"), "format", "--check", "."]),
        _step("mypy", [str(BIN / "mypy")]),
        _step("import rules", [str(BIN / "lint-imports"), "--no-cache"]),
    ]


def _web_checks() -> list[bool]:
    npm = ["npm", "run", "--silent"]
    with tempfile.TemporaryDirectory() as folder:
        made, types = Path(folder), "web/src/api/schema.d.ts"
        describe = [sys.executable, "-W", "ignore", "-m", "gambrel.cli", "describe"]
        generate = ["npx", "--no-install", "openapi-typescript", str(made / "docs/openapi.json")]
        return [
            _step("descriptions", [*describe, "--folder", folder])
            and _step("API types", [*generate, "-o", str(made / types)], cwd=WEB)
            and _are_current(made, [*MADE, types]),
            _step("TypeScript", [*npm, "check"], cwd=WEB),
            _step("front-end units", [*npm, "test"], cwd=WEB),
        ]


def _checks() -> bool:
    with ThreadPoolExecutor() as beside:
        lanes = [beside.submit(_python_checks), beside.submit(_web_checks)]
        return all(all(lane.result()) for lane in lanes)


def run(arguments: Sequence[str]) -> int:
    """All checks, and all tests but the long ones; with arguments only pytest, with them.

    Returns the exit code.
    """
    say("— pytest")
    workers = str(min(MOST_WORKERS, os.cpu_count() or 1))
    # The order is that of tests/conftest.py, in which files that take long come first.
    spread = ["-n", workers, "--dist", "loadfile", "--no-loadscope-reorder"]
    how = arguments or [*spread, "-m", "not long"]
    with ThreadPoolExecutor() as beside:
        # Tests wait for browsers and processes half of the time: the checks have room beside them.
        checks = None if arguments else beside.submit(_checks)
        tested = subprocess.run(
            [sys.executable, "-m", "pytest", *how], cwd=PROJECT, check=False
        ).returncode
        checked = checks is None or checks.result()
    if not checked:
        complain("Some checks failed; see above.")
    return tested if checked else (tested or 1)
