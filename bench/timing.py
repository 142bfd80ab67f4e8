"""How long something takes."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from typing import Any


def seconds(work: Callable[[], Any], times: int = 1) -> float:
    """The median time of some runs of something."""
    taken = []
    for _ in range(times):
        begin = time.perf_counter()
        work()
        taken.append(time.perf_counter() - begin)
    return statistics.median(taken)


def told(value: float) -> str:
    """Seconds in words: "13 ms", "11.5 s"."""
    return f"{1000 * value:,.0f} ms" if value < 10 else f"{value:.1f} s"
