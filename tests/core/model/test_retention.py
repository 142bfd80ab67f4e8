"""Which points stay: chains, spans, first fulls of periods, merges."""

from datetime import UTC, date, datetime
from zoneinfo import ZoneInfo

import pytest

from gambrel.core.model.retention import Point, PointStore, linked
from gambrel.core.plan.objects import ExistingPoint, Retention

KEY = (0, 0, 0)
DUBLIN = ZoneInfo("Europe/Dublin")


def at(day, month=11):
    return datetime(2026, month, day, 21, tzinfo=UTC).timestamp()


def chain(*kinds, start=1):
    """A store with one point a day from the first of November; `f`, `i` or `d` for each."""
    store = PointStore()
    names = {"f": "full", "i": "incremental", "d": "differential"}
    for offset, letter in enumerate(kinds):
        kind = names[letter]
        moment = at(start + offset)
        base = store.base_for(KEY, kind)
        store.add(KEY, Point(kind, moment, moment + 600, 10.0, base))
    return store


def kept(store):
    days = [datetime.fromtimestamp(p.at, UTC).day for p in store.chain(KEY)]
    return " ".join(f"{p.kind[0]}{day}" for p, day in zip(store.chain(KEY), days, strict=True))


def apply(store, now, immutable=0.0, **rules):
    store.apply(KEY, Retention(**rules), now, immutable, DUBLIN)
    return kept(store)


def test_what_a_kept_point_needs_is_held():
    assert apply(chain(*"fiii"), at(4), points=1) == "f1 i2 i3 i4"


def test_a_new_full_lets_the_old_chain_go():
    assert apply(chain(*"fiifi"), at(5), points=2) == "f4 i5"


def test_a_differential_holds_only_its_full():
    assert apply(chain(*"fddd"), at(4), points=1) == "f1 d4"


def test_no_rule_keeps_everything():
    assert apply(chain(*"fiifi"), at(30)) == "f1 i2 i3 f4 i5"


def test_exactly_as_old_as_the_span_is_not_younger():
    store = chain(*"fff")
    assert apply(store, at(3), days=2) == "f2 f3"


def test_two_spans_for_fulls_and_the_rest():
    assert apply(chain(*"fififi"), at(6), full_days=4, incremental_days=2) == "f3 f5 i6"


def test_the_newest_usable_point_always_stays():
    assert apply(chain(*"ff"), at(30), days=1) == "f2"


def test_immutable_points_are_wanted():
    assert apply(chain(*"ffff"), at(4), immutable=3, points=1) == "f2 f3 f4"


def test_the_first_full_of_each_of_the_newest_weeks():
    # 1 November 2026 is a Sunday: the week of the 2nd begins with the second point.
    assert apply(chain(*"fffffffffff"), at(11), weekly=2) == "f2 f9 f11"


def test_the_first_full_of_months_and_years_in_the_zone_of_the_site():
    store = PointStore()
    for moment in (
        datetime(2026, 3, 31, 23, 30, tzinfo=UTC),
        datetime(2026, 4, 2, 21, tzinfo=UTC),
        datetime(2026, 5, 2, 21, tzinfo=UTC),
    ):
        store.add(KEY, Point("full", moment.timestamp(), moment.timestamp(), 1.0, None))
    # In Dublin the first of them is already of April.
    assert apply(store, at(3, 5), monthly=2) == "f31 f2"
    assert store.chain(KEY)[0].at == datetime(2026, 3, 31, 23, 30, tzinfo=UTC).timestamp()


def test_space_follows_what_is_kept():
    store = chain(*"fiifi")
    assert store.used_bytes == {0: 50.0}
    apply(store, at(5), points=2)
    assert store.used_bytes == {0: 20.0}


@pytest.mark.parametrize(
    ("rules", "expected", "merged"),
    [
        ({"points": 3}, "f3 i4 i5", 2),
        ({"points": 5}, "f1 i2 i3 i4 i5", 0),
        ({"days": 2}, "f3 i4 i5", 2),
        ({"points": 4, "days": 2}, "f3 i4 i5", 2),
        ({"weekly": 1}, "f1 i2 i3 i4 i5", 0),
    ],
)
def test_a_forever_chain_is_merged_from_its_old_end(rules, expected, merged):
    store = chain(*"fiiii")
    merges = store.merge(KEY, Retention(**rules), at(5), DUBLIN)
    assert (kept(store), len(merges)) == (expected, merged)
    full = store.chain(KEY)[0]
    assert full.stored_bytes == 10.0
    assert all(point.usable for point in store.chain(KEY))
    assert store.newest_usable(KEY) is store.chain(KEY)[-1]
    if merged:
        assert store.chain(KEY)[1].base is full


NINTH = date(2026, 11, 9)


def test_everything_is_kept_to_the_end_of_a_date():
    midnight = datetime(2026, 11, 10, tzinfo=DUBLIN).timestamp()
    assert apply(chain(*"fiifi"), midnight - 1, points=1, until=NINTH) == "f1 i2 i3 f4 i5"
    assert apply(chain(*"fiifi"), midnight, points=1, until=NINTH) == "f4 i5"


def test_the_date_ends_in_the_zone_of_the_site():
    store = chain(*"fff")
    an_hour_before = datetime(2026, 11, 9, 23, tzinfo=UTC).timestamp()
    rule = Retention(points=1, until=NINTH)
    store.apply(KEY, rule, an_hour_before, 0.0, DUBLIN)
    assert kept(store) == "f1 f2 f3"
    store.apply(KEY, rule, an_hour_before, 0.0, ZoneInfo("Europe/Oslo"))
    assert kept(store) == "f3"


def test_a_date_alone_leaves_the_newest_usable_point_after_it():
    assert apply(chain(*"fifi"), at(8), until=NINTH) == "f1 i2 f3 i4"
    assert apply(chain(*"fifi"), at(10), until=NINTH) == "f3 i4"


def test_a_forever_chain_is_not_merged_before_the_date_is_over():
    store, rule = chain(*"fiiii"), Retention(points=3, until=NINTH)
    assert store.merge(KEY, rule, at(9), DUBLIN) == []
    assert len(store.merge(KEY, rule, at(10), DUBLIN)) == 2
    assert kept(store) == "f3 i4 i5"


def test_points_of_a_file_get_their_bases_by_order():
    saved = [
        ExistingPoint("j", "m", "r", kind, at(day), at(day) + 60, 1.0)
        for day, kind in ((1, "incremental"), (3, "incremental"), (2, "full"), (4, "differential"))
    ]
    points = {datetime.fromtimestamp(p.at, UTC).day: p for _, p in linked(saved)}
    assert [points[day].usable for day in (1, 2, 3, 4)] == [False, True, True, True]
    assert points[3].base is points[2]
    assert points[4].base is points[2]
