"""One restore in the middle of a night: how long it takes there, and what it does to the night."""

from __future__ import annotations

from dataclasses import dataclass, replace

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.nights.nights import Night
from gambrel.core.plan.objects import Machine, Plan, PlannedRestore
from gambrel.core.recovery.machine_points import target_of
from gambrel.core.simulation.forecast import Forecast, RestoreRun
from gambrel.core.simulation.known_points import Snapshot
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import DAY


@dataclass(frozen=True, slots=True)
class InANight:
    """A restore beside the backups of a night.

    Attributes:
        forecast: the night with it.
        later: jobs whose last run of the night ends later with it: (job, seconds).
    """

    restore: RestoreRun
    forecast: Forecast
    later: tuple[tuple[str, float], ...]


def restore_in_a_night(
    plan: Plan,
    without: Forecast,
    night: Night,
    start: tuple[float, Snapshot | None],
    planned: PlannedRestore,
) -> InANight:
    """Simulate a restore in the middle of a night.

    Args:
        without: the forecast of the night as it is.
        start: where a simulation of the night may begin, and the points there; None: those of the
            plan's state.
        planned: `to_host` may name a host for a server, which becomes a VM there, or a server for
            any machine; it is not backed up in that night then.

    Raises:
        OperationError: for an instant that is not in the night, and for an unknown host.
    """
    if not night.start <= planned.at < night.end:
        raise OperationError("at", planned.at, "is outside the chosen night")
    machine, to_host = target_of(plan, plan.machine_by_id[planned.machine], planned.to_host)
    own = plan.machine_by_id[planned.machine]
    made = plan if machine is own else _with_machine(plan, machine)
    made = replace(
        made,
        state=replace(
            plan.state, restores=(replace(planned, to_host=to_host),), restores_at_once=None
        ),
    )
    begin, points = start
    forecast = simulate(made, begin, night.end + DAY, points=points)
    return InANight(
        forecast.restores[0],
        forecast,
        _later(without, forecast, night),
    )


def _with_machine(plan: Plan, machine: Machine) -> Plan:
    """The plan with a machine of another kind or place that no job backs up."""
    jobs = tuple(
        replace(
            job,
            machines=replace(
                job.machines,
                exclude=tuple(dict.fromkeys((*job.machines.exclude, machine.id))),
            ),
        )
        for job in plan.jobs
    )
    machines = tuple(machine if m.id == machine.id else m for m in plan.machines)
    return replace(plan, machines=machines, jobs=jobs)


def _later(without: Forecast, with_it: Forecast, night: Night) -> tuple[tuple[str, float], ...]:
    def ends(forecast: Forecast) -> dict[tuple[str, float], float]:
        return {
            (run.job, run.occurrence): run.ended
            for run in forecast.runs
            if night.start <= run.occurrence < night.end and run.ended is not None
        }

    was, found = ends(without), dict[str, float]()
    for (job, occurrence), ended in ends(with_it).items():
        before = was.get((job, occurrence))
        if before is not None and ended > before + 1.0:
            found[job] = max(found.get(job, 0.0), ended - before)
    return tuple(sorted(found.items(), key=lambda pair: -pair[1]))
