"""Files of any kind that can be imported, read together, and what they would change."""

from __future__ import annotations

import io
import json
import tarfile
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Any

from gambrel.core.estate.differences import without_lost_disks
from gambrel.core.estate.importing import (
    Imported,
    ImportedMachine,
    ImportProblem,
    Place,
    with_hosts_of,
    with_machines,
)
from gambrel.core.plan.objects import Plan
from gambrel.core.plan.reading import read_plan
from gambrel.core.plan.values import PlanError
from gambrel.formats import machine_xml
from gambrel.formats.inventory_csv import (
    CsvTable,
    Unreadable,
    Word,
    Words,
    guessed_mapping,
    machines_of,
    read_table,
    words_of,
)

MOST_BYTES = 32 * 2**20
"""The largest file that is read."""
MOST_UNPACKED = 64 * 2**20
"""The most that all files of a package may come to."""
MOST_MEMBERS = 2000
MOST_PROBLEMS = 500
"""How many problems are told; that there are more is told too."""


@dataclass(frozen=True, slots=True)
class Choices:
    """What a planner says of an import.

    Attributes:
        mapping: the title of the column that each field is, for CSV; without it it is guessed.
        unit: of sizes in CSV that have none.
        words: by field what words in CSV mean, as they stand in the file.
        host: of VMs of which the file names none.
        new_hosts_at: the site at which hosts that the plan does not have are added.
    """

    mapping: Mapping[str, str] | None = None
    unit: str = "GiB"
    host: str | None = None
    new_hosts_at: str | None = None
    words: Words = field(default_factory=dict)


@dataclass
class ReadFile:
    """A file as it was understood: its kind, for CSV its columns and words and what they mean."""

    name: str
    kind: str
    machines: int = 0
    columns: list[str] = field(default_factory=list)
    mapping: dict[str, str] = field(default_factory=dict)
    sample: list[list[str]] = field(default_factory=list)
    words: list[Word] = field(default_factory=list)


@dataclass
class Reading:
    """All files of an import."""

    files: list[ReadFile]
    machines: list[ImportedMachine]
    problems: list[ImportProblem]
    plans: list[Plan]


def _unpacked(name: str, content: bytes) -> Iterator[tuple[str, bytes]]:
    """The files of a package (.zip, .ova), or the file itself.

    Sizes are checked while unpacking and not believed from the package.

    Raises:
        Unreadable: for a package with too much in it, or one that is broken.
    """
    if content.startswith(b"PK\x03\x04"):
        yield from _unzipped(name, content)
    elif name.casefold().endswith(".ova"):
        yield from _untarred(name, content)
    else:
        yield name, content


def _take(stream: Any, left: int) -> bytes:
    content: bytes = stream.read(left + 1)
    if len(content) > left:
        raise Unreadable(
            f"Unpacked it is larger than {MOST_UNPACKED // 2**20} MiB. Import its files one by one."
        )
    return content


def _unzipped(name: str, content: bytes) -> Iterator[tuple[str, bytes]]:
    left = MOST_UNPACKED
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as package:
            members = [member for member in package.infolist() if not member.is_dir()]
            if len(members) > MOST_MEMBERS:
                raise Unreadable(f"It holds more than {MOST_MEMBERS:,} files.")
            for member in members:
                with package.open(member) as stream:
                    inside = _take(stream, left)
                left -= len(inside)
                yield f"{name}/{member.filename}", inside
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, OSError, EOFError) as error:
        raise Unreadable(f"The package cannot be opened: {error}.") from None


def _untarred(name: str, content: bytes) -> Iterator[tuple[str, bytes]]:
    """The descriptors of an OVA; its disks are not read."""
    try:
        with tarfile.open(fileobj=io.BytesIO(content), mode="r:") as package:
            for number, member in enumerate(package):
                if number > MOST_MEMBERS:
                    raise Unreadable(f"It holds more than {MOST_MEMBERS:,} files.")
                stream = package.extractfile(member) if member.isfile() else None
                if stream is not None and member.name.casefold().endswith(".ovf"):
                    yield f"{name}/{member.name}", _take(stream, MOST_UNPACKED)
    except (tarfile.TarError, OSError, EOFError) as error:
        raise Unreadable(f"The package cannot be opened: {error}.") from None


def read_files(files: Sequence[tuple[str, bytes]], choices: Choices) -> Reading:
    """Understand all files; what cannot be understood is among the problems."""
    reading = Reading([], [], [], [])
    volumes: dict[str, tuple[float, float]] = {}
    domains: list[tuple[ReadFile, Any]] = []
    for name, content in files:
        try:
            if len(content) > MOST_BYTES:
                raise Unreadable(
                    f"It is larger than {MOST_BYTES // 2**20} MiB. Of a package only the "
                    "descriptor is needed."
                )
            for inner, inside in _unpacked(name, content):
                _read_one(inner, inside, choices, reading, volumes, domains)
        except Unreadable as error:
            reading.problems.append(ImportProblem(Place(name), "", str(error)))
    for file, root in domains:
        machines, problems = machine_xml.machines_of_domain(file.name, root, volumes)
        file.machines = len(machines)
        reading.machines += machines
        reading.problems += problems
    return reading


