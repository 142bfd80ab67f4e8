"""Plans and forecasts as the values that the API gives, ready to be written as JSON.

The schemas describe these values, and tests hold the answers against them; they are not put through
a schema again on their way out, which would take longer than many a simulation.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import date, datetime, timedelta
from typing import Any, get_args

import numpy as np
import numpy.typing as npt

from gambrel.core.edits.operations import operation_to_dict
from gambrel.core.findings import Finding
from gambrel.core.findings.help import Suggestion
from gambrel.core.loads.lanes import BarKind, Lane, Mark
from gambrel.core.loads.load_series import LoadSeries, load_names, load_table, shown_load_names
from gambrel.core.loads.night_loads import SpanLoad, loads_in_span, tightest
from gambrel.core.loads.time_account import account_of
from gambrel.core.model.job_windows import window_id_of, window_of
from gambrel.core.model.selection import selected_machines
from gambrel.core.nights.nights import (
    Night,
    NightOutcome,
    Reason,
    night_outcome,
    walls,
)
from gambrel.core.plan.instants import format_instant
from gambrel.core.plan.objects import DayRowSchedule, Job, Plan, Schedule
from gambrel.core.schedules.calendars import window_span
from gambrel.core.schedules.moves import weeks_between
from gambrel.core.schedules.words import schedule_in_words
from gambrel.core.simulation.forecast import (
    SLOT_PARTS,
    CopyRun,
    Forecast,
    MachineRun,
    Run,
    TimePart,
    copies_within,
)
from gambrel.core.words import job_clauses, load_label
from gambrel.store.acceptances import Acceptance
from gambrel.store.plans import Draft, DraftChange, PlanHead
from gambrel.work.forecaster import WEEKS_AHEAD, Forecaster

SILHOUETTE_BINS = 96
LARGE = 2_000
"""Machines of a large estate."""
"""Parts of a night in a silhouette: a quarter of an hour each."""


def utc(value: datetime | None) -> str | None:
    """A moment of the store, which is UTC, as ISO 8601."""
    return None if value is None else value.isoformat() + "Z"


def day_text(value: date | None) -> str | None:
    """A date as ISO 8601."""
    return None if value is None else value.isoformat()


def instant(value: float | None) -> str | None:
    return None if value is None else format_instant(value)


# --- plans ------------------------------------------------------------------------------------


def _schedule(position: int, schedule: Schedule) -> dict[str, Any]:
    at = schedule.from_time if isinstance(schedule, DayRowSchedule) else schedule.start.time()
    return {
        "position": position,
        "kind": schedule.kind,
        "words": schedule_in_words(schedule),
        "start_time": f"{at:%H:%M}",
        "time_zone": schedule.time_zone,
        "every_weeks": weeks_between(schedule),
    }


def clauses(plan: Plan, item: Job) -> list[dict[str, Any]]:
    """The sentence that a job is."""
    return [
        {"key": c.key, "lead": c.lead, "text": c.text, "plain": c.plain}
        for c in job_clauses(plan, item)
    ]


def job(plan: Plan, item: Job) -> dict[str, Any]:
    machines = selected_machines(plan, item)
    return {
        "id": item.id,
        "name": item.name,
        "priority": item.priority,
        "locked": item.locked,
        "after": item.after,
        "window": window_id_of(plan, item),
        "repository": item.repository,
        "machines": len(machines),
        "used_gib": sum(disk.used_gib for machine in machines for disk in machine.disks),
        "schedules": [_schedule(i, schedule) for i, schedule in enumerate(item.schedules)],
        "clauses": clauses(plan, item),
    }


def draft(item: Draft) -> dict[str, Any]:
    return {
        "id": item.id,
        "plan_id": item.plan_id,
        "name": item.name,
        "revision": item.revision,
        "base_version": item.base_version,
        "changes": [_change(change) for change in item.changes],
        "can_redo": item.can_redo,
        "undone": [_change(change) for change in item.undone],
        "owner": item.owner,
        "shared": item.shared,
    }


def _change(change: DraftChange) -> dict[str, Any]:
    return {
        "operation": operation_to_dict(change.operation),
        "words": change.words,
        "actor": change.actor,
    }


def plan(
    head: PlanHead, forecaster: Forecaster, current: Draft | None, open_drafts: Sequence[Draft]
) -> dict[str, Any]:
    item = forecaster.plan
    first = forecaster.origin
    return {
        "id": head.id,
        "name": head.name,
        "adopted_version": head.adopted_version,
        "time_zone": first.zone,
        "first_night": first.date.isoformat(),
        "last_night": (first.date + timedelta(weeks=WEEKS_AHEAD)).isoformat(),
        "draft": None if current is None else draft(current),
        "open_drafts": [draft(d) for d in open_drafts],
        "jobs": [job(item, j) for j in item.jobs],
        "loads": [
            {"name": name, "label": load_label(item, name)} for name in shown_load_names(item)
        ],
        "machines": len(item.machines),
        "proxies": len(item.proxies),
        "repositories": len(item.repositories),
        "windows": len(item.windows),
        "sites": len(item.sites),
        "site_ids": [site.id for site in item.sites],
        "host_ids": [host.id for host in item.hosts],
    }


# --- nights -----------------------------------------------------------------------------------


def _reason(reason: Reason) -> dict[str, Any]:
    return {
        "kind": reason.kind,
        "job": reason.job,
        "machine": reason.machine,
        "occurrence": instant(reason.occurrence),
        "runs": reason.runs,
        "machines": reason.machines,
        "seconds": reason.seconds,
        "squeeze": reason.squeeze,
        "squeeze_s": reason.squeeze_s,
        "waited_for": reason.waited_for,
        "waited_s": reason.waited_s,
        "moving_s": reason.moving_s,
        "finishing_s": reason.finishing_s,
    }


def _tightest(item: Plan, load: SpanLoad) -> dict[str, Any]:
    return {
        "name": load.name,
        "label": load_label(item, load.name),
        "unit": load.unit,
        "peak": load.peak,
        "capacity": load.capacity,
        "full_s": load.full_s,
        "waiting_jobs": list(load.waiting_jobs),
    }


def _busiest_slots(loads: Iterable[SpanLoad]) -> SpanLoad | None:
    """The proxy slots that the night's silhouette shows: the tightest, else any limited slots."""
    pools = [load for load in loads if load.unit == "slots"]
    proxies = [load for load in pools if load.name.startswith("slots:proxy:")]
    used = [load for load in proxies if load.peak > 0] or [p for p in pools if p.peak > 0]
    return used[0] if used else next(iter(proxies or pools), None)


