"""Conditions by which jobs select machines and leave out disks (planning model, section 2)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Annotated, Any

from gambrel.core.plan import values as v
from gambrel.core.plan.kinds import Ident, MachineId
from gambrel.core.plan.shapes import Rows

TEXT_OPS = ("is", "is_not", "contains", "starts_with")
TEXT_FIELDS = ("name", "folder", "host", "cluster", "datastore", "site", "kind")
OPS_BY_FIELD: dict[str, tuple[str, ...]] = {
    **dict.fromkeys(TEXT_FIELDS, TEXT_OPS),
    "tag": ("has", "has_not"),
    "used_gib": ("at_least", "at_most"),
    "provisioned_gib": ("at_least", "at_most"),
    "powered_on": ("is",),
}
"""What can be said of a machine."""
DISK_OPS_BY_FIELD: dict[str, tuple[str, ...]] = {
    "disk": ("is", "contains", "starts_with"),
    "datastore": ("is", "contains", "starts_with"),
    "only_swap": ("is",),
    "holds_backups": ("is",),
    "used_gib": ("at_least", "at_most"),
}
"""What can be said of a disk."""
_FLAGS = ("powered_on", "only_swap", "holds_backups")
_SIZES = ("used_gib", "provisioned_gib")


@dataclass(frozen=True, slots=True)
class Condition:
    """One test of a rule; section 2 says which operators go with which field."""

    field: str
    op: str
    value: str | float | bool


def _kind_of(field: str) -> v.Value:
    if field in _SIZES:
        return v.AMOUNT
    return v.FLAG if field in _FLAGS else v.IDENT


def _condition(ops: Mapping[str, tuple[str, ...]]) -> v.Value:
    """A condition whose field decides which operators and values it takes."""
    keys = ("field", "op", "value")

    def read(reading: v.Reading, path: str, raw: Any) -> Any:
        if not isinstance(raw, dict):
            return reading.problem(path, raw, "is not an object")
        field = raw.get("field")
        if not isinstance(field, str) or field not in ops:
            return reading.problem(f"{path}.field", field, "is none of " + ", ".join(ops))
        for key in raw:
            if key not in keys:
                reading.problem(f"{path}.{key}", raw[key], "is not a key that is known here")
        found = [field]
        for key, value in (("op", v.choice(*ops[field])), ("value", _kind_of(field))):
            found.append(
                value.read(reading, f"{path}.{key}", raw[key])
                if key in raw
                else reading.problem(f"{path}.{key}", None, "is required and missing")
            )
        return v.MISSING if v.MISSING in found else Condition(*found)

    def write(condition: Condition) -> dict[str, Any]:
        value = _kind_of(condition.field).write(condition.value)
        return {"field": condition.field, "op": condition.op, "value": value}

    schema = {
        "oneOf": [
            {
                "type": "object",
                "properties": {
                    "field": {"const": field},
                    "op": {"enum": list(allowed)},
                    "value": _kind_of(field).schema,
                },
                "required": list(keys),
                "additionalProperties": False,
            }
            for field, allowed in ops.items()
        ]
    }
    return v.Value(read, write, schema)


CONDITION = _condition(OPS_BY_FIELD)
DISK_CONDITION = _condition(DISK_OPS_BY_FIELD)

MachineCondition = Annotated[Condition, CONDITION]
DiskCondition = Annotated[Condition, DISK_CONDITION]


Rule = Annotated[tuple[MachineCondition, ...], Rows(least=1)]
"""Conditions that must all hold for a machine."""


@dataclass(frozen=True, slots=True)
class Selection:
    """Which machines a job protects: listed ones, those that match any rule, minus exclusions."""

    ids: Annotated[tuple[MachineId, ...], Rows(distinct=True)] = ()
    rules: tuple[Rule, ...] = ()
    exclude: Annotated[tuple[MachineId, ...], Rows(distinct=True)] = ()


@dataclass(frozen=True, slots=True)
class ExclusionReason:
    """Why a job leaves a machine out by name, and when to look at that again."""

    machine: Ident
    reason: Ident
    review: date | None = None


@dataclass(frozen=True, slots=True)
class ExcludedPath:
    """A path inside a machine that a job leaves out, and how much of a disk that is."""

    machine: MachineId
    disk: Ident
    path: Ident
    gib: Annotated[float, v.AMOUNT]