def _read_one(
    name: str,
    content: bytes,
    choices: Choices,
    reading: Reading,
    volumes: dict[str, tuple[float, float]],
    domains: list[tuple[ReadFile, Any]],
) -> None:
    start = content.lstrip(b"\xef\xbb\xbf \t\r\n")[:1]
    try:
        if start == b"<":
            _read_xml(name, content, reading, volumes, domains)
        elif start == b"{":
            _read_plan_file(name, content, reading)
        else:
            _read_csv(read_table(name, content), choices, reading)
    except Unreadable as error:
        reading.problems.append(ImportProblem(Place(name), "", str(error)))


def _read_csv(table: CsvTable, choices: Choices, reading: Reading) -> None:
    guessed = guessed_mapping(table.header)
    mapping = guessed if choices.mapping is None else dict(choices.mapping)
    mapping = {key: title for key, title in mapping.items() if title in table.header}
    machines, problems = machines_of(table, mapping, choices.unit, choices.words)
    file = ReadFile(
        table.name, "CSV", len(machines), list(table.header), mapping,
        [list(cells) for _, cells in table.rows[:3]], words_of(table, mapping, choices.words),
    )  # fmt: skip
    reading.files.append(file)
    reading.machines += machines
    reading.problems += problems


def _read_xml(
    name: str,
    content: bytes,
    reading: Reading,
    volumes: dict[str, tuple[float, float]],
    domains: list[tuple[ReadFile, Any]],
) -> None:
    root = machine_xml.parsed(content)
    kind = machine_xml.kind_of(root)
    if kind == "ovf":
        machines, problems = machine_xml.machines_of_ovf(name, root)
        reading.files.append(ReadFile(name, "OVF", len(machines)))
        reading.machines += machines
        reading.problems += problems
    elif kind == "volume":
        volumes.update(machine_xml.volumes_of(root))
        reading.files.append(ReadFile(name, "libvirt volume"))
    elif kind == "domain":
        file = ReadFile(name, "libvirt domain")
        reading.files.append(file)
        domains.append((file, root))
    else:
        raise Unreadable("It is neither an OVF descriptor nor a libvirt domain or volume.")


def _read_plan_file(name: str, content: bytes, reading: Reading) -> None:
    try:
        raw = json.loads(content)
        plan = read_plan(raw)
    except PlanError as error:
        reading.problems += [
            ImportProblem(Place(name, column=p.path), str(p.value)[:80], p.reason)
            for p in error.problems
        ]
        return
    except (ValueError, RecursionError) as error:
        raise Unreadable(f"It is no JSON: {error}.") from None
    reading.plans.append(plan)
    reading.files.append(ReadFile(name, "plan file", len(plan.machines)))
    reading.machines += [
        ImportedMachine(machine.id, Place(name, column=f"machines[{i}]"), exact=machine)
        for i, machine in enumerate(plan.machines)
    ]


def imported(plan: Plan, reading: Reading, choices: Choices, today: date) -> Imported:
    """The plan after an import, with hosts and datastores that plan files bring along."""
    if choices.host is not None and choices.host not in plan.host_by_id:
        problem = ImportProblem(Place("(choices)", column="host"), choices.host, "is no host")
        reading.problems.append(problem)
        choices = replace(choices, host=None)
    base = plan
    for other in reading.plans:
        base = _with_places(base, other)
    if choices.new_hosts_at is not None:
        if choices.new_hosts_at in base.site_by_id:
            base = with_hosts_of(base, reading.machines, choices.new_hosts_at)
        else:
            place = Place("(choices)", column="new_hosts_at")
            reading.problems.append(ImportProblem(place, choices.new_hosts_at, "is no site"))
    made = with_machines(base, reading.machines, choices.host, today)
    titles = {file.name: file.mapping for file in reading.files}
    problems = (*reading.problems, *(_as_titled(p, titles) for p in made.problems))
    # An import that is undone takes the places that it brought along back with its machines.
    places = [h.id for h in base.hosts if h.id not in plan.host_by_id]
    places += [s.id for s in base.datastores if s.id not in plan.datastore_by_id]
    return replace(
        made,
        plan=without_lost_disks(made.plan),
        names=(*made.names, *places),
        problems=problems,
    )


def _as_titled(problem: ImportProblem, titles: Mapping[str, Mapping[str, str]]) -> ImportProblem:
    """A problem whose column is called as in its file."""
    column = problem.place.column
    title = titles.get(problem.place.file, {}).get(column or "", column)
    return replace(problem, place=replace(problem.place, column=title))


def _with_places(plan: Plan, other: Plan) -> Plan:
    """A plan with the sites, hosts and datastores of another that it does not have."""
    sites = tuple(s for s in other.sites if s.id not in plan.site_by_id)
    hosts = tuple(h for h in other.hosts if h.id not in plan.host_by_id)
    stores = tuple(s for s in other.datastores if s.id not in plan.datastore_by_id)
    return replace(
        plan,
        sites=(*plan.sites, *sites),
        hosts=(*plan.hosts, *hosts),
        datastores=(*plan.datastores, *stores),
    )
