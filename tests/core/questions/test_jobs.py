"""What is asked about one job: its machines, its problems, its ways, its points, its room."""

from dataclasses import replace
from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st
from plans import DAY, FRIDAY_NOON, small_file, small_plan, weekly

from gambrel.core.edits.edit_conflicts import conflicts, without
from gambrel.core.edits.item_edits import AddItem, ChangeItem, OperationError, RemoveItem, free_id
from gambrel.core.edits.operations import (
    ExcludeMachine,
    MoveStart,
    change_job,
    operation_from,
    operation_to_dict,
)
from gambrel.core.edits.plan_diff import compare
from gambrel.core.edits.point_owners import TakeOverPoints
from gambrel.core.edits.splitting import MachineTime, SplitJob, even_groups
from gambrel.core.model.selection import selected_machines
from gambrel.core.nights.nights import night_of
from gambrel.core.plan.reading import SCHEDULE, read_plan, write_plan
from gambrel.core.questions.job_problems import job_problems, plan_problems
from gambrel.core.questions.new_job import new_job, quietest_day
from gambrel.core.questions.points_ahead import points_ahead
from gambrel.core.questions.selection_preview import look_at_selection
from gambrel.core.questions.start_search import room, run_at
from gambrel.core.questions.upcoming import look_at_schedule
from gambrel.core.questions.ways_to_keep import WAYS, kept_as, tradeoffs
from gambrel.core.schedules.calendars import job_occurrences
from gambrel.core.simulation.simulate import simulate
from gambrel.core.words import job_changes, sentence
from gambrel.demo import larkmoor

PLAN = read_plan(larkmoor())
OFFICE = PLAN.job_by_id["office-files"]
MONDAY = FRIDAY_NOON - 4 * DAY


def ruled(*rules, **more):
    return small_plan({"machines": {"rules": [list(rule) for rule in rules], **more}})


def cond(field, op, value):
    return {"field": field, "op": op, "value": value}


# --- selection --------------------------------------------------------------------------------


def test_a_selection_tells_how_each_machine_came_in_and_who_has_it_too():
    look = look_at_selection(PLAN, OFFICE)
    assert [m.machine for m in look.selected][:2] == ["office-files-01", "office-files-02"]
    assert look.selected[0].by == ("folder office and tagged files",)
    assert "joins at the next run" in look.joins
    near = {entry.machine: entry for entry in look.near}
    assert near["office-desk-30"].why == "it is not tagged files"
    assert near["office-desk-30"].elsewhere == ("Office machines",)


def test_who_is_left_out_by_name_is_nearly_selected():
    plan = ruled([cond("kind", "is", "vm")], exclude=["gate"])
    look = look_at_selection(plan, plan.jobs[0])
    assert [(n.machine, n.why) for n in look.near] == [("gate", "left out by name")]
    assert "does not join by itself" in look_at_selection(small_plan(), small_plan().jobs[0]).joins


# --- new jobs ---------------------------------------------------------------------------------


def test_a_new_job_suits_the_plan():
    value = new_job(PLAN, "Ticket gates", date(2026, 11, 2))
    plan = AddItem("jobs", value).apply(PLAN)
    job = plan.job_by_id["ticket-gates"]
    assert (job.repository, job.window) == ("quay-disk", "night")
    assert [s.kind for s in job.schedules] == ["incremental", "full"]
    assert read_plan(write_plan(plan)) == plan
    full = job.schedules[1].rrule[-2:]
    assert full == ("MO", "TU", "WE", "TH", "FR", "SA", "SU")[quietest_day(PLAN)]
    assert full != "FR"


def test_the_first_job_is_inside_the_only_window():
    first = replace(PLAN, jobs=())
    assert len(first.windows) > 1
    assert "window" not in new_job(first, "x", date(2026, 11, 2))
    only = replace(first, windows=first.windows[:1])
    assert new_job(only, "x", date(2026, 11, 2))["window"] == only.windows[0].id


def test_a_new_job_takes_over_settings_but_not_machines():
    value = new_job(PLAN, "Office file servers", date(2026, 11, 2), like=OFFICE)
    assert value["id"] == "office-file-servers"
    assert value["machines"] == {"ids": []}
    assert value["retention"] == {"days": 5}
    with pytest.raises(OperationError, match="not the id of a machine"):
        new_job(PLAN, "x", date(2026, 11, 2), machines=["ghost"])


