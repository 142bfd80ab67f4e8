"""Every drill, one after the other; the results go to docs/reliability.md.

`--small` shows in a few minutes that all of them work and that nothing breaks; without it they take
an hour or more. A drill raises where something was lost, broken or slower than its own limit.
"""

from __future__ import annotations

import argparse
import platform
import re
import time
from collections.abc import Callable, Sequence
from pathlib import Path

from clients import readers, slow_clients
from doors import doors
from fuzzing import fuzz
from killing import kills
from lying import lies
from memory import large_previews, previews, views
from reporting import reports
from standing_again import dumps, upgrades
from writing import writers

PAGE = Path(__file__).parents[1] / "docs" / "reliability.md"

DRILLS: dict[str, tuple[Callable[[int], str], int, int]] = {
    "Fuzzed calls": (fuzz, 150, 12_000),
    "Killed processes": (kills, 2, 200),
    "Two and eight writers": (writers, 3, 60),
    "Slow clients": (slow_clients, 8, 64),
    "Fifty readers": (readers, 10, 50),
    "Sources that lie": (lies, 10, 300),
    "Doors": (doors, 1, 20),
    "Runners that report": (reports, 1, 40),
    "Dumps beside writers": (dumps, 1, 10),
    "Upgrades": (upgrades, 1, 100),
    "Changing previews": (previews, 15, 5_000),
    "Every view": (views, 1, 60),
    "Previews of a large estate": (large_previews, 0, 500),
}
"""For each drill what it does, how much of it is small, and how much is long."""


def _written(section: str, text: str) -> None:
    page = PAGE.read_text(encoding="utf-8")
    pattern = re.compile(rf"(## {re.escape(section)}\n)(.*?)(?=\n## |\Z)", re.S)
    if not pattern.search(page):
        raise SystemExit(f"{PAGE} has no section {section}")
    PAGE.write_text(pattern.sub(lambda m: f"{m[1]}\n{text}\n", page), encoding="utf-8")


def main(arguments: Sequence[str] | None = None) -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("names", nargs="*", help=f"some of: {', '.join(DRILLS)}; all if none")
    parser.add_argument("--small", action="store_true", help="a few of each, nothing is written")
    parser.add_argument("--times", type=int, help="how much of each instead")
    given = parser.parse_args(arguments)
    for name in given.names:
        if name not in DRILLS:
            parser.error(f"there is no drill {name!r}")
    for name, (drill, small, long) in DRILLS.items():
        if given.names and name not in given.names:
            continue
        count = given.times or (small if given.small else long)
        if not count:
            continue
        began = time.monotonic()
        print(f"## {name}", flush=True)
        told = drill(count)
        took = f"{(time.monotonic() - began) / 60:.0f} min, Python {platform.python_version()}"
        print(f"{told}\n({took})\n", flush=True)
        if not given.small:
            _written(name, told)


if __name__ == "__main__":
    main()
