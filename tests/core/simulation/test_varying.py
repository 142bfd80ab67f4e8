"""Walks that are set up from one another."""

from datetime import date

import numpy as np
import pytest
from busy_plans import busy_plan

from gambrel.core.nights.nights import night_of, planner_zone
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.layout import layout_of
from gambrel.core.simulation.engine.walk import Walk
from gambrel.core.simulation.known_points import snapshot_of_state
from gambrel.core.simulation.varying import STREAM_KINDS, vary
from gambrel.core.units import DAY

FRIDAY = date(2026, 11, 6)


@pytest.mark.parametrize("seed", range(6))
def test_a_walk_in_other_rates_is_set_up_as_one_from_the_beginning(seed):
    plan = busy_plan(seed)
    start = night_of(FRIDAY, planner_zone(plan)).start
    layout = layout_of(plan)
    random = np.random.default_rng(seed)
    factors = [
        np.exp(0.3 * random.standard_normal(size))
        for size in (len(plan.machines), len(layout.topology.resource_names), len(STREAM_KINDS))
    ]
    other, varied = vary(layout, plan, *factors)
    span = start, start + DAY, snapshot_of_state(plan)
    unrun = Walk(layout, plan, *span)
    twin, plain = unrun.varied(other, varied), Walk(other, varied, *span)
    for name, one, same in zip(t.World._fields, twin.world, plain.world, strict=True):
        assert (one.shape, one.tobytes()) == (same.shape, same.tobytes()), name
    twin.run()
    # Neither what ran nor what is yet to run has lent its arrays to the other.
    again = unrun.varied(other, varied)
    for name, one, same in zip(t.World._fields, again.world, plain.world, strict=True):
        assert one.tobytes() == same.tobytes(), name
