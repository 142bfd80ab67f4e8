"""A planner makes jobs, changes them in the sentence, compares drafts and adopts one."""

from __future__ import annotations

import re

import pytest
from dresses import DRESSES
from playwright.sync_api import expect

from gambrel.api.app import current_sessions
from gambrel.core.edits.item_edits import ChangeItem
from gambrel.store import plans as store

REFUSED = "422 (UNPROCESSABLE ENTITY)"

VIEW = "/jobs"


@pytest.fixture
def jobs(planner):
    expect(job_button(planner.page, "Office file servers")).to_be_visible()
    return planner


def job_button(page, name):
    return page.get_by_role("button", name=name, exact=True)


def clause(page, key):
    return page.locator(f'[data-clause="{key}"]')


def opened(page, name="Office file servers"):
    job_button(page, name).click()
    expect(clause(page, "machines")).to_be_visible()


def look(page, title):
    page.get_by_role("navigation", name="Questions about the job").get_by_role(
        "button", name=title
    ).click()


def pick(page, lead, option):
    page.get_by_role("complementary").get_by_role("button", name=re.compile(f"^{lead}")).click()
    page.get_by_role("menuitemradio", name=option, exact=True).click()


def test_a_job_is_made_by_keyboard_alone(jobs):
    page = jobs.page
    page.get_by_role("button", name="New job").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_label("Name")).to_be_focused()
    page.keyboard.type("Staging twins")
    page.keyboard.press("Enter")
    expect(clause(page, "machines")).to_have_attribute("aria-pressed", "true")
    expect(page.get_by_text("No machine is selected.").first).to_be_visible()
    page.get_by_label("Machine to take in").focus()
    page.keyboard.type("office-files-01")
    page.keyboard.press("Enter")
    expect(clause(page, "machines")).to_contain_text("1 machine: office-files-01")
    page.keyboard.press("Escape")
    expect(page.get_by_role("list", name="The week of this job")).to_contain_text("full")
    expect(page.get_by_role("button", name="Add job to draft")).to_be_enabled()
    page.keyboard.press("Control+s")
    expect(page.get_by_text("1 change", exact=True)).to_be_visible()
    page.get_by_role("button", name="All jobs").click()
    expect(job_button(page, "Staging twins")).to_be_visible()


def test_a_new_job_outlives_a_reload(jobs):
    page = jobs.page
    page.get_by_role("button", name="New job").click()
    page.get_by_label("Name").fill("Staging twins")
    page.keyboard.press("Enter")
    expect(clause(page, "machines")).to_be_visible()
    page.reload()
    expect(page.get_by_role("heading", name="Staging twins")).to_be_visible()
    # Escape twice and another view lose nothing either.
    clause(page, "kept").click()
    page.get_by_label(re.compile("^All younger than")).fill("9")
    expect(clause(page, "kept")).to_contain_text("9 days")
    page.keyboard.press("Escape")
    page.keyboard.press("Escape")
    page.get_by_role("link", name="Paths", exact=True).click()
    left = page.get_by_role("region", name="Unsaved changes")
    expect(left).to_contain_text("unsaved changes")
    left.get_by_role("button", name="Continue: new job Staging twins").click()
    expect(clause(page, "kept")).to_contain_text("9 days")
    expect(left).not_to_be_attached()
    page.get_by_role("button", name="Discard").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("Discard the new job Staging twins?")
    dialog.get_by_role("button", name="Discard").click()
    expect(job_button(page, "Office file servers")).to_be_visible()
    expect(left).not_to_be_attached()


def test_a_machine_and_a_finding_lead_to_a_new_job(jobs):
    page = jobs.page
    page.get_by_role("link", name="Board", exact=True).click()
    page.get_by_role("button", name=re.compile("findings this week$")).click()
    page.get_by_text("unprotected", exact=True).click()
    page.get_by_role("link", name="A new job for it").first.click()
    page.get_by_label("Name").fill("What was forgotten")
    page.keyboard.press("Enter")
    expect(clause(page, "machines")).to_contain_text("machine")
    expect(clause(page, "machines")).not_to_contain_text("nothing selected")


