"""What a change of the estate does to jobs, and how an earlier estate is brought back."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from datetime import date
from typing import Protocol, TypeVar

from gambrel.core.estate.differences import renamed
from gambrel.core.model.selection import selected_machines
from gambrel.core.plan import objects as p


@dataclass(frozen=True, slots=True)
class JobEffect:
    """A machine that joins a job, or leaves it; `by_rule`: it is not listed there by its name."""

    machine: str
    job: str
    joins: bool
    by_rule: bool

    def words(self, plan: p.Plan) -> str:
        name = plan.job_by_id[self.job].name
        if not self.joins:
            return f"leaves {name}"
        return f"joins {name} by rule" if self.by_rule else f"joins {name}, which lists it"


def job_effects(before: p.Plan, after: p.Plan) -> list[JobEffect]:
    """What machines join and leave which jobs from one plan to another, in the order of jobs."""
    found: list[JobEffect] = []
    was_of = {job.id: _selected(before, job) for job in before.jobs}
    names = _names_by_identity(before)
    for job in after.jobs:
        was, now = was_of.get(job.id, {}), _selected(after, job)
        same = {_identity(after.machine_by_id[ident]): ident for ident in now}
        for ident in now:
            known = names.get(_identity(after.machine_by_id[ident]), ident)
            if known not in was:
                found.append(JobEffect(ident, job.id, True, ident not in job.machines.ids))
        for ident, machine in was.items():
            if _identity(machine) not in same:
                found.append(JobEffect(ident, job.id, False, ident not in job.machines.ids))
    return found


def _selected(plan: p.Plan, job: p.Job) -> dict[str, p.Machine]:
    return {machine.id: machine for machine in selected_machines(plan, job)}


def _identity(machine: p.Machine) -> tuple[str, str]:
    found = machine.facts.found
    return ("", machine.id) if found is None else (found.source, found.uid)


def _names_by_identity(plan: p.Plan) -> dict[tuple[str, str], str]:
    return {_identity(machine): machine.id for machine in plan.machines}


def new_names(before: p.Plan, after: p.Plan) -> dict[str, str]:
    """What machines of a plan are called in another, where that is another name than before."""
    now = _names_by_identity(after)
    names = ((m.id, now.get(_identity(m), m.id)) for m in before.machines)
    return {old: new for old, new in names if old != new}


# --- bringing back ----------------------------------------------------------------------------


def with_estate_of(
    current: p.Plan, then: p.Plan, today: date, only: Iterable[str] | None = None
) -> p.Plan:
    """The current plan with hosts, datastores and machines as they were in another.

    Jobs, windows and points stay as they are. What there is now and was not then is marked as gone
    where something refers to it, and left out of the plan where nothing does.

    Args:
        only: names, as they are now or were then, of the machines, hosts and datastores that are
            brought back; without it all are.
    """
    wanted = None if only is None else set(only)
    plan = _named_as_then(current, then, wanted)

    def chosen(ident: str) -> bool:
        return wanted is None or ident in wanted

    hosts = _merged(plan.hosts, then.hosts, chosen)
    stores = _merged(plan.datastores, then.datastores, chosen)
    names = {host.id for host in hosts}
    stores = tuple(
        replace(store, hosts=tuple(host for host in store.hosts if host in names))
        for store in stores
    )
    plan = replace(plan, hosts=hosts, datastores=stores)
    known = {machine.id for machine in then.machines}
    machines = tuple(
        machine if machine.id in known or not chosen(machine.id) or machine.gone
        else replace(machine, facts=replace(machine.facts, gone_since=today))
        for machine in _merged(plan.machines, then.machines, chosen)
    )  # fmt: skip
    plan = replace(plan, machines=machines)
    return _without_unused(plan, then, wanted)


def _named_as_then(plan: p.Plan, then: p.Plan, wanted: set[str] | None) -> p.Plan:
    then_names = _names_by_identity(then)
    for machine in plan.machines:
        old = then_names.get(_identity(machine), machine.id)
        if old == machine.id or old in plan.machine_by_id:
            continue
        if wanted is None or old in wanted or machine.id in wanted:
            plan = renamed(plan, machine.id, old)
            if wanted is not None:
                wanted.add(old)
    return plan


class _Named(Protocol):
    @property
    def id(self) -> str: ...


_T = TypeVar("_T", bound=_Named)


def _merged(now: Iterable[_T], then: Iterable[_T], chosen: Callable[[str], bool]) -> tuple[_T, ...]:
    """Items as they were then where they are chosen, those that are only now behind them."""
    before = {item.id: item for item in then}
    kept = [before[x.id] if x.id in before and chosen(x.id) else x for x in now]
    present = {item.id for item in kept}
    return (*kept, *(x for x in then if x.id not in present and chosen(x.id)))


def _without_unused(plan: p.Plan, then: p.Plan, wanted: set[str] | None) -> p.Plan:
    """Without machines, datastores and hosts that were not there then and that nothing needs."""
    referred = {point.machine for point in plan.state.points}
    referred.update(proxy.on_machine or "" for proxy in plan.proxies)
    for job in plan.jobs:
        referred.update(job.machines.ids, job.machines.exclude)
        referred.update(machine for machine, _ in job.exclude_disks)

    def kept(ident: str, before: Iterable[str], used: set[str]) -> bool:
        return ident in before or ident in used or not (wanted is None or ident in wanted)

    machines = tuple(m for m in plan.machines if kept(m.id, then.machine_by_id, referred))
    stores = {disk.datastore or "" for machine in machines for disk in machine.disks}
    for proxy in plan.proxies:
        stores.update(proxy.direct_datastores, proxy.left_out_datastores)
    datastores = tuple(s for s in plan.datastores if kept(s.id, then.datastore_by_id, stores))
    hosts = {m.host or "" for m in machines} | {proxy.on_host or "" for proxy in plan.proxies}
    hosts |= {host for store in datastores for host in store.hosts}
    kept_hosts = tuple(h for h in plan.hosts if kept(h.id, then.host_by_id, hosts))
    return replace(plan, machines=machines, datastores=datastores, hosts=kept_hosts)
