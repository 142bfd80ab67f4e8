"""Machines of one job that go to different repositories."""

from dataclasses import replace

import pytest
from plans import DAY, FRIDAY_NOON, small_file, weekly

from gambrel.core.edits.item_edits import RemoveItem
from gambrel.core.edits.operations import OperationError, apply_all, change_job
from gambrel.core.edits.point_owners import CarryPoints, points_elsewhere
from gambrel.core.edits.splitting import SplitJob
from gambrel.core.estate.differences import with_names
from gambrel.core.model.destinations import destination_of, machines_by_destination
from gambrel.core.plan.reading import PlanError, read_plan
from gambrel.core.questions.places import flows
from gambrel.core.simulation import reference
from gambrel.core.simulation.simulate import simulate
from gambrel.core.words import job_clauses
from gambrel.formats.plan_file import read, write

FARES_TO_ATTIC = [
    {"repository": "attic", "rules": [[{"field": "name", "op": "is", "value": "fares"}]]}
]


def file_of(**job):
    """The small plan with a second repository, far away and slow."""
    file = small_file(
        sites=[
            {"id": "quay", "time_zone": "Europe/Dublin"},
            {"id": "hill", "time_zone": "Asia/Tokyo"},
        ],
        links=[
            {"id": "lan", "between": ["quay", "quay"], "mbit_per_s": 1000},
            {"id": "far", "between": ["quay", "hill"], "mbit_per_s": 200},
        ],
        repositories=[
            {"id": "vault", "site": "quay", "read_mib_per_s": 200},
            {"id": "attic", "site": "hill", "dedupe_ratio": 2, "read_mib_per_s": 50},
            {"id": "third", "site": "quay"},
        ],
    )
    file["jobs"][0].update({"destinations": FARES_TO_ATTIC, **job})
    return file


def plan_of(**job):
    return read_plan(file_of(**job))


def machine_runs(forecast):
    return {m.machine: m for run in forecast.runs for m in run.machines}


def test_the_first_destination_that_names_a_machine_counts_and_the_jobs_own_else():
    every = {"repository": "third", "rules": [[{"field": "kind", "op": "is", "value": "vm"}]]}
    for destinations, expected in (
        ([], {"vault": ["gate", "fares"]}),
        (FARES_TO_ATTIC, {"vault": ["gate"], "attic": ["fares"]}),
        ([*FARES_TO_ATTIC, every], {"attic": ["fares"], "third": ["gate"]}),
        ([every, *FARES_TO_ATTIC], {"third": ["gate", "fares"]}),
    ):
        plan = plan_of(destinations=destinations)
        found = machines_by_destination(plan, plan.jobs[0])
        assert {home: [m.id for m in those] for home, those in found.items()} == expected
        for home, those in found.items():
            assert {destination_of(plan, plan.jobs[0], m) for m in those} == {home}


@pytest.mark.parametrize(
    "more",
    [
        {},
        {"verify": "checksum"},
        {"chain": "forever", "retention": {"points": 1}},
        {"synthetic_full": True, "retention": {"days": 3}},
        {"retention": {"until": "2026-11-08", "points": 2}},
        {"copies": [{"repository": "third", "retention": {"points": 2}}]},
    ],
)
def test_each_machine_comes_out_as_if_it_were_in_a_job_of_its_own(more):
    """Nothing but the job ties the two together here, so two jobs say the same."""
    every_day = [{**weekly("full", "FR", "21:00")}, {**weekly("incremental", "SA", "20:00")}]
    every_day[1]["rrule"] = "FREQ=DAILY"
    job = {"schedules": every_day, **more}
    file = file_of(**job)
    apart = file_of(**job)
    one, two = apart["jobs"][0], dict(apart["jobs"][0], id="other", repository="attic")
    for each, machine in ((one, "gate"), (two, "fares")):
        each.update(destinations=[], machines={"ids": [machine]})
    apart["jobs"] = [one, two]
    span = (FRIDAY_NOON, FRIDAY_NOON + 6 * DAY)
    for play in (simulate, reference.simulate):
        mine, theirs = play(read_plan(file), *span), play(read_plan(apart), *span)
        assert machine_runs(mine) == machine_runs(theirs)

        def kept(found):
            return sorted(
                (p.repository, p.machine, p.kind, p.at, p.exists_from, p.stored_bytes)
                for p in found.points
            )

        assert kept(mine) == kept(theirs)
        assert {p.repository for p in mine.points if p.machine == "fares"} >= {"attic"}
        assert mine.space == theirs.space


