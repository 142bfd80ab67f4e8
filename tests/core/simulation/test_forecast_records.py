"""What a forecast keeps until it is looked at, and what is found in its records."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from plans import DAY, FRIDAY_NOON, small_plan, weekly
from vector_cases import load

from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation import reference
from gambrel.core.simulation.forecast import Lazily, Machines, copies_within, totals_of
from gambrel.core.simulation.load_records import SOUGHT_ONE_BY_ONE, STRETCH, LoadRecords, Pools
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import HOUR


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


def forecast_of(name):
    case = load(name)
    start, end = (parse_instant(case[key]) for key in ("from", "to"))
    return simulate(read_plan(case["plan"]), start, end)


class Source:
    """Records of one pool each; row i is told from the others by its start."""

    def __init__(self, pools=()):
        self.pools = pools
        self.made = []

    def rows(self, name):
        self.made.append(name)
        rows = np.zeros(len(self.pools), STRETCH)
        rows["start"] = np.arange(len(rows))
        return rows, Pools(np.arange(len(rows) + 1), np.array(self.pools, np.int32))

    def holds_in(self, start, end):
        return self.rows("holds")

    def waits_in(self, start, end):
        return self.rows("waits")


@given(POOLS, st.lists(st.integers(0, 9), min_size=SOUGHT_ONE_BY_ONE + 3, max_size=12))
def test_the_rows_of_a_pool_are_the_same_however_often_others_were_asked_for(pools, asked):
    loads = LoadRecords(Source(pools))
    for pool in asked:
        rows = [i for i, value in enumerate(pools) if value == pool]
        assert loads.holds_of(pool)["start"].tolist() == rows
        assert loads.waits_of(pool)["start"].tolist() == rows
        assert loads.holds_of(pool) is loads.holds_of(pool)


def test_records_are_made_when_they_are_looked_into_and_once():
    source = Source([0])
    loads = LoadRecords(source)
    assert source.made == []
    assert len(loads.holds) == len(loads.holds) == 1
    assert source.made == ["holds"]


@pytest.mark.parametrize("name", ["mixed-03.json", "mixed-27.json", "restores/mixed-16.json"])
def test_the_flows_of_a_span_or_a_resource_are_those_of_all_flows_that_are_there(name):
    forecast = forecast_of(name)
    loads, (flows, uses) = forecast.loads, forecast.loads.flows_in()
    assert len(flows)
    owner = np.repeat(np.arange(len(flows)), np.diff(uses.first))
    for resource in range(len(forecast.topology.resource_names)):
        entries = np.flatnonzero(uses.resource == resource)
        found = loads.uses_of(resource)
        for column in ("job", "purpose", "start", "end"):
            assert found[column].tolist() == flows[column][owner[entries]].tolist()
        assert found["rate"].tolist() == uses.rate[entries].tolist()
        assert loads.squeezed_by(resource).tolist() == flows[flows["squeeze"] == resource].tolist()
    middle = float(np.median(flows["start"])) + 0.1
    for start, end in ((-np.inf, middle), (middle, np.inf), (middle - HOUR, middle + HOUR)):
        some, used = loads.flows_in(start, end)
        meets = (flows["start"] < end) & (flows["end"] > start)
        assert some.tolist() == flows[meets].tolist()
        assert used.resource.tolist() == uses.resource[meets[owner]].tolist()
        assert used.rate.tolist() == uses.rate[meets[owner]].tolist()


@pytest.mark.parametrize("name", ["mixed-03.json", "mixed-27.json", "restores/mixed-16.json"])
def test_the_records_of_a_span_are_those_of_all_records_that_meet_it(name):
    forecast = forecast_of(name)
    loads, topology = forecast.loads, forecast.topology
    middle = float(np.median(loads.holds["start"])) + 0.1
    met = 0

    def meeting(rows, start, end):
        return rows[(rows["start"] < end) & (rows["end"] > start)].tolist()

    for span in ((-np.inf, middle), (middle, np.inf), (middle - HOUR, middle + HOUR)):
        within = loads.within(*span)
        for pool in range(len(topology.pool_names)):
            assert within.holds_of(pool).tolist() == meeting(loads.holds_of(pool), *span)
            assert within.waits_of(pool).tolist() == meeting(loads.waits_of(pool), *span)
            met += len(within.holds_of(pool)) + len(within.waits_of(pool))
        for resource in range(len(topology.resource_names)):
            assert within.uses_of(resource).tolist() == meeting(loads.uses_of(resource), *span)
            limited = loads.squeezed_by(resource)
            assert within.squeezed_by(resource).tolist() == meeting(limited, *span)
    assert met > 0


def test_what_finds_the_rows_of_a_resource_is_counted_and_given_back():
    loads = forecast_of("mixed-27.json").loads
    before = loads.nbytes()
    rows = loads.uses_of(0)
    assert loads.nbytes() > before + rows.nbytes
    loads.forget()
    assert loads.nbytes() == 0
    assert loads.uses_of(0).tolist() == rows.tolist()


@pytest.mark.parametrize("name", ["mixed-03.json", "mixed-27.json"])
def test_the_copies_of_a_span_are_those_that_ended_of_runs_that_copy_in_it(name):
    forecast = forecast_of(name)
    copies = [copy for copy in forecast.copies if copy.ended is not None]
    assert copies

    def of(copy):
        return copy.job, copy.occurrence, copy.repository

    middle = float(np.median([copy.start for copy in copies]))
    for start, end in ((-np.inf, middle), (middle, np.inf), (middle - HOUR, middle + HOUR)):
        moving = {of(copy) for copy in copies if copy.start < end and copy.ended > start}
        spans = {
            key: (
                min(copy.start for copy in copies if of(copy) == key),
                max(copy.ended for copy in copies if of(copy) == key),
            )
            for key in {of(copy) for copy in copies}
        }
        between = {key for key, (first, last) in spans.items() if first < end and last > start}
        found = copies_within(forecast.copies, start, end)
        assert list(found) == [copy for copy in copies if of(copy) in between]
        assert moving <= {of(copy) for copy in found}
