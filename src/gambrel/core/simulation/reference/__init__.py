"""The planning model in plain Python, to be read beside the text and to test the engine against."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from math import inf
from typing import NoReturn

from gambrel.core.model.restore_points import PointRecord
from gambrel.core.model.sharing import OWN_CEILING, UNLIMITED
from gambrel.core.plan.instants import format_instant
from gambrel.core.plan.objects import Plan, State
from gambrel.core.schedules.calendars import NEVER
from gambrel.core.simulation.exposure import machine_exposure, newest_over_time
from gambrel.core.simulation.forecast import Forecast, MachineRun, RestoreRun, Run, Space
from gambrel.core.simulation.point_history import PointHistory
from gambrel.core.simulation.reference.loop import Simulation
from gambrel.core.simulation.reference.restoring import RestoreTask
from gambrel.core.simulation.reference.resuming import state_of
from gambrel.core.simulation.reference.tasks import MachineTask, RunTask
from gambrel.core.units import SAME_INSTANT


def simulate(plan: Plan, from_: float, to: float) -> Forecast:
    """Play a plan forward over [from_, to), as `simulation.simulate` does but for the loads.

    Raises:
        ValueError: where `to` is not after `from_`.
    """
    simulation = _begun(plan, from_, to)
    simulation.run()
    return _forecast(simulation)


def _begun(plan: Plan, from_: float, to: float) -> Simulation:
    if not to > from_:
        raise ValueError("the horizon ends before it begins")
    running = plan.state.running
    if running is not None and abs(running.at - from_) > SAME_INSTANT:
        raise ValueError(
            f"what is under way is that of {format_instant(running.at)}: simulate from there"
        )
    return Simulation(plan, from_, to)


def state_at(plan: Plan, from_: float, to: float, instant: float) -> State:
    """The state of a plan at an instant of its simulation, all that happens then included.

    A simulation of the plan with this state from the instant to `to` gives the rest of the same
    history (section 15).

    Raises:
        ValueError: where the instant is not within [from_, to).
    """
    if not from_ <= instant < to:
        raise ValueError("the instant is not within the horizon")
    simulation = _begun(plan, from_, to)
    simulation.run(until=instant)
    return state_of(simulation)


def _forecast(loop: Simulation) -> Forecast:
    """The immutable result, after `run`."""
    plan = loop.plan
    newest = {
        machine.id: newest_over_time(loop.newest.get(i, ()))
        for i, machine in enumerate(plan.machines)
    }
    return Forecast(
        plan=plan,
        from_=loop.from_,
        to=loop.to,
        until=loop.to,
        runs=tuple(_run(loop, r) for r in sorted(loop.runs, key=lambda r: r.order)),
        copies=tuple(loop.copies),
        points=tuple(_point_records(loop)),
        exposure=tuple(
            machine_exposure(machine, newest[machine.id], loop.from_, loop.to)
            for machine in plan.machines
        ),
        space=tuple(
            Space(
                repository.id,
                loop.peak.get(i, 0.0),
                loop.points.used_bytes.get(i, 0.0),
            )
            for i, repository in enumerate(plan.repositories)
        ),
        newest_points=newest,
        history=PointHistory(plan, _no_history),
        restores=tuple(_restore(loop, task) for task in loop.restores.tasks),
    )


def _no_history() -> NoReturn:
    raise NotImplementedError("the reference keeps no history of points")


def _point_records(loop: Simulation) -> Iterable[PointRecord]:
    plan = loop.plan
    for (repository, job, machine), points in loop.points.items():
        chains: dict[int, tuple[int, float, float]] = {}
        for point in sorted(points, key=lambda point: point.at):
            # A base is older than what needs it, so its own chain is known by now.
            count, stored, since = chains.get(id(point.base), (0, 0.0, inf))
            chains[id(point)] = (count + 1, stored + point.stored_bytes, min(since, point.at))
            yield PointRecord(
                plan.jobs[job].id,
                plan.machines[machine].id,
                plan.repositories[repository].id,
                point.kind,
                point.at,
                point.exists_from,
                point.stored_bytes,
                point.usable,
                *chains[id(point)],
            )


def _run(loop: Simulation, run: RunTask) -> Run:
    assert run.outcome is not None
    ends = run.window_end != NEVER
    over = run.ended - run.window_end if ends and run.ended is not None else 0.0
    return Run(
        job=run.job.id,
        occurrence=run.occurrence,
        kind=run.kind,
        schedule=run.schedule,
        outcome=run.outcome,
        began=run.began,
        ended=run.ended,
        window_opens=None if run.opens == NEVER else run.opens,
        window_end=run.window_end if ends else None,
        over_s=max(0.0, over),
        outcomes=Counter(task.outcome for task in run.machines if task.outcome is not None),
        machines=tuple(_machine_run(loop, task) for task in run.machines),
    )


def _restore(loop: Simulation, task: RestoreTask) -> RestoreRun:
    planned, estimate = task.planned, task.estimate
    if task.outcome is None:
        return RestoreRun(planned.id, planned.machine, None)
    return RestoreRun(
        id=planned.id,
        machine=planned.machine,
        outcome=task.outcome,
        point=task.point,
        points=None if estimate is None else estimate.points,
        due=task.due,
        start=task.start,
        back=task.back,
        whole=task.whole,
        read_bytes=None if estimate is None else estimate.read_bytes,
        written_bytes=None if estimate is None else estimate.written_bytes,
        squeeze_s=_named(loop, task.squeeze_s),
        delay_s=task.delay_s,
    )


def _named(loop: Simulation, squeeze_s: Mapping[int, float]) -> dict[str, float]:
    """Seconds by the name of what limited a stream."""
    names = loop.topology.resource_names
    return {
        "transport" if squeeze == OWN_CEILING else names[squeeze]: seconds
        for squeeze, seconds in sorted(squeeze_s.items())
        if squeeze != UNLIMITED
    }


def _machine_run(loop: Simulation, task: MachineTask) -> MachineRun:
    assert task.outcome is not None and task.ended is not None
    waiting = 0.0
    if task.queued is not None:
        waiting = (task.ended if task.start is None else task.start) - task.queued
    return MachineRun(
        machine=task.machine.id,
        outcome=task.outcome,
        kind=task.kind,
        queued=task.queued,
        start=task.start,
        moved=task.moved_at,
        released=task.released_at,
        ended=task.ended,
        source_bytes=task.source_bytes,
        wire_bytes=task.wire_bytes,
        stored_bytes=task.stored_bytes,
        waiting_s=waiting,
        squeeze_s=_named(loop, task.squeeze_s),
        synthetic=task.synthetic,
        readings=tuple(task.readings),
    )
