"""A planner looks at the paths, the windows and what the night lacks."""

from __future__ import annotations

import re

import pytest
from dresses import DRESSES
from playwright.sync_api import expect

REFUSED = "422 (UNPROCESSABLE ENTITY)"

VIEW = "/paths"


@pytest.fixture
def paths(planner):
    expect(node(planner.page, "proxy:quay-p2")).to_be_visible()
    expect(planner.page.get_by_role("main").get_by_role("status").first).to_contain_text("squeeze")
    return planner


def node(page, name):
    return page.locator(f'[data-node="{name}"]')


def show(page, pane):
    page.get_by_role("navigation", name="What of the paths").get_by_role(
        "button", name=pane
    ).click()


def test_the_map_marks_squeezes_by_the_hour_and_is_reached_by_keyboard(paths):
    page = paths.page
    expect(node(page, "proxy:quay-p2")).to_contain_text(re.compile("full, .* wait"))
    hour = page.get_by_role("slider", name="Hour of the night")
    hour.focus()
    page.keyboard.press("Home")
    expect(hour).to_have_attribute("aria-valuetext", "12:00")
    expect(page.get_by_text("nothing squeezes")).to_be_visible()
    expect(node(page, "proxy:quay-p2")).to_contain_text("0 MiB/s of 720 MiB/s")
    node(page, "link:quay-hill").focus()
    page.keyboard.press("Enter")
    sheet = page.get_by_role("complementary", name="link quay-hill")
    expect(sheet).to_contain_text("leaves a site unencrypted")
    expect(sheet).to_contain_text("400 Mbit/s, Mon to Fri 07:00 to 19:00")
    expect(sheet.get_by_text("Radar recorders")).to_be_visible()
    page.keyboard.press("Escape")
    expect(sheet).to_have_count(0)
    show(page, "Table")
    table = page.get_by_role("table", name="Paths")
    expect(table.get_by_role("row", name=re.compile("repository hill-disk hill"))).to_be_visible()


def test_an_edit_is_seen_in_the_week_before_it_is_kept_and_bad_values_are_named(paths):
    page = paths.page
    node(page, "proxy:quay-p2").click()
    sheet = page.get_by_role("complementary", name="proxy quay-p2")
    sheet.get_by_role("button", name="Edit").click()
    keep = sheet.get_by_role("button", name="Add to draft")
    expect(keep).to_be_disabled()
    sheet.get_by_label("Throughput (MiB/s)").fill("1440,5")
    expect(paths.effect()).to_contain_text("throughput 1440.5 MiB/s (was 720 MiB/s)")
    full = "of 1,441 MiB/s"
    expect(node(page, "proxy:quay-p2")).to_contain_text(full)
    sheet.get_by_label("Slots").fill("0")
    expect(sheet.get_by_text("is below 1")).to_be_visible()
    expect(keep).to_be_disabled()
    sheet.get_by_label("Slots").fill("many")
    expect(sheet.get_by_text("is not a number")).to_be_visible()
    sheet.get_by_label("Slots").fill("10")
    expect(keep).to_be_enabled()
    keep.click()
    expect(sheet).to_contain_text("1440.5 MiB/s")
    expect(page.get_by_text("1 change", exact=True)).to_be_visible()
    paths.complaints = [c for c in paths.complaints if REFUSED not in c]


def test_a_host_is_pinned_in_the_reach_table_with_its_effect(paths):
    page = paths.page
    show(page, "Reach")
    page.get_by_role("button", name=re.compile("^qb-h1, quay-p3: hot-add")).click()
    sheet = page.get_by_role("complementary", name="Why this way")
    expect(sheet).to_contain_text("hot-add: yes, its host qb-h1 mounts qb-main")
    sheet.get_by_role("button", name="Pin qb-h1 to quay-p3").click()
    expect(paths.effect()).to_contain_text("host qb-h1: read by quay-p3 (was any proxy)")
    sheet.get_by_role("button", name="Add to draft").click()
    expect(page.get_by_role("button", name=re.compile("^qb-h1, quay-p2: no way"))).to_be_visible()


def test_a_window_is_painted_and_given_an_exception(paths):
    page = paths.page
    show(page, "Windows")
    window = page.get_by_role("region", name="Window night")
    expect(window).to_contain_text("every day 20:00 to 06:00")
    expect(window).to_contain_text("the clock goes forward; it is open 1 h less")
    grid = window.get_by_role("grid", name="Hours of the window night")
    grid.focus()
    page.keyboard.press("Space")
    expect(window).to_contain_text("Mon 20:15 to 06:00")
    page.keyboard.press("ArrowLeft")
    page.keyboard.press("Space")
    expect(window).to_contain_text("Mon 19:45 to 20:00")
    window.get_by_role("button", name="Copy Mon to every night").click()
    expect(window).to_contain_text("every day 19:45 to 20:00; every day 20:15 to 06:00")
    box = grid.bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.30, box["y"] + 5)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.80, box["y"] + box["height"] - 5, steps=4)
    page.mouse.up()
    expect(window.get_by_text(re.compile("^every day 19:"))).to_be_visible()
    window.get_by_role("button", name="Discard").click()
    expect(window).to_contain_text("every day 20:00 to 06:00")
    window.get_by_label("On", exact=True).fill("2026-12-31")
    window.get_by_role("button", name="Add as closed").click()
    expect(window).to_contain_text("Thu 31 December 2026: closed")
    window.get_by_role("button", name="Add to draft").click()
    expect(page.get_by_text("1 change", exact=True)).to_be_visible()


