"""Results of long computations as the values that are stored, and answered as they are stored."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict
from typing import Any

from gambrel.core.balance.explaining import PlanTold, Proposal, bound_words
from gambrel.core.balance.moves import Candidate
from gambrel.core.balance.objective import Score
from gambrel.core.balance.problem import Problem
from gambrel.core.balance.search_driver import Outcome, Progress
from gambrel.core.edits.operations import operation_to_dict
from gambrel.core.plan.instants import format_instant
from gambrel.core.questions.how_sure import NightConfidence, Spread


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
        "best": [operation_to_dict(o) for o in best.operations],
    }


def proposal_result(
    problem: Problem,
    outcome: Outcome,
    proposal: Proposal,
    curve: Sequence[Mapping[str, Any]],
    seconds: float,
) -> dict[str, Any]:
    """A proposal as a result that is stored and answered."""
    limits = proposal.bound
    return {
        "ended": outcome.ended,
        "evaluations": outcome.evaluations,
        "seconds": round(seconds, 2),
        "curve": list(curve),
        "before": _plan_value(proposal.before),
        "after": _plan_value(proposal.after),
        "moves": [
            {
                "operation": operation_to_dict(move.operation),
                "turn": move.turn,
                "words": move.words,
                "reason": move.reason,
                "brings": list(move.brings),
                "without": score_value(move.without),
            }
            for move in proposal.moves
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


def night_confidence(night: NightConfidence) -> dict[str, Any]:
    ends = {"median_end": night.median_end, "late_end": night.late_end}
    return {
        "date": night.date,
        **{key: None if at is None else format_instant(at) for key, at in ends.items()},
        "holds": night.holds,
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


def confidence_result(
    samples: int, spread: Spread, nights: Sequence[NightConfidence]
) -> dict[str, Any]:
    """How sure nights are, as a result that is stored and answered."""
    return {
        "samples": samples,
        "spread": asdict(spread),
        "nights": [night_confidence(night) for night in nights],
    }
