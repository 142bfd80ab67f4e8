"""A plan stored and loaded again is the same plan, to the last bit."""

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from plans import small_file
from sqlalchemy import event, text
from vector_cases import PLAN_CASES, load

from gambrel.core.plan.reading import read_plan
from gambrel.demo import larkmoor
from gambrel.formats import plan_file
from gambrel.store.database import connect, migrate
from gambrel.store.models import Base
from gambrel.store.plan_tables import NotStorable
from gambrel.store.plans import NotFound, store_plan, version_plan


def stored(maker, plan, name="p"):
    with maker.begin() as session:
        head = store_plan(session, name, plan, actor="test")
    with maker() as session:
        return version_plan(session, head.adopted_version)


@pytest.mark.parametrize("name", PLAN_CASES)
def test_the_worked_cases_come_back_as_they_were(maker, name):
    plan = read_plan(load(name)["plan"])
    assert stored(maker, plan) == plan


def test_the_larkmoor_plan_file_round_trips_to_the_byte(maker):
    text_before = plan_file.write(read_plan(larkmoor()))
    assert plan_file.write(stored(maker, plan_file.read(text_before))) == text_before


idents = st.text(
    st.characters(blacklist_categories=["Cs"], blacklist_characters="\x00"), min_size=1, max_size=20
)
numbers = st.floats(0.001, 1e12, allow_nan=False)


@settings(max_examples=30)
@given(names=st.lists(idents, min_size=2, max_size=2, unique=True), size=numbers, rate=numbers)
def test_odd_names_and_any_number_survive(maker, names, size, rate):
    file = small_file()
    for machine, name in zip(file["machines"], names, strict=True):
        machine["id"] = name
        machine["disks"][0].update(used_gib=size, provisioned_gib=size)
    file["jobs"][0]["machines"] = {"ids": names}
    file["links"][0]["mbit_per_s"] = rate
    plan = read_plan(file)
    assert stored(maker, plan) == plan


@pytest.mark.parametrize("pair", [("a", "A"), ("a", "a "), ("a", "à"), ("ß", "ss")])
def test_ids_differ_as_they_do_in_the_file(maker, pair):
    file = small_file()
    for machine, name in zip(file["machines"], pair, strict=True):
        machine["id"] = name
    file["jobs"][0]["machines"] = {"ids": list(pair)}
    plan = read_plan(file)
    assert stored(maker, plan) == plan


def test_dates_up_to_which_all_is_kept_are_stored_with_the_job_and_its_copies(maker):
    file = small_file()
    file["repositories"].append({"id": "attic", "site": "quay"})
    file["jobs"][0]["retention"] = {"points": 3, "until": "2027-01-31"}
    copy = {"repository": "attic", "retention": {"until": "2030-12-31"}}
    file["jobs"][0]["copies"] = [copy]
    plan = read_plan(file)
    again = stored(maker, plan)
    assert again == plan
    assert str(again.jobs[0].copies[0].retention.until) == "2030-12-31"


def test_a_follower_may_stand_before_the_job_that_it_follows(maker):
    jobs = [
        {"id": "second", "machines": {}, "repository": "vault", "after": "first"},
        {"id": "first", "machines": {}, "repository": "vault"},
    ]
    plan = read_plan(small_file(jobs=jobs))
    assert stored(maker, plan) == plan


def test_an_id_too_long_is_refused_by_name_and_nothing_is_stored(maker):
    file = small_file()
    file["jobs"][0]["machines"] = {}
    plan = read_plan(file)
    first, *others = plan.machines
    plan = replace(plan, machines=(replace(first, id="x" * 191), *others))
    with pytest.raises(NotStorable) as caught, maker.begin() as session:
        store_plan(session, "too long", plan, actor="test")
    assert [problem.path for problem in caught.value.problems] == ["machines[0].id"]
    with maker() as session:
        count = session.scalar(text("SELECT COUNT(*) FROM plans WHERE name = 'too long'"))
    assert count == 0


def test_restores_and_what_is_under_way_are_refused_by_name(maker):
    restore = {"id": "r", "machine": "gate", "at": "2026-11-06T12:00:00Z"}
    running = {"at": "2026-11-06T12:00:00Z"}
    plan = read_plan(small_file(state={"restores": [restore], "running": running}))
    with pytest.raises(NotStorable) as caught, maker.begin() as session:
        store_plan(session, "restored", plan, actor="test")
    named = [problem.path for problem in caught.value.problems]
    assert named == ["state.restores", "state.running"]


def test_loading_takes_as_many_queries_for_a_large_plan_as_for_a_small_one(maker, engine):
    counts = []
    for file in (small_file(), larkmoor()):
        with maker.begin() as session:
            head = store_plan(session, "counted", read_plan(file), actor="test")
        seen = []
        event.listen(engine, "before_cursor_execute", lambda *a, into=seen: into.append(a[2]))
        with maker() as session:
            version_plan(session, head.adopted_version)
        counts.append(len(seen))
    assert counts[0] == counts[1] > 0


def test_an_unknown_version_is_not_found(maker):
    with maker() as session, pytest.raises(NotFound):
        version_plan(session, 10**6)


def test_the_migrations_make_the_tables_of_the_models(new_database):
    from alembic.autogenerate import compare_metadata
    from alembic.runtime.migration import MigrationContext

    engine = connect(new_database())
    migrate(engine)
    migrate(engine)
    with engine.connect() as connection:
        found = compare_metadata(MigrationContext.configure(connection), Base.metadata)
    # MariaDB makes an index of its own for each foreign key; the models do not name them.
    assert [str(d) for d in found if d[0] != "remove_index"] == []


def test_every_optional_key_of_paths_is_stored(maker):
    file = small_file()
    file["links"][0].update(encrypted=True, encryption_factor=0.8)
    file["hosts"][0]["proxies"] = ["p1", "p2"]
    file["hosts"].append({"id": "h2", "site": "quay", "proxies": []})
    file["datastores"][0].update(zoned_proxies=["p2"], write_mib_per_s=350.5)
    file["proxies"][0].update(cores=4, memory_gib=12.5, left_out_datastores=["store"])
    file["proxies"].append({"id": "p2", "site": "quay", "slots": 1, "physical": True,
                            "throughput_from": "learned", "mib_per_s": 99.5})  # fmt: skip
    file["proxies"].append({"id": "p3", "site": "quay", "slots": 1, "on_machine": "gate"})
    file["repositories"][0].update(
        kind="tape",
        placement="chain together",
        volumes=[{"id": "one", "capacity_gib": 10}, {"id": "two", "capacity_gib": 20.25}],
    )
    mark = {"value": 90.5, "stated": 100.0}
    for name in ("links", "hosts", "datastores", "proxies", "repositories"):
        file[name][0]["learned"] = [{"key": "mib_per_s", **mark}]
    file["jobs"][0]["learned"] = [{"key": "quiesce_s", **mark}]
    file["transports"] = {"learned": [{"key": "agent_mib_per_s", **mark}]}
    plan = read_plan(file)
    again = stored(maker, plan)
    assert again == plan
    assert plan_file.write(again) == plan_file.write(plan)
