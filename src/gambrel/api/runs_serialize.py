"""Runs, nights and reports as JSON."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from math import exp
from typing import Any

from gambrel.api.serialize import utc
from gambrel.core import words
from gambrel.core.ledger.as_it_goes import Outlook
from gambrel.core.ledger.comparing import Difference, MachineTrouble, NightSummary, why_it_differs
from gambrel.core.ledger.forecast_errors import ForecastErrors
from gambrel.core.ledger.learned_change import LearnedChange
from gambrel.core.ledger.learned_rates import LearnedRate, stating_of
from gambrel.core.ledger.learned_ratio import LearnedRatio
from gambrel.core.ledger.learned_times import LearnedTime
from gambrel.core.ledger.predicting import PARTS, actual_parts, predicted_parts
from gambrel.core.ledger.records import MachineRecord, RunRecord
from gambrel.core.ledger.report import Report, headline
from gambrel.core.ledger.shown_tonight import CORRECTED, rate_in_words, shown_in_words
from gambrel.core.ledger.what_would_help import Help
from gambrel.core.model.selection import used_gib
from gambrel.core.nights.nights import planner_zone
from gambrel.core.plan.instants import format_known as at
from gambrel.core.plan.learned import stated_before
from gambrel.core.plan.objects import Machine, Plan
from gambrel.core.simulation.forecast import Forecast, Run
from gambrel.core.units import MIB, MINUTE
from gambrel.store.ledger import LedgerEntry
from gambrel.store.runners import Order, Runner
from gambrel.work.outlooks import Told
from gambrel.work.runs import Tonight


def order_body(order: Order) -> dict[str, Any]:
    return {
        "id": order.id,
        "kind": order.kind,
        "job": order.job,
        "machines": list(order.machines),
        "detail": order.detail,
        "state": order.state,
        "words": order.words,
        "effect": order.effect,
        "reason": order.reason,
        "actor": order.actor,
        "seconded_by": order.seconded_by,
        "at": at(order.at),
        "taken_at": at(order.taken_at),
        "ended_at": at(order.ended_at),
    }


def forecast_errors_body(plan: Plan, found: ForecastErrors) -> dict[str, Any]:
    names = {job.id: job.name for job in plan.jobs}
    return {
        "nights": [
            {
                "date": error.night,
                "predicted_end": at(error.predicted_end),
                "last_end": at(error.last_end),
                "error_s": error.error_s,
                "share": error.share,
                "trouble": error.trouble,
            }
            for error in found.nights
        ],
        "jobs": [
            {
                "job": error.job,
                "name": names.get(error.job, error.job),
                "runs": error.runs,
                "median_s": error.median_s,
                "tenth_s": error.tenth_s,
            }
            for error in found.jobs
        ],
        "median_share": found.median_share,
        "median_s": found.median_s,
        "without": found.without,
    }


def learned_changes_body(
    plan: Plan, found: Mapping[str, LearnedChange], *, by_itself: bool
) -> dict[str, Any]:
    known = [(machine, found[machine.id]) for machine in plan.machines if machine.id in found]
    known.sort(key=lambda pair: -abs(pair[1].change - pair[0].daily_change) * used_gib(pair[0]))
    return {
        "by_itself": by_itself,
        "machines": [
            {
                **_learned_fact(machine, told, machine.daily_change, told.change),
                "ceiling": told.ceiling,
                "since": at(told.since),
                "by_weekday": list(told.by_weekday),
            }
            for machine, told in known
        ],
    }


def learned_ratios_body(
    plan: Plan, found: Mapping[str, LearnedRatio], *, by_itself: bool
) -> dict[str, Any]:
    known = [(machine, found[machine.id]) for machine in plan.machines if machine.id in found]
    known.sort(key=lambda pair: -abs(pair[1].ratio / pair[0].compress_ratio - 1.0))
    return {
        "by_itself": by_itself,
        "machines": [
            _learned_fact(machine, told, machine.compress_ratio, told.ratio)
            for machine, told in known
        ],
    }


def _learned_fact(
    machine: Machine, told: LearnedChange | LearnedRatio, stated: float, learned: float
) -> dict[str, Any]:
    return {
        "machine": machine.id,
        "folder": machine.folder,
        "used_gib": used_gib(machine),
        "stated": stated,
        "learned": learned,
        "otherwise": told.speaks_against(stated),
        "error": told.error,
        "runs": told.runs,
        "left_out": told.left_out,
    }


def learned_time(plan: Plan, told: LearnedTime) -> dict[str, Any]:
    """How long a step of a job takes; `low` and `high`: nine of ten such times lie between."""
    off = 1.645 * told.error_s
    learned = max(0.0, told.predicted_s + told.more_s)
    return {
        "job": told.job,
        "name": plan.job_by_id[told.job].name,
        "step": told.step,
        "predicted_s": told.predicted_s,
        "learned_s": learned,
        "low_s": max(0.0, learned - off),
        "high_s": learned + off,
        "differs": told.differs,
        "nights": told.nights,
        "runs": told.runs,
        "key": told.key,
        "value": told.value,
        **_source(plan.job_by_id[told.job], told.key),
    }


def _source(item: Any, key: str | None) -> dict[str, Any]:
    """What an entry of the plan says of one of its values now, and where that comes from."""
    return {
        "now": None if key is None else getattr(item, key),
        "stated_before": None if key is None else stated_before(item, key),
        "taken": [
            {"key": mark.key, "value": mark.value, "stated": mark.stated} for mark in item.learned
        ],
    }


def runner_body(runner: Runner) -> dict[str, Any]:
    return {
        "id": runner.id,
        "name": runner.name,
        "kind": runner.kind,
        "last_seen_at": utc(runner.last_seen_at),
        "clock": at(runner.clock),
        "clock_offset_s": runner.offset_s,
        "speed": runner.speed,
    }


def summary_body(summary: NightSummary) -> dict[str, Any]:
    night = summary.night
    return {
        "date": night.date,
        "start": at(night.start),
        "end": at(night.end),
        "zone": night.zone,
        "verdict": summary.verdict,
        "predicted_verdict": summary.predicted_verdict,
        "predicted_end": at(summary.predicted_end),
        "last_end": at(summary.last_end),
        "over_s": summary.over_s,
        "done": summary.done,
        "moving": summary.moving,
        "failed": summary.failed,
        "waiting": summary.waiting,
        "total": summary.total,
        "runs_open": summary.runs_open,
        "moved_bytes": summary.moved_bytes,
    }


def trouble_body(trouble: MachineTrouble) -> dict[str, Any]:
    return {
        "job": trouble.job,
        "occurrence": at(trouble.occurrence),
        "machine": trouble.machine,
        "outcome": trouble.outcome,
        "reason": trouble.reason,
        "made_good": trouble.made_good,
        "left": list(trouble.left),
    }


def difference_body(difference: Difference) -> dict[str, Any]:
    return {
        "job": difference.job,
        "occurrence": at(difference.occurrence),
        "predicted_end": at(difference.predicted_end),
        "ended": at(difference.ended),
        "late_s": difference.late_s,
        "why": difference.why,
    }


def _job_name(plan: Plan, job: str) -> str:
    known = plan.job_by_id.get(job)
    return job if known is None else known.name


def run_bar(plan: Plan, run: RunRecord, ahead: Run | None = None) -> dict[str, Any]:
    """A run as a bar: predicted, as it went, and how it goes on."""
    machines = list(run.machines.values())
    ended = [m for m in machines if m.ended is not None]
    done = sum(m.outcome == "done" for m in ended)
    predicted = run.predicted or {}
    state = "due" if run.began is None else "under way" if run.ended is None else "ended"
    return {
        "job": run.job,
        "name": _job_name(plan, run.job),
        "occurrence": at(run.occurrence),
        "kind": run.kind,
        "state": state,
        "outcome": run.outcome,
        "began": at(run.began),
        "ended": at(run.ended),
        "window_end": at(run.window_end),
        "predicted_began": at(predicted.get("began")),
        "predicted_ended": at(predicted.get("ended")),
        "ahead_end": at(ahead.ended) if ahead is not None and run.ended is None else None,
        "ahead_missed": 0
        if ahead is None or run.ended is not None
        else sum(n for outcome, n in ahead.outcomes.items() if outcome != "done")
        - (len(ended) - done),
        "order": run.order,
        "done": done,
        "moving": sum(m.ended is None and m.start is not None for m in machines),
        "failed": len(ended) - done,
        "total": len(machines),
        "moved_bytes": sum(m.moving_bytes() for m in machines),
        "predicted_bytes": sum(m.predicted["source_bytes"] for m in machines if m.predicted),
    }


def night_body(plan: Plan, summary: NightSummary, runs: Iterable[RunRecord]) -> dict[str, Any]:
    """A night in two layers: its runs as predicted, and as they went."""
    return {
        "summary": summary_body(summary),
        "runs": [run_bar(plan, run) for run in runs],
        "troubles": [trouble_body(t) for t in summary.troubles],
        "differences": [difference_body(d) for d in summary.differences],
    }


def _ahead_by_run(ahead: Forecast | None) -> dict[tuple[str, int], Run]:
    if ahead is None:
        return {}
    return {(run.job, round(run.occurrence)): run for run in ahead.runs}


def tonight_body(
    plan: Plan, tonight: Tonight, orders: Iterable[Order], news: int
) -> dict[str, Any]:
    ahead = _ahead_by_run(tonight.ahead)
    bars = [run_bar(plan, run, ahead.get((run.job, round(run.occurrence)))) for run in tonight.runs]
    return {
        "clock": at(tonight.clock),
        "news": news,
        "words": tonight_in_words(plan, tonight, ahead),
        "runner": None if tonight.runner is None else runner_body(tonight.runner),
        "silent_since": at(tonight.silent_since),
        "summary": summary_body(tonight.summary),
        "runs": bars,
        "troubles": [trouble_body(t) for t in tonight.summary.troubles],
        "orders": [order_body(order) for order in orders],
    }


def outlook_body(plan: Plan, told: Told | None) -> dict[str, Any]:
    found = None if told is None else told.outlook
    helps = () if told is None else told.helps
    helps_at = None if told is None else told.helps_at
    body: dict[str, Any] = {
        "current": told is not None and told.current,
        "looking": found is not None and helps_at != found.at,
        "help_at": at(helps_at),
        "help": [_help_body(each) for each in helps],
    }
    if found is None:
        return {
            **body, "at": None, "draws": 0, "verdict": None, "fits": 0.0, "early_end": None,
            "last_end": None, "late_end": None, "words": "", "runs": [], "shown": [],
        }  # fmt: skip
    return {
        **body,
        "at": at(found.at),
        "draws": found.draws,
        "verdict": found.verdict,
        "fits": found.fits,
        "early_end": at(found.early_end),
        "last_end": at(found.last_end),
        "late_end": at(found.late_end),
        "words": outlook_in_words(plan, found),
        "runs": [
            {
                "job": run.job,
                "occurrence": at(run.occurrence),
                "early": at(run.early),
                "middle": at(run.middle),
                "late": at(run.late),
                "late_share": run.late_share,
                "likely_missed": list(run.likely_missed),
            }
            for run in found.runs
        ],
        "shown": [
            {
                "what": each.what,
                "words": shown_in_words(plan, each),
                "factor": each.factor,
                "low": exp(each.log_factor - 1.645 * each.error),
                "high": exp(each.log_factor + 1.645 * each.error),
                "runs": each.runs,
            }
            for each in sorted(found.shown.values(), key=lambda each: -abs(each.log_factor))
            if abs(each.log_factor) > each.error
        ],
    }


def _help_body(help_: Help) -> dict[str, Any]:
    order = help_.order
    return {
        "words": help_.words,
        "order": {
            "kind": order.kind,
            "job": order.job,
            "machines": list(order.machines),
            "proxy": order.proxy,
            "slots": order.slots,
        },
        "brings": list(help_.brings),
        "costs": list(help_.costs),
        "saved": [{"job": job, "machine": machine} for job, machine in help_.saved],
        "fits_before": help_.fits_before,
        "fits_after": help_.fits_after,
    }


def outlook_in_words(plan: Plan, found: Outlook) -> str:
    """How sure the rest of a night is, in a sentence or two."""
    zone = planner_zone(plan)
    well = round(found.fits * found.draws)
    share = "none" if well == 0 else "all" if well == found.draws else f"{well}"
    does = "does the rest of the night keep" if well == 0 else "the rest of the night keeps"
    said = f"In {share} of {found.draws} draws {does} every window and every machine."
    if found.early_end is not None and found.late_end is not None:
        said += (
            f" In 9 of 10 the last run ends between {words.moment(found.early_end, zone)} and "
            f"{words.moment(found.late_end, zone)}."
        )
    return said


def learned_rates_body(plan: Plan, found: Iterable[LearnedRate]) -> dict[str, Any]:
    return {"rates": [_learned_rate(plan, each) for each in found]}


def _learned_rate(plan: Plan, each: LearnedRate) -> dict[str, Any]:
    kind, _, name = each.what.partition(":")
    list_, _ = CORRECTED.get(kind, (None, ()))
    stating = stating_of(plan, each.what)
    assert stating is not None, "what the plan does not state is not learned"
    entry, key = stating
    return {
        "what": each.what,
        "words": rate_in_words(plan, each.what),
        "unit": "Mbit/s" if "mbit" in key else "MiB/s",
        "stated": each.stated,
        "learned": each.learned,
        "low": each.learned * exp(-1.645 * each.error),
        "high": each.learned * exp(1.645 * each.error),
        "spread": each.spread,
        "nights": each.nights,
        "runs": each.runs,
        "list": list_,
        "id": None if list_ is None else name,
        "key": key,
        **_source(entry, key),
    }


def tonight_in_words(plan: Plan, tonight: Tonight, ahead: dict[tuple[str, int], Run]) -> str:
    """The night as it stands in one or two sentences."""
    summary, zone = tonight.summary, tonight.night.zone
    if not summary.total:
        return "Nothing is due tonight."
    said = f"{words.moment(tonight.clock, zone)[4:]}. {summary.done} of "
    said += f"{words.count(summary.total, 'machine')} done"
    if summary.moving:
        said += f", {summary.moving} moving"
    if summary.failed:
        said += f", {summary.failed} failed"
    said += "."
    late = []
    for run in tonight.runs:
        goes = ahead.get((run.job, round(run.occurrence)))
        if run.ended is not None or goes is None or goes.ended is None:
            continue
        if goes.over_s > MINUTE:
            late.append((goes.over_s, f"{_job_name(plan, run.job)} ends "
                         f"{words.moment(goes.ended, zone)}, "
                         f"{words.duration(goes.over_s)} past its window"))  # fmt: skip
        elif goes.outcomes.get("missed", 0):
            missed = words.count(goes.outcomes["missed"], "machine")
            late.append((0.0, f"{_job_name(plan, run.job)} misses its window ({missed})"))
    if late:
        late.sort(key=lambda entry: -entry[0])
        said += " As it goes, " + " and ".join(text for _, text in late[:2])
        more = len(late) - 2
        said += f", and {more} more {'is' if more == 1 else 'are'} late." if more > 0 else "."
    elif ahead:
        ends = [
            goes.ended
            for run in tonight.runs
            if run.ended is None
            and run.window_end is not None
            and (goes := ahead.get((run.job, round(run.occurrence)))) is not None
            and goes.ended is not None
        ]
        if ends:
            said += f" As it goes, the last run ends {words.moment(max(ends), zone)}."
    return said


# --- a run, the ledger ---------------------------------------------------------------------------


def machine_body(record: MachineRecord) -> dict[str, Any]:
    predicted = record.predicted
    shares = predicted_parts(predicted["parts"]) if predicted else dict.fromkeys(PARTS)
    moving = None
    begin = record.prepared if record.prepared is not None else record.start
    if begin is not None and record.moved is not None and record.moved > begin:
        moving = record.source_bytes / MIB / (record.moved - begin)
    proxies = dict.fromkeys(d.proxy for d in record.disks.values() if d.proxy)
    return {
        "machine": record.machine,
        "step": record.step,
        "outcome": record.outcome,
        "reason": record.reason,
        "kind": record.kind,
        "queued": at(record.queued),
        "start": at(record.start),
        "moved": at(record.moved),
        "ended": at(record.ended),
        "source_bytes": record.moving_bytes(),
        "wire_bytes": record.wire_bytes,
        "stored_bytes": record.stored_bytes,
        "mib_per_s": moving,
        "proxies": list(proxies),
        "predicted_start": at(predicted["start"]) if predicted else None,
        "predicted_ended": at(predicted["ended"]) if predicted else None,
        "predicted_bytes": predicted["source_bytes"] if predicted else None,
        "parts": [
            {"part": part, "predicted_s": shares[part], "actual_s": seconds}
            for part, seconds in actual_parts(record).items()
        ],
        "disks": [
            {
                "disk": d.disk, "source_bytes": d.source_bytes, "proxy": d.proxy,
                "transport": d.transport, "moved": d.moved,
            }
            for d in record.disks.values()
        ],
        "left": record.left,
    }  # fmt: skip


def run_body(
    plan: Plan,
    run: RunRecord,
    events: Iterable[tuple[float, str, str | None, dict[str, Any], str | None]],
) -> dict[str, Any]:
    """A run with its machines and its events: (instant, what, machine, body, why refused)."""
    return {
        "run": run_bar(plan, run),
        "why": why_it_differs(run) if run.ended is not None and run.predicted else "",
        "machines": [machine_body(m) for m in run.machines.values()],
        "events": [
            {
                "at": at(instant), "what": what, "machine": machine,
                "words": event_in_words(what, body), "refused": refused,
            }
            for instant, what, machine, body, refused in events
        ],
    }  # fmt: skip


def event_in_words(what: str, body: dict[str, Any]) -> str:
    """What an event says, for a list of events."""
    said = {
        "run began": "The run began",
        "run ended": "The run ended",
        "machine queued": "queued",
        "machine started": f"started, {body.get('kind', '')}",
        "machine prepared": "prepared",
        "machine moved": "all disks read",
        "machine released": "released",
        "machine ended": str(body.get("outcome", "ended")),
        "left behind": f"left behind: {body.get('left', '')}",
        "cleaned up": f"cleaned up: {body.get('left', '')}",
    }.get(what, what)
    if what == "disk":
        said = f"{body.get('disk')}: {words.size(float(body.get('source_bytes', 0)))}"
        said += f" by {body['proxy']}" if body.get("proxy") else ""
    if body.get("reason"):
        said += f": {body['reason']}"
    return said


def line_body(entry: LedgerEntry) -> dict[str, Any]:
    record, predicted = entry.record, entry.record.predicted
    return {
        "job": entry.job,
        "occurrence": at(entry.occurrence),
        "machine": record.machine,
        "outcome": record.outcome,
        "reason": record.reason,
        "kind": record.kind,
        "start": at(record.start),
        "ended": at(record.ended),
        "source_bytes": record.moving_bytes(),
        "stored_bytes": record.stored_bytes,
        "predicted_start": at(predicted["start"]) if predicted else None,
        "predicted_ended": at(predicted["ended"]) if predicted else None,
        "predicted_bytes": predicted["source_bytes"] if predicted else None,
    }


# --- the report ----------------------------------------------------------------------------------


def report_body(report: Report, name: str) -> dict[str, Any]:
    tonight = report.tonight
    return {
        "plan": name,
        "at": at(report.at),
        "words": headline(report.summary),
        "summary": summary_body(report.summary),
        "needs_hand": [
            {
                "machine": n.machine,
                "tags": list(n.tags),
                "good_at": at(n.good_at),
                "exposure_s": n.exposure_s,
                "rpo_s": n.rpo_s,
                "breaks_rpo": n.breaks_rpo,
                "why": n.why,
                "advice": n.advice,
                "also": list(n.also),
            }
            for n in report.needs_hand
        ],
        "left": [
            {"machine": x.machine, "what": x.what, "since": at(x.since)} for x in report.left
        ],
        "differences": [difference_body(d) for d in report.summary.differences],
        "taught": list(report.taught),
        "jobs": [
            {
                "job": j.job, "name": j.name, "outcome": j.outcome, "done": j.done,
                "total": j.total, "ended": at(j.ended), "predicted_end": at(j.predicted_end),
                "window_end": at(j.window_end),
            }
            for j in report.jobs
        ],
        "tonight": None
        if tonight is None
        else {
            "date": tonight.night.date, "verdict": tonight.verdict,
            "last_end": at(tonight.last_end), "over_s": tonight.over_s, "missed": tonight.missed,
        },
        "standing": [
            {"kind": s.kind, "machine": s.machine, "job": s.job, "what": s.what, "why": s.why}
            for s in report.standing
        ],
        "silent_since": at(report.silent_since),
        "tests": [{"machine": machine, "starts": at(t)} for machine, t in report.ahead.tests],
        "broken": [{"tier": b.tier, "rpo": b.rpo, "rto": b.rto} for b in report.ahead.broken],
    }  # fmt: skip
