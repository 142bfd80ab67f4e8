"""Loads over time, exposure, selection and jobs in words."""

import itertools
import json
from datetime import date
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from plans import DAY, EVERY_DAY, FRIDAY_NOON, small_file, small_plan, weekly

from gambrel.core.loads.load_series import (
    LoadSeries,
    Measure,
    fullest_pool,
    load_names,
    load_series,
)
from gambrel.core.loads.night_loads import loads_in_spans, tightest
from gambrel.core.model.selection import selected_machines
from gambrel.core.nights.nights import week_of
from gambrel.core.plan.objects import Retention
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.exposure import newest_over_time, worst_exposure
from gambrel.core.simulation.forecast import NewestPoint
from gambrel.core.simulation.load_records import HOLD, WAIT
from gambrel.core.simulation.simulate import simulate
from gambrel.core.words import gib, job_clauses, retention_in_words
from gambrel.demo import larkmoor

SIZES = Path(__file__).parents[2] / "sizes.json"


def friday(**changes):
    plan = small_plan({"schedules": [weekly("full", "FR", "20:00")]}, **changes)
    return simulate(plan, FRIDAY_NOON, FRIDAY_NOON + DAY)


def load(name, forecast=None):
    return load_series(forecast or friday(), name, FRIDAY_NOON, FRIDAY_NOON + DAY)


def test_the_slots_of_a_proxy_are_held_from_start_to_the_end_of_moving():
    found = load("slots:proxy:p1")
    assert (found.unit, found.peak, found.capacity) == ("slots", 2, ((FRIDAY_NOON, 2.0),))
    held = 20 + 2 * 40 * 2**30 / 1.6 / 125e6
    assert found.full_s == pytest.approx(held, rel=1e-3)
    assert found.waiting_jobs == ()


def test_a_link_is_full_while_it_squeezes():
    found = load("link:lan")
    assert (found.unit, found.waiting_jobs) == ("Mbit/s", ("nightly",))
    assert found.peak == pytest.approx(1000)
    assert max(value for _, value in found.waiting) == 2


def test_copies_are_told_apart_from_reading():
    file = small_file()
    file["repositories"].append({"id": "attic", "site": "quay"})
    file["jobs"][0]["schedules"] = [weekly("full", "FR", "20:00")]
    file["jobs"][0]["copies"] = [{"repository": "attic", "delay_min": 30}]
    forecast = simulate(read_plan(file), FRIDAY_NOON, FRIDAY_NOON + DAY)
    parts = {part.purpose: part.steps for part in load("link:lan", forecast).parts}
    assert set(parts) == {"read", "copy"}
    assert parts["copy"][0][0] - parts["read"][0][0] > 30 * 60
    moved = {purpose: area(steps) / 8 * 1e6 for purpose, steps in parts.items()}
    assert moved["copy"] == pytest.approx(moved["read"], rel=1e-6)


def area(steps):
    pairs = itertools.pairwise(steps)
    return sum(value * (following[0] - at) for (at, value), following in pairs)


def test_what_waits_for_a_slot_is_counted():
    one = [{"id": "p1", "site": "quay", "slots": 1, "on_host": "h1"}]
    found = load("slots:proxy:p1", friday(proxies=one))
    assert max(value for _, value in found.waiting) == 1
    assert found.waiting_jobs == ("nightly",)


def test_the_capacity_of_a_link_steps_with_its_limits():
    limits = [{"days": EVERY_DAY, "from": "08:00", "to": "18:00", "mbit_per_s": 400}]
    links = [{"id": "lan", "between": ["quay", "quay"], "mbit_per_s": 1000, "limits": limits}]
    capacity = load("link:lan", friday(links=links)).capacity
    hours = [((at - FRIDAY_NOON) / 3600, value) for at, value in capacity]
    assert hours == [(0, 400), (6, 1000), (20, 400)]


