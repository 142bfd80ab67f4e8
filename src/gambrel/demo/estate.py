"""Where the machines of Larkmoor come from: managers, hosts and agents of three makes."""

from __future__ import annotations

from dataclasses import dataclass
from random import Random
from typing import Any, Literal

SEED = 41
GROWTH_OF_FOLDER = {
    "cctv": 0.4, "cctvstore": 0.45, "fleet": 0.35, "radar": 0.3, "ticketing": 0.15,
    "freight": 0.12, "office": 0.04,
}  # fmt: skip
"""The yearly growth of a folder's machines; of all others a tenth."""


@dataclass(frozen=True, slots=True)
class SampleAccount:
    """A user of a part of a sample source; the secret is made up like all the rest.

    Attributes:
        fault: what is wrong with it at the source; "" where it works.
    """

    scope: str
    user: str
    secret: str
    fault: Literal["", "expired", "may not", "locked"] = ""


@dataclass(frozen=True, slots=True)
class SampleSource:
    """A source of the sample estate, with what of the plan file it names.

    Attributes:
        hosts: ids of its hosts; all machines and datastores on them are its own.
        servers: ids of the servers on which it is the agent.
    """

    name: str
    kind: Literal["manager", "host", "agent"]
    make: Literal["A", "B", "C"]
    site: str
    hosts: tuple[str, ...]
    servers: tuple[str, ...]
    accounts: tuple[SampleAccount, ...]


_MANAGERS = (("quay-a", "A", "quay"), ("quay-b", "B", "quay"), ("hill-a", "C", "hill"))
_STANDALONE = (
    ("qs-h1", "B", "quay"), ("qs-h2", "B", "quay"), ("nk-h1", "A", "norrvik"),
    ("nk-h2", "A", "norrvik"),
)  # fmt: skip
_FAULTS: dict[tuple[str, str], Literal["", "expired", "may not", "locked"]] = {
    ("quay-a", "host qa-h4"): "expired",
    ("quay-a", "role db"): "may not",
    ("radar-04", "server radar-04"): "locked",
}


def _account(source: str, scope: str, user: str) -> SampleAccount:
    secret = f"{source}-{scope.replace(' ', '-')}-made-up"
    return SampleAccount(scope, user, secret, _FAULTS.get((source, scope), ""))


def sample_sources(file: dict[str, Any]) -> list[SampleSource]:
    """The sources of the plan file of Larkmoor."""
    found = []
    for name, make, site in _MANAGERS:
        hosts = tuple(h["id"] for h in file["hosts"] if h.get("cluster") == name)
        scopes = ["source", *(f"host {host}" for host in hosts), "role db", "role directory"]
        accounts = tuple(_account(name, scope, "gambrel") for scope in scopes)
        found.append(SampleSource(name, "manager", make, site, hosts, (), accounts))  # type: ignore[arg-type]
    for name, make, site in _STANDALONE:
        accounts = (_account(name, "source", "gambrel"),)
        found.append(SampleSource(name, "host", make, site, (name,), (), accounts))  # type: ignore[arg-type]
    for machine in file["machines"]:
        if machine["kind"] == "server":
            name = machine["id"]
            accounts = (
                _account(name, "source", "agent"), _account(name, f"server {name}", "backup"),
            )  # fmt: skip
            found.append(SampleSource(name, "agent", "C", machine["site"], (), (name,), accounts))
    return found


def source_of(file: dict[str, Any]) -> dict[str, SampleSource]:
    """The source of each host, datastore and machine, by `list:id`."""
    found: dict[str, SampleSource] = {}
    for source in sample_sources(file):
        for host in source.hosts:
            found[f"hosts:{host}"] = source
        for server in source.servers:
            found[f"machines:{server}"] = source
    for store in file["datastores"]:
        found[f"datastores:{store['id']}"] = found[f"hosts:{store['hosts'][0]}"]
    for machine in file["machines"]:
        if machine["kind"] == "vm":
            found[f"machines:{machine['id']}"] = found[f"hosts:{machine['host']}"]
    return found


def with_facts(file: dict[str, Any]) -> None:
    """Add to a plan file of Larkmoor what sources and planners said of its estate."""
    random = Random(SEED)
    sources = source_of(file)
    letters = {"hosts": "h", "datastores": "s", "machines": "m"}
    for name, letter in letters.items():
        for number, item in enumerate(file[name], start=1):
            source = sources[f"{name}:{item['id']}"].name
            uid = f"{letter}-{random.randrange(16**6):06x}-{number:03d}"
            if name == "machines":
                item["facts"] = {"found": {"source": source, "uid": uid}}
            else:
                item["found"] = {"source": source, "uid": uid}
    unprotected = 0
    for machine in file["machines"]:
        facts = machine["facts"]
        if machine["kind"] == "vm":
            facts["role"], facts["owner"] = machine["tags"][1:3]
        facts["change_from"] = random.choice(("reported", "learned", "role"))
        usual = GROWTH_OF_FOLDER.get(machine["folder"], 0.1)
        facts["growth_per_year"] = round(usual * random.choice((0.8, 0.9, 1.0, 1.1, 1.2)), 2)
        facts["known_since"] = f"202{random.randrange(3, 6)}-{random.randrange(1, 13):02d}-15"
        if machine["folder"] == "staging":
            unprotected += 1
            facts["known_since"] = f"2026-{4 + unprotected // 3:02d}-{3 + unprotected:02d}"
        if random.random() < 0.03:
            day = random.randrange(1, 28)
            facts["snapshots"] = [
                {"name": "before the update", "taken_at": f"2026-09-{day:02d}T14:05:00Z",
                 "gib": round(random.uniform(4, 60), 1)}
            ]  # fmt: skip
        if random.random() < 0.02:
            facts["quiesces"] = False
        for disk in machine["disks"]:
            if disk["id"] == "backup-disk":
                disk["holds_backups"] = True
    by_id = {machine["id"]: machine for machine in file["machines"]}
    for name, review in (("staging-trial-11", "2027-01-31"), ("staging-trial-12", "2026-10-31")):
        by_id[name]["facts"]["left_out"] = {
            "reason": "rebuilt from its image every week", "review": review,
        }  # fmt: skip
