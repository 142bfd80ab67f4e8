"""What one job does in one night, summed over its runs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from gambrel.core.nights.nights import not_done, run_verdict, worst
from gambrel.core.simulation.forecast import Run


@dataclass(frozen=True, slots=True)
class JobNight:
    """What a job does in a night.

    Attributes:
        verdict: the worst of its runs; None where it does not run.
        kinds: of its machine-runs, "synthetic full" told apart.
        start: of its first machine; `end`: of its last run. UTC seconds.
        not_done: machine-runs that were missed, cut off or had no path.
    """

    verdict: Literal["over", "tight", "fits"] | None
    runs: int
    kinds: tuple[str, ...]
    start: float | None
    end: float | None
    over_s: float
    not_done: int
    wire_bytes: float
    source_bytes: float


def job_night(runs: Sequence[Run]) -> JobNight:
    """The runs of a job that belong to one night, summed."""
    totals = [run.totals() for run in runs]
    starts = [t.first_start for t in totals if t.first_start is not None]
    ends = [run.ended for run in runs if run.ended is not None]
    kinds = {("synthetic full" if t.synthetic else kind) for t in totals for kind in t.kinds[:1]}
    return JobNight(
        worst(map(run_verdict, runs)) if runs else None,
        len(runs),
        tuple(sorted(kinds)),
        min(starts, default=None),
        max(ends, default=None),
        max((run.over_s for run in runs), default=0.0),
        sum(map(not_done, runs)),
        sum(t.wire_bytes for t in totals),
        sum(t.source_bytes for t in totals),
    )