def test_what_is_typed_moves_the_sentence_and_the_week(jobs):
    page = jobs.page
    opened(page)
    clause(page, "runs").click()
    page.get_by_label("When, as you would say it").nth(1).fill("on Sunday at 21:00")
    expect(clause(page, "runs")).to_contain_text("full on Sunday at 21:00")
    expect(jobs.effect()).to_contain_text("(was Sat 07:45)")
    page.get_by_label("When, as you would say it").nth(1).fill("on Sunday")
    expect(page.get_by_text("say the time too, for instance")).to_be_visible()
    expect(clause(page, "runs")).to_contain_text("full on Sunday at 21:00")
    page.get_by_role("button", name="Add to draft").click()
    expect(page.get_by_text("1 change", exact=True)).to_be_visible()
    jobs.effect().get_by_role("button", name="Undo").click()
    expect(clause(page, "runs")).to_contain_text("full on Friday")
    page.get_by_role("button", name="Redo").click()
    expect(clause(page, "runs")).to_contain_text("full on Sunday")


def test_a_rule_is_changed_and_the_machines_follow(jobs):
    page = jobs.page
    opened(page)
    clause(page, "machines").click()
    page.get_by_label("Value for tag").fill("desk")
    expect(clause(page, "machines")).not_to_contain_text("6 machines")
    page.get_by_label("Value for tag").fill("files")
    expect(clause(page, "machines")).to_contain_text("6 machines")
    page.get_by_role("row", name=re.compile("office-files-03")).get_by_role(
        "button", name="Leave out"
    ).click()
    form = page.get_by_role("form", name="Leave a machine out")
    expect(form.get_by_label("Why")).to_be_focused()
    form.get_by_label("Why").fill("archived elsewhere")
    form.get_by_role("button", name="Leave out").click()
    expect(clause(page, "machines")).to_contain_text("5 machines")
    expect(page.get_by_role("complementary")).to_contain_text("archived elsewhere")
    page.get_by_role("row", name=re.compile("office-files-01")).get_by_label("data").uncheck()
    expect(clause(page, "machines")).to_contain_text("without 1 disk")


def test_a_value_that_cannot_be_is_named_at_its_field(jobs):
    page = jobs.page
    opened(page)
    clause(page, "kept").click()
    page.get_by_label("All younger than (days)").fill("0,5")
    expect(page.get_by_role("complementary")).to_contain_text("is below 1")
    expect(page.get_by_role("button", name="Add to draft")).to_be_disabled()
    page.get_by_label("All younger than (days)").fill("8")
    expect(clause(page, "kept")).to_contain_text("8 days")
    jobs.complaints = [said for said in jobs.complaints if REFUSED not in said]


def test_questions_about_a_job_are_answered_and_used(jobs):
    page = jobs.page
    opened(page)
    look(page, "Full or changes?")
    row = page.get_by_role("row", name=re.compile("^Weekly full made in the repository"))
    row.get_by_role("button", name="Use it").click()
    expect(clause(page, "runs")).to_contain_text("fulls made in the repository")
    look(page, "Points ahead")
    points = page.get_by_role("group", name=re.compile("^Points in quay-disk"))
    points.get_by_role("button", name=re.compile("^full")).first.click()
    expect(page.get_by_role("region", name="Points ahead")).to_contain_text("full of ")
    look(page, "What it costs")
    expect(page.get_by_role("row", name=re.compile("^compressing"))).to_be_visible()
    look(page, "Next starts")
    expect(page.get_by_role("region", name="Next starts")).to_contain_text("Fri 6 Nov 21:00")


@pytest.mark.long
def test_room_is_found_and_taken(jobs):
    page = jobs.page
    opened(page)
    look(page, "Where is room?")
    best = page.get_by_role("region", name="The best starts")
    expect(best).to_contain_text("The three best")
    best.get_by_role("button", name="Use it").first.click()
    expect(clause(page, "runs")).not_to_contain_text("full on Friday")


