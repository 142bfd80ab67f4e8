"""Which restore points existed at each instant of a simulation, and the space that they took."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from gambrel.core.model.restore_points import PointRecord, point_records
from gambrel.core.plan.objects import KINDS, Kind, Plan
from gambrel.core.units import SAME_INSTANT

HISTORY = np.dtype(
    [(n, np.int64) for n in ("repository", "job", "machine", "kind", "made_on", "replaced")]
    + [("usable", np.int64)]
    + [(n, np.float64) for n in ("at", "exists_from", "stored_bytes", "since", "gone")]
)
"""A point as it was from `since` up to `gone` (infinite: still there).

Repository, job and machine by position. `made_on`: row of the point that it was made on, or -1.
`replaced`: row of the full that a merge made of it, or -1. Instants are UTC seconds.
"""


@dataclass(frozen=True, slots=True)
class Fullest:
    """The most bytes that a repository held in a span, and when it first held them."""

    bytes: float
    at: float


class PointChange(NamedTuple):
    """A restore point that came (`made`) or went at an instant; `at` is its run's start."""

    instant: float
    made: bool
    job: str
    machine: str
    repository: str
    kind: Kind
    at: float
    stored_bytes: float


def bases_at(
    rows: npt.NDArray[Any], chosen: npt.NDArray[np.int64], instant: float
) -> npt.NDArray[np.int64]:
    """The rows of the points that some need at an instant; -1 for none.

    Args:
        rows: has the columns `made_on`, `replaced` and `gone` of HISTORY.
        instant: counts from where `gone` does.
    """
    bases: npt.NDArray[np.int64] = rows["made_on"][chosen].astype(np.int64)
    while True:
        merged = (bases >= 0) & (rows["gone"][bases] <= instant + SAME_INSTANT)
        if not merged.any():
            return bases
        bases = np.where(merged, rows["replaced"][bases], bases)


class PointHistory:
    """All restore points of a simulation over time.

    It answers for instants up to the end of the simulated span.

    Args:
        rows: makes the rows of HISTORY, in the order in which they began to hold.
    """

    def __init__(self, plan: Plan, rows: Callable[[], npt.NDArray[Any]]) -> None:
        self._plan = plan
        self._make = rows

    @cached_property
    def _rows(self) -> npt.NDArray[Any]:
        return self._make()

    def _alive(self, instant: float) -> npt.NDArray[np.int64]:
        rows = self._rows
        there = (rows["since"] <= instant + SAME_INSTANT) & (rows["gone"] > instant + SAME_INSTANT)
        return np.flatnonzero(there)

    def at(self, instant: float, *, machine: str | None = None) -> tuple[PointRecord, ...]:
        """The points that exist at an instant: by repository, job, machine, then start instant.

        Args:
            machine: an id; only its points.
        """
        plan, rows = self._plan, self._rows
        alive = self._alive(instant)
        if machine is not None:
            places = [m.id for m in plan.machines]
            alive = alive[rows["machine"][alive] == places.index(machine)]
        chosen = rows[alive]
        order = np.lexsort(
            (alive, chosen["at"], chosen["machine"], chosen["job"], chosen["repository"])
        )
        alive = alive[order]
        places_of = np.full(len(rows) + 1, -1)
        places_of[alive] = np.arange(len(alive))
        return tuple(point_records(plan, rows[alive], places_of[bases_at(rows, alive, instant)]))

    def changes(self, start: float, end: float) -> list[PointChange]:
        """What came and went after `start` and up to `end`, in the order of time."""
        rows = self._rows
        plan = self._plan
        found: list[PointChange] = []
        for name, made in (("since", True), ("gone", False)):
            inside = (rows[name] > start + SAME_INSTANT) & (rows[name] <= end + SAME_INSTANT)
            for row in rows[inside & (rows["gone"] > rows["since"])]:
                found.append(
                    PointChange(
                        float(row[name]),
                        made,
                        plan.jobs[row["job"]].id,
                        plan.machines[row["machine"]].id,
                        plan.repositories[row["repository"]].id,
                        KINDS[row["kind"]],
                        float(row["at"]),
                        float(row["stored_bytes"]),
                    )
                )
        # What goes at an instant goes before what comes: a merge makes a full at the same `at`.
        return sorted(found, key=lambda change: (change.instant, change.made))

    def used_bytes(self, instant: float) -> list[float]:
        """The bytes stored at an instant in each repository of the plan."""
        rows = self._rows[self._alive(instant)]
        used = np.bincount(rows["repository"], rows["stored_bytes"], len(self._plan.repositories))
        return [float(value) for value in used]

    def space(self, repository: int, start: float, end: float) -> list[tuple[float, float]]:
        """(instant, bytes stored from then on) of a repository over [start, end].

        The first step is at `start`; each later one is where the space changes.
        """
        rows = self._rows[self._rows["repository"] == repository]
        if not len(rows):
            return [(start, 0.0)]
        lasting = rows[rows["gone"] > rows["since"]]
        instants = np.concatenate([lasting["since"], lasting["gone"]])
        changes = np.concatenate([lasting["stored_bytes"], -lasting["stored_bytes"]])
        inside = instants <= end + SAME_INSTANT
        instants, changes = np.maximum(instants[inside], start), changes[inside]
        order = np.argsort(instants, kind="stable")
        instants, used = instants[order], np.cumsum(changes[order])
        # All changes of one instant count as one step.
        last = np.flatnonzero(np.append(np.diff(instants) > SAME_INSTANT, True))
        steps = [(float(instants[i]), max(0.0, float(used[i]))) for i in last.tolist()]
        return steps if steps and steps[0][0] <= start else [(start, 0.0), *steps]

    def fullest(self, repository: int, start: float, end: float) -> Fullest:
        """When a repository holds most over [start, end], and how much that is."""
        at, used = max(self.space(repository, start, end), key=lambda step: step[1])
        return Fullest(used, at)
