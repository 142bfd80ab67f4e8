"""The estate: machines and what protects them, sources, the inbox, what was accepted."""

from __future__ import annotations

import csv
import io
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict
from datetime import date, datetime
from typing import Any
from weakref import WeakKeyDictionary

from apiflask import APIBlueprint
from flask import Response, jsonify
from sqlalchemy.orm import Session

from gambrel.api import estate_schemas as schemas
from gambrel.api.plans import day_of, looked_at
from gambrel.api.problems import ProblemError, field_error
from gambrel.api.revisions import needs_revision, seen_revision
from gambrel.api.serialize import instant
from gambrel.api.sessions import actor, discoveries, planning
from gambrel.connectors import SourceError
from gambrel.connectors.addresses import check_allowed, wrong_address
from gambrel.core.estate.coverage import STATES
from gambrel.core.estate.effect import job_effects
from gambrel.core.estate.facts import FactEdit, due_for_review
from gambrel.core.estate.membership import how_selected, jobs_of, suitable_jobs
from gambrel.core.plan.objects import Job, LeftOut, Machine, Plan
from gambrel.core.simulation.exposure import exposures
from gambrel.store import estate as store
from gambrel.store.plans import plan_head
from gambrel.work.forecaster import Forecaster
from gambrel.work.machine_table import (
    GROUPS,
    Effect,
    Filter,
    MachineEntry,
    chosen,
    effect,
    machine_table,
)

blueprint = APIBlueprint("estate", __name__, tag="Estate", url_prefix="/api/v1")


def _utc(value: datetime | None) -> str | None:
    return None if value is None else value.isoformat() + "Z"


def _day(value: date | None) -> str | None:
    return None if value is None else value.isoformat()


# --- machines ---------------------------------------------------------------------------------


def _shown(plan_id: int, query: Mapping[str, Any]) -> Forecaster:
    """The plan that is looked at: adopted, a draft, or an earlier version."""
    _, _, forecaster = looked_at(plan_id, query.get("draft"))
    version = query.get("as_of")
    if version is None:
        return forecaster
    with planning().sessions() as db:
        kept = [a for a in store.acceptances(db, plan_id) if a.kept]
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
        "since": _day(covered.since),
        "jobs": list(covered.jobs),
        "newest": instant(covered.newest),
        "rpo_hours": machine.rpo_hours,
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
                "since": _day(
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


_CSV_COLUMNS = (
    "name", "kind", "coverage", "coverage_words", "since", "jobs", "newest", "site", "cluster",
    "host", "folder", "tags", "role", "source", "powered_on", "disks", "used_gib",
    "provisioned_gib", "swap_gib", "daily_change", "change_from", "compress_ratio",
    "growth_per_year", "rpo_hours", "hazards",
)  # fmt: skip
_FORMULA_STARTS = ("=", "+", "-", "@", "\t", "\r")


def _cell(value: Any) -> Any:
    """A value as a cell: a text that a spreadsheet would take for a formula gets a quote."""
    if isinstance(value, list):
        value = "; ".join(v["kind"] if isinstance(v, dict) else str(v) for v in value)
    if isinstance(value, float):
        return f"{value:.10g}"
    if isinstance(value, str) and value.startswith(_FORMULA_STARTS):
        return "'" + value
    return value


@blueprint.get("/plans/<int:plan_id>/estate.csv")
@blueprint.input(schemas.MachineFilterSchema, location="query")
@blueprint.doc(responses={200: "The machines as CSV."})
def estate_csv(plan_id: int, query_data: dict[str, Any]) -> Response:
    """The machines that a filter lets through as CSV (UTF-8, RFC 4180)."""
    shown = _shown(plan_id, query_data)
    rows, _ = chosen(machine_table(shown), _filter(query_data))
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(_CSV_COLUMNS)
    for entry in rows:
        told = _entry(entry, "none")
        writer.writerow([_cell(told[name]) for name in _CSV_COLUMNS])
    response = Response(out.getvalue(), mimetype="text/csv")
    response.headers["Content-Disposition"] = 'attachment; filename="estate.csv"'
    return response


@blueprint.get("/plans/<int:plan_id>/estate/exposure/<day>")
@blueprint.output(schemas.ExposureSchema)
def show_exposure(plan_id: int, day: str) -> Any:
    """The worst exposure of every machine in the week that holds a day."""
    shown = _shown(plan_id, {})
    worst: dict[str, float | None] = {}
    if shown.nights_of_week(day_of(day)):
        week = shown.week(day_of(day))
        worst = {e.machine: e.worst_s for e in exposures(week.forecast, week.start, week.end)}
    return jsonify({"worst_s": worst})


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
            "rto_hours": machine.rto_hours,
            "nic_mbit_per_s": machine.nic_mbit_per_s,
            "uid": None if facts.found is None else facts.found.uid,
            "known_since": _day(facts.known_since),
            "gone_since": _day(facts.gone_since),
            "quiesces": facts.quiesces,
            "left_out": None
            if facts.left_out is None
            else {"reason": facts.left_out.reason, "review": _day(facts.left_out.review)},
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
        None if left_out is None else LeftOut(left_out["reason"].strip(), left_out["review"]),
        json_data["take_in"],
    )
    shared = planning()
    made = shared.write(lambda db: store.edit_facts(db, plan_id, edit, shared.plan, actor=actor()))
    return jsonify(acceptance_value(made))


