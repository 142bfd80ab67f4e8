"""A small round of every drill."""

import os
import subprocess
import sys

import pytest

from gambrel.commands.places import PROJECT

DRILLS = {
    "Fuzzed calls": 8,
    "Killed processes": 2,
    "Two and eight writers": 3,
    "Slow clients": 8,
    "Fifty readers": 5,
    "Sources that lie": 10,
    "Doors": 1,
    "Runners that report": 1,
    "Dumps beside writers": 1,
    "Upgrades": 1,
    "Changing previews": 15,
}


@pytest.mark.long
@pytest.mark.timeout(600)
@pytest.mark.skipif(
    not (PROJECT / "web" / "dist" / "index.html").exists(), reason="the pages are not built"
)
@pytest.mark.parametrize(("name", "times"), DRILLS.items())
def test_a_small_drill_finds_nothing(name, times):
    page = (PROJECT / "docs" / "reliability.md").read_bytes()
    done = subprocess.run(
        [
            sys.executable, str(PROJECT / "drills" / "drill.py"), "--small",
            "--times", str(times), name,
        ],
        capture_output=True, text=True, check=False, cwd=PROJECT,
        env={
            **os.environ,
            "PYTHONPATH": str(PROJECT / "src"),
            # Playing sixty nights takes longer than a small round.
            "GAMBREL_SAMPLE_NIGHTS": "2",
        },
    )  # fmt: skip
    assert done.returncode == 0, (done.stdout + done.stderr)[-4000:]
    assert f"## {name}" in done.stdout
    assert (PROJECT / "docs" / "reliability.md").read_bytes() == page
