"""Long computations: a thread drives each, workers compute, a row in the store lasts."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import date, timedelta
from threading import Event, Lock, Thread
from typing import Any

from gambrel.core.balance.bound import Bound
from gambrel.core.balance.explaining import PlanTold, explained
from gambrel.core.balance.house_rules import Breach, Breaches, HouseRule, house_rule_from
from gambrel.core.balance.ladder import Judge, Rung, chosen, fits, ladder
from gambrel.core.balance.moves import Candidate, candidate_of
from gambrel.core.balance.objective import Score
from gambrel.core.balance.problem import MOST_LOSSES, MOST_WEEKS, USUAL_KINDS, Problem
from gambrel.core.balance.search import PATIENCE, SHAKES
from gambrel.core.balance.search_driver import Evaluate, Progress, balance
from gambrel.core.balance.stopping import AnyOf, Asked, MostEvaluations, MostSeconds
from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import Operation, operation_from
from gambrel.core.nights.nights import Night, night_of, week_of
from gambrel.core.plan.objects import Plan
from gambrel.core.questions.how_sure import Failing, Sample, confidence
from gambrel.core.questions.what_if import happen_all, happening_from, single_losses
from gambrel.core.runway.nights_ahead import MonthAhead
from gambrel.core.runway.purchase import Item, NightPurchase, Unmet
from gambrel.core.runway.purchase_with_moves import Bought, least_purchase
from gambrel.core.simulation.turns import Turns, while_wanted
from gambrel.core.simulation.varying import Spread
from gambrel.core.simulation_limits import Cancelled, TooMuch
from gambrel.store import computations as store
from gambrel.store.computation_results import (
    bought_result,
    confidence_result,
    ladder_result,
    moves_value,
    nights_ahead_result,
    purchase_result,
    search_progress,
    sweep_result,
    weighed_result,
)
from gambrel.store.computations import ComputationKind
from gambrel.store.plans import draft as stored_draft
from gambrel.store.plans import plan_head
from gambrel.work import worker_tasks
from gambrel.work.executors import Workers
from gambrel.work.forecaster import Forecaster, OutOfReach
from gambrel.work.planning import Planning
from gambrel.work.runway import Ahead, NightsAhead, nights_ahead, space_needed

log = logging.getLogger(__name__)

NOTED_EVERY_S = 0.4
AT_ONCE = 2
"""Computations that run at once; further ones wait."""
MOST_WAITING = 20
MOST_EVALUATIONS = 20_000
USUAL_SECONDS = 30.0
"""What a search may take where nobody says."""
PATIENT_FOR_S = 2.0
"""For every so many seconds that a search may take it has its patience once more: those who wait
for half a minute want it used, and a small estate is shaken through in a second."""
EXPLAINED_S = 30.0
"""What each move of a proposal brings is worked out for as long as was searched, at least so
long; of an estate of many machines that is not every move."""
SAMPLES_AT_ONCE = 10
DRAWN_AT_ONCE = 4
"""Weeks of one loss that a worker draws at a time: with 100 losses there are tasks enough."""
MOST_SWEPT = 100
MOST_SWEPT_SAMPLES = 200
"""The most losses of a sweep, and the most weeks after each of them."""
MOST_SAMPLES = 5_000
SEARCHED_ON = 4
"""Draws in which every plan of a search is simulated, where weeks that vary are asked about."""
JUDGED_BY = 32
"""Fresh draws by which the rungs of a search are compared."""
WEIGHED_BY = 64
"""Further fresh draws from which the chances of a rung come."""
WEIGHED_UP_TO = 3000
"""Plans of more machines are weighed only by what was asked for."""
SEARCHED_BESIDE = 120
"""Plans that are simulated beside each purchase that is tried."""
MONTHS_AT_ONCE = 3
"""Months ahead that a worker simulates in one go."""


class Computations:
    """Begins, stops and resumes long computations."""

    def __init__(
        self,
        planning: Planning,
        workers: Workers,
        failing: Callable[[int, Plan], Failing],
        spread: Callable[[int, Plan], Spread],
    ) -> None:
        """`failing` and `spread` say how often machines of a plan fail, and how much weeks vary."""
        self.planning = planning
        self._failing = failing
        self._spread = spread
        self.workers = workers
        self._lock = Lock()
        self._stops: dict[int, Event] = {}
        self._cancels: dict[int, Event] = {}
        self._threads: dict[int, Thread] = {}
        self.turns = Turns(AT_ONCE)
        # Bounds have a process of their own, which can be ended without harm to searches.
        # What a search finds is waited for sooner than what it is compared with.
        self._bounding = Workers(workers.cluster, 1, nice=15)

    # --- from outside -------------------------------------------------------------------------

    def begin(
        self,
        plan_id: int,
        kind: ComputationKind,
        asked: Mapping[str, Any],
        *,
        actor: str,
        best: Sequence[Mapping[str, Any]] = (),
    ) -> int:
        """Begin a computation; returns its id.

        Raises:
            OperationError, OutOfReach, NotFound: where it cannot be done.
        """
        if self.turns.waiting >= MOST_WAITING:
            raise TooMuch(
                f"{MOST_WAITING} computations are waiting already; cancel one, or wait until some "
                "have ended"
            )
        problem: Any
        if kind in ("nights ahead", "purchase"):
            problem = nights_ahead(self._forecaster(plan_id, asked), ahead_of(asked))
        else:
            problem = self.problem(plan_id, asked)
        asked = {**asked, "stands_on": self.stands_on(plan_id, asked.get("draft"))}
        progress = {"best": list(best)} if best else {}
        ident = self.planning.write(
            lambda db: store.begin(db, plan_id, kind, asked, actor=actor, progress=progress)
        )
        stop, cancel = Event(), Event()
        run = {
            "balance": self._balance,
            "confidence": self._confidence,
            "sweep": self._sweep,
            "nights ahead": self._nights_ahead,
            "purchase": self._purchase,
        }[kind]
        job = _Running(ident, plan_id, problem, asked, stop, cancel, tuple(best))
        thread = Thread(target=self._run, args=(run, job), name=f"{kind} {ident}", daemon=True)
        with self._lock:
            self._stops[ident], self._cancels[ident] = stop, cancel
            self._threads[ident] = thread
        thread.start()
        return ident

    def stop(self, ident: int) -> None:
        """Have a computation end with the best that it has so far."""
        with self._lock:
            event = self._stops.get(ident)
        if event is not None:
            event.set()

    def cancel(self, ident: int) -> None:
        """Have a computation end without a result."""
        with self._lock:
            events = [self._cancels.get(ident), self._stops.get(ident)]
        for event in events:
            if event is not None:
                event.set()

    def resume(self, ident: int, *, actor: str) -> int:
        """Begin an interrupted computation again, from the best it had; returns the new id."""
        with self.planning.sessions() as db:
            was = store.computation(db, ident)
        best = was.progress.get("best", ())
        return self.begin(was.plan_id, was.kind, was.asked, actor=actor, best=best)

    def wait(self, ident: int, within_s: float = 120.0) -> None:
        """Wait until a computation has ended."""
        with self._lock:
            thread = self._threads.get(ident)
        if thread is not None:
            thread.join(within_s)

    def prepare(self) -> None:
        """Mark what was interrupted, and have the workers ready before somebody waits for them."""
        self.planning.write(lambda db: store.interrupt(db))
        try:
            self.workers.all(worker_tasks.warm, [()] * self.workers.width)
        except Exception:
            log.exception("preparing the workers")

    def cancel_all(self) -> None:
        """End all computations without a result."""
        with self._lock:
            for event in (*self._cancels.values(), *self._stops.values()):
                event.set()

    def close(self) -> None:
        """End all computations without a result, and the workers."""
        self.cancel_all()
        self.workers.stop()
        self._bounding.stop()

    def stands_on(self, plan_id: int, draft_id: int | None) -> str:
        """The state of a plan, or of a draft of it, that a computation begun now would be about.

        "" for a draft that is not open any more.
        """
        with self.planning.sessions() as db:
            if draft_id is None:
                return f"version {plan_head(db, plan_id).adopted_version}"
            try:
                draft = stored_draft(db, draft_id)
            except LookupError:
                return ""
        return f"version {draft.base_version}, draft {draft.id}.{draft.revision}"

    # --- what is asked ------------------------------------------------------------------------

    def problem(self, plan_id: int, asked: Mapping[str, Any]) -> Problem:
        """What a request asks for, checked. Raises OperationError, OutOfReach or NotFound."""
        return problem_of(self._forecaster(plan_id, asked), asked)

    def _forecaster(
        self, plan_id: int, asked: Mapping[str, Any], operations: Sequence[Operation] = ()
    ) -> Forecaster:
        """The forecaster of what a request is about: a plan, or a draft of it.

        Args:
            operations: what a draft would hold on top of it.
        """
        with self.planning.sessions() as db:
            head = plan_head(db, plan_id)
            draft = None if asked.get("draft") is None else stored_draft(db, asked["draft"])
        return self.planning.preview(head, draft, operations)

    # --- running ------------------------------------------------------------------------------

    def _run(self, run: Callable[[_Running], dict[str, Any]], job: _Running) -> None:
        state: store.State = "failed"
        result, message = None, ""
        try:
            with while_wanted(job.cancel.is_set), self._turn(job):
                job.problem = self._with_spread(job)
                result = run(job)
            state = "done"
            if job.cancel.is_set():
                raise _Cancelled
        except (_Cancelled, Cancelled):
            state, result, message = "cancelled", None, "It was cancelled. Nothing was changed."
        except (OperationError, ValueError) as error:
            message = f"{error}. Nothing was changed."
        except Exception:
            log.exception("computation %s", job.ident)
            message = "Something went wrong on our side. Nothing was changed."
        finally:
            with self._lock:
                self._stops.pop(job.ident, None)
                self._cancels.pop(job.ident, None)
                self._threads.pop(job.ident, None)
        self.planning.write(
            lambda db: store.end(db, job.ident, state, result=result, message=message[:2000])
        )

    def _with_spread(self, job: _Running) -> Any:
        """The problem with what varies as the ledger shows it, where it is drawn at all."""
        problem = job.problem
        if not isinstance(problem, Problem):
            return problem
        drawn = "samples" in job.asked or problem.draws
        if not drawn and len(problem.plan.machines) > WEIGHED_UP_TO:
            return problem
        learned = self._spread(job.plan_id, problem.plan)
        return replace(problem, spread=spread_of(job.asked, learned))

    @contextmanager
    def _turn(self, job: _Running) -> Iterator[None]:
        """Wait until fewer others run."""
        if self.turns.running >= AT_ONCE:
            self._note(job, {"phase": "waiting", "ahead": self.turns.waiting}, always=True)
        with self.turns.take():
            yield

    def _note(self, job: _Running, progress: Mapping[str, Any], *, always: bool = False) -> None:
        if job.cancel.is_set():
            raise _Cancelled
        if always or time.monotonic() - job.noted > NOTED_EVERY_S:
            job.noted = time.monotonic()
            self.planning.write(lambda db: store.note_progress(db, job.ident, progress))

    def _balance(self, job: _Running) -> dict[str, Any]:
        asked, problem = job.asked, job.problem
        curve: list[dict[str, Any]] = []
        began = time.monotonic()

        def progress(now: Progress, best: Candidate) -> None:
            grades = list(now.score.grades)
            better = not curve or curve[-1]["grades"] != grades
            if better:
                curve.append({"seconds": round(time.monotonic() - began, 2), "grades": grades})
            # A planner waits for the plan as it is and for the first better one.
            told = better and len(curve) <= 2
            self._note(job, search_progress(now, best, curve), always=told)

        whole = worker_tasks.Packed.of(problem)
        criteria = (
            Asked(job.stop.is_set),
            MostSeconds(asked["seconds"]),
            MostEvaluations(asked.get("most_evaluations", MOST_EVALUATIONS)),
        )
        start = candidate_of(problem, [operation_from(value) for value in job.best])
        evaluate = worker_tasks.evaluate_on(self.workers, {id(problem): whole})
        shakes, patience = patience_for(asked["seconds"])
        # The bound takes seconds: it is computed beside the search.
        with self._bound(whole, job) as bounding:
            outcome = balance(
                problem,
                AnyOf(criteria),
                evaluate=evaluate,
                seed=asked["seed"],
                shakes=shakes,
                patience=patience,
                start=start,
                progress=progress,
            )
            limits = self._awaited(bounding, job)
        # Whoever stopped the search wants to know what it found; that can be stopped as well.
        job.stop.clear()
        self._note(job, {"phase": "explaining", "evaluations": outcome.evaluations}, always=True)

        def tell_all(candidates: Sequence[Candidate]) -> Sequence[PlanTold]:
            return self.workers.all(
                worker_tasks.told, [(whole, candidate) for candidate in candidates]
            )

        judge: Judge | None = None
        if problem.asks_to_hold:
            more = replace(
                problem, draws=JUDGED_BY if problem.draws else 0, drawn_by=problem.drawn_by + 1
            )

            def judged(candidates: Sequence[Candidate]) -> Sequence[Score]:
                return [score for score, _ in evaluate(more, [(c, False) for c in candidates])]

            judge = judged
        before, rungs = ladder(problem, chosen(problem, outcome), tell_all, limits, judge)
        seconds = time.monotonic() - began
        result = ladder_result(problem, outcome, before, rungs, limits, curve, seconds)
        result["rules"] = _rules_told(
            problem.plan, problem.rules, problem.nights, problem.breaches.at_first
        )
        spent = AnyOf((Asked(job.stop.is_set), MostSeconds(max(EXPLAINED_S, asked["seconds"]))))

        def enough() -> bool:
            self._note(job, {"phase": "explaining", "result": result})
            return spent.reached(0)

        for rung, value in zip(rungs, result["rungs"], strict=True):
            proposal = explained(problem, rung.candidate, rung.proposal, tell_all, enough)
            value["moves"] = moves_value(proposal)
            self._note(job, {"phase": "explaining", "result": result}, always=True)
        if rungs:
            result["moves"] = result["rungs"][-1]["moves"]
        for rung, value in zip(rungs, result["rungs"], strict=True):
            if job.stop.is_set():
                break
            self._note(job, {"phase": "weighing", "result": result}, always=True)
            value.update(self._weighed(job, rung))
        if not job.stop.is_set() and len(problem.plan.machines) <= WEIGHED_UP_TO:
            now = {"phase": "buying", "result": result}
            self._note(job, now, always=True)
            result["purchase"] = self._to_buy(job, whole, rungs, evaluate, now)
        return result

    def _to_buy(
        self,
        job: _Running,
        whole: worker_tasks.Packed,
        rungs: Sequence[Rung],
        evaluate: Evaluate,
        now: Mapping[str, Any],
    ) -> dict[str, Any]:
        """What would have to be bought: for the plan as it is, and beside the best moves.

        Args:
            now: how far the computation is, noted again and again.
        """
        problem: Problem = job.problem
        (as_it_is,) = self.workers.all(worker_tasks.bought, [(whole, Candidate())])
        enough = next((rung.candidate for rung in rungs if fits(rung.told)), None)
        if enough is not None or (as_it_is.fits and not as_it_is.items):
            return bought_result(as_it_is, Bought(enough or Candidate(), (), True))
        until = MostSeconds(job.asked["seconds"])

        def search(changed: Problem, start: Candidate) -> Candidate:
            self._note(job, now)
            stop = AnyOf((Asked(job.stop.is_set), until, MostEvaluations(SEARCHED_BESIDE)))
            seed = job.asked["seed"]
            return balance(changed, stop, evaluate=evaluate, seed=seed, start=start).candidate

        best = rungs[-1].candidate if rungs else Candidate()
        return bought_result(as_it_is, least_purchase(problem, best, search, as_it_is))

    def _weighed(self, job: _Running, rung: Rung) -> dict[str, Any]:
        """How sure a rung is, and what breaks it: as its draft will be shown."""
        asked, problem = job.asked, job.problem
        stands = set(asked.get("stands") or ())
        if len(problem.plan.machines) <= WEIGHED_UP_TO:
            stands |= {"proxies", "links", "weeks"}
        operations = rung.candidate.operations
        try:
            shown = problem_of(self._forecaster(job.plan_id, asked, operations), asked)
        except OperationError:
            # It moves what is there only as if something had happened.
            return {}
        packed = worker_tasks.Packed.of(shown)
        samples: list[Sample] = []
        if "weeks" in stands:
            seed = problem.drawn_by + 2
            chunks = [
                (packed, problem.spread, seed, first, min(SAMPLES_AT_ONCE, WEIGHED_BY - first))
                for first in range(0, WEIGHED_BY, SAMPLES_AT_ONCE)
            ]
            samples = [
                each for part in self.workers.all(worker_tasks.drawn, chunks) for each in part
            ]
        losses = single_losses(shown.plan, stands, MOST_LOSSES)
        told = self.workers.all(worker_tasks.told_after, [(packed, loss) for loss in losses])
        words = [loss.describe(shown.plan) for loss in losses]
        return weighed_result(shown, samples, list(zip(words, told, strict=True)))

    @contextmanager
    def _bound(self, whole: worker_tasks.Packed, job: _Running) -> Iterator[Future[Bound]]:
        """Compute the bound of a problem meanwhile; it ends with whoever wanted it."""
        left = Event()

        def compute() -> Bound:
            if left.is_set():
                raise _Cancelled
            found = dict(self._bounding.as_done(worker_tasks.bounded, [(whole,)], left.is_set))
            return found[0]

        with ThreadPoolExecutor(1, thread_name_prefix=f"bound {job.ident}") as beside:
            bounding = beside.submit(compute)
            try:
                yield bounding
            finally:
                left.set()
                if not bounding.done():
                    self._bounding.abort()

    def _awaited(self, bounding: Future[Bound], job: _Running) -> Bound:
        while True:
            try:
                return bounding.result(NOTED_EVERY_S)
            except TimeoutError:
                if job.cancel.is_set():
                    raise _Cancelled from None

    def _confidence(self, job: _Running) -> dict[str, Any]:
        asked = job.asked
        total = int(asked["samples"])
        packed = worker_tasks.Packed.of(job.problem)
        spread = job.problem.spread
        failing = self._failing(job.plan_id, job.problem.plan) if asked.get("failures") else None
        chunks = [
            (packed, spread, asked["seed"], first, min(SAMPLES_AT_ONCE, total - first), failing)
            for first in range(0, total, SAMPLES_AT_ONCE)
        ]
        found = self._drawn(job, worker_tasks.drawn, chunks, total)
        samples = [sample for i in sorted(found) for sample in found[i]]
        return confidence_result(len(samples), spread, confidence(job.problem, samples))

    def _drawn(
        self,
        job: _Running,
        draw: Callable[..., list[Sample]],
        chunks: Sequence[tuple[Any, ...]],
        total: int,
    ) -> dict[int, list[Sample]]:
        """The samples of each chunk that was drawn before somebody had enough of it."""
        found: dict[int, list[Sample]] = {}
        for i, samples in self.workers.as_done(draw, chunks):
            found[i] = samples
            done = sum(len(part) for part in found.values())
            self._note(job, {"phase": "simulating", "samples": done, "of": total})
            if job.stop.is_set():
                break
        return found

    def _sweep(self, job: _Running) -> dict[str, Any]:
        asked = job.asked
        total = int(asked["samples"])
        packed = worker_tasks.Packed.of(job.problem)
        spread = job.problem.spread
        losses = (None, *single_losses(job.problem.plan, asked["losses"], MOST_SWEPT))
        # All losses go on together, so that a sweep that is stopped has some weeks of each.
        parts = [
            (loss, (packed, loss, spread, asked["seed"], first, min(DRAWN_AT_ONCE, total - first)))
            for first in range(0, total, DRAWN_AT_ONCE)
            for loss in losses
        ]
        arguments = [each for _, each in parts]
        found = self._drawn(job, worker_tasks.drawn_after, arguments, total * len(losses))
        stood = [
            (loss, [each for i in sorted(found) if parts[i][0] is loss for each in found[i]])
            for loss in losses
        ]
        return sweep_result(job.problem, spread, stood)

    def _nights_ahead(self, job: _Running) -> dict[str, Any]:
        asked: NightsAhead = job.problem
        packed = worker_tasks.Packed.of(asked)
        total = len(asked.months)
        parts = [
            (packed, first, min(total, first + MONTHS_AT_ONCE))
            for first in range(0, total, MONTHS_AT_ONCE)
        ]
        found: dict[int, list[MonthAhead]] = {}
        for i, months in self.workers.as_done(worker_tasks.months_ahead, parts):
            found[i] = months
            done = sum(len(part) for part in found.values())
            told = [month for i in sorted(found) for month in found[i]]
            progress = {"phase": "simulating", "months": done, "of": total}
            self._note(job, {**progress, "found": nights_ahead_result(told)})
            if job.stop.is_set():
                break
        return nights_ahead_result([month for i in sorted(found) for month in found[i]])

    def _purchase(self, job: _Running) -> dict[str, Any]:
        asked: NightsAhead = job.problem
        packed = worker_tasks.Packed.of(asked)
        bought: tuple[Item, ...] = ()
        unmet: list[Unmet] = []
        months: list[MonthAhead] = []
        for number in range(len(asked.months)):
            self._note(
                job, {"phase": "simulating", "months": number, "of": len(asked.months)}, always=True
            )
            if job.stop.is_set():
                break
            (part,) = self.workers.all(worker_tasks.purchase_of, [(packed, number, bought)])
            bought += part.items
            unmet += part.unmet
            months += part.months
        found = NightPurchase(bought, tuple(unmet), tuple(months))
        return purchase_result(space_needed(asked, float(job.asked["reserve"])), found)


class _Cancelled(Exception):
    pass


@dataclass
class _Running:
    ident: int
    plan_id: int
    problem: Any
    asked: Mapping[str, Any]
    stop: Event
    cancel: Event
    best: tuple[Mapping[str, Any], ...]
    noted: float = 0.0


def patience_for(seconds: float) -> tuple[int, int]:
    """How often a search of so many seconds shakes its plans, and how many in a row may fail."""
    longer = max(1.0, seconds / PATIENT_FOR_S)
    return round(SHAKES * longer), round(PATIENCE * longer)


def ahead_of(asked: Mapping[str, Any]) -> Ahead:
    """How a look ahead is meant, as a request says it."""
    return Ahead(
        months=int(asked.get("months", 24)),
        feared_growth=asked.get("feared_growth"),
        provisioned_grows=bool(asked.get("provisioned_grows", True)),
    )


def spread_of(asked: Mapping[str, Any], learned: Spread) -> Spread:
    """How much things vary, as a request says it; what it is silent of is as the ledger shows."""
    if asked.get("change") is not None:
        learned = replace(learned, change=asked["change"], machines={}, together=())
    if asked.get("rate") is not None:
        learned = replace(learned, rate=asked["rate"], rates={})
    if asked.get("stream") is not None:
        learned = replace(learned, stream=asked["stream"], streams={})
    return learned


def problem_of(forecaster: Forecaster, asked: Mapping[str, Any]) -> Problem:
    """The problem of a plan over the weeks that begin with the one that holds a day.

    Raises:
        OperationError: where something of what is asked cannot be.
        OutOfReach: for a day that cannot be forecast.
    """
    zone = forecaster.origin.zone
    start, last = _horizon(forecaster, asked)
    begins, points = forecaster.start_of(start)
    # What happens does so when the horizon begins; the weeks before it are those of the plan.
    first_instant = None if asked.get("happens") else forecaster.start_of(forecaster.origin)
    plan = happen_all(forecaster.plan, [happening_from(h) for h in asked.get("happens", ())])
    if plan is not forecaster.plan:
        points = points.of_plan(forecaster.plan, plan)
    jobs = asked.get("jobs")
    return Problem(
        plan=plan,
        from_=start.start,
        to=last.end,
        zone=zone,
        points=points,
        jobs=frozenset(job.id for job in plan.jobs) if jobs is None else frozenset(jobs),
        kinds=frozenset(asked.get("kinds") or USUAL_KINDS),
        most_moves=int(asked.get("most_moves", 15)),
        comfort=float(asked.get("comfort", 0.85)),
        begins=begins,
        first=first_instant,
        beyond_s=forecaster.beyond_s(last),
        losses=single_losses(plan, asked.get("stands") or (), MOST_LOSSES),
        draws=SEARCHED_ON if "weeks" in (asked.get("stands") or ()) else 0,
        drawn_by=int(asked.get("seed", 1)),
        rules=_house_rules(plan, asked.get("rules", ())),
    )


def _horizon(forecaster: Forecaster, asked: Mapping[str, Any]) -> tuple[Night, Night]:
    """The first and the last night that is asked about. Raises as `problem_of`."""
    weeks = int(asked.get("weeks", 1))
    if not 1 <= weeks <= MOST_WEEKS:
        raise OperationError("weeks", weeks, f"is not between 1 and {MOST_WEEKS}")
    first, *_, last = week_of(date.fromisoformat(asked["day"]), forecaster.origin.zone)
    last = night_of(last.date + timedelta(weeks=weeks - 1), last.zone)
    if last.date < forecaster.origin.date:
        raise OutOfReach(f"Forecasts begin with the night of {forecaster.origin.date}.")
    return max(first, forecaster.origin, key=lambda night: night.date), last


def rules_broken(
    forecaster: Forecaster, plan: Plan, asked: Mapping[str, Any]
) -> list[dict[str, Any]]:
    """The rules of the house that a changed plan breaks where that of a forecaster does not.

    Args:
        asked: `rules`, and `day` and `weeks` for the nights, as of a search.

    Raises: as `problem_of`.
    """
    base, zone = forecaster.plan, forecaster.origin.zone
    rules = _house_rules(base, asked["rules"])
    start, last = _horizon(forecaster, asked)
    length = (last.date - start.date).days + 1
    nights = [night_of(start.date + timedelta(days=i), zone) for i in range(length)]
    breaches = Breaches(base, rules, nights, zone)
    told = _rules_told(base, rules, nights, breaches.of(plan) - breaches.at_first)
    return [rule for rule in told if rule["nights"]]


def _rules_told(
    plan: Plan,
    rules: Sequence[HouseRule],
    nights: Sequence[Night],
    broken: Iterable[tuple[int, Breach]],
) -> list[dict[str, Any]]:
    """Each rule of the house in words, and where it is broken."""
    found: dict[int, list[Breach]] = {}
    for i, breach in broken:
        found.setdefault(i, []).append(breach)
    names = {job.id: job.name for job in plan.jobs}
    return [
        {
            "words": rule.describe(plan),
            "nights": sorted({str(nights[b.night].date) for b in found.get(i, ())}),
            "jobs": sorted({names[job] for b in found.get(i, ()) for job in b.jobs}),
        }
        for i, rule in enumerate(rules)
    ]


def _house_rules(plan: Plan, values: Sequence[Mapping[str, Any]]) -> tuple[HouseRule, ...]:
    rules = tuple(house_rule_from(value) for value in values)
    for rule in rules:
        rule.check(plan)
    return rules
