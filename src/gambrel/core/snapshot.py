"""All restore points that exist at one instant, as columns: where a simulation may start from."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from gambrel.core.plan import Plan
from gambrel.core.retention import ChainKey, linked
from gambrel.core.units import EPOCH

KIND_NAMES = ("full", "incremental", "differential")

SAVED_POINT = np.dtype(
    [(name, np.int64) for name in ("repository", "job", "machine", "kind", "base", "usable")]
    + [(name, np.float64) for name in ("at", "exists_from", "stored_bytes")]
)
"""Repository, job and machine by position; `base` is the row of another point or -1; instants are
seconds from EPOCH."""


@dataclass(frozen=True, eq=False)
class Snapshot:
    """Rows of SAVED_POINT, those of one chain in the order of `at`; nothing changes them."""

    points: npt.NDArray[Any]


def snapshot_of_state(plan: Plan) -> Snapshot:
    """The points of a plan's state with their bases, those that exist only later among them."""
    repositories = {r.id: i for i, r in enumerate(plan.repositories)}
    machines = {m.id: i for i, m in enumerate(plan.machines)}
    groups: dict[ChainKey, list[int]] = {}
    for i, saved in enumerate(plan.state.points):
        key = (
            repositories[saved.repository],
            plan.job_position[saved.job],
            machines[saved.machine],
        )
        groups.setdefault(key, []).append(i)
    rows: list[tuple[float, ...]] = []
    for key, indices in groups.items():
        row_of: dict[int, int] = {}
        for _, point in linked(plan.state.points[i] for i in indices):
            row_of[id(point)] = len(rows)
            base = -1 if point.base is None else row_of[id(point.base)]
            rows.append(
                (
                    *key,
                    KIND_NAMES.index(point.kind),
                    base,
                    int(point.usable),
                    point.at - EPOCH,
                    point.exists_from - EPOCH,
                    point.stored_bytes,
                )
            )
    return Snapshot(np.array(rows, SAVED_POINT))
