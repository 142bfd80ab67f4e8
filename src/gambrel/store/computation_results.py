"""Results of long computations as the values that are stored, and answered as they are stored."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict
from datetime import date
from typing import Any

from gambrel.core.balance.bound import Bound
from gambrel.core.balance.explaining import Move, PlanTold, Proposal, bound_words
from gambrel.core.balance.ladder import Rung, fits, reaches
from gambrel.core.balance.moves import Candidate
from gambrel.core.balance.objective import Score
from gambrel.core.balance.problem import Problem
from gambrel.core.balance.search_driver import Outcome, Progress
from gambrel.core.edits.operations import operation_to_dict
from gambrel.core.nights.nights import Reason
from gambrel.core.plan.instants import format_instant
from gambrel.core.questions.how_sure import NightConfidence, Sample, confidence
from gambrel.core.questions.what_if import Happening, happening_to_dict
from gambrel.core.runway.nights_ahead import MonthAhead, breaks
from gambrel.core.runway.purchase import Item, NightPurchase
from gambrel.core.runway.purchase_with_moves import Bought
from gambrel.core.simulation.varying import Spread


def search_progress(
    now: Progress, best: Candidate, curve: Sequence[Mapping[str, Any]]
) -> dict[str, Any]:
    """How far a search is, with the best that it has, from which it could be resumed."""
    return {
        "phase": "searching",
        "evaluations": now.evaluations,
        "moves": now.moves,
        "score": score_value(now.score),
        "parts": now.parts,
        "parts_done": now.done,
        "curve": list(curve),
        "rungs": [
            {"moves": moves, "score": score_value(score)} for moves, score in now.rungs if moves
        ],
        "best": [operation_to_dict(o) for o in best.operations],
    }


def ladder_result(
    problem: Problem,
    outcome: Outcome,
    before: PlanTold,
    rungs: Sequence[Rung],
    limits: Bound,
    curve: Sequence[Mapping[str, Any]],
    seconds: float,
) -> dict[str, Any]:
    """What a search found as a result that is stored and answered, the highest rung on top."""
    best = rungs[-1].proposal if rungs else None
    return {
        "ended": outcome.ended,
        "evaluations": outcome.evaluations,
        "seconds": round(seconds, 2),
        "curve": list(curve),
        "before": _plan_value(before),
        "after": _plan_value(before if best is None else best.after),
        "moves": [] if best is None else moves_value(best),
        "rungs": [
            {
                "after": _plan_value(rung.told),
                "moves": moves_value(rung.proposal),
                "reaches": rung.reaches,
                "buys": list(rung.buys),
                "chance": None,
                "draws": 0,
                "chances": [],
                "losses": [],
            }
            for rung in rungs
        ],
        "bound": {
            "lost": limits.lost,
            "rpo_missed": limits.rpo_missed,
            "over_s": limits.over_s,
            "worst": limits.worst,
            "binding": list(limits.binding[:3]),
            "longest": limits.longest,
            "words": bound_words(problem, limits),
            "peaks": [
                {
                    "resource": need.resource,
                    "part": need.part,
                    "night": problem.nights[need.night].date.isoformat(),
                    "needed_s": need.seconds,
                    "open_s": need.open_s,
                }
                for need in limits.peaks
            ],
        },
    }


def weighed_result(
    problem: Problem, samples: Sequence[Sample], losses: Sequence[tuple[str, PlanTold]]
) -> dict[str, Any]:
    """How sure a rung is, and what becomes of it after each loss, the worst first."""
    after = sorted(losses, key=lambda loss: loss[1].score.grades, reverse=True)
    found: dict[str, Any] = {
        "losses": [
            {"words": words, "reaches": reaches(told), "fits": fits(told)} for words, told in after
        ]
    }
    if samples:
        found["draws"] = len(samples)
        found["chance"] = sum(not any(sample.over) for sample in samples) / len(samples)
        found["chances"] = [night_confidence(n) for n in confidence(problem, samples)]
    return found


def moves_value(proposal: Proposal) -> list[dict[str, Any]]:
    """The moves of a proposal, with what each brings as far as that is worked out."""
    return [_move_value(move) for move in proposal.moves]


def _move_value(move: Move) -> dict[str, Any]:
    return {
        "operation": operation_to_dict(move.operation),
        "turn": move.turn,
        "words": move.words,
        "reason": move.reason,
        "cost": move.cost,
        "brings": list(move.brings),
        "without": None if move.without is None else score_value(move.without),
    }


def night_confidence(night: NightConfidence) -> dict[str, Any]:
    ends = {"median_end": night.median_end, "late_end": night.late_end}
    return {
        "date": night.date,
        **{key: None if at is None else format_instant(at) for key, at in ends.items()},
        "holds": night.holds,
        "whole": night.whole,
        "failed": night.failed,
    }


def score_value(score: Score) -> dict[str, Any]:
    return {**asdict(score), "fits": score.fits}


def _plan_value(told: PlanTold) -> dict[str, Any]:
    return {
        "score": score_value(told.score),
        "strained": told.strained,
        "nights": [
            {
                "date": night.date,
                "verdict": night.verdict,
                "last_end": None if night.last_end is None else format_instant(night.last_end),
                "over_s": night.over_s,
                "lost": night.lost,
                "skipped": night.skipped,
                "fulls": len(night.fulls),
            }
            for night in told.nights
        ],
    }


def _spread_told(spread: Spread) -> dict[str, float]:
    """How much things vary, by the middle of each kind."""
    return {"change": spread.change_of_one, "rate": spread.rate, "stream": spread.stream}


def confidence_result(
    samples: int, spread: Spread, nights: Sequence[NightConfidence]
) -> dict[str, Any]:
    """How sure nights are, as a result that is stored and answered."""
    return {
        "samples": samples,
        "spread": _spread_told(spread),
        "nights": [night_confidence(night) for night in nights],
    }


def sweep_result(
    problem: Problem,
    spread: Spread,
    stood: Sequence[tuple[Happening | None, Sequence[Sample]]],
) -> dict[str, Any]:
    """How often a plan fits after each of some losses, the worst first.

    Args:
        stood: the weeks drawn after a loss; None: the plan as it is. What has no week is left out.
    """
    rows: list[dict[str, Any]] = [
        {
            "words": "nothing happens" if loss is None else loss.describe(problem.plan),
            "happens": None if loss is None else happening_to_dict(loss),
            "samples": len(samples),
            "holds": sum(not any(sample.over) for sample in samples) / len(samples),
            "nights": [
                {
                    "date": night.date.isoformat(),
                    "holds": 1.0 - sum(sample.over[i] for sample in samples) / len(samples),
                }
                for i, night in enumerate(problem.nights)
            ],
        }
        for loss, samples in stood
        if samples
    ]
    rows.sort(key=_rank_of_stood)
    return {"spread": _spread_told(spread), "losses": rows}


def _rank_of_stood(row: Mapping[str, Any]) -> tuple[bool, float, float]:
    nights = sum(night["holds"] for night in row["nights"])
    return row["happens"] is not None, row["holds"], nights


# --- months ahead -------------------------------------------------------------------------------


def nights_ahead_result(months: Sequence[MonthAhead]) -> dict[str, Any]:
    """The nights of the months ahead."""
    return {
        "months": [_month_value(month) for month in months],
        "breaks": {window: month.month.name for window, month in breaks(months).items()},
    }


def _month_value(month: MonthAhead) -> dict[str, Any]:
    return {
        "month": month.month.name,
        "nights": month.nights,
        "verdict": month.verdict,
        "windows": [
            {
                "window": window.window,
                "verdict": window.verdict,
                "nights_over": window.nights_over,
                "first_over": _day(window.first_over),
                "worst": _day(window.worst),
                "over_s": window.over_s,
                "not_done": window.not_done,
                "reason": None if window.reason is None else _reason_value(window.reason),
            }
            for window in month.windows
        ],
    }


def _day(day: date | None) -> str | None:
    return None if day is None else day.isoformat()


def _reason_value(reason: Reason) -> dict[str, Any]:
    return {
        "kind": reason.kind,
        "job": reason.job,
        "seconds": reason.seconds,
        "machines": reason.machines,
        "squeeze": reason.squeeze,
        "waited_for": reason.waited_for,
    }


def purchase_result(space: Sequence[Item], found: NightPurchase) -> dict[str, Any]:
    """The space that the months ahead need, and what their nights do."""
    return {
        "space": [item_value(item) for item in space],
        "items": [item_value(item) for item in found.items],
        "unmet": [
            {
                "month": unmet.month,
                "night": unmet.night.isoformat(),
                "window": unmet.window,
                "reason": None if unmet.reason is None else _reason_value(unmet.reason),
            }
            for unmet in found.unmet
        ],
        "months": [_month_value(month) for month in found.months],
    }


def bought_result(as_it_is: Bought, with_moves: Bought) -> dict[str, Any]:
    """What would have to be bought for the plan as it is, and beside moves."""
    return {"as_it_is": _bought_value(as_it_is), "with_moves": _bought_value(with_moves)}


def _bought_value(bought: Bought) -> dict[str, Any]:
    return {
        "items": [item_value(item) for item in bought.items],
        "fits": bought.fits,
        "moves": len(bought.candidate),
        "operations": [operation_to_dict(o) for o in bought.candidate.operations],
    }


def item_value(item: Item) -> dict[str, Any]:
    """Something to buy."""
    return {
        "what": item.what,
        "subject": item.subject,
        "amount": item.amount,
        "unit": item.unit,
        "words": item.words,
        "needed_by": format_instant(item.needed_by),
        "order_by": format_instant(item.order_by),
        "lead_days": item.lead_days,
        "price": item.price,
        "monthly": item.monthly,
        "why": item.why,
        "operations": [operation_to_dict(operation) for operation in item.operations],
    }
