"""Sizes that are off by a power of 1,024: a file of past runs read in the wrong unit."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from math import log
from statistics import median

from gambrel.core.model.volume import disk_volume, protected_disks
from gambrel.core.plan.objects import Job, Kind, Machine, Plan
from gambrel.core.units import DAY

STEP = 1024.0
MOST_STEPS = 2
"""So many units apart sizes are looked for: bytes for MiB, or GiB for KiB."""
FEWEST = 3
"""With fewer machine-runs Gambrel does not judge."""
AGREEING = 0.8
"""The part of all machine-runs that must be off by the same power."""


@dataclass(frozen=True, slots=True)
class Size:
    """What a machine-run read or stored, as a file tells it. `kind`: None where it does not say."""

    job: str
    machine: str
    kind: Kind | None
    read: float
    stored: float

    @property
    def told(self) -> float:
        """The bytes that it is judged by: those read, those stored where the file has no others."""
        return self.read or self.stored


@dataclass(frozen=True, slots=True)
class OddSizes:
    """Sizes that are all about 1,024 times, or its square, too small or too large.

    Attributes:
        steps: the power of 1,024 by which they would have to be multiplied, -2 to 2, never 0.
        runs: how many machine-runs say so, `of` so many that can be judged.
        machine, told_bytes, expected_bytes: the one in the middle of these, what the file says of
            it, and what the plan makes of it.
    """

    steps: int
    runs: int
    of: int
    machine: str
    told_bytes: float
    expected_bytes: float


def odd_sizes(plan: Plan, sizes: Iterable[Size]) -> OddSizes | None:
    """Whether sizes are in another unit than they are read in; None where nothing speaks for it.

    What a full or an incremental of one day should read of a machine follows from the plan (section
    4). It may well be wrong by a factor of ten, so only a ratio beyond the geometric mean of 1 and
    1,024, some 32, counts as another unit. Runs whose kind is not told are judged by the largest of
    their machine, and only where no run has a kind.
    """
    every = [each for each in sizes if each.told > 0]
    judged = [each for each in every if each.kind is not None]
    if not judged:
        largest: dict[str, Size] = {}
        for each in every:
            known = largest.get(each.machine)
            if known is None or each.told > known.told:
                largest[each.machine] = each
        judged = list(largest.values())
    found: list[tuple[float, Size, float]] = []
    for each in judged:
        job, machine = plan.job_by_id.get(each.job), plan.machine_by_id.get(each.machine)
        if job is None or machine is None:
            continue
        expected = _expected(job, machine, each)
        if expected > 0:
            found.append((each.told / expected, each, expected))
    if len(found) < FEWEST:
        return None
    steps = -round(log(median(ratio for ratio, *_ in found), STEP))
    steps = max(-MOST_STEPS, min(MOST_STEPS, steps))
    agreeing = sorted(
        (each for each in found if -round(log(each[0], STEP)) == steps), key=lambda each: each[0]
    )
    if steps == 0 or len(agreeing) < AGREEING * len(found):
        return None
    _, size, expected = agreeing[len(agreeing) // 2]
    return OddSizes(steps, len(agreeing), len(found), size.machine, size.told, expected)


def _expected(job: Job, machine: Machine, size: Size) -> float:
    """The bytes that a run of a machine reads, or stores where the file tells only that."""
    since = None if size.kind in (None, "full") else DAY
    volumes = [disk_volume(job, machine, disk, since) for disk in protected_disks(job, machine)]
    return sum(volume.source if size.read > 0 else volume.wire for volume in volumes)
