"""Who starts next where much waits for little: the engine against the reference, and by hand."""

import copy
from itertools import pairwise

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from invariants import check_engines_agree
from plans import DAY, EVERY_DAY, FRIDAY_NOON, small_file

from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.engine import walk as runner
from gambrel.core.simulation.simulate import simulate
from gambrel.formats.result_file import result

ZONE = "Europe/Dublin"
END = FRIDAY_NOON + DAY
SITES = ("quay", "hill")

few = st.integers(1, 2)
maybe_few = st.none() | few


@st.composite
def machines(draw, number):
    site = draw(st.sampled_from(SITES))
    sizes = draw(st.lists(st.integers(1, 40), min_size=1, max_size=3))
    stores = st.sampled_from([f"{site}-d0", f"{site}-d1"])
    return {
        "id": f"m{number}",
        "kind": "vm",
        "host": f"{site}-h{draw(st.integers(0, 1))}",
        "daily_change": 0.1,
        "disks": [
            {"id": str(i), "datastore": draw(stores), "provisioned_gib": 80, "used_gib": size}
            for i, size in enumerate(sizes)
        ],
    }


@st.composite
def jobs(draw, number, count):
    home = draw(st.sampled_from(["quay-r", "hill-r"]))
    names = [f"m{i}" for i in range(count)]
    every = {
        "kind": draw(st.sampled_from(["full", "incremental"])),
        "rrule": "FREQ=HOURLY;INTERVAL=8",
        "start": draw(st.sampled_from(["2026-11-01T20:00", "2026-11-01T20:10"])),
        "time_zone": ZONE,
    }
    job = {
        "id": f"j{number}",
        "priority": draw(st.integers(1, 3)),
        "machines": {"ids": draw(st.lists(st.sampled_from(names), min_size=2, unique=True))},
        "repository": home,
        "schedules": [every],
        "max_streams": draw(st.none() | st.integers(1, 3)),
        "proxies": draw(st.sampled_from([None, None, ["quay-p0", "hill-p1"], ["quay-p1"]])),
        "synthetic_full": draw(st.booleans()),
        "chain": draw(st.sampled_from(["incremental", "forever"])),
        "retention": {"points": 2},
        "stop_after_min": draw(st.none() | st.just(90)),
    }
    if draw(st.booleans()):
        other = "hill-r" if home == "quay-r" else "quay-r"
        job["copies"] = [{"repository": other, "retention": {"points": 2}}]
    return job


@st.composite
def crowded(draw):
    """Many machines in several jobs, few slots of every kind."""
    count = draw(st.integers(4, 12))
    hosts, datastores, proxies, repositories = [], [], [], []
    for site in SITES:
        for i in range(2):
            hosts.append({"id": f"{site}-h{i}", "site": site, "snapshot_slots": draw(maybe_few)})
            proxies.append({"id": f"{site}-p{i}", "site": site, "slots": draw(few)})
            datastores.append(
                {
                    "id": f"{site}-d{i}",
                    "hosts": [f"{site}-h0", f"{site}-h1"],
                    "task_slots": draw(maybe_few),
                }
            )
        slots = draw(st.none() | st.integers(1, 4))
        repositories.append({"id": f"{site}-r", "site": site, "stream_slots": slots})
    return read_plan(
        {
            "format": "gambrel-plan/1",
            "sites": [{"id": site, "time_zone": ZONE} for site in SITES],
            "links": [
                {"id": "wan", "between": list(SITES), "mbit_per_s": 400},
                *({"id": f"{s}-lan", "between": [s, s], "mbit_per_s": 2000} for s in SITES),
            ],
            "hosts": hosts,
            "datastores": datastores,
            "proxies": proxies,
            "repositories": repositories,
            "machines": [draw(machines(i)) for i in range(count)],
            "windows": [
                {
                    "id": "night",
                    "time_zone": ZONE,
                    "open": [{"days": EVERY_DAY, "from": "20:00", "to": "06:00"}],
                }
            ],
            "jobs": [draw(jobs(i, count)) for i in range(draw(st.integers(2, 5)))],
        }
    )


