"""How much a run moves (section 4)."""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import exp

from gambrel.core.constants import PREPARE_SERVER_S, PREPARE_VM_S
from gambrel.core.model.selection import text_holds
from gambrel.core.plan.objects import Condition, Disk, Job, Kind, Machine, Plan
from gambrel.core.units import DAY, GIB, YEAR


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


def leaves_out(rule: Condition, disk: Disk) -> bool:
    """Whether a rule on disks holds for a disk."""
    if rule.field == "only_swap":
        return (disk.swap_gib > 0 and disk.swap_gib >= disk.used_gib) is rule.value
    if rule.field == "holds_backups":
        return disk.holds_backups is rule.value
    if rule.field == "used_gib":
        assert not isinstance(rule.value, str)
        return disk.used_gib >= rule.value if rule.op == "at_least" else disk.used_gib <= rule.value
    text = disk.id if rule.field == "disk" else disk.datastore
    return text is not None and text_holds(rule.op, str(rule.value), [text])


def protected_disks(job: Job, machine: Machine) -> list[Disk]:
    """The disks of a machine that a job does not leave out, by name or by a rule."""
    if not job.exclude_disks and not job.exclude_disk_rules:
        return list(machine.disks)
    left_out = {disk for owner, disk in job.exclude_disks if owner == machine.id}
    return [
        disk
        for disk in machine.disks
        if disk.id not in left_out
        and not any(leaves_out(rule, disk) for rule in job.exclude_disk_rules)
    ]


def disks_at(job: Job, machine: Machine, sizes_as_of: float | None, instant: float) -> list[Disk]:
    """The disks of a machine that a job does not leave out, as large as they are at an instant.

    Which disks a job leaves out is a matter of the sizes that the plan names.
    """
    factor = growth_factor(machine, sizes_as_of, instant)
    return [grown(disk, factor) for disk in protected_disks(job, machine)]


def _left_out_gib(job: Job, machine: Machine, disk: Disk) -> float:
    """What of a disk is neither read nor restored: swap, and paths that are left out."""
    swap = disk.swap_gib if job.skip_swap else 0.0
    if not job.exclude_paths:
        return swap
    return swap + sum(
        path.gib
        for path in job.exclude_paths
        if path.machine == machine.id and path.disk == disk.id
    )


def growth_factor(machine: Machine, sizes_as_of: float | None, instant: float) -> float:
    """By what the disks of a machine have grown at an instant: (1 + g)^(years since the sizes).

    Args:
        sizes_as_of: `State.sizes_as_of`. Before it, and where nobody stated it, the factor is 1.
    """
    growth = machine.facts.growth_per_year
    if growth == 0 or sizes_as_of is None or instant <= sizes_as_of:
        return 1.0
    return float((1.0 + growth) ** ((instant - sizes_as_of) / YEAR))


def grown(disk: Disk, factor: float) -> Disk:
    """A disk after its used space has grown; its provisioned space grows alike, its swap stays."""
    if factor == 1.0:
        return disk
    return replace(
        disk,
        used_gib=disk.used_gib * factor,
        provisioned_gib=disk.provisioned_gib * factor,
    )


def left_out_bytes(job: Job, machine: Machine, disk: Disk) -> float:
    """What of a disk is neither read nor restored, however large the disk grows."""
    return _left_out_gib(job, machine, disk) * GIB


def protected_bytes(job: Job, machine: Machine, disk: Disk) -> float:
    """U: the used bytes that a restore would need."""
    return max(0.0, disk.used_gib - _left_out_gib(job, machine, disk)) * GIB


def read_bytes(job: Job, machine: Machine, disk: Disk) -> float:
    """B: the bytes that reading the whole disk takes."""
    if job.skip_unused:
        return protected_bytes(job, machine, disk)
    return max(0.0, disk.provisioned_gib - _left_out_gib(job, machine, disk)) * GIB


def cannot_quiesce(job: Job, machine: Machine) -> bool:
    """Whether a job asks a machine to quiesce that is known not to."""
    return job.quiesce_s > 0 and not machine.facts.quiesces


def refuses(job: Job, machine: Machine) -> bool:
    """Whether a machine is given up once it turns out that it does not quiesce."""
    return cannot_quiesce(job, machine) and job.if_quiesce_fails == "leave out"


def stands_still(job: Job, machine: Machine) -> bool:
    """Whether a machine is paused or stopped while it prepares."""
    if machine.kind == "server":
        return False
    fallen_back = cannot_quiesce(job, machine) and job.if_quiesce_fails == "standstill"
    return job.standstill != "none" or fallen_back


def preparation_s(job: Job, machine: Machine) -> float:
    """Seconds from a machine's start until its first disk moves."""
    base = PREPARE_SERVER_S if machine.kind == "server" else PREPARE_VM_S
    halted = job.standstill_s if stands_still(job, machine) else 0.0
    return base + job.guest_before_s + job.quiesce_s + halted


def compression(job: Job, machine: Machine) -> float:
    """κ: payload bytes per wire byte."""
    return machine.compress_ratio if job.compress else 1.0


def changed_bytes(protected: float, machine: Machine, seconds: float) -> float:
    """Δ: the bytes changed within `seconds`, levelling off at U·h (section 4)."""
    return protected * changed_share(machine.daily_change, machine.churn_ceiling, seconds / DAY)


def changed_share(change: float, ceiling: float, days: float) -> float:
    """The share of what is in use that has changed after some days, levelling off at `ceiling`.

    h · (1 - exp(-c · t / h)) of section 4, with c the daily change.
    """
    if change == 0 or ceiling == 0:
        return 0.0
    return ceiling * (1.0 - exp(-change * days / ceiling))


def disk_volume(job: Job, machine: Machine, disk: Disk, since_base: float | None) -> DiskVolume:
    """What one disk moves.

    Args:
        since_base: seconds since the start instant of the base point; None reads a full.
    """
    kappa = compression(job, machine)
    protected = protected_bytes(job, machine, disk)
    if since_base is None:
        return DiskVolume(read_bytes(job, machine, disk), protected / kappa)
    changed = changed_bytes(protected, machine, since_base)
    source = changed if job.tracking else read_bytes(job, machine, disk)
    return DiskVolume(source, changed / kappa)


def makes_synthetic_fulls(plan: Plan, job: Job) -> bool:
    """Whether a job's fulls are made in its repository: not in one that is sequential."""
    return job.synthetic_full and not plan.repository_by_id[job.repository].sequential


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
