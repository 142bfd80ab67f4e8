"""Single values of a plan file: how each kind is read, checked, written and described.

Reading collects all problems before it gives up, so that a planner can mend a file in one go.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, time
from typing import Any
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from gambrel.core.plan.instants import format_exact_instant, parse_instant
from gambrel.core.plan.recurrence_rules import EARLIEST_YEAR, LATEST_YEAR
from gambrel.core.plan.text_limits import LARGEST, MOST_CHARACTERS, MOST_OF_AN_ID, text_problem

WEEKDAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
"""Names of the days in a plan file, at the index that `date.weekday()` gives."""


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing that is wrong with a plan file: where, the value there, and why it is refused."""

    path: str
    value: Any
    reason: str

    def __str__(self) -> str:
        shown = repr(self.value)
        shown = shown if len(shown) <= 80 else shown[:77] + "..."
        return f"{self.path}: {shown} {self.reason}"


class PlanError(ValueError):
    """A plan file that breaks the format. `problems` names every place."""

    def __init__(self, problems: Sequence[Problem]) -> None:
        self.problems = tuple(problems)
        super().__init__("; ".join(str(problem) for problem in self.problems))


MISSING: Any = object()
"""Stands for a value that could not be read; it never leaves this package."""


class Reading:
    """One reading of a file: the problems found, and the references that are still to check."""

    def __init__(self) -> None:
        self.problems: list[Problem] = []
        self.references: list[tuple[str, str, str]] = []

    def problem(self, path: str, value: Any, reason: str) -> Any:
        """Note a problem; returns what stands for a value that could not be read."""
        self.problems.append(Problem(path, value, reason))
        return MISSING

    def check_references(self, known: Mapping[str, Any]) -> None:
        """Note every reference to an id that its list does not have."""
        for path, value, target in self.references:
            if value not in known[target]:
                noun = ONE_OF.get(target, target)
                self.problem(path, value, f"is no {noun} of this plan")

    def raise_problems(self) -> None:
        """Raises PlanError where there are problems."""
        if self.problems:
            raise PlanError(self.problems)


@dataclass(frozen=True, slots=True, eq=False)
class Value:
    """How one JSON value is read and written. Compared by identity, to stand in annotations.

    Attributes:
        schema: the same in JSON Schema (draft 2020-12). `x-list` names the list that an id is of.
    """

    read: Callable[[Reading, str, Any], Any]
    write: Callable[[Any], Any] = lambda value: value
    schema: Mapping[str, Any] = field(default_factory=dict)


# --- texts and flags --------------------------------------------------------------------------


def _checked_text(reading: Reading, path: str, value: str, most: int) -> Any:
    reason = text_problem(value, most)
    return value if reason is None else reading.problem(path, ascii(value[:40]), reason)


def _read_text(reading: Reading, path: str, value: Any) -> Any:
    if not isinstance(value, str):
        return reading.problem(path, value, "is not a text")
    return _checked_text(reading, path, value, MOST_CHARACTERS)


def _read_filled_text(reading: Reading, path: str, value: Any) -> Any:
    if not isinstance(value, str) or not value:
        return reading.problem(path, value, "is not a text with at least one character")
    return _checked_text(reading, path, value, MOST_OF_AN_ID)


def _read_flag(reading: Reading, path: str, value: Any) -> Any:
    if not isinstance(value, bool):
        return reading.problem(path, value, "is neither true nor false")
    return value


def _read_zone(reading: Reading, path: str, value: Any) -> Any:
    if isinstance(value, str) and value:
        try:
            ZoneInfo(value)
            return value
        except (ZoneInfoNotFoundError, ValueError, OSError):
            pass
    return reading.problem(path, value, "is not a known IANA time zone like Europe/Dublin")


def choice(*words: str) -> Value:
    """One of some words."""

    def read(reading: Reading, path: str, value: Any) -> Any:
        if value not in words or not isinstance(value, str):
            return reading.problem(path, value, "is none of " + ", ".join(words))
        return value

    return Value(read, schema={"enum": list(words)})


