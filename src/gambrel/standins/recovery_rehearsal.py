"""A recovery rehearsed: carried out in the stand-in's true world, and forecast anew on the way."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date
from math import exp
from typing import Literal, NamedTuple

from gambrel.core.plan.objects import Plan
from gambrel.core.recovery.coming_back import ComesBack, Recovery
from gambrel.core.simulation.forecast import RestoreRun
from gambrel.core.simulation.simulate import simulate, state_at
from gambrel.core.units import HOUR, SAME_INSTANT
from gambrel.standins.true_world import NOISE_OF_RATES, TrueWorld, chance

REACHED = 0.96
"""What links and repositories really reach of the rate in the plan, in the middle."""
Stage = Literal["waits", "set up", "written", "back", "whole", "not at all"]


class OnItsWay(NamedTuple):
    """A machine in a rehearsal; instants in UTC seconds, None where it does not come back.

    Attributes:
        planned: when it is back by the plan. `rehearsed`: when it was back in the rehearsal.
        stage: where it is at the instant that is looked at; `part`: of its bytes that are written.
        foreseen: when it is back as forecast from that instant, by the plan's rates.
    """

    row: ComesBack
    planned: float | None
    rehearsed: float | None
    stage: Stage
    part: float
    foreseen: float | None


@dataclass(frozen=True, slots=True)
class RehearsedRecovery:
    """A recovery as it went; `at`: the instant that is looked at."""

    at: float
    begins: float
    ends: float
    machines: tuple[OnItsWay, ...]


def _true_plan(plan: Plan, seed: int, day: date) -> Plan:
    """A plan with the rates of the true world, also of what only restores lean on."""

    def factor(kind: str, name: str) -> float:
        return REACHED * exp(chance(seed, kind, name, day).gauss(0.0, NOISE_OF_RATES))

    made = TrueWorld(seed, day).plan_of(plan, day)
    return replace(
        made,
        links=tuple(
            replace(each, mbit_per_s=each.mbit_per_s * factor("link", each.id))
            for each in made.links
        ),
        repositories=tuple(
            each
            if each.read_mib_per_s is None
            else replace(each, read_mib_per_s=each.read_mib_per_s * factor("reads", each.id))
            for each in made.repositories
        ),
    )


def rehearse_recovery(
    recovery: Recovery, seed: int, day: date, at: float | None
) -> RehearsedRecovery:
    """Carry a recovery out in a true world.

    Args:
        seed: which world: another one has other rates.
        day: on which it happens.
        at: the instant to look at, brought into the rehearsal; None: its end.
    """
    planned = recovery.forecast
    if planned is None:
        return RehearsedRecovery(recovery.begins, recovery.begins, recovery.begins, ())
    true = _true_plan(recovery.plan, seed, day)
    went = simulate(true, planned.from_, planned.to)
    wholes = [run.whole for run in went.restores if run.whole is not None]
    ends = max(wholes, default=recovery.begins)
    # Without other backups nothing more falls due, however far it is followed.
    to = planned.to if recovery.way.goes_on else max(planned.to, ends + HOUR)
    look = min(ends if at is None else max(at, planned.from_), ends, to - 1.0)
    state = state_at(true, planned.from_, to, look)
    anew = simulate(replace(recovery.plan, state=state), look, max(to, look + HOUR))
    foreseen = {run.id: run for run in anew.restores}
    real = {run.id: run for run in went.restores}
    moved = {
        each.id: each.moved_bytes / each.written_bytes
        for each in (state.running.restores if state.running else ())
        if each.written_bytes > 0
    }
    found = []
    for row in recovery.rows:
        run, ahead = real.get(row.machine), foreseen.get(row.machine)
        back = None if run is None else run.back
        stage = _stage(run, moved.get(row.machine, 0.0), look)
        found.append(
            OnItsWay(
                row,
                row.back,
                back,
                stage,
                1.0 if stage == "whole" else moved.get(row.machine, 0.0),
                back if ahead is None or ahead.back is None else ahead.back,
            )
        )
    return RehearsedRecovery(look, planned.from_, ends, tuple(found))


def _stage(run: RestoreRun | None, moved: float, at: float) -> Stage:
    if run is None or run.start is None:
        return "not at all"
    now = at + SAME_INSTANT
    if run.start > now:
        return "waits"
    if run.outcome == "done" and run.whole is not None and run.whole <= now:
        return "whole"
    if run.back is not None and run.back <= now:
        return "back"
    return "written" if moved > 0 else "set up"