@pytest.mark.parametrize(
    ("job", "path"),
    [
        ({"copies": [{"repository": "attic"}]}, "jobs[0].copies[0].repository"),
        ({"repository": "attic"}, "jobs[0].destinations[0].repository"),
        ({"destinations": [{"repository": "attic", "rules": []}]}, "jobs[0].destinations[0].rules"),
        (
            {"destinations": [{**FARES_TO_ATTIC[0], "repository": "gone"}]},
            "jobs[0].destinations[0].repository",
        ),
    ],
)
def test_destinations_that_make_no_sense_are_refused_by_name(job, path):
    with pytest.raises(PlanError) as refused:
        plan_of(**job)
    assert path in str(refused.value)


def test_destinations_stand_in_the_plan_file_and_in_the_sentence():
    plan = plan_of()
    assert read(write(plan)) == plan
    said = {clause.key: clause.text for clause in job_clauses(plan, plan.jobs[0])}
    assert said["to"] == "vault, but fares to attic"


def test_the_map_shows_where_each_machine_goes():
    plan = plan_of(copies=[{"repository": "third"}])
    shown = {(flow.from_, flow.to, flow.by) for flow in flows(plan)}
    for end in ("repository:vault", "repository:attic"):
        assert ("proxy:p1", end, "write") in shown
        assert (end, "repository:third", "copy") in shown
    nobody = plan_of(machines={"ids": []}, destinations=[], copies=[{"repository": "third"}])
    alone = [(flow.from_, flow.to, flow.by) for flow in flows(nobody)]
    assert alone == [("repository:vault", "repository:third", "copy")]


def test_a_repository_to_which_machines_go_cannot_be_removed():
    with pytest.raises(OperationError, match="job nightly"):
        RemoveItem("repositories", "attic").apply(plan_of())


def test_a_machine_of_another_name_goes_where_it_went():
    plan = plan_of()
    renamed = with_names(plan, {"fares": "tickets"})
    assert renamed.jobs[0].destinations[0].rules[0][0].value == "tickets"


def test_points_are_carried_to_where_each_machine_goes():
    at = "2026-11-05T21:00:00Z"
    file = file_of(destinations=[])
    file["state"] = {
        "points": [
            {
                "job": "nightly", "machine": machine, "repository": "vault", "kind": "full",
                "at": at, "exists_from": at, "stored_bytes": 1000,
            }
            for machine in ("gate", "fares")
        ]
    }  # fmt: skip
    plan = read_plan(file)
    changed = apply_all(plan, [change_job("nightly", destinations=FARES_TO_ATTIC)])
    (elsewhere,) = points_elsewhere(changed, changed.jobs[0])
    assert (elsewhere.repository, elsewhere.machines) == ("vault", ("fares",))
    carried = CarryPoints("nightly", "vault").apply(changed)
    where = {p.machine: (p.repository, p.stored_bytes) for p in carried.state.points}
    assert where == {"gate": ("vault", 1000), "fares": ("attic", 500)}
    kinds = {
        m.kind for m in machine_runs(simulate(carried, FRIDAY_NOON, FRIDAY_NOON + DAY)).values()
    }
    assert kinds


def test_a_part_that_is_split_off_keeps_its_destinations_unless_it_goes_elsewhere():
    plan = plan_of()
    for repository, expected in ((None, plan.jobs[0].destinations), ("third", ())):
        part = {"id": "part", "machines": ["fares"], "repository": repository}
        made = SplitJob("nightly", (part,)).apply(plan)
        assert made.job_by_id["part"].destinations == expected
    assert replace(plan.jobs[0], destinations=()).repositories == ("vault",)