def test_ids_are_free():
    assert free_id(PLAN.job_by_id, "Office files!") == "office-files-2"
    assert free_id(PLAN.job_by_id, "…") == "job"


# --- edits ------------------------------------------------------------------------------------


def test_a_change_of_a_job_is_told_clause_by_clause():
    change = ChangeItem("jobs", "office-files", {"verify": "boot", "priority": 4, "name": "Files"})
    said = change.describe(PLAN)
    assert said.startswith("Office file servers: is called Files; ")
    assert "checked by a boot test of 6 min (was nothing)" in said
    assert "with priority 4 (was priority 2)" in said


def test_a_locked_job_stays_as_it_is():
    plan = ChangeItem("jobs", "office-files", {"locked": True}).apply(PLAN)
    for operation in (
        ChangeItem("jobs", "office-files", {"priority": 1}),
        RemoveItem("jobs", "office-files"),
        SplitJob("office-files", ({"id": "b", "machines": ["office-files-01"]},)),
    ):
        with pytest.raises(OperationError, match="is locked"):
            operation.apply(plan)
    assert ChangeItem("jobs", "office-files", {"locked": False}).apply(plan) == PLAN


def test_a_job_goes_with_its_points_and_only_when_nothing_follows_it():
    gone = RemoveItem("jobs", "office-files")
    assert "restore points" in gone.describe(PLAN)
    plan = gone.apply(PLAN)
    assert not any(point.job == "office-files" for point in plan.state.points)
    assert read_plan(write_plan(plan)) == plan
    follower = {"id": "f", "repository": "quay-disk", "machines": {}, "after": "office-files"}
    with pytest.raises(OperationError, match="used by job f"):
        gone.apply(AddItem("jobs", follower).apply(PLAN))
    with pytest.raises(OperationError, match="in a circle"):
        two = AddItem("jobs", follower).apply(PLAN)
        ChangeItem("jobs", "office-files", {"after": "f", "schedules": []}).apply(two)


def test_the_sentence_leaves_out_what_goes_without_saying():
    said = sentence(PLAN, OFFICE)
    assert said.startswith("Office file servers: Back up 6 machines: folder office")
    assert "copied to" not in said
    now = replace(OFFICE, notify="trouble", notify_to=("ops",), encrypt=True, encrypt_factor=0.8)
    assert "sent compressed, encrypted at 80 % speed" in sentence(PLAN, now)
    assert job_changes(PLAN, OFFICE, PLAN, now)[-1] == "notify ops on trouble (was nobody)"


# --- problems ---------------------------------------------------------------------------------


def problems(job=None, **plan):
    made = small_plan(job, **plan)
    return {(p.clause, p.weight): p.words for p in job_problems(made, made.jobs[0], FRIDAY_NOON)}


@pytest.mark.parametrize(
    ("job", "clause", "weight", "words"),
    [
        ({"machines": {}}, "machines", "stops", "No machine is selected"),
        ({"exclude_disks": [["gate", "0"]]}, "machines", "stops", "All disks are left out: gate"),
        ({"proxies": []}, "readers", "stops", "No proxy may read it"),
        ({"transport": "direct"}, "readers", "stops", "without the pin or the forced transport"),
        ({"schedules": []}, "runs", "look", "on demand only"),
        ({"on_hold": True}, "runs", "look", "on hold: nothing runs"),
        ({"schedules": [weekly("incremental", "FR", "21:00")]}, "runs", "look", "without end"),
        ({"chain": "full_only"}, "runs", "look", "its incrementals are fulls"),
        ({"chain": "forever", "retention": {}}, "kept", "look", "never merged"),
        ({"retention": {}}, "kept", "look", "Nothing is ever deleted"),
        ({"retention": {"days": 5}}, "kept", "look", "fulls 7 d apart"),
        ({"quiesce_s": 5, "notify": "always"}, "notices", "look", "Nobody is named"),
        ({"start_within_min": 0}, "window", "stops", "before night opens"),
    ],
)
def test_what_a_job_lacks_is_told_at_its_clause(job, clause, weight, words):
    if "start_within_min" in job:
        job = {**job, "schedules": [weekly("full", "FR", "12:30")]}
    assert words in problems(job)[clause, weight]


