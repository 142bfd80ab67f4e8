"""What would help tonight only: orders that save what the rest of the night would lose.

Candidates come from what the night is about to lose. Each is simulated from now, first in the
expected course, the best ones then in the same draws as the night without them (common random
numbers), so that what differs is the order's doing. One that saves machines or windows of some jobs
at the cost of as many of others only shifts the trouble, and is left out.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from statistics import median

from gambrel.core import words
from gambrel.core.ledger.as_it_goes import LIKELY, Rest, Tally, never, tally
from gambrel.core.ledger.comparing import MachineTrouble
from gambrel.core.ledger.ordering import Order, OrderRefused, order_in_words, ordered
from gambrel.core.ledger.records import RunKey, run_key
from gambrel.core.nights.nights import planner_zone
from gambrel.core.plan.objects import Plan, Running
from gambrel.core.simulation.forecast import Forecast, Run
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import MINUTE

MOST_SHOWN = 5
MOST_DRAWN = 8
MOST_TRIED = 60
HELP_DRAWS = 40
MORE_SLOTS = (2, 4)
WORTH = 0.5
"""An order that loses more than so many machines for each that it saves only shifts the trouble."""
MATTERS_S = 5 * MINUTE
"""Less time past windows than this is no help."""


@dataclass(frozen=True, slots=True)
class Loss:
    """What a rest of a night loses, in the middle of the draws or in the expected course.

    Attributes:
        machines: machine-runs that are not done; those of a run that an order keeps from beginning
            among them.
        late_s: how long runs are past their windows, in all.
    """

    machines: float
    late_s: float

    def is_less_than(self, other: Loss) -> bool:
        """Fewer machines, or as many and plainly less time past windows."""
        if self.machines != other.machines:
            return self.machines < other.machines
        return self.late_s < other.late_s - MATTERS_S

    @property
    def rank(self) -> tuple[float, float]:
        return self.machines, self.late_s


@dataclass(frozen=True, slots=True)
class Help:
    """An order that would help, with what it brings and what it costs others, in words.

    Attributes:
        before, after: what the rest of the night loses without it and with it.
        fits_before, fits_after: the part of the draws in which nothing is lost.
        saved: the machine-runs that it saves in most draws, as (job, machine).
    """

    order: Order
    words: str
    brings: tuple[str, ...]
    costs: tuple[str, ...]
    before: Loss
    after: Loss
    fits_before: float
    fits_after: float
    saved: tuple[tuple[str, str], ...]


def what_would_help(
    rest: Rest,
    failed: Iterable[MachineTrouble],
    draws: int = HELP_DRAWS,
    seed: int = 1,
    enough: Callable[[], bool] = never,
) -> list[Help]:
    """Orders that would help the rest of a night, the best first.

    Args:
        failed: the machines that are not done by now, and were not made good.
        enough: asked now and then whether what was tried by then will do.

    Raises:
        ValueError: as `Rest.draws_of`.
    """
    plan, expected = rest.plan, rest.expected
    running = plan.state.running
    assert running is not None
    losing = _losing(expected, running.at)
    base = _tally_of(expected)
    tried: list[tuple[Loss, Order, Plan, Undone]] = []
    own = _loss(base, base)
    for order in _distinct(_candidates(plan, running, expected, losing, failed)):
        if len(tried) >= MOST_TRIED or enough():
            break
        try:
            other = ordered(plan, order)
        except OrderRefused:
            continue
        ended = _ended_by(running, other)
        found = _and_undone(_tally_of(simulate(other, running.at, rest.until)), ended)
        loss = _loss(base, found)
        gained = _gained(order, found, running.at)
        if gained or loss.is_less_than(own):
            tried.append((Loss(loss.machines - gained, loss.late_s), order, other, ended))
    tried.sort(key=lambda each: each[0].rank)
    if not tried:
        return []
    drawn = rest.draws_of(plan, seed)
    without = [tally(drawn.walk(n)) for n in range(draws)]
    found_help: list[Help] = []
    for _, order, other, ended in tried[:MOST_DRAWN]:
        if found_help and enough():
            break
        drawn = rest.draws_of(other, seed)
        with_it = [_and_undone(tally(drawn.walk(n)), ended) for n in range(draws)]
        made = _help(plan, running.at, order, without, with_it)
        if made is not None:
            found_help.append(made)
    found_help.sort(key=lambda help_: help_.after.rank)
    return found_help[:MOST_SHOWN]


Undone = Mapping[RunKey, tuple[str, ...]]


def _ended_by(running: Running, plan: Plan) -> Undone:
    """The machine-runs that an order itself ends, without their being done."""
    assert plan.state.running is not None
    found = {}
    for was, now in zip(running.runs, plan.state.running.runs, strict=False):
        ended = tuple(
            new.machine
            for old, new in zip(was.machines, now.machines, strict=True)
            if old.state != "ended" and new.state == "ended"
        )
        if ended:
            found[run_key(now.job, now.occurrence)] = ended
    return found


def _and_undone(found: Tally, ended: Undone) -> Tally:
    """A draw with the machine-runs as not done that an order ended before it began."""
    if not ended:
        return found
    undone, ends, machines = dict(found.undone), dict(found.ends), dict(found.machines)
    for key, each in ended.items():
        undone[key] = (*undone.get(key, ()), *each)
        ends.setdefault(key, float("-inf"))
        machines.setdefault(key, len(each))
    return Tally(ends, found.past, undone, machines)


def _distinct(orders: Iterable[Order]) -> Iterator[Order]:
    seen = set()
    for order in orders:
        if order not in seen:
            seen.add(order)
            yield order


# --- what may help ------------------------------------------------------------------------------


def _losing(expected: Forecast, at: float) -> list[Run]:
    """The runs that lose something in the expected course: late, or with machines not done."""
    return [
        run
        for run in expected.runs
        if run.outcome != "skipped"
        and (
            run.over_s > MATTERS_S
            or any(m.outcome != "done" and m.ended > at for m in run.machines)
        )
    ]


def _candidates(
    plan: Plan,
    running: Running,
    expected: Forecast,
    losing: Sequence[Run],
    failed: Iterable[MachineTrouble],
) -> Iterator[Order]:
    under_way = {run.job for run in running.runs}
    retried: dict[str, list[str]] = {}
    for trouble in failed:
        if trouble.job not in under_way and trouble.job in plan.job_by_id:
            retried.setdefault(trouble.job, []).append(trouble.machine)
    for job, machines in retried.items():
        yield Order("retry", job, tuple(sorted(set(machines))))
    if not losing:
        return
    lost = {run.job for run in losing}
    for job in sorted(lost):
        yield Order("let pass", job)
        yield Order("any proxy", job)
        yield Order("no verify", job)
    for proxy in _squeezed_proxies(plan, losing):
        for slots in MORE_SLOTS:
            yield Order("more slots", "", proxy=proxy, slots=slots)
    # Whoever runs beside what is lost, the longest first.
    first = min(run.began or run.occurrence for run in losing)
    beside = sorted(
        (run for run in expected.runs if run.job not in lost and (run.ended or first) >= first),
        key=lambda run: -sum(machine.source_bytes for machine in run.machines),
    )
    for run in beside:
        if run.job in under_way:
            yield Order("no verify", run.job)
            yield Order("stop", run.job)
        else:
            yield Order("hold tonight", run.job)
    for job in sorted(lost & under_way):
        yield Order("stop", job)


def _squeezed_proxies(plan: Plan, losing: Iterable[Run]) -> list[str]:
    """The proxies that runs wait for, or may."""
    found: dict[str, float] = {}
    for run in losing:
        pinned = plan.job_by_id[run.job].proxies
        for machine in run.machines:
            for reading in machine.readings:
                if reading.proxy is not None:
                    found[reading.proxy] = found.get(reading.proxy, 0.0) + machine.source_bytes
        for proxy in pinned or ():
            found.setdefault(proxy, 0.0)
    known = {proxy.id for proxy in plan.proxies}
    return [p for p in sorted(found, key=lambda p: (-found[p], p)) if p in known]


# --- what it does -------------------------------------------------------------------------------


def _tally_of(forecast: Forecast) -> Tally:
    """A forecast read as a draw is."""
    at = forecast.from_
    ends: dict[RunKey, float] = {}
    past: dict[RunKey, float] = {}
    undone: dict[RunKey, tuple[str, ...]] = {}
    for run in forecast.runs:
        if run.outcome == "skipped":
            continue
        key = run_key(run.job, run.occurrence)
        ends[key] = float("inf") if run.ended is None else run.ended
        past[key] = ends[key] - run.window_end if run.window_end is not None else float("nan")
        lost = tuple(m.machine for m in run.machines if m.outcome != "done" and m.ended > at)
        if lost:
            undone[key] = lost
    return Tally(ends, past, undone, _machines_of(forecast))


def _machines_of(forecast: Forecast) -> dict[RunKey, int]:
    """How many machines each run has that is not over."""
    return {
        run_key(run.job, run.occurrence): len(run.machines)
        for run in forecast.runs
        if run.outcome != "skipped"
    }


def _loss(base: Tally, found: Tally) -> Loss:
    """What a rest of a night loses; the runs that were due in another and do not come at all too.

    What an order brings by hand is not counted: it loses nothing that was to be.
    """
    machines = sum(len(found.undone.get(key, ())) for key in base.ends)
    machines += sum(n for key, n in base.machines.items() if key not in found.ends)
    late = sum(past for key, past in found.past.items() if key in base.ends and past > 0.0)
    return Loss(machines, late)


def _gained(order: Order, found: Tally, at: float) -> int:
    """The machines that a retry brings back."""
    key = run_key(order.job, at)
    if order.kind != "retry" or found.ends.get(key, float("inf")) == float("inf"):
        return 0
    return len(order.machines) - len(set(found.undone.get(key, ())) & set(order.machines))


def _help(
    plan: Plan, at: float, order: Order, without: Sequence[Tally], drawn: Sequence[Tally]
) -> Help | None:
    """What an order brings and costs in the draws; None where it only shifts the trouble."""
    pairs = list(zip(without, drawn, strict=True))
    before = [_loss(one, one) for one in without]
    after = [_loss(one, other) for one, other in pairs]
    gained = median(_gained(order, other, at) for other in drawn)
    was = Loss(median(x.machines for x in before), median(x.late_s for x in before))
    now = Loss(median(x.machines for x in after) - gained, median(x.late_s for x in after))
    if not now.is_less_than(was):
        return None
    saved = _in_most([_lost(one) - _lost_with(one, other) for one, other in pairs])
    lost = _in_most([_lost_with(one, other) - _lost(one) for one, other in pairs])
    if len(lost) > WORTH * len(saved):
        return None
    if order.kind == "retry":
        saved |= {(order.job, machine) for machine in order.machines} if gained else set()
    later = _later(pairs)
    zone = planner_zone(plan)
    brings = [*_machines_in_words(plan, saved, "done", more=True), *_late_in_words(was, now)]
    brings += [said for _, said in _windows_in_words(plan, pairs, zone, kept=True)]
    broken = _windows_in_words(plan, pairs, zone, kept=False)
    costs = [*_machines_in_words(plan, lost, "not done"), *(said for _, said in broken)]
    told = {job for job, _ in broken}
    costs += [
        f"{plan.job_by_id[job].name} ends {words.duration(by)} later"
        for job, by in [each for each in later if each[0] not in told][:2]
    ]
    return Help(
        order,
        order_in_words(plan, order),
        tuple(brings),
        tuple(costs),
        was,
        now,
        sum(not loss.machines and not loss.late_s for loss in before) / len(before),
        sum(not loss.machines and not loss.late_s for loss in after) / len(after),
        tuple(sorted(saved)),
    )


def _lost(one: Tally) -> set[tuple[str, str]]:
    return {(key[0], machine) for key, each in one.undone.items() for machine in each}


def _lost_with(one: Tally, other: Tally) -> set[tuple[str, str]]:
    """What a draw loses with an order; of a run that does not come, a number stands for each."""
    found = {
        (key[0], machine)
        for key, each in other.undone.items()
        if key in one.ends
        for machine in each
    }
    for key, count in one.machines.items():
        if key not in other.ends:
            found |= {(key[0], f"#{i}") for i in range(count)}
    return found


def _in_most(draws: Sequence[set[tuple[str, str]]]) -> set[tuple[str, str]]:
    """What is in at least half of some sets."""
    counts: dict[tuple[str, str], int] = {}
    for each in draws:
        for pair in each:
            counts[pair] = counts.get(pair, 0) + 1
    return {pair for pair, count in counts.items() if count >= LIKELY * len(draws)}


def _machines_in_words(
    plan: Plan, pairs: set[tuple[str, str]], becomes: str, *, more: bool = False
) -> list[str]:
    """By job what becomes of some machines, as "Lab: 16 more machines done"."""
    by_job: dict[str, list[str]] = {}
    for job, machine in sorted(pairs):
        by_job.setdefault(job, []).append(machine)
    found = []
    for job, machines in sorted(by_job.items(), key=lambda each: -len(each[1])):
        noun = "more machine" if more else "machine"
        named = len(machines) == 1 and not machines[0].startswith("#")
        who = machines[0] if named else words.count(len(machines), noun)
        found.append(f"{plan.job_by_id[job].name}: {who} {becomes}")
    return found


def _late_in_words(was: Loss, now: Loss) -> list[str]:
    less = was.late_s - now.late_s
    if less < MATTERS_S or now.late_s <= 0.0:
        return []
    return [
        f"{words.duration(now.late_s)} past windows in all instead of {words.duration(was.late_s)}"
    ]


def _windows_in_words(
    plan: Plan, pairs: Sequence[tuple[Tally, Tally]], zone: str, *, kept: bool
) -> list[tuple[str, str]]:
    """The jobs that keep their window in most draws and did not in most before, or the reverse."""
    found = []
    for key in pairs[0][0].ends:
        # A run may be skipped in one draw and come in another.
        ends = [other.ends[key] for _, other in pairs if key in other.ends]
        if 2 * len(ends) < len(pairs):
            continue
        was = sum(one.past.get(key, 0.0) > 1.0 for one, _ in pairs) / len(pairs)
        now = sum(other.past.get(key, 0.0) > 1.0 for _, other in pairs) / len(pairs)
        name = plan.job_by_id[key[0]].name
        if kept and was >= LIKELY > now:
            end = median(ends)
            found.append((key[0], f"{name} keeps its window and ends {words.moment(end, zone)}"))
        if not kept and now >= LIKELY > was:
            end = median(ends)
            found.append((key[0], f"{name} loses its window and ends {words.moment(end, zone)}"))
    return found


def _later(pairs: Sequence[tuple[Tally, Tally]]) -> list[tuple[str, float]]:
    """The runs that end plainly later in the middle of the draws, the latest first."""
    found: list[tuple[str, float]] = []
    for key in pairs[0][0].ends:
        by = [
            other.ends[key] - one.ends[key]
            for one, other in pairs
            if key in one.ends
            and key in other.ends
            and max(other.ends[key], one.ends[key]) < float("inf")
        ]
        if by and median(by) > MATTERS_S:
            found.append((key[0], median(by)))
    return sorted(found, key=lambda each: -each[1])
