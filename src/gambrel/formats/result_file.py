"""`gambrel-result/1`: what `gambrel simulate` writes (planning model, section 11)."""

from __future__ import annotations

from typing import Any

from gambrel.core.plan.instants import format_known
from gambrel.core.simulation.forecast import Forecast, MachineRun, RestoreRun, Run

FORMAT = "gambrel-result/1"


def _machine_run(run: MachineRun) -> dict[str, Any]:
    return {
        "machine": run.machine,
        "outcome": run.outcome,
        "kind": run.kind,
        "queued": format_known(run.queued),
        "start": format_known(run.start),
        "moved": format_known(run.moved),
        "ended": format_known(run.ended),
        "source_bytes": run.source_bytes,
        "wire_bytes": run.wire_bytes,
        "stored_bytes": run.stored_bytes,
        "waiting_s": run.waiting_s,
        "squeeze_s": {name: seconds for name, seconds in run.squeeze_s.items() if seconds > 0},
    }


def _run(run: Run) -> dict[str, Any]:
    return {
        "job": run.job,
        "occurrence": format_known(run.occurrence),
        "kind": run.kind,
        "outcome": run.outcome,
        "began": format_known(run.began),
        "ended": format_known(run.ended),
        "window_end": format_known(run.window_end),
        "over_s": run.over_s,
        "machines": [_machine_run(machine) for machine in run.machines],
    }


def _restore(restore: RestoreRun) -> dict[str, Any]:
    point, squeeze_s = restore.point, restore.squeeze_s
    return {
        "id": restore.id,
        "machine": restore.machine,
        "outcome": restore.outcome,
        "point": None
        if point is None
        else {"job": point.job, "repository": point.repository, "at": format_known(point.at)},
        "points": restore.points,
        "due": format_known(restore.due),
        "start": format_known(restore.start),
        "back": format_known(restore.back),
        "whole": format_known(restore.whole),
        "read_bytes": restore.read_bytes,
        "written_bytes": restore.written_bytes,
        "squeeze_s": None
        if squeeze_s is None
        else {name: seconds for name, seconds in squeeze_s.items() if seconds > 0},
    }


def result(forecast: Forecast) -> dict[str, Any]:
    """A forecast as the JSON values of a result file."""
    found = _result(forecast)
    if forecast.restores:
        found["restores"] = [_restore(restore) for restore in forecast.restores]
    return found


def _result(forecast: Forecast) -> dict[str, Any]:
    return {
        "format": FORMAT,
        "from": format_known(forecast.from_),
        "to": format_known(forecast.to),
        "runs": [_run(run) for run in forecast.runs],
        "points": [
            {
                "job": point.job,
                "machine": point.machine,
                "repository": point.repository,
                "kind": point.kind,
                "at": format_known(point.at),
                "exists_from": format_known(point.exists_from),
                "stored_bytes": point.stored_bytes,
            }
            for point in forecast.points
        ],
        "exposure": [
            {"machine": e.machine, "worst_s": e.worst_s, "rpo_met": e.rpo_met}
            for e in forecast.exposure
        ],
        "space": [
            {"repository": s.repository, "peak_bytes": s.peak_bytes, "end_bytes": s.end_bytes}
            for s in forecast.space
        ],
    }
