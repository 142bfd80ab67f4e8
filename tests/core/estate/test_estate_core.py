"""Differences between sources and the plan, taking them, going back; coverage and facts."""

from dataclasses import replace
from datetime import date

import pytest
from estates import (
    estate_plan,
    found_server,
    found_vm,
    in_folder,
    inventory,
    known,
    larkmoor_file,
    larkmoor_plan,
)
from hypothesis import given, settings
from hypothesis import strategies as st
from plans import small_file, small_plan

from gambrel.core.estate.coverage import coverage
from gambrel.core.estate.differences import EstateError, accept, differences, in_order
from gambrel.core.estate.effect import job_effects, with_estate_of
from gambrel.core.estate.facts import (
    FactEdit,
    FactError,
    daily_change_of,
    due_for_review,
    sizes_kept,
)
from gambrel.core.estate.inventory import (
    FoundDisk,
    FoundHost,
    FoundSnapshot,
    Inventory,
    InventoryError,
    item_to_dict,
    machine_from_dict,
)
from gambrel.core.model.selection import selected_machines
from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.objects import LeftOut, UserSnapshot
from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.standins.world import LATER_EVENTS, World

TODAY = date(2026, 11, 2)
NOW = parse_instant("2026-11-02T12:00:00Z")
ALPHA = in_folder(found_vm())


def kinds(plan, *machines, **more):
    return [(d.kind, d.words) for d in differences(plan, inventory(*machines, **more))]


def taken(plan, *machines, **more):
    for difference in in_order(differences(plan, inventory(*machines, **more))):
        plan = accept(plan, difference, TODAY)
    return plan


# --- finding and taking -----------------------------------------------------------------------


def test_what_the_source_says_as_the_plan_has_it_is_no_difference():
    assert kinds(estate_plan(), ALPHA) == []


@pytest.mark.parametrize(
    ("machine", "kind", "words"),
    [
        (replace(ALPHA, host="h-2"), "moved", "alpha runs on h2 (was h1)"),
        (replace(ALPHA, name="beta"), "renamed", "alpha is now called beta"),
        (
            replace(ALPHA, disks=(FoundDisk("system", 200.0, 40.0, 4.0, "s-1"),)),
            "grown",
            "alpha: disk system 200 GiB (was 100 GiB)",
        ),
        (
            replace(ALPHA, disks=(FoundDisk("system", 100.0, 55.0, 4.0, "s-1"),)),
            "grown",
            "alpha: disk system 55 GiB used (was 40 GiB)",
        ),
        (replace(ALPHA, powered_on=False), "changed", "alpha: switched off"),
        (replace(ALPHA, tags=("gold",)), "changed", "alpha: gained the tag gold"),
        (
            replace(ALPHA, snapshots=(FoundSnapshot("before", NOW, 4.0),)),
            "changed",
            "alpha: snapshot before was taken",
        ),
        (replace(ALPHA, quiesces=False), "changed", "alpha: cannot be quiesced"),
    ],
)
def test_each_kind_of_difference_is_told_and_is_gone_once_taken(machine, kind, words):
    plan = estate_plan()
    assert kinds(plan, machine) == [(kind, words)]
    assert kinds(taken(plan, machine), machine) == []


def test_a_little_more_used_space_is_no_difference():
    barely = replace(ALPHA, disks=(FoundDisk("system", 100.0, 40.9, 4.0, "s-1"),))
    assert kinds(estate_plan(), barely) == []


def test_a_new_machine_joins_jobs_by_their_rules():
    plan = estate_plan()
    after = taken(plan, ALPHA, in_folder(found_vm("m2", "bravo", role="db")))
    assert [(e.machine, e.job, e.joins, e.by_rule) for e in job_effects(plan, after)] == [
        ("bravo", "nightly", True, True)
    ]
    bravo = after.machine_by_id["bravo"]
    assert (bravo.daily_change, bravo.facts.change_from) == (0.04, "role")
    assert bravo.facts.known_since == TODAY


