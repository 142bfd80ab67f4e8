"""What the ledger teaches: change, ratios, rates, times, failures, and how nights vary."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from threading import Lock
from typing import Any

from sqlalchemy.orm import Session

from gambrel.core import words
from gambrel.core.ledger.comparing import NightSummary, summarize
from gambrel.core.ledger.failure_rates import Ended, FailureRate, failure_rates, rates_of_all
from gambrel.core.ledger.learned_change import Increment, LearnedChange, learned_changes
from gambrel.core.ledger.learned_rates import LearnedRate, learned_rates, night_rates
from gambrel.core.ledger.learned_ratio import LearnedRatio, learned_ratios
from gambrel.core.ledger.learned_spreads import learned_spreads
from gambrel.core.ledger.learned_times import LearnedTime, learned_times, night_times
from gambrel.core.ledger.night_spreads import USUAL_NIGHTS, NightSpreads
from gambrel.core.ledger.records import RunRecord
from gambrel.core.nights.nights import Night, night_of
from gambrel.core.plan.instants import format_known
from gambrel.core.plan.objects import Plan
from gambrel.core.questions.how_sure import learned_spread
from gambrel.core.simulation.varying import Spread
from gambrel.core.units import DAY
from gambrel.store import ledger
from gambrel.store.plans import NotFound
from gambrel.work.planning import Planning

LEARNED_FROM_S = 35 * DAY
"""How far back runs are learned from."""
PAST_NIGHTS = 70
"""How many nights are listed and looked back at."""


class Learning:
    """What the ledgers of plans teach. Safe to use from several threads."""

    def __init__(self, planning: Planning) -> None:
        self.planning = planning
        self._lock = Lock()
        self._spreads: dict[int, tuple[tuple[date, int], NightSpreads]] = {}

    def changes(self, plan_id: int, plan: Plan, clock: float) -> Mapping[str, LearnedChange]:
        """The daily change of machines as the ledger shows it at an instant."""
        return learned_changes(plan, self._increments(plan_id, clock))

    def _increments(self, plan_id: int, clock: float) -> list[Increment]:
        with self.planning.sessions() as db:
            found = ledger.increments(db, plan_id, clock - LEARNED_FROM_S)
        return [
            (machine, job, (start - before) / DAY, stored, start)
            for machine, job, before, start, stored in found
            if start <= clock
        ]

    def ratios(self, plan_id: int, plan: Plan, clock: float) -> Mapping[str, LearnedRatio]:
        """The compress ratio of machines as the ledger shows it at an instant."""
        with self.planning.sessions() as db:
            return learned_ratios(plan, ledger.carried(db, plan_id, clock - LEARNED_FROM_S))

    def failure_rates(
        self, plan_id: int, plan: Plan, clock: float
    ) -> tuple[float, list[FailureRate]]:
        """How often machines fail as the ledger shows it at an instant."""
        return failure_rates(plan, self._ended(plan_id, clock))

    def failing(self, plan_id: int, plan: Plan, clock: float) -> Mapping[str, float]:
        """How often each machine fails by an instant, by run."""
        return rates_of_all(plan, self._ended(plan_id, clock))

    def _ended(self, plan_id: int, clock: float) -> list[Ended]:
        """What is learned from of how machines ended."""
        with self.planning.sessions() as db:
            return ledger.ended_runs(db, plan_id, clock - LEARNED_FROM_S)

    def rates(self, plan_id: int, plan: Plan, clock: float) -> list[LearnedRate]:
        """The rates of streams and shared resources as the nights of late show them."""
        return learned_rates(plan, self._of_late(plan_id, plan, clock, "rates"))

    def times(self, plan_id: int, plan: Plan, clock: float) -> list[LearnedTime]:
        """How long machines prepare, release and verify, as the nights of late show it."""
        return learned_times(plan, self._of_late(plan_id, plan, clock, "times"))

    def _of_late(self, plan_id: int, plan: Plan, clock: float, what: str) -> list[Any]:
        marks = self.marks(plan_id, plan, clock)
        return [mark[what] for night, mark in marks if night.end > clock - LEARNED_FROM_S]

    # --- how nights vary ----------------------------------------------------------------------

    def spreads_known(self, plan_id: int, night: Night) -> NightSpreads:
        """How much a night varies, where that has been learned; else what is usual."""
        with self._lock:
            known = self._spreads.get(plan_id)
        return known[1] if known is not None and known[0][0] == night.date else USUAL_NIGHTS

    def learn_spreads(self, plan_id: int, version: int, plan: Plan, night: Night) -> bool:
        """Have the ledger tell how much a night varies; whether it was not known yet.

        Of a large estate it takes seconds. Only the newest night of a plan is kept.
        """
        key = (night.date, version)
        with self._lock:
            known = self._spreads.get(plan_id)
        if known is not None and known[0] == key:
            return False
        rates = self.rates(plan_id, plan, night.start)
        increments = self._increments(plan_id, night.start)
        changes = learned_changes(plan, increments)
        found = learned_spreads(plan, rates, changes, increments, night.date.weekday())
        with self._lock:
            self._spreads[plan_id] = (key, found)
        return True

    def week_spread(
        self, plan_id: int, plan: Plan, clock: float, rates: Sequence[LearnedRate]
    ) -> Spread:
        """How much change and rates vary as the ledger shows it at an instant.

        Args:
            rates: as the ledger shows them then.
        """
        increments = self._increments(plan_id, clock)
        return learned_spread(plan, rates, learned_changes(plan, increments), increments)

    # --- marks of nights ----------------------------------------------------------------------

    def marks(self, plan_id: int, plan: Plan, clock: float) -> list[tuple[Night, dict[str, Any]]]:
        """The nights that are over, newest first, each with its mark; what is long over is kept."""
        found: list[tuple[Night, dict[str, Any]]] = []
        kept: list[tuple[date, dict[str, Any]]] = []
        with self.planning.sessions() as db:
            for row in ledger.nights_known(db, plan_id)[:PAST_NIGHTS]:
                night = night_of(row.night, row.zone)
                if clock < night.end:
                    continue
                mark = row.summary
                if mark is None or not mark.keys() >= {"rates", "times"}:
                    its = ledger.runs_of_night(db, plan_id, row.night)
                    then = self._version_or(plan, row.version_id)
                    mark = night_mark(plan, night, its, clock, then)
                    # Runs may end after their night; what is long over is read once.
                    if clock > night.end + DAY:
                        kept.append((row.night, mark))
                found.append((night, mark))
        if kept:

            def keep(db: Session) -> None:
                for day, mark in kept:
                    ledger.keep_summary(db, plan_id, day, mark)

            self.planning.write(keep)
        return found

    def _version_or(self, plan: Plan, version_id: int) -> Plan:
        """The plan that a night was carried out in; another where that version is gone."""
        try:
            return self.planning.plan(version_id)
        except NotFound:
            return plan


def night_mark(
    plan: Plan, night: Night, records: Sequence[RunRecord], at: float, then: Plan | None = None
) -> dict[str, Any]:
    """A night in a list of nights, as JSON values: predicted, what came, what set it apart, and
    what it tells of rates and times.

    Args:
        then: the plan that it was carried out in; by default `plan`.
    """
    summary = summarize(night, records, min(at, night.end))

    return {
        "verdict": summary.verdict,
        "predicted_verdict": summary.predicted_verdict,
        "predicted_end": format_known(summary.predicted_end),
        "last_end": format_known(summary.last_end),
        "done": summary.done,
        "total": summary.total,
        "why": what_set_it_apart(plan, summary),
        "rates": night_rates(then or plan, records, at),
        "times": night_times(then or plan, records),
    }


def what_set_it_apart(plan: Plan, summary: NightSummary) -> str:
    """What set a night apart, in a few words."""
    open_ = [trouble for trouble in summary.troubles if not trouble.made_good]
    if open_:
        reasons = [trouble.reason or trouble.outcome for trouble in open_]
        worst = max(set(reasons), key=lambda reason: (reasons.count(reason), reason))
        return f"{words.count(reasons.count(worst), 'machine')}: {worst}"
    if summary.differences:
        first = summary.differences[0]
        late = "later" if first.late_s > 0 else "earlier"
        job = plan.job_by_id.get(first.job)
        name = first.job if job is None else job.name
        return f"{name} ended {words.duration(abs(first.late_s))} {late}"
    return ""