def test_a_job_is_split_and_the_weeks_are_compared_first(jobs):
    page = jobs.page
    opened(page)
    page.get_by_role("button", name="Split it into even groups").click()
    sheet = page.get_by_role("complementary", name="Split the job")
    expect(sheet.get_by_role("list", name="Groups")).to_contain_text("group 2")
    expect(sheet).to_contain_text("Fri ends 06:")
    sheet.get_by_role("button", name="Add to draft").click()
    expect(page.get_by_text("2 changes", exact=True)).to_be_visible()
    expect(job_button(page, "Office file servers, group 2")).to_be_visible()


def test_several_jobs_are_edited_together(jobs):
    page = jobs.page
    for name in ("Ticketing apps", "Freight apps"):
        page.get_by_label(f"Tick {name}").check()
    page.get_by_role("button", name="Edit them together").click()
    pick(page, "Priority", "1")
    page.get_by_label("Starts later by (min)").fill("30")
    sheet = page.get_by_role("complementary", name="Several jobs")
    expect(sheet.get_by_role("list", name="Changes")).to_contain_text("21:30")
    sheet.get_by_role("button", name="Add to draft").click()
    expect(page.get_by_text("6 changes", exact=True)).to_be_visible()


@pytest.mark.long
def test_a_draft_is_compared_adopted_with_a_note_and_gone_back_from(jobs):
    page = jobs.page
    opened(page)
    clause(page, "rank").click()
    pick(page, "Priority", "4")
    page.get_by_role("button", name="Add to draft").click()
    jobs.effect().get_by_role("button", name="Compare").click()
    expect(page.get_by_role("list", name="What differs")).to_contain_text(
        "with priority 4 (was priority 2)"
    )
    jobs.effect().get_by_role("button", name="Adopt").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Note: why").fill("files are asked for first")
    dialog.get_by_role("button", name="Adopt this plan").click()
    expect(jobs.effect()).to_have_count(0)
    page.get_by_role("link", name="Jobs", exact=True).click()
    page.get_by_role("button", name="Drafts").click()
    region = page.get_by_role("region", name="Drafts and what was adopted")
    expect(region).to_contain_text("files are asked for first")
    region.get_by_role("button", name="Go back to what was before").click()
    dialog = page.get_by_role("dialog", name="Go back to the plan before?")
    expect(dialog).to_contain_text("priority 4")
    dialog.get_by_role("button", name="Go back to what was before").click()
    expect(region).to_contain_text("back to what was in force before")


def test_two_people_meet_in_one_draft(jobs):
    page = jobs.page
    opened(page)
    clause(page, "rank").click()
    pick(page, "Priority", "4")
    page.get_by_role("button", name="Add to draft").click()
    expect(page.get_by_text("1 change", exact=True)).to_be_visible()
    with current_sessions(jobs.app).begin() as db:
        draft = store.drafts(db, store.plan_heads(db)[-1].id)[0]
        draft = store.share(db, draft.id, shared=True, actor="Planner")
        edit = ChangeItem("jobs", "office-files", {"priority": 5, "verify": "boot"})
        store.add_operations(db, draft.id, draft.revision, [edit], actor="Maeve")
    expect(page.get_by_role("complementary")).to_have_count(0)
    clause(page, "rank").click()
    pick(page, "Priority", "1, the last")
    page.get_by_label("Share where streams compete").fill("2")
    expect(clause(page, "rank")).to_contain_text("share 2")
    page.get_by_role("button", name="Add to draft").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("Maeve saved: Office file servers")
    expect(dialog).to_contain_text("1 place that both changed")
    dialog.get_by_role("button", name="Save mine on top").click()
    expect(clause(page, "rank")).to_contain_text("priority 5")
    expect(clause(page, "rank")).to_contain_text("share 2")
    expect(clause(page, "check")).to_contain_text("boot test")
    jobs.complaints = [said for said in jobs.complaints if "412" not in said]


def test_the_check_of_the_plan_leads_to_the_clause(jobs):
    page = jobs.page
    page.get_by_role("button", name="Check", exact=True).click()
    expect(page.get_by_text("Nothing would stop this plan")).to_be_visible()
    look_at = page.get_by_role("list", name="What deserves a look")
    look_at.get_by_role("button", name="Office file servers").click()
    expect(clause(page, "kept")).to_have_attribute("aria-pressed", "true")


