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
