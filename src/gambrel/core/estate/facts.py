"""Facts that drive size and time: where they come from, and what a planner says instead."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date

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

NUMBERS = {
    "daily_change": (0.0, 10.0),
    "churn_ceiling": (0.0, 1.0),
    "compress_ratio": (0.05, 100.0),
    "growth_per_year": (-1.0, 100.0),
    "rpo_hours": (0.01, 10_000.0),
    "rto_hours": (0.01, 10_000.0),
}
"""Facts that can be edited, with their smallest and largest value."""
MAY_BE_NONE = {"rpo_hours", "rto_hours"}
DISK_NUMBERS = {
    "provisioned_gib": (0.0, 1e9),
    "used_gib": (0.0, 1e9),
    "swap_gib": (0.0, 1e9),
}
"""Facts of a disk. They are named "DISK/FACT", and "*/FACT" means every disk of the machine."""
EVERY_DISK = "*"


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
    return (disk, fact) if slash and fact in DISK_NUMBERS else None


def checked(field: str, value: object) -> float | None:
    """A value for a fact. Raises FactError."""
    of_disk = disk_fact(field)
    known = NUMBERS if of_disk is None else DISK_NUMBERS
    fact = field if of_disk is None else of_disk[1]
    if fact not in known:
        every = ", ".join((*NUMBERS, *(f"{EVERY_DISK}/{name}" for name in DISK_NUMBERS)))
        raise FactError(field, value, f"is no fact; there are {every}")
    if value is None and field in MAY_BE_NONE:
        return None
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise FactError(field, value, "is not a number")
    least, most = known[fact]
    if not least <= value <= most:
        raise FactError(field, value, f"is not between {least:g} and {most:g}")
    return float(value)


def _value(machine: p.Machine, field: str) -> float | None:
    of_disk = disk_fact(field)
    if of_disk is not None:
        disk = next(disk for disk in machine.disks if disk.id == of_disk[0])
        amount: float = getattr(disk, of_disk[1])
        return amount
    owner = machine.facts if field == "growth_per_year" else machine
    found: float | None = getattr(owner, field)
    return found


def _with_value(machine: p.Machine, field: str, value: float | None) -> p.Machine:
    of_disk = disk_fact(field)
    if of_disk is not None:
        name, fact = of_disk
        disks = tuple(
            replace(disk, **{fact: value or 0.0}) if disk.id == name else disk  # type: ignore[arg-type]
            for disk in machine.disks
        )
        return replace(machine, disks=disks)
    if field == "growth_per_year":
        return replace(machine, facts=replace(machine.facts, growth_per_year=value or 0.0))
    if field == "daily_change":
        return replace(machine, daily_change=value or 0.0)
    return replace(machine, **{field: value})  # type: ignore[arg-type]


def _named(machine: p.Machine, field: str) -> list[str]:
    """The fact, or the facts of all disks where it names every disk. Raises FactError."""
    of_disk = disk_fact(field)
    if of_disk is None:
        return [field]
    name, fact = of_disk
    disks = [disk.id for disk in machine.disks if name in (EVERY_DISK, disk.id)]
    if not disks and name != EVERY_DISK:
        raise FactError(field, name, f"is not a disk of {machine.id}")
    return [f"{disk}/{fact}" for disk in disks]


def stated(machine: p.Machine, field: str, value: float | None) -> p.Machine:
    """The machine with a fact as a planner states it; what was before is kept beside it."""
    if _value(machine, field) == value:
        return machine
    facts = machine.facts
    if field not in {name for name, _ in facts.reported}:
        facts = replace(facts, reported=(*facts.reported, (field, _value(machine, field))))
    if field == "daily_change":
        facts = replace(facts, change_from="stated")
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
    stated_by_disk: dict[str, dict[str, float]] = {}
    for field, (name, fact) in mine.items():
        disk = next((disk for disk in disks if disk.id == name), None)
        if disk is None:
            del reported[field]
            continue
        value = _value(was, field)
        reported[field] = getattr(disk, fact)
        stated_by_disk.setdefault(name, {})[fact] = value or 0.0
    kept = tuple(_within(replace(d, **stated_by_disk.get(d.id, {}))) for d in disks)  # type: ignore[arg-type]
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
        leave_out: set to say that they are not protected on purpose.
        take_in: set to say that they are to be protected again.
    """

    machines: tuple[str, ...]
    state: tuple[tuple[str, float | None], ...] = ()
    revert: tuple[str, ...] = ()
    leave_out: p.LeftOut | None = None
    take_in: bool = False

    def apply(self, plan: p.Plan) -> p.Plan:
        """The plan with the edit. Raises FactError; nothing is changed then."""
        wanted = set(self.machines)
        unknown = sorted(wanted - set(plan.machine_by_id))
        if unknown:
            raise FactError("machines", unknown[0], "is not the id of a machine of this plan")
        for field, value in self.state:
            checked(field, value)
        for field in self.revert:
            of_disk = disk_fact(field)
            if field not in NUMBERS and of_disk is None:
                raise FactError("revert", field, "is no fact that can be brought back")
        if self.leave_out is not None and not self.leave_out.reason.strip():
            raise FactError("reason", self.leave_out.reason, "is empty: say why")
        return replace(
            plan,
            machines=tuple(self._edited(m) if m.id in wanted else m for m in plan.machines),
        )

    def _edited(self, machine: p.Machine) -> p.Machine:
        for field, value in self.state:
            for name in _named(machine, field):
                machine = stated(machine, name, value)
        for field in self.revert:
            for name in _named(machine, field):
                machine = without_override(machine, name)
        _check_sizes(machine)
        if self.leave_out is not None or self.take_in:
            facts = replace(machine.facts, left_out=self.leave_out)
            machine = replace(machine, facts=facts)
        return machine

    def describe(self) -> str:
        """What it does, in one line."""
        who = self.machines[0] if len(self.machines) == 1 else f"{len(self.machines)} machines"
        parts = [f"{field} {'none' if v is None else format(v, 'g')}" for field, v in self.state]
        parts += [f"{field} as before" for field in self.revert]
        if self.leave_out is not None:
            parts.append(f"left out on purpose: {self.leave_out.reason}")
        if self.take_in:
            parts.append("no longer left out on purpose")
        return f"{who}: {', '.join(parts)}"


def due_for_review(machines: Sequence[p.Machine], today: date) -> Iterable[p.Machine]:
    """Machines that are left out on purpose and should be looked at again by now."""
    for machine in machines:
        left_out = machine.facts.left_out
        if left_out is not None and left_out.review is not None and left_out.review <= today:
            yield machine