# --- numbers ----------------------------------------------------------------------------------


def number(
    *,
    above: float | None = None,
    least: float | None = None,
    most: float = LARGEST,
    whole: bool = False,
) -> Value:
    """A number in a range; `above` excludes its bound, `least` and `most` include theirs."""

    def read(reading: Reading, path: str, value: Any) -> Any:
        if isinstance(value, bool) or not isinstance(value, int | float):
            return reading.problem(path, value, "is not a number")
        try:
            found = float(value)
        except OverflowError:
            found = math.inf
        if not math.isfinite(found):
            return reading.problem(path, value, "is not a finite number")
        if whole and not found.is_integer():
            return reading.problem(path, value, "is not a whole number")
        if above is not None and not found > above:
            return reading.problem(path, value, f"is not above {above:g}")
        if least is not None and found < least:
            return reading.problem(path, value, f"is below {least:g}")
        if found > most:
            return reading.problem(path, value, f"is above {most:g}")
        return int(found) if whole else found

    schema: dict[str, Any] = {"type": "integer" if whole else "number"}
    if above is not None:
        schema["exclusiveMinimum"] = above
    if least is not None:
        schema["minimum"] = least
    if most != LARGEST:
        schema["maximum"] = most
    return Value(read, write_number, schema)


def write_number(value: float) -> float | int:
    """A number without a fraction where it has none."""
    return int(value) if float(value).is_integer() and abs(value) < 2**53 else value


# --- dates and times --------------------------------------------------------------------------


def _pattern(form: str, example: str, parse: Callable[[str], Any], write: Any) -> Value:
    compiled = re.compile(form, re.ASCII)

    def read(reading: Reading, path: str, value: Any) -> Any:
        if not isinstance(value, str) or not compiled.fullmatch(value):
            return reading.problem(path, value, f"is not written like {example}")
        try:
            found = parse(value)
        except ValueError:
            return reading.problem(path, value, "does not exist")
        if isinstance(found, date) and not EARLIEST_YEAR <= found.year <= LATEST_YEAR:
            reason = f"is not between the years {EARLIEST_YEAR} and {LATEST_YEAR}"
            return reading.problem(path, value, reason)
        return found

    pattern = "^" + form.replace(r"\d", "[0-9]") + "$"
    return Value(read, write, {"type": "string", "pattern": pattern, "examples": [example]})


def _read_instant(reading: Reading, path: str, value: Any) -> Any:
    try:
        found = parse_instant(value if isinstance(value, str) else "")
    except ValueError:
        return reading.problem(path, value, "is not an instant like 2026-11-06T21:00:00Z")
    if not EARLIEST_YEAR <= int(value[:4]) <= LATEST_YEAR:
        reason = f"is not between the years {EARLIEST_YEAR} and {LATEST_YEAR}"
        return reading.problem(path, value, reason)
    return found


def _read_weekday(reading: Reading, path: str, value: Any) -> Any:
    if isinstance(value, str) and value in WEEKDAYS:
        return WEEKDAYS.index(value)
    return reading.problem(path, value, "is none of " + ", ".join(WEEKDAYS))


