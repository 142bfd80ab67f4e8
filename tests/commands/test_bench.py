"""The benchmarks run: all of them, with everything as small as can be."""

import os
import subprocess
import sys

import pytest

from gambrel.commands.places import PROJECT, chromium_path

PAGE = PROJECT / "docs" / "benchmarks.md"
ENGINES = "The engine, the reference, a simulation library"
SECTIONS = (
    "Previews",
    "A better week",
    "The estate",
    "The ledger",
    "What the ledger teaches",
    "Growth",
)


def bench(*sections):
    """Run the benchmarks with `--tiny`; what they printed."""
    done = subprocess.run(
        [sys.executable, str(PROJECT / "bench" / "measure.py"), "--tiny", *sections],
        capture_output=True, text=True, check=False, cwd=PROJECT, env=os.environ,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-3000:]
    return done.stdout


@pytest.mark.long
@pytest.mark.timeout(600)
@pytest.mark.parametrize("section", SECTIONS)
def test_a_benchmark_runs(section):
    before = PAGE.read_bytes()
    printed = bench(section)
    assert f"## {section}\n" in printed
    rows = [line for line in printed.splitlines() if line.startswith("|")]
    assert len(rows) >= 3
    assert PAGE.read_bytes() == before


@pytest.mark.long
@pytest.mark.timeout(600)
@pytest.mark.skipif(
    not (PROJECT / "web" / "dist" / "index.html").exists() or chromium_path() is None,
    reason="the pages are not built, or there is no browser",
)
def test_the_benchmark_of_the_screens_runs():
    assert "the board pans" in bench("The screens")


@pytest.mark.long
def test_the_two_engines_end_alike_in_the_benchmark():
    printed = bench(ENGINES)
    line = next(line for line in printed.splitlines() if line.startswith("Of "))
    total, same = (int(word.replace(",", "")) for word in line.split() if word[0].isdigit())
    assert total == same > 50
