"""Past runs from elsewhere: CSV with columns that are mapped, and `gambrel-ledger/1` JSON lines."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from math import isfinite
from typing import Any, Literal
from zoneinfo import ZoneInfo

from gambrel.core.ledger.events import Outcome
from gambrel.core.ledger.records import BYTES_EVER
from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.objects import Kind
from gambrel.core.schedules.calendars import instant_of
from gambrel.core.units import GIB
from gambrel.formats.inventory_csv import (
    CsvTable,
    Unreadable,
    guessed_mapping,
    parsed_size_gib,
    unit_of_title,
)
from gambrel.formats.ledger_files import LEDGER_FORMAT

FIELDS = (
    "job", "machine", "start", "end", "duration", "kind", "source_bytes", "stored_bytes",
    "outcome", "reason",
)  # fmt: skip
"""What a column can be."""
DateOrder = Literal["day first", "month first"]
DATE_ORDERS: tuple[DateOrder, ...] = ("day first", "month first")
"""How "06/11/2026" is meant. With dots the day is first; a year in front leaves no doubt."""
MOST_LINES = 200_000
LONGEST_LINE = 20_000
EARLIEST, LATEST = 2000, 2100

_SYNONYMS = {
    "job": ("job", "job name", "task", "policy", "plan"),
    "machine": ("machine", "vm", "server", "object", "client", "host", "name"),
    "start": ("start", "started", "start time", "begin", "began"),
    "end": ("end", "ended", "end time", "finished", "finish"),
    "duration": ("duration", "took", "elapsed"),
    "kind": ("kind", "type", "backup type"),
    "source_bytes": ("read", "source", "source bytes", "data read", "processed"),
    "stored_bytes": ("stored", "written", "stored bytes", "transferred", "backup size"),
    "outcome": ("outcome", "result", "status", "state"),
    "reason": ("reason", "message", "error", "details"),
}
_OUTCOMES: dict[str, Outcome] = {
    "done": "done", "success": "done", "successful": "done", "ok": "done", "completed": "done",
    "warning": "done", "failed": "failed", "failure": "failed", "error": "failed",
    "cut off": "cut off", "cancelled": "cut off", "canceled": "cut off", "stopped": "cut off",
    "aborted": "cut off", "missed": "missed", "skipped": "missed", "no path": "no path",
}  # fmt: skip
_KINDS: dict[str, Kind] = {
    "full": "full", "incremental": "incremental", "inc": "incremental", "incr": "incremental",
    "differential": "differential", "diff": "differential",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class PastRun:
    """A machine-run as a file tells it. `occurrence`: None where the file does not know it."""

    line: int
    job: str
    machine: str
    start: float
    end: float
    outcome: Outcome
    reason: str = ""
    kind: Kind | None = None
    source_bytes: float = 0.0
    wire_bytes: float = 0.0
    stored_bytes: float = 0.0
    occurrence: float | None = None


@dataclass(frozen=True, slots=True)
class RowProblem:
    """What is wrong with a row of a file."""

    line: int
    column: str
    value: str
    reason: str


@dataclass(slots=True)
class PastRuns:
    """The rows of a file that can be read, and what is wrong with the others."""

    rows: list[PastRun] = field(default_factory=list)
    problems: list[RowProblem] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class CsvSettings:
    """How a CSV file of past runs is meant.

    Attributes:
        mapping: the title of the column that each field is.
        unit: of sizes where neither the cell nor the title of its column has one.
        time_zone: of times that do not name their own.
    """

    mapping: Mapping[str, str]
    unit: str = "GiB"
    time_zone: str = "UTC"
    date_order: DateOrder = "day first"


def guessed_columns(header: tuple[str, ...]) -> dict[str, str]:
    """Which column each field is, as far as the titles tell."""
    return guessed_mapping(header, _SYNONYMS)


def past_runs_of_csv(table: CsvTable, settings: CsvSettings) -> PastRuns:
    """The rows of a CSV table, as its settings read them."""
    found = PastRuns()
    for needed in ("job", "machine", "start"):
        if needed not in settings.mapping:
            found.problems.append(
                RowProblem(1, "", ", ".join(table.header)[:200], f"has no column for the {needed}")
            )
    if not {"end", "duration"} & set(settings.mapping):
        found.problems.append(RowProblem(1, "", "", "has no column for the end or the duration"))
    if found.problems:
        return found
    zone = ZoneInfo(settings.time_zone)
    for number, cells in table.rows:
        if len(cells) != len(table.header):
            reason = f"has {len(cells)} cells, the header has {len(table.header)}"
            found.problems.append(RowProblem(number, "", ", ".join(cells)[:80], reason))
            continue
        by_title = dict(zip(table.header, cells, strict=True))
        row = _row(number, by_title, settings, zone, found.problems)
        if row is not None:
            found.rows.append(row)
    return found


def _row(
    number: int,
    cells: Mapping[str, str],
    settings: CsvSettings,
    zone: ZoneInfo,
    problems: list[RowProblem],
) -> PastRun | None:
    values: dict[str, Any] = {}
    before = len(problems)
    for name, title in settings.mapping.items():
        text = cells.get(title, "")
        if not text:
            if name in ("job", "machine", "start"):
                problems.append(RowProblem(number, title, "", "is empty"))
            continue
        try:
            values[name] = _value(name, text, title, settings, zone)
        except ValueError as error:
            problems.append(RowProblem(number, title, text[:80], str(error)))
    if len(problems) > before:
        return None
    start = values["start"]
    end = values.get("end")
    if end is None:
        if "duration" not in values:
            problems.append(RowProblem(number, "", "", "has neither an end nor a duration"))
            return None
        end = start + values["duration"]
    if end < start:
        title = settings.mapping.get("end", "")
        problems.append(RowProblem(number, title, cells.get(title, ""), "ends before it starts"))
        return None
    stored = values.get("stored_bytes", 0.0)
    return PastRun(
        number, values["job"], values["machine"], start, end, values.get("outcome", "done"),
        values.get("reason", ""), values.get("kind"), values.get("source_bytes", 0.0), stored,
        stored,
    )  # fmt: skip


def _value(name: str, text: str, title: str, settings: CsvSettings, zone: ZoneInfo) -> Any:
    if name in ("start", "end"):
        return parsed_time(text, zone, settings.date_order)
    if name == "duration":
        return parsed_duration(text)
    if name in ("source_bytes", "stored_bytes"):
        return parsed_size_gib(text, unit_of_title(title) or settings.unit) * GIB
    if name == "outcome":
        found = _OUTCOMES.get(text.casefold())
        if found is None:
            raise ValueError("is no outcome: done, failed, cut off, missed, or a usual word for it")
        return found
    if name == "kind":
        kind = _KINDS.get(text.casefold().removesuffix(" backup"))
        if kind is None:
            raise ValueError("is none of full, incremental, differential")
        return kind
    if len(text) > (500 if name == "reason" else 190):
        raise ValueError("is too long")
    return text


_ISO = re.compile(
    r"(\d{4})-(\d\d?)-(\d\d?)[T ](\d\d?):(\d\d)(?::(\d\d)(?:[.,]\d{1,9})?)?\s*(Z|[+-]\d\d:?\d\d)?",
    re.ASCII,
)
_OTHER = re.compile(
    r"(\d\d?)([./])(\d\d?)\2(\d{4}),? (\d\d?):(\d\d)(?::(\d\d))?(?:\s*([AaPp])\.?[Mm]\.?)?",
    re.ASCII,
)


def parsed_time(text: str, zone: ZoneInfo, order: DateOrder = "day first") -> float:
    """UTC seconds of a time as people write it.

    "2026-11-06T21:00:00Z", "2026-11-06 21:00", "06.11.2026 21:00", "11/06/2026 9:00 PM" (by the
    order). A time that does not name its zone is one of `zone`.

    Raises:
        ValueError: where it is no such time.
    """
    text = text.strip()
    iso = _ISO.fullmatch(text)
    if iso:
        year, month, day, hour, minute = (int(iso[i]) for i in range(1, 6))
        local = _local(year, month, day, hour, minute, int(iso[6] or 0))
        said = iso[7]
        if said is None:
            return instant_of(local, zone)
        if said == "Z":
            return local.replace(tzinfo=UTC).timestamp()
        sign = -1 if said[0] == "-" else 1
        digits = said[1:].replace(":", "")
        offset = sign * (int(digits[:2]) * 3600 + int(digits[2:]) * 60)
        return local.replace(tzinfo=UTC).timestamp() - offset
    other = _OTHER.fullmatch(text)
    if not other:
        raise ValueError("is no time like 2026-11-06 21:00, 06.11.2026 21:00 or 11/06/2026 9:00 PM")
    first, second, year = int(other[1]), int(other[3]), int(other[4])
    day_first = other[2] == "." or order == "day first"
    day, month = (first, second) if day_first else (second, first)
    hour = int(other[5])
    if other[8]:
        if not 1 <= hour <= 12:
            raise ValueError("is no time of a 12-hour clock")
        hour = hour % 12 + (12 if other[8] in "Pp" else 0)
    return instant_of(_local(year, month, day, hour, int(other[6]), int(other[7] or 0)), zone)


def _local(year: int, month: int, day: int, hour: int, minute: int, second: int) -> datetime:
    if not EARLIEST <= year <= LATEST:
        raise ValueError(f"is not between {EARLIEST} and {LATEST}")
    try:
        return datetime(year, month, day, hour, minute, second)
    except ValueError:
        raise ValueError("is no date and time that there is") from None


_CLOCK = re.compile(r"(?:(\d{1,4}):)?(\d{1,4}):(\d\d)", re.ASCII)
_WORDS = re.compile(
    r"(?:(\d+(?:[.,]\d+)?)\s*(?:h|hours?))?\s*(?:(\d+(?:[.,]\d+)?)\s*(?:min|minutes?|m))?\s*"
    r"(?:(\d+(?:[.,]\d+)?)\s*(?:s|sec|seconds?)?)?",
    re.ASCII,
)


def parsed_duration(text: str) -> float:
    """Seconds of "1:23:45", "83:20" (minutes), "1 h 23 min", "83 min" or "4980".

    Raises:
        ValueError: where it is none of these.
    """
    text = text.strip().casefold()
    clock = _CLOCK.fullmatch(text)
    if clock:
        return int(clock[1] or 0) * 3600.0 + int(clock[2]) * 60.0 + int(clock[3])
    said = _WORDS.fullmatch(text) if 0 < len(text) <= 60 else None
    if not said or not any(said.groups()):
        raise ValueError("is no duration like 1:23:45, 83 min or 4980 s")
    hours, minutes, seconds = (float((part or "0").replace(",", ".")) for part in said.groups())
    return hours * 3600 + minutes * 60 + seconds


# --- JSON lines ---------------------------------------------------------------------------------


def past_runs_of_json_lines(text: str) -> PastRuns:
    """The rows of a `gambrel-ledger/1` file; its first line names the format.

    Raises:
        Unreadable: where it is no such file.
    """
    lines = text.splitlines()
    try:
        head = json.loads(lines[0]) if lines else {}
    except ValueError:
        head = {}
    if not isinstance(head, dict) or head.get("format") != LEDGER_FORMAT:
        raise Unreadable(f'Its first line is not {{"format": "{LEDGER_FORMAT}"}}.')
    if len(lines) > MOST_LINES:
        raise Unreadable(f"It has more than {MOST_LINES:,} lines. Split it.")
    found = PastRuns()
    for number, line in enumerate(lines[1:], start=2):
        if not line.strip():
            continue
        try:
            raw = json.loads(line) if len(line) <= LONGEST_LINE else None
        except (ValueError, RecursionError):
            raw = None
        if not isinstance(raw, dict):
            found.problems.append(RowProblem(number, "", line[:80], "is no JSON object"))
            continue
        try:
            found.rows.append(_json_row(number, raw))
        except _Wrong as error:
            found.problems.append(
                RowProblem(number, error.key, str(raw.get(error.key, ""))[:80], error.reason)
            )
    return found


class _Wrong(ValueError):
    def __init__(self, key: str, reason: str) -> None:
        self.key, self.reason = key, reason
        super().__init__(reason)


def _json_row(number: int, raw: dict[str, Any]) -> PastRun:
    def text(key: str, most: int, *, needed: bool = True) -> str:
        value = raw.get(key)
        if value is None and not needed:
            return ""
        if not isinstance(value, str) or not (value or not needed) or len(value) > most:
            raise _Wrong(key, f"is no text of at most {most} characters")
        return value

    def instant(key: str) -> float:
        try:
            return parse_instant(text(key, 40))
        except ValueError:
            raise _Wrong(key, "is no instant like 2026-11-06T21:00:00Z") from None

    def amount(key: str) -> float:
        value = raw.get(key, 0)
        if isinstance(value, bool) or not isinstance(value, int | float) or not isfinite(value):
            raise _Wrong(key, "is no number")
        if not 0 <= value <= BYTES_EVER:
            raise _Wrong(key, "is below 0, or more than any machine holds")
        return float(value)

    kind, outcome = raw.get("kind"), raw.get("outcome")
    if kind is not None and kind not in _KINDS.values():
        raise _Wrong("kind", "is none of full, incremental, differential")
    if outcome is None or outcome not in _OUTCOMES.values():
        raise _Wrong("outcome", "is no outcome")
    end = instant("end")
    start = instant("start") if raw.get("start") is not None else end
    if end < start:
        raise _Wrong("end", "is before the start")
    return PastRun(
        number, text("job", 190), text("machine", 190), start, end, outcome,
        text("reason", 500, needed=False), kind, amount("source_bytes"), amount("wire_bytes"),
        amount("stored_bytes"), instant("occurrence"),
    )  # fmt: skip
