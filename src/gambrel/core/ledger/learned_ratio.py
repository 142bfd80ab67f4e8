"""How well what is read of machines compresses, as their incrementals show it.

A job that compresses and tracks changes reads what changed and sends it smaller: what was read over
what was sent is the ratio κ of section 4, of each run. A machine's is the median of these; its
error is their spread over the root of the number of runs, see `robust_spread`. Where runs tell it
badly it moves towards the median of the machine's folder, by as much as its error is large beside
the spread within the folder (empirical Bayes: C. N. Morris, "Parametric Empirical Bayes Inference",
1983).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from math import sqrt
from statistics import median

from gambrel.core.ledger.robust import LEAST_OF_A_FOLDER, LEAST_RUNS, robust_spread, speaks_against
from gambrel.core.plan.objects import Plan

STATED_TO = 2
"""Ratios are stated to a hundredth, so many decimals."""
LOWEST, HIGHEST = 0.05, 100.0
"""A ratio beyond these is a fault of the ledger."""
APART = 0.05
"""By less than this part of what is stated it holds."""

Carried = tuple[str, str, float, float]
"""(machine, job, source bytes, bytes sent) of an incremental that was done."""


@dataclass(frozen=True, slots=True)
class LearnedRatio:
    """The compress ratio of a machine, with its standard error, and what it rests on.

    Attributes:
        ratio: bytes read for each that is sent. `error`: its standard error.
        runs: how many incrementals; `left_out`: those that cannot be, as of no bytes.
    """

    machine: str
    ratio: float
    error: float
    runs: int
    left_out: int

    def speaks_against(self, stated: float) -> bool:
        """Whether the ledger says plainly that a ratio does not hold."""
        return speaks_against(stated, self.ratio, self.error, 10.0**-STATED_TO, APART)


def learned_ratios(plan: Plan, carried: Iterable[Carried]) -> Mapping[str, LearnedRatio]:
    """The compress ratio of each machine that has enough incrementals that tell it.

    Of jobs that do not compress, or read more than what changed, nothing can be told. What no run
    of the plan can be is left out and counted.
    """
    told: dict[str, list[float]] = {}
    odd: dict[str, int] = {}
    for machine, job, source, wire in carried:
        known = plan.job_by_id.get(job)
        if known is None or machine not in plan.machine_by_id:
            continue
        if not (known.compress and known.tracking):
            continue
        if source > 0 and wire > 0 and LOWEST <= source / wire <= HIGHEST:
            told.setdefault(machine, []).append(source / wire)
        else:
            odd[machine] = odd.get(machine, 0) + 1
    found = {
        machine: LearnedRatio(
            machine,
            median(each),
            robust_spread(each) / sqrt(len(each)),
            len(each),
            odd.get(machine, 0),
        )
        for machine, each in sorted(told.items())
        if len(each) >= LEAST_RUNS
    }
    by_folder: dict[str, list[float]] = {}
    for name, each in found.items():
        by_folder.setdefault(plan.machine_by_id[name].folder, []).append(each.ratio)
    return {
        name: _drawn(each, by_folder[plan.machine_by_id[name].folder])
        for name, each in found.items()
    }


def _drawn(learned: LearnedRatio, folder: Sequence[float]) -> LearnedRatio:
    """A ratio, and what is known of it from the others of its folder."""
    if len(folder) < LEAST_OF_A_FOLDER or learned.error == 0.0:
        return learned
    middle = median(folder)
    # Not robust: where most are exactly alike, the one that differs must stay what it is.
    own, apart = learned.error**2, sum((each - middle) ** 2 for each in folder) / len(folder)
    weight = apart / (apart + own)
    return replace(learned, ratio=weight * learned.ratio + (1.0 - weight) * middle)
