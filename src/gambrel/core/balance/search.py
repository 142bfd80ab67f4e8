"""The search for a better week: local search over moves, every candidate fully simulated.

A search is a generator: it hands out candidates in batches and is sent their scores, so it does
not know where they are simulated. Descent takes the best moves of a batch, alone and together; a
coarse model of the load only chooses which moves are worth a simulation. Where descent ends, the
search starts again from a plan that it has shaken (iterated local search: Lourenço, Martin and
Stützle, "Iterated Local Search", 2003).
"""

from __future__ import annotations

from collections.abc import Generator, Iterable, Sequence
from dataclasses import dataclass
from itertools import combinations, islice
from math import isqrt
from random import Random

from gambrel.core.balance.move_ranking import Guide
from gambrel.core.balance.moves import (
    Aspect,
    Candidate,
    is_sound,
    moves_of,
    shift_minutes,
    unround,
)
from gambrel.core.balance.objective import Score, Trace
from gambrel.core.balance.problem import MoveKind, Problem
from gambrel.core.edits.operations import Operation

Asked = tuple[Candidate, bool]
"""A candidate, and whether its trace is wanted too."""
Told = tuple[Score, Trace | None]
Key = tuple[float, ...]

BATCH = 16
"""Candidates that are simulated together; of plans of many machines only a few, so that a search
can be stopped in between."""
LARGE = 3000
BATCH_OF_LARGE = 4
TAKEN_TOGETHER = 4
"""Up to so many good moves of different jobs are tried all at once."""
SHAKES = 60
"""How often a search starts again from a shaken plan, at most."""
PATIENCE = 16
"""How many shaken plans in a row may bring nothing before a search ends."""
WIDER_AFTER = 4
"""After so many shaken plans in a row that brought nothing, one more choice is drawn anew."""
PAIRS_TO_PATIENCE = 20
"""Before a search ends it tries so many times that number of pairs of moves."""
WHOLE_NEIGHBOURHOOD = 160
"""A neighbourhood of up to so many moves is simulated whole before a descent ends."""
RUNG_TRIES = 48
"""Moves that are tried on top of the best plan of each number of moves."""
MEASURED: tuple[MoveKind, ...] = ("start", "night", "split")
"""Moves that can be shorter."""
DEALT_PARTS = ((0.5, 1.0), (0.25, 0.75))
"""Parts of what the coarse model would move that are simulated to begin with, two by two, so that
a plan that fits is told soon."""
EXPLORED = 0.25
"""Part of a batch that is drawn by chance, so that the guide's errors do not last."""


@dataclass(frozen=True)
class Found:
    """The best so far: the candidate, its score, and after how many simulations it was found."""

    candidate: Candidate
    score: Score
    at: int


Search = Generator[Sequence[Asked], Sequence[Told], Found]


