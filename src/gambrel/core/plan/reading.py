"""Reading and writing `gambrel-plan/1` as plain JSON values (planning model, section 1).

The shapes follow from the annotated dataclasses of this package (see `shapes`). Here is what only
the whole file can show: ids that two entries share, ids that nothing has, jobs that follow each
other in a circle.
"""

from __future__ import annotations

from collections.abc import Container, Iterator, Mapping
from typing import Any

from gambrel.core.plan import objects as p
from gambrel.core.plan.places import Wrong
from gambrel.core.plan.shapes import Shape, json_schema, shape_of, value_of
from gambrel.core.plan.values import PlanError, Problem, Reading

FORMAT = "gambrel-plan/1"

PLAN = shape_of(p.Plan)
LISTS = {name: value for name, value in PLAN.values.items() if name not in ("transports", "state")}
"""The lists of a plan file, in their order."""
ITEMS: dict[str, Shape] = {
    "sites": shape_of(p.Site),
    "links": shape_of(p.Link),
    "hosts": shape_of(p.Host),
    "datastores": shape_of(p.Datastore),
    "proxies": shape_of(p.Proxy),
    "repositories": shape_of(p.Repository),
    "windows": shape_of(p.Window),
    "calendars": shape_of(p.Calendar),
    "jobs": shape_of(p.Job),
    "assumptions": shape_of(p.Assumption),
}
"""The lists whose entries can be edited one by one (`core.edits.item_edits`)."""
JOB = ITEMS["jobs"]
FACTS = shape_of(p.Facts)
SCHEDULE = value_of(p.Schedule)


def _repeated_ids(raw: Mapping[str, Any]) -> Iterator[Problem]:
    for name in LISTS:
        seen: set[str] = set()
        entries = raw.get(name, [])
        for i, entry in enumerate(entries if isinstance(entries, list) else []):
            ident = entry.get("id") if isinstance(entry, dict) else None
            if isinstance(ident, str):
                if ident in seen:
                    yield Problem(f"{name}[{i}].id", ident, f"is in {name} twice")
                seen.add(ident)


def _known_ids(raw: Mapping[str, Any]) -> dict[str, set[str]]:
    return {
        name: {
            entry["id"]
            for entry in (raw[name] if isinstance(raw.get(name), list) else ())
            if isinstance(entry, dict) and isinstance(entry.get("id"), str)
        }
        for name in LISTS
    }


def job_problems(plan: p.Plan, job: p.Job) -> Wrong:
    """What of a job cannot be in this plan: disks that nothing has, a circle of jobs."""
    for i, (machine, disk) in enumerate(job.exclude_disks):
        if not _has_disk(plan, machine, disk):
            yield f"exclude_disks[{i}]", [machine, disk], "is no disk of a machine here"
    for i, path in enumerate(job.exclude_paths):
        if not _has_disk(plan, path.machine, path.disk):
            yield f"exclude_paths[{i}].disk", path.disk, f"is no disk of {path.machine}"
    seen, current = {job.id}, job.after
    while current is not None and current not in seen:
        seen.add(current)
        current = plan.job_by_id[current].after
    if current == job.id:
        yield "after", job.after, "makes jobs follow each other in a circle"


def restore_problems(plan: p.Plan) -> Wrong:
    """Restores to a host that their machine cannot have."""
    for i, restore in enumerate(plan.state.restores):
        if restore.to_host is not None and plan.machine_by_id[restore.machine].kind == "server":
            yield f"restores[{i}].to_host", restore.to_host, "is for a VM; this is a server"


def _has_disk(plan: p.Plan, machine: str, disk: str) -> bool:
    found = plan.machine_by_id.get(machine)
    return found is not None and any(other.id == disk for other in found.disks)


def read_plan(raw: Any) -> p.Plan:
    """The Plan that a decoded plan file describes.

    Raises:
        PlanError: with every problem found: path in the file, value, reason.
    """
    if not isinstance(raw, dict):
        raise PlanError([Problem("(file)", raw, "is not a JSON object")])
    if raw.get("format") != FORMAT:
        raise PlanError([Problem("format", raw.get("format"), f"is not {FORMAT}")])
    body = {key: value for key, value in raw.items() if key != "format"}
    reading = Reading()
    reading.problems += _repeated_ids(body)
    plan: p.Plan = PLAN.read(reading, "", body)
    reading.check_references(_known_ids(body))
    if not reading.problems:
        for i, job in enumerate(plan.jobs):
            for key, value, reason in job_problems(plan, job):
                reading.problem(f"jobs[{i}].{key}", value, reason)
        for key, value, reason in restore_problems(plan):
            reading.problem(f"state.{key}", value, reason)
    reading.raise_problems()
    return plan


def read_entry(name: str, raw: Any, known: Mapping[str, Container[str]]) -> Any:
    """One entry of a list of the plan file, such as a link of `links`.

    Args:
        known: ids that it may refer to, by list.

    Raises:
        PlanError: with every problem found; paths are those within the entry.
    """
    reading = Reading()
    entry = ITEMS[name].read(reading, "", raw)
    reading.check_references(known)
    reading.raise_problems()
    return entry


def facts_from(raw: Any) -> p.Facts:
    """The facts of a machine that `FACTS` wrote. Raises PlanError."""
    reading = Reading()
    facts: p.Facts = FACTS.read(reading, "facts", raw)
    reading.raise_problems()
    return facts


def write_plan(plan: p.Plan) -> dict[str, Any]:
    """The plan as JSON values: keys in the order of the model, values at their default left out."""
    return {"format": FORMAT, **PLAN.write(plan)}


def plan_schema() -> dict[str, Any]:
    """The plan file in JSON Schema (draft 2020-12), with every object under `$defs`."""
    found: dict[str, Any] = {}
    for kind in (getattr(p, name) for name in p.__all__):
        if not isinstance(kind, type) or kind is p.Plan or kind is p.Condition:
            continue
        for variant in getattr(kind, "variants", (None,)):
            shape = shape_of(kind, variant)
            found[shape.schema_name] = json_schema(shape)
    whole = json_schema(PLAN)
    whole["properties"] = {"format": {"const": FORMAT}, **whole["properties"]}
    whole["required"] = ["format"]
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": FORMAT,
        **whole,
        "$defs": found,
    }
