"""Edits of sites, links, hosts, datastores, proxies, repositories, windows and calendars."""

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gambrel.core.edits.item_edits import (
    WORDS,
    AddItem,
    ChangeItem,
    OperationError,
    RemoveItem,
    item_value,
    whole_value,
)
from gambrel.core.edits.operations import change_job, operation_from, operation_to_dict
from gambrel.core.model.repository_volumes import placed
from gambrel.core.plan.objects import Proxy, Repository, Volume
from gambrel.core.plan.reading import ITEMS, read_plan, write_plan
from gambrel.core.questions.places import advised_slots, proxy_form
from gambrel.core.simulation.forecast import PointRecord
from gambrel.core.units import GIB
from gambrel.demo import larkmoor

PLAN = read_plan(larkmoor())


def test_a_change_keeps_all_other_values_and_the_plan_it_came_from():
    changed = ChangeItem("proxies", "quay-p2", {"slots": 12, "cores": 16}).apply(PLAN)
    before, after = (
        next(proxy for proxy in plan.proxies if proxy.id == "quay-p2") for plan in (PLAN, changed)
    )
    assert (before.slots, after.slots, after.cores, after.mib_per_s) == (8, 12, 16, 720)
    assert [proxy.id for proxy in changed.proxies] == [proxy.id for proxy in PLAN.proxies]
    back = ChangeItem("proxies", "quay-p2", {"slots": 8, "cores": None}).apply(changed)
    assert back == PLAN


@pytest.mark.parametrize("kind", ITEMS)
def test_an_item_that_is_added_can_be_taken_away_again(kind):
    first = getattr(PLAN, kind)[0]
    value = {**item_value(first, kind), "id": "another"}
    added = AddItem(kind, value).apply(PLAN)
    assert getattr(added, kind)[-1].id == "another"
    assert read_plan(write_plan(added)) == added
    assert RemoveItem(kind, "another").apply(added) == PLAN
    assert set(item_value(first, kind)) <= set(whole_value(first, kind))


@pytest.mark.parametrize("kind", ITEMS)
def test_an_item_that_is_used_stays(kind):
    used = {
        "sites": "quay", "links": None, "hosts": "qa-h1", "datastores": "qa-fast",
        "proxies": "quay-p2", "repositories": "quay-disk", "windows": "night",
        "calendars": "holidays", "jobs": None, "assumptions": None,
    }[kind]  # fmt: skip
    if used is None:
        return
    with pytest.raises(OperationError, match="is used by") as caught:
        RemoveItem(kind, used).apply(PLAN)
    assert caught.value.field == "id"


@pytest.mark.parametrize(
    ("operation", "words"),
    [
        (
            ChangeItem("links", "quay-hill", {"mbit_per_s": 3000}),
            "rate 3000 Mbit/s (was 2000 Mbit/s)",
        ),
        (ChangeItem("links", "quay-hill", {"limits": []}), "link quay-hill: limits by hour"),
        (ChangeItem("links", "quay-hill", {"encrypted": True}), "encrypted yes (was no)"),
        (ChangeItem("hosts", "qa-h1", {"proxies": ["quay-p1"]}), "read by quay-p1 (was any proxy)"),
        (ChangeItem("proxies", "quay-p2", {"slots": 8}), "proxy quay-p2: nothing changes"),
        (AddItem("sites", {"id": "x", "time_zone": "UTC"}), "site x is new"),
        (RemoveItem("sites", "x"), "site x is deleted"),
        (
            change_job("mail", window=None, at_window_end="run_on"),
            "inside no window (was night, what has begun may finish)",
        ),
    ],
)
def test_an_edit_says_what_it_does_and_survives_being_saved(operation, words):
    assert words in operation.describe(PLAN)
    assert operation_from(operation_to_dict(operation)) == operation


def test_a_job_is_put_into_a_window():
    job = (
        change_job("mail", window="norrvik-night", at_window_end="stop")
        .apply(PLAN)
        .job_by_id["mail"]
    )
    assert (job.window, job.at_window_end) == ("norrvik-night", "stop")
    for window, end, field in (
        ("no such", "stop", "window"),
        ("night", "explode", "at_window_end"),
    ):
        with pytest.raises(OperationError) as caught:
            change_job("mail", window=window, at_window_end=end).apply(PLAN)
        assert caught.value.field == field


@pytest.mark.parametrize(
    ("cores", "memory", "expected"),
    [(None, None, None), (8, None, 8), (8, 10, 4), (2, 64, 2), (None, 1, 1)],
)
def test_slots_are_advised_by_what_is_scarcer(cores, memory, expected):
    found = advised_slots(Proxy("p", "s", 4, cores=cores, memory_gib=memory))
    assert (found and found[0]) == expected