def test_the_tightest_load_comes_first():
    forecast = friday()
    span = (FRIDAY_NOON, FRIDAY_NOON + DAY)
    (loads,) = loads_in_spans(forecast, load_names(forecast.plan), [span], 4)
    assert tightest(loads)[0].name == "link:lan"


def test_loads_in_spans_are_what_they_are_over_each_of_them():
    plan = read_plan(larkmoor())
    week = week_of(date(2026, 11, 2), "Europe/Dublin")
    forecast = simulate(plan, week[0].start, week[-1].end)
    spans = [(night.start, night.end) for night in week]
    together = loads_in_spans(forecast, load_names(plan), spans, 24)
    for (start, end), loads in zip(spans, together, strict=True):
        for found in loads:
            alone = load_series(forecast, found.name, start, end)
            limits = [value for _, value in alone.capacity] if alone.capacity else [None]
            assert found.capacity == max(limits)
            assert found.peak == pytest.approx(alone.peak, rel=1e-9, abs=1e-6)
            assert found.full_s == pytest.approx(alone.full_s, abs=1e-3)
            assert found.waiting_jobs == alone.waiting_jobs
            readers = {part.job for part in alone.parts if part.purpose == "read"}
            assert set(found.reading_jobs) == readers
            for told, steps in ((found.total, alone.total), (found.waiting, alone.waiting)):
                assert told == pytest.approx(peaks(steps, start, end, 24), abs=1e-5)


def test_the_pool_that_was_full_longest_is_the_one_whose_series_says_so():
    plan = read_plan(larkmoor())
    friday = week_of(date(2026, 11, 2), "Europe/Dublin")[4]
    forecast = simulate(plan, friday.start, friday.end)
    waits, names = forecast.loads.waits, forecast.topology.pool_names
    told = set()
    for job in range(len(plan.jobs)):
        for end in np.linspace(friday.start, friday.end, 5)[1:]:
            mine = waits[(waits["job"] == job) & (waits["start"] < end)]
            series = [
                load_series(forecast, f"slots:{names[pool]}", friday.start, end)
                for pool in sorted({*mine["pool"].tolist()})
            ]
            longest = max(series, key=lambda load: load.full_s, default=None)
            found = fullest_pool(forecast, job, friday.start, end)
            if longest is None or longest.full_s == 0.0:
                assert found is None
            else:
                assert f"slots:{found}" == longest.name
                told.add(found)
    assert len(told) > 1


def peaks(steps, start, end, count):
    """The largest value in each of `count` equal parts of a span."""
    values = [0.0] * count
    width = (end - start) / count
    ends = [at for at, _ in steps[1:]] + [end]
    for (at, value), until in zip(steps, ends, strict=False):
        for i in range(count):
            if until > start + i * width + 1e-9 and at < start + (i + 1) * width:
                values[i] = max(values[i], value)
    return values


SPANS = st.lists(
    st.tuples(st.integers(-5, 40), st.integers(0, 20), st.integers(0, 4), st.integers(1, 3)),
    max_size=12,
)


def columns(spans, dtype):
    rows = np.zeros(len(spans), dtype)
    rows["start"] = [start for start, *_ in spans]
    rows["end"] = [start + length for start, length, *_ in spans]
    return rows


@settings(max_examples=60)
@given(SPANS, SPANS, st.integers(1, 4), st.tuples(st.integers(0, 36), st.integers(0, 36)))
def test_a_series_is_what_adding_up_second_by_second_gives(used, waits, limit, part):
    measure = Measure("slots:proxy:p", "slots", 1.0, ((0.0, float(limit)),))
    heights = np.array([height for *_, height in used], np.float64)
    series = LoadSeries(
        small_plan(), measure, (columns(used, HOLD), heights), columns(waits, WAIT), (0, 36)
    )
    seconds = range(36)
    load = [sum(h for at, n, _, h in used if at <= s < at + n) for s in seconds]
    waiting = [sum(1 for at, n, *_ in waits if at <= s < at + n) for s in seconds]
    assert series.peak == max(load)
    assert series.full_s == sum(value >= 0.999 * limit for value in load)
    pressed = sum(w > 0 and v >= 0.999 * limit for v, w in zip(load, waiting, strict=True))
    assert series.pressed_s == pressed
    assert [value_at(series.total, s) for s in seconds] == load
    assert [value_at(series.waiting, s) for s in seconds] == waiting
    some = [s for s in seconds if waiting[s]]
    assert series.waited == ((some[0], some[-1] + 1) if some else None)
    start, end = sorted(part)
    mean = sum(load[start:end]) / (end - start) if end > start else 0.0
    assert series.mean(start, end) == pytest.approx(mean)


