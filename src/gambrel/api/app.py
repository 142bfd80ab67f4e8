"""The Flask application."""

from __future__ import annotations

import gc
from collections.abc import Sequence
from pathlib import Path
from threading import Thread
from typing import Any

from apiflask import APIFlask
from flask import Response, request, send_from_directory
from flask_wtf.csrf import CSRFProtect

from gambrel import __version__
from gambrel.api import (
    audit,
    balance,
    drafts,
    estate,
    feeds,
    imports,
    inbox,
    jobs,
    mail,
    metrics,
    night_sheets,
    paths,
    people,
    plans,
    presence,
    problems,
    provider,
    recovery,
    rehearsals,
    restore_tests,
    runner,
    runs,
    runway,
    serialize,
    server,
    sessions,
    sources,
    table_files,
    timetables,
    versions,
)
from gambrel.api.description import complete
from gambrel.api.json_provider import JsonAnswers, fault_of
from gambrel.api.schemas import ProblemSchema
from gambrel.api.waiting import WhileSomebodyWaits
from gambrel.connectors.addresses import Allowed
from gambrel.core.nights.nights import week_of
from gambrel.store.database import Sessions, connect
from gambrel.store.database import sessions as sessions_of
from gambrel.store.housekeeping import Keep
from gambrel.store.plans import plan_heads
from gambrel.store.sealing import Sealer
from gambrel.store.sign_in import SIGNED_IN_FOR
from gambrel.work.computations import Computations
from gambrel.work.discovery import Discoveries
from gambrel.work.executors import Workers
from gambrel.work.mailing import Mailing
from gambrel.work.planning import Planning
from gambrel.work.presence import Presence
from gambrel.work.rehearsing import Rehearsals
from gambrel.work.runs import Runs

CONTENT_SECURITY_POLICY = "; ".join(
    (
        "default-src 'none'",
        "script-src 'self'",
        "style-src 'self'",
        "img-src 'self' data:",
        "font-src 'self'",
        "connect-src 'self'",
        "base-uri 'none'",
        "form-action 'none'",
        "frame-ancestors 'none'",
    )
)


COLLECT_AFTER = (50_000, 20, 100)
"""Thresholds of the garbage collector: a forecast makes many objects, and few that form cycles."""


def create_app(
    database_url: str,
    secret_key: str,
    sealing_key: str,
    *,
    pages: Path | None = None,
    port: int | None = None,
    address: str = "",
    allowed: Sequence[Allowed] | None = None,
    **settings: Any,
) -> APIFlask:
    """The application on a database.

    Args:
        database_url: a SQLAlchemy URL; the schema must be at its newest revision.
        secret_key: signs session cookies.
        sealing_key: seals the secrets of sources, see `Sealer`.
        pages: folder of the built front end; without it only the API is served.
        port: where it is served. Browsers give cookies of a host to all its ports, so that the
            cookie's name has the port.
        address: where people reach it, such as "https://plan.example.org"; behind TLS the cookie
            is sent over TLS only.
        allowed: where sources may be; None for private networks.
        settings: Flask settings that replace those below.
    """
    app = APIFlask(
        __name__,
        title="Gambrel",
        version=__version__,
        spec_path="/api/v1/openapi.json",
        docs_path=None,
        static_folder=None,  # type: ignore[arg-type]
    )
    app.config.update(
        SECRET_KEY=secret_key,
        SESSION_COOKIE_NAME="gambrel" if port is None else f"gambrel-{port}",
        SESSION_COOKIE_SECURE=address.startswith("https://"),
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SAMESITE="Lax",
        PERMANENT_SESSION_LIFETIME=SIGNED_IN_FOR,
        ADDRESS=address,
        KEEP=Keep(),
        RATELIMIT_HEADERS_ENABLED=True,
        WTF_CSRF_TIME_LIMIT=None,
        WTF_CSRF_HEADERS=["X-CSRF-Token"],
        MAX_CONTENT_LENGTH=8 * 2**20,
        SYNC_LOCAL_SPEC=False,
        HTTP_ERROR_SCHEMA=ProblemSchema,
        VALIDATION_ERROR_SCHEMA=ProblemSchema,
    )
    app.config.update(settings)
    app.json = JsonAnswers(app)
    maker = sessions_of(connect(database_url))
    shared = app.extensions["gambrel"] = Planning(maker)
    sealer = app.extensions["gambrel-sealer"] = Sealer(sealing_key)
    app.extensions["gambrel-discoveries"] = Discoveries(shared, sealer, allowed)
    shared_runs = app.extensions["gambrel-runs"] = Runs(shared)
    mailing = app.extensions["gambrel-mailing"] = Mailing(shared_runs, sealer)
    shared_runs.on_ended = mailing.notices
    app.extensions["gambrel-presence"] = Presence()
    app.extensions["gambrel-rehearsals"] = Rehearsals()
    app.extensions["gambrel-computations"] = Computations(
        shared, Workers.of_environment(), shared_runs.failing, shared_runs.week_spread
    )
    app.wsgi_app = WhileSomebodyWaits(app.wsgi_app)  # type: ignore[method-assign,assignment]
    HeaderTokens(app).exempt(runner.blueprint)
    sessions.limiter.init_app(app)
    problems.register(app)
    sessions.register(app)
    app.before_request(_refuse_faulty_json)
    for module in (
        sessions, provider, people, audit, plans, drafts, estate, sources, inbox, imports, paths,
        jobs, versions, balance, runs, rehearsals, recovery, restore_tests, runway, feeds, runner,
        mail, night_sheets, presence, table_files, timetables, server,
    ):  # fmt: skip
        app.register_blueprint(module.blueprint)
    app.register_blueprint(feeds.addresses)
    metrics.register(app)
    app.after_request(_with_headers)

    @app.spec_processor  # type: ignore[untyped-decorator,unused-ignore]
    def described(spec: Any) -> Any:
        return complete(app, spec)

    if pages is not None:
        _serve_pages(app, pages)
    return app


