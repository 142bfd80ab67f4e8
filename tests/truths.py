"""What the tests under tests/truth share."""

from __future__ import annotations

from collections.abc import Iterable

import pytest

from gambrel.core.plan.objects import Plan
from gambrel.core.simulation.reference.loop import Simulation


def seeds(request: pytest.FixtureRequest, few: int) -> range:
    """Numbers of generated plans: a few in each test run, as many as `--plans` says on demand."""
    first: int = request.config.getoption("--first-plan")
    return range(first, first + (request.config.getoption("--plans") or few))


class Watched(Simulation):
    """The reference, which notes the points that exist at some instants.

    Attributes:
        points_at: by instant, (repository, machine, kind, start instant, stored bytes) of each.
    """

    def __init__(self, plan: Plan, from_: float, to: float, instants: Iterable[float]) -> None:
        super().__init__(plan, from_, to)
        self._watch = sorted(set(instants))
        self.points_at: dict[float, list[tuple[str, str, str, float, float]]] = {}

    def _instant(self) -> None:
        self._look(self.now)
        super()._instant()

    def _look(self, until: float) -> None:
        while self._watch and self._watch[0] < until - 1e-6:
            self.points_at[self._watch.pop(0)] = [
                (
                    self.plan.repositories[repository].id,
                    self.plan.machines[machine].id,
                    point.kind,
                    point.at,
                    point.stored_bytes,
                )
                for (repository, _, machine), points in self.points.items()
                for point in points
            ]

    def run(self) -> None:
        super().run()
        self._look(float("inf"))
