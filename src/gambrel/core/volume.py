"""How much a run moves (section 4)."""

from __future__ import annotations

from dataclasses import dataclass
from math import exp

from gambrel.core.plan import Disk, Job, Kind, Machine
from gambrel.core.units import DAY, GIB


@dataclass(frozen=True, slots=True)
class DiskVolume:
    """Bytes of one disk in one run.

    Attributes:
        source: R, read from the disk.
        wire: W, sent to the repository.
    """

    source: float
    wire: float

    @property
    def wire_per_source(self) -> float:
        """ω, the wire bytes per source byte; 0 where nothing is read."""
        return self.wire / self.source if self.source > 0 else 0.0


def protected_disks(job: Job, machine: Machine) -> list[Disk]:
    """The disks of a machine that a job does not leave out."""
    left_out = {disk for owner, disk in job.exclude_disks if owner == machine.id}
    return [disk for disk in machine.disks if disk.id not in left_out]


def protected_bytes(job: Job, disk: Disk) -> float:
    """U: the used bytes that a restore would need."""
    return (disk.used_gib - (disk.swap_gib if job.skip_swap else 0.0)) * GIB


def read_bytes(job: Job, disk: Disk) -> float:
    """B: the bytes that reading the whole disk takes."""
    if job.skip_unused:
        return protected_bytes(job, disk)
    return (disk.provisioned_gib - (disk.swap_gib if job.skip_swap else 0.0)) * GIB


def compression(job: Job, machine: Machine) -> float:
    """κ: payload bytes per wire byte."""
    return machine.compress_ratio if job.compress else 1.0


def changed_bytes(protected: float, machine: Machine, seconds: float) -> float:
    """Δ: the bytes changed within `seconds`, levelling off at U·h (section 4)."""
    rate, ceiling = machine.daily_change, machine.churn_ceiling
    if rate == 0 or ceiling == 0:
        return 0.0
    return protected * ceiling * (1.0 - exp(-rate * (seconds / DAY) / ceiling))


def disk_volume(job: Job, machine: Machine, disk: Disk, since_base: float | None) -> DiskVolume:
    """What one disk moves.

    Args:
        since_base: seconds since the start instant of the base point; None reads a full.
    """
    kappa = compression(job, machine)
    protected = protected_bytes(job, disk)
    if since_base is None:
        return DiskVolume(read_bytes(job, disk), protected / kappa)
    changed = changed_bytes(protected, machine, since_base)
    source = changed if job.tracking else read_bytes(job, disk)
    return DiskVolume(source, changed / kappa)


def effective_kind(job: Job, scheduled: Kind, has_full: bool) -> Kind:
    """The kind that a machine really runs (section 4); a due synthetic full is a "full" here."""
    if job.chain == "forever":
        kind: Kind = "incremental"
    elif job.chain == "full_only":
        kind = "full"
    elif job.chain == "differential" and scheduled == "incremental":
        kind = "differential"
    elif job.chain == "incremental" and scheduled == "differential":
        kind = "incremental"
    else:
        kind = scheduled
    return kind if has_full else "full"
