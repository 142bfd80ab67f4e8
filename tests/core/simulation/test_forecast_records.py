"""What a forecast keeps until it is looked at, and what is found in its records."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from plans import DAY, FRIDAY_NOON, small_plan, weekly

from gambrel.core.simulation import reference
from gambrel.core.simulation.forecast import (
    FLOW,
    HOLD,
    SOUGHT_ONE_BY_ONE,
    WAIT,
    Lazily,
    LoadRecords,
    Machines,
    Uses,
    totals_of,
)
from gambrel.core.simulation.simulate import simulate


def counted(items):
    """Something made when it is looked into, and how often it was made."""
    made = []

    def make():
        made.append(1)
        return tuple(items)

    return make, made


def test_what_is_made_lazily_is_made_once_and_knows_its_length_before():
    make, made = counted("abc")
    lazily = Lazily(3, make)
    assert len(lazily) == 3
    assert made == []
    assert (lazily[0], lazily[-1], lazily[1:]) == ("a", "c", ("b", "c"))
    assert list(lazily) == ["a", "b", "c"]
    assert made == [1]


def test_what_has_no_known_length_is_made_for_it():
    make, made = counted("abc")
    assert len(Lazily(-1, make)) == 3
    assert made == [1]


def test_what_is_made_lazily_equals_what_it_holds():
    one, other = (Lazily(2, counted("ab")[0]) for _ in range(2))
    assert one == other == ("a", "b")
    assert hash(one) == hash(other)
    assert one != ("a", "c")
    assert one != 2


class Details:
    def __init__(self):
        self.asked = []

    def machines(self, run):
        self.asked.append(("machines", run))
        return ("m",) * run

    def totals(self, run):
        self.asked.append(("totals", run))
        return f"totals of {run}"


def test_the_totals_of_a_run_are_told_without_its_machines():
    details = Details()
    machines = Machines(2, details, 2)
    assert len(machines) == 2
    assert machines.totals() == "totals of 2"
    assert details.asked == [("totals", 2)]
    assert list(machines) == list(machines) == ["m", "m"]
    assert details.asked == [("totals", 2), ("machines", 2)]


def test_a_run_of_nobody_asks_for_no_machines():
    details = Details()
    assert list(Machines(0, details, 0)) == []
    assert details.asked == []


@pytest.mark.parametrize("play", [reference.simulate, simulate])
def test_runs_are_records_that_nobody_changes(play):
    plan = small_plan({"schedules": [weekly("full", "FR", "20:00")]})
    (run,) = play(plan, FRIDAY_NOON, FRIDAY_NOON + DAY).runs
    for record, name in ((run, "job"), (run.machines[0], "machine"), (run.totals(), "moved")):
        with pytest.raises(AttributeError):
            setattr(record, name, "other")
    assert run.totals().source_bytes == totals_of(run.machines).source_bytes


POOLS = st.lists(st.integers(0, 8), max_size=60)


def records(pools, squeezes, uses):
    """Records of nothing but numbers; row i is told from the others by its start."""

    def table(dtype, name, values):
        rows = np.zeros(len(values), dtype)
        rows[name] = values
        rows["start"] = np.arange(len(values))
        return rows

    used = Uses(
        np.array([0, *np.cumsum([len(u) for u in uses])], np.int64),
        np.array([resource for u in uses for resource in u], np.int64),
        np.array([10.0 * i for i, u in enumerate(uses) for _ in u], np.float64),
    )
    return LoadRecords(
        lambda: table(HOLD, "pool", pools),
        lambda: table(WAIT, "pool", pools),
        lambda: (table(FLOW, "squeeze", squeezes), used),
    )


@given(POOLS, st.lists(st.integers(0, 9), min_size=SOUGHT_ONE_BY_ONE + 3, max_size=12))
def test_the_rows_of_a_pool_are_the_same_however_often_others_were_asked_for(pools, asked):
    loads = records(pools, [], [])
    for pool in asked:
        rows = [i for i, value in enumerate(pools) if value == pool]
        assert loads.holds_of(pool)["start"].tolist() == rows
        assert loads.waits_of(pool)["start"].tolist() == rows
        assert loads.holds_of(pool) is loads.holds_of(pool)


@given(st.lists(st.tuples(st.integers(-2, 6), st.sets(st.integers(0, 6), max_size=3)), max_size=40))
def test_the_uses_of_a_resource_are_those_of_the_flows_that_use_it(flows):
    uses = [sorted(used) for _, used in flows]
    loads = records([], [squeeze for squeeze, _ in flows], uses)
    for resource in range(7):
        users = [i for i, used in enumerate(uses) if resource in used]
        found = loads.uses_of(resource)
        assert found["start"].tolist() == users
        assert found["rate"].tolist() == [10.0 * i for i in users]
        squeezed = [i for i, (squeeze, _) in enumerate(flows) if squeeze == resource]
        assert loads.squeezed_by(resource)["start"].tolist() == squeezed


def test_records_are_made_when_they_are_looked_into_and_once():
    made = []

    def rows(name, dtype):
        made.append(name)
        return np.zeros(1, dtype)

    loads = LoadRecords(
        lambda: rows("holds", HOLD),
        lambda: rows("waits", WAIT),
        lambda: (rows("flows", FLOW), Uses(np.zeros(2, np.int64), np.zeros(0), np.zeros(0))),
    )
    assert made == []
    assert len(loads.holds) == len(loads.holds) == 1
    assert len(loads.uses.rate) == 0
    assert len(loads.flows) == 1
    assert made == ["holds", "flows"]