def test_a_machine_that_is_gone_keeps_its_points_and_leaves_its_jobs():
    plan = estate_plan()
    after = taken(plan)
    assert after.machine_by_id["alpha"].facts.gone_since == TODAY
    assert selected_machines(after, after.jobs[0]) == []
    assert after.state == plan.state
    assert [e.joins for e in job_effects(plan, after)] == [False]
    assert kinds(after) == []


def test_a_machine_that_comes_back_is_the_same_machine():
    plan = taken(estate_plan())
    assert kinds(plan, ALPHA) == [("new", "alpha is back, 40 GiB used")]
    back = taken(plan, ALPHA)
    assert [m.id for m in back.machines] == ["alpha"]
    assert not back.machine_by_id["alpha"].gone


def test_a_file_makes_nothing_gone():
    assert kinds(estate_plan(), complete=False) == []


def test_a_rename_is_followed_by_jobs_and_points():
    file = write_plan(estate_plan())
    file["jobs"][0]["machines"] = {"ids": ["alpha"]}
    file["jobs"][0]["exclude_disks"] = [["alpha", "system"]]
    after = taken(read_plan(file), replace(ALPHA, name="beta"))
    assert after.jobs[0].machines.ids == ("beta",)
    assert after.jobs[0].exclude_disks == (("beta", "system"),)
    assert [point.machine for point in after.state.points] == ["beta"]
    read_plan(write_plan(after))


def test_a_renamed_machine_can_still_take_its_other_differences():
    plan = estate_plan()
    changed = replace(ALPHA, name="beta", host="h-2")
    found = differences(plan, inventory(changed))
    for difference in sorted(found, key=lambda d: d.kind != "renamed"):
        plan = accept(plan, difference, TODAY)
    assert plan.machine_by_id["beta"].host == "h2"


def test_jobs_forget_a_disk_that_is_no_longer_there():
    file = write_plan(estate_plan())
    file["jobs"][0]["exclude_disks"] = [["alpha", "system"]]
    other = replace(ALPHA, disks=(FoundDisk("data", 10.0, 5.0, 0.0, "s-1"),))
    after = taken(read_plan(file), other)
    assert after.jobs[0].exclude_disks == ()
    read_plan(write_plan(after))


def test_two_machines_of_one_name_are_kept_apart():
    after = taken(estate_plan(), ALPHA, in_folder(found_vm("m2", "alpha")))
    assert [m.id for m in after.machines] == ["alpha", "alpha (m2)"]


def test_a_machine_of_the_plan_that_no_source_claimed_is_known_by_its_name():
    file = write_plan(estate_plan())
    del file["machines"][0]["facts"]
    plan = read_plan(file)
    assert kinds(plan, ALPHA) == [("changed", "alpha: is m1 of manager")]
    assert kinds(taken(plan, ALPHA), ALPHA) == []


def test_a_machine_on_a_new_host_needs_the_host_first():
    bravo = in_folder(found_vm("m2", "bravo", host="h-3"))
    found = inventory(ALPHA, bravo, hosts=[FoundHost("h-3", "h3")])
    told = differences(estate_plan(), found)
    assert [(d.subject, d.kind) for d in told] == [("host", "new"), ("machine", "new")]
    with pytest.raises(EstateError, match="h-3"):
        accept(estate_plan(), told[1], TODAY)


def test_servers_stand_at_the_site_of_their_source():
    after = taken(estate_plan(), ALPHA, found_server(nic_mbit_per_s=1000.0))
    gate = after.machine_by_id["gate"]
    assert (gate.kind, gate.site, gate.nic_mbit_per_s) == ("server", "quay", 1000.0)
    read_plan(write_plan(after))


def test_what_was_overridden_stays_as_the_planner_said():
    plan = FactEdit(("alpha",), (("daily_change", 0.3),)).apply(estate_plan())
    after = taken(plan, replace(ALPHA, tags=("gold",), daily_change=0.01))
    assert after.machine_by_id["alpha"].daily_change == 0.3