class HeaderTokens(CSRFProtect):  # type: ignore[misc]
    """Takes tokens from the header only: to look for one in a form would read all that is sent.

    Whoever sends an API token needs no other: a page of somebody else's cannot send one.
    """

    def protect(self, **more: Any) -> None:
        if sessions.sent_token() is None:
            super().protect(**more)

    def _get_csrf_token(self) -> str | None:
        token: str | None = request.headers.get("X-CSRF-Token")
        return token


def _refuse_faulty_json() -> None:
    fault = fault_of(request.get_data(cache=True)) if request.is_json else None
    if fault is not None:
        raise problems.ProblemError(
            400, "This JSON cannot be read", f"{fault}. Nothing was changed."
        )


def _with_headers(response: Response) -> Response:
    response.headers.setdefault("Content-Security-Policy", CONTENT_SECURITY_POLICY)
    response.headers.setdefault("X-Content-Type-Options", "nosniff")
    response.headers.setdefault("Referrer-Policy", "no-referrer")
    response.headers.setdefault("Cross-Origin-Opener-Policy", "same-origin")
    return response


def _serve_pages(app: APIFlask, pages: Path) -> None:
    """Serve the front end: its assets for ever, its page for every address that is a view."""

    @app.get("/assets/<path:name>")
    @app.doc(hide=True)
    def asset(name: str) -> Response:
        return send_from_directory(pages / "assets", name, max_age=31_536_000)

    @app.get("/favicon.svg")
    @app.doc(hide=True)
    def icon() -> Response:
        return send_from_directory(pages, "favicon.svg", max_age=86_400)

    @app.get("/")
    @app.get("/<path:view>")
    @app.doc(hide=True)
    def page(view: str = "") -> Response:
        if view.startswith("api/"):
            raise problems.ProblemError(404, "Not found", f"There is no /{view}.")
        return send_from_directory(pages, "index.html", max_age=0)


def warm_up(app: APIFlask) -> Thread:
    """Forecast the first week of every plan in the background, so that nobody waits for it.

    What is there by then stays for as long as the process: the garbage collector is told to leave
    it alone, as each of its walks through all of it would take longer than a preview.
    """
    planning: Planning = app.extensions["gambrel"]

    def forecast() -> None:
        with planning.sessions() as db:
            heads = plan_heads(db)
        for head in heads:
            forecaster = planning.version(head.adopted_version)
            week = week_of(forecaster.origin.date, forecaster.origin.zone)
            for night in week:
                if forecaster.covers(night):
                    serialize.night(forecaster.night(night), night, None)
        gc.collect()
        gc.freeze()

    gc.set_threshold(*COLLECT_AFTER)
    thread = Thread(target=forecast, name="warm-up", daemon=True)
    thread.start()
    return thread


def watch_sources(app: APIFlask) -> None:
    """Read sources when their interval has passed, for as long as the process runs."""
    discoveries: Discoveries = app.extensions["gambrel-discoveries"]
    discoveries.watch()


def send_mail(app: APIFlask) -> None:
    """Write reports when they are due and send mail, for as long as the process runs."""
    mailing: Mailing = app.extensions["gambrel-mailing"]
    mailing.watch()


def ready_workers(app: APIFlask) -> Thread:
    """Mark computations that were interrupted, and have the workers ready, in the background."""
    computations: Computations = app.extensions["gambrel-computations"]
    thread = Thread(target=computations.prepare, name="workers", daemon=True)
    thread.start()
    return thread


def current_planning(app: APIFlask) -> Planning:
    """The plans and forecasts of an application."""
    planning: Planning = app.extensions["gambrel"]
    return planning


def current_sessions(app: APIFlask) -> Sessions:
    """The session maker of an application."""
    return current_planning(app).sessions


def openapi() -> dict[str, Any]:
    """The OpenAPI description; needs no database."""
    app = create_app(
        "mariadb+pymysql://nobody@127.0.0.1:1/none",
        "only for the description",
        Sealer.new_key(),
    )
    described = app.spec
    assert isinstance(described, dict)
    return described
