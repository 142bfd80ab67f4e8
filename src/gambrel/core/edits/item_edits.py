"""Edits of sites, links, hosts, datastores, proxies, repositories, windows, calendars, assumptions.

An item is one entry of a list of the plan file. Its values are those of the file, so that whatever
a plan file may say can also be edited, and is checked by the same rules.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Container, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar

from gambrel.core.plan import objects as p
from gambrel.core.plan.learned import source_in_words
from gambrel.core.plan.reading import ITEMS, LISTS, job_problems, read_entry
from gambrel.core.plan.shapes import shape_of, unit_of
from gambrel.core.plan.values import PlanError, Reading
from gambrel.core.words import count, job_changes, rule_in_words, sentence

WORDS = {
    "sites": "site",
    "links": "link",
    "hosts": "host",
    "datastores": "datastore",
    "proxies": "proxy",
    "repositories": "repository",
    "windows": "window",
    "calendars": "calendar",
    "jobs": "job",
    "assumptions": "assumption",
}
"""The lists of which entries can be edited, with the word for one."""


class OperationError(ValueError):
    """An operation that cannot be applied: the field at fault, its value, the reason."""

    def __init__(self, field: str, value: Any, reason: str) -> None:
        self.field = field
        self.value = value
        self.reason = reason
        super().__init__(f"{field}: {value!r} {reason}")


def free_id(taken: Container[str], name: str) -> str:
    """An id for a new entry, from its name: "Ticket gates" becomes "ticket-gates"."""
    stem = re.sub(r"[^a-z0-9]+", "-", name.casefold()).strip("-") or "job"
    number, found = 2, stem
    while found in taken:
        found, number = f"{stem}-{number}", number + 1
    return found


def _known(plan: p.Plan) -> dict[str, set[str]]:
    return {name: {item.id for item in getattr(plan, name)} for name in LISTS}


def _listed(kind: str) -> str:
    if kind not in WORDS:
        raise OperationError("list", kind, "is none of " + ", ".join(WORDS))
    return kind


def item_of(plan: p.Plan, kind: str, ident: str) -> Any:
    """The entry of a list. Raises OperationError where there is none."""
    found = next((item for item in getattr(plan, _listed(kind)) if item.id == ident), None)
    if found is None:
        raise OperationError("id", ident, f"is not the id of a {WORDS[kind]} of this plan")
    return found


def item_value(item: Any, kind: str) -> dict[str, Any]:
    """An entry as the plan file has it, values at their default left out."""
    return ITEMS[kind].write(item)


def whole_value(item: Any, kind: str) -> dict[str, Any]:
    """An entry as the plan file has it, with the values that are at their default too."""
    return ITEMS[kind].write(item, whole=True)


def _read(plan: p.Plan, kind: str, value: Mapping[str, Any]) -> Any:
    try:
        item = read_entry(kind, dict(value), _known(plan))
    except PlanError as error:
        first = error.problems[0]
        raise OperationError(first.path, first.value, first.reason) from None
    _check(plan, kind, item)
    return item


def _check(plan: p.Plan, kind: str, item: Any) -> None:
    """What a plan file may say and a planner would not mean. Raises OperationError."""
    if kind == "links":
        for i, limit in enumerate(item.limits):
            if limit.mbit_per_s > item.mbit_per_s:
                reason = f"is above the link's {item.mbit_per_s:g} Mbit/s"
                raise OperationError(f"limits[{i}].mbit_per_s", limit.mbit_per_s, reason)
    elif kind == "windows":
        if not any(interval.days for interval in item.open) and not any(
            exception.open for exception in item.exceptions
        ):
            raise OperationError("open", [], "is never open: name at least one hour")
    elif kind == "jobs":
        _check_job(plan, item)
    elif kind == "proxies":
        host = plan.host_by_id.get(item.on_host or "")
        if item.on_machine is not None:
            machine = plan.machine_by_id[item.on_machine]
            if machine.kind == "vm":
                host = plan.host_by_id[machine.host or ""]
            elif plan.site_of(machine) != item.site:
                reason = f"stands at {plan.site_of(machine)}, not at {item.site}"
                raise OperationError("on_machine", item.on_machine, reason)
        if host is not None and host.site != item.site:
            field = "on_host" if item.on_host else "on_machine"
            reason = f"runs at {host.site}, not at {item.site}"
            raise OperationError(field, getattr(item, field), reason)


def _check_job(plan: p.Plan, job: p.Job) -> None:
    for key, value, reason in job_problems(plan, job):
        raise OperationError(key, value, reason)


def _unlocked(item: Any, changed: Iterable[str]) -> None:
    if isinstance(item, p.Job) and item.locked and set(changed) != {"locked"}:
        raise OperationError("job", item.id, "is locked; unlock it first")


def users(plan: p.Plan) -> Mapping[tuple[str, str], Sequence[str]]:
    """What refers to each entry, by list and id, in words such as "job mail"; each word once."""
    found: dict[tuple[str, str], dict[str, None]] = defaultdict(dict)

    def note(kind: str, idents: Iterable[str | None], user: str) -> None:
        for ident in idents:
            if ident is not None:
                found[kind, ident][user] = None

    for link in plan.links:
        note("sites", link.between, f"link {link.id}")
    for host in plan.hosts:
        note("sites", [host.site], f"host {host.id}")
        note("proxies", host.proxies or (), f"host {host.id}")
    for store in plan.datastores:
        note("hosts", store.hosts, f"datastore {store.id}")
        note("proxies", store.zoned_proxies, f"datastore {store.id}")
    for proxy in plan.proxies:
        note("sites", [proxy.site], f"proxy {proxy.id}")
        note("hosts", [proxy.on_host], f"proxy {proxy.id}")
        stores = (*proxy.direct_datastores, *proxy.left_out_datastores)
        note("datastores", stores, f"proxy {proxy.id}")
    for repository in plan.repositories:
        note("sites", [repository.site], f"repository {repository.id}")
    for machine in plan.machines:
        note("sites", [machine.site], f"machine {machine.id}")
        note("hosts", [machine.host], f"machine {machine.id}")
        note("datastores", (disk.datastore for disk in machine.disks), f"machine {machine.id}")
    for job in plan.jobs:
        user = f"job {job.id}"
        note("proxies", job.proxies or (), user)
        note("repositories", job.places, user)
        note("windows", [job.window], user)
        note("jobs", [job.after], user)
        for schedule in job.schedules:
            note("calendars", schedule.skip, user)
    points = Counter(point.repository for point in plan.state.points)
    for repository_id, held in points.items():
        note("repositories", [repository_id], f"{held} restore points")
    return {key: tuple(words) for key, words in found.items()}


def _said(value: Any, unit: str, none: str) -> str:
    if value is None:
        return none
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:g} {unit}".rstrip()
    if isinstance(value, tuple):
        return ", ".join(map(str, value)) or "none"
    return str(value)


def editable_job(plan: p.Plan, ident: str) -> p.Job:
    """A job that may be changed. Raises OperationError."""
    job = plan.job_by_id.get(ident)
    if job is None:
        raise OperationError("job", ident, "is not the id of a job of this plan")
    if job.locked:
        raise OperationError("job", ident, "is locked; unlock it first")
    return job


def check_jobs(plan: p.Plan, jobs: Iterable[str]) -> None:
    """Raises OperationError for an id that is none of a job."""
    for job in jobs:
        if job not in plan.job_by_id:
            raise OperationError("jobs", job, "is not the id of a job of this plan")


def read_as(target: type, raw: Mapping[str, Any]) -> Any:
    """The object of an annotated class that JSON values describe, apart from a plan.

    Raises:
        OperationError: with the first of its problems, by key.
    """
    reading = Reading()
    made = shape_of(target).read(reading, "", raw)
    if reading.problems:
        first = reading.problems[0]
        raise OperationError(first.path, first.value, first.reason)
    return made


def item_changes(was: Any, now: Any, keys: Iterable[str]) -> list[str]:
    """What became of some values of an entry: "slots 8 (was 4)"."""
    declared = shape_of(type(now)).declared
    told = []
    for key in keys:
        before, after = getattr(was, key), getattr(now, key)
        if before == after:
            continue
        if key == "learned":
            # The list goes on naming the value itself.
            told.append(source_in_words(was, now))
            continue
        if key == "default_for":
            rules = " or ".join(map(rule_in_words, after))
            told.append(f"the default for {rules}" if rules else "the default of no machine")
            continue
        words = declared[key].label.lower() or key.replace("_", " ")
        if _is_told_whole(before) or _is_told_whole(after):
            told.append(words)
        else:
            unit, none = unit_of(key, declared[key]), declared[key].null or "none"
            told.append(f"{words} {_said(after, unit, none)} (was {_said(before, unit, none)})")
    return told


def _is_told_whole(value: Any) -> bool:
    """Whether a value is too long to stand in a sentence: a list of objects, hours or dates."""
    return isinstance(value, tuple) and any(not isinstance(item, str) for item in value)


def _with(plan: p.Plan, kind: str, items: tuple[Any, ...]) -> p.Plan:
    return replace(plan, **{kind: items})  # type: ignore[arg-type]


@dataclass(frozen=True, slots=True)
class AddItem:
    """Add a site, link, host, datastore, proxy, repository, window or calendar.

    Attributes:
        list: the list of the plan file.
        value: the entry as the plan file has it.
    """

    name: ClassVar[str] = "AddItem"
    list: str
    value: Mapping[str, Any]

    def apply(self, plan: p.Plan) -> p.Plan:
        kind = _listed(self.list)
        item = _read(plan, kind, self.value)
        if any(item.id == other.id for other in getattr(plan, kind)):
            raise OperationError("id", item.id, f"is the name of another {WORDS[kind]}")
        return _with(plan, kind, (*getattr(plan, kind), item))

    def describe(self, plan: p.Plan) -> str:
        kind = _listed(self.list)
        if kind != "jobs":
            return f"{WORDS[kind]} {self.value.get('id')} is new"
        after = self.apply(plan)
        return f"new job {sentence(after, item_of(after, kind, str(self.value['id'])))}"


@dataclass(frozen=True, slots=True)
class ChangeItem:
    """Change some values of an entry; the others stay as they are.

    Attributes:
        list: the list of the plan file.
        changes: new values by key, as the plan file has them.
    """

    name: ClassVar[str] = "ChangeItem"
    list: str
    id: str
    changes: Mapping[str, Any]

    def apply(self, plan: p.Plan) -> p.Plan:
        kind = _listed(self.list)
        item = item_of(plan, kind, self.id)
        if self.changes.get("id", self.id) != self.id:
            raise OperationError("id", self.changes["id"], "cannot be changed")
        _unlocked(item, self.changes)
        changed = _read(plan, kind, {**item_value(item, kind), **self.changes})
        items = tuple(changed if other is item else other for other in getattr(plan, kind))
        return _with(plan, kind, items)

    def describe(self, plan: p.Plan) -> str:
        kind = _listed(self.list)
        was = item_of(plan, kind, self.id)
        after = self.apply(plan)
        now = item_of(after, kind, self.id)
        if kind == "jobs":
            changed = "; ".join(job_changes(plan, was, after, now))
            return f"{was.name}: {changed or 'nothing changes'}"
        told = item_changes(was, now, self.changes)
        return f"{WORDS[kind]} {self.id}: {', '.join(told) or 'nothing changes'}"


@dataclass(frozen=True, slots=True)
class RemoveItem:
    """Take an entry away that nothing refers to any more; a job with its restore points."""

    name: ClassVar[str] = "RemoveItem"
    list: str
    id: str

    def apply(self, plan: p.Plan) -> p.Plan:
        kind = _listed(self.list)
        item = item_of(plan, kind, self.id)
        found = users(plan).get((kind, self.id), ())
        if found:
            more = f" and {len(found) - 3} more" if len(found) > 3 else ""
            raise OperationError("id", self.id, f"is used by {', '.join(found[:3])}{more}")
        _unlocked(item, ("id",))
        if kind == "jobs":
            points = tuple(point for point in plan.state.points if point.job != self.id)
            plan = replace(plan, state=replace(plan.state, points=points))
        return _with(plan, kind, tuple(x for x in getattr(plan, kind) if x is not item))

    def describe(self, plan: p.Plan) -> str:
        kind = _listed(self.list)
        if kind != "jobs":
            return f"{WORDS[kind]} {self.id} is deleted"
        points = sum(point.job == self.id for point in plan.state.points)
        along = f", with its {count(points, 'restore point')}" if points else ""
        return f"job {item_of(plan, kind, self.id).name} is deleted{along}"
