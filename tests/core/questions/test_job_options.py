"""Options of jobs that the plan file may leave out: what each does to a run, in both engines."""

import pytest
from plans import DAY, FRIDAY_NOON, small_file, small_plan

from gambrel.core.model.restore import newest_restore
from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.core.plan.values import PlanError
from gambrel.core.simulation.reference import simulate as by_the_text
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import GIB, HOUR


def both(plan, days=2):
    one = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + days * DAY)
    other = by_the_text(plan, FRIDAY_NOON, FRIDAY_NOON + days * DAY)
    for mine, theirs in zip(one.runs, other.runs, strict=True):
        assert (mine.job, mine.outcome) == (theirs.job, theirs.outcome)
        assert mine.ended == pytest.approx(theirs.ended)
    return one


def full_of(plan, machine="gate"):
    run = next(r for r in both(plan).runs if r.kind == "full")
    return next(m for m in run.machines if m.machine == machine)


GATE = {"machines": {"ids": ["gate"]}}


def lasting(plan, machine="gate"):
    found = full_of(plan, machine)
    return found.ended - found.start


def unruly(machine="gate", **job):
    file = small_file()
    file["machines"][0]["facts"] = {"quiesces": False}
    file["jobs"][0].update(machines={"ids": [machine]}, **job)
    return read_plan(file)


PLAIN = lasting(small_plan(GATE))
CLOSELY = 0.05
"""Seconds: a longer preparation leaves a little more to release."""


@pytest.mark.parametrize(
    ("options", "seconds"),
    [
        ({"guest_before_s": 40}, 40),
        ({"guest_after_s": 25}, 25),
        ({"quiesce_s": 30, "guest_before_s": 10}, 40),
        ({"standstill": "pause", "standstill_s": 15}, 15),
        ({"standstill": "stop"}, 30),
        ({"if_quiesce_fails": "standstill", "quiesce_s": 5}, 5),
    ],
)
def test_steps_and_halts_count_in_seconds(options, seconds):
    assert lasting(small_plan({**GATE, **options})) == pytest.approx(PLAIN + seconds, abs=CLOSELY)


def test_a_machine_that_cannot_be_quiesced_is_taken_as_it_is():
    assert lasting(unruly(quiesce_s=20)) == pytest.approx(PLAIN + 20, abs=CLOSELY)


def test_or_it_is_halted():
    halted = {"quiesce_s": 20, "if_quiesce_fails": "standstill", "standstill_s": 50}
    assert lasting(unruly(**halted)) == pytest.approx(PLAIN + 70, abs=CLOSELY)
    calm = unruly("fares", **halted)
    assert lasting(calm, "fares") == pytest.approx(PLAIN + 20, abs=CLOSELY)


def test_or_it_is_left_out_once_that_is_known():
    found = full_of(unruly(quiesce_s=20, if_quiesce_fails="leave out"))
    assert (found.outcome, found.source_bytes) == ("cut off", 0)
    assert found.ended - found.start == pytest.approx(40)
    assert full_of(unruly(quiesce_s=0, if_quiesce_fails="leave out")).outcome == "done"


def test_steps_after_stand_in_the_account():
    found = full_of(small_plan({"guest_after_s": 25, "verify": "boot"}))
    parts = {part.kind: part.seconds for part in found.account}
    assert parts["guest steps"] == pytest.approx(25)
    assert parts["verifying"] == pytest.approx(360)
    assert sum(parts.values()) == pytest.approx(found.ended - found.queued)


def test_encrypting_takes_its_part_of_a_streams_ceiling():
    slow = full_of(small_plan({**GATE, "encrypt": True, "encrypt_factor": 0.5}))
    assert slow.moved - slow.start - 20 == pytest.approx(40 * 1024 / (250 * 0.5))
    assert slow.squeeze_s == {"transport": pytest.approx(327.68)}
    assert lasting(small_plan({**GATE, "encrypt_factor": 0.5})) == pytest.approx(PLAIN)


def test_a_job_on_hold_does_not_run_until_the_date():
    held = small_plan({"on_hold": True, "hold_until": "2026-11-07"})
    starts = [run.occurrence for run in both(held).runs]
    free = [run.occurrence for run in both(small_plan()).runs]
    midnight = FRIDAY_NOON + 12 * HOUR
    assert starts == [at for at in free if at >= midnight]
    assert not both(small_plan({"on_hold": True})).runs


