"""Who goes first, who waits, and what happens between repositories: cases followed by hand."""

import pytest
from plans import DAY, FRIDAY_NOON, small_file, weekly, window

from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import GIB, MIB

ONE_SLOT = [{"id": "p1", "site": "quay", "slots": 1, "on_host": "h1"}]
AT_EIGHT = [weekly("full", "FR", "20:00")]


def plan_of(*jobs, **changes):
    """One small plan with several jobs; each is given by what differs from the usual one."""
    file = small_file(**changes)
    usual = file["jobs"][0]
    file["jobs"] = [
        {**usual, "schedules": AT_EIGHT, "id": f"j{i}", **job} for i, job in enumerate(jobs)
    ]
    return read_plan(file)


def runs_of(plan, days=1):
    return {run.job: run for run in simulate(plan, FRIDAY_NOON, FRIDAY_NOON + days * DAY).runs}


def starts(*runs):
    return [m.start for run in runs for m in run.machines]


def test_priority_goes_before_position_and_position_before_machine():
    plan = plan_of(
        {"machines": {"ids": ["gate"]}},
        {"machines": {"ids": ["fares"]}, "priority": 5},
        proxies=ONE_SLOT,
    )
    runs = runs_of(plan)
    assert runs["j1"].machines[0].start < runs["j0"].machines[0].start


def test_a_machine_in_two_jobs_is_read_by_one_at_a_time():
    plan = plan_of({"machines": {"ids": ["gate"]}}, {"machines": {"ids": ["gate"]}})
    first, second = (runs_of(plan)[name].machines[0] for name in ("j0", "j1"))
    assert second.start == pytest.approx(first.ended)


def test_a_host_with_one_snapshot_takes_its_machines_one_by_one():
    plan = plan_of({}, hosts=[{"id": "h1", "site": "quay", "snapshot_slots": 1}])
    one, other = runs_of(plan)["j0"].machines
    assert other.start == pytest.approx(one.ended)


def test_the_larger_disk_of_a_machine_goes_first():
    file = small_file(proxies=ONE_SLOT)
    file["machines"][0]["disks"].append(
        {"id": "big", "datastore": "store", "provisioned_gib": 90, "used_gib": 60}
    )
    file["jobs"][0]["machines"] = {"ids": ["gate"]}
    file["jobs"][0]["schedules"] = AT_EIGHT
    (run,) = simulate(read_plan(file), FRIDAY_NOON, FRIDAY_NOON + DAY).runs
    assert [reading.disk for reading in run.machines[0].readings] == ["big", "0"]


def test_of_two_free_proxies_the_one_with_more_room():
    proxies = [
        {"id": "narrow", "site": "quay", "slots": 1, "on_host": "h1"},
        {"id": "wide", "site": "quay", "slots": 4, "on_host": "h1"},
    ]
    machines = runs_of(plan_of({}, proxies=proxies))["j0"].machines
    assert [m.readings[0].proxy for m in machines] == ["narrow", "wide"]


def test_what_may_not_start_in_time_is_missed_and_what_runs_too_long_is_cut_off():
    plan = plan_of(
        {"machines": {"ids": ["gate"]}, "stop_after_min": 3},
        {"machines": {"ids": ["fares"]}, "start_within_min": 2},
        proxies=ONE_SLOT,
    )
    runs = runs_of(plan)
    cut, missed = runs["j0"].machines[0], runs["j1"].machines[0]
    assert (cut.outcome, cut.ended - cut.start) == ("cut off", 180)
    assert 0 < cut.source_bytes < 40 * GIB
    assert (missed.outcome, missed.waiting_s) == ("missed", 120)


def test_jobs_that_follow_run_with_the_kind_of_the_one_before():
    plan = plan_of({}, {"schedules": [], "after": "j0", "before_min": 5})
    runs = runs_of(plan)
    assert runs["j1"].kind == "full"
    assert runs["j1"].occurrence == runs["j0"].ended
    assert runs["j1"].machines[0].queued == runs["j0"].ended + 300


def test_before_and_after_count_into_the_run():
    (run,) = runs_of(plan_of({"before_min": 10, "after_min": 20})).values()
    assert run.machines[0].queued == run.began + 600
    assert run.ended == max(m.ended for m in run.machines) + 1200


def test_a_checksum_reads_what_was_stored():
    (run,) = runs_of(plan_of({"verify": "checksum"})).values()
    machine = run.machines[0]
    release = 10 + 40 * GIB * 0.02 * (machine.moved - machine.start) / DAY / (100 * MIB)
    checked = machine.stored_bytes / (200 * MIB)
    assert machine.ended - machine.moved == pytest.approx(release + checked)


def test_a_synthetic_full_reads_little_and_is_made_in_the_repository():
    schedules = [weekly("full", "FR", "20:00"), weekly("full", "SA", "20:00")]
    repository = {"id": "vault", "site": "quay", "transform_mib_per_s": 100}
    plan = plan_of(
        {"schedules": schedules, "synthetic_full": True, "machines": {"ids": ["gate"]}},
        repositories=[repository],
    )
    first, second = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + 2 * DAY).runs
    made = second.machines[0]
    assert (made.kind, made.synthetic, first.machines[0].synthetic) == ("full", True, False)
    assert made.source_bytes < first.machines[0].source_bytes / 20
    assert made.stored_bytes == first.machines[0].stored_bytes
    transform = 2 * made.stored_bytes / (100 * MIB)
    assert made.ended - made.moved == pytest.approx(transform + 10, abs=1)


def test_copies_of_a_machine_go_one_after_the_other_and_the_first_carries_everything():
    file = small_file()
    file["repositories"].append({"id": "attic", "site": "quay", "ingest_mib_per_s": 1})
    file["jobs"][0].update(
        machines={"ids": ["gate"]},
        copies=[{"repository": "attic", "delay_min": 30}],
        schedules=[weekly("full", "FR", "20:00"), weekly("incremental", "FR", "21:00")],
    )
    forecast = simulate(read_plan(file), FRIDAY_NOON, FRIDAY_NOON + DAY)
    full, change = forecast.copies
    (run, _) = forecast.runs
    assert full.start == pytest.approx(run.machines[0].ended + 1800)
    assert full.wire_bytes == pytest.approx(40 * GIB / 1.6)
    assert change.queued < full.ended == change.start
    kinds = [point.kind for point in forecast.points if point.repository == "attic"]
    assert kinds == ["full", "incremental"]


def test_stop_cuts_off_at_the_windows_end_and_run_on_goes_on():
    outcomes = {}
    for rule in ("stop", "finish", "run_on"):
        plan = plan_of(
            {"at_window_end": rule}, proxies=ONE_SLOT, windows=[window("20:00", "20:03")]
        )
        (run,) = runs_of(plan).values()
        outcomes[rule] = [m.outcome for m in run.machines]
    assert outcomes == {
        "stop": ["cut off", "missed"],
        "finish": ["done", "missed"],
        "run_on": ["done", "done"],
    }
