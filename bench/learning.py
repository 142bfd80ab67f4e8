"""How good forecasts become by what the ledger learns, in worlds whose truth is hidden from it.

Each world carries the sample plan out for four weeks, then for one more, whose nights are forecast
at noon in two ways: from what the plan states, and from what was learned by then; and again in the
night, from what has moved by 22:00, midnight and 02:00.
"""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field, replace
from datetime import date, timedelta
from itertools import repeat
from statistics import median

from sizes import LEARNED_NIGHTS, TOLD_NIGHTS

from gambrel import demo
from gambrel.core.ledger.as_it_goes import Rest, outlook, rest_of
from gambrel.core.ledger.comparing import last_end, last_predicted_end, that_bind
from gambrel.core.ledger.events import event_from
from gambrel.core.ledger.learned_change import learned_changes
from gambrel.core.ledger.learned_plan import as_learned
from gambrel.core.ledger.learned_rates import NightRates, learned_rates, night_rates
from gambrel.core.ledger.learned_spreads import learned_spreads
from gambrel.core.ledger.learned_times import NightTimes, learned_times, night_times
from gambrel.core.ledger.night_spreads import NightSpreads
from gambrel.core.ledger.predicting import predicted_runs
from gambrel.core.ledger.records import RunRecord
from gambrel.core.ledger.under_way import state_from
from gambrel.core.model.selection import selected_machines
from gambrel.core.nights.nights import Night, night_of, planner_zone
from gambrel.core.plan.objects import Plan, Running
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import DAY, HOUR
from gambrel.demo.past import existing_points
from gambrel.standins.history import POINTS_DAYS, WRONG_FACTOR, WRONG_JOB, RunsByKey, note_event
from gambrel.standins.performance import Performance
from gambrel.standins.true_world import TrueWorld

FIRST = date(2026, 10, 5)
SPAN_DRAWS = 60
REACHES = (
    (1.0, "rates about as stated"),
    (0.9, "hardware a tenth slower than its data sheet"),
)
"""Kinds of worlds: what streams and proxies reach of what is stated."""
AS_IT_GOES = (22, 24, 26)
"""Hours after midnight of the night's date at which it is asked how it will end."""


@dataclass
class Told:
    """What was told of one night, and what came; errors are shares of the night's length.

    Attributes:
        stated, learned: sizes of the errors of the last end as forecast at noon.
        known: as it would be forecast by one who knew all of the truth but the night's chance.
        inside: whether the end lay inside the 90 % span of noon.
        as_it_goes: by hour the size of the error, and whether the end lay inside the span.
    """

    trouble: bool
    length_s: float
    stated: float
    learned: float
    known: float
    inside: bool
    as_it_goes: dict[int, tuple[float, bool]] = field(default_factory=dict)


class _World:
    """One world: its truth, and the ledger of what it did."""

    def __init__(self, seed: int, reach: float) -> None:
        file = demo.larkmoor()
        self.zone = planner_zone(read_plan(file))
        first = night_of(FIRST, self.zone)
        # Those of the sample are of the days before its own week.
        points = existing_points(file, first.start, POINTS_DAYS)
        self.plan = read_plan({**file, "state": {"points": points}})
        wrong = selected_machines(self.plan, self.plan.job_by_id[WRONG_JOB])
        self.truth = TrueWorld(seed, FIRST, {machine.id: WRONG_FACTOR for machine in wrong}, reach)
        self.performance = Performance(
            self.plan, first.start, self.plan.state.points, self.truth, {}
        )
        self.open: RunsByKey = {}
        self.rates: list[NightRates] = []
        self.times: list[NightTimes] = []
        self.increments: list[tuple[str, str, float, float, float]] = []
        self._before: dict[tuple[str, str], float] = {}

    def forecast(self, plan: Plan, night: Night) -> list[RunRecord]:
        """What a plan predicts of a night at its noon."""
        points = self.performance.state().points
        started = replace(plan, state=replace(plan.state, points=points))
        return predicted_runs(simulate(started, night.start, night.end), night)

    def learned(self, night: Night) -> tuple[Plan, NightSpreads]:
        """The plan of a night as learned by now, and how much such a night varies."""
        rates = learned_rates(self.plan, self.rates)
        changes = learned_changes(self.plan, self.increments)
        times = learned_times(self.plan, self.times)
        weekday = night.date.weekday()
        plan = as_learned(self.plan, changes, rates, times, weekday)
        # What was taken over is as nights show it.
        rates = [
            replace(each, stated=each.learned, factor=1.0, first_stated=each.stated)
            for each in rates
        ]
        return plan, learned_spreads(plan, rates, changes, self.increments, weekday)

    def advance(self, to: float) -> None:
        """Let time go on; the ledger hears of it."""
        for raw in [*self.performance.advance(to), *self.performance.progress()]:
            event = event_from(raw)
            if event.job is not None and event.occurrence is not None:
                note_event(self.plan, self.open, event)

    def under_way(self, plan: Plan, at: float) -> Plan:
        """A plan at an instant as the ledger knows it."""
        points = self.performance.state().points
        state = state_from(plan, points, self.open.values(), at)
        return replace(plan, state=state)

    def close(self, night: Night) -> list[RunRecord]:
        """The night is over: what it taught goes into the ledger. Returns its runs."""
        runs = [run for run in self.open.values() if night.start <= run.occurrence < night.end]
        self.rates.append(night_rates(self.plan, runs, night.end))
        self.times.append(night_times(self.plan, runs))
        for run in runs:
            for record in run.machines.values():
                key = (run.job, record.machine)
                if record.outcome != "done" or record.start is None:
                    continue
                before = self._before.get(key)
                if before is not None and record.kind == "incremental":
                    days = (record.start - before) / DAY
                    told = (record.machine, run.job, days, record.stored_bytes, record.start)
                    self.increments.append(told)
                self._before[key] = record.start
        self.open = {key: run for key, run in self.open.items() if run.ended is None}
        return runs


