"""How long machines of a job really prepare, release and verify, as many nights show it.

A runner reports when a machine had prepared, moved, released and ended. Beside what was predicted
for these parts, each machine-run tells by how many seconds it took more or less. What machine-runs
of one night have in common is the night: a night tells the median of its machine-runs, and the
nights tell their median, with the error 1.4826 · MAD / √n of n nights (P. J. Rousseeuw, C. Croux,
"Alternatives to the median absolute deviation", 1993).

A plan states two of these times: how long a job quiesces, and how long it lets a machine boot. The
others follow from the model: the ledger tells them, and there is nothing to state.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from math import isfinite, sqrt
from statistics import median
from typing import Literal, get_args

from gambrel.core.ledger.predicting import actual_parts, predicted_parts
from gambrel.core.ledger.records import MachineRecord, RunRecord
from gambrel.core.ledger.robust import robust_spread, speaks_against
from gambrel.core.plan.learned import is_still
from gambrel.core.plan.objects import Job, Plan
from gambrel.core.units import DAY, MINUTE, SAME_INSTANT

Step = Literal["preparing", "releasing", "verifying"]
STEPS: tuple[Step, ...] = get_args(Step)

LEAST_NIGHTS = 5
LEAST_S = 2.0
"""Times that are apart by no more say nothing against each other."""
APART = 0.1
"""Nor do those that are apart by less than this part of what is stated."""

NightTimes = Mapping[str, tuple[float, float, int, float | None]]
"""Of a night, by "preparing:" and a job: (median seconds predicted, median seconds more than that,
machine-runs, what the plan stated of it or None)."""


@dataclass(frozen=True, slots=True)
class LearnedTime:
    """How long a step of the machines of a job takes.

    Attributes:
        predicted_s: what forecasts had, the median of nights.
        more_s: how much longer it takes than that; below 0 for less. `error_s`: its standard error.
        nights, runs: what it rests on.
        key: the key of a job that states it, None where the model alone does.
        value: what that key would have to be, in its unit.
    """

    job: str
    step: Step
    predicted_s: float
    more_s: float
    error_s: float
    nights: int
    runs: int
    key: str | None = None
    value: float | None = None

    @property
    def differs(self) -> bool:
        """Whether the nights say plainly that it takes another time than predicted."""
        known = self.predicted_s
        return speaks_against(known, known + self.more_s, self.error_s, LEAST_S, APART)


def _stating(job: Job, step: Step) -> tuple[str, float] | None:
    """The key of a job that states how long a step takes, and the seconds of its unit."""
    if step == "preparing":
        return "quiesce_s", 1.0
    return ("boot_min", MINUTE) if step == "verifying" and job.verify == "boot" else None


def _stated(job: Job, step: Step) -> float | None:
    """What a job states of a step, in the unit of its key."""
    stating = _stating(job, step)
    return None if stating is None else float(getattr(job, stating[0]))


def _apart_s(job: Job, step: Step, stated: float | None) -> float | None:
    """How many seconds more a job states of a step now than in a night.

    None where somebody has stated another time since.
    """
    stating = _stating(job, step)
    if stating is None or stated is None:
        return 0.0 if stating is None and stated is None else None
    key, unit = stating
    if not is_still(job, key, stated, SAME_INSTANT):
        return None
    return (float(getattr(job, key)) - stated) * unit


def night_times(plan: Plan, runs: Iterable[RunRecord]) -> NightTimes:
    """What a night tells of steps; `plan` is the one that was carried out."""
    told: dict[tuple[str, Step], list[tuple[float, float]]] = defaultdict(list)
    for run in runs:
        if run.job in plan.job_by_id:
            for record in run.machines.values():
                for step, predicted, actual in _steps(record):
                    told[run.job, step].append((predicted, actual - predicted))
    found = {}
    for (ident, step), each in sorted(told.items()):
        stated = _stated(plan.job_by_id[ident], step)
        middles = median(before for before, _ in each), median(more for _, more in each)
        found[f"{step}:{ident}"] = (*middles, len(each), stated)
    return found


def _steps(record: MachineRecord) -> Iterator[tuple[Step, float, float]]:
    """(step, seconds predicted, seconds it took) of a machine that was done."""
    if record.outcome != "done" or record.predicted is None:
        return
    parts = record.predicted["parts"]
    expected, took = predicted_parts(parts), actual_parts(record)
    # A full that is made in the repository, or a step in the guest, is no verifying.
    verified = {kind for kind, seconds, _ in parts if seconds > 0} & {
        "transforming", "transform slot", "guest steps", "verifying",
    } == {"verifying"}  # fmt: skip
    for step in STEPS:
        part = "checking" if step == "verifying" else step
        seconds = took[part]
        if seconds is None or not 0 <= seconds <= DAY or expected[part] <= 0:
            continue
        if step != "verifying" or verified:
            yield step, expected[part], seconds


def learned_times(plan: Plan, nights: Iterable[NightTimes]) -> list[LearnedTime]:
    """The times that enough nights have shown, by job in the plan's order.

    Nights in which the plan stated another time say nothing of the one that it states now, unless
    that one was taken over from what they showed.
    """
    told: dict[str, list[tuple[float, float, int]]] = defaultdict(list)
    for night in nights:
        for what, (predicted, more, runs, stated) in night.items():
            named, _, ident = what.partition(":")
            job = plan.job_by_id.get(ident)
            step = next((step for step in STEPS if step == named), None)
            if job is None or step is None or not isfinite(predicted + more):
                continue
            apart = _apart_s(job, step, stated)
            if apart is not None:
                told[what].append((predicted + apart, more - apart, runs))
    found = []
    for job in plan.jobs:
        for step in STEPS:
            each = told.get(f"{step}:{job.id}", ())
            if len(each) >= LEAST_NIGHTS:
                found.append(_learned(job, step, each))
    return found


def _learned(job: Job, step: Step, each: Iterable[tuple[float, float, int]]) -> LearnedTime:
    predicted, mores, runs = zip(*each, strict=True)
    more = median(mores)
    stating = _stating(job, step)
    value = None
    if stating is not None:
        key, unit = stating
        value = max(0.0, getattr(job, key) + more / unit)
    return LearnedTime(
        job.id, step, median(predicted), more, robust_spread(mores) / sqrt(len(mores)),
        len(mores), sum(runs), None if stating is None else stating[0], value,
    )  # fmt: skip
