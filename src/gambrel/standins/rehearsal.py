"""A rehearsal: one night of a plan carried out in the stand-in's true world, and kept nowhere."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date

from gambrel.core.ledger.events import Event, event_from
from gambrel.core.ledger.records import RunRecord
from gambrel.core.nights.nights import Night
from gambrel.core.plan.objects import Plan, State
from gambrel.core.units import HOUR
from gambrel.standins.history import RunsByKey, note_event
from gambrel.standins.performance import Performance
from gambrel.standins.troubles import Trouble, troubles_of
from gambrel.standins.true_world import TrueWorld

LONGEST_AFTER_S = 24 * HOUR
"""How long after its noon a night is played on while runs of it are under way."""
STEP_S = HOUR
ROUGH_RUN_BYTES, ROUGH_MACHINE_BYTES, ROUGH_EVENT_BYTES = 1_500, 3_000, 900


@dataclass(frozen=True, slots=True)
class Rehearsal:
    """A night as it went.

    Attributes:
        runs: by occurrence and job, predicted ones among them.
        events: of the runs of the night, in order.
        troubles: what the world did to it.
        until: up to when it was played, in UTC seconds.
    """

    night: Night
    runs: tuple[RunRecord, ...]
    events: tuple[Event, ...]
    troubles: tuple[Trouble, ...]
    until: float

    def nbytes(self) -> int:
        """About how much memory it takes."""
        machines = sum(len(run.machines) for run in self.runs)
        return (
            ROUGH_RUN_BYTES * len(self.runs)
            + ROUGH_MACHINE_BYTES * machines
            + ROUGH_EVENT_BYTES * len(self.events)
        )


def rehearse(
    plan: Plan,
    state: State,
    predicted: Iterable[RunRecord],
    night: Night,
    seed: int,
    told: Sequence[str] | None,
) -> Rehearsal:
    """Carry a night of a plan out in a true world.

    Args:
        state: what exists and what is under way at the beginning of the night.
        predicted: the runs of the night as the plan's forecast has them.
        seed: which world: another one has other changes, rates and troubles.
        told: the troubles of the night, see `troubles_of`; None: those that come by chance.
    """
    troubles: dict[date, tuple[str, ...]] = {} if told is None else {night.date: tuple(told)}
    world = TrueWorld(seed, night.date)
    performance = Performance(plan, night.start, state.points, world, troubles, state.running)
    runs: RunsByKey = {(run.job, run.occurrence): run for run in predicted}
    events: list[Event] = []
    to = night.end
    while True:
        for raw in performance.advance(to):
            event = event_from(raw)
            if event.job is None or event.occurrence is None:
                continue
            if night.start <= event.occurrence < night.end:
                note_event(plan, runs, event)
                events.append(event)
        under_way = any(run.began is not None and run.ended is None for run in runs.values())
        if not under_way or to >= night.end + LONGEST_AFTER_S:
            break
        to += STEP_S
    return Rehearsal(
        night,
        tuple(sorted(runs.values(), key=lambda run: (run.occurrence, run.job))),
        tuple(events),
        tuple(troubles_of(seed, plan, night, troubles)),
        performance.clock,
    )
