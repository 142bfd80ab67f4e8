"""Errors as RFC 9457 problem details: one form for all, naming the field that is at fault."""

from __future__ import annotations

import logging
from collections.abc import Iterable, Mapping
from typing import Any
from zoneinfo import ZoneInfo

from apiflask import APIFlask, HTTPError
from flask import Response, jsonify
from flask_wtf.csrf import CSRFError
from sqlalchemy.exc import InterfaceError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from werkzeug.exceptions import HTTPException, RequestEntityTooLarge

from gambrel.api.waiting import ANSWER_WITHIN_S
from gambrel.core.edits.item_edits import OperationError
from gambrel.core.estate.differences import EstateError
from gambrel.core.estate.facts import FactError
from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.values import PlanError
from gambrel.core.simulation_limits import Cancelled, TooMuch
from gambrel.store.database import WRITTEN_AT_ONCE
from gambrel.store.people import PersonError
from gambrel.store.plan_tables import NotStorable
from gambrel.store.plans import NotFound, NotYours
from gambrel.store.runners import OtherRunner
from gambrel.work.forecaster import OutOfReach
from gambrel.work.planning import PlanUnreadable

log = logging.getLogger(__name__)


class ProblemError(Exception):
    """An answer that is an error.

    Attributes:
        status: HTTP status.
        title: what happened, in a few words.
        detail: what was kept and what to do next.
        errors: the fields at fault: {"field", "value", "reason"}.
        more: further members of the problem object.
    """

    def __init__(
        self,
        status: int,
        title: str,
        detail: str = "",
        *,
        errors: Iterable[Mapping[str, Any]] = (),
        **more: Any,
    ) -> None:
        self.status = status
        self.title = title
        self.detail = detail
        self.errors = [dict(error) for error in errors]
        self.more = more
        super().__init__(title)


def instant_of(field: str, text: str) -> float:
    """The instant that a request names. Raises ProblemError."""
    try:
        return parse_instant(text)
    except ValueError as error:
        raise ProblemError(
            422, "This is no instant", "Write it like 2026-11-06T21:00:00Z.",
            errors=[field_error(field, text, str(error))],
        ) from None  # fmt: skip


def check_zone(zone: str, kept: str) -> None:
    """Refuse what names no time zone; `kept` says what did not happen. Raises ProblemError."""
    try:
        ZoneInfo(zone)
    except (KeyError, ValueError, OSError):
        raise ProblemError(
            422, "There is no such time zone", kept,
            errors=[field_error("time_zone", zone, "is not the name of an IANA time zone")],
        ) from None  # fmt: skip


def field_error(field: str, value: Any, reason: str) -> dict[str, Any]:
    return {"field": field, "value": value, "reason": reason}


def answer(problem: ProblemError) -> Response:
    body: dict[str, Any] = {"type": "about:blank", "title": problem.title, "status": problem.status}
    if problem.detail:
        body["detail"] = problem.detail
    if problem.errors:
        body["errors"] = problem.errors
    response = jsonify({**body, **problem.more})
    response.status_code = problem.status
    response.content_type = "application/problem+json"
    return response


def _flattened(messages: Any, path: str = "") -> list[dict[str, Any]]:
    if isinstance(messages, Mapping):
        return [
            error
            for key, value in messages.items()
            for error in _flattened(value, f"{path}.{key}" if path else str(key))
        ]
    reasons = messages if isinstance(messages, list) else [messages]
    return [field_error(path, None, str(reason)) for reason in reasons]


