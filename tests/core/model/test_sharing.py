"""Max-min fairness by its definition."""

from math import inf

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gambrel.core.model.sharing import OWN_CEILING, UNLIMITED, Demand, fair_rates

RESOURCES = range(4)
amounts = st.floats(0.05, 20).map(lambda x: round(x, 3))
uses = st.dictionaries(st.sampled_from(RESOURCES), amounts, max_size=3).map(
    lambda found: tuple(sorted(found.items()))
)
demands = st.lists(
    st.builds(
        Demand,
        share=st.sampled_from([0.5, 1.0, 2.0, 3.0]),
        ceiling=st.none() | amounts,
        uses=uses,
        count=st.integers(1, 3),
    ),
    min_size=1,
    max_size=7,
)
capacities = st.dictionaries(st.sampled_from(RESOURCES), st.floats(0, 100), max_size=4)


def used(asked, rates, resource):
    return sum(
        rate * use * demand.count
        for demand, rate in zip(asked, rates, strict=True)
        for name, use in demand.uses
        if name == resource
    )


@given(demands, capacities)
def test_no_capacity_and_no_ceiling_is_exceeded(asked, capacity):
    rates = [allotment.rate for allotment in fair_rates(asked, capacity)]
    for demand, rate in zip(asked, rates, strict=True):
        assert demand.ceiling is None or rate <= demand.ceiling * (1 + 1e-9)
    finite = [0.0 if rate == inf else rate for rate in rates]
    for resource, limit in capacity.items():
        assert used(asked, finite, resource) <= limit * (1 + 1e-6) + 1e-9


@given(demands, capacities)
def test_nobody_can_gain_without_a_poorer_one_losing(asked, capacity):
    """A stream below its ceiling uses a full resource on which nobody is richer than it is."""
    allotted = fair_rates(asked, capacity)
    rates = [a.rate for a in allotted]
    for i, (demand, allotment) in enumerate(zip(asked, allotted, strict=True)):
        if allotment.squeeze in (OWN_CEILING, UNLIMITED):
            continue
        resource = allotment.squeeze
        level = rates[i] / demand.share
        assert used(asked, rates, resource) == pytest.approx(capacity[resource], rel=1e-6, abs=1e-6)
        for other, rate in zip(asked, rates, strict=True):
            if any(name == resource and use > 0 for name, use in other.uses):
                assert rate / other.share <= level * (1 + 1e-6) + 1e-12


@given(demands, capacities, st.randoms())
def test_rates_do_not_depend_on_the_order_of_the_streams(asked, capacity, random):
    order = list(range(len(asked)))
    random.shuffle(order)
    straight = fair_rates(asked, capacity)
    shuffled = fair_rates([asked[i] for i in order], capacity)
    for position, i in enumerate(order):
        assert shuffled[position].rate == pytest.approx(straight[i].rate, rel=1e-9)


def test_alike_streams_share_as_if_they_were_listed_one_by_one():
    one = Demand(1.0, None, ((0, 1.0),))
    many = fair_rates([Demand(1.0, None, ((0, 1.0),), count=3), one], {0: 100.0})
    assert [a.rate for a in many] == pytest.approx([25.0, 25.0])


def test_the_first_of_several_binding_resources_is_the_squeeze():
    both = Demand(1.0, None, ((2, 1.0), (1, 1.0)))
    assert fair_rates([both], {1: 10.0, 2: 10.0})[0].squeeze == 1


def test_a_closed_resource_stops_its_streams_and_no_others():
    closed, other = Demand(1.0, None, ((0, 1.0),)), Demand(1.0, 5.0, ((1, 1.0),))
    assert [a.rate for a in fair_rates([closed, other], {0: 0.0, 1: 9.0})] == [0.0, 5.0]