def world_told(seed: int, reach: float) -> list[Told]:
    """The nights of one world that were told after it had been learned from."""
    world, found = _World(seed, reach), []
    for number in range(LEARNED_NIGHTS + TOLD_NIGHTS):
        night = night_of(FIRST + timedelta(days=number), world.zone)
        stated = world.forecast(world.plan, night)
        world.open |= {(run.job, run.occurrence): run for run in stated}
        if number < LEARNED_NIGHTS:
            world.advance(night.end)
            world.close(night)
            continue
        found.append(_night_told(world, night, stated))
    return [told for told in found if told is not None]


def _night_told(world: _World, night: Night, stated: list[RunRecord]) -> Told | None:
    plan, spreads = world.learned(night)
    learned = world.forecast(plan, night)
    expected = replace(world.truth, by_chance=False).plan_of(world.plan, night.date)
    known = world.forecast(expected, night)
    points = world.performance.state().points
    at_noon = replace(
        plan, state=replace(plan.state, points=points, running=Running(at=night.start))
    )
    rest = Rest(at_noon, simulate(at_noon, night.start, night.end), {}, night.end, 1.0, spreads)
    span = outlook(rest, draws=SPAN_DRAWS)
    goes = {}
    for hour in AS_IT_GOES:
        at = night.start + (hour - 12) * HOUR
        world.advance(at)
        its = [run for run in world.open.values() if night.start <= run.occurrence < night.end]
        # What is predicted of each machine is what the learned plan said at noon.
        by_key = {(run.job, run.occurrence): run for run in learned}
        seen = [_beside(run, by_key.get((run.job, run.occurrence))) for run in its]
        if any(run.ended is None for run in that_bind(its)):
            goes[hour] = outlook(
                rest_of(world.under_way(plan, at), night, seen, spreads), SPAN_DRAWS
            )
    world.advance(night.end)
    bound = that_bind(world.close(night))
    ended = last_end(bound)
    ends = [last_predicted_end(that_bind(told)) for told in (stated, learned, known)]
    if ended is None or None in ends or span.early_end is None:
        return None
    length = ended - min(run.began for run in bound if run.began is not None)

    def off(end: float | None) -> float:
        return abs((end or ended) - ended) / length

    return Told(
        trouble=any(run.outcome not in (None, "done", "empty") for run in bound),
        length_s=length,
        stated=off(ends[0]),
        learned=off(ends[1]),
        known=off(ends[2]),
        inside=span.early_end <= ended <= (span.late_end or ended),
        as_it_goes={
            hour: (off(told.last_end), told.early_end <= ended <= (told.late_end or ended))
            for hour, told in goes.items()
            if told.early_end is not None
        },
    )


def _beside(run: RunRecord, predicted: RunRecord | None) -> RunRecord:
    """A run with what another forecast predicted for its machines."""
    if predicted is None:
        return run
    machines = {
        name: replace(record, predicted=other.predicted)
        if (other := predicted.machines.get(name))
        else record
        for name, record in run.machines.items()
    }
    return replace(run, machines=machines, predicted=predicted.predicted)


def learning(seeds: int) -> list[str]:
    """Lines for the page, over some worlds of each kind."""
    lines = [
        f"{seeds} worlds of each kind, nights after {LEARNED_NIGHTS} that were learned from. "
        "Errors are those of the last end of a run with a window, as shares of the night's length.",
        "",
    ]
    with ProcessPoolExecutor() as processes:
        for reach, name in REACHES:
            worlds = processes.map(world_told, range(1, seeds + 1), repeat(reach))
            lines += told_of(name, [each for its in worlds for each in its])
    return lines


def told_of(name: str, told: list[Told]) -> list[str]:
    """Lines of one kind of worlds."""
    lines = [
        f"| {name} | | median error | 9 of 10 within | inside the 90 % span |",
        "|---|---|---|---|---|",
    ]
    for which, its in (
        ("without trouble", [each for each in told if not each.trouble]),
        ("with trouble", [each for each in told if each.trouble]),
    ):
        lines += list(_rows(which, its))
    return [*lines, ""]


def _rows(name: str, told: list[Told]) -> Iterator[str]:
    if not told:
        return
    yield _row(f"{len(told)} {name}", "at noon, as stated", [t.stated for t in told], None)
    inside = [each.inside for each in told]
    yield _row("", "at noon, as learned", [t.learned for t in told], inside)
    yield _row("", "at noon, all known but chance", [t.known for t in told], None)
    for hour in AS_IT_GOES:
        at = [each.as_it_goes[hour] for each in told if hour in each.as_it_goes]
        if at:
            when = f"at {hour % 24:02}:00 ({len(at)} nights under way)"
            yield _row("", when, [off for off, _ in at], [held for _, held in at])


def _row(nights: str, when: str, errors: list[float], inside: list[bool] | None) -> str:
    within = sorted(errors)[-(-9 * len(errors) // 10) - 1]
    held = "" if inside is None else f"{100 * sum(inside) / len(inside):.0f} of 100"
    return f"| {nights} | {when} | {100 * median(errors):.1f} % | {100 * within:.1f} % | {held} |"


if __name__ == "__main__":
    print("\n".join(learning(2)))
