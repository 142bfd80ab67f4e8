"""The estate: machines, what protects them and what is known of them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import asdict
from datetime import date
from typing import Any
from weakref import WeakKeyDictionary

from apiflask import APIBlueprint, EmptySchema
from flask import Response, jsonify

from gambrel.api import estate_schemas as schemas
from gambrel.api.answers import table_answer
from gambrel.api.plans import day_of, looked_at
from gambrel.api.problems import ProblemError, field_error
from gambrel.api.serialize import acceptance_value, day_text, instant
from gambrel.api.sessions import actor, planning
from gambrel.core.estate.coverage import STATES
from gambrel.core.estate.facts import FactEdit, due_for_review
from gambrel.core.estate.membership import how_selected, jobs_of, suitable_jobs
from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.objects import Job, LeftOut, Machine, UserSnapshot
from gambrel.core.recovery.promises import restores_at
from gambrel.core.simulation.exposure import exposures
from gambrel.store import acceptances
from gambrel.work.forecaster import Forecaster
from gambrel.work.machine_table import (
    GROUPS,
    Filter,
    MachineEntry,
    chosen,
    machine_table,
)

blueprint = APIBlueprint("estate", __name__, tag="Estate", url_prefix="/api/v1")


def _shown(plan_id: int, query: Mapping[str, Any]) -> Forecaster:
    """The plan that is looked at: adopted, a draft, or an earlier version."""
    _, _, forecaster = looked_at(plan_id, query.get("draft"))
    version = query.get("as_of")
    if version is None:
        return forecaster
    with planning().sessions() as db:
        kept = [a for a in acceptances.acceptances(db, plan_id) if a.kept]
        known = {version for a in kept for version in (a.before_version, a.after_version)}
    if version not in known:
        raise ProblemError(404, "Not found", f"There is no estate of version {version}.")
    return planning().version(version)


def _filter(query: Mapping[str, Any]) -> Filter:
    pairs = []
    for text in query["where"]:
        field, colon, value = text.partition(":")
        if not colon or field not in GROUPS[1:]:
            raise ProblemError(
                422, "This filter cannot be read", "Write it like folder:lab.",
                errors=[field_error("where", text, "is not like folder:lab")],
            )  # fmt: skip
        pairs.append((field, value))
    return Filter(
        query["search"], tuple(query["coverage"]), tuple(pairs), query["hazards"], query["group"],
        query["sort"], query["descending"],
    )  # fmt: skip


def _entry(entry: MachineEntry, group: str) -> dict[str, Any]:
    machine, covered = entry.machine, entry.coverage
    found = machine.facts.found
    return {
        "name": machine.id,
        "kind": machine.kind,
        "group": entry.group(group),
        "site": entry.site,
        "host": machine.host,
        "cluster": entry.cluster,
        "folder": machine.folder,
        "tags": list(machine.tags),
        "role": machine.facts.role,
        "owner": machine.facts.owner,
        "source": None if found is None else found.source,
        "powered_on": machine.powered_on,
        "disks": len(machine.disks),
        "used_gib": entry.used_gib,
        "provisioned_gib": entry.provisioned_gib,
        "swap_gib": entry.swap_gib,
        "daily_change": machine.daily_change,
        "change_from": machine.facts.change_from,
        "compress_ratio": machine.compress_ratio,
        "growth_per_year": machine.facts.growth_per_year,
        "overridden": [field for field, _ in machine.facts.reported],
        "coverage": covered.state,
        "coverage_words": covered.words,
        "since": day_text(covered.since),
        "jobs": list(covered.jobs),
        "newest": instant(covered.newest),
        "rpo_hours": machine.rpo_hours,
        "rto_hours": machine.rto_hours,
        "hazards": [{"kind": h.kind, "words": h.words} for h in covered.hazards],
    }


_sums: WeakKeyDictionary[Forecaster, list[dict[str, Any]]] = WeakKeyDictionary()


def _coverage_sums(shown: Forecaster) -> list[dict[str, Any]]:
    """How many machines are in which state, over the whole estate."""
    if shown not in _sums:
        by_state: dict[str, list[MachineEntry]] = defaultdict(list)
        for entry in machine_table(shown):
            by_state[entry.coverage.state].append(entry)
        _sums[shown] = [
            {
                "state": state,
                "machines": len(by_state[state]),
                "used_gib": sum(entry.used_gib for entry in by_state[state]),
                "since": day_text(
                    min(
                        (e.coverage.since for e in by_state[state] if e.coverage.since is not None),
                        default=None,
                    )
                ),
            }
            for state in STATES
        ]
    return _sums[shown]


@blueprint.get("/plans/<int:plan_id>/estate")
@blueprint.input(schemas.MachinePageQuerySchema, location="query")
@blueprint.output(schemas.MachinePageSchema)
def show_estate(plan_id: int, query_data: dict[str, Any]) -> Any:
    """A page of the machines, what they come to by group, and the coverage of all."""
    shown = _shown(plan_id, query_data)
    table = machine_table(shown)
    rows, groups = chosen(table, _filter(query_data))
    first, count = query_data["offset"], query_data["limit"]
    as_of = shown.origin.date
    return jsonify(
        {
            "total": len(rows),
            "all": len(table),
            "groups": [asdict(group) for group in groups],
            "coverage": _coverage_sums(shown),
            "to_review": [m.id for m in due_for_review(shown.plan.machines, as_of)],
            "as_of": instant(shown.origin.start),
            "rows": [_entry(entry, query_data["group"]) for entry in rows[first : first + count]],
        }
    )


_COLUMNS = (
    "name", "kind", "coverage", "coverage_words", "since", "jobs", "newest", "site", "cluster",
    "host", "folder", "tags", "role", "owner", "source", "powered_on", "disks", "used_gib",
    "provisioned_gib", "swap_gib", "daily_change", "change_from", "compress_ratio",
    "growth_per_year", "rpo_hours", "hazards",
)  # fmt: skip


def _cell(value: Any) -> Any:
    """A value as a cell of a table."""
    if isinstance(value, list):
        return "; ".join(v["kind"] if isinstance(v, dict) else str(v) for v in value)
    return float(f"{value:.10g}") if isinstance(value, float) else value


@blueprint.get("/plans/<int:plan_id>/estate.<form>")
@blueprint.input(schemas.MachineFilterSchema, location="query")
@blueprint.output(EmptySchema, content_type="text/csv")
def estate_file(plan_id: int, form: str, query_data: dict[str, Any]) -> Response:
    """The machines that a filter lets through, as csv (UTF-8, RFC 4180) or xlsx."""
    shown = _shown(plan_id, query_data)
    found, _ = chosen(machine_table(shown), _filter(query_data))

    def rows() -> Iterator[list[Any]]:
        for entry in found:
            told = _entry(entry, "none")
            yield [_cell(told[name]) for name in _COLUMNS]

    return table_answer("estate", form, _COLUMNS, rows())


@blueprint.get("/plans/<int:plan_id>/estate/exposure/<day>")
@blueprint.output(schemas.ExposureSchema)
def show_exposure(plan_id: int, day: str) -> Any:
    """The worst exposure of every machine in the week that holds a day, and its restore then."""
    shown = _shown(plan_id, {})
    worst: dict[str, float | None] = {}
    restore: dict[str, float | None] = {}
    if shown.nights_of_week(day_of(day)):
        week = shown.week(day_of(day))
        worst = {e.machine: e.worst_s for e in exposures(week.forecast, week.start, week.end)}
        restore = restores_at(shown.plan, week.forecast, week.end)
    return jsonify({"worst_s": worst, "restore_s": restore})


@blueprint.get("/plans/<int:plan_id>/estate/machines/<path:name>")
@blueprint.input(schemas.MachineQuerySchema, location="query")
@blueprint.output(schemas.MachineSchema)
def show_machine(plan_id: int, name: str, query_data: dict[str, Any]) -> Any:
    """All that is known of a machine, and what the week that holds a night does with it."""
    shown = _shown(plan_id, query_data)
    plan = shown.plan
    entry = next((e for e in machine_table(shown) if e.machine.id == name), None)
    if entry is None:
        raise ProblemError(404, "Not found", f"There is no machine {name} in this plan.")
    machine = entry.machine
    facts = machine.facts
    points: dict[str, list[float]] = defaultdict(list)
    for point in plan.state.points:
        if point.machine == name:
            points[point.job].append(point.at)
    jobs = [plan.job_by_id[job] for job in entry.coverage.jobs]
    return jsonify(
        {
            **_entry(entry, "none"),
            "churn_ceiling": machine.churn_ceiling,
            "memory_gib": machine.memory_gib,
            "nic_mbit_per_s": machine.nic_mbit_per_s,
            "agent_streams": machine.agent_streams if machine.kind == "server" else None,
            "backup_network": machine.backup_network,
            "backup_nic_mbit_per_s": machine.backup_nic_mbit_per_s,
            "uid": None if facts.found is None else facts.found.uid,
            "known_since": day_text(facts.known_since),
            "gone_since": day_text(facts.gone_since),
            "quiesces": facts.quiesces,
            "left_out": None
            if facts.left_out is None
            else {"reason": facts.left_out.reason, "review": day_text(facts.left_out.review)},
            "reported": dict(facts.reported),
            "disk_list": [_disk(disk, machine, jobs) for disk in machine.disks],
            "snapshots": [
                {"name": s.name, "taken_at": instant(s.taken_at), "gib": s.gib}
                for s in facts.snapshots
            ],
            "protected_by": [
                {
                    "job": job.id,
                    "name": job.name,
                    "how": how_selected(plan, job, machine),
                    "newest": instant(max(points[job.id], default=None)),
                    "points": len(points[job.id]),
                }
                for job in jobs
            ],
            **_week_of_machine(shown, name, query_data["night"]),
            "offers": [
                {"job": job.id, "name": job.name, "alike": alike}
                for job, alike in suitable_jobs(plan, machine)
            ],
        }
    )


def _disk(disk: Any, machine: Machine, jobs: Iterable[Job]) -> dict[str, Any]:
    return {
        "id": disk.id,
        "provisioned_gib": disk.provisioned_gib,
        "used_gib": disk.used_gib,
        "swap_gib": disk.swap_gib,
        "unused_gib": disk.provisioned_gib - disk.used_gib,
        "datastore": disk.datastore,
        "holds_backups": disk.holds_backups,
        "left_out_by": [job.id for job in jobs if (machine.id, disk.id) in job.exclude_disks],
    }


def _week_of_machine(shown: Forecaster, name: str, day: date) -> dict[str, Any]:
    """The worst exposure of a machine and its runs, over the week that holds a day."""
    if not shown.nights_of_week(day):
        return {"worst_exposure_s": None, "next_runs": []}
    week = shown.week(day)
    worst = exposures(week.forecast, week.start, week.end)
    position = next(i for i, m in enumerate(shown.plan.machines) if m.id == name)
    jobs = jobs_of(shown.plan, shown.plan.machines[position])
    runs = [
        {
            "job": run.job,
            "occurrence": instant(run.occurrence),
            "kind": found.kind,
            "start": instant(found.start),
            "ended": instant(found.ended),
            "outcome": found.outcome,
            "source_bytes": found.source_bytes,
        }
        for run in week.forecast.runs
        if run.job in jobs and week.start <= run.occurrence < week.end
        for found in run.machines
        if found.machine == name
    ]
    return {
        "worst_exposure_s": worst[position].worst_s,
        "next_runs": runs[:40],
    }


def _snapshot(told: dict[str, Any]) -> UserSnapshot:
    try:
        taken_at = parse_instant(told["taken_at"])
    except ValueError as error:
        raise ProblemError(
            422,
            "This is no snapshot",
            f"The time of {told['name']} {error}. Nothing was changed.",
            errors=[field_error("snapshots", told["taken_at"], str(error))],
        ) from error
    return UserSnapshot(told["name"], taken_at, told["gib"])


@blueprint.post("/plans/<int:plan_id>/estate/facts")
@blueprint.input(schemas.FactEditSchema)
@blueprint.output(schemas.AcceptanceSchema)
def edit_facts(plan_id: int, json_data: dict[str, Any]) -> Any:
    """State facts of machines, bring back what was before, or leave machines out on purpose."""
    left_out = json_data["leave_out"]
    edit = FactEdit(
        tuple(dict.fromkeys(json_data["machines"])),
        tuple(json_data["state"].items()),
        tuple(json_data["revert"]),
        None if json_data["snapshots"] is None else tuple(map(_snapshot, json_data["snapshots"])),
        None if left_out is None else LeftOut(left_out["reason"].strip(), left_out["review"]),
        json_data["take_in"],
        json_data["source"],
    )
    shared = planning()
    made = shared.write(
        lambda db: acceptances.edit_facts(db, plan_id, [edit], shared.plan, actor=actor())
    )
    return jsonify(acceptance_value(made))
