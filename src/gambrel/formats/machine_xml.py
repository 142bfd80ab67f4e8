"""Machines out of XML: OVF descriptors (DMTF DSP0243) and libvirt domains with their volumes.

Nothing outside the file is ever read: a file with a document type or entities is refused.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import ParseError, fromstring

from gambrel.core.estate.importing import ImportedDisk, ImportedMachine, ImportProblem, Place
from gambrel.formats.inventory_csv import Unreadable

GIB = 2**30


def parsed(content: bytes) -> Any:
    """The root of an XML file. Raises Unreadable."""
    try:
        return fromstring(content, forbid_dtd=True)
    except DefusedXmlException:
        raise Unreadable(
            "It has a document type or entities, which could reach for other files. It was not "
            "read; export it without them."
        ) from None
    except ParseError as error:
        line, column = error.position
        raise Unreadable(f"Line {line}, column {column + 1}: it is no XML ({error}).") from None
    except (ValueError, LookupError) as error:
        raise Unreadable(f"It is no XML that can be read: {error}.") from None


def _local(tag: str) -> str:
    return tag.rpartition("}")[2]


def kind_of(root: Any) -> str:
    """ "ovf", "domain", "volume" or "" by the root element."""
    name = _local(root.tag)
    return {"Envelope": "ovf", "domain": "domain", "domains": "domain", "volume": "volume"}.get(
        name, ""
    )


def _children(element: Any, name: str) -> list[Any]:
    return [child for child in element if _local(child.tag) == name]


def _every(element: Any, name: str) -> Iterator[Any]:
    return (child for child in element.iter() if _local(child.tag) == name)


def _attribute(element: Any, name: str) -> str | None:
    for key, value in element.attrib.items():
        if _local(key) == name:
            return str(value)
    return None


def _text(element: Any, name: str) -> str:
    return next(((child.text or "").strip() for child in _children(element, name)), "")


# --- OVF --------------------------------------------------------------------------------------


def _unit_bytes(unit: str | None) -> float:
    """Bytes of a DSP0004 unit such as "byte * 2^30"; no unit is bytes.

    Raises:
        ValueError: for another unit.
    """
    if unit is None or unit == "byte":
        return 1.0
    found = re.fullmatch(r"byte\s*\*\s*(2|10)\s*\^\s*(\d{1,2})", unit.strip())
    if found:
        return float(int(found[1]) ** int(found[2]))
    names = {"KiloBytes": 2**10, "MegaBytes": 2**20, "GigaBytes": 2**30, "TeraBytes": 2**40}
    if unit in names:
        return float(names[unit])
    raise ValueError(f"has the unit {unit!r}, which is not like byte * 2^30")


def machines_of_ovf(file: str, root: Any) -> tuple[list[ImportedMachine], list[ImportProblem]]:
    """The virtual systems of an OVF descriptor, with the disks that their hardware names."""
    problems: list[ImportProblem] = []
    sizes: dict[str, tuple[float, float | None]] = {}
    for disk in _every(root, "Disk"):
        ident, capacity = _attribute(disk, "diskId"), _attribute(disk, "capacity")
        if ident is None or capacity is None:
            continue
        try:
            unit = _unit_bytes(_attribute(disk, "capacityAllocationUnits"))
            populated = _attribute(disk, "populatedSize")
            wide = float(capacity) * unit / GIB
            if not 0 <= wide <= 1e9:
                raise ValueError("is no size of a disk")
            sizes[ident] = (wide, None if populated is None else float(populated) / GIB)
        except ValueError as error:
            place = Place(file, column=f"Disk {ident} capacity")
            problems.append(ImportProblem(place, capacity, str(error)))
    machines = []
    for system in _every(root, "VirtualSystem"):
        name = _text(system, "Name") or _attribute(system, "id") or ""
        if not name:
            problems.append(ImportProblem(Place(file, column="VirtualSystem"), "", "has no name"))
            continue
        disks, missing = _ovf_disks(system, sizes)
        if missing is not None:
            place = Place(file, column=f"{name} HostResource")
            problems.append(ImportProblem(place, missing, "is no disk that the file describes"))
            continue
        machines.append(ImportedMachine(name, Place(file), kind="vm", disks=disks))
    if not machines and not problems:
        problems.append(ImportProblem(Place(file), "", "describes no virtual system"))
    return machines, problems


def _ovf_disks(
    system: Any, sizes: dict[str, tuple[float, float | None]]
) -> tuple[tuple[ImportedDisk, ...], str | None]:
    disks: list[ImportedDisk] = []
    for item in [*_every(system, "Item"), *_every(system, "StorageItem")]:
        for resource in _children(item, "HostResource"):
            said = (resource.text or "").strip()
            ident = said.rpartition("/")[2]
            if "/file/" in said:
                continue
            if ident not in sizes:
                return (), said
            wide, populated = sizes[ident]
            name = _text(item, "ElementName") or ident
            if any(disk.id == name for disk in disks):
                name = ident
            used = None if populated is None else round(min(populated, wide), 4)
            disks.append(ImportedDisk(name, round(wide, 4), used))
    return tuple(disks), None


# --- libvirt ----------------------------------------------------------------------------------

_LIBVIRT_UNITS = {
    "": 1, "b": 1, "byte": 1, "bytes": 1, "k": 2**10, "kib": 2**10, "kb": 10**3, "m": 2**20,
    "mib": 2**20, "mb": 10**6, "g": 2**30, "gib": 2**30, "gb": 10**9, "t": 2**40, "tib": 2**40,
    "tb": 10**12,
}  # fmt: skip


def volumes_of(root: Any) -> dict[str, tuple[float, float]]:
    """(capacity, allocation) in GiB of a libvirt volume, by its path, its key and its name."""
    sizes = []
    for name in ("capacity", "allocation"):
        element = next(iter(_children(root, name)), None)
        if element is None:
            raise Unreadable(f"The volume has no {name}.")
        unit = _LIBVIRT_UNITS.get((_attribute(element, "unit") or "").casefold())
        try:
            if unit is None:
                raise ValueError
            sizes.append(float(element.text or "") * unit / GIB)
        except ValueError:
            raise Unreadable(f"The {name} of the volume is no size.") from None
    target = next(iter(_children(root, "target")), None)
    names = {_text(root, "name"), _text(root, "key")}
    if target is not None:
        names.add(_text(target, "path"))
    return {name: (sizes[0], sizes[1]) for name in names if name}


def machines_of_domain(
    file: str, root: Any, volumes: dict[str, tuple[float, float]]
) -> tuple[list[ImportedMachine], list[ImportProblem]]:
    """The machines of a libvirt domain XML, or of several domains in one file.

    A domain does not say how large its disks are; the volumes that come with it do.
    """
    domains = [root] if _local(root.tag) == "domain" else _children(root, "domain")
    machines, problems = [], []
    for domain in domains:
        name = _text(domain, "name")
        if not name:
            problems.append(ImportProblem(Place(file, column="domain"), "", "has no name"))
            continue
        disks, wrong = _domain_disks(file, name, domain, volumes)
        if wrong is not None:
            problems.append(wrong)
            continue
        machines.append(ImportedMachine(name, Place(file), kind="vm", disks=disks))
    return machines, problems


def _domain_disks(
    file: str, name: str, domain: Any, volumes: dict[str, tuple[float, float]]
) -> tuple[tuple[ImportedDisk, ...], ImportProblem | None]:
    disks = []
    for disk in _every(domain, "disk"):
        if _attribute(disk, "device") not in (None, "disk"):
            continue
        source = next(iter(_children(disk, "source")), None)
        target = next(iter(_children(disk, "target")), None)
        if source is None or target is None:
            continue
        said = next(
            (v for k in ("file", "dev", "volume", "name") if (v := _attribute(source, k))), ""
        )
        ident = _attribute(target, "dev") or said
        found = volumes.get(said) or volumes.get(said.rpartition("/")[2])
        if found is None:
            disks.append(ImportedDisk(ident))
            continue
        wide, used = found
        disks.append(ImportedDisk(ident, round(wide, 4), round(min(used, wide), 4)))
    del file, name
    return tuple(disks), None