def test_an_inventory_that_contradicts_itself_is_refused():
    with pytest.raises(InventoryError, match="'m1' is given twice"):
        inventory(ALPHA, ALPHA)
    with pytest.raises(InventoryError, match="host 'h-7' is not named"):
        inventory(replace(ALPHA, host="h-7"))
    lost = replace(ALPHA, disks=(FoundDisk("system", 1.0, 1.0, 0.0, "s-7"),))
    with pytest.raises(InventoryError, match="datastore 's-7' is not named"):
        inventory(lost)


def test_a_difference_survives_being_written_down():
    shot = replace(ALPHA, snapshots=(FoundSnapshot("x", 1.0, 2.0),))
    assert machine_from_dict(item_to_dict(shot)) == shot


# --- going back -------------------------------------------------------------------------------


def test_an_undone_change_is_undone_alone():
    plan = estate_plan()
    moved = taken(plan, replace(ALPHA, host="h-2"))
    both = taken(moved, replace(ALPHA, host="h-2"), found_vm("m2", "bravo"))
    back = with_estate_of(both, plan, TODAY, ["alpha"])
    assert back.machine_by_id["alpha"].host == "h1"
    assert "bravo" in back.machine_by_id


def test_undoing_something_new_takes_it_out_where_nothing_refers_to_it():
    plan = estate_plan()
    after = taken(plan, ALPHA, found_vm("m2", "bravo"))
    assert with_estate_of(after, plan, TODAY) == plan
    file = write_plan(after)
    file["jobs"][0]["machines"]["ids"] = ["bravo"]
    listed = with_estate_of(read_plan(file), plan, TODAY)
    assert listed.machine_by_id["bravo"].gone
    read_plan(write_plan(listed))


def test_a_rename_can_be_undone():
    plan = estate_plan()
    assert with_estate_of(taken(plan, replace(ALPHA, name="beta")), plan, TODAY) == plan


@settings(max_examples=12, deadline=None)
@given(st.integers(0, 10_000), st.lists(st.sampled_from(LATER_EVENTS), min_size=1, max_size=25))
def test_whatever_happens_can_be_taken_and_taken_back(seed, events):
    plan = larkmoor_plan()
    world = World(larkmoor_file(), seed)
    for event in events:
        world.step(event)
    after = plan
    for found in inventories(world):
        for difference in in_order(differences(after, found)):
            after = accept(after, difference, TODAY)
    assert [d for found in inventories(world) for d in differences(after, found)] == []
    assert read_plan(write_plan(after)) == after
    back = with_estate_of(after, plan, TODAY)
    assert {m.id: m for m in back.machines} == {m.id: m for m in plan.machines}
    assert back.jobs == plan.jobs
    assert back.state == plan.state


def inventories(world):
    return [
        Inventory(
            source.sample.name,
            source.sample.site,
            tuple(source.hosts.values()),
            tuple(source.stores.values()),
            tuple(source.machines.values()),
        )
        for source in world.sources.values()
    ]


# --- coverage ---------------------------------------------------------------------------------


def covered(plan, now=NOW):
    return coverage(plan, now)["alpha"]


def without_job(**facts):
    file = write_plan(estate_plan())
    file["jobs"][0]["machines"] = {}
    file["machines"][0]["facts"].update(facts)
    return file


def test_a_machine_with_a_job_and_a_young_point_is_protected():
    assert (covered(estate_plan()).state, covered(estate_plan()).jobs) == (
        "protected",
        ("nightly",),
    )


def test_a_machine_without_a_job_is_not_protected_since_its_last_point():
    found = covered(read_plan(without_job()))
    assert (found.state, found.since) == ("not protected", date(2026, 11, 1))