def test_what_a_proxy_is_in_words():
    assert proxy_form(Proxy("p", "s", 1)) == "off-host"
    assert proxy_form(Proxy("p", "s", 1, physical=True)) == "a physical machine"
    assert proxy_form(Proxy("p", "s", 1, on_host="h")) == "on host h"
    assert proxy_form(Proxy("p", "s", 1, on_machine="m")) == "the machine m"


@pytest.mark.parametrize(
    ("list_", "value", "field"),
    [
        ("proxies", {"on_host": "qb-h1", "on_machine": "lab-build-01"}, "on_host"),
        ("proxies", {"physical": True, "on_host": "qb-h1"}, "physical"),
        ("proxies", {"on_machine": "no such"}, "on_machine"),
        ("proxies", {"left_out_datastores": ["no such"]}, "left_out_datastores[0]"),
        ("repositories", {"capacity_gib": 1, "volumes": [{"id": "a", "capacity_gib": 1}]},
         "capacity_gib"),
        ("repositories", {"capacity_gib": None, "volumes": [{"id": "a", "capacity_gib": 0}]},
         "volumes[0].capacity_gib"),
        ("repositories", {"capacity_gib": None, "volumes": [{"id": "a", "capacity_gib": 1}] * 2},
         "volumes[1].id"),
        ("links", {"encryption_factor": 0}, "encryption_factor"),
        ("links", {"encryption_factor": 1.5}, "encryption_factor"),
        ("hosts", {"proxies": ["no such"]}, "proxies[0]"),
    ],
)  # fmt: skip
def test_values_that_cannot_be_are_named(list_, value, field):
    first = getattr(PLAN, list_)[0].id
    with pytest.raises(OperationError) as caught:
        ChangeItem(list_, first, value).apply(PLAN)
    assert caught.value.field == field


# --- pools ------------------------------------------------------------------------------------


def point(at, gib, kind="full", machine="m"):
    return PointRecord("j", machine, "r", kind, at, at, gib * GIB, True, 1, gib * GIB, at)


def pool(placement, *sizes):
    volumes = tuple(Volume(name, size) for name, size in zip("abc", sizes, strict=False))
    return Repository("r", "s", volumes=volumes, placement=placement)


def test_the_emptiest_volume_takes_the_next_point_and_ties_go_to_the_first():
    found = placed(pool("most free", 100, 100), [point(i, 30) for i in range(3)])
    assert [(p.points, p.used_bytes / GIB) for p in found] == [(2, 60), (1, 30)]
    assert [p.full_at for p in found] == [None, None]


def test_a_chain_stays_together_even_where_it_does_not_fit():
    points = [point(0, 60), point(1, 30, "incremental"), point(2, 30, "incremental")]
    apart = placed(pool("most free", 100, 100), points)
    together = placed(pool("chain together", 100, 100), points)
    assert [p.points for p in apart] == [1, 2]
    assert [(p.points, p.full_at) for p in together] == [(3, 2), (0, None)]


def test_points_of_other_repositories_and_single_volumes_do_not_matter():
    other = PointRecord("j", "m", "elsewhere", "full", 0, 0, GIB, True, 1, GIB, 0)
    assert [p.points for p in placed(pool("most free", 10), [other])] == [0]
    assert placed(Repository("r", "s", capacity_gib=10), [point(0, 1)]) == ()
    assert pool("most free", 10, 5).space_gib == 15
    assert Repository("r", "s", capacity_gib=7).space_gib == 7


# --- any change at all --------------------------------------------------------------------------

odd = st.one_of(
    st.none(), st.booleans(), st.integers(-5, 5), st.floats(allow_nan=True), st.text(max_size=4),
    st.lists(st.sampled_from(["quay-p1", "qa-fast", "quay", "mon"]), max_size=2),
    st.sampled_from([{"days": ["mon"], "from": "08:00", "to": "09:00", "mbit_per_s": 1}, {}]),
)  # fmt: skip
SMALL = replace(PLAN, state=replace(PLAN.state, points=()))


@settings(max_examples=120, deadline=None)
@given(st.sampled_from(sorted(ITEMS)), st.data())
def test_any_change_is_refused_by_a_key_or_makes_a_plan_that_can_be_written(kind, data):
    item = data.draw(st.sampled_from(getattr(SMALL, kind)))
    keys = [*ITEMS[kind].keys, "no such key"]
    changes = data.draw(st.dictionaries(st.sampled_from(keys), odd, max_size=3))
    operation = ChangeItem(kind, item.id, changes)
    try:
        changed = operation.apply(SMALL)
    except OperationError as error:
        assert error.reason
        assert error.field.split(".")[0].split("[")[0] in {*changes, "id", "job", *keys}
        return
    assert read_plan(write_plan(changed)) == changed
    told = operation.describe(SMALL)
    assert told.startswith(item.name if kind == "jobs" else WORDS[kind])
    others = [(a, b) for a, b in zip(getattr(SMALL, kind), getattr(changed, kind), strict=True)
              if a.id != item.id]  # fmt: skip
    assert all(a == b for a, b in others)
