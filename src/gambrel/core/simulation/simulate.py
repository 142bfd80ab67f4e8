"""Playing a plan forward: the way into the engine, and the Forecast that comes out of it."""

from __future__ import annotations

from collections.abc import Iterable

from gambrel.core.plan.instants import format_instant
from gambrel.core.plan.objects import Plan, Running, State
from gambrel.core.simulation import reference
from gambrel.core.simulation.engine.array_forecast import forecast_of
from gambrel.core.simulation.engine.layout import Layout, layout_of
from gambrel.core.simulation.engine.taking_down import state_of
from gambrel.core.simulation.engine.taking_up import fits
from gambrel.core.simulation.engine.walk import Walk, settled_walk
from gambrel.core.simulation.forecast import Forecast, QuietInstant
from gambrel.core.simulation.known_points import Snapshot, snapshot_of_state
from gambrel.core.units import SAME_INSTANT


def simulate(
    plan: Plan,
    from_: float,
    to: float,
    *,
    points: Snapshot | None = None,
    snapshots_from: Iterable[float] = (),
) -> Forecast:
    """Play a plan forward over [from_, to).

    Args:
        plan: what to simulate.
        from_: first instant (UTC seconds) at which an occurrence counts.
        to: end of the horizon; work that still moves then is followed to its end.
        points: the restore points that exist at `from_`, from a QuietInstant of an earlier
            forecast; by default those of `plan.state`.
        snapshots_from: instants; at the first quiet instant at or after each, the points are kept
            in `Forecast.quiet`, so that a later simulation can start there.

    Raises:
        ValueError: where `to` is not after `from_`, or what is under way (`state.running`) is of
            another instant than `from_`.
        TooMuch: (a ValueError) where there are more occurrences or transfers than the limits allow.
        Cancelled: where nobody wants the result any more, see `turns.while_wanted`.
    """
    if _is_for_the_reference(plan):
        if points is not None:
            raise ValueError("points cannot go with what is under way")
        return reference.simulate(plan, from_, to)
    layout, start = _begin(plan, from_, to, points)
    walk = Walk(layout, plan, from_, to, start, snapshots_from, running=_running(plan, points))
    walk.run()
    return forecast_of(walk)


def _is_for_the_reference(plan: Plan) -> bool:
    """Whether the engine does not know a plan's state; the reference keeps no loads, no history."""
    running = plan.state.running
    if running is None:
        return False
    return not fits(layout_of(plan), running)


def _running(plan: Plan, points: Snapshot | None) -> Running | None:
    if points is not None and plan.state.running is not None:
        raise ValueError("points cannot go with what is under way")
    return plan.state.running


def state_at(plan: Plan, from_: float, to: float, instant: float) -> State:
    """The state of a plan at an instant of its simulation over [from_, to) (section 15).

    A simulation of the plan with this state, from the instant to `to`, gives the rest of the same
    history.

    Raises:
        ValueError: where the instant is not within [from_, to).
    """
    if not from_ <= instant < to:
        raise ValueError("the instant is not within the horizon")
    if _is_for_the_reference(plan):
        return reference.state_at(plan, from_, to, instant)
    layout, start = _begin(plan, from_, to, None)
    walk = Walk(layout, plan, from_, to, start, running=plan.state.running)
    walk.run(until=instant)
    return state_of(walk)


def quiet_instants(
    plan: Plan, from_: float, to: float, points: Snapshot, snapshots_from: Iterable[float]
) -> tuple[QuietInstant, ...]:
    """What `simulate` gives as `Forecast.quiet`; nothing else of the simulation is kept.

    Raises as `simulate` does.
    """
    layout, start = _begin(plan, from_, to, points)
    walk = Walk(layout, plan, from_, to, start, snapshots_from, keeps_flows=False)
    walk.run()
    return tuple(QuietInstant(at, kept) for at, kept in walk.quiet)


def simulate_span(
    plan: Plan,
    from_: float,
    to: float,
    *,
    points: Snapshot | None = None,
    snapshots_from: Iterable[float] = (),
    beyond_s: float = 0.0,
) -> Forecast:
    """What happens to all that is due in [from_, to) while the plan goes on after it.

    `simulate` knows no occurrence from `to` on, so its last runs meet nobody there. Here
    occurrences go on until every run, copy and merge that was due before `to` has ended among them,
    at most for 30 days. What has ended cannot change any more; a longer simulation says the same.

    Args:
        beyond_s: how long after `to` that will probably take, such as it took a similar plan:
            `Forecast.until` of that less its `to`.

    Otherwise as `simulate`.
    """
    if _is_for_the_reference(plan):
        raise ValueError("runs whose machines have changed need `simulate`")
    layout, start = _begin(plan, from_, to, points)
    walk = settled_walk(
        layout, plan, from_, to, start, snapshots_from,
        beyond_s=beyond_s, running=_running(plan, points),
    )  # fmt: skip
    return forecast_of(walk)


def _begin(plan: Plan, from_: float, to: float, points: Snapshot | None) -> tuple[Layout, Snapshot]:
    if not to > from_:
        raise ValueError("the horizon ends before it begins")
    running = plan.state.running
    if running is not None and abs(running.at - from_) > SAME_INSTANT:
        raise ValueError(
            f"what is under way is that of {format_instant(running.at)}: simulate from there"
        )
    layout = layout_of(plan)
    return layout, snapshot_of_state(plan) if points is None else points
