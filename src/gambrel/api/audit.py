"""The audit trail: who did what to what, when, from where, and what was before."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

from apiflask import APIBlueprint, EmptySchema
from flask import Response

from gambrel.api.answers import file_answer, table_answer
from gambrel.api.people_schemas import AuditQuerySchema, AuditTrailSchema
from gambrel.api.problems import ProblemError, field_error
from gambrel.api.serialize import utc
from gambrel.api.sessions import planning
from gambrel.store import audit as store

blueprint = APIBlueprint("audit", __name__, tag="Audit trail", url_prefix="/api/v1/audit")


def _moment(field: str, text: str | None) -> datetime | None:
    if not text:
        return None
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        raise ProblemError(
            422, "This is no date or instant", "Write it like 2026-11-06 or 2026-11-06T21:00:00Z.",
            errors=[field_error(field, text, "is no date or instant")],
        ) from None  # fmt: skip
    return found.astimezone(UTC).replace(tzinfo=None) if found.tzinfo else found


def _wanted(query: dict[str, Any]) -> store.Wanted:
    return store.Wanted(
        actor=query["actor"] or None,
        action=query["action"] or None,
        subject=query["subject"] or None,
        said=query["said"] or None,
        since=_moment("since", query["since"]),
        until=_moment("until", query["until"]),
    )


def _entry(entry: store.Entry) -> dict[str, Any]:
    return {
        "id": entry.id,
        "at": utc(entry.at),
        "actor": entry.actor,
        "action": entry.action,
        "subject": entry.subject,
        "address": entry.address,
        "detail": entry.detail,
    }


@blueprint.get("")
@blueprint.input(AuditQuerySchema, location="query")
@blueprint.output(AuditTrailSchema)
def show_trail(query_data: dict[str, Any]) -> dict[str, Any]:
    """Entries of the trail, the newest first, in pages."""
    with planning().sessions() as db:
        found = store.entries(
            db, _wanted(query_data), before=query_data["before"], most=query_data["most"]
        )
        actions = store.actions(db)
    more = len(found) == query_data["most"]
    return {
        "entries": [_entry(entry) for entry in found],
        "actions": actions,
        "next": found[-1].id if more else None,
    }


def _all(query: dict[str, Any]) -> Iterator[dict[str, Any]]:
    wanted = _wanted(query)
    maker = planning().sessions

    def read() -> Iterator[dict[str, Any]]:
        with maker() as db:
            for entry in store.all_entries(db, wanted):
                yield _entry(entry)

    return read()


@blueprint.get("/trail.<form>")
@blueprint.input(AuditQuerySchema, location="query")
@blueprint.output(EmptySchema, content_type="text/csv")
def trail_file(form: str, query_data: dict[str, Any]) -> Response:
    """The entries that are asked for, all of them, as csv or xlsx."""
    header = ["id", "at", "actor", "action", "subject", "address", "detail"]
    rows = (
        [json.dumps(entry[name]) if name == "detail" else entry[name] for name in header]
        for entry in _all(query_data)
    )
    return table_answer("audit-trail", form, header, rows)


@blueprint.get("/trail.jsonl")
@blueprint.input(AuditQuerySchema, location="query")
@blueprint.doc(responses={200: "The trail as JSON lines."})
def trail_jsonl(query_data: dict[str, Any]) -> Response:
    """The entries that are asked for, all of them, as JSON lines."""
    lines = (json.dumps(entry) + "\n" for entry in _all(query_data))
    return file_answer(lines, "application/jsonl", "audit-trail.jsonl")
