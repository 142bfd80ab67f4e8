"""Driving searches: parts of a plan that have nothing to do with one another, side by side."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from itertools import product

from gambrel.core.balance.moves import Candidate, plan_of
from gambrel.core.balance.objective import Evaluator, Score
from gambrel.core.balance.problem import Problem
from gambrel.core.balance.search import PATIENCE, SHAKES, Asked, Found, Searching, Told
from gambrel.core.balance.stopping import Stop
from gambrel.core.model.selection import selected_machines
from gambrel.core.plan.objects import Plan
from gambrel.core.simulation.engine.layout import layout_of

Evaluate = Callable[[Problem, Sequence[Asked]], Sequence[Told]]
"""Scores candidates of a problem, wherever it does that."""


def evaluated_here() -> Evaluate:
    """What scores candidates in this process, one after the other."""
    kept: dict[int, Evaluator] = {}

    def evaluate(problem: Problem, batch: Sequence[Asked]) -> list[Told]:
        # An evaluator holds its problem, so that no other problem gets its place in memory.
        if id(problem) not in kept:
            kept[id(problem)] = Evaluator(problem)
        evaluator = kept[id(problem)]
        return [told_of(evaluator, candidate, traced) for candidate, traced in batch]

    return evaluate


def told_of(evaluator: Evaluator, candidate: Candidate, traced: bool) -> Told:
    """The score of a candidate, with its trace where that is wanted.

    A search hands out sound candidates only, so they are not checked again.
    """
    plan = plan_of(evaluator.problem, candidate)
    return evaluator.trace(plan) if traced else (evaluator.score(plan), None)


def parts(plan: Plan, tied: Iterable[Sequence[str]] = ()) -> list[tuple[str, ...]]:
    """The jobs of a plan in groups that share no machine, resource, slot pool or order of running.

    Groups cannot influence one another, so each may be simulated alone with the same result.

    Args:
        tied: ids of jobs that stay together for another reason.
    """
    owner: dict[object, int] = {}
    group = list(range(len(plan.jobs)))

    def root(i: int) -> int:
        while group[i] != i:
            group[i] = group[group[i]]
            i = group[i]
        return i

    def claim(kind: str, things: Iterable[object], job: int) -> None:
        for thing in things:
            first = owner.setdefault((kind, thing), job)
            one, other = root(first), root(job)
            group[max(one, other)] = min(one, other)

    positions = plan.job_position
    topology = layout_of(plan).topology
    for position, job in enumerate(plan.jobs):
        claim("job", [job.id] if job.after is None else [job.id, job.after], position)
        claim("repository", job.places, position)
        machines = selected_machines(plan, job)
        claim("machine", (machine.id for machine in machines), position)
        claim("host", {machine.host for machine in machines} - {None}, position)
        disks = [(machine, disk) for machine in machines for disk in machine.disks]
        claim("datastore", {disk.datastore for _, disk in disks} - {None}, position)
        choices = [topology.candidates(job, *each) for each in disks]
        # A move may let every proxy read; then all of them tie jobs together.
        choices += [topology.unpinned(job, *each) for each in disks if each[0].kind == "vm"]
        # Disks of one host and datastore share one choice: each is looked at once.
        ways = [way for choice in {id(each): each for each in choices}.values() for way in choice]
        claim("proxy", {way.proxy for way in ways} - {None}, position)
        claim("resource", {each for way in ways for each in (*way.raw, *way.compressed)}, position)
        for home, copy in product(job.repositories, job.copies):
            source, target = (plan.repository_by_id[r] for r in (home, copy.repository))
            copying = topology.copy_uses(source, target) or ()
            claim("resource", (resource for resource, _ in copying), position)
    for i, names in enumerate(tied):
        for name in names:
            claim("tied", [i], positions[name])
    found: dict[int, list[str]] = {}
    for position, job in enumerate(plan.jobs):
        found.setdefault(root(position), []).append(job.id)
    return [tuple(jobs) for jobs in found.values()]


@dataclass(frozen=True)
class Progress:
    """How far a search is.

    Attributes:
        evaluations: plans simulated so far.
        score: the best so far, over all parts.
        moves: how many moves it takes.
        done: parts whose search has ended, of `parts`.
        rungs: (number of moves, score) of the best so far of each number that is better than all
            lower ones.
    """

    evaluations: int
    score: Score
    moves: int
    done: int
    parts: int
    rungs: tuple[tuple[int, Score], ...] = ()


@dataclass(frozen=True)
class Outcome:
    """What a search found.

    Attributes:
        candidate: the moves of all parts together, no more than the problem allows.
        score: of that candidate, simulated from where the problem begins.
        fewer: the best candidates of fewer moves, the most moves first.
        first_fit: the fewest moves of a candidate that fits; None where none does.
        history: (evaluations, score) whenever the whole became better.
        ended: "searched" where nothing better was to be expected, else "stopped".
    """

    candidate: Candidate
    score: Score
    fewer: tuple[Candidate, ...]
    first_fit: int | None
    evaluations: int
    history: tuple[tuple[int, Score], ...]
    ended: str


def joined_score(scores: Iterable[Score]) -> Score:
    """The score of parts together: sums, and the worst strain."""
    all_scores = list(scores)
    return Score(
        lost=sum(score.lost for score in all_scores),
        rpo_missed=sum(score.rpo_missed for score in all_scores),
        rpo_s=sum(score.rpo_s for score in all_scores),
        over_s=sum(score.over_s for score in all_scores),
        skipped=sum(score.skipped for score in all_scores),
        margin_s=sum(score.margin_s for score in all_scores),
        strain_s=max((score.strain_s for score in all_scores), default=0.0),
    )


def balance(
    problem: Problem,
    stop: Stop,
    *,
    evaluate: Evaluate | None = None,
    seed: int = 0,
    shakes: int | None = None,
    patience: int | None = None,
    start: Candidate = Candidate(),  # noqa: B008 - a value that nothing changes
    progress: Callable[[Progress, Candidate], None] = lambda _, __: None,
) -> Outcome:
    """Search for a better plan.

    Parts that have nothing to do with one another are searched in turn, the most troubled first,
    each with its share of the moves.

    Args:
        stop: asked before every batch; the best so far is the result.
        evaluate: where candidates are simulated; in this process where nobody says.
        seed: the same seed gives the same result, where `stop` does not depend on the clock.
        shakes: how often each search starts again from a shaken plan; None for the usual number.
        patience: how many of these in a row may bring nothing before it ends; None as usual.
        start: where to go on from, such as the best of a search that was interrupted.
        progress: told after every batch, with the best candidate so far.
    """
    evaluate = evaluated_here() if evaluate is None else evaluate
    # A loss can bring together what had nothing to do with one another.
    everything = tuple(problem.plan.job_by_id)
    tied = [everything if rule.tied is None else rule.tied for rule in problem.rules]
    groups = [everything] if problem.asks_to_hold else parts(problem.plan, tied)
    searches = [
        Searching(
            problem.restricted(jobs) if len(groups) > 1 else problem,
            seed + i,
            SHAKES if shakes is None else shakes,
            Candidate.of({c[0]: c[1] for c in start.choices if c[0][0] in jobs}),
            PATIENCE if patience is None else patience,
        )
        for i, jobs in enumerate(groups)
    ]
    history: list[tuple[int, Score]] = []
    # Every part is scored once, so that there is a whole to speak of whenever it is stopped.
    running = [search.run() for search in searches]
    waiting = [next(each) for each in running]
    states: list[Found | None] = [None] * len(searches)

    def send(i: int) -> bool:
        """Answer what a search waits for; whether it goes on."""
        told = evaluate(searches[i].problem, waiting[i])
        try:
            waiting[i] = running[i].send(told)
        except StopIteration as ended:
            states[i] = ended.value
            return False
        finally:
            if all(search.best is not None for search in searches):
                *_, best = found = _together(problem, searches)
                if not history or best.score.grades != history[-1][1].grades:
                    history.append((_evaluations(searches), best.score))
                done = sum(1 for state in states if state is not None)
                now = Progress(
                    _evaluations(searches), best.score, len(best.candidate), done, len(searches),
                    tuple((len(each.candidate), each.score) for each in found),
                )  # fmt: skip
                progress(now, best.candidate)
        return True

    order = [i for i in range(len(searches)) if send(i)]
    order.sort(key=lambda i: _trouble(searches[i]), reverse=True)
    stopped = False
    # The first descent of each part comes before any is shaken, in rounds of growing size.
    while order and not stopped:
        for i in list(order):
            if stop.reached(_evaluations(searches)):
                stopped = True
                break
            spent = _moves(searches) >= problem.most_moves and not _may_trade(searches[i])
            if spent or not send(i):
                order.remove(i)
    found = _together(problem, searches)
    *fewer, best = found
    return Outcome(
        candidate=best.candidate,
        score=best.score,
        fewer=tuple(found.candidate for found in reversed(fewer)),
        first_fit=min((len(f.candidate) for f in found if f.score.fits), default=None),
        evaluations=_evaluations(searches),
        history=tuple(history),
        ended="stopped" if stopped else "searched",
    )


def _evaluations(searches: Sequence[Searching]) -> int:
    return sum(search.evaluations for search in searches)


def _moves(searches: Sequence[Searching]) -> int:
    return sum(len(search.best.candidate) for search in searches if search.best is not None)


def _may_trade(search: Searching) -> bool:
    """Whether a search could still do better without more moves than it has."""
    return search.best is not None and len(search.best.candidate) > 0


def _trouble(search: Searching) -> tuple[float, ...]:
    return search.best.score.grades if search.best is not None else ()


def _together(problem: Problem, searches: Sequence[Searching]) -> list[Found]:
    """The best candidates of all parts together, each with the score of just what it holds.

    Those of more moves are better; the last is the best within the moves that the problem allows.
    Parts do not influence one another, so their scores add up. The best of each number of moves of
    one part is known; which numbers to take of which part is settled part by part.
    """
    most = problem.most_moves
    reached: dict[int, tuple[Score, tuple[Candidate, ...]]] = {0: (joined_score(()), ())}
    for search in searches:
        grown: dict[int, tuple[Score, tuple[Candidate, ...]]] = {}
        for moves, (score, taken) in reached.items():
            for more, found in search.best_of.items():
                if moves + more > most:
                    continue
                joined = joined_score((score, found.score))
                known = grown.get(moves + more)
                if known is None or joined.grades < known[0].grades:
                    grown[moves + more] = (joined, (*taken, found.candidate))
        reached = grown
    better: list[Found] = []
    for moves in sorted(reached):
        score, taken = reached[moves]
        if not better or score.grades < better[-1].score.grades:
            choices = dict(choice for candidate in taken for choice in candidate.choices)
            better.append(Found(Candidate.of(choices), score, _evaluations(searches)))
    return better
