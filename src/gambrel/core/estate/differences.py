"""What discovery found against what the plan has, and how a difference is taken into the plan."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import date
from typing import Any, Literal

from gambrel.core.estate import inventory as inv
from gambrel.core.estate.facts import daily_change_of, overridden, sizes_kept
from gambrel.core.plan import objects as p
from gambrel.core.words import gib

DifferenceKind = Literal["new", "gone", "moved", "grown", "renamed", "changed"]
KINDS: tuple[DifferenceKind, ...] = ("new", "gone", "moved", "grown", "renamed", "changed")
SubjectKind = Literal["host", "datastore", "machine"]

USED_CHANGES_BY = 0.02
"""A disk whose used space differs by less than this share of it is as it was."""
USED_CHANGES_GIB = 1.0
"""And so is one that differs by less than this, in GiB."""


class EstateError(ValueError):
    """Something of the estate that cannot be done: the subject and the reason."""

    def __init__(self, subject: str, reason: str) -> None:
        self.subject = subject
        self.reason = reason
        super().__init__(f"{subject}: {reason}")


@dataclass(frozen=True, slots=True)
class Difference:
    """One thing that a source says and that the plan has otherwise.

    Attributes:
        source: id of the source.
        uid: the source's own id of the subject.
        name: id of the subject in the plan; of something new, the name that it has at the source.
        words: what is different, in one line.
        now: the subject as the source has it, from `item_to_dict`; None where it is gone.
        site: of the source.
    """

    kind: DifferenceKind
    subject: SubjectKind
    source: str
    uid: str
    name: str
    words: str
    now: Mapping[str, Any] | None
    site: str

    @property
    def key(self) -> str:
        """The same for the same difference found again, another as soon as the source says more."""
        digest = hashlib.sha256(f"{self.name}: {self.words}".encode()).hexdigest()[:16]
        return f"{self.subject}:{self.kind}:{self.source}:{self.uid}:{digest}"[:240]


# --- finding differences ----------------------------------------------------------------------


def differences(plan: p.Plan, found: inv.Inventory) -> list[Difference]:
    """All differences between a plan and what one source says, hosts and datastores first."""
    return [
        *_of(plan.hosts, found.hosts, found, "host", _host_changes, _unused_hosts(plan)),
        *_of(
            plan.datastores, found.datastores, found, "datastore", _store_changes(plan, found),
            _unused_stores(plan),
        ),
        *_machine_differences(plan, found),
    ]  # fmt: skip


_Changes = Callable[[Any, Any], Iterable[str]]


def _known_by_uid(items: Iterable[Any], source: str) -> dict[str, Any]:
    return {x.found.uid: x for x in items if x.found is not None and x.found.source == source}


def _of(
    known: Iterable[Any],
    items: Iterable[Any],
    found: inv.Inventory,
    subject: SubjectKind,
    changes: _Changes,
    unused: set[str],
) -> Iterator[Difference]:
    """Differences of hosts or of datastores."""
    mine = _known_by_uid(known, found.source)
    by_name = {x.id: x for x in known if x.found is None}
    for item in items:
        now = inv.item_to_dict(item)
        was = mine.pop(item.uid, None) or by_name.get(item.name)
        if was is None:
            words = f"{subject} {item.name} is new"
            yield Difference(
                "new", subject, found.source, item.uid, item.name, words, now, found.site
            )
            continue
        told = list(changes(was, item))
        if told:
            words = f"{subject} {was.id}: {'; '.join(told)}"
            yield Difference(
                "changed", subject, found.source, item.uid, was.id, words, now, found.site
            )
    if found.complete:
        for uid, was in mine.items():
            if was.id in unused:
                words = f"{subject} {was.id} is no longer there"
                yield Difference(
                    "gone", subject, found.source, uid, was.id, words, None, found.site
                )


def _unused_hosts(plan: p.Plan) -> set[str]:
    """Hosts that nothing of the plan stands on."""
    used = {machine.host for machine in plan.machines} | {proxy.on_host for proxy in plan.proxies}
    return {host.id for host in plan.hosts} - used


def _unused_stores(plan: p.Plan) -> set[str]:
    used = {disk.datastore for machine in plan.machines for disk in machine.disks}
    for proxy in plan.proxies:
        used.update(proxy.direct_datastores, proxy.left_out_datastores)
    return {store.id for store in plan.datastores} - used


def _host_changes(was: p.Host, now: inv.FoundHost) -> Iterator[str]:
    if was.cluster != now.cluster:
        yield f"in cluster {now.cluster or 'none'} (was {was.cluster or 'none'})"
    if now.nic_mbit_per_s is not None and was.nic_mbit_per_s != now.nic_mbit_per_s:
        yield f"network {now.nic_mbit_per_s:g} Mbit/s"


def _store_changes(plan: p.Plan, found: inv.Inventory) -> _Changes:
    names = _host_names(plan, found)

    def changes(was: p.Datastore, now: inv.FoundDatastore) -> Iterator[str]:
        mounts = {names.get(uid, uid) for uid in now.hosts}
        more, less = sorted(mounts - set(was.hosts)), sorted(set(was.hosts) - mounts)
        if more:
            yield "also mounted by " + ", ".join(more)
        if less:
            yield "no longer mounted by " + ", ".join(less)
        zoned, before = set(_proxies_of(plan, now)), set(was.zoned_proxies)
        if zoned - before:
            yield "zoned to " + ", ".join(sorted(zoned - before))
        if before - zoned:
            yield "no longer zoned to " + ", ".join(sorted(before - zoned))

    return changes


def _proxies_of(plan: p.Plan, store: inv.FoundDatastore) -> tuple[str, ...]:
    """Proxies of the plan that a datastore is zoned to; other machines do not matter."""
    known = {proxy.id for proxy in plan.proxies}
    return tuple(name for name in store.zoned_to if name in known)


def _host_names(plan: p.Plan, found: inv.Inventory) -> dict[str, str]:
    """Ids in the plan by uid, of hosts that are new the name that they will have."""
    names = {host.uid: host.name for host in found.hosts}
    return names | {uid: h.id for uid, h in _known_by_uid(plan.hosts, found.source).items()}


def _store_names(plan: p.Plan, found: inv.Inventory) -> dict[str, str]:
    names = {store.uid: store.name for store in found.datastores}
    return names | {uid: s.id for uid, s in _known_by_uid(plan.datastores, found.source).items()}


def _machine_differences(plan: p.Plan, found: inv.Inventory) -> Iterator[Difference]:
    mine = {
        m.facts.found.uid: m
        for m in plan.machines
        if m.facts.found is not None and m.facts.found.source == found.source
    }
    unclaimed = {m.id: m for m in plan.machines if m.facts.found is None}
    hosts, stores = _host_names(plan, found), _store_names(plan, found)
    for now in found.machines:
        was = mine.pop(now.uid, None) or unclaimed.get(now.name)
        if was is None or was.gone:
            words = f"{now.name} is {'new' if was is None else 'back'}, {_size(now)}"
            name = now.name if was is None else was.id
            yield _difference("new", found, now, name, words)
        else:
            yield from _changes_of(was, now, found, hosts, stores)
    if found.complete:
        for uid, was in mine.items():
            if not was.gone:
                words = f"{was.id} is no longer there"
                yield Difference(
                    "gone", "machine", found.source, uid, was.id, words, None, found.site
                )


def _difference(
    kind: DifferenceKind, found: inv.Inventory, now: inv.FoundMachine, name: str, words: str
) -> Difference:
    return Difference(
        kind, "machine", found.source, now.uid, name, words, inv.item_to_dict(now), found.site
    )


def _size(machine: inv.FoundMachine) -> str:
    return gib(sum(disk.used_gib for disk in machine.disks)) + " used"


def _changes_of(
    was: p.Machine,
    now: inv.FoundMachine,
    found: inv.Inventory,
    hosts: Mapping[str, str],
    stores: Mapping[str, str],
) -> Iterator[Difference]:
    if now.name != was.id:
        yield _difference("renamed", found, now, was.id, f"{was.id} is now called {now.name}")
    host = None if now.host is None else hosts.get(now.host, now.host)
    if was.kind == "vm" and host != was.host:
        words = f"{was.id} runs on {host} (was {was.host})"
        yield _difference("moved", found, now, was.id, words)
    told = list(_disk_changes(was, now, stores))
    if told:
        yield _difference("grown", found, now, was.id, f"{was.id}: {'; '.join(told)}")
    told = list(_other_changes(was, now, found))
    if told:
        yield _difference("changed", found, now, was.id, f"{was.id}: {'; '.join(told)}")


def _disk_changes(
    was: p.Machine, now: inv.FoundMachine, stores: Mapping[str, str]
) -> Iterator[str]:
    before, after = {d.id: d for d in was.disks}, {d.id: d for d in now.disks}
    for ident, disk in after.items():
        old = before.get(ident)
        if old is None:
            yield f"disk {ident} is new, {gib(disk.used_gib)} used"
            continue
        stated = {
            fact: overridden(was, f"{ident}/{fact}")
            for fact in ("provisioned_gib", "used_gib", "swap_gib")
        }
        if abs(disk.provisioned_gib - old.provisioned_gib) > 0.05 and not stated["provisioned_gib"]:
            yield f"disk {ident} {gib(disk.provisioned_gib)} (was {gib(old.provisioned_gib)})"
        by = abs(disk.used_gib - old.used_gib)
        if by > max(USED_CHANGES_GIB, USED_CHANGES_BY * old.used_gib) and not stated["used_gib"]:
            yield f"disk {ident} {gib(disk.used_gib)} used (was {gib(old.used_gib)})"
        elif abs(disk.swap_gib - old.swap_gib) > 0.05 and not stated["swap_gib"]:
            yield f"disk {ident} {gib(disk.swap_gib)} swap (was {gib(old.swap_gib)})"
        store = None if disk.datastore is None else stores.get(disk.datastore, disk.datastore)
        if store != old.datastore and was.kind == "vm":
            yield f"disk {ident} on {store} (was {old.datastore})"
        kept = overridden(was, f"{ident}/holds_backups")
        if disk.holds_backups != old.holds_backups and not kept:
            yield f"disk {ident} {'holds' if disk.holds_backups else 'no longer holds'} backups"
    for ident in before:
        if ident not in after:
            yield f"disk {ident} is no longer there"


def _other_changes(was: p.Machine, now: inv.FoundMachine, found: inv.Inventory) -> Iterator[str]:
    if was.facts.found is None and found.complete:
        yield f"is {now.uid} of {found.source}"
    if now.powered_on != was.powered_on:
        yield "switched on" if now.powered_on else "switched off"
    if now.folder != was.folder:
        yield f"in folder {now.folder or 'none'} (was {was.folder or 'none'})"
    for word, tags in (("gained", set(now.tags) - set(was.tags)),
                       ("lost", set(was.tags) - set(now.tags))):  # fmt: skip
        if tags:
            yield f"{word} the tag {', '.join(sorted(tags))}"
    known = {(shot.name, round(shot.taken_at)) for shot in was.facts.snapshots}
    shots = {(shot.name, round(shot.taken_at)) for shot in now.snapshots}
    for name, _ in sorted(shots - known):
        yield f"snapshot {name} was taken"
    for name, _ in sorted(known - shots):
        yield f"snapshot {name} was removed"
    if now.quiesces != was.facts.quiesces and not overridden(was, "quiesces"):
        yield "can be quiesced again" if now.quiesces else "cannot be quiesced"
    if now.role and now.role != was.facts.role and not overridden(was, "role"):
        yield f"role {now.role}"


# --- taking a difference into the plan --------------------------------------------------------


def in_order(found: Iterable[Difference]) -> list[Difference]:
    """Differences in an order in which each finds what it refers to."""
    subjects = ("host", "datastore", "machine")
    kinds = ("new", "changed", "moved", "grown", "renamed", "gone")
    return sorted(found, key=lambda d: (subjects.index(d.subject), kinds.index(d.kind)))


def accept(plan: p.Plan, difference: Difference, today: date) -> p.Plan:
    """The plan with one difference taken over; see `accept_all`."""
    return accept_all(plan, [difference], today)


def accept_all(plan: p.Plan, found: Iterable[Difference], today: date) -> p.Plan:
    """The plan with differences taken over, one after the other.

    Nothing is ever deleted that has a history: a machine that is gone stays with its points and is
    in no job any more.

    Raises:
        EstateError: where the plan has not what a difference is about, or not what it needs.
    """
    taking = _Taking(plan, today)
    for difference in found:
        taking.take(difference)
    return taking.plan()


def takeable(plan: p.Plan, found: Iterable[Difference], today: date) -> list[Difference]:
    """Those of some differences that can be taken over, one after the other.

    What needs a host or datastore that is neither in the plan nor among them is left out.
    """
    taking, fitting = _Taking(plan, today), []
    for difference in found:
        try:
            taking.take(difference)
        except EstateError:
            continue
        fitting.append(difference)
    return fitting


def _free_name(name: str, taken: Iterable[str], uid: str) -> str:
    """A name that is not taken: with the source's id behind it where it is."""
    if name not in taken:
        return name
    return next(x for x in (f"{name} ({uid})", *(f"{name} ({uid}) {i}" for i in range(2, 99)))
                if x not in taken)  # fmt: skip


