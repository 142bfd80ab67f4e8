"""Importing machines from files: a preview of the changes, then all of them or the good rows."""

from __future__ import annotations

import json
from typing import Any

from apiflask import APIBlueprint
from flask import jsonify, request

from gambrel.api import estate_schemas as schemas
from gambrel.api.inbox import told_effects
from gambrel.api.problems import ProblemError, field_error
from gambrel.api.serialize import acceptance_value
from gambrel.api.sessions import actor, planning
from gambrel.core.estate.importing import Imported
from gambrel.core.plan.objects import Plan
from gambrel.formats.inventory_csv import FIELDS
from gambrel.store import acceptances
from gambrel.store.plans import plan_head
from gambrel.work.imports import MOST_PROBLEMS, Choices, Reading, imported, read_files

blueprint = APIBlueprint("imports", __name__, tag="Imports", url_prefix="/api/v1/plans")

MOST_UPLOADED = 48 * 2**20
"""The most that all files of one import may come to."""


@blueprint.before_request
def allow_files() -> None:
    """Files are larger than other requests may be."""
    request.max_content_length = MOST_UPLOADED


def _choices(form: dict[str, Any]) -> Choices:
    mapping = None
    if form["mapping"]:
        try:
            mapping = json.loads(form["mapping"])
        except ValueError:
            mapping = "no JSON"
        if not isinstance(mapping, dict) or not all(
            field in FIELDS and isinstance(title, str) for field, title in mapping.items()
        ):
            raise ProblemError(
                422, "This mapping cannot be read", "Nothing was imported.",
                errors=[
                    field_error("mapping", form["mapping"][:80], "maps no field of a machine")
                ],
            )  # fmt: skip
    return Choices(mapping, form["unit"], form["host"] or None)


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
    return jsonify(
        {
            "base_version": version,
            "files": [
                {
                    "name": file.name, "kind": file.kind, "machines": file.machines,
                    "columns": file.columns, "mapping": file.mapping, "sample": file.sample,
                }
                for file in reading.files
            ],
            "lines": list(made.lines),
            "unchanged": made.unchanged,
            "problems": _problems(made),
            "more_problems": max(0, len(made.problems) - MOST_PROBLEMS),
            "fields": list(FIELDS),
            "jobs": told_effects(plan, made.plan),
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
