"""When a search ends: criteria as objects, asked before each batch."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Protocol


class Stop(Protocol):
    """Says whether a search ends before it evaluates more."""

    def reached(self, evaluations: int) -> bool:
        """Whether to end.

        Args:
            evaluations: how many plans have been simulated so far.
        """
        ...


@dataclass(frozen=True)
class MostEvaluations:
    """Ends after so many simulations. The only limit under which a result is always the same."""

    most: int

    def reached(self, evaluations: int) -> bool:
        return evaluations >= self.most


@dataclass(frozen=True)
class MostSeconds:
    """Ends after so many seconds from when it was made."""

    seconds: float
    clock: Callable[[], float] = time.monotonic
    began: float = field(default=-1.0)

    def __post_init__(self) -> None:
        if self.began < 0:
            object.__setattr__(self, "began", self.clock())

    def reached(self, evaluations: int) -> bool:  # noqa: ARG002
        return self.clock() - self.began >= self.seconds


@dataclass(frozen=True)
class Asked:
    """Ends when somebody asks for it."""

    asked: Callable[[], bool]

    def reached(self, evaluations: int) -> bool:  # noqa: ARG002
        return self.asked()


@dataclass(frozen=True)
class AnyOf:
    """Ends with the first of several criteria."""

    criteria: tuple[Stop, ...]

    def reached(self, evaluations: int) -> bool:
        return any(criterion.reached(evaluations) for criterion in self.criteria)
