"""Runs as they really go: events come in, nights are predicted when they begin, pages are told."""

from __future__ import annotations

import time
from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date
from threading import Condition, Lock, Semaphore
from typing import Any

from sqlalchemy.orm import Session

from gambrel.core.estate.facts import FactEdit
from gambrel.core.ledger.as_it_goes import Rest, rest_of
from gambrel.core.ledger.comparing import MachineTrouble, NightSummary, summarize
from gambrel.core.ledger.events import Event, EventRefused, check_event, event_from
from gambrel.core.ledger.learned_change import STATED_TO
from gambrel.core.ledger.ordering import Order, while_they_hold
from gambrel.core.ledger.predicting import predicted_runs, window_end
from gambrel.core.ledger.records import RunKey, RunRecord
from gambrel.core.ledger.report import Ahead, Broken, Report, make_report
from gambrel.core.ledger.standing import (
    LOOKED_BACK_NIGHTS,
    Standing,
    overdue_tests,
    standing_troubles,
)
from gambrel.core.ledger.under_way import state_from
from gambrel.core.loads.lanes import tier_of
from gambrel.core.nights.nights import Night, night_at, night_of, night_outcome, planner_zone
from gambrel.core.plan.objects import Plan
from gambrel.core.recovery.promises import kept_in
from gambrel.core.recovery.restore_tests import Rota
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.simulation.known_points import with_points
from gambrel.core.simulation.varying import Spread
from gambrel.core.units import DAY, HOUR, MINUTE
from gambrel.store import ledger, runners
from gambrel.store.acceptances import edit_facts
from gambrel.store.ledger_models import LedgerNightRow, in_us
from gambrel.store.plans import PlanHead, locked_plan, plan_head
from gambrel.store.runners import Runner
from gambrel.store.standing_rules import LEARNED, LEARNED_CHANGE, LEARNED_RATIO, standing_rules
from gambrel.work import restore_tests
from gambrel.work.forecaster import Forecaster
from gambrel.work.learning import Learning
from gambrel.work.outlooks import Outlooks, Told
from gambrel.work.planning import Planning

CLOCK_MAY_DIFFER_S = 60.0
"""A runner's clock that differs more from ours is corrected for."""
SILENT_AFTER_S = 10 * MINUTE
"""A runner of which nothing is heard for so long while runs are under way has fallen silent."""
HELD_AT_ONCE = 6
"""So many requests may wait for news at once; each keeps one of the server's threads."""
CLOCK_TOLD_EVERY_S = 8.0
"""How often pages are told that time goes on, where nothing else happens."""
REST_AHEAD_S = 30 * HOUR
"""How far the rest of a night is simulated."""


@dataclass(frozen=True, slots=True)
class Batch:
    """What became of a batch of events.

    Attributes:
        offset_s: how far the runner's clock is ahead of ours, where that was corrected for; or 0.
    """

    new: int
    known: int
    refused: tuple[tuple[str, str, str], ...]
    offset_s: float


@dataclass(frozen=True, slots=True)
class Tonight:
    """A night as it stands at an instant of its runner's clock.

    Attributes:
        clock: what the runner said last; None where none has spoken.
        silent_since: when the runner was last heard of, in UTC seconds, where it has fallen silent.
        ahead: the expected course of the rest of the night, simulated from what has really moved
            (`as_it_goes`); None without runs.
    """

    night: Night
    clock: float
    runner: Runner | None
    silent_since: float | None
    runs: tuple[RunRecord, ...]
    summary: NightSummary
    ahead: Forecast | None


