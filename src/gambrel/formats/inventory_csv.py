"""Machines out of CSV (RFC 4180, also with semicolons or tabs), with errors by line and column."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType

from gambrel.core.estate.facts import FactError, checked
from gambrel.core.estate.importing import (
    ImportedDisk,
    ImportedMachine,
    ImportProblem,
    Place,
)

FIELDS = (
    "name", "kind", "host", "site", "folder", "tags", "powered_on", "role", "owner", "disk",
    "provisioned", "used", "swap", "datastore", "daily_change", "compress_ratio", "growth_per_year",
    "rpo_hours", "rto_hours", "memory_gib",
)  # fmt: skip
"""What a column can be."""

_SYNONYMS = {
    "name": ("name", "machine", "vm", "server", "hostname", "vm name", "maschine", "navn"),
    "kind": ("kind", "type", "art"),
    "host": ("host", "runs on", "node", "hypervisor", "vert"),
    "site": ("site", "location", "room", "standort", "sted"),
    "folder": ("folder", "path", "group", "ordner", "mappe"),
    "tags": ("tags", "labels", "tag"),
    "powered_on": ("powered on", "power", "state", "power state", "status"),
    "role": ("role", "application", "app", "rolle", "anwendung"),
    "owner": ("owner", "owned by", "team", "responsible", "besitzer", "eier"),
    "disk": ("disk", "drive", "volume", "platte"),
    "provisioned": ("provisioned", "size", "capacity", "disk size", "kapazität", "größe"),
    "used": ("used", "in use", "consumed", "belegt", "brukt"),
    "swap": ("swap", "paging"),
    "datastore": ("datastore", "storage", "pool"),
    "daily_change": ("daily change", "change", "change rate", "change a day"),
    "compress_ratio": ("compress ratio", "compression"),
    "growth_per_year": ("growth per year", "growth"),
    "rpo_hours": ("rpo hours", "rpo"),
    "rto_hours": ("rto hours", "rto"),
    "memory_gib": ("memory gib", "memory", "ram"),
}
_UNITS = {
    "kib": 2**10, "mib": 2**20, "gib": 2**30, "tib": 2**40, "kb": 10**3, "mb": 10**6,
    "gb": 10**9, "tb": 10**12, "b": 1, "bytes": 1,
}  # fmt: skip
UNITS = ("GiB", "GB", "MiB", "MB", "TiB", "TB", "KiB", "bytes")
_SIZES = ("provisioned", "used", "swap")
_SHARES = ("daily_change", "growth_per_year")
_PER_CENT = re.compile(r"%|\bper ?cent\b|\bpct\b", re.IGNORECASE)
"""A title whose shares are per cents, also where a cell does not say so."""
Words = Mapping[str, Mapping[str, str]]
"""By field what a word in its column means, word by word as it stands in the file."""
_MEANINGS: Mapping[str, Mapping[str, frozenset[str]]] = {
    "powered_on": {
        "on": frozenset({"yes", "true", "1", "on", "up", "running", "powered on", "ja"}),
        "off": frozenset({"no", "false", "0", "off", "down", "stopped", "powered off", "nein",
                          "nei"}),
    },
    "kind": {
        "vm": frozenset({"vm", "virtual"}),
        "server": frozenset({"server", "physical"}),
    },
}  # fmt: skip
"""By field what its words can mean, and which words are known to mean it."""
WORDED = ("powered_on", "kind", "role")
"""Fields whose words can be mapped; a role may be any text."""
MOST_WORDS = 60
"""An import shows at most so many different words of a column."""
MOST_LINES = 200_000
MOST_COLUMNS = 400
LONGEST_TITLE = 200
LONGEST_NUMBER = 60
csv.field_size_limit(1 << 20)


class Unreadable(ValueError):
    """A file of which nothing can be read; the text says why and what to do."""


@dataclass(frozen=True, slots=True)
class CsvTable:
    """A CSV file in rows: (line, cells) of each, below its header."""

    name: str
    header: tuple[str, ...]
    rows: tuple[tuple[int, tuple[str, ...]], ...]
    delimiter: str


def read_table(name: str, content: bytes) -> CsvTable:
    """The rows of a CSV file: UTF-8 with or without a byte order mark, UTF-16 with one.

    Raises:
        Unreadable: where it is no such text, has no header, or too many lines.
    """
    text = _decoded(content)
    delimiter = _delimiter(text)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=True)
    header: tuple[str, ...] | None = None
    rows = []
    try:
        for cells in reader:
            if not any(cell.strip() for cell in cells):
                continue
            if header is None:
                header = tuple(cell.strip() for cell in cells)
                if len(header) > MOST_COLUMNS:
                    raise Unreadable(f"It has more than {MOST_COLUMNS} columns. Leave some out.")
                continue
            rows.append((reader.line_num, tuple(cell.strip() for cell in cells)))
            if len(rows) > MOST_LINES:
                raise Unreadable(f"It has more than {MOST_LINES:,} lines. Split it.")
    except csv.Error as error:
        raise Unreadable(f"Line {reader.line_num} is no CSV: {error}.") from None
    if header is None:
        raise Unreadable("It is empty: there is no header.")
    if any(len(title) > LONGEST_TITLE for title in header):
        raise Unreadable(f"Its header has a title of more than {LONGEST_TITLE} characters.")
    twice = {title for title in header if title and header.count(title) > 1}
    if twice:
        raise Unreadable(f"Its header names {sorted(twice)[0]!r} twice.")
    return CsvTable(name, header, tuple(rows), delimiter)


def _decoded(content: bytes) -> str:
    marked = content.startswith((b"\xff\xfe", b"\xfe\xff"))
    encoding = "utf-16" if marked else "utf-8-sig"
    try:
        text = content.decode(encoding)
    except UnicodeDecodeError as error:
        line = content[: error.start].count(b"\n") + 1
        raise Unreadable(
            f"Line {line} is not UTF-8. Save the file as “CSV UTF-8”, then import it again."
        ) from None
    if "\x00" in text:
        raise Unreadable("It holds binary data and is no CSV.")
    return text


def _delimiter(text: str) -> str:
    """The sign that stands most often in the header, outside of quotes."""
    first = next((line for line in text.splitlines() if line.strip()), "")
    bare = re.sub(r'"[^"]*"', "", first[:100_000])
    return max((",", ";", "\t"), key=bare.count)


def guessed_mapping(
    header: tuple[str, ...], synonyms: Mapping[str, tuple[str, ...]] = _SYNONYMS
) -> dict[str, str]:
    """Which column each field is, as far as the titles tell; units in titles do not matter.

    Args:
        synonyms: titles by field, by default those of an inventory.
    """
    plain = {_plain(title): title for title in reversed(header)}
    found: dict[str, str] = {}
    for field, titles in synonyms.items():
        # Folded as the titles are: "ß" becomes "ss".
        for title in map(str.casefold, titles):
            if title in plain and plain[title] not in found.values():
                found[field] = plain[title]
                break
    return found


def _plain(title: str) -> str:
    without = re.sub(r"[\[(].*?[\])]", "", title.casefold().replace("_", " "))
    words = _PER_CENT.sub("", without).split()
    return " ".join(word for word in words if word not in _UNITS)


def unit_of_title(title: str) -> str | None:
    """The unit that the title of a column names, or None."""
    words: list[str] = re.findall(r"[a-z]+", title.casefold())
    return next((word for word in words if word in _UNITS and word != "b"), None)


_NUMBER = re.compile(r"([+-]?[\d.,'’\s]*\d)\s*([A-Za-z%]*)")


def parsed_number(text: str) -> tuple[float, str]:
    """A number as people write it, and the unit behind it.

    "1.234,5", "1,234.5", "1 234,5" and "1'234.5" are all 1234.5. A single comma or point is the
    decimal sign, but for a comma before exactly three digits that no sign or zero leads ("1,234").

    Raises:
        ValueError: where it is no number.
    """
    # Patterns take long over long texts; a number never is one.
    found = _NUMBER.fullmatch(text.strip()) if len(text) <= LONGEST_NUMBER else None
    if not found:
        raise ValueError("is not a number")
    digits = re.sub(r"['’\s]", "", found[1])
    comma, point = digits.rfind(","), digits.rfind(".")
    if comma >= 0 and point >= 0:
        thousands = "," if point > comma else "."
        digits = digits.replace(thousands, "").replace(",", ".")
    elif comma >= 0:
        groups = re.fullmatch(r"[+-]?[1-9]\d{0,2}(,\d{3})+", digits)
        digits = digits.replace(",", "") if groups else digits.replace(",", ".")
    elif digits.count(".") > 1:
        if not re.fullmatch(r"[+-]?\d{1,3}(\.\d{3})+", digits):
            raise ValueError("is not a number")
        digits = digits.replace(".", "")
    try:
        return float(digits), found[2].casefold()
    except ValueError:
        raise ValueError("is not a number") from None


def parsed_size_gib(text: str, unit: str) -> float:
    """GiB of a size as people write it; `unit` is its unit where it names none.

    Raises:
        ValueError: where it is no size.
    """
    number, said = parsed_number(text)
    if said and said not in _UNITS:
        raise ValueError(f"has the unit {said!r}, which is none of {', '.join(UNITS)}")
    if number < 0:
        raise ValueError("is below 0")
    value = number * _UNITS[said or unit.casefold()] / 2**30
    if not value <= 1e9:
        raise ValueError("is more than 10^9 GiB")
    return round(value, 4)


def _share(text: str) -> float:
    number, said = parsed_number(text)
    if said not in ("", "%"):
        raise ValueError(f"has the unit {said!r} where a share or % stands")
    return number / 100 if said == "%" else number


def _meaning(field: str, text: str) -> str | None:
    """What a word of a field with given meanings means; None where nobody knows."""
    word = text.casefold()
    return next((to for to, words in _MEANINGS[field].items() if word in words), None)


@dataclass(frozen=True, slots=True)
class Word:
    """A word in a column whose words have a meaning.

    Attributes:
        meaning: None where it is not understood.
        rows: in how many rows it stands.
    """

    field: str
    word: str
    meaning: str | None
    rows: int


def words_of(table: CsvTable, mapping: Mapping[str, str], words: Words) -> list[Word]:
    """The words of the columns whose words can be mapped, those in most rows first."""
    found = []
    for field in WORDED:
        if mapping.get(field) not in table.header:
            continue
        place = table.header.index(mapping[field])
        counted = Counter(cells[place] for _, cells in table.rows if len(cells) > place)
        counted.pop("", None)
        for word, rows in counted.most_common(MOST_WORDS):
            said = words.get(field, {}).get(word, word)
            meaning = said if field == "role" else _meaning(field, said)
            found.append(Word(field, word, meaning, rows))
    return found


@dataclass(frozen=True, slots=True)
class _Line:
    number: int
    values: Mapping[str, object]


def machines_of(
    table: CsvTable,
    mapping: Mapping[str, str],
    unit: str = "GiB",
    words: Words = MappingProxyType({}),
) -> tuple[list[ImportedMachine], list[ImportProblem]]:
    """The machines of a table; rows of one name are its disks where a column names the disk.

    Args:
        mapping: the title of the column that each field is.
        unit: of sizes where neither the cell nor the title of its column has one.
        words: what words mean that are not known, or that mean something else.
    """
    problems: list[ImportProblem] = []
    if "name" not in mapping:
        place = Place(table.name, 1)
        return [], [ImportProblem(place, ", ".join(table.header), "has no column for the name")]
    lines = []
    for number, cells in table.rows:
        if len(cells) != len(table.header):
            problems.append(
                ImportProblem(
                    Place(table.name, number), ", ".join(cells)[:80],
                    f"has {len(cells)} cells, the header has {len(table.header)}",
                )
            )  # fmt: skip
            continue
        by_title = dict(zip(table.header, cells, strict=True))
        found = _line(table, number, by_title, mapping, unit, words)
        if isinstance(found, _Line):
            lines.append(found)
        else:
            problems += found
    machines, more = _grouped(table.name, lines, mapping)
    return machines, problems + more


def _line(
    table: CsvTable,
    number: int,
    cells: Mapping[str, str],
    mapping: Mapping[str, str],
    unit: str,
    words: Words,
) -> _Line | list[ImportProblem]:
    values: dict[str, object] = {}
    problems = []
    for field, title in mapping.items():
        text = cells.get(title, "")
        if text == "":
            if field == "name":
                problems.append(
                    ImportProblem(Place(table.name, number, title), "", "is empty: what is it?")
                )
            continue
        try:
            meant = words.get(field, {}).get(text, text)
            if field in _SHARES and _PER_CENT.search(title) and "%" not in meant:
                meant += " %"
            values[field] = _value(field, meant, unit_of_title(title) or unit)
        except FactError as error:
            problems.append(ImportProblem(Place(table.name, number, title), text, error.reason))
        except ValueError as error:
            problems.append(ImportProblem(Place(table.name, number, title), text, str(error)))
    return problems or _Line(number, values)


def _value(field: str, text: str, unit: str) -> object:
    if field in _SIZES:
        return parsed_size_gib(text, unit)
    if field in _SHARES:
        return checked(field, _share(text))
    if field in ("compress_ratio", "rpo_hours", "rto_hours", "memory_gib"):
        return checked(field, parsed_number(text)[0])
    if field in _MEANINGS:
        meaning = _meaning(field, text)
        if meaning is None:
            raise ValueError(f"is neither {' nor '.join(_MEANINGS[field])}")
        return meaning == "on" if field == "powered_on" else meaning
    if field == "tags":
        return tuple(dict.fromkeys(tag.strip() for tag in re.split(r"[;,|]", text) if tag.strip()))
    if len(text) > 190:
        raise ValueError("is longer than 190 characters")
    return text


def _grouped(
    file: str, lines: list[_Line], mapping: Mapping[str, str]
) -> tuple[list[ImportedMachine], list[ImportProblem]]:
    by_name: dict[str, list[_Line]] = {}
    problems = []
    for line in lines:
        name = str(line.values["name"])
        known = by_name.setdefault(name, [])
        disk = line.values.get("disk")
        if known and (disk is None or any(o.values.get("disk") == disk for o in known)):
            what = f"disk {disk} of {name}" if disk else name
            reason = f"stands in line {known[0].number} already: {what}"
            problems.append(ImportProblem(Place(file, line.number, mapping["name"]), name, reason))
            continue
        known.append(line)
    return [_machine(file, name, own) for name, own in by_name.items()], problems


def _machine(file: str, name: str, lines: list[_Line]) -> ImportedMachine:
    first = lines[0].values
    has_disk = any(field in line.values for line in lines for field in (*_SIZES, "disk"))
    disks = tuple(
        ImportedDisk(
            str(line.values.get("disk", "disk")),
            line.values.get("provisioned"),  # type: ignore[arg-type]
            line.values.get("used"),  # type: ignore[arg-type]
            line.values.get("swap"),  # type: ignore[arg-type]
            line.values.get("datastore"),  # type: ignore[arg-type]
        )
        for line in lines
    )
    facts = (
        "daily_change", "compress_ratio", "growth_per_year", "rpo_hours", "rto_hours",
        "memory_gib",
    )  # fmt: skip
    return ImportedMachine(
        name,
        Place(file, lines[0].number),
        first.get("kind"),  # type: ignore[arg-type]
        first.get("host"),  # type: ignore[arg-type]
        first.get("site"),  # type: ignore[arg-type]
        first.get("folder"),  # type: ignore[arg-type]
        first.get("tags"),  # type: ignore[arg-type]
        first.get("powered_on"),  # type: ignore[arg-type]
        first.get("role"),  # type: ignore[arg-type]
        first.get("owner"),  # type: ignore[arg-type]
        tuple((field, first[field]) for field in facts if field in first),  # type: ignore[misc]
        disks if has_disk else None,
    )
