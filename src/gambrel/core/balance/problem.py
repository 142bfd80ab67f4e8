"""What is to be balanced: one immutable question, checked once."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal, Protocol, get_args

import numpy as np

from gambrel.core.balance.house_rules import Breaches, HouseRule
from gambrel.core.balance.split_jobs import points_after
from gambrel.core.edits.item_edits import OperationError, check_jobs
from gambrel.core.model.selection import selected_machines
from gambrel.core.nights.nights import TIGHT_MARGIN_S, Night, night_at
from gambrel.core.plan.objects import Job, Plan
from gambrel.core.simulation.known_points import Snapshot
from gambrel.core.simulation.varying import USUAL_SPREAD, Spread

MoveKind = Literal[
    "start", "night", "spread", "order", "proxies", "streams", "repository", "synthetic",
    "window_end", "copies", "chain", "verify", "split",
]  # fmt: skip
"""Kinds of move: when a schedule starts; on which night or in which week a full runs; over how
many days a job's fulls are spread; in which order its machines go; which proxies read them; how
many streams it has; into which repository of the same site it writes; whether its fulls are made in
the repository; what becomes of a run at its window's end; how long after a machine its copies
begin; what points build upon; how they are verified; whether half of its machines become a job of
their own with its full on another night."""
MOVE_KINDS: tuple[MoveKind, ...] = get_args(MoveKind)
COSTLY_KINDS: frozenset[MoveKind] = frozenset(
    ("repository", "synthetic", "window_end", "copies", "chain", "verify", "split")
)
"""What costs protection, ties points to another place, or makes jobs; see `move_costs`."""
USUAL_KINDS: frozenset[MoveKind] = frozenset(MOVE_KINDS) - COSTLY_KINDS
"""What is tried unless somebody asks for more."""

COMFORT = 0.85
"""The part of a capacity up to which a load is comfortable."""
MOST_MOVES = 15
MOST_WEEKS = 5
MOST_LOSSES = 40
MOST_DRAWS = 64
MOST_RULES = 20


class Loss(Protocol):
    """Something that may happen to a plan, such as a proxy that is not there."""

    def apply(self, plan: Plan) -> Plan:
        """The plan with it."""
        ...

    def describe(self, plan: Plan) -> str:
        """What it is, in words that stand after "if"."""
        ...


@dataclass(frozen=True)
class Problem:
    """A plan over a horizon, and what may be changed about it.

    Attributes:
        plan: as it is before any move.
        from_, to: the horizon, UTC seconds; whole nights in `zone`.
        points: the restore points that exist where the simulation begins.
        jobs: ids of the jobs that may be moved; locked ones never are.
        most_moves: how many moves a proposal may hold, 1 or more.
        comfort: part of a capacity, above 0 and at most 1.
        margin_s: seconds before its window's end by which a run had better have ended.
        begins: a quiet instant before `from_` where the simulation begins; None for `from_`.
        first: where forecasts of the plan begin, with the points that exist there. A plan that a
            draft holds is forecast from there; None where that is `begins`, or where something
            happens to the plan only from `begins` on.
        beyond_s: for how long after `to` its runs met what is due later, as a first guess.
        losses: what a plan shall also stand, each by itself. They do not happen together.
        draws: in so many draws, in which things vary by `spread`, a plan shall do well too.
        drawn_by: the seed of those draws.
        rules: of the house, which no proposal breaks where the plan does not.
        others: ids of jobs that the plan has been restricted from; a new job has none of them.

    Raises:
        OperationError: naming the field that cannot be.
    """

    plan: Plan
    from_: float
    to: float
    zone: str
    points: Snapshot
    jobs: frozenset[str]
    kinds: frozenset[MoveKind] = USUAL_KINDS
    most_moves: int = MOST_MOVES
    comfort: float = COMFORT
    margin_s: float = TIGHT_MARGIN_S
    begins: float | None = None
    first: tuple[float, Snapshot] | None = None
    beyond_s: float = 0.0
    losses: tuple[Loss, ...] = ()
    draws: int = 0
    spread: Spread = USUAL_SPREAD
    drawn_by: int = 0
    rules: tuple[HouseRule, ...] = ()
    others: frozenset[str] = frozenset()

    def __post_init__(self) -> None:
        check_jobs(self.plan, sorted(self.jobs))
        for kind in sorted(self.kinds):
            if kind not in MOVE_KINDS:
                raise OperationError("kinds", kind, "is none of " + ", ".join(MOVE_KINDS))
        if not 1 <= self.most_moves <= 200:
            raise OperationError("most_moves", self.most_moves, "is not between 1 and 200")
        if not 0 < self.comfort <= 1:
            raise OperationError("comfort", self.comfort, "is not above 0 and at most 1")
        if len(self.losses) > MOST_LOSSES:
            raise OperationError("losses", len(self.losses), f"are more than {MOST_LOSSES}")
        if not 0 <= self.draws <= MOST_DRAWS:
            raise OperationError("draws", self.draws, f"is not between 0 and {MOST_DRAWS}")
        if not self.to > self.from_:
            raise OperationError("to", self.to, "is not after the beginning")
        if len(self.rules) > MOST_RULES:
            raise OperationError("rules", len(self.rules), f"are more than {MOST_RULES}")

    @cached_property
    def movable(self) -> tuple[Job, ...]:
        """The jobs that may be moved, in plan order."""
        return tuple(job for job in self.plan.jobs if job.id in self.jobs and not job.locked)

    @property
    def asks_to_hold(self) -> bool:
        """Whether a plan is judged by more than the week as it should be."""
        return bool(self.losses) or self.draws > 0

    def beginning(self, plan: Plan, *, from_first: bool = False) -> tuple[float, Snapshot]:
        """Where a simulation of a plan begins, with the points that exist there, as its own.

        Args:
            from_first: from where forecasts of the plan begin, as a draft of it will be shown.
        """
        at, points = (self.from_ if self.begins is None else self.begins), self.points
        if from_first and self.first is not None:
            at, points = self.first
        return at, points_after(self.plan, plan, points)

    def with_loss(self, loss: Loss) -> Problem:
        """The same question after a loss, and of nothing else."""
        plan = loss.apply(self.plan)
        points = self.points
        if plan.machines is not self.plan.machines:
            points = points.of_plan(self.plan, plan)
        return replace(
            self, plan=plan, points=points, first=None, losses=(), draws=0,
            jobs=frozenset(job.id for job in plan.jobs if job.id in self.jobs),
        )  # fmt: skip

    @cached_property
    def nights(self) -> tuple[Night, ...]:
        """The nights of the horizon."""
        found = [night_at(self.from_ + 1, self.zone)]
        while found[-1].end < self.to - 1:
            found.append(night_at(found[-1].end + 1, self.zone))
        return tuple(found)

    @cached_property
    def breaches(self) -> Breaches:
        """Where plans that come from this one break the rules of the house."""
        return Breaches(self.plan, self.rules, self.nights, self.zone)

    def restricted(self, jobs: Iterable[str]) -> Problem:
        """The same question about some of the jobs only, as if there were no others."""
        wanted = set(jobs)
        kept = [i for i, job in enumerate(self.plan.jobs) if job.id in wanted]
        number = np.full(len(self.plan.jobs) + 1, -1)
        number[kept] = np.arange(len(kept))

        def narrowed(snapshot: Snapshot) -> Snapshot:
            rows = snapshot.points
            stays = number[rows["job"]] >= 0
            place = np.cumsum(stays) - 1
            points = rows[stays].copy()
            points["job"] = number[points["job"]]
            points["base"] = np.where(points["base"] >= 0, place[points["base"]], -1)
            return Snapshot(points)

        return replace(
            self,
            plan=replace(self.plan, jobs=tuple(self.plan.jobs[i] for i in kept)),
            points=narrowed(self.points),
            first=None if self.first is None else (self.first[0], narrowed(self.first[1])),
            jobs=self.jobs & wanted,
            others=self.others | (self.plan.job_by_id.keys() - wanted),
        )


def job_weight(job: Job) -> float:
    """How much a job counts: twice as much for each step of priority."""
    return float(2 ** (job.priority - 1))


def machine_weights(plan: Plan) -> dict[str, float]:
    """How much each protected machine counts: as the weightiest job that protects it."""
    found: dict[str, float] = {}
    for job in plan.jobs:
        for machine in selected_machines(plan, job):
            found[machine.id] = max(found.get(machine.id, 0.0), job_weight(job))
    return found