def test_a_machine_that_never_had_a_point_is_not_protected_since_it_is_known():
    file = without_job(known_since="2026-05-06")
    file["state"] = {}
    found = covered(read_plan(file))
    assert (found.state, found.since) == ("not protected", date(2026, 5, 6))
    assert "never was" in found.words


def test_old_points_are_stale_by_the_rpo_or_after_three_days():
    assert covered(estate_plan(), NOW + 4 * 86400).state == "stale"
    file = write_plan(estate_plan())
    file["machines"][0]["rpo_hours"] = 10
    assert covered(read_plan(file)).state == "stale"


def test_two_jobs_protect_it_twice():
    file = write_plan(estate_plan())
    file["jobs"].append({**file["jobs"][0], "id": "again"})
    assert covered(read_plan(file)).state == "twice"


def test_what_is_left_out_on_purpose_says_why_and_comes_up_for_review():
    plan = FactEdit(("alpha",), leave_out=LeftOut("rebuilt weekly", date(2026, 11, 1))).apply(
        read_plan(without_job())
    )
    assert (covered(plan).state, covered(plan).words) == ("left out", "rebuilt weekly")
    assert [m.id for m in due_for_review(plan.machines, TODAY)] == ["alpha"]
    back = FactEdit(("alpha",), take_in=True).apply(plan)
    assert covered(back).state == "not protected"


def test_hazards_are_named():
    file = write_plan(estate_plan())
    machine = file["machines"][0]
    machine["powered_on"] = False
    machine["disks"][0]["holds_backups"] = True
    machine["facts"]["quiesces"] = False
    machine["facts"]["snapshots"] = [
        {"name": "old", "taken_at": "2026-10-01T00:00:00Z", "gib": 3},
        {"name": "fresh", "taken_at": "2026-11-02T08:00:00Z", "gib": 3},
    ]
    found = covered(read_plan(file)).hazards
    assert [hazard.kind for hazard in found] == ["snapshot", "backup disk", "off", "no quiesce"]
    assert "old" in found[0].words


# --- facts ------------------------------------------------------------------------------------


def test_what_a_planner_states_can_be_brought_back():
    plan = estate_plan()
    stated = FactEdit(("alpha",), (("daily_change", 0.2), ("rpo_hours", 24))).apply(plan)
    alpha = stated.machine_by_id["alpha"]
    assert (alpha.daily_change, alpha.facts.change_from, alpha.rpo_hours) == (0.2, "stated", 24)
    assert alpha.facts.reported == (("daily_change", 0.02), ("rpo_hours", None))
    again = FactEdit(("alpha",), (("daily_change", 0.4),)).apply(stated)
    both = FactEdit(("alpha",), revert=("daily_change", "rpo_hours"))
    back = both.apply(again).machine_by_id["alpha"]
    assert (back.daily_change, back.rpo_hours, back.facts.reported) == (0.02, None, ())


def test_sizes_that_a_planner_states_outlast_what_the_source_says():
    plan = estate_plan()
    disk = plan.machine_by_id["alpha"].disks[0].id
    stated = FactEdit(("alpha",), ((f"{disk}/used_gib", 33), ("*/swap_gib", 3))).apply(plan)
    machine = stated.machine_by_id["alpha"]
    assert (machine.disks[0].used_gib, machine.disks[0].swap_gib) == (33, 3)
    before = plan.machine_by_id["alpha"].disks[0]
    assert dict(machine.facts.reported) == {
        f"{disk}/used_gib": before.used_gib,
        f"{disk}/swap_gib": before.swap_gib,
    }
    grown = replace(before, used_gib=before.used_gib + 40, provisioned_gib=900)
    disks, facts = sizes_kept(machine, (grown,))
    assert (disks[0].used_gib, disks[0].provisioned_gib) == (33, 900)
    assert dict(facts.reported)[f"{disk}/used_gib"] == before.used_gib + 40
    assert sizes_kept(machine, ())[1].reported == ()
    back = FactEdit(("alpha",), revert=("*/used_gib", "*/swap_gib")).apply(stated)
    assert back == plan


