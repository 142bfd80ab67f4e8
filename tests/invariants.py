"""What no forecast may ever break, whatever the plan."""

from collections import defaultdict
from math import inf

from vector_cases import differences

from gambrel.core.plan.objects import Plan
from gambrel.core.simulation import reference
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.simulation.simulate import simulate
from gambrel.formats.result_file import result


def check_engines_agree(plan: Plan, start: float, end: float) -> None:
    """The engine means what the reference says."""
    one, other = (play(plan, start, end) for play in (reference.simulate, simulate))
    assert differences(result(one), result(other)) == []
    assert [r.outcomes for r in one.runs] == [r.outcomes for r in other.runs]
    for a, b in zip(one.runs, other.runs, strict=True):
        assert [m.readings for m in a.machines] == [m.readings for m in b.machines]
    assert _told(one.copies) == _told(other.copies)


def _told(copies):
    return sorted((c.job, c.machine, c.repository, round(c.occurrence)) for c in copies)


def check_pools(found: Forecast) -> None:
    """No pool of slots is ever overdrawn."""
    topology = found.topology
    changes = defaultdict(list)
    for hold in found.loads.holds:
        changes[hold["pool"]] += [(hold["start"], 1), (hold["end"], -1)]
    for pool, steps in changes.items():
        busy = 0
        for _, change in sorted(steps):
            busy += change
            assert 0 <= busy <= topology.slots[pool]


def check_capacities(found: Forecast) -> None:
    """No resource ever carries more than its capacity."""
    topology = found.topology
    loads = defaultdict(lambda: defaultdict(float))
    for resource in set(found.loads.flows_in()[1].resource.tolist()):
        for use in found.loads.uses_of(resource):
            loads[resource][use["start"]] += use["rate"]
            loads[resource][use["end"]] -= use["rate"]
    for resource, changes in loads.items():
        load = 0.0
        for instant in sorted(changes):
            load += changes[instant]
            assert load <= topology.capacity.get(resource, inf) * (1 + 1e-6) + 1
