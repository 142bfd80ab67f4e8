"""A planner's first evening with the board, by mouse and by keyboard."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

"""The machines that run this are slow at times."""


def test_friday_is_over_and_the_job_and_resource_behind_it_are_named(planner):
    page = planner.page
    expect(page.get_by_role("heading", level=1)).to_have_text("Friday night, 6 November")
    expect(page.get_by_role("button", name=re.compile("^Fri 6 November over"))).to_be_visible()
    first = page.get_by_label("Why").get_by_role("listitem").first
    expect(first).to_contain_text("Office file servers: ends 1 h 45 min late")
    expect(first).to_contain_text("waits 7 h for slots of proxy quay-p2")
    label = planner.bar("office-files").get_attribute("aria-label")
    assert "starts Sat 04:00, ends Sat 07:45" in label
    expect(planner.effect()).to_have_count(0)


def test_a_bar_is_dragged_simulated_meanwhile_saved_and_there_after_a_reload(planner):
    page = planner.page
    box = planner.bar("office-files").bounding_box()
    x, y = box["x"] + 40, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x - 30, y, steps=4)
    page.mouse.move(x - 70, y, steps=6)
    # Still held, and the night has been simulated again.
    expect(planner.effect()).to_contain_text("Office file servers: full starts Fri")
    expect(planner.effect()).to_contain_text("(was Sat 07:45)")
    expect(page.get_by_role("button", name="Save to draft")).to_have_count(0)
    page.mouse.up()
    expect(page.get_by_role("heading", level=1)).to_be_visible()
    page.get_by_role("button", name="Save to draft").click()
    expect(page.get_by_role("button", name="Adopt")).to_be_visible()
    expect(planner.effect()).to_contain_text("Last run Fri ends")
    expect(page.get_by_role("banner")).to_contain_text("1 change")
    expect(planner.bar("office-files")).to_have_attribute(
        "aria-label", re.compile(r"Due Fri (19|20):")
    )
    moved = planner.bar("office-files").get_attribute("aria-label")
    page.reload()
    expect(planner.bar("office-files")).to_have_attribute("aria-label", moved)
    expect(page.get_by_role("banner")).to_contain_text("1 change")


def test_a_bar_is_nudged_undone_and_saved_by_keyboard_alone(planner):
    page = planner.page
    bar = planner.bar("database-servers")
    due = re.compile(r"Due Fri 20:35")
    bar.focus()
    page.keyboard.press("Shift+ArrowLeft")
    expect(bar).to_have_attribute("aria-label", re.compile("Due Fri 20:30"))
    expect(bar).to_be_focused()
    page.keyboard.press("ArrowRight")
    expect(bar).to_have_attribute("aria-label", due)
    expect(planner.effect()).to_contain_text("starts Fri 20:35 (was Fri 21:00)")
    page.keyboard.press("Control+s")
    expect(page.get_by_role("button", name="Adopt")).to_be_visible()
    expect(bar).to_have_attribute("aria-label", due)
    page.keyboard.press("Control+z")
    expect(bar).to_have_attribute("aria-label", re.compile("Due Fri 21:00"))
    expect(planner.effect()).to_have_count(0)


def test_a_full_moves_to_another_night_and_the_week_strip_shows_it(planner):
    page = planner.page
    bar = planner.bar("office-files")
    bar.focus()
    page.keyboard.press("]")
    expect(planner.effect()).to_contain_text("starts Sat 21:00 (was Fri 21:00)")
    expect(planner.effect()).to_contain_text("(was Sat 07:45)")
    # Its incremental of Saturday comes to Friday in exchange.
    expect(bar).to_have_attribute("aria-label", re.compile("servers, incremental"))
    page.get_by_role("button", name=re.compile("^Sat 7")).click()
    expect(bar).to_have_attribute("aria-label", re.compile("servers, full"))
    page.get_by_role("button", name="Discard").click()
    expect(planner.effect()).to_have_count(0)


def test_moves_that_are_not_saved_outlive_the_page(planner):
    page = planner.page
    bar = planner.bar("fleet-telemetry")
    bar.focus()
    for _ in range(2):
        page.keyboard.press("Shift+ArrowRight")
    planner.bar("office-desks").focus()
    page.keyboard.press("ArrowRight")
    expect(page.get_by_text(re.compile("2 moves not saved"))).to_be_visible()
    page.keyboard.press("Escape")
    page.keyboard.press("Escape")
    expect(page.get_by_text(re.compile("2 moves not saved"))).to_be_visible()
    page.reload()
    left = page.get_by_role("region", name="Unsaved changes")
    expect(left).to_contain_text("2 unsaved changes")
    planner.bar("fleet-telemetry").wait_for()
    planner.check("unsaved changes are offered")
    left.get_by_role("button", name="Continue: 2 moves on the board").click()
    expect(planner.effect()).to_contain_text("(was")
    expect(left).not_to_be_attached()
    expect(page.locator("[data-bar]:focus")).to_have_count(1)
    # Each of them is an act of its own, saved and taken back.
    page.keyboard.press("Control+s")
    expect(page.get_by_text("2 changes", exact=True)).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_text("1 change", exact=True)).to_be_visible()
    page.reload()
    expect(planner.bar("fleet-telemetry")).to_be_visible()
    expect(left).not_to_be_attached()


def test_a_full_is_dragged_onto_the_week_strip(planner):
    page = planner.page
    box = planner.bar("fleet-telemetry").bounding_box()
    night = page.get_by_role("button", name=re.compile("^Sun 8")).bounding_box()
    page.mouse.move(box["x"] + 20, box["y"] + 8)
    page.mouse.down()
    page.mouse.move(night["x"] + 30, night["y"] + 30, steps=8)
    # Held over the night, it is simulated there already, and no hint covers the board.
    moved = "starts Sun 21:00 (was Fri 21:00)"
    expect(planner.effect()).to_contain_text(moved)
    expect(page.get_by_role("tooltip")).to_have_count(0)
    page.mouse.move(box["x"] + 20, box["y"] + 8, steps=4)
    expect(planner.effect()).to_have_count(0)
    page.mouse.move(night["x"] + 30, night["y"] + 30, steps=4)
    page.mouse.up()
    expect(planner.effect()).to_contain_text(moved)


def test_an_incremental_says_that_it_stays_in_its_night(planner):
    page = planner.page
    page.get_by_role("button", name=re.compile("^Tue 3")).click()
    expect(page.get_by_role("heading", name=re.compile("Tuesday night"))).to_be_visible()
    bar = page.get_by_role("button", name=re.compile(", incremental, done. Due Tue 2")).first
    box = bar.bounding_box()
    night = page.get_by_role("button", name=re.compile("^Sun 8")).bounding_box()
    page.mouse.move(box["x"] + 5, box["y"] + 3)
    page.mouse.down()
    page.mouse.move(night["x"] + 30, night["y"] + 30, steps=6)
    expect(planner.effect()).to_have_count(0)
    page.mouse.up()
    expect(page.get_by_role("alert")).to_contain_text("Only weekly fulls move by days.")


def test_the_first_bar_is_one_key_away(planner):
    page = planner.page
    page.keyboard.press("ArrowDown")
    assert page.evaluate("document.activeElement.dataset.job") == "office-files"
    page.keyboard.press("ArrowDown")
    expect(planner.bar("database-servers")).to_be_focused()
    page.reload()
    planner.bar("office-files").wait_for()
    page.keyboard.press("Tab")
    skip = page.get_by_role("button", name="Skip to the view")
    expect(skip).to_be_visible()
    page.keyboard.press("Enter")
    expect(planner.bar("office-files")).to_be_focused()


def test_a_locked_job_says_why_it_stays(planner):
    page = planner.page
    bar = planner.bar("cctv-store")
    bar.focus()
    page.keyboard.press("l")
    expect(planner.effect()).to_contain_text("CCTV store: locked")
    page.get_by_role("button", name="Save to draft").click()
    expect(page.get_by_role("button", name="Adopt")).to_be_visible()
    expect(page.get_by_label("locked")).to_be_visible()
    bar.focus()
    page.keyboard.press("ArrowRight")
    expect(page.get_by_role("alert")).to_contain_text("CCTV store is locked")


def test_the_facts_of_a_job_open_beside_the_board(planner):
    page = planner.page
    planner.bar("database-servers").focus()
    page.keyboard.press("Enter")
    sheet = page.get_by_role("complementary", name="Job Database servers")
    expect(sheet).to_contain_text(
        "incremental every day but Friday at 20:00, full on Friday at 21:00"
    )
    expect(sheet.get_by_role("cell", name=re.compile("dbserver-01"))).to_be_visible()
    page.keyboard.press("Escape")
    expect(sheet).to_have_count(0)


def test_the_table_says_the_same_and_sorts(planner):
    page = planner.page
    page.keyboard.press("t")
    table = page.get_by_role("table", name="Runs of the night")
    row = table.get_by_role("row", name=re.compile("Office file servers"))
    for text in ("full", "Fri 21:00", "Sat 07:45", "1 h 45 min", "proxy quay-p2"):
        expect(row).to_contain_text(text)
    table.get_by_role("button", name="Read").click()
    expect(table.get_by_role("columnheader", name="Read")).to_have_attribute(
        "aria-sort", re.compile("ascending|descending")
    )
    row.focus()
    page.keyboard.press("ArrowLeft")
    expect(planner.effect()).to_contain_text("starts Fri 20:55 (was Fri 21:00)")
    page.reload()
    expect(table).to_be_visible()
    page.keyboard.press("t")
    expect(planner.bar("office-files")).to_be_visible()


def test_rooflines_are_chosen_and_read_at_the_pointer(planner):
    page = planner.page
    roofs = page.get_by_role("region", name="Rooflines")
    expect(roofs.get_by_role("heading")).to_have_count(3)
    page.get_by_role("button", name=re.compile("^Rooflines")).click()
    page.get_by_role("menuitemcheckbox", name="Link Quay to Hill").click()
    page.keyboard.press("Escape")
    expect(roofs.get_by_role("heading", name="Link Quay to Hill")).to_be_visible()
    chart = roofs.get_by_role("img", name=re.compile("Proxy quay-p2, slots"))
    box = chart.bounding_box()
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + 30)
    expect(roofs).to_contain_text("0 slots left")
    expect(roofs).to_contain_text("waiting")


def test_the_week_strip_goes_by_arrow_keys_and_into_other_weeks(planner):
    page = planner.page
    page.get_by_role("button", name=re.compile("^Fri 6")).focus()
    page.keyboard.press("ArrowLeft")
    expect(page.get_by_role("heading", level=1)).to_have_text("Thursday night, 5 November")
    expect(page).to_have_url(re.compile("/board/2026-11-05"))
    page.keyboard.press("PageDown")
    expect(page.get_by_role("heading", level=1)).to_have_text("Thursday night, 12 November")


def test_the_keys_are_listed(planner):
    planner.page.keyboard.press("?")
    expect(planner.page.get_by_role("dialog", name="Keys of the board")).to_be_visible()


def test_a_used_link_and_a_strange_night_are_told(planner):
    page = planner.page
    page.goto(f"{planner.address}/board/2031-01-01")
    expect(page.get_by_role("alert")).to_contain_text("26 weeks ahead")
    page.goto(f"{planner.address}/sign-in#used-already")
    expect(page.get_by_role("alert")).to_contain_text("does not work any more")
    planner.complaints.clear()


@pytest.mark.parametrize(("theme", "size"), [("paper", (1280, 800)), ("night", (1600, 1000))])
def test_the_board_has_no_accessibility_violation(planner, theme, size):
    page = planner.page
    planner.dress(theme, size)
    planner.bar("office-files").click()
    expect(page.get_by_role("complementary")).to_contain_text("office-files-01")
    for shown in ("board", "table"):
        planner.check(shown)
        page.keyboard.press("t")


def test_findings_open_by_key_and_what_helps_goes_into_the_draft(planner):
    page = planner.page
    expect(page.get_by_role("button", name=re.compile("findings this week$"))).to_be_visible()
    page.keyboard.press("f")
    sheet = page.get_by_role("complementary", name="Findings")
    expect(sheet).to_contain_text("Office file servers ends 1 h 45 min after its window")
    sheet.get_by_role("button", name="What helps?").first.click()
    offers = sheet.get_by_role("list", name="What helps")
    expect(offers).to_contain_text("12 jobs pinned to quay-p2: read by any proxy")
    offers.get_by_role("button", name="Add to draft").first.click()
    expect(page.get_by_role("banner")).to_contain_text("12 changes")
    expect(sheet).to_contain_text("the adopted plan has")


def test_where_the_time_of_a_machine_went_is_said(planner):
    page = planner.page
    planner.bar("office-files").click()
    page.get_by_role("button", name="office-files-01").click()
    sheet = page.get_by_role("complementary", name="Job Office file servers")
    expect(sheet).to_contain_text(re.compile("Waits .* for Proxy quay-p2, slots; prepares 20 s"))
    expect(sheet).to_contain_text("in all.")
