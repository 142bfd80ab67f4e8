"""Facts that drive size and time: where they come from, and what a planner says instead."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Any, Literal

from gambrel.core.plan import objects as p

ROLE_DAILY_CHANGE = {
    "db": 0.04,
    "mail": 0.03,
    "files": 0.01,
    "web": 0.01,
    "app": 0.015,
    "directory": 0.01,
    "build": 0.06,
    "telemetry": 0.03,
}
"""Daily change by role of the application, where neither the source nor the planner says."""
DEFAULT_DAILY_CHANGE = 0.02

FactValue = float | str | None
"""A fact as it is kept beside what a planner states over it; a flag is 1 or 0."""


@dataclass(frozen=True, slots=True)
class Fact:
    """A fact that can be stated.

    Attributes:
        kind: of its values.
        least, most: of a number.
        may_be_none: whether it may be without a value.
        only_server: whether VMs do not have it.
    """

    kind: Literal["number", "whole", "flag", "text"] = "number"
    least: float = 0.0
    most: float = 1e9
    may_be_none: bool = False
    only_server: bool = False


MACHINE_FACTS = {
    "daily_change": Fact(most=10.0),
    "churn_ceiling": Fact(most=1.0),
    "compress_ratio": Fact(least=0.05, most=100.0),
    "growth_per_year": Fact(least=-1.0, most=100.0),
    "rpo_hours": Fact(least=0.01, most=10_000.0, may_be_none=True),
    "rto_hours": Fact(least=0.01, most=10_000.0, may_be_none=True),
    "memory_gib": Fact(least=0.01, most=1e6, may_be_none=True),
    "role": Fact("text"),
    "owner": Fact("text"),
    "quiesces": Fact("flag"),
    "nic_mbit_per_s": Fact(least=0.001, most=1e7, may_be_none=True, only_server=True),
    "agent_streams": Fact("whole", least=1, most=1000, only_server=True),
    "backup_network": Fact("text", may_be_none=True, only_server=True),
    "backup_nic_mbit_per_s": Fact(least=0.001, most=1e7, may_be_none=True, only_server=True),
}
DISK_FACTS = {
    "provisioned_gib": Fact(),
    "used_gib": Fact(),
    "swap_gib": Fact(),
    "holds_backups": Fact("flag"),
}
"""Facts of a disk. They are named "DISK/FACT", and "*/FACT" means every disk of the machine."""
EVERY_DISK = "*"
_KEPT_IN_FACTS = ("growth_per_year", "role", "owner", "quiesces")
"""Facts that a machine keeps in its `facts`."""
MOST_OF_A_TEXT = 60
Statement = Literal["stated", "learned"]
"""Where a value comes from that a planner states: from their own head, or from the ledger."""


class FactError(ValueError):
    """A fact that cannot be: the field, its value, the reason."""

    def __init__(self, field: str, value: object, reason: str) -> None:
        self.field = field
        self.value = value
        self.reason = reason
        super().__init__(f"{field}: {value!r} {reason}")


def daily_change_of(role: str, reported: float | None) -> tuple[float, p.ChangeSource]:
    """The daily change of a machine that is new, and where it comes from."""
    if reported is not None:
        return reported, "reported"
    if role in ROLE_DAILY_CHANGE:
        return ROLE_DAILY_CHANGE[role], "role"
    return DEFAULT_DAILY_CHANGE, "role"


def disk_fact(field: str) -> tuple[str, str] | None:
    """The disk and the fact that "DISK/FACT" names; None for a fact of the machine."""
    disk, slash, fact = field.rpartition("/")
    return (disk, fact) if slash and fact in DISK_FACTS else None


def fact_of(field: str, value: object = None) -> Fact:
    """The declaration of a fact by its name. Raises FactError where there is none."""
    of_disk = disk_fact(field)
    found = MACHINE_FACTS.get(field) if of_disk is None else DISK_FACTS[of_disk[1]]
    if found is None:
        every = ", ".join((*MACHINE_FACTS, *(f"{EVERY_DISK}/{name}" for name in DISK_FACTS)))
        raise FactError(field, value, f"is no fact; there are {every}")
    return found


def checked(field: str, value: object) -> FactValue:
    """A value for a fact. Raises FactError."""
    fact = fact_of(field, value)
    if value is None and fact.may_be_none:
        return None
    if fact.kind == "text":
        if not isinstance(value, str) or len(value) > MOST_OF_A_TEXT:
            raise FactError(field, value, f"is not a text of at most {MOST_OF_A_TEXT} characters")
        return value.strip() or (None if fact.may_be_none else "")
    if fact.kind == "flag":
        if not isinstance(value, bool):
            raise FactError(field, value, "is neither yes nor no")
        return float(value)
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise FactError(field, value, "is not a number")
    if not fact.least <= value <= fact.most:
        raise FactError(field, value, f"is not between {fact.least:g} and {fact.most:g}")
    if fact.kind == "whole" and value != int(value):
        raise FactError(field, value, "is not a whole number")
    return float(value)


def _value(machine: p.Machine, field: str) -> FactValue:
    of_disk = disk_fact(field)
    owner: object = machine.facts if field in _KEPT_IN_FACTS else machine
    name = field
    if of_disk is not None:
        owner, name = next(disk for disk in machine.disks if disk.id == of_disk[0]), of_disk[1]
    found = getattr(owner, name)
    return found if found is None or isinstance(found, str) else float(found)


def _as_kept(fact: Fact, value: FactValue) -> Any:
    """A value as the plan keeps it."""
    if fact.kind == "flag":
        return bool(value)
    if fact.kind == "whole":
        return int(value or 0)
    if fact.kind == "text":
        return value or (None if fact.may_be_none else "")
    return value if fact.may_be_none else value or 0.0


def _with_value(machine: p.Machine, field: str, value: FactValue) -> p.Machine:
    kept = _as_kept(fact_of(field), value)
    of_disk = disk_fact(field)
    if of_disk is not None:
        name, fact = of_disk
        disks = tuple(
            replace(disk, **{fact: kept}) if disk.id == name else disk for disk in machine.disks
        )
        return replace(machine, disks=disks)
    if field in _KEPT_IN_FACTS:
        return replace(machine, facts=replace(machine.facts, **{field: kept}))
    return replace(machine, **{field: kept})


def _named(machine: p.Machine, field: str) -> list[str]:
    """The fact, or the facts of all disks where it names every disk. Raises FactError."""
    of_disk = disk_fact(field)
    if fact_of(field).only_server and machine.kind != "server":
        raise FactError(field, machine.id, "is a VM: only physical servers have this")
    if of_disk is None:
        return [field]
    name, fact = of_disk
    disks = [disk.id for disk in machine.disks if name in (EVERY_DISK, disk.id)]
    if not disks and name != EVERY_DISK:
        raise FactError(field, name, f"is not a disk of {machine.id}")
    return [f"{disk}/{fact}" for disk in disks]


def stated(
    machine: p.Machine, field: str, value: FactValue, source: Statement = "stated"
) -> p.Machine:
    """The machine with a fact as a planner states it; what was before is kept beside it.

    Args:
        source: "learned" where it was taken over from what the ledger shows.
    """
    if _value(machine, field) == value:
        return machine
    facts = machine.facts
    if field not in {name for name, _ in facts.reported}:
        facts = replace(facts, reported=(*facts.reported, (field, _value(machine, field))))
    if field == "daily_change":
        facts = replace(facts, change_from=source)
    return _with_value(replace(machine, facts=facts), field, value)


def without_override(machine: p.Machine, field: str) -> p.Machine:
    """The machine with a fact as it was before a planner stated it."""
    reported = dict(machine.facts.reported)
    if field not in reported:
        return machine
    value = reported.pop(field)
    facts = replace(machine.facts, reported=tuple(reported.items()))
    if field == "daily_change":
        origin: p.ChangeSource = "reported" if facts.found else "stated"
        if value == daily_change_of(facts.role, None)[0]:
            origin = "role"
        facts = replace(facts, change_from=origin)
    return _with_value(replace(machine, facts=facts), field, value)


def overridden(machine: p.Machine, field: str) -> bool:
    """Whether a planner stated this fact over what was there before."""
    return any(name == field for name, _ in machine.facts.reported)


def sizes_kept(was: p.Machine, disks: tuple[p.Disk, ...]) -> tuple[tuple[p.Disk, ...], p.Facts]:
    """Disks as a source has them now, with the sizes that a planner stated kept over them.

    Returns:
        The disks, and the facts of the machine with what the source now says in place of what it
        said before. A statement about a disk that is gone is forgotten.
    """
    reported = dict(was.facts.reported)
    mine = {field: of for field in reported if (of := disk_fact(field)) is not None}
    stated_by_disk: dict[str, dict[str, Any]] = {}
    for field, (name, fact) in mine.items():
        disk = next((disk for disk in disks if disk.id == name), None)
        if disk is None:
            del reported[field]
            continue
        reported[field] = float(getattr(disk, fact))
        kept_value = _as_kept(DISK_FACTS[fact], _value(was, field))
        stated_by_disk.setdefault(name, {})[fact] = kept_value
    kept = tuple(_within(replace(d, **stated_by_disk.get(d.id, {}))) for d in disks)
    return kept, replace(was.facts, reported=tuple(reported.items()))


def _check_sizes(machine: p.Machine) -> None:
    for disk in machine.disks:
        if disk.used_gib > disk.provisioned_gib:
            reason = f"is more than the {disk.provisioned_gib:g} GiB provisioned, on {machine.id}"
            raise FactError(f"{disk.id}/used_gib", disk.used_gib, reason)
        if disk.swap_gib > disk.used_gib:
            reason = f"is more than the {disk.used_gib:g} GiB used, on {machine.id}"
            raise FactError(f"{disk.id}/swap_gib", disk.swap_gib, reason)


def _within(disk: p.Disk) -> p.Disk:
    used = min(disk.used_gib, disk.provisioned_gib)
    return replace(disk, used_gib=used, swap_gib=min(disk.swap_gib, used))


# --- edits ------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class FactEdit:
    """One edit of facts of some machines.

    Attributes:
        machines: ids.
        state: facts with the values that a planner states.
        revert: facts that are to be as they were before a planner stated them.
        snapshots: snapshots taken by hand that they have, in place of those known; None: as known.
        leave_out: set to say that they are not protected on purpose.
        take_in: set to say that they are to be protected again.
        source: where the values come from.
    """

    machines: tuple[str, ...]
    state: tuple[tuple[str, float | bool | str | None], ...] = ()
    revert: tuple[str, ...] = ()
    snapshots: tuple[p.UserSnapshot, ...] | None = None
    leave_out: p.LeftOut | None = None
    take_in: bool = False
    source: Statement = "stated"

    def apply(self, plan: p.Plan) -> p.Plan:
        """The plan with the edit. Raises FactError; nothing is changed then."""
        wanted = set(self.machines)
        unknown = sorted(wanted - set(plan.machine_by_id))
        if unknown:
            raise FactError("machines", unknown[0], "is not the id of a machine of this plan")
        state = [(field, checked(field, value)) for field, value in self.state]
        for field in self.revert:
            if field not in MACHINE_FACTS and disk_fact(field) is None:
                raise FactError("revert", field, "is no fact that can be brought back")
        if self.leave_out is not None and not self.leave_out.reason.strip():
            raise FactError("reason", self.leave_out.reason, "is empty: say why")
        return replace(
            plan,
            machines=tuple(self._edited(m, state) if m.id in wanted else m for m in plan.machines),
        )

    def _edited(self, machine: p.Machine, state: Sequence[tuple[str, FactValue]]) -> p.Machine:
        for field, value in state:
            for name in _named(machine, field):
                machine = stated(machine, name, value, self.source)
        for field in self.revert:
            for name in _named(machine, field):
                machine = without_override(machine, name)
        _check_sizes(machine)
        if self.snapshots is not None:
            machine = replace(machine, facts=replace(machine.facts, snapshots=self.snapshots))
        if self.leave_out is not None or self.take_in:
            facts = replace(machine.facts, left_out=self.leave_out)
            machine = replace(machine, facts=facts)
        return machine

    def describe(self) -> str:
        """What it does, in one line."""
        who = self.machines[0] if len(self.machines) == 1 else f"{len(self.machines)} machines"
        of = ", as learned" if self.source == "learned" else ""
        parts = [f"{_called(field)} {_said(field, value)}{of}" for field, value in self.state]
        parts += [f"{_called(field)} as before" for field in self.revert]
        if self.snapshots is not None:
            names = ", ".join(shot.name for shot in self.snapshots)
            parts.append(f"snapshots taken by hand: {names or 'none'}")
        if self.leave_out is not None:
            parts.append(f"left out on purpose: {self.leave_out.reason}")
        if self.take_in:
            parts.append("no longer left out on purpose")
        return f"{who}: {', '.join(parts)}"


_WORDS = {
    "daily_change": "daily change", "churn_ceiling": "change levels off at",
    "compress_ratio": "compress ratio", "growth_per_year": "growth a year",
    "rpo_hours": "RPO", "rto_hours": "RTO", "memory_gib": "memory", "role": "role",
    "owner": "owner",
    "quiesces": "can be quiesced:",
    "nic_mbit_per_s": "network", "agent_streams": "agent streams",
    "backup_network": "second NIC in network", "backup_nic_mbit_per_s": "second NIC",
    "provisioned_gib": "provisioned", "used_gib": "used", "swap_gib": "swap",
    "holds_backups": "holds backups:",
}  # fmt: skip
_UNITS = {
    "rpo_hours": " h", "rto_hours": " h", "memory_gib": " GiB", "nic_mbit_per_s": " Mbit/s",
    "backup_nic_mbit_per_s": " Mbit/s",
}  # fmt: skip


def _called(field: str) -> str:
    of_disk = disk_fact(field)
    if of_disk is None:
        return _WORDS.get(field, field)
    disk = "every disk" if of_disk[0] == EVERY_DISK else f"disk {of_disk[0]}"
    return f"{disk}, {_WORDS[of_disk[1]]}"


def _said(field: str, value: object) -> str:
    of_disk = disk_fact(field)
    name = field if of_disk is None else of_disk[1]
    if value is None or value == "":
        return "none"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, str):
        return value
    if name in ("daily_change", "churn_ceiling", "growth_per_year"):
        return f"{float(value) * 100:g} %"  # type: ignore[arg-type]
    return f"{value:g}" + (" GiB" if name.endswith("_gib") else _UNITS.get(name, ""))


def due_for_review(machines: Sequence[p.Machine], today: date) -> Iterable[p.Machine]:
    """Machines that are left out on purpose and should be looked at again by now."""
    for machine in machines:
        left_out = machine.facts.left_out
        if left_out is not None and left_out.review is not None and left_out.review <= today:
            yield machine