def _silhouette(forecast: Forecast, night: Night, loads: Sequence[SpanLoad]) -> dict[str, Any]:
    chosen = _busiest_slots(loads)
    jobs = () if chosen is None else chosen.reading_jobs
    every = [job.id for job in forecast.plan.jobs]
    span = walls(forecast.plan, night, jobs) or walls(forecast.plan, night, every)
    length = night.end - night.start
    load = waiting = [0.0] * SILHOUETTE_BINS
    if chosen is not None:
        slots = chosen.capacity or 1.0
        load = (chosen.total / slots).round(3).tolist()
        waiting = (chosen.waiting / slots).round(3).tolist()
    return {
        "name": None if chosen is None else chosen.name,
        "label": None if chosen is None else load_label(forecast.plan, chosen.name),
        "load": load,
        "waiting": waiting,
        "opens": None if span is None else (span[0] - night.start) / length,
        "closes": None if span is None else (span[1] - night.start) / length,
    }


def no_forecast(night: Night) -> dict[str, Any]:
    """The summary of a night that cannot be forecast."""
    return {
        "date": night.date.isoformat(),
        "start": instant(night.start),
        "end": instant(night.end),
        "forecast": False,
        "verdict": None,
        "last_end": None,
        "over_s": 0.0,
        "runs": 0,
        "missed": 0,
        "reasons": [],
        "tightest": None,
        "silhouette": None,
    }


def _summary(
    forecast: Forecast, night: Night, outcome: NightOutcome, ranked: Sequence[SpanLoad]
) -> dict[str, Any]:
    return {
        "date": night.date.isoformat(),
        "start": instant(night.start),
        "end": instant(night.end),
        "forecast": True,
        "verdict": outcome.verdict,
        "last_end": instant(outcome.last_end),
        "over_s": outcome.over_s,
        "runs": outcome.runs,
        "missed": outcome.missed,
        "reasons": [_reason(reason) for reason in outcome.reasons],
        "tightest": _tightest(forecast.plan, ranked[0]) if ranked else None,
        "silhouette": _silhouette(forecast, night, ranked),
    }


class NightRecords:
    """Tells the loads of one night, and reads its records for that once, when somebody asks."""

    def __init__(self, forecast: Forecast, night: Night) -> None:
        self.forecast = forecast
        self.night = night
        self.records = forecast.loads.within(night.start, night.end)

    def ranked(self) -> list[SpanLoad]:
        """All loads, the tightest first; made once for each forecast."""

        def make() -> list[SpanLoad]:
            names = load_names(self.forecast.plan)
            return tightest(loads_in_span(self.forecast, names, self.records, SILHOUETTE_BINS))

        return self.forecast.once(("ranked loads", self.night), make)

    def series(self, names: Iterable[str]) -> list[LoadSeries]:
        """Some loads with all their steps. Raises KeyError for a name that the plan has not."""
        start, end = self.night.start, self.night.end
        return load_table(self.forecast, names, start, end, self.records)


