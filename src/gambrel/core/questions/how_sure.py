"""How sure a week is: many simulated weeks in which change and throughput vary.

Each sample is a draw (`varying.drawn`): a factor for the daily change of every machine, for every
rate that is shared and for the ceiling of every transport. A planner can have machines fail
too: each machine-run fails as often as the ledger shows, whatever the others do, and takes as long
as if it had not.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from gambrel.core.balance.objective import Evaluator
from gambrel.core.balance.problem import Problem
from gambrel.core.ledger.learned_change import Increment, LearnedChange
from gambrel.core.ledger.learned_rates import LearnedRate
from gambrel.core.ledger.learned_spreads import learned_spreads
from gambrel.core.ledger.night_spreads import NightSpreads, kind_of
from gambrel.core.ledger.shown_tonight import folder_of
from gambrel.core.plan.objects import Plan
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.layout import layout_of
from gambrel.core.simulation.engine.walk import Walk
from gambrel.core.simulation.varying import STREAM_KINDS, USUAL_SPREAD, Spread, drawn
from gambrel.core.units import SAME_INSTANT

USUAL_WEEKS = NightSpreads(
    stream=USUAL_SPREAD.stream, rate=USUAL_SPREAD.rate, change=0.0, own_change=USUAL_SPREAD.change
)
"""What varies as is usual in `Spread`, in the words of `NightSpreads`."""


def learned_spread(
    plan: Plan,
    rates: Iterable[LearnedRate],
    changes: Mapping[str, LearnedChange],
    increments: Iterable[Increment],
) -> Spread:
    """How much things vary as the ledger shows it, around what was learned of each.

    Args: as `learned_spreads`.
    """
    found = learned_spreads(plan, rates, changes, increments, None, USUAL_WEEKS)
    folders = defaultdict[str, set[str]](set)
    for machine in plan.machines:
        folders[folder_of(machine)].add(machine.id)
    together = ((found.of(f"change:{name}"), frozenset(its)) for name, its in folders.items())
    return Spread(
        change=found.own_change,
        rate=found.rate,
        stream=found.stream,
        machines=found.own,
        rates={what: much for what, much in found.known.items() if kind_of(what) == "rate"},
        streams={
            kind: found.known[f"stream:{kind}"]
            for kind in STREAM_KINDS
            if f"stream:{kind}" in found.known
        },
        together=tuple((much, its) for much, its in together if much > 0.0),
    )


@dataclass(frozen=True, slots=True)
class Sample:
    """One simulated week, night by night.

    Attributes:
        last_end: when the last run with a window ended, seconds from the night's beginning; NaN
            where none ran.
        over: whether the night is over.
        failed: how many machine-runs fail; empty where nothing is said of failures.
    """

    last_end: tuple[float, ...]
    over: tuple[bool, ...]
    failed: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class NightConfidence:
    """What many samples say of a night.

    Attributes:
        median_end, late_end: the median and the 95th percentile of when its last run ends, UTC
            seconds; None where nothing with a window runs.
        holds: the part of the samples in which it is not over.
        whole: the part in which it is not over and no machine fails, and `failed`, how many do on
            the average; None where nothing is said of failures.
    """

    date: str
    median_end: float | None
    late_end: float | None
    holds: float
    whole: float | None = None
    failed: float | None = None


Failing = Mapping[str, float]
"""By machine how often a run of it fails, 0 to 1."""


def draw(
    problem: Problem,
    spread: Spread,
    seed: int,
    numbers: Iterable[int],
    failing: Failing | None = None,
) -> list[Sample]:
    """Simulate the samples of some numbers.

    Args:
        failing: how often machines fail; None for samples that say nothing of failures.
    """
    evaluator = Evaluator(problem)
    return [_sample(evaluator, spread, seed, number, failing) for number in numbers]


def _sample(
    evaluator: Evaluator, spread: Spread, seed: int, number: int, failing: Failing | None
) -> Sample:
    plan = evaluator.problem.plan
    layout, varied = drawn(layout_of(plan), plan, spread, seed, number)
    walk = evaluator.walk(varied, layout=layout)
    sample = _nights(evaluator, walk)
    if failing is None:
        return sample
    # Numbers of their own, so that a week is the same with failures and without.
    failed = _failed(evaluator, walk, failing, np.random.default_rng((seed, number, 1)))
    return replace(sample, failed=failed)


def _failed(
    evaluator: Evaluator, walk: Walk, failing: Failing, random: np.random.Generator
) -> tuple[int, ...]:
    """How many machine-runs that would be done fail, night by night."""
    world, nights = walk.world, evaluator.problem.nights
    run, task = world.run[: world.n[t.N_RUN]], world.task[: world.n[t.N_TASK]]
    rates = np.array([failing.get(machine.id, 0.0) for machine in walk.plan.machines] or [0.0])
    machine = world.member["machine"][task["member"]]
    fails = (random.random(len(task)) < rates[machine]) & (task["outcome"] == t.DONE)
    its = run[task["run"]]
    counted = fails & evaluator.is_inside(its)
    night = evaluator.night_of(its["occurrence"])[counted]
    return tuple(np.bincount(night, minlength=len(nights)).tolist())


def _nights(evaluator: Evaluator, walk: Walk) -> Sample:
    world, nights = walk.world, evaluator.problem.nights
    run, task = world.run[: world.n[t.N_RUN]], world.task[: world.n[t.N_TASK]]
    inside = evaluator.is_inside(run)
    night = evaluator.night_of(run["occurrence"])
    ended = np.isfinite(run["ended"]) & inside
    bound = np.isfinite(run["closes"]) & ended
    past = np.where(bound, run["ended"] - np.where(bound, run["closes"], 0.0), 0.0)
    bad = past > SAME_INSTANT
    bad[task["run"][task["outcome"] != t.DONE]] = True
    over = np.zeros(len(nights), bool)
    np.logical_or.at(over, night, bad & inside)
    # The last run of a night is one that has a window; where none has one, any.
    ends = np.full((2, len(nights)), -np.inf)
    for row, counted in zip(ends, (bound, ended), strict=True):
        np.maximum.at(row, night[counted], run["ended"][counted] + t.EPOCH)
    ends = np.where(np.isfinite(ends[0]), ends[0], ends[1])
    starts = np.array([entry.start for entry in nights])
    last = np.where(np.isfinite(ends), ends - starts, np.nan)
    return Sample(tuple(last.tolist()), tuple(over.tolist()))


def confidence(problem: Problem, samples: Sequence[Sample]) -> list[NightConfidence]:
    """What samples come to, night by night. Raises ValueError for no sample at all."""
    if not samples:
        raise ValueError("no sample was drawn")
    ends = np.array([sample.last_end for sample in samples])
    over = np.array([sample.over for sample in samples])
    failed = np.array([sample.failed for sample in samples])
    told = failed.shape == over.shape
    found = []
    for i, night in enumerate(problem.nights):
        known = ends[:, i][~np.isnan(ends[:, i])]
        some = len(known) > 0
        found.append(
            NightConfidence(
                date=night.date.isoformat(),
                median_end=night.start + float(np.median(known)) if some else None,
                late_end=night.start + float(np.percentile(known, 95)) if some else None,
                holds=1.0 - float(over[:, i].mean()),
                whole=float((~over[:, i] & (failed[:, i] == 0)).mean()) if told else None,
                failed=float(failed[:, i].mean()) if told else None,
            )
        )
    return found
