"""How large everything is that is measured. With `--tiny` all of it runs in a minute or two.

The tiny sizes show that every benchmark works; their figures mean nothing.
"""

from __future__ import annotations

import os
from typing import Any

from gambrel import demo

VARIABLE = "GAMBREL_BENCH_TINY"
"""Set in the environment, so that processes started by a benchmark are as small."""
TINY = bool(os.environ.get(VARIABLE))

PREVIEWS = 6 if TINY else 120
REPEATED = 2 if TINY else 15
WORLDS = 1 if TINY else 20
LEARNED_NIGHTS, TOLD_NIGHTS = (7, 1) if TINY else (28, 7)
LEDGER_ROWS = 20_000 if TINY else 1_000_000
JOBS_TIMES = 2 if TINY else 21
CASES_OF_A_SHAPE = 1 if TINY else 16
EVALUATIONS = 40 if TINY else 2500
EXACT_CASES = (
    [("nights and proxies together", 2, 1)]
    if TINY
    else [
        ("fulls to other nights, one proxy", 5, 3),
        ("fulls to other nights, one proxy", 6, 1),
        ("other starts in a short window", 6, 4),
        ("other starts in a short window", 7, 2),
        ("other proxies", 4, 3),
        ("other proxies", 5, 1),
    ]
)
"""(shape, jobs, how many) of the cases in which trying everything takes minutes. One job more makes
it five to seven times as long."""
LONGEST_CASE = [
    ("nights and proxies together", 2, 1) if TINY else ("other starts in a short window", 8, 1)
]
EXACT_EVALUATIONS = 100 if TINY else 10_000
SWEPT = (3, 1) if TINY else (100, 1)
"""Losses, and weeks that vary after each."""
WHOLE_SWEEP = (100, 64)
SEARCH_S = (1.0, 1.0) if TINY else (10.0, 150.0)
FRAMES = 20 if TINY else 180
BARS = 200 if TINY else 5000
SETTLED_MS = 1500 if TINY else 20_000
TYPED_INTO = (
    ("ticketing", "office")
    if TINY
    else ("office-files", "freight-apps", "ticketing-web", "fleet-telemetry", "mail")
)
GROWTHS = (
    [[(60, 1), (120, 2)], [(60, 2)]]
    if TINY
    else [[(2500, 3), (5000, 6), (10000, 12)], [(2500, 12), (5000, 12), (10000, 12)]]
)


def sample() -> dict[str, Any]:
    """The sample that is measured, `larkmoor`."""
    return demo.tiny() if TINY else demo.larkmoor()


def large() -> dict[str, Any]:
    """The large estate."""
    return demo.large(150, 2) if TINY else demo.large()
