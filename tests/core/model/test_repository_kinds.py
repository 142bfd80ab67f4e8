"""What the kind of a repository means for a night and for a restore."""

from dataclasses import replace
from itertools import pairwise

import pytest
from plans import FRIDAY_NOON, small_file, small_plan, weekly

from gambrel.core.model.restore import newest_restore
from gambrel.core.plan.places import USUAL_OF_KIND
from gambrel.core.plan.reading import read_plan
from gambrel.core.questions.job_problems import job_problems
from gambrel.core.simulation import reference
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import DAY, MIB


def plan_with(job=None, **repository):
    file = small_file()
    file["repositories"][0].update(repository)
    file["jobs"][0].update(job or {})
    return read_plan(file)


def played(plan, days=9):
    one = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + days * DAY)
    other = reference.simulate(plan, FRIDAY_NOON, FRIDAY_NOON + days * DAY)
    assert [r.ended for r in one.runs] == pytest.approx([r.ended for r in other.runs])
    return one


def test_keys_at_their_defaults_change_nothing():
    usual = USUAL_OF_KIND["disk"]
    assert plan_with(**usual).repositories == small_plan().repositories


def test_a_sequential_repository_takes_one_stream_at_a_time():
    job = {"schedules": [weekly("full", "FR", "21:00")]}
    several = played(plan_with(job, stream_slots=4), 1)
    one = played(plan_with(job, stream_slots=4, sequential=True), 1)

    def at_once(forecast):
        spans = [(m.start, m.moved) for run in forecast.runs for m in run.machines]
        return max(sum(a <= start < b for a, b in spans) for start, _ in spans)

    assert at_once(several) == 2
    starts = sorted((m.start, m.moved) for run in one.runs for m in run.machines)
    assert all(after >= moved for (_, moved), (after, _) in pairwise(starts))


def test_a_full_is_not_made_in_a_sequential_repository():
    job = {
        "synthetic_full": True,
        "schedules": [weekly("full", "FR", "21:00"), weekly("incremental", "SU", "21:00")],
    }
    made = [m.synthetic for r in played(plan_with(job)).runs for m in r.machines]
    read = [m.synthetic for r in played(plan_with(job, sequential=True)).runs for m in r.machines]
    assert any(made) and not any(read)
    words = [p.words for p in job_problems(plan_with(job, sequential=True),
                                           plan_with(job, sequential=True).jobs[0],
                                           FRIDAY_NOON)]  # fmt: skip
    assert any("fulls are read from the machines" in said for said in words)


def test_a_machine_from_a_sequential_repository_starts_when_it_is_whole():
    plan = plan_with(sequential=True, first_byte_s=90)
    quick = small_plan()
    for each in (plan, quick):
        forecast = played(each, 1)
        machine = forecast.plan.machines[0]
        found = newest_restore(forecast.plan, machine, forecast.points, forecast.to)
        if each is plan:
            assert found.instant_s == found.full_s == found.files_s
            slow = found
        else:
            assert found.instant_s < found.full_s
            assert slow.full_s == pytest.approx(found.full_s + 90 * found.points)


def test_the_read_rate_follows_the_write_rate_where_nobody_stated_it():
    repository = plan_with(read_mib_per_s=None, ingest_mib_per_s=200, read_part=0.35).repositories[
        0
    ]
    assert repository.read_rate_mib_per_s == pytest.approx(70)
    assert replace(repository, read_mib_per_s=90.0).read_rate_mib_per_s == 90
    assert replace(repository, ingest_mib_per_s=None).read_rate_mib_per_s is None
    job = {"schedules": [weekly("full", "FR", "21:00")], "verify": "checksum"}
    plan = plan_with(job, read_mib_per_s=None, ingest_mib_per_s=200, read_part=0.5, first_byte_s=20)
    for run in played(plan, 1).runs:
        for m in run.machines:
            assert m.ended - m.released == pytest.approx(20 + m.stored_bytes / (100 * MIB))