def test_a_size_that_is_stated_is_no_difference_any_more():
    plan = estate_plan()
    disk = plan.machine_by_id["alpha"].disks[0]
    edit = FactEdit(("alpha",), ((f"{disk.id}/used_gib", disk.used_gib * 0.5),))
    assert kinds(edit.apply(plan), ALPHA) == []
    bigger = replace(ALPHA, disks=(FoundDisk("system", 200.0, 70.0, 4.0, "s-1"),))
    after = taken(edit.apply(plan), bigger).machine_by_id["alpha"]
    assert (after.disks[0].provisioned_gib, after.disks[0].used_gib) == (200, 20)
    assert after.facts.reported == (("system/used_gib", 70),)


@pytest.mark.parametrize(
    ("edit", "field"),
    [
        (FactEdit(("ghost",)), "machines"),
        (FactEdit(("alpha",), (("daily_change", -1),)), "daily_change"),
        (FactEdit(("alpha",), (("daily_change", float("nan")),)), "daily_change"),
        (FactEdit(("alpha",), (("daily_change", True),)), "daily_change"),
        (FactEdit(("alpha",), (("colour", 1),)), "colour"),
        (FactEdit(("alpha",), (("compress_ratio", None),)), "compress_ratio"),
        (FactEdit(("alpha",), revert=("colour",)), "revert"),
        (FactEdit(("alpha",), (("no-such-disk/used_gib", 1),)), "no-such-disk/used_gib"),
        (FactEdit(("alpha",), (("*/colour", 1),)), "*/colour"),
        (FactEdit(("alpha",), (("*/swap_gib", 1e8),)), "system/swap_gib"),
        (FactEdit(("alpha",), leave_out=LeftOut("  ")), "reason"),
    ],
)
def test_facts_that_cannot_be_are_refused_by_name(edit, field):
    with pytest.raises(FactError) as caught:
        edit.apply(estate_plan())
    assert caught.value.field == field


def test_the_daily_change_of_a_new_machine_has_a_source():
    assert daily_change_of("db", 0.07) == (0.07, "reported")
    assert daily_change_of("db", None) == (0.04, "role")
    assert daily_change_of("unheard of", None) == (0.02, "role")


def test_facts_survive_the_plan_file():
    file = write_plan(estate_plan())
    file["machines"][0]["facts"] = {
        **known(), "role": "db", "growth_per_year": 0.3, "known_since": "2026-01-01",
        "left_out": {"reason": "why", "review": "2027-01-01"}, "reported": [["daily_change", 0.1]],
        "snapshots": [{"name": "s", "taken_at": "2026-10-01T00:00:00Z", "gib": 1}],
    }  # fmt: skip
    plan = read_plan(file)
    assert read_plan(write_plan(plan)) == plan
    assert write_plan(plan)["machines"][0]["facts"] == file["machines"][0]["facts"]


# --- zoning -----------------------------------------------------------------------------------


def zoned(*names):
    found = inventory(ALPHA)
    store = replace(found.datastores[0], zoned_to=names)
    return replace(found, datastores=(store,))


def test_zoning_that_a_source_states_is_a_difference_and_lets_a_proxy_read_directly():
    plan = estate_plan()
    told = differences(plan, zoned("p1", "a-machine-that-is-no-proxy"))
    assert [(d.kind, d.words) for d in told] == [("changed", "datastore store: zoned to p1")]
    assert plan.direct_by_proxy["p1"] == frozenset()
    after = accept(plan, told[0], TODAY)
    assert after.direct_by_proxy["p1"] == {"store"}
    assert differences(after, zoned("p1")) == []
    back = differences(after, zoned())
    assert [d.words for d in back] == ["datastore store: no longer zoned to p1"]
    assert accept(after, back[0], TODAY) == plan


