"""Which machines a job protects (section 2)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from gambrel.core.caches import MIB, ByteCache
from gambrel.core.plan.objects import Condition, Job, Machine, Plan


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
    return text_holds(op, value, _texts(plan, machine, field))


def text_holds(op: str, value: str, texts: Iterable[str]) -> bool:
    """Whether a condition on a text holds for any of some texts; case does not matter."""
    wanted, folded = value.casefold(), [text.casefold() for text in texts]
    if op == "is":
        return wanted in folded
    if op == "is_not":
        return wanted not in folded
    if op == "contains":
        return any(wanted in text for text in folded)
    return any(text.startswith(wanted) for text in folded)


class _Conditions:
    """What holds for which machines of an estate, for the conditions asked about last."""

    def __init__(self, plan: Plan) -> None:
        # Held, so that no other estate can stand where this one does.
        self.machines, self.hosts = plan.machines, plan.hosts
        self.kept: ByteCache[frozenset[int]] = ByteCache(
            "machines by condition", 8 * MIB, lambda found: 400 + 64 * len(found)
        )
        self._texts: dict[str, list[tuple[str, ...]]] = {}

    def matching(self, plan: Plan, condition: Condition) -> frozenset[int]:
        """Positions of the machines for which a condition holds."""
        machines = enumerate(plan.machines)
        if condition.field in ("powered_on", "used_gib", "provisioned_gib", "tag"):
            return frozenset(i for i, m in machines if not m.gone and holds(plan, condition, m))
        texts = self._texts.get(condition.field)
        if texts is None:
            texts = [tuple(_texts(plan, machine, condition.field)) for machine in plan.machines]
            self._texts[condition.field] = texts
        # Few folders, hosts and sites have many machines: each is looked at once.
        value = str(condition.value)
        found = {each: text_holds(condition.op, value, each) for each in set(texts)}
        return frozenset(i for i, m in machines if not m.gone and found[texts[i]])

    def nbytes(self) -> int:
        """About what the estate takes where nobody else holds it any more."""
        return 2000 * len(self.machines) + self.kept.state().bytes


_estates: ByteCache[_Conditions] = ByteCache(
    "estates with conditions", 64 * MIB, _Conditions.nbytes, grows=True
)


def _matching(plan: Plan, condition: Condition) -> frozenset[int]:
    """Positions of the machines for which a condition holds."""
    key = (id(plan.machines), id(plan.hosts))
    estate = _estates.once(key, lambda: _Conditions(plan))
    return estate.kept.once(condition, lambda: estate.matching(plan, condition))


def selected_machines(plan: Plan, job: Job) -> list[Machine]:
    """The machines of a job: those listed by id first, then the rest in the job's order.

    Unless that order says otherwise, the rest stand as in the plan. A machine that is gone from
    its source is in no job.
    """
    selection = job.machines
    excluded = set(selection.exclude)
    listed = [plan.machine_by_id[ident] for ident in selection.ids if ident not in excluded]
    listed = [machine for machine in listed if not machine.gone]
    taken = excluded.union(selection.ids)
    matching = [m for m in machines_of_rules(plan, selection.rules) if m.id not in taken]
    if job.machine_order != "listed":
        matching.sort(key=_ORDERS[job.machine_order])
    return listed + matching


def machines_of_rules(plan: Plan, rules: Iterable[Sequence[Condition]]) -> list[Machine]:
    """The machines for which all conditions of any rule hold, as they stand in the plan."""
    positions: set[int] = set()
    for rule in rules:
        first, *rest = (_matching(plan, condition) for condition in rule)
        positions |= first.intersection(*rest)
    return [plan.machines[i] for i in sorted(positions)]


def used_gib(machine: Machine) -> float:
    """The used sizes of all disks of a machine."""
    return sum(disk.used_gib for disk in machine.disks)


_ORDERS: dict[str, Callable[[Machine], Any]] = {
    "largest": lambda machine: -used_gib(machine),
    "smallest": used_gib,
    "name": lambda machine: machine.id.casefold(),
}
