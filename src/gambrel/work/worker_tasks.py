"""What workers do. A task brings its problem along; a worker unpacks each problem once."""

from __future__ import annotations

import hashlib
import pickle
import zlib
from collections import OrderedDict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from gambrel.core.balance.bound import Bound, bound
from gambrel.core.balance.explaining import PlanTold, tell
from gambrel.core.balance.moves import Candidate
from gambrel.core.balance.objective import Evaluator
from gambrel.core.balance.problem import Loss, Problem
from gambrel.core.balance.search import Asked, Told
from gambrel.core.balance.search_driver import Evaluate, told_of
from gambrel.core.questions.how_sure import Failing, Sample, draw
from gambrel.core.runway.nights_ahead import MonthAhead, look_at
from gambrel.core.runway.purchase import Item, NightPurchase, nights_to_buy
from gambrel.core.runway.purchase_with_moves import Bought, bought_beside
from gambrel.core.simulation.engine.layout import layout_of
from gambrel.core.simulation.varying import Spread
from gambrel.work.executors import Workers
from gambrel.work.runway import NightsAhead

KEPT = 16
"""How many problems a worker keeps unpacked."""

_kept: OrderedDict[str, Any] = OrderedDict()


@dataclass(frozen=True)
class Packed:
    """A problem as bytes, with the name by which a worker knows it again."""

    key: str
    content: bytes

    @staticmethod
    def of(problem: Problem | NightsAhead) -> Packed:
        """Pack a problem."""
        content = zlib.compress(pickle.dumps(problem, protocol=5), 1)
        return Packed(hashlib.sha256(content).hexdigest(), content)


def _unpacked(packed: Packed, make: Callable[[Any], Any]) -> Any:
    """What is made of a problem, once."""
    found = _kept.get(packed.key)
    if found is None:
        problem = pickle.loads(zlib.decompress(packed.content))  # noqa: S301 - our own
        found = _kept[packed.key] = make(problem)
        while len(_kept) > KEPT:
            _kept.popitem(last=False)
    _kept.move_to_end(packed.key)
    return found


def _evaluator(packed: Packed) -> Evaluator:
    def laid_out(problem: Problem) -> Evaluator:
        layout_of(problem.plan)
        return Evaluator(problem)

    made: Evaluator = _unpacked(packed, laid_out)
    return made


def _question(packed: Packed) -> NightsAhead:
    asked: NightsAhead = _unpacked(packed, lambda problem: problem)
    return asked


def warm() -> int:
    """Have a worker load the compiled engine."""
    import gambrel.core.simulation.engine.kernel

    return len(gambrel.core.simulation.engine.kernel.__name__)


def evaluated(packed: Packed, batch: Sequence[Asked]) -> list[Told]:
    """Scores of candidates, with traces where they are wanted."""
    evaluator = _evaluator(packed)
    return [told_of(evaluator, candidate, traced) for candidate, traced in batch]


def evaluate_on(workers: Workers, known: Mapping[int, Packed] | None = None) -> Evaluate:
    """What scores candidates on some workers; each problem is packed once.

    Args:
        known: problems that are packed already, by their `id`.
    """
    packed = dict(known or {})
    ready: set[int] = set()

    def evaluate(problem: Problem, batch: Sequence[Asked]) -> list[Told]:
        key = id(problem)
        if key not in packed:
            packed[key] = Packed.of(problem)
        # Two parts for each worker, so that none waits long for the slowest.
        size = max(1, -(-len(batch) // (2 * workers.width)))
        parts = [(packed[key], batch[i : i + size]) for i in range(0, len(batch), size)]
        if key not in ready:
            # Who has nothing to do in the first batch gets ready for the next one.
            ready.add(key)
            parts += [(packed[key], ())] * (workers.width - len(parts))
        return [each for part in workers.all(evaluated, parts) for each in part]

    return evaluate


def told(packed: Packed, candidate: Candidate) -> PlanTold:
    """What becomes of the nights with a candidate."""
    return tell(_evaluator(packed).problem, candidate)


def told_after(packed: Packed, loss: Loss) -> PlanTold:
    """What becomes of the nights of a plan after a loss."""
    return tell(_evaluator(packed).problem.with_loss(loss), Candidate())


def bought(packed: Packed, candidate: Candidate) -> Bought:
    """What has to be bought beside some moves for every night to fit."""
    return bought_beside(_evaluator(packed).problem, candidate)


def bounded(packed: Packed) -> Bound:
    """Lower bounds of a problem."""
    return bound(_evaluator(packed).problem)


def drawn(
    packed: Packed,
    spread: Spread,
    seed: int,
    first: int,
    count: int,
    failing: Failing | None = None,
) -> list[Sample]:
    """Samples first, first + 1, ... of simulated weeks."""
    return draw(_evaluator(packed).problem, spread, seed, range(first, first + count), failing)


def drawn_after(
    packed: Packed, loss: Loss | None, spread: Spread, seed: int, first: int, count: int
) -> list[Sample]:
    """Samples first, first + 1, ... of weeks after a loss; None: of the plan as it is."""
    problem = _evaluator(packed).problem
    after = problem if loss is None else problem.with_loss(loss)
    return draw(after, spread, seed, range(first, first + count))


def months_ahead(packed: Packed, first: int, end: int) -> list[MonthAhead]:
    """The nights of some of the months of a look ahead."""
    asked = _question(packed)
    return [look_at(stage, stage.play()) for stage in asked.stages(first, end)]


def purchase_of(packed: Packed, number: int, bought: tuple[Item, ...]) -> NightPurchase:
    """What the nights of one month need on top of what is bought before."""
    return nights_to_buy(_question(packed).stages(number, number + 1), bought)
