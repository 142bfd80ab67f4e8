"""Rehearsals of the plan in hand: played when they are asked for, kept in memory only."""

from __future__ import annotations

from threading import Lock

from gambrel.core.caches import MIB, ByteCache
from gambrel.core.ledger.predicting import predicted_runs
from gambrel.core.nights.nights import Night
from gambrel.core.plan.objects import State
from gambrel.core.simulation.simulate import state_at
from gambrel.standins.rehearsal import Rehearsal, rehearse
from gambrel.work.forecaster import Forecaster

MOST_BYTES = 12 * MIB


class Rehearsals:
    """Plays nights, one at a time. The same question has the same answer, so it is kept."""

    def __init__(self) -> None:
        self._kept = ByteCache("rehearsals", MOST_BYTES, Rehearsal.nbytes)
        self._playing = Lock()

    def of(
        self,
        forecaster: Forecaster,
        key: str,
        night: Night,
        seed: int,
        told: tuple[str, ...] | None,
    ) -> Rehearsal:
        """A night of a plan, carried out.

        Args:
            key: says all of what the forecaster is made.
            told: troubles; None for those that come by chance.

        Raises:
            OutOfReach: for a night that has no forecast.
        """
        whole = (key, night.date, seed, told)
        known = self._kept.get(whole)
        if known is not None:
            return known
        with self._playing:
            return self._kept.once(whole, lambda: _played(forecaster, night, seed, told))


def _played(
    forecaster: Forecaster, night: Night, seed: int, told: tuple[str, ...] | None
) -> Rehearsal:
    predicted = predicted_runs(forecaster.night(night), night)
    plan, first = forecaster.plan, forecaster.origin.start
    state = State(plan.state.points, running=plan.state.running, sizes_as_of=plan.state.sizes_as_of)
    if night.start > first:
        state = state_at(plan, first, night.end, night.start)
    return rehearse(plan, state, predicted, night, seed, told)