def test_paths_left_out_cannot_exceed_their_disk_and_nothing_protected_is_marked():
    disk = small_plan().machines[0].disks[0]
    path = {"machine": "gate", "disk": disk.id, "path": "/scratch", "gib": disk.used_gib + 1}
    plan = small_plan({"machines": {"ids": ["gate"]}, "exclude_paths": [path]})
    told = {(p.weight, p.words) for p in job_problems(plan, plan.jobs[0], FRIDAY_NOON)}
    assert any(weight == "stops" and "which holds" in words for weight, words in told)
    assert ("look", "0 bytes are protected of gate.") in told


@pytest.mark.parametrize(
    ("rule", "marked"), [("FREQ=YEARLY", False), ("FREQ=MONTHLY;BYDAY=-1SU", False), (None, True)]
)
def test_a_full_once_a_year_is_a_full(rule, marked):
    daily = {**weekly("incremental", "MO", "20:00"), "rrule": "FREQ=DAILY"}
    full = {**weekly("full", "SA", "21:00"), "rrule": rule, "start": "2026-10-31T21:00"}
    plan = small_plan({"schedules": [daily, *([full] if rule else [])]})
    words = [p.words for p in job_problems(plan, plan.jobs[0], FRIDAY_NOON)]
    assert any("No full is due" in said for said in words) is marked


def test_a_kind_that_the_chain_turns_into_another_says_so():
    plan = small_plan({"schedules": [weekly("differential", "SA", "21:00")]})
    assert "(runs as an incremental)" in sentence(plan, plan.jobs[0])
    named = small_plan({"guest_before_s": 30, "guest_before_name": "flush logs"})
    assert "flush logs in the guest of 30 s" in sentence(named, named.jobs[0])


def test_a_window_that_never_opens_stops_a_job():
    closed = {"id": "night", "time_zone": "UTC", "open": [], "exceptions": []}
    assert "does not open" in problems(windows=[closed])["window", "stops"]


def test_a_sound_job_has_no_problem():
    assert problems({"retention": {"days": 14, "weekly": 4}}) == {}
    assert all(p.weight == "look" for p in plan_problems(PLAN, MONDAY))


def test_a_rule_that_matches_nothing_and_a_machine_in_two_jobs_deserve_a_look():
    plan = ruled([cond("kind", "is", "vm")], [cond("folder", "is", "nowhere")])
    two = AddItem("jobs", {"id": "b", "repository": "vault", "machines": {"ids": ["gate"]}})
    plan = two.apply(plan)
    words = [p.words for p in job_problems(plan, plan.jobs[0], FRIDAY_NOON)]
    assert "Rule 2 matches no machine." in words
    assert "In another job as well: gate." in words


# --- starts to come ---------------------------------------------------------------------------


def test_the_next_starts_show_what_calendars_and_heavier_runs_do():
    file = small_file(calendars=[{"id": "feast", "dates": ["2026-11-10"]}])
    file["jobs"][0]["schedules"][1]["skip"] = ["feast"]
    file["jobs"][0]["schedules"][1]["start"] = "2026-10-01T21:00"
    plan = read_plan(file)
    look = look_at_schedule(plan, plan.jobs[0], 1, FRIDAY_NOON)
    notes = {f"{u.local:%d}": (u.kind, u.note) for u in look.upcoming}
    assert notes["10"] == (None, "not on feast")
    assert notes["06"] == (None, "a heavier run of this job starts then")
    assert notes["07"] == ("incremental", "")
    assert len(look.upcoming) == 10


def test_a_start_that_the_clock_skips_is_marked():
    at = {**weekly("full", "SU", "01:30"), "start": "2027-03-01T01:30"}
    plan = small_plan({"schedules": [at]})
    look = look_at_schedule(plan, plan.jobs[0], 0, FRIDAY_NOON + 140 * DAY)
    assert any("the clock skips" in u.note for u in look.upcoming)


# --- ways to keep it --------------------------------------------------------------------------