class _Taking:
    """A plan while differences are taken into it."""

    def __init__(self, plan: p.Plan, today: date) -> None:
        self.base = plan
        self.today = today
        self.hosts = {host.id: host for host in plan.hosts}
        self.stores = {store.id: store for store in plan.datastores}
        self.machines = {machine.id: machine for machine in plan.machines}
        self.host_of = {h.found: h.id for h in plan.hosts if h.found is not None}
        self.store_of = {s.found: s.id for s in plan.datastores if s.found is not None}
        self.machine_of = {m.facts.found: m.id for m in plan.machines if m.facts.found is not None}
        self.names: dict[str, str] = {}

    def take(self, d: Difference) -> None:
        {"host": self._host, "datastore": self._store, "machine": self._machine}[d.subject](d)

    def plan(self) -> p.Plan:
        plan = replace(
            self.base,
            hosts=tuple(self.hosts.values()),
            datastores=tuple(self.stores.values()),
            machines=tuple(self.machines.values()),
        )
        return without_lost_disks(with_names(plan, self.names))

    # --- hosts and datastores ---------------------------------------------------------------

    def _host(self, d: Difference) -> None:
        if d.kind == "gone":
            self.hosts.pop(d.name, None)
            for store in self.stores.values():
                if d.name in store.hosts:
                    kept = tuple(host for host in store.hosts if host != d.name)
                    self.stores[store.id] = replace(store, hosts=kept)
            return
        assert d.now is not None
        now, found = inv.host_from_dict(d.now), p.Found(d.source, d.uid)
        if d.kind == "new":
            name = _free_name(now.name, self.hosts, now.uid)
            self.hosts[name] = p.Host(name, d.site, now.cluster, now.nic_mbit_per_s, found=found)
        else:
            was = self.hosts.get(d.name)
            if was is None:
                raise EstateError(d.name, "is not a host of this plan any more")
            name = was.id
            nic = now.nic_mbit_per_s or was.nic_mbit_per_s
            self.hosts[name] = replace(was, cluster=now.cluster, nic_mbit_per_s=nic, found=found)
        self.host_of[found] = name

    def _store(self, d: Difference) -> None:
        if d.kind == "gone":
            self.stores.pop(d.name, None)
            return
        assert d.now is not None
        now, found = inv.datastore_from_dict(d.now), p.Found(d.source, d.uid)
        hosts = tuple(self._needed(self.host_of, d, uid, "host") for uid in now.hosts)
        zoned = _proxies_of(self.base, now)
        if d.kind == "new":
            name = _free_name(now.name, self.stores, now.uid)
            self.stores[name] = p.Datastore(name, hosts, zoned_proxies=zoned, found=found)
        else:
            was = self.stores.get(d.name)
            if was is None:
                raise EstateError(d.name, "is not a datastore of this plan any more")
            name = was.id
            self.stores[name] = replace(was, hosts=hosts, zoned_proxies=zoned, found=found)
        self.store_of[found] = name

    def _needed(self, known: Mapping[p.Found, str], d: Difference, uid: str, what: str) -> str:
        name = known.get(p.Found(d.source, uid))
        if name is None:
            reason = f"needs the {what} {uid!r}, which is not in the plan: take it first"
            raise EstateError(d.name, reason)
        return name

    # --- machines ---------------------------------------------------------------------------

    def _subject(self, d: Difference) -> p.Machine | None:
        """The machine that it is about: by identity, so that a rename does not lose it."""
        known = self.machine_of.get(p.Found(d.source, d.uid))
        if known is not None:
            return self.machines[known]
        named = self.machines.get(d.name)
        return named if named is not None and named.facts.found is None else None

    def _machine(self, d: Difference) -> None:
        was = self._subject(d)
        if was is None and d.kind != "new":
            raise EstateError(d.name, "is not a machine of this plan any more")
        if d.kind == "gone":
            assert was is not None
            facts = replace(was.facts, gone_since=self.today)
            self.machines[was.id] = replace(was, facts=facts)
            return
        assert d.now is not None
        now = inv.machine_from_dict(d.now)
        if was is None:
            machine = self._new_machine(d, now)
        elif d.kind == "renamed":
            self._rename(was.id, _free_name(now.name, self.machines, now.uid))
            return
        else:
            machine = self._changed_machine(d, was, now)
        self.machines[machine.id] = machine
        self.machine_of[p.Found(d.source, d.uid)] = machine.id

    def _rename(self, old: str, new: str) -> None:
        self.machines = {
            (new if ident == old else ident): (replace(m, id=new) if ident == old else m)
            for ident, m in self.machines.items()
        }
        found = self.machines[new].facts.found
        if found is not None:
            self.machine_of[found] = new
        first = next((then for then, now in self.names.items() if now == old), old)
        self.names[first] = new

    def _changed_machine(self, d: Difference, was: p.Machine, now: inv.FoundMachine) -> p.Machine:
        facts = replace(was.facts, found=p.Found(d.source, d.uid))
        host = was.host
        if d.kind in ("moved", "new") and now.host is not None:
            host = self._needed(self.host_of, d, now.host, "host")
        if d.kind == "moved":
            return replace(was, host=host, facts=facts)
        disks = was.disks
        if d.kind in ("grown", "new"):
            disks = self._disks(d, now, {disk.id: disk for disk in was.disks})
            disks, kept = sizes_kept(was, disks)
            facts = replace(facts, reported=kept.reported)
        if d.kind == "grown":
            return replace(was, disks=disks, facts=facts)
        facts = replace(
            facts, snapshots=_snapshots(now),
            quiesces=facts.quiesces if overridden(was, "quiesces") else now.quiesces,
            role=facts.role if overridden(was, "role") else now.role or facts.role,
            gone_since=None,
        )  # fmt: skip
        return replace(
            was, host=host, disks=disks, tags=tuple(dict.fromkeys(now.tags)), folder=now.folder,
            powered_on=now.powered_on, facts=facts,
        )  # fmt: skip

    def _disks(
        self, d: Difference, now: inv.FoundMachine, before: Mapping[str, p.Disk]
    ) -> tuple[p.Disk, ...]:
        def store(uid: str | None) -> str | None:
            if uid is None or now.kind == "server":
                return None
            return self._needed(self.store_of, d, uid, "datastore")

        return tuple(
            p.Disk(
                disk.id,
                disk.provisioned_gib,
                min(disk.used_gib, disk.provisioned_gib),
                min(disk.swap_gib, disk.used_gib),
                store(disk.datastore),
                before[disk.id].read_mib_per_s if disk.id in before else None,
                disk.holds_backups,
            )
            for disk in now.disks
        )

    def _new_machine(self, d: Difference, now: inv.FoundMachine) -> p.Machine:
        vm = now.kind == "vm"
        if vm and now.host is None:
            raise EstateError(now.name, "is a VM of which the source names no host")
        change, source = daily_change_of(now.role, now.daily_change)
        return p.Machine(
            id=_free_name(now.name, self.machines, now.uid),
            kind=now.kind,
            disks=self._disks(d, now, {}),
            host=self._needed(self.host_of, d, now.host, "host") if vm and now.host else None,
            site=None if vm else d.site,
            nic_mbit_per_s=None if vm else now.nic_mbit_per_s,
            tags=tuple(dict.fromkeys(now.tags)),
            folder=now.folder,
            powered_on=now.powered_on,
            daily_change=change,
            facts=p.Facts(
                found=p.Found(d.source, d.uid), role=now.role, change_from=source,
                quiesces=now.quiesces, snapshots=_snapshots(now), known_since=self.today,
            ),
        )  # fmt: skip