def test_holidays_are_taken_from_a_file_and_a_bad_rule_is_named(paths):
    page = paths.page
    show(page, "Windows")
    page.get_by_role("button", name=re.compile("^holidays")).click()
    calendar = page.get_by_role("region", name="Calendar holidays")
    good = "BEGIN:VEVENT\r\nSUMMARY:Harbour day\r\nDTSTART;VALUE=DATE:20270317\r\nEND:VEVENT\r\n"
    bad = good.replace("Harbour", "Odd").replace("END", "RRULE:FREQ=ODD\r\nEND")
    content = f"BEGIN:VCALENDAR\r\n{good}{bad}END:VCALENDAR\r\n"
    calendar.get_by_label("Dates from an iCalendar file (.ics)").set_input_files(
        [{"name": "h.ics", "mimeType": "text/calendar", "buffer": content.encode()}]
    )
    expect(calendar.get_by_role("alert")).to_contain_text("Odd day: RRULE")
    calendar.get_by_role("button", name="Take the good ones").click()
    expect(calendar.get_by_role("button", name=re.compile("Wed 17 March 2027"))).to_be_visible()
    calendar.get_by_role("button", name="Add to draft").click()
    expect(page.get_by_text("1 change", exact=True)).to_be_visible()


def test_a_calendar_freezes_chosen_jobs(paths):
    page = paths.page
    show(page, "Windows")
    page.get_by_role("button", name=re.compile("^holidays")).click()
    calendar = page.get_by_role("region", name="Calendar holidays")
    skipped = calendar.get_by_role("button", name=re.compile("^Skipped by"))
    expect(skipped).to_contain_text("1 job")
    skipped.click()
    page.get_by_role("menuitemcheckbox", name="Fleet telemetry").click()
    page.get_by_role("menuitemcheckbox", name=re.compile("^Payroll close")).click()
    page.keyboard.press("Escape")
    calendar.get_by_label("Another date").fill("2026-12-30")
    calendar.get_by_label("through (optional)").fill("2027-01-02")
    calendar.get_by_role("button", name="Add", exact=True).click()
    expect(calendar.get_by_role("button", name=re.compile("January 2027"))).to_have_count(2)
    calendar.get_by_role("button", name="Add to draft").click()
    expect(page.get_by_text("3 changes", exact=True)).to_be_visible()
    expect(calendar).to_contain_text("Named by job fleet-telemetry.")


def test_the_ceilings_of_streams_are_typed_and_outlive_a_reload(paths):
    page = paths.page
    show(page, "Table")
    page.get_by_role("button", name="Change", exact=True).click()
    form = page.get_by_role("form", name="Ceilings of one stream")
    form.get_by_label(re.compile("^Direct")).fill("380")
    expect(paths.effect()).to_contain_text("ceilings of one stream: direct 380 MiB/s")
    page.reload()
    expect(form.get_by_label(re.compile("^Direct"))).to_have_value("380")
    form.get_by_role("button", name="Add to draft").click()
    expect(page.get_by_text("1 change", exact=True)).to_be_visible()
    expect(page.get_by_text(re.compile("^One stream moves at most"))).to_contain_text("direct 380")


def test_sizing_finds_what_makes_friday_fit_and_shows_it(paths):
    page = paths.page
    show(page, "Sizing")
    page.get_by_role("button", name=re.compile("What would make Friday fit")).click()
    expect(page.get_by_role("button", name="Stop")).to_be_visible()
    expect(page.get_by_role("button", name="Look again")).to_be_visible()
    enough = page.get_by_role("list", name="Enough")
    expect(enough).to_contain_text("12 jobs pinned to quay-p2")
    expect(enough).to_contain_text("Reading from quay-dedupe")
    expect(page.get_by_role("list", name="Could go")).to_contain_text("quay-p1")
    enough.get_by_role("button", name="See the week").first.click()
    friday = page.locator('[data-night="2026-11-06"]')
    expect(friday).to_contain_text("tight")
    enough.get_by_role("button", name="Add to draft").first.click()
    expect(page.get_by_text("13 changes", exact=True)).to_be_visible()


@pytest.mark.long
@pytest.mark.parametrize(("theme", "size"), DRESSES)
def test_the_paths_have_no_accessibility_violation(paths, theme, size):
    page = paths.page
    paths.dress(theme, size)
    expect(node(page, "proxy:quay-p2")).to_be_visible()
    for pane in ("Map", "Table", "Reach", "Windows", "Sizing", "edit"):
        if pane == "edit":
            show(page, "Map")
            node(page, "link:quay-hill").click()
            page.get_by_role("button", name="Edit").click()
        else:
            show(page, pane)
        page.wait_for_timeout(900)
        paths.check(pane)
