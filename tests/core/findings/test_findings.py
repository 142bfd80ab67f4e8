"""Findings: each class in the smallest plan that has it, and what helps against it."""

import pytest
from plans import DAY, EVERY_DAY, FRIDAY_NOON, small_file, small_plan, weekly

from gambrel.core.findings import RULES, Thresholds, find
from gambrel.core.findings.help import suggestions
from gambrel.core.loads.time_account import account_of
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.simulate import simulate

END = FRIDAY_NOON + 2 * DAY


def look(plan, kind=None, thresholds=None, start=FRIDAY_NOON, end=END):
    forecast = simulate(plan, start, end)
    return find(forecast, start, end, thresholds, kinds=None if kind is None else [kind])


def only(plan, kind, **more):
    found = look(plan, kind, **more)
    assert len(found) == 1, [f.what for f in found]
    return found[0]


def help_for(plan, finding, start=FRIDAY_NOON, end=END):
    forecast = simulate(plan, start, end)
    return suggestions(finding, forecast, start, end, lambda p: simulate(p, start, end))


def slow(**job):
    """A plan whose full takes some hours."""
    machines = small_plan().machines
    disks = [{"id": "0", "datastore": "store", "provisioned_gib": 4000, "used_gib": 4000}]
    return small_plan(
        {"schedules": [weekly("full", "FR", "21:00")], **job},
        machines=[
            {"id": m.id, "kind": "vm", "host": "h1", "disks": disks, "compress_ratio": 1}
            for m in machines
        ],
    )


def test_a_run_past_its_window_says_by_how_much_and_why():
    finding = only(slow(), "over the window")
    assert finding.gravity == "breaks"
    assert finding.figures["worst_s"] == pytest.approx(finding.weight)
    assert "Nightly ends" in finding.what
    assert "Backup network at quay" in finding.why


@pytest.mark.parametrize(
    ("rule", "kind"), [("stop", "cut off"), ("finish", "over the window"), ("run_on", None)]
)
def test_what_becomes_of_work_at_the_end_of_the_window_is_told(rule, kind):
    plan = slow(at_window_end=rule, max_streams=1)
    kinds = {f.kind for f in look(plan)}
    if kind is not None:
        assert kind in kinds
    if rule != "run_on":
        assert "missed" in kinds


def test_machines_without_a_path_are_named():
    finding = only(small_plan({"transport": "direct"}), "no path")
    assert finding.figures["machines"] == 2
    assert [s.id for s in finding.subjects] == ["nightly", "gate", "fares"]
    offered = help_for(small_plan({"transport": "direct"}), finding)
    assert offered.found[0].words == (
        "Nightly: read by any proxy, best transport (was any proxy, direct from storage only)"
    )
    assert offered.found[0].after == 0


def rows(minutes, **more):
    return {
        "kind": "incremental", "every_min": minutes, "from": "20:00", "to": "05:00",
        "days": EVERY_DAY, "start": "2026-01-01", "time_zone": "Europe/Dublin", **more,
    }  # fmt: skip


def test_skipped_runs_and_an_interval_that_is_too_short():
    plan = slow(schedules=[rows(30)], chain="full_only", window=None)
    assert only(plan, "skipped").figures["runs"] > 1
    finding = only(plan, "interval too short")
    assert finding.figures["usual_s"] > finding.figures["interval_s"] == 1800


def test_a_verify_that_runs_into_the_next_run_is_told_apart_and_can_be_helped():
    plan = small_plan({"schedules": [rows(60)], "verify": "boot", "boot_min": 90, "window": None})
    kinds = {f.kind for f in look(plan)}
    assert "verify runs into the next run" in kinds
    assert "skipped" not in kinds
    finding = only(plan, "verify runs into the next run")
    offered = help_for(plan, finding)
    assert offered.found[0].words.startswith("Nightly: checked by a checksum")


def test_a_window_that_never_opens():
    shut = {"id": "night", "time_zone": "Europe/Dublin", "open": []}
    plan = small_plan(windows=[shut])
    found = look(plan, "window never opens")
    assert sorted(f.figures["runs"] for f in found) == [1, 2]