def test_a_proxy_that_is_a_machine_keeps_it_through_a_rename():
    file = write_plan(estate_plan())
    file["proxies"].append({"id": "p2", "site": "quay", "slots": 1, "on_machine": "alpha"})
    plan = read_plan(file)
    after = taken(plan, replace(ALPHA, name="beta"))
    assert after.proxies[1].on_machine == "beta"
    assert after.host_of_proxy(after.proxies[1]) == "h1"
    moved = taken(after, replace(ALPHA, name="beta", host="h-2"))
    assert moved.host_of_proxy(moved.proxies[1]) == "h2"


@pytest.mark.parametrize("field", ["provisioned_gib", "used_gib", "swap_gib"])
def test_a_new_disk_is_untouched_by_what_was_stated_of_another(field):
    plan = estate_plan()
    value = {"provisioned_gib": 300, "used_gib": 50, "swap_gib": 2}[field]
    stated = FactEdit(("alpha",), ((f"system/{field}", value),)).apply(plan)
    two = replace(ALPHA, disks=(*ALPHA.disks, FoundDisk("data", 500.0, 100.0, 0.0, "s-1")))
    after = taken(stated, two).machine_by_id["alpha"]
    assert [disk.id for disk in after.disks] == ["system", "data"]
    assert getattr(after.disks[0], field) == value
    assert (after.disks[1].provisioned_gib, after.disks[1].used_gib) == (500, 100)
    only = replace(ALPHA, disks=two.disks[1:])
    gone = taken(taken(stated, two), only).machine_by_id["alpha"]
    assert gone.facts.reported == ()


def test_words_and_flags_are_stated_and_kept_over_what_a_source_says():
    edit = FactEdit(
        ("alpha",),
        (("role", "db"), ("quiesces", False), ("*/holds_backups", True)),
        snapshots=(UserSnapshot("before the update", 1_790_000_000.0, 4.0),),
    )
    plan = edit.apply(estate_plan())
    alpha = plan.machine_by_id["alpha"]
    assert (alpha.facts.role, alpha.facts.quiesces) == ("db", False)
    assert all(disk.holds_backups is True for disk in alpha.disks)
    assert [shot.name for shot in alpha.facts.snapshots] == ["before the update"]
    after = taken(plan, replace(ALPHA, tags=("gold",), role="web", quiesces=True))
    told = after.machine_by_id["alpha"]
    assert (told.facts.role, told.facts.quiesces) == ("db", False)
    back = FactEdit(("alpha",), revert=("role", "quiesces", "*/holds_backups")).apply(plan)
    was = estate_plan().machine_by_id["alpha"]
    mine = back.machine_by_id["alpha"]
    assert (mine.facts.role, mine.facts.quiesces) == (was.facts.role, was.facts.quiesces)
    assert mine.disks == was.disks
    assert "can be quiesced: no" in edit.describe()


@pytest.mark.parametrize(
    ("field", "value", "reason"),
    [
        ("agent_streams", 3, "is a VM"),
        ("quiesces", "perhaps", "neither yes nor no"),
        ("role", "x" * 61, "at most 60"),
        ("agent_streams", 1.5, "not a whole number"),
    ],
)
def test_a_fact_that_a_machine_does_not_have_is_refused(field, value, reason):
    with pytest.raises(FactError, match=reason):
        FactEdit(("alpha",), ((field, value),)).apply(estate_plan())


def test_a_server_has_a_network_and_an_agent():
    disk = {"id": "0", "provisioned_gib": 9, "used_gib": 4}
    box = {"id": "box", "kind": "server", "site": "quay", "disks": [disk]}
    plan = small_plan(machines=[*small_file()["machines"], box])
    server = "box"
    stated = FactEdit((server,), (("agent_streams", 4), ("nic_mbit_per_s", 2500))).apply(plan)
    machine = stated.machine_by_id[server]
    assert (machine.agent_streams, machine.nic_mbit_per_s) == (4, 2500.0)
