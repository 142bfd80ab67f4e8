"""Why a machine-run took as long as it did: its time, part by part, with what each waited for."""

from __future__ import annotations

from gambrel.core.loads.load_series import fullest_pool
from gambrel.core.simulation.forecast import SLOT_PARTS, Forecast, MachineRun, Run, TimePart


def account_of(forecast: Forecast, run: Run, machine: MachineRun) -> tuple[TimePart, ...]:
    """The parts of `MachineRun.account`, those of waiting with the pool that was full longest.

    They add up to the time from when the machine reached the queue to its end. A wait without a
    pool is one for its turn, or for another run to let go of the machine.
    """
    if machine.queued is None:
        return ()
    position = forecast.plan.job_position[run.job]
    at, parts = machine.queued, []
    for part in machine.account:
        until = at + part.seconds
        if part.kind in SLOT_PARTS:
            part = part._replace(by=fullest_pool(forecast, position, at, until))
        parts.append(part)
        at = until
    return tuple(parts)