# --- sources ----------------------------------------------------------------------------------


def _source(found: store.Source) -> dict[str, Any]:
    last = found.last_discovery
    return {
        "id": found.id,
        "name": found.name,
        "kind": found.kind,
        "make": found.make,
        "address": found.address,
        "site": found.site,
        "interval_min": found.interval_min,
        "revision": found.revision,
        "access": found.access,
        "credentials": [
            {
                "id": c.id, "scope": c.scope, "user": c.user, "outcome": c.outcome,
                "failure": c.failure, "advice": c.advice, "tried_at": _utc(c.tried_at),
            }
            for c in found.credentials
        ],
        "last_discovery": None
        if last is None
        else {
            "id": last.id, "state": last.state, "read": last.read, "expected": last.expected,
            "message": last.message, "found": last.found, "started_at": _utc(last.started_at),
            "ended_at": _utc(last.ended_at),
        },
        "differences": found.differences,
    }  # fmt: skip


def _check_address(address: str) -> None:
    reason = wrong_address(address)
    if reason is None:
        try:
            check_allowed(address, discoveries().allowed)
        except SourceError as error:
            reason = f"cannot be used: {error}"
    if reason is not None:
        raise ProblemError(
            422, "This is no address of a source", "Write it like https://manager.example:8443/api.",
            errors=[field_error("address", address, reason)],
        )  # fmt: skip


def _check_site(plan_id: int, site: str) -> None:
    shared = planning()
    with shared.sessions() as db:
        plan = shared.plan(plan_head(db, plan_id).adopted_version)
    if site not in plan.site_by_id:
        raise ProblemError(
            422, "There is no such site", "Name a site of the plan.",
            errors=[field_error("site", site, "is none of " + ", ".join(plan.site_by_id))],
        )  # fmt: skip


@blueprint.get("/plans/<int:plan_id>/sources")
@blueprint.output(schemas.SourcesSchema)
def list_sources(plan_id: int) -> Any:
    """All sources with their accounts and their last discovery."""
    return _all_sources(plan_id)


def _all_sources(plan_id: int) -> Response:
    with planning().sessions() as db:
        plan_head(db, plan_id)
        found = store.sources(db, plan_id)
    return jsonify({"sources": [_source(each) for each in found]})