def value_at(steps, second):
    return next((value for at, value in reversed(steps) if at <= second), 0.0)


def test_an_unknown_load_is_a_key_error():
    with pytest.raises(KeyError):
        load("slots:proxy:ghost")


def test_exposure_counts_the_value_just_before_a_newer_point():
    newest = newest_over_time([NewestPoint(10, 0), NewestPoint(60, 50), NewestPoint(40, -5)])
    assert [point.at for point in newest] == [0, 50]
    assert worst_exposure(newest, 0, 100) == 60
    assert worst_exposure(newest, 0, 200) == 150
    assert worst_exposure([], 0, 100) is None


CONDITIONS = [
    (("name", "starts_with", "FA"), ["fares"]),
    (("name", "contains", "a"), ["gate", "fares"]),
    (("tag", "has", "GOLD"), ["gate"]),
    (("tag", "has_not", "gold"), ["fares"]),
    (("cluster", "is", "qa"), []),
    (("cluster", "is_not", "qa"), ["gate", "fares"]),
    (("datastore", "is", "store"), ["gate", "fares"]),
    (("datastore", "is_not", "store"), []),
    (("site", "is", "QUAY"), ["gate", "fares"]),
    (("used_gib", "at_least", 40), ["gate", "fares"]),
    (("provisioned_gib", "at_most", 79.5), []),
    (("powered_on", "is", False), ["fares"]),
    (("kind", "is", "server"), []),
]


@pytest.mark.parametrize(("condition", "expected"), CONDITIONS, ids=lambda c: " ".join(map(str, c)))
def test_a_condition_selects(condition, expected):
    file = small_file()
    file["machines"][0]["tags"] = ["gold"]
    file["machines"][1]["powered_on"] = False
    field, op, value = condition
    file["jobs"][0]["machines"] = {"rules": [[{"field": field, "op": op, "value": value}]]}
    plan = read_plan(file)
    assert [machine.id for machine in selected_machines(plan, plan.jobs[0])] == expected


def test_a_job_reads_as_a_sentence():
    plan = read_plan(larkmoor())
    said = {c.lead: c.text for c in job_clauses(plan, plan.job_by_id["ticketing-databases"])}
    assert said["Back up"] == "8 machines: folder ticketing and tagged db"
    assert said["as"] == "incremental every day but Friday at 20:00, full on Friday at 21:00"
    assert said["read by"] == "quay-p2, best transport"
    assert said["copied to"] == "hill-disk after 120 min, kept 10 points"
    journal = {c.lead: c.text for c in job_clauses(plan, plan.job_by_id["ticket-journal"])}
    assert journal["as"].startswith("incremental every 20 minutes from 06:10 to 05:40")
    assert journal["limited to"] == "2 streams at once"


@pytest.mark.parametrize(
    ("rule", "said"),
    [
        (Retention(), "everything"),
        (Retention(points=14), "14 points"),
        (Retention(days=5, weekly=8), "5 days and 8 weekly fulls"),
        (Retention(until=date(2027, 1, 31)), "everything until 2027-01-31"),
        (Retention(points=1, until=date(2027, 1, 31)), "1 point, and everything until 2027-01-31"),
    ],
)
def test_a_retention_in_words(rule, said):
    assert retention_in_words(rule) == said


@pytest.mark.parametrize(("size", "said"), json.loads(SIZES.read_text()))
def test_sizes_are_written_as_the_screens_write_them(size, said):
    assert gib(size) == said
