"""All restore points that exist at one instant, as columns: where a simulation may start from."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from math import inf
from typing import Any

import numpy as np
import numpy.typing as npt

from gambrel.core.caches import MIB, ByteCache
from gambrel.core.model.retention import ChainKey, Point, linked
from gambrel.core.plan.objects import KINDS, BuiltOn, ExistingPoint, Plan, State
from gambrel.core.units import EPOCH

Places = npt.NDArray[np.int64]
"""Positions in the lists of a plan."""
SAVED_POINT = np.dtype(
    [(name, np.int32) for name in ("repository", "job", "machine", "base")]
    + [(name, np.int8) for name in ("kind", "usable", "bad")]
    + [(name, np.float64) for name in ("at", "exists_from", "stored_bytes")],
    align=True,
)
"""Repository, job and machine by position; `base` is the row of another point or -1; instants are
seconds from EPOCH. `bad`: whether it, or one that it builds on, was found to be bad. A plan may be
kept with its points at many instants, so the integers are short: see `chain_keys`."""


def chain_keys(
    repository: Places, job: Places, machine: Places, jobs: int, machines: int
) -> Places:
    """A number for each chain: (repository · jobs + job) · machines + machine."""
    return (repository * jobs + job) * machines + machine


@dataclass(frozen=True, eq=False)
class Snapshot:
    """Rows of SAVED_POINT, those of one chain in the order of `at`; nothing changes them."""

    points: npt.NDArray[Any]

    def chain_keys(self, jobs: int, machines: int) -> Places:
        """The key of the chain of each row."""
        repository, job, machine = (
            self.points[name].astype(np.int64) for name in ("repository", "job", "machine")
        )
        return chain_keys(repository, job, machine, jobs, machines)

    def of_plan(self, was: Plan, now: Plan) -> Snapshot:
        """The same points for a plan of the same jobs and repositories with other machines.

        Points of machines that are not in it are left out, and with them what needs them.
        """
        place = {machine.id: i for i, machine in enumerate(now.machines)}
        number = np.array([place.get(machine.id, -1) for machine in was.machines] or [-1])
        rows = self.points
        stays = number[rows["machine"]] >= 0
        found = rows[stays].copy()
        found["machine"] = number[found["machine"]]
        row = np.cumsum(stays) - 1
        found["base"] = np.where(found["base"] >= 0, row[found["base"]], -1)
        return Snapshot(found)


MOST_BYTES = 32 * MIB
BYTES_BY_POINT = 250
"""What a point of a state takes beside its row, about: the entry lives on with it."""


def _nbytes(kept: tuple[State, Snapshot]) -> int:
    state, snapshot = kept
    return snapshot.points.nbytes + BYTES_BY_POINT * len(state.points)


# With the state, as nothing else may come to have its id meanwhile.
_kept: ByteCache[tuple[State, Snapshot]] = ByteCache("points of plans", MOST_BYTES, _nbytes)


def snapshot_of_state(plan: Plan) -> Snapshot:
    """The points of a plan's state with their bases, those that exist only later among them.

    Plans that differ in what points have nothing to do with share one snapshot.
    """
    places = (
        tuple(r.id for r in plan.repositories),
        tuple(j.id for j in plan.jobs),
        tuple(m.id for m in plan.machines),
    )
    return _kept.once((id(plan.state), places), lambda: (plan.state, _snapshot(plan)))[1]


def _snapshot(plan: Plan) -> Snapshot:
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
    odd: dict[ChainKey, list[BuiltOn]] = {}
    for told in plan.state.running.built_on if plan.state.running is not None else ():
        key = (repositories[told.repository], plan.job_position[told.job], machines[told.machine])
        odd.setdefault(key, []).append(told)
    rows: list[tuple[float, ...]] = []
    for key, indices in groups.items():
        row_of: dict[int, int] = {}
        chain = [point for _, point in linked(plan.state.points[i] for i in indices)]
        if key in odd:
            build_on(chain, odd[key])
        for point in chain:
            row_of[id(point)] = len(rows)
            base = -1 if point.base is None else row_of.get(id(point.base), -1)
            rows.append(
                (
                    *key,
                    base,
                    KINDS.index(point.kind),
                    int(point.usable),
                    int(point.bad_since < inf),
                    point.at - EPOCH,
                    point.exists_from - EPOCH,
                    point.stored_bytes,
                )
            )
    return Snapshot(np.array(rows, SAVED_POINT))


PlaceOfPoint = tuple[str, str, str, int]
"""Job, machine and repository of a point, and its start instant in milliseconds."""


def place_of_point(point: ExistingPoint) -> PlaceOfPoint:
    """What tells a point from all others."""
    return point.job, point.machine, point.repository, round(point.at * 1000)


def found_bad(plan: Plan) -> dict[PlaceOfPoint, float]:
    """Since when each point of a plan's state is known to be bad; good ones are not in it."""
    return {
        place_of_point(point): point.bad_since
        for point in plan.state.points
        if point.bad_since is not None
    }


def with_what_is_bad(point: ExistingPoint, bad: Mapping[PlaceOfPoint, float]) -> ExistingPoint:
    """A point with the instant at which it was found to be bad, if it was."""
    since = bad.get(place_of_point(point))
    return point if since is None else replace(point, bad_since=max(since, point.exists_from))


def with_points(plan: Plan, points: Iterable[ExistingPoint]) -> Plan:
    """A plan that begins with other restore points; those of what it does not have are left out."""
    known = tuple(
        point
        for point in points
        if point.job in plan.job_by_id
        and point.machine in plan.machine_by_id
        and point.repository in plan.repository_by_id
    )
    return replace(plan, state=replace(plan.state, points=known))


def usable_of(points: Iterable[ExistingPoint]) -> list[ExistingPoint]:
    """Those points from which a machine can be brought back."""
    chains: dict[tuple[str, str, str], list[ExistingPoint]] = {}
    for point in points:
        chains.setdefault((point.job, point.repository, point.machine), []).append(point)
    return [told for chain in chains.values() for told, point in linked(chain) if point.usable]


def build_on(chain: list[Point], odd: list[BuiltOn]) -> None:
    """Give points the bases that the state names where their order does not tell them."""
    for told in odd:
        for point in chain:
            if point.at == told.at and point.kind != "full":
                bases = [other for other in chain if other.at == told.base_at]
                point.base = bases[-1] if bases else None
                point.usable = told.usable
                if told.usable:
                    point.bad_since = inf
