"""Machines out of files, and how they change a plan."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Literal

from gambrel.core.estate.facts import checked, daily_change_of, stated
from gambrel.core.plan import objects as p
from gambrel.core.words import count, gib


@dataclass(frozen=True, slots=True)
class Place:
    """Where in which file something stands; `line` from 1, `column` by its name."""

    file: str
    line: int | None = None
    column: str | None = None


@dataclass(frozen=True, slots=True)
class ImportProblem:
    """Something that cannot be imported: where, its value, the reason."""

    place: Place
    value: str
    reason: str


class BadImport(ValueError):
    """Something of a machine that cannot be: the column, its value, the reason."""

    def __init__(self, column: str, value: object, reason: str) -> None:
        self.column = column
        self.value = str(value)
        self.reason = reason
        super().__init__(f"{column}: {value!r} {reason}")


@dataclass(frozen=True, slots=True)
class ImportedDisk:
    """A disk; None stands for what the file does not say."""

    id: str
    provisioned_gib: float | None = None
    used_gib: float | None = None
    swap_gib: float | None = None
    datastore: str | None = None


@dataclass(frozen=True, slots=True)
class ImportedMachine:
    """A machine out of a file; None stands for what the file does not say."""

    name: str
    place: Place
    kind: Literal["vm", "server"] | None = None
    host: str | None = None
    site: str | None = None
    folder: str | None = None
    tags: tuple[str, ...] | None = None
    powered_on: bool | None = None
    role: str | None = None
    owner: str | None = None
    facts: tuple[tuple[str, float], ...] = ()
    disks: tuple[ImportedDisk, ...] | None = None
    exact: p.Machine | None = None
    """The machine as a plan file has it."""


@dataclass(frozen=True, slots=True)
class Imported:
    """A plan after an import: lines about each machine that it changes, and what was not taken."""

    plan: p.Plan
    lines: tuple[str, ...]
    names: tuple[str, ...]
    problems: tuple[ImportProblem, ...]
    unchanged: int


def with_machines(
    plan: p.Plan, machines: Sequence[ImportedMachine], default_host: str | None, today: date
) -> Imported:
    """A plan with machines of files: those of a known name are changed, the others are new.

    Machines that cannot be taken are named among the problems and change nothing.

    Args:
        default_host: the host of VMs of which the file names none.
    """
    by_name = {machine.id: machine for machine in plan.machines}
    order = list(by_name)
    lines, names, problems = [], [], []
    seen: dict[str, Place] = {}
    unchanged = 0
    for machine in machines:
        if machine.name in seen:
            first = seen[machine.name]
            where = f"line {first.line} of {first.file}" if first.line else first.file
            problems.append(
                ImportProblem(
                    replace(machine.place, column="name"), machine.name,
                    f"is the name of another machine: {where}",
                )
            )  # fmt: skip
            continue
        seen[machine.name] = machine.place
        was = by_name.get(machine.name)
        try:
            now = machine.exact or _made(plan, machine, was, default_host, today)
            _check(plan, now)
        except BadImport as error:
            place = replace(machine.place, column=error.column)
            problems.append(ImportProblem(place, error.value, error.reason))
            continue
        except ValueError as error:
            problems.append(ImportProblem(machine.place, machine.name, str(error)))
            continue
        if now == was:
            unchanged += 1
            continue
        if was is None:
            order.append(now.id)
        by_name[now.id] = now
        lines.append(_line(was, now))
        names.append(now.id)
    changed = replace(plan, machines=tuple(by_name[name] for name in order))
    return Imported(changed, tuple(lines), tuple(names), tuple(problems), unchanged)


def hosts_not_there(plan: p.Plan, machines: Sequence[ImportedMachine]) -> tuple[str, ...]:
    """Hosts that VMs of files run on and the plan does not have, in the order of the files."""
    named = (m.host for m in machines if m.host is not None and m.kind != "server")
    return tuple(dict.fromkeys(host for host in named if host not in plan.host_by_id))


def with_hosts_of(plan: p.Plan, machines: Sequence[ImportedMachine], site: str) -> p.Plan:
    """A plan with the hosts and datastores that VMs of files name and it does not have.

    A host that mounts none of those gets a datastore of its own, called after it.

    Args:
        site: where the hosts stand.
    """
    new_hosts = hosts_not_there(plan, machines)
    mounts: dict[str, dict[str, None]] = {store.id: {} for store in plan.datastores}
    for machine in machines:
        for disk in machine.disks or ():
            known = disk.datastore in plan.datastore_by_id
            if machine.host and disk.datastore and (machine.host in new_hosts or not known):
                mounts.setdefault(disk.datastore, {})[machine.host] = None
    mounting = {host for hosts in mounts.values() for host in hosts}
    for host in new_hosts:
        if host not in mounting:
            name = f"{host}-disks"
            mounts.setdefault(name, {})[host] = None
    stores = [
        replace(store, hosts=tuple(dict.fromkeys((*store.hosts, *mounts[store.id]))))
        for store in plan.datastores
    ]
    stores += [
        p.Datastore(name, tuple(hosts))
        for name, hosts in mounts.items()
        if name not in plan.datastore_by_id
    ]
    return replace(
        plan,
        hosts=(*plan.hosts, *(p.Host(host, site) for host in new_hosts)),
        datastores=tuple(stores),
    )


def _made(
    plan: p.Plan, new: ImportedMachine, was: p.Machine | None, host: str | None, today: date
) -> p.Machine:
    kind = new.kind or (was.kind if was else "server" if new.site and not new.host else "vm")
    if was is not None and kind != was.kind:
        raise BadImport("kind", kind, f"but {new.name} is a {was.kind} in the plan")
    vm = kind == "vm"
    name_of_host = (new.host or (was.host if was else None) or host) if vm else None
    if vm and name_of_host is None:
        raise BadImport("host", "", "is missing: a VM needs its host; name one for all above")
    if name_of_host is not None and name_of_host not in plan.host_by_id:
        raise BadImport("host", name_of_host, "is not the name of a host of the plan")
    site = None if vm else new.site or (was.site if was else None)
    if not vm and site is None:
        raise BadImport("site", "", "is missing: a server needs its site")
    if site is not None and site not in plan.site_by_id:
        raise BadImport("site", site, "is not a site of the plan")
    role = new.role if new.role is not None else was.facts.role if was else ""
    if was is None:
        change, origin = daily_change_of(role, None)
        made = p.Machine(
            new.name, kind, (), daily_change=change,
            facts=p.Facts(change_from=origin, known_since=today),
        )  # fmt: skip
    else:
        made = was
    made = replace(
        made,
        host=name_of_host,
        site=site,
        folder=made.folder if new.folder is None else new.folder,
        tags=made.tags if new.tags is None else new.tags,
        powered_on=made.powered_on if new.powered_on is None else new.powered_on,
        disks=_disks(plan, new, made, name_of_host),
        facts=replace(
            made.facts,
            role=role,
            owner=made.facts.owner if new.owner is None else new.owner,
            gone_since=None,
        ),
    )
    for field, value in new.facts:
        made = stated(made, field, value)
    return made


def _disks(
    plan: p.Plan, new: ImportedMachine, was: p.Machine, host: str | None
) -> tuple[p.Disk, ...]:
    if new.disks is None:
        return was.disks
    before = {disk.id: disk for disk in was.disks}
    return tuple(_disk(plan, disk, before.get(disk.id), host) for disk in new.disks)


def _disk(plan: p.Plan, new: ImportedDisk, was: p.Disk | None, host: str | None) -> p.Disk:
    used = new.used_gib if new.used_gib is not None else was.used_gib if was else None
    wide = new.provisioned_gib
    if wide is None:
        wide = was.provisioned_gib if was else used
    if wide is None:
        raise BadImport("provisioned", "", f"is missing: how large is disk {new.id}?")
    if used is None:
        used = wide
    swap = new.swap_gib if new.swap_gib is not None else was.swap_gib if was else 0.0
    if used > wide:
        raise BadImport("used", f"{used:g}", f"is more than the {gib(wide)} provisioned")
    if swap > used:
        raise BadImport("swap", f"{swap:g}", f"is more than the {gib(used)} used")
    store = new.datastore or (was.datastore if was else None)
    if host is None:
        store = None
    elif store is None:
        store = next((s.id for s in plan.datastores if host in s.hosts), None)
        if store is None:
            raise BadImport("datastore", "", f"is missing, and {host} mounts none")
    elif store not in plan.datastore_by_id:
        raise BadImport("datastore", store, "is not a datastore of the plan")
    return p.Disk(
        new.id, wide, used, swap, store, was.read_mib_per_s if was else None,
        was.holds_backups if was else False,
    )  # fmt: skip


def _check(plan: p.Plan, machine: p.Machine) -> None:
    """What a machine of a plan file refers to must be there."""
    if machine.host is not None and machine.host not in plan.host_by_id:
        raise BadImport("host", machine.host, "is not the name of a host of the plan")
    if machine.site is not None and machine.site not in plan.site_by_id:
        raise BadImport("site", machine.site, "is not a site of the plan")
    for disk in machine.disks:
        if disk.datastore is not None and disk.datastore not in plan.datastore_by_id:
            raise BadImport("datastore", disk.datastore, "is not a datastore of the plan")
    for field in ("daily_change", "compress_ratio", "churn_ceiling"):
        checked(field, getattr(machine, field))


def _line(was: p.Machine | None, now: p.Machine) -> str:
    used = sum(disk.used_gib for disk in now.disks)
    where = now.host or now.site
    if was is None:
        return f"{now.id} is new on {where}: {count(len(now.disks), 'disk')}, {gib(used)} used"
    told = []
    if was.gone and not now.gone:
        told.append("is back")
    if was.host != now.host or was.site != now.site:
        told.append(f"on {where} (was {was.host or was.site})")
    before = {disk.id: disk for disk in was.disks}
    for disk in now.disks:
        old = before.pop(disk.id, None)
        if old is None:
            told.append(f"disk {disk.id} is new, {gib(disk.used_gib)} used")
        elif old != disk:
            told.append(
                f"disk {disk.id} {gib(disk.used_gib)} of {gib(disk.provisioned_gib)} "
                f"(was {gib(old.used_gib)} of {gib(old.provisioned_gib)})"
            )
    told += [f"disk {ident} is no longer there" for ident in before]
    for name in ("folder", "powered_on", "daily_change", "compress_ratio", "rpo_hours"):
        if getattr(was, name) != getattr(now, name):
            told.append(f"{name.replace('_', ' ')} {getattr(now, name)}")
    if was.tags != now.tags:
        told.append("tags " + (", ".join(now.tags) or "none"))
    if was.facts.role != now.facts.role:
        told.append(f"role {now.facts.role or 'none'}")
    if was.facts.owner != now.facts.owner:
        told.append(f"owner {now.facts.owner or 'none'}")
    return f"{now.id}: " + ("; ".join(told) or "other facts")