def test_a_start_that_the_clock_moves():
    start = FRIDAY_NOON - 13 * DAY
    plan = small_plan({"schedules": [weekly("full", "SU", "01:30")]})
    finding = only(plan, "start moved by the clock", start=start, end=start + 2 * DAY)
    assert "occurs twice" in finding.what


def test_unprotected_machines_and_the_job_that_would_take_them():
    plan = small_plan({"machines": {"ids": ["gate"]}})
    finding = only(plan, "unprotected")
    assert finding.what.startswith("fares (40 GiB)")
    assert help_for(plan, finding).found[0].words == "Nightly: fares joins"


def test_an_rpo_that_is_missed():
    machines = [
        {"id": "gate", "kind": "vm", "host": "h1", "rpo_hours": 4,
         "disks": [{"id": "0", "datastore": "store", "provisioned_gib": 9, "used_gib": 9}]}
    ]  # fmt: skip
    plan = small_plan({"machines": {"ids": ["gate"]}}, machines=machines)
    assert only(plan, "RPO missed").weight > 0


def test_an_rto_that_is_missed():
    machines = [
        {"id": "gate", "kind": "vm", "host": "h1", "rto_hours": hours,
         "disks": [{"id": "0", "datastore": "store", "provisioned_gib": 900, "used_gib": 900}]}
        for hours in (1, 100)
    ]  # fmt: skip
    plans = [small_plan({"machines": {"ids": ["gate"]}}, machines=[each]) for each in machines]
    finding = only(plans[0], "RTO missed")
    assert finding.weight == pytest.approx(finding.figures["full_s"] - 3600)
    assert "gate" in finding.what and "its RTO is 1 h" in finding.what
    assert "RTO missed" not in {f.kind for f in look(plans[1])}


def test_a_machine_in_two_jobs():
    job = {
        "id": "again", "machines": {"ids": ["gate"]}, "repository": "vault",
        "schedules": [weekly("full", "SA", "22:00")],
    }  # fmt: skip
    plan = small_plan(jobs=[*small_file()["jobs"], job])
    finding = only(plan, "protected twice")
    assert finding.figures["jobs"] == 2
    assert finding.figures["read_again_bytes"] > 0


def test_the_rule_of_three_copies_says_which_part_fails():
    finding = only(small_plan(), "no copy elsewhere")
    assert finding.what == (
        "Nightly: 2 copies instead of 3, 1 repository instead of 2, none at another site."
    )
    assert look(small_plan(), "no copy elsewhere", Thresholds(copies=2, media=1))[0].what == (
        "Nightly: none at another site."
    )


def test_a_disk_that_holds_backups():
    disks = [{"id": "backup-1", "datastore": "store", "provisioned_gib": 90, "used_gib": 80}]
    machines = [{"id": "gate", "kind": "vm", "host": "h1", "disks": disks}]
    plan = small_plan({"machines": {"ids": ["gate"]}}, machines=machines)
    finding = only(plan, "backup disk as a source")
    assert help_for(plan, finding).found[0].after == 0


def test_points_that_only_the_chain_holds():
    plan = small_plan({"retention": {"points": 1}})
    start = FRIDAY_NOON - 7 * DAY
    finding = only(plan, "retention cannot delete", start=start, end=start + 6.9 * DAY)
    assert finding.figures["points"] > 0


def test_a_repository_that_fills():
    repositories = [{"id": "vault", "site": "quay", "capacity_gib": 30}]
    finding = only(small_plan(repositories=repositories), "repository fills")
    assert finding.gravity == "breaks"
    assert finding.figures["peak_bytes"] > finding.figures["capacity_bytes"]


def test_fulls_on_one_night():
    finding = only(small_plan(), "fulls clumped", thresholds=Thresholds(clump_jobs=1))
    assert finding.figures["share"] > 0.9
    assert look(small_plan(), "fulls clumped") == []


def proxies(*more):
    return [{"id": "p1", "site": "quay", "slots": 1, "on_host": "h1"}, *more]


