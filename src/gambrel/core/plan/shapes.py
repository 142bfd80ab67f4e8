"""From an annotated dataclass to the reading, writing and description of a JSON object.

The dataclasses of this package ARE the declaration of the plan file: a field's annotation says of
which kind a key is, in which range, and in which words the screens speak of it.

    read_mib_per_s: Annotated[Capacity | None, Key("Read rate", null="no limit")] = None

Everything else follows from it: reading and writing (here), the JSON Schema (`json_schema`), the
fields of the item forms (`web/src/api/keys.json`), and what the store keeps (`store.plan_tables`).
"""

from __future__ import annotations

import dataclasses
import types
from collections.abc import Iterable, Mapping
from datetime import date, datetime, time
from functools import cache, cached_property
from typing import Annotated, Any, Literal, Union, get_args, get_origin, get_type_hints

from gambrel.core.plan.values import (
    DATE,
    FLAG,
    LOCAL,
    MISSING,
    TEXT,
    TIME,
    Reading,
    Value,
    choice,
    many,
    optional,
    pair,
)

UNITS = (
    ("_mib_per_s", "MiB/s"),
    ("_mbit_per_s", "Mbit/s"),
    ("_gib", "GiB"),
    ("_hours", "h"),
    ("_days", "days"),
    ("_min", "min"),
    ("_s", "s"),
)
"""A key names its unit at its end; the screens show this."""


@dataclasses.dataclass(frozen=True, slots=True)
class Key:
    """What a field's annotation says of its key, beside the kind of its value.

    Attributes:
        label: what the screens call it.
        form: whether a plain form has a field for it; False where it has an editor of its own.
        unit: where its name does not end with one.
        null: what no value means, as "no limit".
        percent: whether screens show a share as a percentage.
        only: the variant of the object that has it (`Machine.variants`); None: all.
        required: whether it must be there although the dataclass has a default, as a key that
            only one variant has.
        otherwise: the key whose value it takes where it is left out.
        since: the format that brought it.
    """

    label: str = ""
    form: bool = True
    unit: str = ""
    null: str = ""
    percent: bool = False
    only: str | None = None
    required: bool = False
    otherwise: str | None = None
    since: str = "gambrel-plan/1"


@dataclasses.dataclass(frozen=True, slots=True)
class Rows:
    """Of a list: whether its entries must differ, and how many there must be."""

    distinct: bool = False
    least: int = 0


_KEYS = {"from_time": "from", "to_time": "to"}
"""Keys that no field can be called by: `from` is a reserved word of Python."""


def key_of(name: str) -> str:
    """The key in the file of a field."""
    return _KEYS.get(name, name)


def unit_of(key: str, declared: Key) -> str:
    """The unit of a key's value, as the screens show it; "" for none."""
    found = next((unit for ending, unit in UNITS if f"_{key}".endswith(ending)), "")
    return declared.unit or found


@dataclasses.dataclass(frozen=True)
class Shape:
    """A JSON object that is read into a dataclass; defaults are those of the dataclass.

    Attributes:
        values: by field, in the order of the file.
        declared: label, unit, variant and the like of each key, by field.
        foreign: keys that only another variant has, with the reason why they are refused.
    """

    target: type
    values: Mapping[str, Value]
    declared: Mapping[str, Key]
    defaults: Mapping[str, Any]
    foreign: Mapping[str, str]
    schema_name: str

    @property
    def keys(self) -> list[str]:
        """The names of its fields, in the order of the file."""
        return list(self.values)

    @cached_property
    def _known(self) -> frozenset[str]:
        """The keys of the file."""
        return frozenset(map(key_of, self.values))

    def read(self, reading: Reading, path: str, raw: Any) -> Any:
        """The object that a decoded JSON value describes, or `MISSING` with problems noted."""
        if not isinstance(raw, dict):
            return reading.problem(path, raw, "is not an object")
        prefix = f"{path}." if path else ""
        for key in raw:
            if key not in self._known:
                reason = self.foreign.get(key, "is not a key that is known here")
                reading.problem(f"{prefix}{key}", raw[key], reason)
        found: dict[str, Any] = {}
        for name, value in self.values.items():
            key, declared = key_of(name), self.declared[name]
            if key in raw:
                found[name] = value.read(reading, f"{prefix}{key}", raw[key])
            elif declared.otherwise is not None and declared.otherwise in raw:
                found[name] = raw[declared.otherwise]
            elif name in self.defaults and not declared.required:
                found[name] = self.defaults[name]
            else:
                found[name] = reading.problem(f"{prefix}{key}", None, "is required and missing")
        if any(value is MISSING for value in found.values()):
            return MISSING
        made = self.target(**found)
        wrong = list(made.problems()) if hasattr(made, "problems") else []
        for key, value, reason in wrong:
            reading.problem(f"{prefix}{key}", value, reason)
        return MISSING if wrong else made

    def write(self, item: Any, *, whole: bool = False) -> dict[str, Any]:
        """The object as JSON values; those at their default are left out unless `whole`."""
        written: dict[str, Any] = {}
        for name, value in self.values.items():
            current, declared = getattr(item, name), self.declared[name]
            if not whole:
                if not declared.required and name in self.defaults:
                    if current == self.defaults[name]:
                        continue
                elif declared.otherwise and current == getattr(item, declared.otherwise):
                    continue
            written[key_of(name)] = value.write(current)
        return written

    def value(self) -> Value:
        """The object as a value of another."""
        return Value(self.read, self.write, {"$ref": f"#/$defs/{self.schema_name}"})


