"""Plan files: what is refused, by which path and for what reason, and that nothing is lost."""

import json

import pytest
from plans import small_file, small_plan
from vector_cases import PLAN_CASES, load

from gambrel.core.plan.instants import format_instant, parse_instant
from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.core.plan.values import PlanError


def problems(file):
    with pytest.raises(PlanError) as caught:
        read_plan(file)
    return {problem.path: problem.reason for problem in caught.value.problems}


def at(file, path, value):
    """The file with a value set at a path such as ("jobs", 0, "priority")."""
    target = file
    for step in path[:-1]:
        target = target[step]
    target[path[-1]] = value
    return file


SCHEDULE = ("jobs", 0, "schedules", 0)

REFUSED = [
    (("sites", 0, "time_zone"), "Europe/Atlantis", "sites[0].time_zone", "IANA time zone"),
    (("sites", 0, "colour"), "red", "sites[0].colour", "not a key that is known"),
    (("links", 0, "between"), ["quay", "nowhere"], "links[0].between[1]", "no site of this plan"),
    (("links", 0, "between"), ["quay"], "links[0].between", "list of two"),
    (("links", 0, "mbit_per_s"), 0, "links[0].mbit_per_s", "not above 0"),
    (("links", 0, "mbit_per_s"), True, "links[0].mbit_per_s", "not a number"),
    (("links", 0, "mbit_per_s"), 10**400, "links[0].mbit_per_s", "not a finite number"),
    (("hosts", 0, "site"), "nowhere", "hosts[0].site", "no site of this plan"),
    (("hosts", 0, "id"), "", "hosts[0].id", "at least one character"),
    (("datastores", 0, "hosts"), ["h1", "h1"], "datastores[0].hosts[1]", "twice"),
    (("proxies", 0, "slots"), 0, "proxies[0].slots", "below 1"),
    (("proxies", 0, "slots"), 1.5, "proxies[0].slots", "whole number"),
    (("repositories", 0, "dedupe_ratio"), 0, "repositories[0].dedupe_ratio", "not above 0"),
    (("machines", 0, "kind"), "phone", "machines[0].kind", "none of vm, server"),
    (("machines", 0, "nic_mbit_per_s"), 10, "machines[0].nic_mbit_per_s", "key of a server"),
    (("machines", 1, "id"), "gate", "machines[1].id", "twice"),
    (("machines", 0, "disks", 0, "used_gib"), 90, "machines[0].disks[0].used_gib", "provisioned"),
    (("machines", 0, "disks", 0, "swap_gib"), 50, "machines[0].disks[0].swap_gib", "used_gib"),
    (("windows", 0, "open", 0, "from"), "25:00", "windows[0].open[0].from", "does not exist"),
    (("windows", 0, "open", 0, "from"), "8pm", "windows[0].open[0].from", "not written like"),
    (("windows", 0, "open", 0, "days"), ["fry"], "windows[0].open[0].days[0]", "none of mon"),
    (("jobs", 0, "priority"), 6, "jobs[0].priority", "above 5"),
    (("jobs", 0, "repository"), "attic", "jobs[0].repository", "no repository of this plan"),
    (("jobs", 0, "window"), "noon", "jobs[0].window", "no window of this plan"),
    (("jobs", 0, "proxies"), ["p9"], "jobs[0].proxies[0]", "no proxy of this plan"),
    (("jobs", 0, "machines"), {"ids": ["ghost"]}, "jobs[0].machines.ids[0]", "no machine of"),
    (("jobs", 0, "machines"), {"rules": [[]]}, "jobs[0].machines.rules[0]", "fewer than 1"),
    (("jobs", 0, "exclude_disks"), [["gate", "9"]], "jobs[0].exclude_disks[0]", "no disk"),
    (("jobs", 0, "after"), "nightly", "jobs[0].after", "one of the two"),
    (("jobs", 0, "retention"), {"points": 0}, "jobs[0].retention.points", "below 1"),
    (("jobs", 0, "copies"), [{"repository": "vault"}], "jobs[0].copies[0].repository", "own"),
    ((*SCHEDULE, "start"), "2026-02-30T10:00", "jobs[0].schedules[0].start", "does not exist"),
    ((*SCHEDULE, "rrule"), "FREQ=SOMETIMES", "jobs[0].schedules[0].rrule", "recurrence rule"),
    ((*SCHEDULE, "rrule"), "FREQ=DAILY;UNTIL=20270101", "jobs[0].schedules[0].rrule", "bare date"),
    ((*SCHEDULE, "rrule"), "FREQ=DAILY;COUNT=2;UNTIL=20270101T000000", "jobs[0].schedules[0].rrule",
     "not both"),
    ((*SCHEDULE, "skip"), ["bank"], "jobs[0].schedules[0].skip[0]", "no calendar of this plan"),
    ((*SCHEDULE, "every_min"), 20, "jobs[0].schedules[0].rrule", "one of the two"),
]  # fmt: skip