@blueprint.post("/plans/<int:plan_id>/sources")
@blueprint.input(schemas.NewSourceSchema)
@blueprint.output(schemas.SourceSchema, status_code=201)
def add_source(plan_id: int, json_data: dict[str, Any]) -> Any:
    """A new source; its secrets are sealed and never given out again."""
    _check_address(json_data["address"])
    _check_site(plan_id, json_data["site"])
    accounts = [(a["scope"], a["user"], a["secret"]) for a in json_data.pop("accounts")]
    made = planning().write(
        lambda db: store.add_source(
            db, plan_id, json_data, accounts, discoveries().sealer, actor=actor()
        )
    )
    response = jsonify(_source(made))
    response.status_code = 201
    return response


@blueprint.patch("/sources/<int:source_id>")
@blueprint.input(schemas.SourceEditSchema)
@blueprint.output(schemas.SourceSchema)
@needs_revision
def change_source(source_id: int, json_data: dict[str, Any]) -> Any:
    """Change the address, the site or the interval of a source (If-Match: its revision)."""
    if "address" in json_data:
        _check_address(json_data["address"])
    with planning().sessions() as db:
        plan_id = store.source(db, source_id).plan_id
    if "site" in json_data:
        _check_site(plan_id, json_data["site"])

    def change(db: Session) -> store.Source:
        now = store.source(db, source_id)
        if now.revision != seen_revision():
            raise ProblemError(
                412, "The source was changed meanwhile", "Nothing was saved.", now=_source(now)
            )
        return store.change_source(db, source_id, now.revision, json_data, actor=actor())

    made = planning().write(change)
    return jsonify(_source(made))


@blueprint.delete("/sources/<int:source_id>")
@blueprint.output({}, status_code=204)
def remove_source(source_id: int) -> Any:
    """Forget a source and its accounts; what it found stays in the plan."""
    planning().write(lambda db: store.remove_source(db, source_id, actor=actor()))
    return "", 204


@blueprint.put("/accounts/<int:account_id>/secret")
@blueprint.input(schemas.SecretSchema)
@blueprint.output(schemas.SourceSchema)
def set_secret(account_id: int, json_data: dict[str, Any]) -> Any:
    """Replace the user and the secret of an account."""
    made = planning().write(
        lambda db: store.set_secret(
            db,
            account_id,
            json_data["user"],
            json_data["secret"],
            discoveries().sealer,
            actor=actor(),
        )
    )
    return jsonify(_source(made))


def _own_sources(plan_id: int, ids: Sequence[int]) -> list[store.Source]:
    with planning().sessions() as db:
        known = {each.id: each for each in store.sources(db, plan_id)}
    for ident in ids:
        if ident not in known:
            raise ProblemError(404, "Not found", f"There is no source {ident} of this plan.")
    return [known[ident] for ident in ids]


