"""A coarse model of the load that says which moves are worth a simulation. It judges nothing.

It knows for how many seconds of its whole capacity each load is needed by the runs of each job in
each night, takes a moved full along to its new night, and adds up what is above the comfortable
part of the open hours.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from random import Random
from typing import TypeVar

import numpy as np

from gambrel.core.balance.moves import Aspect, Candidate, split_days, start_time
from gambrel.core.balance.objective import Trace
from gambrel.core.balance.problem import Problem, job_weight
from gambrel.core.edits.item_edits import ChangeItem
from gambrel.core.edits.operations import MoveFull, MoveStart, Operation, SetProxies
from gambrel.core.edits.splitting import SplitJob
from gambrel.core.simulation.engine import tables as t
from gambrel.core.units import HOUR

Move = tuple[Aspect, Operation | None]
Seconds = TypeVar("Seconds", float, t.Floats)

OPEN_S = 9 * HOUR
"""Hours of a night in which work is usually done, for want of anything better."""
DEALT_GAIN = 0.01
"""Moves of fulls that relieve less than this are not dealt."""
SPLIT_PART = 0.5
"""What a split takes to another night."""
BLAME_OTHERS = 0.5
"""How much of a job's trouble lies with those that load the same things in the same night."""


class Guide:
    """Ranks the moves from one plan, given what its simulation said."""

    def __init__(self, problem: Problem, trace: Trace) -> None:
        self.problem = problem
        self.trace = trace
        self.position = problem.plan.job_position
        self._load: dict[tuple[int, int], float] = defaultdict(float)
        self._of_job: dict[tuple[int, int], list[tuple[int, float]]] = defaultdict(list)
        for (job, night, load), seconds in trace.work.items():
            self._load[night, load] += seconds
            self._of_job[job, night].append((load, seconds))
        self._blame = self._blamed()
        self._full_nights: dict[int, list[int]] = defaultdict(list)
        for job, night in sorted(trace.fulls):
            self._full_nights[job].append(night)

    def _blamed(self) -> dict[int, float]:
        """How much each job has to do with the trouble there is."""
        blame: dict[int, float] = defaultdict(float)
        for (job, night), pain in self.trace.trouble.items():
            blame[job] += pain
            loads = {load for load, _ in self._of_job.get((job, night), ())}
            tight = max(loads, key=lambda load: self._load[night, load], default=None)
            for (other, when), parts in self._of_job.items():
                if when == night and other != job and tight is not None:
                    share = sum(s for load, s in parts if load == tight) / max(
                        1.0, self._load[night, tight]
                    )
                    blame[other] += BLAME_OTHERS * pain * share
        if not self.trace.trouble and self.trace.strains:
            worst = self._worst
            for (job, night, load), seconds in self.trace.work.items():
                if load == worst:
                    blame[job] += seconds * max(0.0, self._load[night, load] / OPEN_S - 0.1)
        return blame

    @property
    def _worst(self) -> int:
        """The load with most strain."""
        return max(range(len(self.trace.strains)), key=lambda load: self.trace.strains[load])

    def _excess(self, seconds: Seconds) -> Seconds:
        """How bad a load is in a night: squared above what is comfortable, and a little below it.

        Convex, so that dealing out evenly is best.
        """
        part = seconds / OPEN_S
        past = part - self.problem.comfort
        return (past > 0) * past**2 + 0.02 * part * part

    def _gain_of_full(self, job: int, days: int, part: float = 1.0) -> float:
        """What is gained where a part of a job's fulls goes to another night."""
        gain = 0.0
        for night, target in self._targets(job, days):
            for load, whole in self._of_job[job, night]:
                seconds = part * whole
                here, there = self._load[night, load], self._load[target, load]
                gain += self._excess(here) - self._excess(here - seconds)
                gain -= self._excess(there + seconds) - self._excess(there)
        return gain

    def dealt(self, moves: Sequence[tuple[Aspect, Operation]]) -> list[tuple[Aspect, Operation]]:
        """Fulls moved to other nights, one by one, each time the move that relieves most.

        Ends where the model sees nothing more to gain. Each full is moved once at most.
        """
        fulls = [(a, op) for a, op in moves if isinstance(op, MoveFull)]
        rows = [
            (i, night, target, load, seconds)
            for i, (aspect, operation) in enumerate(fulls)
            for night, target in self._targets(self.position[aspect[0]], operation.days)
            for load, seconds in self._of_job[self.position[aspect[0]], night]
        ]
        if not rows:
            return []
        move, night, target, load, seconds = map(np.array, zip(*rows, strict=True))
        loads = np.zeros((len(self.problem.nights), int(load.max()) + 1))
        for (when, number), whole in self._load.items():
            if number < loads.shape[1]:
                loads[when, number] = whole
        numbers: dict[Aspect, int] = {}
        aspects = np.array([numbers.setdefault(aspect, len(numbers)) for aspect, _ in fulls])
        open_moves = np.ones(len(fulls), bool)
        taken: list[tuple[Aspect, Operation]] = []
        while True:
            here, there = loads[night, load], loads[target, load]
            gain = self._excess(here) - self._excess(here - seconds)
            gain -= self._excess(there + seconds) - self._excess(there)
            gains = np.bincount(move, gain, len(fulls))
            best = int(np.argmax(np.where(open_moves, gains, -np.inf)))
            if not open_moves[best] or gains[best] <= DEALT_GAIN:
                return taken
            taken.append(fulls[best])
            open_moves &= aspects != aspects[best]
            own = move == best
            np.subtract.at(loads, (night[own], load[own]), seconds[own])
            np.add.at(loads, (target[own], load[own]), seconds[own])

    def _targets(self, job: int, days: int) -> list[tuple[int, int]]:
        """(night, night after the move) of the fulls of a job that stay within the horizon."""
        nights = len(self.problem.nights)
        found = []
        for night in self._full_nights.get(job, ()):
            target = (night + days) % 7 + night // 7 * 7
            if 0 <= target < nights and target != night:
                found.append((night, target))
        return found

    def value(self, move: Move) -> float:
        """How promising a move is; only the order counts."""
        (job, kind, schedule), operation = move
        position = self.position[job]
        blame = self._blame.get(position, 0.0)
        weight = 1.0 / job_weight(self.problem.plan.jobs[position])
        if operation is None:
            return 0.1 * blame
        if isinstance(operation, MoveFull):
            return blame * (0.5 + max(-0.5, 4 * self._gain_of_full(position, operation.days)))
        if isinstance(operation, SplitJob):
            gain = self._gain_of_full(position, split_days(operation) or 0, SPLIT_PART)
            return blame * (0.3 + max(-0.3, 4 * gain))
        if isinstance(operation, SetProxies):
            strained = self.trace.loads[self._worst] if self.trace.strains else ""
            if operation.proxies is not None and strained.endswith(f"proxy:{operation.proxies[0]}"):
                return 0.0
            return blame * (0.9 if operation.proxies is None else 0.5 / len(operation.proxies))
        if isinstance(operation, MoveStart):
            was = start_time(self.problem.plan.job_by_id[job].schedules[schedule])
            now = int(operation.start_time[:2]) * 60 + int(operation.start_time[3:])
            earlier = (was - now - 1440 * operation.day_shift) / 60
            return blame * (0.35 if earlier > 0 else 0.2 * weight) / (1 + 0.1 * abs(earlier))
        if isinstance(operation, ChangeItem) and kind == "spread":
            return 0.3 * blame
        return (0.4 if kind in ("repository", "synthetic") else 0.12) * blame

    def ordered(
        self, candidate: Candidate, moves: Sequence[Move], random: Random, explored: float
    ) -> list[Move]:
        """Moves by promise, with some drawn by chance among them."""
        taken = dict(candidate.choices)
        ranked = sorted(
            moves,
            key=lambda move: (-self.value(move), move[0] in taken, repr(move)),
        )
        if explored <= 0 or len(ranked) < 8:
            return ranked
        rest = ranked[len(ranked) // 4 :]
        random.shuffle(rest)
        mixed: list[Move] = []
        seen: set[int] = set()
        every = max(2, round(1 / explored))
        first = iter(ranked)
        drawn = iter(rest)
        while len(mixed) < len(ranked):
            source = drawn if len(mixed) % every == every - 1 else first
            move = next((m for m in source if id(m) not in seen), None)
            if move is None:
                move = next(m for m in ranked if id(m) not in seen)
            seen.add(id(move))
            mixed.append(move)
        return mixed
