"""Why a machine-run took as long as it did: its time, part by part, with what each waited for."""

from __future__ import annotations

from dataclasses import replace

from gambrel.core.forecast import Forecast, MachineRun, Run, TimePart
from gambrel.core.series import load_table


def account_of(forecast: Forecast, run: Run, machine: MachineRun) -> tuple[TimePart, ...]:
    """The parts of `MachineRun.account`, those of waiting with the pool that was full longest.

    They add up to the time from when the machine reached the queue to its end. A wait without a
    pool is one for its turn, or for another run to let go of the machine.
    """
    if machine.queued is None:
        return ()
    position = forecast.plan.job_position[run.job]
    waits = forecast.loads.waits
    mine = waits[waits["job"] == position]
    names = forecast.topology.pool_names
    at, parts = machine.queued, []
    for part in machine.account:
        until = at + part.seconds
        if part.kind in ("slot", "disk slot", "transform slot"):
            wanted = mine[(mine["start"] < until) & (mine["end"] > at)]
            pools = sorted(set(wanted["pool"].tolist()))
            loads = load_table(forecast, [f"slots:{names[p]}" for p in pools], at, until)
            longest = max(loads, key=lambda load: load.full_s, default=None)
            if longest is not None and longest.full_s > 0:
                part = replace(part, by=longest.name.removeprefix("slots:"))
        parts.append(part)
        at = until
    return tuple(parts)