TEXT = Value(_read_text, schema={"type": "string", "maxLength": MOST_CHARACTERS})
IDENT = Value(
    _read_filled_text, schema={"type": "string", "minLength": 1, "maxLength": MOST_OF_AN_ID}
)
FLAG = Value(_read_flag, schema={"type": "boolean"})
ZONE = Value(_read_zone, schema={"type": "string", "examples": ["Europe/Dublin"]})
INSTANT = Value(
    _read_instant, format_exact_instant, {"type": "string", "examples": ["2026-11-06T21:00:00Z"]}
)
CAPACITY = number(above=0)
AMOUNT = number(least=0)
COUNT = number(least=1, whole=True)
TALLY = number(least=0, whole=True)
SPAN = number(least=1)
FRACTION = number(least=0, most=1)
FACTOR = number(above=0, most=1)
TIME = _pattern(r"\d\d:\d\d", "20:30", time.fromisoformat, lambda t: t.strftime("%H:%M"))
DATE = _pattern(r"\d{4}-\d\d-\d\d", "2026-11-06", date.fromisoformat, date.isoformat)
LOCAL = _pattern(
    r"\d{4}-\d\d-\d\dT\d\d:\d\d",
    "2026-11-06T21:00",
    datetime.fromisoformat,
    lambda t: t.isoformat(timespec="minutes"),
)
WEEKDAY = Value(_read_weekday, lambda day: WEEKDAYS[day], {"enum": list(WEEKDAYS)})


# --- values made of values --------------------------------------------------------------------


ONE_OF = {
    "sites": "site", "links": "link", "hosts": "host", "clusters": "cluster",
    "datastores": "datastore", "proxies": "proxy", "repositories": "repository",
    "machines": "machine", "windows": "window", "calendars": "calendar", "jobs": "job",
    "assumptions": "assumption",
}  # fmt: skip
"""What one entry of a list is called."""


def reference(to: str) -> Value:
    """The id of an entry of the list `to`, checked when the whole file has been read."""

    def read(reading: Reading, path: str, value: Any) -> Any:
        text = _read_filled_text(reading, path, value)
        if text is not MISSING:
            reading.references.append((path, text, to))
        return text

    return Value(read, schema={"type": "string", "minLength": 1, "x-list": to})


def number_or_text(*, least: float) -> Value:
    """A number from `least` on, or a text."""
    amount = number(least=least)

    def read(reading: Reading, path: str, raw: Any) -> Any:
        return (TEXT if isinstance(raw, str) else amount).read(reading, path, raw)

    return Value(read, schema={"anyOf": [amount.schema, TEXT.schema]})


def optional(value: Value) -> Value:
    """A value or null."""
    return Value(
        lambda reading, path, raw: None if raw is None else value.read(reading, path, raw),
        lambda item: None if item is None else value.write(item),
        {"anyOf": [value.schema, {"type": "null"}]},
    )


def many(value: Value, *, distinct: bool = False, least: int = 0) -> Value:
    """A list of values."""

    def read(reading: Reading, path: str, raw: Any) -> Any:
        if not isinstance(raw, list):
            return reading.problem(path, raw, "is not a list")
        if len(raw) < least:
            return reading.problem(path, raw, f"has fewer than {least} entries")
        items = [value.read(reading, f"{path}[{i}]", item) for i, item in enumerate(raw)]
        if distinct:
            seen = set()
            for i, item in enumerate(items):
                if item is not MISSING and item in seen:
                    reading.problem(f"{path}[{i}]", raw[i], "is in the list twice")
                seen.add(item)
        return MISSING if any(item is MISSING for item in items) else tuple(items)

    schema: dict[str, Any] = {"type": "array", "items": value.schema}
    if distinct:
        schema["uniqueItems"] = True
    if least:
        schema["minItems"] = least
    return Value(read, lambda items: [value.write(item) for item in items], schema)


def pair(first: Value, second: Value) -> Value:
    """A list of exactly two values."""

    def read(reading: Reading, path: str, raw: Any) -> Any:
        if not isinstance(raw, list) or len(raw) != 2:
            return reading.problem(path, raw, "is not a list of two")
        items = (
            first.read(reading, f"{path}[0]", raw[0]),
            second.read(reading, f"{path}[1]", raw[1]),
        )
        return MISSING if MISSING in items else items

    schema = {
        "type": "array",
        "prefixItems": [first.schema, second.schema],
        "minItems": 2,
        "maxItems": 2,
    }
    return Value(read, lambda items: [first.write(items[0]), second.write(items[1])], schema)
