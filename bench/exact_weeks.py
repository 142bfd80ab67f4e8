"""Whether the search of a better week finds the best there is, where trying everything takes long.

The cases are those of `weeks`, with more jobs: trying everything takes minutes.
"""

from __future__ import annotations

import statistics
import time
from collections.abc import Sequence
from dataclasses import dataclass

from sizes import EXACT_CASES, EXACT_EVALUATIONS, LONGEST_CASE
from weeks import apart, best_of_all, case

from gambrel.core.balance.bound import Bound, bound
from gambrel.core.balance.objective import Score
from gambrel.core.balance.problem import Problem
from gambrel.core.balance.search_driver import balance
from gambrel.core.balance.stopping import AnyOf, MostEvaluations, MostSeconds
from gambrel.work import worker_tasks
from gambrel.work.computations import patience_for
from gambrel.work.executors import Workers

SEARCHED_S = 20.0
"""How long a search may take: as long as the screen gives it."""


@dataclass
class Exact:
    """One case: the best there is, what the search found, and what the bound says."""

    combinations: int
    exact_s: float
    search_s: float
    evaluations: int
    reached: bool
    apart: float
    best: Score
    limits: Bound

    @property
    def over_known(self) -> float | None:
        """Which part of the best plan's time past windows the bound knows to be unavoidable."""
        if self.best.over_s < 60.0 or self.best.lost > self.limits.lost + 1e-6:
            return None
        return self.limits.over_s / self.best.over_s


def solve(workers: Workers, problem: Problem) -> Exact:
    """Search a case and try everything."""
    evaluate = worker_tasks.evaluate_on(workers)
    begin = time.perf_counter()
    _, best, combinations = best_of_all(evaluate, problem)
    exact_s = time.perf_counter() - begin
    begin = time.perf_counter()
    shakes, patience = patience_for(SEARCHED_S)
    found = balance(
        problem, AnyOf((MostSeconds(SEARCHED_S), MostEvaluations(EXACT_EVALUATIONS))),
        evaluate=evaluate, shakes=shakes, patience=patience,
    )  # fmt: skip
    search_s = time.perf_counter() - begin
    return Exact(
        combinations, exact_s, search_s, found.evaluations,
        found.score.grades == best.grades, apart(found.score, best), best, bound(problem),
    )  # fmt: skip


def exact_weeks() -> list[str]:
    """The section of the page."""
    return [
        "Cases like those of *A better week*, with more jobs, solved by trying everything on two "
        f"cores and searched as the screen does: {SEARCHED_S:.0f} s, or until patience ends.",
        "",
        *_compared(EXACT_CASES),
    ]


def longest_week() -> list[str]:
    """The section of the page on the case in which trying everything takes longest."""
    return [
        "As above, with the most combinations that were tried so far.",
        "",
        *_compared(LONGEST_CASE),
    ]


def _compared(cases: Sequence[tuple[str, int, int]]) -> list[str]:
    lines = [
        "| cases | cases | combinations | the longest took | best value reached | most apart "
        "| simulations of the search | time against trying all |",
        "|---|---:|---:|---:|---:|---:|---:|---:|",
    ]
    everything: list[Exact] = []
    workers = Workers()
    try:
        workers.all(worker_tasks.warm, [()] * workers.width)
        for shape, jobs, count in cases:
            found = [solve(workers, case(shape, number, jobs)) for number in range(count)]
            everything += found
            lines.append(_row(f"{shape}, {jobs} jobs", found))
    finally:
        workers.stop()
    if len(cases) > 1:
        lines.append(_row("all", everything))
    return [*lines, "", _bounds(everything)]


def _row(name: str, found: Sequence[Exact]) -> str:
    longest = max(each.exact_s for each in found)
    took = f"{longest / 60:.0f} min" if longest >= 90.0 else f"{longest:.0f} s"
    sizes = sorted({each.combinations for each in found})
    combinations = f"{sizes[0]:,} to {sizes[-1]:,}" if len(sizes) > 1 else f"{sizes[0]:,}"
    ratio = sum(each.search_s for each in found) / sum(each.exact_s for each in found)
    return (
        f"| {name} | {len(found)} | {combinations} | {took} "
        f"| {sum(each.reached for each in found)} "
        f"| {max(each.apart for each in found) * 100:.1f} % "
        f"| {statistics.mean(each.evaluations for each in found):.0f} | {ratio:.3f} |"
    )


def _bounds(found: Sequence[Exact]) -> str:
    held = sum(each.limits.lost <= each.best.lost + 1e-6 for each in found)
    known = [part for each in found if (part := each.over_known) is not None]
    said = f"The bound is at or below the best value in {held} of {len(found)} cases."
    if known:
        said += (
            f" Of the {len(known)} whose best plan ends past its windows it knows "
            f"{statistics.median(known) * 100:.0f} % of that time (median; at least "
            f"{min(known) * 100:.0f} %)."
        )
    return said
