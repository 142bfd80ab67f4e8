"""Repositories that are pools of volumes: which volume holds what, and which fills first."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from gambrel.core.model.restore_points import PointRecord
from gambrel.core.plan.objects import Repository, Volume
from gambrel.core.units import GIB


@dataclass(frozen=True, slots=True)
class Placed:
    """What is on a volume.

    Attributes:
        full_at: when the first point came that did not fit, in UTC seconds; None for none.
    """

    volume: Volume
    points: int
    used_bytes: float
    full_at: float | None


def placed(repository: Repository, points: Iterable[PointRecord]) -> Sequence[Placed]:
    """The points of a repository on its volumes (how-it-computes: pools).

    The points that exist are dealt in the order in which they came to exist. "most free": each
    goes to the volume with the most free bytes, then the first in the plan file. "chain together":
    so do fulls, and any other point goes to the volume of the newest earlier point of its job and
    machine, fits or not.
    """
    volumes = repository.volumes
    used = [0.0] * len(volumes)
    count = [0] * len(volumes)
    full_at: list[float | None] = [None] * len(volumes)
    chain: dict[tuple[str, str], int] = {}
    mine = [point for point in points if point.repository == repository.id]
    for point in sorted(mine, key=lambda point: (point.exists_from, point.at)) if volumes else ():
        owner = (point.job, point.machine)
        together = repository.placement == "chain together" and point.kind != "full"
        if together and owner in chain:
            at = chain[owner]
        else:
            free = [v.capacity_gib * GIB - u for v, u in zip(volumes, used, strict=True)]
            at = free.index(max(free))
        chain[owner] = at
        used[at] += point.stored_bytes
        count[at] += 1
        if full_at[at] is None and used[at] > volumes[at].capacity_gib * GIB:
            full_at[at] = point.exists_from
    return tuple(Placed(volume, count[i], used[i], full_at[i]) for i, volume in enumerate(volumes))