# --- from annotations -------------------------------------------------------------------------


def shape_of(target: Any, variant: str | None = None) -> Shape:
    """The shape of an annotated dataclass; of one of its variants where it has some."""
    return _shape(target, variant)


@cache
def _shape(target: Any, variant: str | None) -> Shape:
    hints = get_type_hints(target, include_extras=True)
    variants: Mapping[str, str] = getattr(target, "variants", {})
    values: dict[str, Value] = {}
    declared: dict[str, Key] = {}
    defaults: dict[str, Any] = {}
    foreign: dict[str, str] = dict(getattr(target, "foreign_keys", {}))
    for field in dataclasses.fields(target):
        hint = hints[field.name]
        key = _marked(hint, Key) or Key()
        if variant is not None and key.only not in (None, variant):
            foreign[key_of(field.name)] = (
                f"is a key of {variants[key.only or '']}; this is {variants[variant]}"
            )
            continue
        declared[field.name] = key
        values[field.name] = value_of(hint, variant, required=key.required)
        if field.default is not dataclasses.MISSING:
            defaults[field.name] = field.default
        elif field.default_factory is not dataclasses.MISSING:
            defaults[field.name] = field.default_factory()
    name = target.__name__ if variant is None else f"{target.__name__}_{variant}"
    return Shape(target, values, declared, defaults, foreign, name)


def _marked(hint: Any, kind: type) -> Any:
    """The mark of a kind in an annotation."""
    if get_origin(hint) is Annotated:
        return next((mark for mark in get_args(hint)[1:] if isinstance(mark, kind)), None)
    return None


_PLAIN: dict[Any, Value] = {
    str: TEXT, bool: FLAG, date: DATE, datetime: LOCAL, time: TIME,
}  # fmt: skip


def value_of(hint: Any, variant: str | None = None, *, required: bool = False) -> Value:
    """How a value of an annotated type is read and written."""
    value, rows = _marked(hint, Value), _marked(hint, Rows) or Rows()
    if value is not None:
        return value  # type: ignore[no-any-return]
    if get_origin(hint) is Annotated:
        hint = get_args(hint)[0]
    origin, inner = get_origin(hint), get_args(hint)
    if origin in (Union, types.UnionType):
        kinds = [kind for kind in inner if kind is not type(None)]
        found = (
            value_of(kinds[0], variant) if len(kinds) == 1 and rows == Rows()
            else _list(kinds[0], variant, rows) if len(kinds) == 1
            else _one_of(kinds)
        )  # fmt: skip
        return found if required or len(kinds) == len(inner) else optional(found)
    if origin is tuple:
        return _list(hint, variant, rows)
    if origin is Literal:
        return choice(*inner)
    if dataclasses.is_dataclass(hint) and isinstance(hint, type):
        return _object(hint, variant)
    return _PLAIN[hint]


def _list(hint: Any, variant: str | None, rows: Rows) -> Value:
    inner = get_args(hint)
    if inner[-1] is Ellipsis:
        return many(value_of(inner[0], variant), distinct=rows.distinct, least=rows.least)
    return pair(value_of(inner[0], variant), value_of(inner[1], variant))