def test_who_follows_a_job_waits_for_its_own_hold():
    file = small_file()
    job = file["jobs"][0]
    follower = {**job, "id": "second", "after": "nightly", "on_hold": True}
    del follower["schedules"]
    file["jobs"].append({**follower, "hold_until": "2026-11-07"})
    runs = [run for run in both(read_plan(file), 3).runs if run.job == "second"]
    assert runs
    assert all(run.occurrence >= FRIDAY_NOON + 12 * HOUR for run in runs)


def test_disks_are_left_out_by_rule():
    file = small_file()
    file["machines"][0]["disks"] += [
        {"id": "swap", "datastore": "store", "provisioned_gib": 8, "used_gib": 8, "swap_gib": 8},
        {"id": "dumps", "datastore": "store", "provisioned_gib": 50, "used_gib": 50,
         "holds_backups": True},
        {"id": "app-log", "datastore": "store", "provisioned_gib": 5, "used_gib": 5},
    ]  # fmt: skip
    file["jobs"][0].update(compress=False, skip_swap=False)

    def stored(*rules):
        file["jobs"][0]["exclude_disk_rules"] = list(rules)
        return round(full_of(read_plan(file)).stored_bytes / GIB)

    rule = {"op": "is", "value": True}
    assert stored() == 103
    assert stored({"field": "only_swap", **rule}) == 95
    assert stored({"field": "holds_backups", **rule}) == 53
    assert stored({"field": "disk", "op": "contains", "value": "LOG"}) == 98
    assert stored({"field": "used_gib", "op": "at_most", "value": 8}) == 90
    assert stored({"field": "datastore", "op": "is", "value": "other"}) == 103


def test_paths_are_neither_read_nor_restored():
    path = {"machine": "gate", "disk": "0", "path": "/var/cache", "gib": 10}
    plan = small_plan({"exclude_paths": [path], "compress": False})
    assert full_of(plan).source_bytes == pytest.approx(30 * GIB)
    assert full_of(plan, "fares").source_bytes == pytest.approx(40 * GIB)
    forecast = both(plan)
    newest = newest_restore(plan, plan.machine_by_id["gate"], forecast.points, forecast.to)
    assert newest.written_bytes == 30 * GIB


@pytest.mark.parametrize(
    ("order", "expected"),
    [
        ("listed", ["gate", "fares"]),
        ("largest", ["fares", "gate"]),
        ("smallest", ["gate", "fares"]),
        ("name", ["fares", "gate"]),
    ],
)
def test_machines_of_a_rule_come_in_the_order_of_the_job(order, expected):
    file = small_file()
    file["machines"][1]["disks"][0]["used_gib"] = 60
    rule = [{"field": "kind", "op": "is", "value": "vm"}]
    file["jobs"][0].update(machines={"rules": [rule]}, machine_order=order)
    run = next(iter(both(read_plan(file)).runs))
    assert [m.machine for m in run.machines] == expected


@pytest.mark.parametrize(
    ("options", "place"),
    [
        ({"hold_until": "2026-11-07"}, "hold_until"),
        ({"encrypt_factor": 0}, "encrypt_factor"),
        ({"encrypt_factor": 1.5}, "encrypt_factor"),
        ({"standstill": "freeze"}, "standstill"),
        ({"exclude_disk_rules": [{"field": "tag", "op": "has", "value": "x"}]},
         "exclude_disk_rules[0].field"),
        ({"exclude_paths": [{"machine": "gate", "disk": "9", "path": "/", "gib": 1}]},
         "exclude_paths[0].disk"),
        ({"guest_before_s": -1}, "guest_before_s"),
        ({"notify_to": ["ops", "ops"]}, "notify_to[1]"),
        ({"copies": [{"repository": "vault"}]}, "copies[0].repository"),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused_with_its_place(options, place):
    with pytest.raises(PlanError) as caught:
        small_plan(options)
    assert caught.value.problems[0].path == f"jobs[0].{place}"


def test_all_of_it_is_written_and_read_again():
    plan = small_plan(
        {
            "on_hold": True, "hold_until": "2026-12-01", "machine_order": "name",
            "exclude_disk_rules": [{"field": "only_swap", "op": "is", "value": True}],
            "exclude_paths": [{"machine": "gate", "disk": "0", "path": "/x", "gib": 2}],
            "guest_before_s": 5, "guest_after_s": 6, "if_quiesce_fails": "leave out",
            "standstill": "stop", "standstill_s": 12, "encrypt": True, "encrypt_factor": 0.7,
            "notify": "trouble", "notify_to": ["ops"],
        }
    )  # fmt: skip
    assert read_plan(write_plan(plan)) == plan
