"""A plan in which change and throughput are other than stated, by factors."""

from __future__ import annotations

from dataclasses import replace

from gambrel.core.plan.objects import Plan
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.layout import Layout

STREAM_KINDS = ("direct", "hot_add", "network", "agent")
"""The transports whose ceilings vary, in the order of their factors."""


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