def register(app: APIFlask) -> None:
    """Have every error of the application answered as a problem."""

    @app.error_processor  # type: ignore[untyped-decorator,unused-ignore]
    def from_apiflask(error: HTTPError) -> Response:
        detail = error.detail if isinstance(error.detail, Mapping) else {}
        errors = [
            {**e, "field": e["field"].partition(".")[2] or e["field"]} for e in _flattened(detail)
        ]
        title = "The request does not fit the API" if errors else str(error.message)
        return answer(ProblemError(error.status_code, title, errors=errors))

    @app.errorhandler(ProblemError)
    def from_problem(error: ProblemError) -> Response:
        return answer(error)

    @app.errorhandler(OperationError)
    def from_operation(error: OperationError) -> Response:
        return answer(
            ProblemError(
                422,
                "This change cannot be made",
                f"{error}. The plan is as it was.",
                errors=[field_error(error.field, error.value, error.reason)],
            )
        )

    @app.errorhandler(OtherRunner)
    def from_other_runner(error: OtherRunner) -> Response:
        return answer(
            ProblemError(
                409,
                "Another runner carries this plan out",
                f"{error} was heard of a moment ago. Nothing was taken; stop it, or remove it.",
            )
        )

    @app.errorhandler(NotYours)
    def from_somebody_elses(error: NotYours) -> Response:
        return answer(
            ProblemError(
                409,
                f"This draft is {error}'s own",
                f"Nothing was changed. Have {error} share it, or go on in a copy of it.",
            )
        )

    @app.errorhandler(PersonError)
    def from_person(error: PersonError) -> Response:
        return answer(
            ProblemError(
                422,
                "This cannot be done",
                "Nothing was changed.",
                errors=[field_error(error.field, error.value, error.reason)],
            )
        )

    @app.errorhandler(FactError)
    def from_fact(error: FactError) -> Response:
        return answer(
            ProblemError(
                422,
                "This cannot be a fact of a machine",
                "Nothing was changed.",
                errors=[field_error(error.field, error.value, error.reason)],
            )
        )

    @app.errorhandler(EstateError)
    def from_estate(error: EstateError) -> Response:
        return answer(
            ProblemError(
                409,
                "This cannot be done with the estate as it is",
                f"{error.subject} {error.reason}. Nothing was changed.",
                errors=[field_error("subject", error.subject, error.reason)],
            )
        )

    @app.errorhandler(PlanError)
    @app.errorhandler(NotStorable)
    def from_plan(error: PlanError | NotStorable) -> Response:
        return answer(
            ProblemError(
                422,
                "This is not a plan file that can be read",
                "Nothing was stored.",
                errors=[field_error(p.path, p.value, p.reason) for p in error.problems],
            )
        )

    @app.errorhandler(PlanUnreadable)
    def from_unreadable(error: PlanUnreadable) -> Response:
        log.error("%s: %s", error, "; ".join(map(str, error.problems)))
        good = None
        if error.good is not None:
            good = {"version": error.good[0], "written_at": error.good[1].isoformat() + "Z"}
        return answer(
            ProblemError(
                409,
                "This plan cannot be opened",
                "Some of its stored entries cannot be read. Nothing was changed.",
                errors=[field_error(p.path, p.value, p.reason) for p in error.problems[:50]],
                unreadable={"plan": error.plan_id, "last_good": good},
            )
        )

    @app.errorhandler(NotFound)
    def from_missing(error: NotFound) -> Response:
        return answer(ProblemError(404, "Not found", f"{error}."))

    @app.errorhandler(OutOfReach)
    def from_out_of_reach(error: OutOfReach) -> Response:
        return answer(ProblemError(404, "There is no forecast of this night", str(error)))

    @app.errorhandler(TooMuch)
    def from_too_much(error: TooMuch) -> Response:
        return answer(ProblemError(422, "This is more than one simulation takes on", str(error)))

    @app.errorhandler(RecursionError)
    def from_depth(_error: RecursionError) -> Response:
        return answer(
            ProblemError(422, "This is nested too deeply", "Nothing was changed; write it flatter.")
        )

    @app.errorhandler(Cancelled)
    def from_cancelled(_error: Cancelled) -> Response:
        told = answer(
            ProblemError(
                503,
                "This took too long",
                f"It was ended after {ANSWER_WITHIN_S:.0f} s; nothing was changed. "
                "Try again when the server has less to do, or ask for less.",
            )
        )
        told.headers["Retry-After"] = "30"
        return told

    @app.errorhandler(CSRFError)
    def from_csrf(error: CSRFError) -> Response:
        return answer(
            ProblemError(
                403,
                "The request carries no valid token of this session",
                f"{error.description} Reload the page; nothing was changed.",
            )
        )

    @app.errorhandler(RequestEntityTooLarge)
    def from_too_large(_error: RequestEntityTooLarge) -> Response:
        return answer(
            ProblemError(
                413,
                "This is more than can be sent at once",
                "Nothing was read. Send files of at most 32 MiB, 48 MiB together.",
            )
        )

    @app.errorhandler(HTTPException)
    def from_http(error: HTTPException) -> Response:
        told = answer(ProblemError(error.code or 500, error.name, error.description or ""))
        for name, value in error.get_headers(None):
            # Such as Allow, by which a 405 says what would have been right.
            if name.lower() not in ("content-type", "content-length"):
                told.headers[name] = value
        return told

    @app.errorhandler(OperationalError)
    @app.errorhandler(InterfaceError)
    @app.errorhandler(PoolTimeout)
    def from_database(error: Exception) -> Response:
        log.warning("the database: %s", error)
        title = "The database does not answer just now"
        code = getattr(getattr(error, "orig", None), "args", (None,))[0]
        if code in WRITTEN_AT_ONCE:
            title = "Somebody else changed the same at the same time"
        told = answer(ProblemError(503, title, "Nothing was changed. Try again in a moment."))
        told.headers["Retry-After"] = "5"
        return told

    @app.errorhandler(Exception)
    def from_bug(error: Exception) -> Response:
        log.exception("unexpected error", exc_info=error)
        return answer(
            ProblemError(
                500,
                "Something went wrong on our side",
                "Nothing was changed. The log of the application says more.",
            )
        )
