"""What no forecast may ever break, whatever the plan."""

from collections import defaultdict

from gambrel.core.forecast import Forecast


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
    for resource in set(found.loads.uses.resource.tolist()):
        for use in found.loads.uses_of(resource):
            loads[resource][use["start"]] += use["rate"]
            loads[resource][use["end"]] -= use["rate"]
    for resource, changes in loads.items():
        load = 0.0
        for instant in sorted(changes):
            load += changes[instant]
            assert load <= topology.capacity[resource] * (1 + 1e-6) + 1