def night_summary(
    forecast: Forecast, night: Night, records: NightRecords | None = None
) -> dict[str, Any]:
    """A night of the week strip; made once for each forecast."""

    def make() -> dict[str, Any]:
        ranked = (records or NightRecords(forecast, night)).ranked()
        return _summary(forecast, night, night_outcome(forecast, night), ranked)

    return forecast.once(("summary", night), make)


def _squeezes(item: Plan, seconds: Mapping[str, float], most: int) -> list[dict[str, Any]]:
    ranked = sorted(seconds.items(), key=lambda entry: -entry[1])[:most]
    return [{"name": n, "label": load_label(item, n), "seconds": s} for n, s in ranked if s > 0]


def run(item: Plan, entry: Run) -> dict[str, Any]:
    """One run with the sums over its machines."""
    totals = entry.totals()
    return {
        "job": entry.job,
        "occurrence": instant(entry.occurrence),
        "kind": entry.kind,
        "runs_as": totals.kinds[0] if totals.kinds else entry.kind,
        "synthetic": totals.synthetic,
        "schedule": entry.schedule,
        "outcome": entry.outcome,
        "began": instant(entry.began),
        "first_start": instant(totals.first_start),
        "moved": instant(totals.moved),
        "ended": instant(entry.ended),
        "window_opens": instant(entry.window_opens),
        "window_end": instant(entry.window_end),
        "over_s": entry.over_s,
        "machines": len(entry.machines),
        "done": entry.outcomes["done"],
        "source_bytes": totals.source_bytes,
        "wire_bytes": totals.wire_bytes,
        "stored_bytes": totals.stored_bytes,
        "squeezes": _squeezes(item, totals.squeeze_s, 3),
        "proxies": list(totals.proxies),
    }


def _copies(copies: Iterable[CopyRun], night: Night) -> list[dict[str, Any]]:
    """The copies that move in a night, those of one run to one repository told together."""
    groups: dict[tuple[float, str, str], list[CopyRun]] = defaultdict(list)
    for copy in copies:
        if copy.start is not None and copy.ended is not None:
            groups[copy.occurrence, copy.job, copy.repository].append(copy)
    found = []
    for (occurrence, owner, repository), members in sorted(groups.items()):
        start = min(copy.start for copy in members if copy.start is not None)
        ended = max(copy.ended for copy in members if copy.ended is not None)
        if start < night.end and ended > night.start:
            found.append(
                {
                    "job": owner,
                    "occurrence": instant(occurrence),
                    "repository": repository,
                    "machines": len(members),
                    "start": instant(start),
                    "ended": instant(ended),
                    "wire_bytes": sum(copy.wire_bytes for copy in members),
                }
            )
    return found


def load(item: Plan, series: LoadSeries, start: float) -> dict[str, Any]:
    """A load with its steps counted from an instant, such as the start of a night."""

    def steps(entries: npt.ArrayLike) -> list[list[float]]:
        table = np.asarray(entries, np.float64).reshape(-1, 2)
        found: list[list[float]] = np.column_stack(
            ((table[:, 0] - start).round(1), table[:, 1].round(3))
        ).tolist()
        return found

    return {
        "name": series.name,
        "label": load_label(item, series.name),
        "unit": series.unit,
        "capacity": None if series.capacity is None else steps(series.capacity),
        "parts": [
            {"job": part.job, "purpose": part.purpose, "steps": steps(part.steps)}
            for part in series.parts
        ],
        "waiting": steps(series.waiting),
        "peak": series.peak,
        "full_s": series.full_s,
        "waiting_jobs": list(series.waiting_jobs),
    }


def default_loads(ranked: Sequence[SpanLoad]) -> list[str]:
    """What to show when nothing is asked for: the tightest proxy slots, link and repository."""
    chosen: list[str] = []
    for prefix in ("slots:proxy:", "link:", "repository:"):
        used = [s for s in ranked if s.name.startswith(prefix) and s.capacity and s.peak > 0]
        chosen += [load.name for load in used[:1]]
    return chosen


def is_large(item: Plan) -> bool:
    """Whether what is compiled takes so long that it gains by threads of its own.

    In a small estate threads wait longer for the interpreter than the compiled code takes.
    """
    return len(item.machines) >= LARGE


def night(forecast: Forecast, item: Night, names: Sequence[str] | None) -> dict[str, Any]:
    """The forecast of a night: summary, runs, copies, windows and loads.

    Raises:
        KeyError: for the name of a load that the plan does not have.
    """
    the_plan = forecast.plan
    records = NightRecords(forecast, item)
    with ThreadPoolExecutor(1) as beside:
        if is_large(the_plan):
            # The sweep over what flowed takes as long as all else, in compiled code.
            beside.submit(records.ranked)
        told = {
            "time_zone": item.zone,
            "windows": [
                {"job": ident, "opens": instant(opens), "closes": instant(closes)}
                for ident, (opens, closes) in _window_hours(the_plan, item).items()
            ],
            "run_list": [run(the_plan, entry) for entry in _runs_in(forecast, item)],
            "copies": _copies(copies_within(forecast.copies, item.start, item.end), item),
        }
    wanted = default_loads(records.ranked()) if names is None else names
    told["loads"] = [load(the_plan, each, item.start) for each in records.series(wanted)]
    return {**night_summary(forecast, item, records), **told}


