"""Importing machines from files: a preview of the changes, then all of them or the good rows."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict
from typing import Any

from apiflask import APIBlueprint
from flask import jsonify, request

from gambrel.api import estate_schemas as schemas
from gambrel.api.inbox import nights_value, told_effects
from gambrel.api.problems import ProblemError, field_error
from gambrel.api.serialize import acceptance_value
from gambrel.api.sessions import actor, planning
from gambrel.core.estate.facts import ROLE_DAILY_CHANGE
from gambrel.core.estate.importing import Imported, hosts_not_there
from gambrel.core.plan.objects import Plan
from gambrel.formats.inventory_csv import FIELDS, WORDED
from gambrel.store import acceptances
from gambrel.store.plans import plan_head
from gambrel.work.imports import MOST_PROBLEMS, Choices, Reading, imported, read_files
from gambrel.work.machine_table import effect

blueprint = APIBlueprint("imports", __name__, tag="Imports", url_prefix="/api/v1/plans")

MOST_UPLOADED = 48 * 2**20
"""The most that all files of one import may come to."""


@blueprint.before_request
def allow_files() -> None:
    """Files are larger than other requests may be."""
    request.max_content_length = MOST_UPLOADED


def _json(form: dict[str, Any], name: str, fits: Callable[[str, Any], bool], reason: str) -> Any:
    """The object that a field of the form is as JSON, whose entries fit; None where it is empty."""
    if not form[name]:
        return None
    try:
        said = json.loads(form[name])
    except (ValueError, RecursionError):
        said = "no JSON"
    if not isinstance(said, dict) or not all(fits(key, value) for key, value in said.items()):
        raise ProblemError(
            422, "This mapping cannot be read", "Nothing was imported.",
            errors=[field_error(name, form[name][:80], reason)],
        )  # fmt: skip
    return said


def _is_text_by_text(value: Any) -> bool:
    return isinstance(value, dict) and all(isinstance(to, str) for to in value.values())


def _choices(form: dict[str, Any]) -> Choices:
    mapping = _json(
        form, "mapping", lambda field, title: field in FIELDS and isinstance(title, str),
        "maps no field of a machine",
    )  # fmt: skip
    words = _json(
        form, "words", lambda field, words: field in WORDED and _is_text_by_text(words),
        f"does not give what words of {', '.join(WORDED)} mean",
    )  # fmt: skip
    return Choices(
        mapping, form["unit"], form["host"] or None, form["new_hosts_at"] or None, words or {}
    )


def _read(plan_id: int, form: dict[str, Any]) -> tuple[int, Plan, Reading, Imported]:
    shared = planning()
    with shared.sessions() as db:
        version = plan_head(db, plan_id).adopted_version
    plan = shared.plan(version)
    choices = _choices(form)
    files = [(each.filename or "file", each.read()) for each in form["files"]]
    reading = read_files(files, choices)
    return version, plan, reading, imported(plan, reading, choices, shared.today(plan))


@blueprint.post("/<int:plan_id>/imports/preview")
@blueprint.input(schemas.ImportFormSchema, location="form_and_files")
@blueprint.output(schemas.ImportPreviewSchema)
def preview_import(plan_id: int, form_and_files_data: dict[str, Any]) -> Any:
    """What files would change. Nothing is written."""
    version, plan, reading, made = _read(plan_id, form_and_files_data)
    shown, night = planning().version(version), form_and_files_data["night"]
    nights = []
    if night is not None and made.lines:
        nights = nights_value(effect(shown, made.plan, night))
    return jsonify(
        {
            "base_version": version,
            "files": [
                {
                    "name": file.name, "kind": file.kind, "machines": file.machines,
                    "columns": file.columns, "mapping": file.mapping, "sample": file.sample,
                    "words": [asdict(word) for word in file.words],
                }
                for file in reading.files
            ],
            "lines": list(made.lines),
            "unchanged": made.unchanged,
            "problems": _problems(made),
            "more_problems": max(0, len(made.problems) - MOST_PROBLEMS),
            "fields": list(FIELDS),
            "jobs": told_effects(plan, made.plan),
            "roles": sorted({*ROLE_DAILY_CHANGE, *(m.facts.role for m in plan.machines)} - {""}),
            "nights": nights,
            "hosts_not_there": list(hosts_not_there(plan, reading.machines)),
        }
    )  # fmt: skip


def _problems(made: Imported) -> list[dict[str, Any]]:
    return [
        {
            "file": p.place.file, "line": p.place.line, "column": p.place.column,
            "value": p.value, "reason": p.reason,
        }
        for p in made.problems[:MOST_PROBLEMS]
    ]  # fmt: skip


@blueprint.post("/<int:plan_id>/imports")
@blueprint.input(schemas.ImportFormSchema, location="form_and_files")
@blueprint.output(schemas.AcceptanceSchema)
def import_files(plan_id: int, form_and_files_data: dict[str, Any]) -> Any:
    """Import files: all or nothing, or with `good_rows` what has no problem."""
    version, _, _, made = _read(plan_id, form_and_files_data)
    if form_and_files_data["base_version"] not in (None, version):
        raise ProblemError(
            412, "The plan was changed since the preview", "Nothing was imported; look again."
        )
    if made.problems and not form_and_files_data["good_rows"]:
        raise ProblemError(
            422, "Nothing was imported",
            f"{len(made.problems)} things cannot be imported; the good rows alone can.",
            errors=[
                field_error(
                    ", ".join(
                        str(part)
                        for part in (p["file"], p["line"] and f"line {p['line']}", p["column"])
                        if part
                    ),
                    p["value"], p["reason"],
                )
                for p in _problems(made)
            ],
        )  # fmt: skip
    if not made.lines:
        raise ProblemError(
            422, "There is nothing to import", "The plan has all of it already, or no row is good."
        )
    shared = planning()
    done = shared.write(
        lambda db: acceptances.replace_estate(
            db, plan_id, made.plan, made.lines, made.names, shared.plan, version, actor=actor()
        )
    )
    return jsonify(acceptance_value(done))
