"""A simulation from its middle gives the rest of the same history (section 15)."""

from __future__ import annotations

from dataclasses import asdict, replace

from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.core.simulation.exposure import machine_exposure

JUST_AFTER = 2e-6


def _machine(machine):
    """A machine-run; when and in which order its disks had moved is not written down."""
    told = {**machine._asdict(), "readings": sorted(machine.readings)}
    del told["account"]
    return told


def rest_of(forecast, instant):
    """What of a history had not ended at an instant, as plain values."""
    after = instant + JUST_AFTER
    return {
        "runs": [
            {
                **run._asdict(),
                "outcomes": {k: n for k, n in run.outcomes.items() if n},
                "machines": [_machine(m) for m in run.machines],
            }
            for run in forecast.runs
            if (run.ended > after if run.ended is not None else run.occurrence > after)
        ],
        "copies": sorted(
            (
                (c.job, c.machine, c.repository, c.occurrence, c.queued, c.start, c.ended,
                 c.wire_bytes)
                for c in forecast.copies
                if c.ended is None or c.ended > after
            ),
            key=lambda c: tuple(-1.0 if x is None else x for x in c),
        ),
        "restores": [
            r._asdict()
            for r in forecast.restores
            if not (r.outcome and r.whole is not None and r.whole <= after)
        ],
        "points": [
            (p.job, p.machine, p.repository, p.kind, p.at, p.exists_from, p.stored_bytes, p.usable,
             p.chain_points, p.chain_bytes)
            for p in forecast.points
        ],
        "exposure": [
            machine_exposure(machine, forecast.newest_points[machine.id], instant, forecast.to)
            for machine in forecast.plan.machines
        ],
        "end_bytes": [s.end_bytes for s in forecast.space],
    }  # fmt: skip


def plain(value):
    """Named tuples and dataclasses as dictionaries and lists."""
    if hasattr(value, "_asdict"):
        return plain(value._asdict())
    if hasattr(value, "__dataclass_fields__"):
        return plain(asdict(value))
    if isinstance(value, dict):
        return {str(key): plain(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [plain(item) for item in value]
    return value


def _close(one, other, path=""):
    """Differences of two plain values beyond the tolerances of the model."""
    if isinstance(one, float | int) and isinstance(other, float | int):
        if abs(one - other) <= max(0.01, 1e-6 * max(abs(one), abs(other))):
            return []
    elif isinstance(one, dict) and isinstance(other, dict):
        found = []
        for key in sorted(one.keys() | other.keys()):
            if path.endswith("squeeze_s"):
                found += _close(one.get(key, 0.0), other.get(key, 0.0), f"{path}.{key}")
            elif key not in one or key not in other:
                found.append(f"{path}.{key} is on one side only")
            else:
                found += _close(one[key], other[key], f"{path}.{key}")
        return found
    elif isinstance(one, list) and isinstance(other, list):
        if len(one) != len(other):
            return [f"{path}: {len(one)} entries, {len(other)} entries"]
        return [d for i, (a, b) in enumerate(zip(one, other, strict=True))
                for d in _close(a, b, f"{path}[{i}]")]  # fmt: skip
    elif one == other:
        return []
    return [f"{path}: {one!r} is not {other!r}"]


def check_middle(plan, whole, from_, to, instant, *, simulate, state_at):
    """Hold a simulation from an instant against the rest of one that went through it."""
    state = state_at(plan, from_, to, instant)
    file = write_plan(replace(plan, state=state))
    resumed = simulate(read_plan(file), instant, to)
    return _close(plain(rest_of(whole, instant)), plain(rest_of(resumed, instant)))