def _runs_in(forecast: Forecast, item: Night) -> list[Run]:
    """The runs that are due in a night, or go on in it."""
    return [
        entry
        for entry in forecast.runs
        if entry.occurrence < item.end
        and (item.holds(entry.occurrence) or (entry.ended or entry.occurrence) > item.start)
    ]


def _window_hours(the_plan: Plan, item: Night) -> dict[str, tuple[float, float]]:
    """When each job's window is open that night, whether it has a run or not."""
    found: dict[str, tuple[float, float]] = {}
    for entry in the_plan.jobs:
        window = window_of(the_plan, entry)
        if window is not None:
            span = window_span(window, item.start)
            if span is not None and span.opens < item.end:
                found[entry.id] = (span.opens, min(span.closes, item.end))
    return found


def finding(item: Finding) -> dict[str, Any]:
    return {
        "key": item.key,
        "kind": item.kind,
        "gravity": item.gravity,
        "subjects": [{"kind": s.kind, "id": s.id} for s in item.subjects],
        "what": item.what,
        "why": item.why,
        "at": instant(item.at),
        "weight": item.weight,
        "figures": dict(item.figures),
    }


def suggestion(item: Suggestion) -> dict[str, Any]:
    return {
        "words": item.words,
        "operations": [operation_to_dict(operation) for operation in item.operations],
        "before": item.before,
        "after": item.after,
        "over_s_before": item.trouble_before.over_s,
        "over_s_after": item.trouble_after.over_s,
        "not_done_before": item.trouble_before.lost,
        "not_done_after": item.trouble_after.lost,
    }


def _part(item: Plan, part: TimePart) -> dict[str, Any]:
    label = None
    if part.by is not None:
        pool = part.kind in SLOT_PARTS
        label = load_label(item, f"slots:{part.by}" if pool else part.by)
    return {"kind": part.kind, "seconds": part.seconds, "by": part.by, "label": label}


def machine_run(forecast: Forecast, of: Run, entry: MachineRun) -> dict[str, Any]:
    item = forecast.plan
    return {
        "machine": entry.machine,
        "outcome": entry.outcome,
        "kind": entry.kind,
        "queued": instant(entry.queued),
        "start": instant(entry.start),
        "moved": instant(entry.moved),
        "ended": instant(entry.ended),
        "source_bytes": entry.source_bytes,
        "wire_bytes": entry.wire_bytes,
        "stored_bytes": entry.stored_bytes,
        "waiting_s": entry.waiting_s,
        "squeezes": _squeezes(item, entry.squeeze_s, 5),
        "readings": [
            {"disk": r.disk, "proxy": r.proxy, "transport": r.transport} for r in entry.readings
        ],
        "account": [_part(item, part) for part in account_of(forecast, of, entry)],
    }


def lanes(found: Sequence[Lane], start: float, end: float, cut: bool) -> dict[str, Any]:
    """Lanes with their stretches as short rows: a week has thousands of them."""
    names = sorted({s.machine for lane in found for s in lane.stretches if s.machine is not None})
    number = {name: i for i, name in enumerate(names)}
    jobs = sorted({s.job for lane in found for s in lane.stretches})
    job_number = {job: i for i, job in enumerate(jobs)}
    return {
        "start": instant(start),
        "end": instant(end),
        "cut": cut,
        "jobs": jobs,
        "machines": names,
        "lanes": [
            {
                "id": lane.id,
                "label": lane.label,
                "rows": [
                    [
                        job_number[s.job],
                        -1 if s.machine is None else number[s.machine],
                        BAR_KINDS.index(s.kind),
                        round((s.start - start) * 1000),
                        round((s.moved - start) * 1000),
                        round((s.end - start) * 1000),
                        MARKS.index(s.mark),
                    ]
                    for s in lane.stretches
                ],
            }
            for lane in found
        ],
    }


BAR_KINDS = get_args(BarKind)
MARKS = get_args(Mark)


def acceptance_value(made: Acceptance) -> dict[str, Any]:
    """A change of the estate."""
    return {
        "id": made.id, "what": made.what, "words": list(made.words),
        "before_version": made.before_version, "after_version": made.after_version,
        "actor": made.actor, "at": utc(made.at), "undone": made.undone,
        "kept": made.kept,
    }  # fmt: skip