class Runs:
    """The ledger of all plans, and who waits for news of it."""

    def __init__(self, planning: Planning) -> None:
        self.planning = planning
        self._news = Condition()
        self._counts: dict[int, int] = {}
        self._held = Semaphore(HELD_AT_ONCE)
        self._lock = Lock()
        self._told: dict[int, float] = {}
        self.on_ended: Callable[[int, Plan, Sequence[RunRecord]], None] | None = None
        self._tonight: dict[int, tuple[tuple[Any, ...], Tonight]] = {}
        self.outlooks = Outlooks()
        self.learning = Learning(planning)
        self._standing: dict[int, tuple[tuple[Any, ...], list[Standing]]] = {}

    # --- news ---------------------------------------------------------------------------------

    def news(self, plan_id: int) -> int:
        """A number that grows with every change of a plan's runs and orders."""
        return self._counts.get(plan_id, 0)

    def tell(self, plan_id: int) -> None:
        """Have whoever waits for news of a plan look again."""
        with self._news:
            self._counts[plan_id] = self._counts.get(plan_id, 0) + 1
            self._news.notify_all()

    def wait_for_news(self, plan_id: int, seen: int, within_s: float) -> int:
        """Wait until there is news that somebody has not seen, for some seconds at most.

        Where too many wait already, it returns at once: they ask again soon.
        """
        if not self._held.acquire(blocking=False):
            return self.news(plan_id)
        try:
            with self._news:
                self._news.wait_for(lambda: self.news(plan_id) != seen, within_s)
            return self.news(plan_id)
        finally:
            self._held.release()

    # --- events -------------------------------------------------------------------------------

    def take(
        self,
        runner: Runner,
        raw: Sequence[Any],
        *,
        clock: float | None = None,
        speed: float | None = None,
    ) -> Batch:
        """Write a batch of events down, in one transaction.

        Args:
            raw: decoded JSON objects; one that cannot be read or is not of this plan is refused,
                and the others are taken.
            clock: the runner's clock when it sent them, in UTC seconds; None: ours.

        Raises:
            OtherRunner: where another runner carries the plan out.
        """
        now = time.time()
        clock = now if clock is None else clock
        simulated = runner.kind == "stand-in"
        offset = 0.0 if simulated or abs(clock - now) <= CLOCK_MAY_DIFFER_S else clock - now
        refused: list[tuple[str, str, str]] = []
        head = self._head(runner.plan_id)
        plan = self.planning.plan(head.adopted_version)
        events = []
        for i, entry in enumerate(raw):
            try:
                event = event_from(entry)
                check_event(plan, event, clock)
                events.append(replace(event, at=event.at - offset) if offset else event)
            except EventRefused as error:
                told = entry.get("id") if isinstance(entry, dict) else None
                refused.append((str(told or f"events[{i}]"), error.key, error.reason))
        at = clock - offset
        events.sort(key=lambda event: event.at)
        zone = planner_zone(plan)
        noon = night_at(at, zone).start
        begun = self.planning.night_begun(head.id)
        # What happened before noon is written before the night that begins then is predicted.
        new_night = begun is None or begun.start < noon
        first = [event for event in events if new_night and event.at <= noon]
        rest = events[len(first) :]
        taken = ledger.Taken()
        if first:
            taken = self._write(runner, plan, first)
        if runner.kind != "script":
            self.begin_night(head, at)
        if rest:
            more = self._write(runner, plan, rest)
            taken.new += more.new
            taken.known += more.known
            taken.refused += more.refused

        def note(db: Session) -> Runner:
            return runners.note_word(db, runner.id, clock=at, offset_s=offset, speed=speed)

        self.planning.write(note)
        self._tell_of(runner, taken.new, speed)
        self._tell_of_ended(runner.plan_id, plan, events)
        return Batch(taken.new, taken.known, (*refused, *taken.refused), offset)

    def _tell_of_ended(self, plan_id: int, plan: Plan, events: Sequence[Event]) -> None:
        """Have notices written of runs that have ended, where their jobs ask for some."""
        told = {
            (event.job, event.occurrence)
            for event in events
            if event.what == "run ended"
            and event.job is not None
            and event.occurrence is not None
            and plan.job_by_id[event.job].notify != "never"
        }
        if not told or self.on_ended is None:
            return
        with self.planning.sessions() as db:
            found = [ledger.one_run(db, plan_id, job, at) for job, at in sorted(told)]
        self.on_ended(plan_id, plan, [run for run in found if run is not None])

    def _tell_of(self, runner: Runner, new: int, speed: float | None) -> None:
        """Tell of events at once, and now and then that time goes on."""
        now = time.monotonic()
        with self._lock:
            due = now - self._told.get(runner.plan_id, 0.0) > CLOCK_TOLD_EVERY_S
            if new or due or speed != runner.speed:
                self._told[runner.plan_id] = now
            else:
                return
        self.tell(runner.plan_id)

    def _head(self, plan_id: int) -> PlanHead:
        with self.planning.sessions() as db:
            return plan_head(db, plan_id)

    def _write(self, runner: Runner, plan: Plan, events: Sequence[Event]) -> ledger.Taken:
        zone = planner_zone(plan)
        ends = _window_ends(plan, events)
        origin = "script" if runner.kind == "script" else "runner"

        def write(db: Session) -> ledger.Taken:
            locked_plan(db, runner.plan_id)
            return ledger.take_events(
                db, runner.plan_id, runner.id, events, zone, ends,
                followers={job.id for job in plan.jobs if job.after is not None}, origin=origin,
            )  # fmt: skip

        return self.planning.write(write)

    # --- nights -------------------------------------------------------------------------------

    def begin_night(self, head: PlanHead, at: float) -> None:
        """Write down what is predicted for the night of an instant, once for each version of it.

        Where another version is adopted in the middle of a night, runs that have begun keep their
        prediction and the others get a new one.
        """
        plan = self.planning.plan(head.adopted_version)
        night = night_at(at, planner_zone(plan))
        with self.planning.sessions() as db:
            row = ledger.night_row(db, head.id, night.date)
            known = None if row is None else row.version_id
            if known == head.adopted_version:
                return
            has_points = ledger.has_points(db, head.id)
        if not has_points:
            self.planning.write(lambda db: ledger.write_points(db, head.id, plan.state.points))
        if known is None:
            self._note_night(head, night, at)
            head = self._with_learned(head, at)
        forecaster = self.planning.version(head.adopted_version)
        forecast = forecaster.night(night)
        runs = predicted_runs(forecast, night)

        def predict(db: Session) -> None:
            locked_plan(db, head.id)
            ledger.predict_night(
                db, head.id, night.date, head.adopted_version, runs, night.zone, at
            )

        self.planning.write(predict)

    def _note_night(self, head: PlanHead, night: Night, at: float) -> None:
        """Have forecasts begin with a night, from the points that exist now."""

        def note(db: Session) -> None:
            locked_plan(db, head.id)
            if ledger.night_row(db, head.id, night.date) is None:
                db.add(
                    LedgerNightRow(
                        plan_id=head.id,
                        night=night.date,
                        zone=night.zone,
                        version_id=0,
                        predicted_at=at,
                    )
                )

        self.planning.write(note)
        self.planning.forget_night(head.id)

    def _with_learned(self, head: PlanHead, clock: float) -> PlanHead:
        """The plan with what the ledger shows taken over, where a standing rule says so.

        Only where it speaks plainly against what is stated, machines of one value in one edit.
        """
        with self.planning.sessions() as db:
            rules = standing_rules(db, head.id)
        if not any(rules.get(rule) == "accept" for rule in LEARNED):
            return head
        plan = self.planning.plan(head.adopted_version)
        by_value: dict[tuple[str, float], list[str]] = defaultdict(list)
        if rules.get(LEARNED_CHANGE) == "accept":
            for machine, change in self.learning.changes(head.id, plan, clock).items():
                if change.speaks_against(plan.machine_by_id[machine].daily_change):
                    by_value["daily_change", round(change.change, STATED_TO)].append(machine)
        if rules.get(LEARNED_RATIO) == "accept":
            for machine, ratio in self.learning.ratios(head.id, plan, clock).items():
                if ratio.speaks_against(plan.machine_by_id[machine].compress_ratio):
                    by_value["compress_ratio", round(ratio.ratio, STATED_TO)].append(machine)
        edits = [
            FactEdit(tuple(machines), ((fact, value),), source="learned")
            for (fact, value), machines in sorted(by_value.items())
        ]
        if not edits:
            return head
        self.planning.write(
            lambda db: edit_facts(db, head.id, edits, self.planning.plan, actor="standing rule")
        )
        return self._head(head.id)

    def failing(self, plan_id: int, plan: Plan) -> Mapping[str, float]:
        """How often each machine fails by now, by run."""
        clock, _ = self.clock(plan_id)
        return self.learning.failing(plan_id, plan, clock)

    def week_spread(self, plan_id: int, plan: Plan) -> Spread:
        """How much change and rates vary, as the ledger shows it by now."""
        clock, _ = self.clock(plan_id)
        rates = self.learning.rates(plan_id, plan, clock)
        return self.learning.week_spread(plan_id, plan, clock, rates)

    def night(self, plan_id: int, day: date) -> tuple[Night, list[RunRecord]]:
        """A night with its runs."""
        plan = self.planning.plan(self._head(plan_id).adopted_version)
        night = night_of(day, planner_zone(plan))
        with self.planning.sessions() as db:
            return night, ledger.runs_of_night(db, plan_id, day)

    def clock(self, plan_id: int) -> tuple[float, Runner | None]:
        """What time it is for a plan: by its runner's clock, else by ours."""
        with self.planning.sessions() as db:
            runner = runners.runner_in_charge(db, plan_id)
        if runner is None or runner.clock is None:
            return self.planning.now().timestamp(), runner
        if runner.kind == "stand-in":
            return runner.clock, runner
        return max(runner.clock, time.time()), runner

    def silent_since(self, runner: Runner | None, open_runs: int) -> float | None:
        """When a runner was last heard of, where runs are under way and it says nothing."""
        if runner is None or runner.last_seen_at is None or not open_runs:
            return None
        if runner.kind == "stand-in" and runner.speed == 0:
            return None
        seen = runner.last_seen_at.replace(tzinfo=UTC).timestamp()
        return seen if time.time() - seen > SILENT_AFTER_S else None

    def tonight(self, plan_id: int) -> Tonight:
        """The night that it is, as it stands; kept until there is news."""
        clock, runner = self.clock(plan_id)
        head = self._head(plan_id)
        key = (self.news(plan_id), head.adopted_version, runner is not None)
        with self._lock:
            known = self._tonight.get(plan_id)
        if known is not None and known[0] == key:
            # Silence makes no news.
            open_ = known[1].summary.runs_open
            return replace(known[1], silent_since=self.silent_since(runner, open_))
        plan = self.planning.plan(head.adopted_version)
        night = night_at(clock, planner_zone(plan))
        with self.planning.sessions() as db:
            runs = ledger.runs_of_night(db, plan_id, night.date)
        summary = summarize(night, runs, clock)
        made = Tonight(
            night,
            clock,
            runner,
            self.silent_since(runner, summary.runs_open),
            tuple(runs),
            summary,
            None
            if (rest := self.rest(plan_id, plan, night, runs, clock)) is None or not runner
            else rest.expected,
        )
        with self._lock:
            self._tonight[plan_id] = (key, made)
        return made

    def rest(
        self, plan_id: int, plan: Plan, night: Night, runs: Sequence[RunRecord], clock: float
    ) -> Rest | None:
        """The rest of a night from what has really moved by an instant; None without a ledger."""
        started = self.as_it_is(plan_id, plan, clock)
        if started is None:
            return None
        return rest_of(started, night, runs, self.learning.spreads_known(plan_id, night))

    def outlook(self, plan_id: int) -> Told | None:
        """How the night under way will end, as far as it has been drawn by now."""
        tonight = self.tonight(plan_id)
        if tonight.ahead is None:
            return None
        version = self._head(plan_id).adopted_version

        def make() -> tuple[Rest, tuple[MachineTrouble, ...]] | None:
            plan = self.planning.plan(version)
            if self.learning.learn_spreads(plan_id, version, plan, tonight.night):
                # What is told of tonight rests on them too.
                self.tell(plan_id)
            rest = self.rest(plan_id, plan, tonight.night, tonight.runs, tonight.clock)
            failed = (t for t in tonight.summary.troubles if not t.made_good)
            return None if rest is None else (rest, tuple(failed))

        # News alone changes nothing: a stand-in that is held says so again and again.
        with self.planning.sessions() as db:
            held = tuple(o.id for o in runners.lasting_orders(db, plan_id, tonight.night.start))
        key = (version, tonight.clock, tonight.summary, held)
        return self.outlooks.latest(plan_id, key, make)

    def as_it_is(self, plan_id: int, plan: Plan, clock: float) -> Plan | None:
        """A plan as it is carried out at an instant, with what is under way as its state.

        What lasting orders change of it is in it. None without a ledger.
        """
        night = night_at(clock, planner_zone(plan))
        with self.planning.sessions() as db:
            points = ledger.points_at(db, plan_id, clock)
            under_way = ledger.runs_under_way(db, plan_id)
            orders = runners.lasting_orders(db, plan_id, night.start)
        if not points and not under_way:
            return None
        recent = [run for run in under_way if run.occurrence > clock - 3 * DAY]
        plan = while_they_hold(with_points(plan, points), map(order_from, orders))
        return replace(plan, state=state_from(plan, plan.state.points, recent, clock))

    # --- the report ---------------------------------------------------------------------------

    def report(self, plan_id: int, day: date) -> Report:
        """The morning report of a night. Raises LookupError for one that the ledger lacks."""
        head = self._head(plan_id)
        forecaster = self.planning.version(head.adopted_version)
        plan = forecaster.plan
        night = night_of(day, planner_zone(plan))
        clock, runner = self.clock(plan_id)
        at = min(clock, night.end)
        with self.planning.sessions() as db:
            runs = ledger.runs_of_night(db, plan_id, day)
            if not runs:
                raise LookupError(f"the ledger has no run of the night of {day}")
            newest = ledger.newest_points(db, plan_id, at)
            left = ledger.left_overs(db, plan_id)
            week = runs + self._nights_before(db, plan_id, day)
        summary = summarize(night, runs, at)
        following = night_of(date.fromordinal(day.toordinal() + 1), night.zone)
        tonight = None
        if forecaster.covers(following):
            tonight = night_outcome(forecaster.night(following), following)
        silent = self.silent_since(runner, summary.runs_open)
        rota = restore_tests.rota_of(self.planning, plan_id)
        due = restore_tests.due_by(self.planning, plan_id, plan, rota)
        standing = [
            *standing_troubles(plan, week, newest, at),
            *overdue_tests(due, at, night.zone),
        ]
        ahead = self._ahead(plan_id, forecaster, rota, following, at)
        return make_report(plan, summary, runs, newest, left, tonight, at, silent, standing, ahead)

    def _ahead(
        self, plan_id: int, forecaster: Forecaster, rota: Rota | None, tonight: Night, at: float
    ) -> Ahead:
        """The restore tests of the day, and the promises that the coming night would break."""
        plan, tests = forecaster.plan, list[tuple[str, float]]()
        if not forecaster.covers(tonight):
            return Ahead()
        if rota is not None:
            found = restore_tests.layout(self.planning, plan_id, forecaster, rota, at)
            tests = [
                (t.machine, t.starts) for t in found.tests if t.starts < tonight.start + DAY / 2
            ]
        broken: dict[str, list[int]] = {}
        kept = kept_in(plan, forecaster.night(tonight), tonight)
        for machine, each in zip(plan.machines, kept, strict=True):
            sums = broken.setdefault(tier_of(machine), [0, 0])
            sums[0] += each.rpo_met is False
            sums[1] += each.rto_met is False
        return Ahead(
            tuple(tests), tuple(Broken(tier, *n) for tier, n in sorted(broken.items()) if any(n))
        )

    def standing(self, plan_id: int) -> list[Standing]:
        """The troubles that stand now, by the runner's clock; kept until there is news."""
        version = self._head(plan_id).adopted_version
        key = (self.news(plan_id), version)
        with self._lock:
            known = self._standing.get(plan_id)
        if known is not None and known[0] == key:
            return known[1]
        plan = self.planning.plan(version)
        clock, _ = self.clock(plan_id)
        day = night_at(clock, planner_zone(plan)).date
        with self.planning.sessions() as db:
            week = ledger.runs_of_night(db, plan_id, day) + self._nights_before(db, plan_id, day)
            newest = ledger.newest_points(db, plan_id, clock)
        rota = restore_tests.rota_of(self.planning, plan_id)
        due = restore_tests.due_by(self.planning, plan_id, plan, rota)
        found = [
            *standing_troubles(plan, week, newest, clock),
            *overdue_tests(due, clock, planner_zone(plan)),
        ]
        with self._lock:
            self._standing[plan_id] = (key, found)
        return found

    def _nights_before(self, db: Session, plan_id: int, day: date) -> list[RunRecord]:
        """The runs of the nights before one that are looked back at."""
        return [
            run
            for back in range(1, LOOKED_BACK_NIGHTS)
            for run in ledger.runs_of_night(db, plan_id, date.fromordinal(day.toordinal() - back))
        ]


def order_from(told: runners.Order) -> Order:
    """An order as the computation has it."""
    return Order(
        told.kind,  # type: ignore[arg-type]
        told.job or "",
        told.machines,
        told.detail.get("proxy"),
        int(told.detail.get("slots", 0)),
    )


def _window_ends(plan: Plan, events: Sequence[Event]) -> Mapping[RunKey, float | None]:
    """When the windows of the runs close that some events are about; a manual run has none."""
    found: dict[RunKey, float | None] = {}
    for event in events:
        if event.job is None or event.occurrence is None:
            continue
        key = (event.job, in_us(event.occurrence))
        if key in found and event.order is None:
            continue
        ordered = event.order is not None
        found[key] = None if ordered else window_end(plan, event.job, event.occurrence)
    return found