def test_each_way_is_simulated_and_they_differ_as_they_must():
    ways = {way.name: way for way in tradeoffs(PLAN, OFFICE, MONDAY)}
    assert list(ways) == [name for name, _ in WAYS]
    assert [way.name for way in ways.values() if way.now] == ["weekly full"]
    usual, always = ways["weekly full"], ways["always full"]
    assert always.moved_bytes > usual.moved_bytes > ways["one full for ever"].moved_bytes
    assert ways["differential"].moved_bytes > usual.moved_bytes
    assert ways["synthetic"].moved_bytes == pytest.approx(ways["one full for ever"].moved_bytes)
    assert (always.chain_points, ways["differential"].chain_points) == (1, 2)
    assert usual.chain_points == 7
    assert ways["synthetic"].longest_s < usual.longest_s
    for way in ways.values():
        changed = ChangeItem("jobs", "office-files", way.changes)
        assert (changed.apply(PLAN) == PLAN) is way.now


def test_a_job_without_fulls_gets_a_weekly_one():
    plan = small_plan({"schedules": [weekly("incremental", "MO", "20:00")]})
    daily = replace(plan.jobs[0].schedules[0], rrule="FREQ=DAILY")
    job = replace(plan.jobs[0], schedules=(daily,))
    made = kept_as(job, "weekly full").schedules
    assert [(s.kind, s.rrule) for s in made] == [
        ("incremental", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR,SU"),
        ("full", "FREQ=WEEKLY;BYDAY=SA"),
    ]


# --- points ahead -----------------------------------------------------------------------------


def test_points_of_a_day_say_what_holds_them():
    found = points_ahead(PLAN, OFFICE, MONDAY, MONDAY + 35 * DAY)
    assert found.machine == "office-files-01"
    held = [p for p in found.points if not p.kept_by]
    assert held
    assert held[0].kind == "full"
    assert all(p.carries > 0 for p in held)
    assert found.points[-1].kept_by[-1] == "the newest usable point"
    assert found.points[-1].base_at == found.points[-2].at
    assert set(found.space) == {"quay-disk"}
    last = simulate(PLAN, MONDAY, MONDAY + 35 * DAY).points
    mine = [p for p in last if (p.job, p.machine) == ("office-files", found.machine)]
    assert [p.kind for p in found.points] == [p.kind for p in mine]


def test_each_rule_is_named_where_it_holds():
    plan = small_plan({"retention": {"points": 2, "weekly": 3}})
    found = points_ahead(plan, plan.jobs[0], FRIDAY_NOON, FRIDAY_NOON + 26 * DAY, "fares")
    by = {rule for p in found.points for rule in p.kept_by}
    assert by == {"of the newest 2 points", "first full of its week", "the newest usable point"}
    fulls = [p for p in found.points if p.kind == "full"]
    assert len(fulls) == 3


@pytest.mark.parametrize("chain", ["incremental", "forever"])
def test_points_are_held_by_a_date_until_it_is_over(chain):
    plan = small_plan({"chain": chain, "retention": {"points": 2, "until": "2026-11-20"}})

    def points_on(days):
        now = FRIDAY_NOON + days * DAY
        return points_ahead(plan, plan.jobs[0], FRIDAY_NOON, now, "fares").points

    before, after = points_on(14), points_on(16)
    assert all("until 2026-11-20" in p.kept_by for p in before)
    assert not any("until 2026-11-20" in p.kept_by for p in after)
    # One of each of 14 nights, and two fulls besides.
    assert len(before) == 16
    assert len(after) < len(before)


def test_a_day_out_of_reach_and_an_empty_job():
    with pytest.raises(ValueError, match="400 days"):
        points_ahead(PLAN, OFFICE, MONDAY, MONDAY + 500 * DAY)
    with pytest.raises(ValueError, match="is not in"):
        points_ahead(PLAN, OFFICE, MONDAY, MONDAY + DAY, "fleet-gps-01")
    empty = small_plan({"machines": {}})
    assert points_ahead(empty, empty.jobs[0], FRIDAY_NOON, FRIDAY_NOON + DAY) is None


def test_copies_grow_cold():
    copies = [{"repository": "far", "retention": {"days": 30}, "cold_after_days": 7}]
    vaults = [{"id": "vault", "site": "quay"}, {"id": "far", "site": "quay"}]
    plan = small_plan({"copies": copies}, repositories=vaults)
    found = points_ahead(plan, plan.jobs[0], FRIDAY_NOON, FRIDAY_NOON + 20 * DAY)
    far = [p for p in found.points if p.repository == "far"]
    assert {p.cold for p in far} == {True, False}
    assert all(p.cold is (FRIDAY_NOON + 20 * DAY - p.at >= 7 * DAY) for p in far)


# --- room -------------------------------------------------------------------------------------

SUNDAY = night_of(date(2026, 11, 8), "Europe/Dublin")


def rooms(plan, job, step=180):
    def play(changed):
        return simulate(changed, MONDAY, SUNDAY.end)

    return list(room(plan, job, "full", SUNDAY, play, from_=MONDAY, step_min=step))


def test_room_is_what_a_simulation_of_that_start_says():
    found = rooms(PLAN, OFFICE, step=240)
    assert len(found) == 6
    for start in found[1:4]:
        plan = run_at(PLAN, OFFICE, "full", SUNDAY, start.at)
        runs = [r for r in simulate(plan, MONDAY, SUNDAY.end).runs if r.job == OFFICE.id]
        mine = next(r for r in runs if r.occurrence == start.at)
        assert mine.ended == start.end
    assert {s.verdict for s in found} >= {"fits", "over"}
    best = min(found, key=lambda s: s.rank)
    assert best.verdict == "fits"
    assert "before its window ends" in best.why


def test_a_run_elsewhere_takes_the_place_of_the_weeks_full():
    plan = run_at(PLAN, OFFICE, "full", SUNDAY, SUNDAY.start + 9 * 3600)
    job = plan.job_by_id[OFFICE.id]
    found = job_occurrences(job, plan.calendar_by_id, MONDAY, SUNDAY.end)
    assert [kind for _, kind, _ in found].count("full") == 1
    assert sum(SUNDAY.holds(at) for at, _, _ in found) == 1
    assert job_occurrences(
        run_at(PLAN, OFFICE, "full", SUNDAY, None).job_by_id[OFFICE.id],
        plan.calendar_by_id, SUNDAY.start, SUNDAY.end,
    ) == ()  # fmt: skip


# --- splitting --------------------------------------------------------------------------------

times = st.lists(
    st.tuples(st.floats(0, 1e5), st.floats(0, 1e4)), min_size=1, max_size=30
).map(lambda pairs: [MachineTime(f"m{i}", a, b) for i, (a, b) in enumerate(pairs)])  # fmt: skip


@given(times, st.integers(1, 6))
def test_groups_hold_every_machine_once_and_none_is_much_larger(found, number):
    if number > len(found):
        with pytest.raises(ValueError, match="cannot be made"):
            even_groups(found, number)
        return
    groups = even_groups(found, number)
    assert sorted(m for g in groups for m in g.machines) == sorted(t.machine for t in found)
    for of in ("full_s", "incremental_s"):
        total = sum(getattr(t, of) for t in found)
        assert sum(getattr(g, of) for g in groups) == pytest.approx(total)


def test_groups_are_even_in_time_not_in_count():
    found = [MachineTime(f"m{i}", s, s / 10) for i, s in enumerate([90, 10, 20, 30, 15, 15])]
    one, other = even_groups(found, 2)
    assert one.full_s == other.full_s == 90
    assert {len(one.machines), len(other.machines)} == {1, 5}


def test_a_split_job_keeps_its_chains_and_its_rules():
    part = {"id": "files-2", "name": "Files 2", "machines": ["office-files-01", "office-files-03"]}
    operation = SplitJob("office-files", (part,))
    plan = operation.apply(PLAN)
    assert read_plan(write_plan(plan)) == plan
    first, second = plan.job_by_id["office-files"], plan.job_by_id["files-2"]
    assert [m.id for m in selected_machines(plan, second)] == part["machines"]
    assert len(selected_machines(plan, first)) == 4
    assert first.machines.rules == OFFICE.machines.rules
    assert plan.job_position["files-2"] == PLAN.job_position["office-files"] + 1
    moved = [p for p in plan.state.points if p.job == "files-2"]
    assert {p.machine for p in moved} == set(part["machines"])
    week = simulate(plan, MONDAY, MONDAY + 3 * DAY)
    kinds = {m.kind for r in week.runs if r.job == "files-2" for m in r.machines}
    assert kinds == {"incremental"}
    assert operation.describe(PLAN).endswith("new job Files 2 (2 machines)")
    assert operation_from(operation_to_dict(operation)) == operation


@pytest.mark.parametrize(
    ("parts", "field"),
    [
        ([], "parts"),
        ([{"id": "office-files", "machines": ["office-files-01"]}], "parts[0].id"),
        ([{"id": "b", "machines": []}], "parts[0].machines"),
        ([{"id": "b", "machines": ["mail"]}], "parts[0].machines"),
        ([{"id": "b", "machines": ["office-files-01"], "repository": "x"}], "parts[0].repository"),
        ([{"id": "b", "machines": ["office-files-01"], "day": 1}], "parts[0].day"),
        ([{"id": "b", "machines": [f"office-files-0{i}" for i in range(1, 7)]}], "parts"),
        ([{"id": "b", "machines": ["office-files-01"]},
          {"id": "c", "machines": ["office-files-01"]}], "parts[1].machines"),
        ([3], "parts[0]"),
    ],
)  # fmt: skip
def test_a_split_that_cannot_be_is_refused_with_its_place(parts, field):
    with pytest.raises(OperationError) as caught:
        SplitJob("office-files", tuple(parts)).apply(PLAN)
    assert caught.value.field == field


def test_a_job_goes_on_from_points_of_another():
    plan = ExcludeMachine("office-files", "office-files-01").apply(PLAN)
    value = new_job(plan, "Big files", date(2026, 11, 2), machines=["office-files-01"])
    plan = AddItem("jobs", value).apply(plan)
    taken = TakeOverPoints("big-files", "office-files")
    assert "goes on from" in taken.describe(plan)
    after = taken.apply(plan)
    assert any(p.job == "big-files" for p in after.state.points)
    with pytest.raises(OperationError, match="has no point"):
        taken.apply(after)
    with pytest.raises(OperationError, match="not the id of another job"):
        TakeOverPoints("big-files", "big-files").apply(plan)


# --- two plans, two people --------------------------------------------------------------------


def test_a_comparison_names_what_is_new_gone_and_changed():
    plan = ChangeItem("jobs", "office-files", {"priority": 5}).apply(PLAN)
    plan = ChangeItem("proxies", "quay-p1", {"slots": 9}).apply(plan)
    plan = AddItem("jobs", {"id": "n", "repository": "quay-disk", "machines": {}}).apply(plan)
    found = {(c.kind, c.subject, c.id): c.lines for c in compare(PLAN, plan)}
    assert found["changed", "job", "office-files"] == ("with priority 5 (was priority 2)",)
    assert found["changed", "proxy", "quay-p1"][0].startswith("slots 9 (was ")
    assert ("new", "job", "n") in found
    assert compare(PLAN, PLAN) == []
    back = {(c.kind, c.id) for c in compare(plan, PLAN)}
    assert ("gone", "n") in back
    fewer = replace(PLAN, machines=PLAN.machines[:-1])
    assert compare(PLAN, fewer)[-1].lines == ("1 machine gone",)


def test_edits_of_two_people_meet_field_by_field():
    mine = [
        ChangeItem("jobs", "mail", {"priority": 4, "window": None}),
        ExcludeMachine("mail", "m1"),
        change_job("other", verify="boot"),
        RemoveItem("proxies", "p"),
    ]
    theirs = [
        ChangeItem("jobs", "mail", {"priority": 2, "machines": {}}),
        MoveStart("mail", 0, "20:00"),
        ChangeItem("proxies", "p", {"slots": 3}),
    ]
    found = conflicts(mine, theirs)
    assert [(c.index, c.key, c.theirs) for c in found] == [
        (0, "priority", (0,)), (1, None, (0,)), (3, None, (2,)),
    ]  # fmt: skip
    assert conflicts([change_job("other", verify="boot")], theirs) == []
    left = without(mine, found)
    assert left == [ChangeItem("jobs", "mail", {"window": None}), mine[2]]
    assert without(mine, []) == mine


some_fields = st.sets(st.sampled_from(["priority", "window", "machines", "verify"]))


@given(some_fields, some_fields)
def test_fields_meet_where_both_name_them(mine, theirs):
    one = [ChangeItem("jobs", "j", dict.fromkeys(mine))]
    other = [ChangeItem("jobs", "j", dict.fromkeys(theirs))]
    assert {c.key for c in conflicts(one, other)} == mine & theirs


def test_schedules_are_written_as_the_file_has_them():
    schedule = OFFICE.schedules[0]
    assert SCHEDULE.write(schedule)["rrule"].startswith("FREQ=WEEKLY")