def _object(target: type, variant: str | None) -> Value:
    """An object; where its class has variants and none is chosen yet, its own key chooses."""
    variants: Mapping[str, str] = getattr(target, "variants", {})
    told_by: str | None = getattr(target, "variant_told_by", None)
    if not variants or (variant is None and told_by is None):
        return shape_of(target).value()
    if variant is not None or told_by is None:
        return shape_of(target, variant).value()
    first = next(iter(variants))

    def read(reading: Reading, path: str, raw: Any) -> Any:
        said = raw.get(told_by) if isinstance(raw, dict) else None
        chosen = said if isinstance(said, str) and said in variants else first
        return shape_of(target, chosen).read(reading, path, raw)

    return Value(
        read,
        lambda item: shape_of(target, getattr(item, told_by)).write(item),
        {"oneOf": [shape_of(target, name).value().schema for name in variants]},
    )


def _one_of(kinds: Iterable[type]) -> Value:
    """One of several objects: the first that has a key which tells it, else the one without."""
    shapes = [shape_of(kind) for kind in kinds]
    marks = {shape.target: getattr(shape.target, "told_by", None) for shape in shapes}
    plain = next(shape for shape in shapes if marks[shape.target] is None)

    def read(reading: Reading, path: str, raw: Any) -> Any:
        told = raw if isinstance(raw, dict) else {}
        chosen = next((shape for shape in shapes if marks[shape.target] in told), plain)
        return chosen.read(reading, path, raw)

    return Value(
        read,
        lambda item: shape_of(type(item)).write(item),
        {"oneOf": [shape.value().schema for shape in shapes]},
    )


# --- descriptions -----------------------------------------------------------------------------


def json_schema(shape: Shape) -> dict[str, Any]:
    """A shape in JSON Schema (draft 2020-12); `x-unit` is the unit that screens show."""
    properties: dict[str, Any] = {}
    for name, value in shape.values.items():
        declared = shape.declared[name]
        said: dict[str, Any] = dict(value.schema)
        if declared.label:
            said["title"] = declared.label
        if unit := unit_of(name, declared):
            said["x-unit"] = unit
        if declared.null:
            said["x-null"] = declared.null
        if declared.percent:
            said["x-percent"] = True
        if name in shape.defaults and not declared.required:
            said["default"] = value.write(shape.defaults[name])
        properties[key_of(name)] = said
    required = [
        key_of(name)
        for name in shape.values
        if shape.declared[name].required
        or (name not in shape.defaults and shape.declared[name].otherwise is None)
    ]
    return {
        "type": "object",
        "properties": properties,
        "required": required,
        "additionalProperties": False,
    }


@dataclasses.dataclass(frozen=True, slots=True)
class FormField:
    """A key as a field of a plain form.

    Attributes:
        kind: of the field: number, whole, text, flag, choice, ids, volumes, tiers.
        empty: what an empty field means; None where it may not be empty.
        options: what can be chosen.
        of: of ids, the list that they are of.
    """

    key: str
    label: str
    kind: str
    unit: str
    empty: str | None
    options: tuple[str, ...]
    of: str | None
    percent: bool


def form_fields(shape: Shape) -> list[FormField]:
    """The keys of an object that a plain form edits, in the order of the file."""
    found = []
    for name, value in shape.values.items():
        declared = shape.declared[name]
        if not declared.label or not declared.form:
            continue
        schema = value.schema
        nullable = "anyOf" in schema
        if nullable:
            schema = schema["anyOf"][0]
        items = schema.get("items", {})
        if "enum" in schema:
            kind = "choice"
        elif schema["type"] == "array":
            kind = "ids" if "x-list" in items else _kind_of_rows(items)
        else:
            kind = _FIELD_KINDS[schema["type"]]
        found.append(
            FormField(
                key_of(name),
                declared.label,
                kind,
                unit_of(name, declared) if not declared.percent else "%",
                (declared.null or "none") if nullable else None,
                tuple(schema.get("enum", ())),
                items.get("x-list"),
                declared.percent,
            )
        )
    return found


def _kind_of_rows(items: Mapping[str, Any]) -> str:
    """The kind of a field that holds a list of objects."""
    return {"Tier": "tiers"}.get(str(items.get("$ref", "")).rpartition("/")[2], "volumes")


_FIELD_KINDS = {"number": "number", "integer": "whole", "boolean": "flag", "string": "text"}
