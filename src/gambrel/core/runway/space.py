"""How long the space of each repository and volume lasts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit

from gambrel.core.runway.projection import Projection, Steps, steps_of
from gambrel.core.simulation.engine import tables as t
from gambrel.core.units import DAY, GIB

DRAWN_BY_DAY = 190
"""Up to so many days a drawing has a part for each day; beyond, one for each week: the rhythm of
fulls and deletions within a week is not what one looks for over years."""


@dataclass(frozen=True, slots=True)
class VolumeLife:
    """A volume of a pool.

    Attributes:
        jobs: what each job that keeps anything in it keeps there, by the job's position.
        full_at: when a point comes that does not fit; None: not before.
    """

    volume: str
    capacity_bytes: float
    space: Steps
    jobs: tuple[tuple[int, Steps], ...]
    full_at: float | None


@dataclass(frozen=True, slots=True)
class Life:
    """How long a repository lasts.

    Attributes:
        capacity_bytes: None where nobody stated it.
        full_at: when it first holds more than it has room for, all its volumes together; None:
            not within the projection.
        peak_bytes, peak_at: the most it holds up to the end.
        volumes: where it is a pool.
    """

    repository: str
    capacity_bytes: float | None
    space: Steps
    full_at: float | None
    peak_bytes: float
    peak_at: float
    volumes: tuple[VolumeLife, ...] = ()

    @property
    def ends_at(self) -> float | None:
        """When it or the first of its volumes is full."""
        found = [self.full_at, *(volume.full_at for volume in self.volumes)]
        return min((at for at in found if at is not None), default=None)


def lives(projection: Projection) -> tuple[Life, ...]:
    """How long each repository of a projected plan lasts.

    Volumes are looked at where the projection kept the points of their pool.
    """
    found = []
    for i, repository in enumerate(projection.plan.repositories):
        space = projection.space(i)
        inside = space.until(projection.to)
        top = int(np.argmax(inside.bytes))
        gib = repository.space_gib
        found.append(
            Life(
                repository=repository.id,
                capacity_bytes=None if gib is None else gib * GIB,
                space=space,
                full_at=projection.full_at(i),
                peak_bytes=float(inside.bytes[top]),
                peak_at=float(inside.instants[top]),
                volumes=_volumes(projection, i) if projection.keeps_points else (),
            )
        )
    return tuple(found)


def shortest(found: Sequence[Life]) -> Life | None:
    """The one that is full first; None where none is."""
    ending = [life for life in found if life.ends_at is not None]
    return min(ending, key=lambda life: life.ends_at or 0.0, default=None)


def parts_drawn(projection: Projection) -> int:
    """Into how many equal parts the horizon is divided for a drawing."""
    days = (projection.to - projection.from_) / DAY
    return max(1, round(days if days <= DRAWN_BY_DAY else days / 7))


Drawn = tuple[t.Floats, t.Floats, list[tuple[int, t.Floats]]]
"""Instants, the bytes at each, and (job, bytes) of each job that keeps anything there."""


def drawn(projection: Projection, repository: int, parts: int | None = None) -> Drawn:
    """A repository over the horizon in equal parts, each by the instant at which it holds most.

    What a peak is made of is what is there at that very instant.
    """
    jobs = [
        (job, projection.space_of_job(repository, job)) for job in projection.jobs_of(repository)
    ]
    return _drawn(projection, projection.space(repository), jobs, parts)


def drawn_volume(projection: Projection, volume: VolumeLife, parts: int | None = None) -> Drawn:
    """A volume of a pool in the same way."""
    return _drawn(projection, volume.space, volume.jobs, parts)


def _drawn(
    projection: Projection, whole: Steps, jobs: Sequence[tuple[int, Steps]], parts: int | None
) -> Drawn:
    space = whole.until(projection.to)
    parts = parts_drawn(projection) if parts is None else parts
    edges = np.linspace(projection.from_, projection.to, parts + 1)
    places = np.searchsorted(space.instants, edges, "right") - 1
    instants = np.empty(parts)
    for part in range(parts):
        first = max(0, int(places[part]))
        last = max(first, int(np.searchsorted(space.instants, edges[part + 1], "left")) - 1)
        best = first + int(np.argmax(space.bytes[first : last + 1]))
        instants[part] = max(edges[part], space.instants[best])
    return instants, space.at(instants), [(job, steps.at(instants)) for job, steps in jobs]


# --- volumes ----------------------------------------------------------------------------------


def _volumes(projection: Projection, repository: int) -> tuple[VolumeLife, ...]:
    volumes = projection.plan.repositories[repository].volumes
    if not volumes:
        return ()
    together = projection.plan.repositories[repository].placement == "chain together"
    rows = projection.rows_of(repository)
    rows = rows[rows["gone"] > rows["since"]]
    rows = rows[np.lexsort((rows["machine"], rows["job"], rows["at"], rows["since"]))]
    room = np.array([volume.capacity_gib * GIB for volume in volumes])
    chain = rows["job"] * (len(projection.plan.machines) + 1) + rows["machine"]
    _, chain = np.unique(chain, return_inverse=True)
    going = np.argsort(rows["gone"], kind="stable")
    where = _deal(
        rows["since"], rows["gone"], rows["stored_bytes"], chain.astype(np.int64),
        rows["kind"] == t.FULL, going.astype(np.int64), room, together,
    )  # fmt: skip
    found = []
    for i, volume in enumerate(volumes):
        mine = rows[where == i]
        space = _space_of(mine, projection.from_)
        jobs = tuple(
            (int(job), _space_of(mine[mine["job"] == job], projection.from_))
            for job in np.unique(mine["job"])
            if job >= 0
        )
        full = space.first_above(room[i])
        inside = full is not None and full < projection.to
        found.append(VolumeLife(volume.id, float(room[i]), space, jobs, full if inside else None))
    return tuple(found)


def _space_of(rows: t.Table, from_: float) -> Steps:
    ends = np.isfinite(rows["gone"])
    return steps_of(
        0.0,
        [rows["since"], rows["gone"][ends]],
        [rows["stored_bytes"], -rows["stored_bytes"][ends]],
        from_,
    )


@njit(cache=True)
def _deal(
    since: t.Floats, gone: t.Floats, sizes: t.Floats, chain: t.Ints, full: t.Floats,
    going: t.Ints, room: t.Floats, together: bool,
) -> t.Ints:  # fmt: skip
    """The volume of each point: dealt when it comes to exist, and there it stays.

    As `repository_volumes.placed` deals them, but that what has gone has made room. Points come in
    the order of `since`, and go in that of `going`.
    """
    free = room.copy()
    where = np.zeros(len(since), np.int64)
    last = np.full(len(since), -1)
    g = 0
    for p in range(len(since)):
        while g < len(going) and gone[going[g]] < since[p]:
            free[where[going[g]]] += sizes[going[g]]
            g += 1
        best = 0
        if together and not full[p] and last[chain[p]] >= 0:
            best = last[chain[p]]
        else:
            for v in range(1, len(free)):
                if free[v] > free[best]:
                    best = v
        last[chain[p]] = best
        where[p] = best
        free[best] -= sizes[p]
    return where
