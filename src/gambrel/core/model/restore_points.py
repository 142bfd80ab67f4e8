"""Restore points as records: what exists where, and how long the chain of each is."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from math import inf
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from gambrel.core.model.retention import Point
from gambrel.core.plan.objects import KINDS, Kind, Plan


class PointRecord(NamedTuple):
    """A restore point that exists at some instant.

    Attributes:
        chain_points: the point itself and its bases, counted.
        chain_bytes: their stored bytes together.
        chain_since: when the run of the oldest of them began.
    """

    job: str
    machine: str
    repository: str
    kind: Kind
    at: float
    exists_from: float
    stored_bytes: float
    usable: bool
    chain_points: int
    chain_bytes: float
    chain_since: float


def linked_records(records: Iterable[PointRecord]) -> list[tuple[PointRecord, Point]]:
    """Records with their bases, which follow from the order of `at` and from what is usable.

    The records must be of one job, machine and repository.
    """
    made: list[tuple[PointRecord, Point]] = []
    for record in sorted(records, key=lambda record: record.at):
        base = None
        if record.kind != "full":
            fit = (
                point
                for other, point in reversed(made)
                if (other.usable or not record.usable)
                and (record.kind == "incremental" or other.kind == "full")
            )
            base = next(fit, None)
        bad_since = inf if record.usable else -inf
        point = Point(
            record.kind, record.at, record.exists_from, record.stored_bytes, base, bad_since
        )
        made.append((record, point))
    return made


def point_records(
    plan: Plan, rows: npt.NDArray[Any], bases: npt.NDArray[np.int64]
) -> Iterator[PointRecord]:
    """Points as records, each with the length of its chain.

    Args:
        rows: has the columns of HISTORY that a record tells of.
        bases: the position among `rows` of the point that each needs; -1 for none. Nearly always
            before it: a merged full may have become younger than a point that came late.
    """
    jobs = [job.id for job in plan.jobs]
    machines = [machine.id for machine in plan.machines]
    repositories = [repository.id for repository in plan.repositories]
    columns = [
        rows[name].tolist()
        for name in (
            "job", "machine", "repository", "kind", "at", "exists_from", "stored_bytes", "usable",
        )
    ]  # fmt: skip
    needed, sizes, begun = bases.tolist(), columns[-2], columns[4]
    chains: dict[int, tuple[int, float, float]] = {-1: (0, 0.0, inf)}
    for i, (job, machine, repository, kind, at, exists_from, stored, usable) in enumerate(
        zip(*columns, strict=True)
    ):
        line = [i]
        while line[-1] not in chains:
            line.append(needed[line[-1]])
        for point in reversed(line[:-1]):
            count, below, oldest = chains[needed[point]]
            chains[point] = (count + 1, below + sizes[point], min(oldest, begun[point]))
        yield PointRecord(
            jobs[job], machines[machine], repositories[repository], KINDS[kind],
            at, exists_from, stored, bool(usable), *chains[i],
        )  # fmt: skip