def _snapshots(now: inv.FoundMachine) -> tuple[p.UserSnapshot, ...]:
    return tuple(p.UserSnapshot(s.name, s.taken_at, s.gib) for s in now.snapshots)


def without_lost_disks(plan: p.Plan) -> p.Plan:
    """Jobs that leave out a disk which its machine has no longer, or a path there, forget it."""
    if not any(job.exclude_disks or job.exclude_paths for job in plan.jobs):
        return plan
    disks = {(machine.id, disk.id) for machine in plan.machines for disk in machine.disks}

    def kept(job: p.Job) -> p.Job:
        left_out = tuple(entry for entry in job.exclude_disks if entry in disks)
        paths = tuple(x for x in job.exclude_paths if (x.machine, x.disk) in disks)
        if left_out == job.exclude_disks and paths == job.exclude_paths:
            return job
        return replace(job, exclude_disks=left_out, exclude_paths=paths)

    return replace(plan, jobs=tuple(map(kept, plan.jobs)))


def with_names(plan: p.Plan, names: Mapping[str, str]) -> p.Plan:
    """The plan with other names of machines wherever jobs and points name them."""
    if not names:
        return plan

    def name(ident: str) -> str:
        return names.get(ident, ident)

    def selection(item: p.Selection) -> p.Selection:
        return replace(item, ids=tuple(map(name, item.ids)), exclude=tuple(map(name, item.exclude)))

    def condition(item: p.Condition) -> p.Condition:
        named = item.field == "name" and item.op == "is" and isinstance(item.value, str)
        return replace(item, value=name(str(item.value))) if named else item

    return replace(
        plan,
        proxies=tuple(
            x if x.on_machine is None else replace(x, on_machine=name(x.on_machine))
            for x in plan.proxies
        ),
        jobs=tuple(
            replace(
                job,
                machines=selection(job.machines),
                exclude_disks=tuple((name(m), disk) for m, disk in job.exclude_disks),
                exclude_paths=tuple(replace(x, machine=name(x.machine)) for x in job.exclude_paths),
                exclude_reasons=tuple(
                    replace(x, machine=name(x.machine)) for x in job.exclude_reasons
                ),
                destinations=tuple(
                    replace(x, rules=tuple(tuple(map(condition, rule)) for rule in x.rules))
                    for x in job.destinations
                ),
            )
            for job in plan.jobs
        ),
        state=replace(
            plan.state,
            points=tuple(
                replace(point, machine=name(point.machine)) if point.machine in names else point
                for point in plan.state.points
            ),
        ),
    )


def renamed(plan: p.Plan, old: str, new: str) -> p.Plan:
    """The plan with another name for a machine, wherever it stands: jobs and points follow it.

    Raises:
        EstateError: where there is no such machine, or another one has the name.
    """
    if old not in plan.machine_by_id:
        raise EstateError(old, "is not a machine of this plan any more")
    if new in plan.machine_by_id:
        raise EstateError(new, "is the name of another machine")

    machines = tuple(replace(m, id=new) if m.id == old else m for m in plan.machines)
    return with_names(replace(plan, machines=machines), {old: new})


__all__ = [
    "KINDS",
    "Difference",
    "DifferenceKind",
    "EstateError",
    "SubjectKind",
    "accept",
    "accept_all",
    "differences",
    "in_order",
    "renamed",
    "takeable",
    "with_names",
    "without_lost_disks",
]  # fmt: skip
