"""For monitoring: /healthz, /readyz, and /metrics in the text format of Prometheus.

`/metrics` asks for an API token; the other two say nothing of what is planned.
"""

from __future__ import annotations

import time
from collections.abc import Iterator

from apiflask import APIFlask
from flask import Blueprint, Response, current_app, g, jsonify, request
from prometheus_client import CONTENT_TYPE_LATEST, CollectorRegistry, Histogram, generate_latest
from prometheus_client.core import GaugeMetricFamily, Metric
from prometheus_client.registry import Collector
from sqlalchemy import text
from sqlalchemy.exc import SQLAlchemyError

from gambrel.api.rights import READ
from gambrel.api.server import caches_by_name, resident_bytes
from gambrel.api.sessions import planning, require
from gambrel.core.nights.nights import GRADES
from gambrel.core.simulation.turns import simulations
from gambrel.store.database import is_current
from gambrel.work.computations import Computations
from gambrel.work.monitoring import Monitoring

blueprint = Blueprint("metrics", __name__)

FIRST_WAITS_S = 20.0
"""How long the first scrape waits for the plans to be read; later ones do not wait."""
VERDICTS = GRADES[::-1]
TIMES_S = (0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 30.0, 90.0)


def register(app: APIFlask) -> None:
    """Have an application measure its requests and answer monitoring."""
    registry = CollectorRegistry()
    times = Histogram(
        "gambrel_request_seconds", "Time from a request to its answer",
        ["endpoint", "method", "status"], registry=registry, buckets=TIMES_S,
    )  # fmt: skip
    registry.register(_Plans(app))
    registry.register(_Server(app))
    app.extensions["gambrel-metrics"] = registry
    app.extensions["gambrel-monitoring"] = Monitoring(app.extensions["gambrel"])

    @app.before_request
    def begin() -> None:
        g.begun = time.perf_counter()

    @app.after_request
    def end(response: Response) -> Response:
        begun = g.get("begun")
        if begun is not None and request.endpoint is not None:
            kind = f"{response.status_code // 100}xx"
            times.labels(request.endpoint, request.method, kind).observe(
                time.perf_counter() - begun
            )
        return response

    app.register_blueprint(blueprint)


@blueprint.get("/healthz")
def healthz() -> Response:
    """Whether the process answers at all."""
    return jsonify({"status": "alive"})


@blueprint.get("/readyz")
def readyz() -> tuple[Response, int]:
    """Whether it can work: the database answers, and has the schema of this program."""
    try:
        with planning().sessions() as db:
            db.execute(text("SELECT 1"))
            current = is_current(db.connection())
    except SQLAlchemyError:
        return jsonify({"status": "the database does not answer"}), 503
    if not current:
        return jsonify({"status": "the database has another schema than this program"}), 503
    return jsonify({"status": "ready"}), 200


@blueprint.get("/metrics")
def metrics() -> Response:
    """What monitoring asks for, with a token."""
    require(READ)
    registry: CollectorRegistry = current_app.extensions["gambrel-metrics"]
    return Response(generate_latest(registry), content_type=CONTENT_TYPE_LATEST)


class _Plans(Collector):
    """The plans, as they were read last."""

    def __init__(self, app: APIFlask) -> None:
        self.app = app

    def describe(self) -> list[Metric]:
        return []

    def collect(self) -> Iterator[Metric]:
        monitoring: Monitoring = self.app.extensions["gambrel-monitoring"]
        plans, age = monitoring.seen()
        if age is None:
            plans, age = monitoring.seen(FIRST_WAITS_S)
        if age is not None:
            yield _one("gambrel_plans_age_seconds", "Seconds since the plans were read", age)
        verdict = _family("night_verdict", "0 fits, 1 is tight, 2 is over", "plan", "date", "ahead")
        ends = _family("night_last_end_timestamp_seconds", "When the last run of a night ends",
                       "plan", "date", "ahead")  # fmt: skip
        worst = _family("worst_exposure_seconds", "The machines of jobs that are most exposed",
                        "plan", "machine")  # fmt: skip
        missed = _family("rpo_missed_machines", "Machines that pass their RPO in these nights",
                         "plan")  # fmt: skip
        without = _family("machines_without_good_point", "Machines of jobs without a good point",
                          "plan")  # fmt: skip
        full = _family("repository_full_timestamp_seconds",
                       "When a repository is full; +Inf: not within two years",
                       "plan", "repository")  # fmt: skip
        heard = _family("runner_heard_age_seconds", "Since when nothing was heard of the runner",
                        "plan")  # fmt: skip
        for plan in plans:
            for ahead, night in enumerate(plan.nights):
                labels = [plan.name, night.date.isoformat(), str(ahead)]
                verdict.add_metric(labels, VERDICTS.index(night.verdict))
                if night.last_end is not None:
                    ends.add_metric(labels, night.last_end)
            for machine, seconds in plan.exposures:
                worst.add_metric([plan.name, machine], seconds)
            missed.add_metric([plan.name], plan.rpo_missed)
            without.add_metric([plan.name], plan.without_good_point)
            for repository, at in plan.full_at:
                full.add_metric([plan.name, repository], float("inf") if at is None else at)
            if plan.heard_at is not None:
                heard.add_metric([plan.name], max(0.0, time.time() - plan.heard_at))
        yield from (verdict, ends, worst, missed, without, full, heard)


class _Server(Collector):
    """The process itself."""

    def __init__(self, app: APIFlask) -> None:
        self.app = app

    def describe(self) -> list[Metric]:
        return []

    def collect(self) -> Iterator[Metric]:
        yield _one("gambrel_resident_bytes", "Memory of the process", resident_bytes())
        held = _family("cache_bytes", "What the caches hold", "cache")
        most = _family("cache_most_bytes", "What they may hold", "cache")
        for cache in caches_by_name():
            held.add_metric([cache["name"]], cache["bytes"])
            most.add_metric([cache["name"]], cache["most_bytes"])
        yield from (held, most)
        computations: Computations = self.app.extensions["gambrel-computations"]
        work = _family("work", "Simulations and long computations", "kind", "state")
        for kind, turns in (("simulation", simulations), ("computation", computations.turns)):
            work.add_metric([kind, "running"], turns.running)
            work.add_metric([kind, "waiting"], turns.waiting)
        yield work


def _family(name: str, about: str, *labels: str) -> GaugeMetricFamily:
    return GaugeMetricFamily(f"gambrel_{name}", about, labels=labels)


def _one(name: str, about: str, value: float) -> GaugeMetricFamily:
    return GaugeMetricFamily(name, about, value=value)
