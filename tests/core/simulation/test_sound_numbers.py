"""Answers that once were those of another job, plan or part of a week."""

from dataclasses import replace
from datetime import date

import pytest
from balances import problem_of
from plans import DAY, FRIDAY_NOON, small_file, small_plan, weekly

from gambrel.core.balance.moves import Candidate, is_sound, reaching_proxies
from gambrel.core.edits.item_edits import ChangeItem
from gambrel.core.findings import find
from gambrel.core.model.paths import Topology
from gambrel.core.nights.nights import night_of
from gambrel.core.plan.objects import Proxy
from gambrel.core.plan.reading import read_plan
from gambrel.core.questions import sizing
from gambrel.core.questions.how_sure import draw
from gambrel.core.simulation import reference
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.simulation.simulate import simulate
from gambrel.core.simulation.varying import Spread
from gambrel.core.units import GIB

FRIDAY = night_of(date(2026, 11, 6), "Europe/Dublin")


def two_jobs(**second):
    file = small_file()
    first = file["jobs"][0]
    file["jobs"].append({**first, "id": "second", "machines": {"ids": ["fares"]}, **second})
    first["machines"] = {"ids": ["gate"]}
    return file


def test_ways_of_one_job_do_not_carry_the_limit_of_another():
    plan = read_plan(two_jobs(limit_mbit_per_s=10))
    topology = Topology(plan)
    limit = topology.resource("job:second")
    first, second = plan.jobs
    gate, fares = plan.machines
    for ask in (
        lambda job, machine: topology.unpinned(job, machine, machine.disks[0]),
        lambda job, machine: topology.pinned_to(job, machine, machine.disks[0], "p1"),
    ):
        assert all(limit in way.compressed for way in ask(second, fares))
        assert all(limit not in way.compressed for way in ask(first, gate))


def test_a_new_proxy_is_seen_by_balance():
    plan = small_plan()
    assert reaching_proxies(plan, plan.jobs[0]) == ("p1",)
    more = replace(plan, proxies=(*plan.proxies, Proxy(id="p2", site="quay", slots=1)))
    assert more.machines is plan.machines
    assert set(reaching_proxies(more, more.jobs[0])) == {"p1"}
    near = replace(more.proxies[1], direct_datastores=("store",))
    better = replace(plan, proxies=(plan.proxies[0], near))
    assert set(reaching_proxies(better, better.jobs[0])) == {"p2"}


def test_a_spread_does_not_carry_fulls_out_of_the_horizon():
    daily = {**weekly("incremental", "MO,TU,WE,TH,FR,SA", "20:00"), "start": "2026-11-02T20:00"}
    full = {**weekly("full", "SU", "21:00"), "start": "2026-11-08T21:00"}
    problem = problem_of(small_plan({"schedules": [full, daily]}))
    spread = ChangeItem("jobs", "nightly", {"spread_fulls": 2})
    assert is_sound(problem, Candidate()) is not None
    # The second group's first full would fall on the Monday after.
    assert is_sound(problem, Candidate.of({("nightly", "spread", 0): spread})) is None


def test_a_finding_keeps_its_key_when_other_machines_are_hit():
    def found(minutes):
        plan = small_plan(
            {"schedules": [weekly("full", "FR", "20:00")], "stop_after_min": minutes},
            proxies=[{"id": "p1", "site": "quay", "slots": 1, "on_host": "h1"}],
        )
        forecast = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + DAY)
        return {f.key for f in find(forecast, FRIDAY_NOON, FRIDAY_NOON + DAY) if "job" in f.key}

    assert "cut off job:nightly" in found(1)
    assert "cut off job:nightly" in found(3)


@pytest.mark.parametrize("play", [simulate, reference.simulate], ids=["engine", "reference"])
def test_what_follows_empty_runs_begins_before_anything_is_admitted(play):
    file = small_file()
    file["proxies"] = [{"id": "p1", "site": "quay", "slots": 1, "on_host": "h1"}]
    plain = file["jobs"][0]
    plain |= {"id": "low", "priority": 1, "machines": {"ids": ["gate"]}}
    plain["schedules"] = [weekly("full", "FR", "21:00")]
    empty = {**plain, "id": "a", "machines": {"ids": []}}
    chain = [
        empty,
        *({**empty, "id": to, "after": after} for after, to in (("a", "b"), ("b", "c"))),
        {**plain, "id": "high", "priority": 5, "machines": {"ids": ["fares"]}, "after": "c"},
    ]
    for job in chain[1:]:
        job.pop("schedules")
    file["jobs"] = [plain, *chain]
    forecast: Forecast = play(read_plan(file), FRIDAY_NOON, FRIDAY_NOON + DAY)
    starts = {run.job: run.machines[0].start for run in forecast.runs if run.machines}
    assert starts["high"] == FRIDAY_NOON + 9 * 3600
    assert starts["low"] > starts["high"]


def test_needs_of_a_night_leave_copies_out():
    file = small_file(
        sites=[{"id": s, "time_zone": "Europe/Dublin"} for s in ("quay", "hill")],
        links=[{"id": "lan", "between": ["quay", "quay"], "mbit_per_s": 1000},
               {"id": "wan", "between": ["quay", "hill"], "mbit_per_s": 300}],
        repositories=[{"id": "vault", "site": "quay", "ingest_mib_per_s": 300},
                      {"id": "far", "site": "hill"}],
    )  # fmt: skip
    file["jobs"][0] |= {
        "copies": [{"repository": "far"}],
        "schedules": [weekly("full", "FR", "21:00")],
        "compress": False,
    }
    plan = read_plan(file)
    forecast = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + DAY)
    needs = {need.name: need.bytes for need in sizing.needs(forecast, FRIDAY)}
    assert needs["repository:vault"] == pytest.approx(80 * GIB)
    assert "link:wan" not in needs


def lengths(job, spread, **changes):
    plan = small_plan({"schedules": [weekly("full", "FR", "21:00")], **job}, **changes)
    samples = draw(problem_of(plan), spread, 1, range(6))
    return {round(sample.last_end[4], 3) for sample in samples}


def test_a_limit_that_somebody_has_set_does_not_vary():
    spread = Spread(change=0, rate=0.5, stream=0)
    free = {"links": [], "repositories": [{"id": "vault", "site": "quay"}]}
    assert len(lengths({"limit_mbit_per_s": 100}, spread, **free)) == 1


def test_the_reading_rate_of_a_checksum_varies():
    spread = Spread(change=0, rate=0.5, stream=0)
    vault = {"id": "vault", "site": "quay", "read_mib_per_s": 50}
    job = {"limit_mbit_per_s": 100, "verify": "checksum"}
    assert len(lengths(job, spread, links=[], repositories=[vault])) > 3