def test_a_squeeze_beside_an_idle_peer_and_the_pin_behind_it():
    other = {"id": "p2", "site": "quay", "slots": 4, "on_host": "h1"}
    plan = small_plan(
        {"proxies": ["p1"], "schedules": [weekly("full", "FR", "21:00")]},
        proxies=proxies(other),
    )
    few = Thresholds(squeeze_hours=0.01)
    finding = look(plan, "squeeze with idle peers", few)[0]
    assert finding.subjects[0].id == "p1"
    assert "Proxy p2, slots have room" in finding.why
    idle = only(plan, "proxy that no job can use")
    assert idle.subjects[0].id == "p2"
    assert help_for(plan, idle).found[0].words == "Nightly: read by any proxy"


def test_a_pin_that_forces_a_worse_transport_and_slots_above_cores():
    better = {
        "id": "p2", "site": "quay", "slots": 9, "cores": 2, "direct_datastores": ["store"],
    }  # fmt: skip
    plan = small_plan({"proxies": ["p1"]}, proxies=proxies(better))
    finding = only(plan, "pin forces a worse transport")
    assert "go by hot-add" in finding.what
    assert "direct access" in finding.why
    assert only(plan, "slots above cores").figures == {"slots": 9, "cores": 2}


@pytest.mark.parametrize(
    ("job", "host", "what", "without"),
    [
        ({"transport": "network"}, None, "is held to the network", "Without that"),
        ({"proxies": ["p1"]}, None, "is pinned to p1", "Without the pin they"),
        ({"transport": "network", "proxies": ["p1", "p2"]}, None, "is held to", "Without that"),
        (
            {"transport": "hot_add", "proxies": ["p1"]}, None,
            "is held to hot-add and is pinned to p1", "Without all of that",
        ),
        ({"proxies": ["p1", "p2"]}, ["p1"], "which is pinned", "Without the pin of the host"),
    ],
)  # fmt: skip
def test_the_cause_of_a_slower_way_is_the_one_that_helps_when_it_goes(job, host, what, without):
    better = {"id": "p2", "site": "quay", "slots": 9, "direct_datastores": ["store"]}
    file = small_file()
    if host:
        file["hosts"][0]["proxies"] = host
    plan = small_plan(job, proxies=proxies(better), hosts=file["hosts"])
    finding = only(plan, "pin forces a worse transport")
    assert what in finding.what
    assert without in finding.why


def test_a_disk_read_across_sites():
    plan = small_plan(
        sites=[{"id": s, "time_zone": "Europe/Dublin"} for s in ("quay", "hill")],
        links=[{"id": "wan", "between": ["quay", "hill"], "mbit_per_s": 500}],
        proxies=[{"id": "far", "site": "hill", "slots": 2}],
    )
    assert only(plan, "disk read across sites").figures["machines"] == 2


def test_every_class_has_its_case_here():
    """A class that nobody looks for would be one that can break unseen."""
    with open(__file__) as file:
        text = file.read()
    assert [kind for kind in RULES if f'"{kind}"' not in text] == []


def test_a_plan_without_troubles_has_no_findings():
    assert look(read_plan(small_file(machines=[], jobs=[], proxies=[]))) == []


# --- the account of a machine-run ----------------------------------------------------------------


def test_accounts_add_up_and_say_what_was_waited_for():
    plan = slow(max_streams=1, verify="boot", synthetic_full=True)
    forecast = simulate(plan, FRIDAY_NOON, END)
    run = forecast.runs[0]
    for machine in run.machines:
        parts = account_of(forecast, run, machine)
        whole = machine.ended - machine.queued
        assert sum(part.seconds for part in parts) == pytest.approx(whole, abs=1e-6)
    done, missed = (next(m for m in run.machines if m.outcome == o) for o in ("done", "missed"))
    kinds = [part.kind for part in account_of(forecast, run, done)]
    assert kinds == ["preparing", "moving", "releasing", "verifying"]
    waiting = account_of(forecast, run, missed)
    assert [(part.kind, part.by) for part in waiting] == [("slot", "job:nightly")]