def test_jobs_are_drafted_from_a_crontab(jobs):
    page = jobs.page
    page.get_by_role("button", name="From a timetable").click()
    text = page.get_by_label("Timetable", exact=True)
    text.fill(
        "30 21 * * 1-5 /opt/mail-01.sh\n0 22 * * 6 /opt/mail-01.sh --full\n"
        "0 3 * * * /opt/radar.sh\n61 2 * * * /opt/oops.sh\n"
    )
    lines = page.get_by_role("region", name="Lines", exact=True)
    expect(lines).to_contain_text("incremental every weekday at 21:30")
    expect(lines).to_contain_text("no machine is named; choose one")
    expect(page.get_by_role("region", name="Lines that cannot be taken")).to_contain_text("61")
    jobs.check("timetable")
    # It is there after a reload, and what is said of a line as well.
    page.get_by_label("Machine of line 3").fill("radar-01")
    page.keyboard.press("Enter")
    page.get_by_label("Job of line 3").fill("Radar dump")
    page.keyboard.press("Tab")
    expect(page.get_by_role("heading", name="2 new jobs")).to_be_visible()
    page.reload()
    expect(page.get_by_label("Machine of line 3")).to_have_value("radar-01")
    expect(page.get_by_role("region", name="New jobs")).to_contain_text("Radar dump: Back up")
    page.get_by_role("button", name="Add 2 jobs to the draft").click()
    expect(page.get_by_role("button", name="Radar dump", exact=True)).to_be_visible()
    with current_sessions(jobs.app)() as db:
        draft = store.drafts(db, store.plan_heads(db)[-1].id)[0]
    assert [change.operation.value["name"] for change in draft.changes] == ["mail-01", "Radar dump"]
    page.get_by_role("button", name="From a timetable").click()
    expect(text).to_have_value("")


@pytest.mark.long
@pytest.mark.parametrize(("theme", "size"), DRESSES)
def test_the_jobs_have_no_accessibility_violation(jobs, theme, size):
    page = jobs.page
    jobs.dress(theme, size)
    expect(job_button(page, "Office file servers")).to_be_visible()
    page.wait_for_timeout(700)
    jobs.check("list")
    opened(page)
    for key in ("machines", "runs", "copies", "preparation"):
        clause(page, key).click()
        page.wait_for_timeout(500)
        jobs.check(key)
    page.keyboard.press("Escape")
    for title in ("Full or changes?", "Points ahead", "What it costs", "Next starts"):
        look(page, title)
        page.wait_for_timeout(1200)
        jobs.check(title)
    page.goto(f"{jobs.address}/compare/2026-11-06?other=adopted")
    expect(page.get_by_text("The two are the same.")).to_be_visible()
    jobs.check("comparison")


def test_a_machine_of_a_job_goes_elsewhere_with_its_points_by_keyboard(jobs):
    page = jobs.page
    opened(page)
    clause(page, "to").focus()
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Some machines elsewhere").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_label("Value for name")).to_be_focused()
    page.keyboard.press("Control+a")
    page.keyboard.type("office-files-05")
    expect(clause(page, "to")).to_contain_text("quay-disk, but office-files-05 to")
    row = page.get_by_role("row").filter(has_text="office-files-05")
    other = clause(page, "to").inner_text().split("office-files-05 to ")[1].split()[0]
    expect(row).to_contain_text(other)
    points = page.get_by_label(re.compile(r"^Its \d+ points in quay-disk, once carried here"))
    points.focus()
    page.keyboard.press("Space")
    expect(page.get_by_text("points carried from quay-disk to")).to_be_visible()
    page.reload()
    expect(clause(page, "to")).to_contain_text("but office-files-05 to")
    page.keyboard.press("Control+s")
    expect(page.get_by_text("2 changes", exact=True)).to_be_visible()
    page.get_by_role("button", name="All jobs").click()
    listed = page.get_by_role("row").filter(has_text="Office file servers")
    expect(listed).to_contain_text(f"quay-disk, {other}")
