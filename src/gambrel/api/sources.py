"""Sources: their accounts, access checks and discoveries."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from apiflask import APIBlueprint
from flask import Response, jsonify
from sqlalchemy.orm import Session

from gambrel.api import estate_schemas as schemas
from gambrel.api.problems import ProblemError, field_error
from gambrel.api.revisions import needs_revision, seen_revision
from gambrel.api.serialize import utc
from gambrel.api.sessions import actor, discoveries, planning
from gambrel.connectors import SourceError
from gambrel.connectors.addresses import check_allowed, wrong_address
from gambrel.store import sources
from gambrel.store.plans import plan_head

blueprint = APIBlueprint("sources", __name__, tag="Sources", url_prefix="/api/v1")


def _source(found: sources.Source) -> dict[str, Any]:
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
                "failure": c.failure, "advice": c.advice, "tried_at": utc(c.tried_at),
            }
            for c in found.credentials
        ],
        "last_discovery": None
        if last is None
        else {
            "id": last.id, "state": last.state, "read": last.read, "expected": last.expected,
            "message": last.message, "found": last.found, "started_at": utc(last.started_at),
            "ended_at": utc(last.ended_at),
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
        found = sources.sources(db, plan_id)
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
        lambda db: sources.add_source(
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
        plan_id = sources.source(db, source_id).plan_id
    if "site" in json_data:
        _check_site(plan_id, json_data["site"])

    def change(db: Session) -> sources.Source:
        now = sources.source(db, source_id)
        if now.revision != seen_revision():
            raise ProblemError(
                412, "The source was changed meanwhile", "Nothing was saved.", now=_source(now)
            )
        return sources.change_source(db, source_id, now.revision, json_data, actor=actor())

    made = planning().write(change)
    return jsonify(_source(made))


@blueprint.delete("/sources/<int:source_id>")
@blueprint.output({}, status_code=204)
def remove_source(source_id: int) -> Any:
    """Forget a source and its accounts; what it found stays in the plan."""
    planning().write(lambda db: sources.remove_source(db, source_id, actor=actor()))
    return "", 204


@blueprint.put("/accounts/<int:account_id>/secret")
@blueprint.input(schemas.SecretSchema)
@blueprint.output(schemas.SourceSchema)
def set_secret(account_id: int, json_data: dict[str, Any]) -> Any:
    """Replace the user and the secret of an account."""
    made = planning().write(
        lambda db: sources.set_secret(
            db,
            account_id,
            json_data["user"],
            json_data["secret"],
            discoveries().sealer,
            actor=actor(),
        )
    )
    return jsonify(_source(made))


def _own_sources(plan_id: int, ids: Sequence[int]) -> list[sources.Source]:
    with planning().sessions() as db:
        known = {each.id: each for each in sources.sources(db, plan_id)}
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
        sources.discovery(db, discovery_id)
    discoveries().cancel(discovery_id)
    return "", 204