@blueprint.post("/plans/<int:plan_id>/access-checks")
@blueprint.input(schemas.ChosenSourcesSchema)
@blueprint.output(schemas.SourcesSchema)
def check_access(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Try all accounts of some sources, side by side."""
    ids = [each.id for each in _own_sources(plan_id, json_data["sources"])]
    discoveries().check_access(ids)
    return _all_sources(plan_id)


@blueprint.post("/plans/<int:plan_id>/discoveries")
@blueprint.input(schemas.ChosenSourcesSchema)
@blueprint.output(schemas.SourcesSchema, status_code=202)
def discover(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Begin to read some sources, in the background; those that are being read go on."""
    for each in _own_sources(plan_id, json_data["sources"]):
        last = each.last_discovery
        if last is None or last.state != "running":
            discoveries().start(each.id, actor=actor())
    response = _all_sources(plan_id)
    response.status_code = 202
    return response


@blueprint.delete("/discoveries/<int:discovery_id>")
@blueprint.output({}, status_code=204)
def cancel_discovery(discovery_id: int) -> Any:
    """Have a discovery end without a result."""
    with planning().sessions() as db:
        store.discovery(db, discovery_id)
    discoveries().cancel(discovery_id)
    return "", 204


# --- the inbox --------------------------------------------------------------------------------


DIFFERENCES_AT_ONCE = 500
"""How many entries of the inbox are told in full."""


def told_effects(before: Plan, after: Plan) -> list[dict[str, Any]]:
    return [
        {
            "machine": found.machine,
            "job": found.job,
            "joins": found.joins,
            "words": found.words(after),
        }
        for found in job_effects(before, after)
    ]


@blueprint.get("/plans/<int:plan_id>/inbox")
@blueprint.input(schemas.InboxQuerySchema, location="query")
@blueprint.output(schemas.InboxSchema)
def show_inbox(plan_id: int, query_data: dict[str, Any]) -> Any:
    """What sources say and the plan has otherwise, each with the jobs that it changes."""
    shared = planning()
    with shared.sessions() as db:
        head = plan_head(db, plan_id)
        entries = store.inbox(db, plan_id, query_data["state"])
        rules = store.standing_rules(db, plan_id)
        dismissed = len(store.inbox(db, plan_id, store.DISMISSED))
    jobs = _jobs_of_differences(head.adopted_version, entries)
    ids_by_kind: dict[str, list[int]] = defaultdict(list)
    for entry in entries:
        ids_by_kind[entry.difference.kind].append(entry.id)
    return jsonify(
        {
            "total": len(entries),
            "ids_by_kind": ids_by_kind,
            "differences": [
                {
                    "id": entry.id,
                    "kind": entry.difference.kind,
                    "subject": {"kind": entry.difference.subject, "id": entry.difference.name},
                    "source": entry.difference.source,
                    "words": entry.difference.words,
                    "found_at": _utc(entry.found_at),
                    "jobs": jobs.get(entry.difference.name, []),
                }
                for entry in entries[:DIFFERENCES_AT_ONCE]
            ],
            "rules": rules,
            "dismissed": dismissed,
        }
    )


_jobs_known: dict[tuple[int, tuple[int, ...]], dict[str, list[dict[str, Any]]]] = {}
"""The last answer alone: an inbox is asked for again and again while nothing changes."""


def _jobs_of_differences(
    version: int, entries: Sequence[store.InboxEntry]
) -> dict[str, list[dict[str, Any]]]:
    """What each machine joins and leaves once all differences are taken, by its name."""
    key = (version, tuple(entry.id for entry in entries))
    found = _jobs_known.get(key)
    if found is None:
        found = _told_jobs(planning().plan(version), entries)
        _jobs_known.clear()
        _jobs_known[key] = found
    return found


def _told_jobs(plan: Plan, entries: Sequence[store.InboxEntry]) -> dict[str, list[dict[str, Any]]]:
    try:
        after = store.taken(plan, entries, planning().today(plan))
    except ValueError:
        return {}
    found: dict[str, list[dict[str, Any]]] = defaultdict(list)
    for told in told_effects(plan, after):
        found[told["machine"]].append(told)
    return found


@blueprint.post("/plans/<int:plan_id>/inbox/effect")
@blueprint.input(schemas.DifferencesEffectSchema)
@blueprint.output(schemas.EffectSchema)
def inbox_effect(plan_id: int, json_data: dict[str, Any]) -> Any:
    """What taking some differences would do to jobs and to the week that holds a night."""
    shared = planning()
    with shared.sessions() as db:
        head = plan_head(db, plan_id)
        entries = store.with_needed(store.inbox(db, plan_id), json_data["ids"])
    shown = shared.version(head.adopted_version)
    changed = store.taken(shown.plan, entries, shared.today(shown.plan))
    return jsonify(_effect(effect(shown, changed, json_data["night"]), changed))


def _effect(found: Effect, changed: Plan) -> dict[str, Any]:
    return {
        "jobs": [
            {
                "machine": each.machine,
                "job": each.job,
                "joins": each.joins,
                "words": each.words(changed),
            }
            for each in found.jobs
        ],
        "nights": [
            {
                **asdict(night),
                "date": night.date.isoformat(),
                "end_before": instant(night.end_before),
                "end_after": instant(night.end_after),
            }
            for night in found.nights
        ],
    }


@blueprint.post("/plans/<int:plan_id>/inbox/accept")
@blueprint.input(schemas.ChosenDifferencesSchema)
@blueprint.output(schemas.AcceptanceSchema)
def accept_differences(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Take differences into the plan: a new version of it, which can be undone."""
    shared = planning()
    made = shared.write(
        lambda db: store.accept_differences(
            db, plan_id, json_data["ids"], shared.plan, shared.today, actor=actor()
        )
    )
    return jsonify(acceptance_value(made))


@blueprint.post("/plans/<int:plan_id>/inbox/dismiss")
@blueprint.input(schemas.ChosenDifferencesSchema)
@blueprint.output({}, status_code=204)
def dismiss_differences(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Take differences off the inbox; they stay off until the source says something else."""
    planning().write(lambda db: store.dismiss(db, plan_id, json_data["ids"], actor=actor()))
    return "", 204


@blueprint.post("/plans/<int:plan_id>/inbox/reopen")
@blueprint.input(schemas.ChosenDifferencesSchema)
@blueprint.output({}, status_code=204)
def reopen_differences(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Put dismissed differences on the inbox again."""
    planning().write(lambda db: store.bring_to_inbox(db, plan_id, json_data["ids"], actor=actor()))
    return "", 204


@blueprint.put("/plans/<int:plan_id>/standing-rules")
@blueprint.input(schemas.StandingRuleSchema)
@blueprint.output(schemas.StandingRuleSchema)
def set_standing_rule(plan_id: int, json_data: dict[str, Any]) -> Any:
    """Have a kind of difference accepted or dismissed as soon as it is found, or asked about."""

    def change(db: Session) -> None:
        plan_head(db, plan_id)
        store.set_standing_rule(db, plan_id, json_data["kind"], json_data["action"], actor=actor())

    planning().write(change)
    return jsonify(json_data)


# --- what was accepted ------------------------------------------------------------------------


def acceptance_value(made: store.Acceptance) -> dict[str, Any]:
    return {
        "id": made.id, "what": made.what, "words": list(made.words),
        "before_version": made.before_version, "after_version": made.after_version,
        "actor": made.actor, "at": _utc(made.at), "undone": made.undone,
        "kept": made.kept,
    }  # fmt: skip


@blueprint.get("/plans/<int:plan_id>/acceptances")
@blueprint.output(schemas.AcceptancesSchema)
def list_acceptances(plan_id: int) -> Any:
    """All changes of the estate, newest first."""
    with planning().sessions() as db:
        plan_head(db, plan_id)
        found = store.acceptances(db, plan_id)
    return jsonify({"acceptances": [acceptance_value(each) for each in found]})


@blueprint.post("/acceptances/<int:acceptance_id>/undo")
@blueprint.output(schemas.AcceptanceSchema)
def undo_acceptance(acceptance_id: int) -> Any:
    """Bring back what one change of the estate changed."""
    shared = planning()
    made = shared.write(
        lambda db: store.undo_acceptance(
            db, acceptance_id, shared.plan, shared.today, actor=actor()
        )
    )
    return jsonify(acceptance_value(made))


@blueprint.post("/acceptances/<int:acceptance_id>/bring-back")
@blueprint.output(schemas.AcceptanceSchema)
def bring_back(acceptance_id: int) -> Any:
    """Bring back the whole estate as it was after a change; jobs and points stay."""
    shared = planning()
    made = shared.write(
        lambda db: store.bring_back(db, acceptance_id, shared.plan, shared.today, actor=actor())
    )
    return jsonify(acceptance_value(made))
