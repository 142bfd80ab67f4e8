"""The estate as the simulated sources have it, and what happens to it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from random import Random
from threading import RLock
from typing import Any

from gambrel.core.estate.inventory import (
    FoundDatastore,
    FoundDisk,
    FoundHost,
    FoundMachine,
    FoundSnapshot,
)
from gambrel.core.plan.instants import parse_instant
from gambrel.demo.estate import SampleAccount, SampleSource, sample_sources, source_of

FIRST_EVENTS = (
    "created", "migrated", "filled", "resized", "renamed", "cloned", "snapshot", "migrated",
    "deleted", "switched", "filled", "retagged", "migrated", "filled",
)  # fmt: skip
"""What has happened since the plan was made, when the sources are asked first."""
LATER_EVENTS = ("filled", "migrated", "filled", "resized", "snapshot", "created", "switched",
                "cloned", "renamed", "retagged", "deleted")  # fmt: skip
NOW = parse_instant("2026-11-02T11:00:00Z")


@dataclass
class Source:
    """One source: what it names, and a numbered list of all changes of that."""

    sample: SampleSource
    hosts: dict[str, FoundHost] = field(default_factory=dict)
    stores: dict[str, FoundDatastore] = field(default_factory=dict)
    machines: dict[str, FoundMachine] = field(default_factory=dict)
    changes: list[tuple[str, str, Any]] = field(default_factory=list)
    latency_s: float = 0.0
    fault: str = ""

    def account(self, user: str, secret: str, scope: str | None = None) -> SampleAccount | None:
        """The account of that user and secret, if there is one."""
        for account in self.sample.accounts:
            right = account.user == user and account.secret == secret
            if right and scope in (None, account.scope):
                return account
        return None

    def put(self, machine: FoundMachine) -> None:
        self.machines[machine.uid] = machine
        self.changes.append(("guest", machine.uid, machine))

    def drop(self, uid: str) -> None:
        del self.machines[uid]
        self.changes.append(("guest", uid, None))


class World:
    """All sources of a plan file; the same seed and the same number of steps, the same world."""

    def __init__(self, file: dict[str, Any], seed: int = 7) -> None:
        self.lock = RLock()
        self.random = Random(seed)
        self.happened: list[str] = []
        self.sources = {s.name: Source(s) for s in sample_sources(file)}
        self._fill(file)

    def _fill(self, file: dict[str, Any]) -> None:
        owners = source_of(file)
        uids = {f"hosts:{x['id']}": x["found"]["uid"] for x in file["hosts"]}
        uids |= {f"datastores:{x['id']}": x["found"]["uid"] for x in file["datastores"]}
        for host in file["hosts"]:
            source = self.sources[owners[f"hosts:{host['id']}"].name]
            found = FoundHost(
                host["found"]["uid"], host["id"], host.get("cluster"), host.get("nic_mbit_per_s")
            )
            source.hosts[found.uid] = found
            source.changes.append(("host", found.uid, found))
        for store in file["datastores"]:
            source = self.sources[owners[f"datastores:{store['id']}"].name]
            mounts = tuple(uids[f"hosts:{host}"] for host in store["hosts"])
            zoned = tuple(store.get("zoned_proxies", ()))
            made = FoundDatastore(store["found"]["uid"], store["id"], mounts, zoned)
            source.stores[made.uid] = made
            source.changes.append(("store", made.uid, made))
        for machine in file["machines"]:
            source = self.sources[owners[f"machines:{machine['id']}"].name]
            source.put(_machine(machine, uids))

    # --- life -----------------------------------------------------------------------------

    def begin(self) -> None:
        """Let happen what happened since the plan was made."""
        for event in FIRST_EVENTS:
            self.step(event)

    def step(self, event: str | None = None) -> str:
        """Let one thing happen; returns what it was."""
        with self.lock:
            kind = event or LATER_EVENTS[len(self.happened) % len(LATER_EVENTS)]
            happen: Callable[[], str] = getattr(self, f"_{kind}")
            words = happen()
            self.happened.append(words)
            return words

    def _some(self, *, cluster: bool = False) -> tuple[Source, FoundMachine]:
        """A VM by chance; `cluster`: one that can move to another host."""
        choices = [
            (source, machine)
            for source in self.sources.values()
            if source.hosts and (not cluster or len(source.hosts) > 1)
            for machine in source.machines.values()
            if machine.kind == "vm" and "gold" not in machine.tags
        ]
        return self.random.choice(choices)

    def _uid(self) -> str:
        return f"m-{self.random.randrange(16**6):06x}-n{len(self.happened):03d}"

    def _created(self) -> str:
        source, like = self._some(cluster=True)
        name = f"{like.folder}-{like.role}-{self.random.randrange(60, 99)}"
        disks = tuple(replace(d, used_gib=round(d.used_gib * 0.4, 1)) for d in like.disks)
        source.put(replace(like, uid=self._uid(), name=name, disks=disks, snapshots=()))
        return f"{name} was created"

    def _cloned(self) -> str:
        source, like = self._some()
        name = f"{like.name}-clone"
        source.put(replace(like, uid=self._uid(), name=name, tags=("bronze",), folder="lab"))
        return f"{name} was cloned"

    def _migrated(self) -> str:
        source, machine = self._some(cluster=True)
        host = self.random.choice([uid for uid in source.hosts if uid != machine.host])
        source.put(replace(machine, host=host))
        return f"{machine.name} moved"

    def _resized(self) -> str:
        source, machine = self._some()
        first, *rest = machine.disks
        wide = replace(first, provisioned_gib=round(first.provisioned_gib * 1.5))
        source.put(replace(machine, disks=(wide, *rest)))
        return f"{machine.name} was resized"

    def _filled(self) -> str:
        source, machine = self._some()
        *rest, last = machine.disks
        used = min(last.provisioned_gib, round(last.used_gib * self.random.uniform(1.1, 1.5), 1))
        source.put(replace(machine, disks=(*rest, replace(last, used_gib=used))))
        return f"{machine.name} filled"

    def _renamed(self) -> str:
        source, machine = self._some()
        name = f"{machine.name}-{self.random.choice(('new', 'old', 'tmp', 'b'))}"
        source.put(replace(machine, name=name))
        return f"{machine.name} was renamed"

    def _deleted(self) -> str:
        source, machine = self._some()
        source.drop(machine.uid)
        return f"{machine.name} was deleted"

    def _switched(self) -> str:
        source, machine = self._some()
        source.put(replace(machine, powered_on=not machine.powered_on))
        return f"{machine.name} was switched"

    def _retagged(self) -> str:
        source, machine = self._some()
        tags = ("gold", *machine.tags[1:])
        source.put(replace(machine, tags=tags))
        return f"{machine.name} got another tier"

    def _snapshot(self) -> str:
        source, machine = self._some()
        shot = FoundSnapshot(
            "before the change", NOW - 3600 * self.random.randrange(4, 200),
            round(self.random.uniform(2, 30), 1),
        )  # fmt: skip
        source.put(replace(machine, snapshots=(*machine.snapshots, shot)))
        return f"a snapshot of {machine.name} was taken"


def _machine(raw: dict[str, Any], uids: dict[str, str]) -> FoundMachine:
    facts = raw["facts"]
    return FoundMachine(
        uid=facts["found"]["uid"],
        name=raw["id"],
        kind=raw["kind"],
        host=uids[f"hosts:{raw['host']}"] if "host" in raw else None,
        folder=raw.get("folder", ""),
        tags=tuple(raw.get("tags", ())),
        powered_on=raw.get("powered_on", True),
        quiesces=facts.get("quiesces", True),
        role=facts.get("role", ""),
        daily_change=raw.get("daily_change"),
        nic_mbit_per_s=raw.get("nic_mbit_per_s"),
        disks=tuple(
            FoundDisk(
                d["id"], d["provisioned_gib"], d["used_gib"], d.get("swap_gib", 0.0),
                uids[f"datastores:{d['datastore']}"] if "datastore" in d else None,
                d.get("holds_backups", False),
            )
            for d in raw["disks"]
        ),
        snapshots=tuple(
            FoundSnapshot(s["name"], parse_instant(s["taken_at"]), s["gib"])
            for s in facts.get("snapshots", ())
        ),
    )  # fmt: skip
