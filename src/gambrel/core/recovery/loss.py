"""What is gone: from the names that a planner chooses to the machines, hosts and points lost."""

from __future__ import annotations

from dataclasses import dataclass

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.plan.objects import Machine, Plan
from gambrel.core.schedules.words import listed
from gambrel.core.words import count


@dataclass(frozen=True, slots=True)
class Loss:
    """What is gone, by id, and since when.

    Attributes:
        at: the instant of the loss, UTC seconds.
        clusters: names of clusters; all their hosts are gone.
        sites: with them their hosts, servers, proxies and repositories.
    """

    at: float
    machines: tuple[str, ...] = ()
    hosts: tuple[str, ...] = ()
    clusters: tuple[str, ...] = ()
    sites: tuple[str, ...] = ()
    repositories: tuple[str, ...] = ()

    @property
    def is_empty(self) -> bool:
        return not (self.machines or self.hosts or self.clusters or self.sites or self.repositories)


@dataclass(frozen=True, slots=True)
class Lost:
    """All that is gone with a loss.

    Attributes:
        machines: in the order of the plan; those of lost hosts and sites among them.
    """

    machines: tuple[Machine, ...]
    hosts: frozenset[str]
    sites: frozenset[str]
    repositories: frozenset[str]
    proxies: frozenset[str]


def lost_with(plan: Plan, loss: Loss) -> Lost:
    """What is gone with a loss.

    Raises:
        OperationError: for a name that the plan does not have, and where nothing is lost.
    """
    if loss.is_empty:
        raise OperationError("loss", None, "names nothing that is gone")
    clusters = {host.cluster for host in plan.hosts if host.cluster is not None}
    known = {
        "machines": plan.machine_by_id.keys(),
        "hosts": plan.host_by_id.keys(),
        "clusters": clusters,
        "sites": plan.site_by_id.keys(),
        "repositories": plan.repository_by_id.keys(),
    }
    for kind, names in known.items():
        for i, name in enumerate(getattr(loss, kind)):
            if name not in names:
                raise OperationError(f"loss.{kind}[{i}]", name, "is not in this plan any more")
    sites = frozenset(loss.sites)
    hosts = frozenset(
        host.id
        for host in plan.hosts
        if host.id in loss.hosts or host.cluster in loss.clusters or host.site in sites
    )
    machines = tuple(
        machine
        for machine in plan.machines
        if machine.id in loss.machines
        or (machine.kind == "vm" and machine.host in hosts)
        or (machine.kind == "server" and machine.site in sites)
    )
    gone = {machine.id for machine in machines}
    return Lost(
        machines=machines,
        hosts=hosts,
        sites=sites,
        repositories=frozenset(
            repository.id
            for repository in plan.repositories
            if repository.id in loss.repositories or repository.site in sites
        ),
        proxies=frozenset(
            proxy.id
            for proxy in plan.proxies
            if proxy.site in sites or proxy.on_host in hosts or proxy.on_machine in gone
        ),
    )


def loss_in_words(plan: Plan, loss: Loss, lost: Lost) -> str:
    """Name what is gone: "cluster quay-a: 61 machines"."""
    said = [
        *(f"site {plan.site_by_id[name].name}" for name in loss.sites),
        *(f"cluster {name}" for name in loss.clusters),
        *(f"host {name}" for name in loss.hosts),
        *(f"repository {name}" for name in loss.repositories),
    ]
    if loss.machines and not said:
        few = len(loss.machines) <= 2
        said = [", ".join(loss.machines) if few else count(len(loss.machines), "machine")]
        return said[0]
    if loss.machines:
        said.append(f"{count(len(loss.machines), 'machine')} by name")
    return f"{listed(said)}: {count(len(lost.machines), 'machine')}"
