"""A plan in which change and throughput are other than stated, by factors."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from math import hypot
from statistics import median

import numpy as np

from gambrel.core.plan.objects import Plan
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.layout import Layout

STREAM_KINDS = ("direct", "hot_add", "network", "agent")
"""The transports whose ceilings vary, in the order of their factors."""


@dataclass(frozen=True, slots=True)
class Spread:
    """How much things vary: standard deviations of the logarithm of their factors.

    Attributes:
        change: of the daily change of one machine, from one week to another.
        rate: of a shared rate: datastore, NIC, proxy, link, repository. Limits that somebody has
            set, of a job or of a link by the hour, do not vary.
        stream: of the ceiling of one stream, by transport.
        machines, rates, streams: of single machines by id, shared resources by name, and transports
            as "hot_add", where they are known to vary otherwise than the others.
        together: (how much, machines) of what machines have in common.
    """

    change: float = 0.35
    rate: float = 0.08
    stream: float = 0.08
    machines: Mapping[str, float] = field(default_factory=dict)
    rates: Mapping[str, float] = field(default_factory=dict)
    streams: Mapping[str, float] = field(default_factory=dict)
    together: tuple[tuple[float, frozenset[str]], ...] = ()

    @property
    def change_of_one(self) -> float:
        """How much the change of a machine varies with what it has in common with others; the
        middle of all that are known."""
        common = {machine: much for much, machines in self.together for machine in machines}
        known = [hypot(own, common.get(machine, 0.0)) for machine, own in self.machines.items()]
        return median(known) if known else self.change


USUAL_SPREAD = Spread()
"""Used for want of a ledger: change is within half and double in 95 weeks of 100, rates are
within 15 %."""


def drawn(
    layout: Layout, plan: Plan, spread: Spread, seed: int, number: int
) -> tuple[Layout, Plan]:
    """A plan as it is in one draw: each factor from a lognormal distribution of median 1.

    A draw depends on the seed and its own number only, so that draws may be made anywhere, and two
    plans of the same estate can be looked at in the same draws (common random numbers).
    """
    random = np.random.default_rng((seed, number))
    names = [machine.id for machine in plan.machines]
    change = _factors(random, names, spread.machines, spread.change)
    resources = layout.topology.resource_names
    # Limits of jobs do not vary; if they were drawn, a job more would change all later draws.
    shared = [i for i, name in enumerate(resources) if not name.startswith("job:")]
    rates = np.ones(len(resources))
    rates[shared] = _factors(random, [resources[i] for i in shared], spread.rates, spread.rate)
    streams = _factors(random, STREAM_KINDS, spread.streams, spread.stream)
    for much, machines in spread.together:
        factor = np.exp(much * random.standard_normal())
        change[[name in machines for name in names]] *= factor
    return vary(layout, plan, change, rates, streams)


def _factors(
    random: np.random.Generator, names: Sequence[str], known: Mapping[str, float], usual: float
) -> t.Floats:
    spreads = np.array([known.get(name, usual) for name in names])
    return np.exp(spreads * random.standard_normal(len(names)))


def vary(
    layout: Layout, plan: Plan, change: t.Floats, rates: t.Floats, streams: t.Floats
) -> tuple[Layout, Plan]:
    """Arrays and a plan with factors on what varies.

    What somebody has set is what it is: the limits of jobs, and of links by the hour.

    Args:
        layout: that of the plan.
        change: factors on the daily change, by machine.
        rates: factors on the rates of shared resources, by resource of the layout.
        streams: factors on the ceiling of a stream, by `STREAM_KINDS`.
    """
    rates = rates.copy()
    rates[[name.startswith("job:") for name in layout.topology.resource_names]] = 1.0
    first = layout.topology.resource(f"link:{plan.links[0].id}") if plan.links else 0
    links = tuple(
        replace(link, mbit_per_s=link.mbit_per_s * float(factor))
        for link, factor in zip(plan.links, rates[first : first + len(plan.links)], strict=True)
    )
    return layout.varied(change, rates, streams), replace(plan, links=links)