@pytest.mark.parametrize(("path", "value", "where", "why"), REFUSED, ids=lambda x: str(x)[:40])
def test_refused_with_path_and_reason(path, value, where, why):
    found = problems(at(small_file(), path, value))
    assert why in found[where]


def test_conditions_refuse_unknown_fields_operators_and_empty_texts():
    rules = [
        [{"field": "mood", "op": "is", "value": "x"}],
        [{"field": "tag", "op": "is", "value": "x"}],
        [{"field": "name", "op": "is", "value": ""}],
        [{"field": "used_gib", "op": "at_least", "value": "1"}],
    ]
    found = problems(at(small_file(), ("jobs", 0, "machines"), {"rules": rules}))
    assert [path.rpartition(".")[2] for path in found] == ["field", "op", "value", "value"]


def test_all_problems_are_told_at_once():
    file = at(small_file(), ("jobs", 0, "priority"), 9)
    file = at(file, ("proxies", 0, "slots"), "two")
    file["extra"] = 1
    assert set(problems(file)) == {"extra", "jobs[0].priority", "proxies[0].slots"}


def test_a_loop_of_followers_is_refused():
    jobs = [
        {"id": a, "machines": {}, "repository": "vault", "after": b}
        for a, b in (("one", "two"), ("two", "one"))
    ]
    assert set(problems(small_file(jobs=jobs))) == {"jobs[0].after", "jobs[1].after"}


@pytest.mark.parametrize("file", [None, [], "plan", 3, {}, {"format": "gambrel-plan/2"}])
def test_what_is_no_plan_file_is_refused(file):
    assert len(problems(file)) == 1


@pytest.mark.parametrize("junk", [None, 3, "x", [1], {"id": 5}, [[]], {}])
@pytest.mark.parametrize("name", ["sites", "machines", "jobs", "windows", "state", "transports"])
def test_junk_is_refused_and_never_breaks_the_reader(name, junk):
    file = small_file()
    if name in ("state", "transports") and junk == {}:
        assert read_plan({**file, name: junk}) == read_plan(file)
        return
    assert problems({**file, name: junk})
    if name != "state" and name != "transports":
        assert problems({**file, name: [junk]})


@pytest.mark.parametrize("name", PLAN_CASES)
def test_written_and_read_again_it_is_the_same_plan(name):
    plan = read_plan(load(name)["plan"])
    written = write_plan(plan)
    assert read_plan(json.loads(json.dumps(written))) == plan
    assert write_plan(read_plan(written)) == written


def test_defaults_are_left_out_of_what_is_written():
    job = write_plan(small_plan())["jobs"][0]
    assert "priority" not in job
    assert job["name"] == "Nightly"


def test_instants():
    assert parse_instant("2026-11-06T21:00:00Z") == parse_instant("2026-11-06T21:00Z")
    assert format_instant(parse_instant("2026-11-06T21:00:00.1239Z")) == "2026-11-06T21:00:00.124Z"
    for text in ("2026-11-06", "2026-11-06T21:00:00", "yesterday", "2026-13-06T21:00:00Z"):
        with pytest.raises(ValueError, match=r"instant|month"):
            parse_instant(text)
