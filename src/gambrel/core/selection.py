"""Which machines a job protects (section 2)."""

from __future__ import annotations

from gambrel.core.plan import Condition, Job, Machine, Plan


def _texts(plan: Plan, machine: Machine, field: str) -> list[str]:
    """The values a text condition looks at: none where the machine has no such thing."""
    host = plan.host_by_id[machine.host] if machine.host is not None else None
    if field == "name":
        return [machine.id]
    if field == "folder":
        return [machine.folder]
    if field == "kind":
        return [machine.kind]
    if field == "site":
        return [plan.site_of(machine)]
    if field == "host":
        return [host.id] if host else []
    if field == "cluster":
        return [host.cluster] if host and host.cluster is not None else []
    assert field == "datastore"
    return [disk.datastore for disk in machine.disks if disk.datastore is not None]


def holds(plan: Plan, condition: Condition, machine: Machine) -> bool:
    """Whether one condition holds for a machine."""
    field, op, value = condition.field, condition.op, condition.value
    if field == "powered_on":
        return machine.powered_on is value
    if field in ("used_gib", "provisioned_gib"):
        assert not isinstance(value, str)
        used = field == "used_gib"
        total = sum(disk.used_gib if used else disk.provisioned_gib for disk in machine.disks)
        return total >= value if op == "at_least" else total <= value
    assert isinstance(value, str)
    wanted = value.casefold()
    if field == "tag":
        tagged = wanted in (tag.casefold() for tag in machine.tags)
        return tagged if op == "has" else not tagged
    texts = [text.casefold() for text in _texts(plan, machine, field)]
    if op == "is":
        return wanted in texts
    if op == "is_not":
        return wanted not in texts
    if op == "contains":
        return any(wanted in text for text in texts)
    return any(text.startswith(wanted) for text in texts)


def selected_machines(plan: Plan, job: Job) -> list[Machine]:
    """The machines of a job, in its order: those listed by id first, then by plan position."""
    selection = job.machines
    excluded = set(selection.exclude)
    listed = [plan.machine_by_id[ident] for ident in selection.ids if ident not in excluded]
    taken = excluded.union(selection.ids)
    matching = [
        machine
        for machine in plan.machines
        if machine.id not in taken
        and any(all(holds(plan, c, machine) for c in rule) for rule in selection.rules)
    ]
    return listed + matching
