"""Facts that drive size and time: where they come from, and what a planner says instead."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date

from gambrel.core import plan as p

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
KEPT_WHEN_OVERRIDDEN = ("daily_change", "compress_ratio", "growth_per_year")
"""Facts of which the value from before the first edit is kept, so that it can be brought back."""


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


def checked(field: str, value: object) -> float | None:
    """A value for a fact. Raises FactError."""
    if field not in NUMBERS:
        raise FactError(field, value, "is no fact; there are " + ", ".join(NUMBERS))
    if value is None and field in MAY_BE_NONE:
        return None
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise FactError(field, value, "is not a number")
    least, most = NUMBERS[field]
    if not least <= value <= most:
        raise FactError(field, value, f"is not between {least:g} and {most:g}")
    return float(value)


def _value(machine: p.Machine, field: str) -> float | None:
    owner = machine.facts if field == "growth_per_year" else machine
    found: float | None = getattr(owner, field)
    return found


def _with_value(machine: p.Machine, field: str, value: float | None) -> p.Machine:
    if field == "growth_per_year":
        return replace(machine, facts=replace(machine.facts, growth_per_year=value or 0.0))
    if field == "daily_change":
        return replace(machine, daily_change=value or 0.0)
    return replace(machine, **{field: value})  # type: ignore[arg-type]


def stated(machine: p.Machine, field: str, value: float | None) -> p.Machine:
    """The machine with a fact as a planner states it; what was before is kept beside it."""
    if _value(machine, field) == value:
        return machine
    facts = machine.facts
    before = _value(machine, field)
    known = {name for name, _ in facts.reported}
    if field in KEPT_WHEN_OVERRIDDEN and field not in known and before is not None:
        facts = replace(facts, reported=(*facts.reported, (field, before)))
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
            if field not in KEPT_WHEN_OVERRIDDEN:
                raise FactError("revert", field, "is no fact that can be brought back")
        if self.leave_out is not None and not self.leave_out.reason.strip():
            raise FactError("reason", self.leave_out.reason, "is empty: say why")
        return replace(
            plan,
            machines=tuple(self._edited(m) if m.id in wanted else m for m in plan.machines),
        )

    def _edited(self, machine: p.Machine) -> p.Machine:
        for field, value in self.state:
            machine = stated(machine, field, value)
        for field in self.revert:
            machine = without_override(machine, field)
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