class Searching:
    """One search over one problem.

    Attributes:
        best: the best candidate so far; known after the first batch.
        best_of: the best so far of each number of moves.
        evaluations: how many candidates were simulated.
        history: (evaluations, score) whenever the best became better.
    """

    def __init__(
        self,
        problem: Problem,
        seed: int = 0,
        shakes: int = SHAKES,
        start: Candidate = Candidate(),  # noqa: B008 - a value that nothing changes
        patience: int = PATIENCE,
    ) -> None:
        self.problem = problem
        self.random = Random(seed)  # noqa: S311 - a search, not a secret
        self.shakes = shakes
        self.patience = patience
        self.start = start
        self.best: Found | None = None
        self.best_of: dict[int, Found] = {}
        self.evaluations = 0
        self.batch = BATCH if len(problem.plan.machines) < LARGE else BATCH_OF_LARGE
        self.history: list[tuple[int, Score]] = []
        self._known: dict[Candidate, Score] = {}
        self._unsound: set[Candidate] = set()
        self._moves: list[tuple[Aspect, Operation]] = [
            move for job in problem.movable for move in moves_of(problem, job)
        ]
        self._guide: Guide | None = None

    # --- comparing --------------------------------------------------------------------------

    def key(self, candidate: Candidate, score: Score) -> Key:
        """What candidates are compared by: the parts of the score, then how little is moved."""
        plan = self.problem.plan
        return (
            *score.grades,
            float(len(candidate)),
            shift_minutes(plan, candidate),
            float(unround(candidate)),
        )

    def _better(self, one: Found, other: Found | None) -> bool:
        return other is None or self.key(one.candidate, one.score) < self.key(
            other.candidate, other.score
        )

    # --- the search -------------------------------------------------------------------------

    def run(self) -> Search:
        """Hand out batches of candidates until nothing better is to be expected."""
        start = yield from self._look(Candidate())
        if not self._moves or not any(start.score.grades):
            return start
        if self.start.choices and self._is_sound(self.start):
            start = yield from self._look(self.start)
        here = start if start.score.fits else (yield from self._dealt(start))
        here = yield from self._descend(here)
        here = yield from self._tidy(here)
        yield from self._climb()
        left = self.shakes
        while True:
            left = yield from self._shaken(left)
            better = yield from self._two_at_once()
            assert self.best is not None
            if better is None:
                return self.best
            yield from self._tidy((yield from self._descend(better)))

    def _shaken(self, left: int) -> Generator[Sequence[Asked], Sequence[Told], int]:
        """Start again from shaken plans until some in a row bring nothing; how many are left."""
        barren = 0
        while left > 0 and barren < self.patience:
            best = self.best
            assert best is not None
            if not any(best.score.grades):
                break
            left -= 1
            shaken = yield from self._look(self._shake(best.candidate, barren // WIDER_AFTER))
            here = yield from self._descend(shaken)
            if self._better(here, best):
                yield from self._tidy(here)
            barren = 0 if self.best is not best else barren + 1
        return left

    def _two_at_once(self) -> Generator[Sequence[Asked], Sequence[Told], Found | None]:
        """What two moves of the best plan together make better; None where none of them does.

        Two runs that change places pass through a plan that is worse, so that no descent finds it:
        the neighbourhood of exchanges of two (G. A. Croes, "A Method for Solving
        Traveling-Salesman Problems", 1958).
        """
        assert self.best is not None
        if not any(self.best.score.grades):
            return None
        here = yield from self._look(self.best.candidate)
        assert self._guide is not None
        moves = self._guide.ordered(
            here.candidate, self._neighbours(here.candidate), self.random, 0.0
        )
        tried_most = PAIRS_TO_PATIENCE * self.patience
        # Of pairs of the first n, n² / 2 in number, those that come first.
        first = range(min(len(moves), 2 * isqrt(tried_most)))
        pairs = (pair for pair in sorted(combinations(first, 2), key=sum) if _differ(moves, *pair))
        both = [
            here.candidate.with_choice(*moves[i]).with_choice(*moves[j])
            for i, j in islice(pairs, tried_most)
        ]
        for begin in range(0, len(both), self.batch):
            tried = yield from self._try(both[begin : begin + self.batch])
            best = min(tried, key=lambda f: self.key(f.candidate, f.score), default=None)
            if best is not None and self._better(best, here):
                return (yield from self._look(best.candidate))
        return None

    def _look(self, candidate: Candidate) -> Search:
        """Score one candidate and take its trace for the guide."""
        told = yield [(candidate, True)]
        score, trace = told[0]
        assert trace is not None
        self._guide = Guide(self.problem, trace)
        return self._note(candidate, score)

    def _note(self, candidate: Candidate, score: Score) -> Found:
        if candidate not in self._known:
            self.evaluations += 1
            self._known[candidate] = score
        found = Found(candidate, score, self.evaluations)
        if self._better(found, self.best_of.get(len(candidate))):
            self.best_of[len(candidate)] = found
        if self._better(found, self.best):
            self.best = found
            self.history.append((self.evaluations, score))
        return found

    def _try(
        self, candidates: Iterable[Candidate]
    ) -> Generator[Sequence[Asked], Sequence[Told], list[Found]]:
        """Score those of some candidates that may be proposed."""
        wanted = []
        found = []
        for candidate in dict.fromkeys(candidates):
            if candidate in self._known:
                found.append(Found(candidate, self._known[candidate], self.evaluations))
            elif self._is_sound(candidate):
                wanted.append(candidate)
        for begin in range(0, len(wanted), self.batch):
            batch = wanted[begin : begin + self.batch]
            told = yield [(candidate, False) for candidate in batch]
            found += [
                self._note(candidate, score)
                for candidate, (score, _) in zip(batch, told, strict=True)
            ]
        return found

    def _dealt(self, start: Found) -> Search:
        """The best of the first few, more and all of the moves that the coarse model would make."""
        assert self._guide is not None
        moves = self._guide.dealt(self._moves)[: self.problem.most_moves - len(start.candidate)]
        found = [start]
        for parts in DEALT_PARTS:
            tries = []
            for part in parts:
                candidate = start.candidate
                for aspect, operation in moves[: round(len(moves) * part)]:
                    candidate = candidate.with_choice(aspect, operation)
                tries.append(candidate)
            found += yield from self._try(tries)
        best = min(found, key=lambda each: self.key(each.candidate, each.score))
        if best is start:
            return start
        return (yield from self._look(best.candidate))

    def _is_sound(self, candidate: Candidate) -> bool:
        if candidate in self._unsound or len(candidate) > self.problem.most_moves:
            return False
        if is_sound(self.problem, candidate) is None:
            self._unsound.add(candidate)
            return False
        return True

    def _descend(self, start: Found) -> Search:
        """Take the best moves, batch after batch, until none is better."""
        here = start
        while True:
            found = yield from self._step(here)
            if found is None:
                return here
            here = found
            if not any(here.score.grades):
                return here
            here = yield from self._look(here.candidate)

    def _step(self, here: Found) -> Generator[Sequence[Asked], Sequence[Told], Found | None]:
        """The best that the moves from here lead to, one by one and together; None if nothing."""
        assert self._guide is not None
        neighbours = self._neighbours(here.candidate)
        ordered = self._guide.ordered(here.candidate, neighbours, self.random, EXPLORED)
        most = len(ordered) if len(ordered) <= WHOLE_NEIGHBOURHOOD else WHOLE_NEIGHBOURHOOD // 2
        for begin in range(0, most, self.batch):
            chosen = ordered[begin : begin + self.batch]
            tried = yield from self._try(here.candidate.with_choice(*move) for move in chosen)
            gains = sorted(
                (found for found in tried if self._better(found, here)),
                key=lambda found: self.key(found.candidate, found.score),
            )
            if gains:
                return (yield from self._together(here, gains))
        return None

    def _together(self, here: Found, gains: Sequence[Found]) -> Search:
        """The best of some gains, and of the first few of different jobs taken together."""
        best = gains[0]
        joined, jobs, tries = here.candidate, set[str](), []
        for gain in gains:
            taken = dict(here.candidate.choices)
            for aspect, operation in gain.candidate.choices:
                if taken.get(aspect) != operation and aspect[0] not in jobs:
                    joined = joined.with_choice(aspect, operation)
                    jobs.add(aspect[0])
                    if len(jobs) > 1:
                        tries.append(joined)
            if len(jobs) >= TAKEN_TOGETHER:
                break
        for found in (yield from self._try(tries)):
            if self._better(found, best):
                best = found
        return best

    def _neighbours(self, candidate: Candidate) -> list[tuple[Aspect, Operation | None]]:
        """All single choices from here: another for some aspect, or the plan's own again."""
        chosen = dict(candidate.choices)
        moves: list[tuple[Aspect, Operation | None]] = [
            (aspect, operation)
            for aspect, operation in self._moves
            if chosen.get(aspect) != operation
        ]
        moves += [(aspect, None) for aspect in chosen]
        if len(candidate) >= self.problem.most_moves:
            moves = [move for move in moves if move[0] in chosen]
        return moves

    def _shake(self, candidate: Candidate, wider: int) -> Candidate:
        """Another plan not far away: some choices given up, some drawn by chance.

        The more of them have brought nothing, the wider it looks: variable neighbourhood search
        (N. Mladenović, P. Hansen, 1997).
        """
        for _ in range(50):
            shaken = candidate
            drop = min(len(shaken), 1 + wider + self.random.randrange(3))
            for aspect, _ in self.random.sample(shaken.choices, drop):
                shaken = shaken.with_choice(aspect, None)
            for _ in range(1 + wider + self.random.randrange(3)):
                shaken = shaken.with_choice(*self.random.choice(self._moves))
            if shaken != candidate and self._is_sound(shaken):
                return shaken
        return Candidate()

    def _climb(self) -> Generator[Sequence[Asked], Sequence[Told], None]:
        """Look for the best plans of few moves: each rung from the one below and those above it.

        Descent takes several moves at a time, so that what it says of one or two is little.
        """
        yield from self._come_down()
        for moves in range(self._highest_rung):
            below = self.best_of.get(moves)
            if below is None or not any(below.score.grades):
                break
            here = yield from self._look(below.candidate)
            assert self._guide is not None
            taken = dict(here.candidate.choices)
            more = [move for move in self._neighbours(here.candidate) if move[0] not in taken]
            ordered = self._guide.ordered(here.candidate, more, self.random, EXPLORED)
            yield from self._try(here.candidate.with_choice(*move) for move in ordered[:RUNG_TRIES])
            above = self.best_of.get(moves + 1)
            if above is not None and moves:
                # One of its moves for another: the best two need not hold the best one.
                yield from self._try(
                    above.candidate.with_choice(aspect, None).with_choice(*move)
                    for aspect, _ in above.candidate.choices
                    for move in ordered[: RUNG_TRIES // (2 * len(above.candidate))]
                )
        yield from self._come_down()

    @property
    def _highest_rung(self) -> int:
        """The number of moves of the best; no rung above it is worth looking for."""
        return 0 if self.best is None else len(self.best.candidate)

    def _come_down(self) -> Generator[Sequence[Asked], Sequence[Told], None]:
        """From the best of each number of moves, without each of them."""
        for moves in range(self._highest_rung, 1, -1):
            if moves in self.best_of:
                candidate = self.best_of[moves].candidate
                yield from self._try(
                    candidate.with_choice(aspect, None) for aspect, _ in candidate.choices
                )

    def _tidy(self, start: Found) -> Search:
        """Without the moves that bring nothing, and with shorter ones that bring as much."""
        here = start
        while True:
            without = [
                here.candidate.with_choice(aspect, None) for aspect, _ in here.candidate.choices
            ]
            shorter = [
                here.candidate.with_choice(aspect, operation)
                for aspect, operation in self._moves
                if aspect in dict(here.candidate.choices) and aspect[1] in MEASURED
            ]
            shorter = [
                candidate for candidate in shorter
                if shift_minutes(self.problem.plan, candidate)
                < shift_minutes(self.problem.plan, here.candidate)
            ]  # fmt: skip
            better = None
            for tries in (without, shorter[: self.batch]):
                tried = yield from self._try(tries)
                gains = [found for found in tried if self._better(found, here)]
                better = min(gains, key=lambda f: self.key(f.candidate, f.score), default=None)
                if better is not None:
                    break
            if better is None:
                return here
            here = better


def _differ(moves: Sequence[tuple[Aspect, Operation | None]], i: int, j: int) -> bool:
    """Whether two moves are about different aspects, so that they can be made together."""
    return moves[i][0] != moves[j][0]