@settings(max_examples=60, deadline=None)
@given(crowded())
def test_what_starts_is_what_walking_the_whole_queue_would_start(plan):
    check_engines_agree(plan, FRIDAY_NOON, END)


@settings(max_examples=10, deadline=None)
@given(crowded(), st.integers(20, 200))
def test_the_record_of_flows_grows_as_it_fills_up(plan, room):
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(runner, "FLOWS_AT_FIRST", (room, 0, room))
        short = simulate(plan, FRIDAY_NOON, END)
    usual = simulate(plan, FRIDAY_NOON, END)
    assert result(short) == result(usual)
    assert short.loads.flows_in()[0].tolist() == usual.loads.flows_in()[0].tolist()


def proxies(*names):
    return [{"id": name, "site": "quay", "slots": 1, "on_host": "h1"} for name in names]


def crowd(count, **keys):
    """A plan of one full for each of some machines, all at eight, on one proxy of one slot."""
    file = small_file(proxies=proxies("p1"))
    machine = file["machines"][0]
    file["machines"] = [{**copy.deepcopy(machine), "id": f"m{i}"} for i in range(count)]
    full = {"kind": "full", "rrule": "FREQ=DAILY", "start": "2026-11-06T20:00", "time_zone": ZONE}
    file["jobs"] = [
        {**file["jobs"][0], "id": f"j{i}", "schedules": [full], "machines": {"ids": [f"m{i}"]}}
        for i in range(count)
    ]
    for name, values in keys.items():
        for job, value in zip(file["jobs"], values, strict=True):
            job[name] = value
    return file


def order_of_starts(file):
    runs = simulate(read_plan(file), FRIDAY_NOON, END).runs
    starts = [(m.start, run.job) for run in runs for m in run.machines]
    return [job for _, job in sorted(starts)]


def test_a_slot_given_back_goes_to_the_first_in_the_queue_again_and_again():
    assert order_of_starts(crowd(6)) == ["j0", "j1", "j2", "j3", "j4", "j5"]


def test_the_later_job_of_a_higher_priority_takes_each_slot_first():
    found = order_of_starts(crowd(6, priority=[1, 2, 3, 3, 4, 5]))
    assert found == ["j5", "j4", "j2", "j3", "j1", "j0"]


def test_who_waits_for_either_of_two_proxies_starts_when_one_is_free():
    file = crowd(3)
    file["proxies"] = proxies("p1", "p2")
    file["machines"][1]["disks"][0]["used_gib"] = 10
    runs = {run.job: run.machines[0] for run in simulate(read_plan(file), FRIDAY_NOON, END).runs}
    assert runs["j0"].start == runs["j1"].start
    assert runs["j2"].start == pytest.approx(runs["j1"].moved)
    assert runs["j2"].readings[0].proxy == runs["j1"].readings[0].proxy


def test_who_may_use_one_proxy_only_lets_others_pass_to_the_free_one():
    file = crowd(4, proxies=[["p1"], ["p1"], None, None])
    file["proxies"] = proxies("p1", "p2")
    runs = {run.job: run.machines[0] for run in simulate(read_plan(file), FRIDAY_NOON, END).runs}
    assert runs["j0"].start == runs["j2"].start < runs["j1"].start
    assert {runs[j].readings[0].proxy for j in ("j0", "j1")} == {"p1"}


def test_a_task_that_waits_for_two_pools_starts_when_both_are_free():
    file = crowd(4)
    file["datastores"] = [{"id": "store", "hosts": ["h1"], "task_slots": 1}]
    starts = [run.machines[0] for run in simulate(read_plan(file), FRIDAY_NOON, END).runs]
    for before, after in pairwise(starts):
        assert after.start == pytest.approx(before.moved)
