"""Recovery driven by mouse and keyboard: the day of the loss, points of a machine, promises."""

from __future__ import annotations

import re

import pytest
from dresses import DRESSES
from playwright.sync_api import expect

VIEW = "/recovery/2026-11-06"


def lose(page, kind, name):
    page.get_by_role("button", name=re.compile(f"^{kind}")).click()
    page.get_by_role("menuitemcheckbox", name=re.compile(f"^{name}")).click()
    page.keyboard.press("Escape")


def told(page):
    return page.get_by_role("region", name="The day of the loss").get_by_role("status").first


def test_a_cluster_is_lost_and_a_way_found_that_keeps_every_promise(planner):
    page = planner.page
    lose(page, "cluster", "quay-a")
    expect(told(page)).to_contain_text("76 machines")
    expect(told(page)).to_contain_text("after the promised time")
    expect(page.get_by_text("no order before").first).to_be_visible()
    planner.check("the day of the loss")
    page.get_by_role("button", name="Look for a better way").click()
    proposals = page.get_by_role("list", name="Proposals")
    expect(proposals.get_by_role("listitem").first).to_contain_text("None instead of")
    planner.check("better ways")
    proposals.get_by_role("button", name="Take it").first.click()
    expect(told(page)).to_contain_text("All are back within their promised time")
    page.get_by_role("button", name="Rehearse it").press("Enter")
    sheet = page.get_by_role("complementary", name="Rehearsal of this recovery")
    expect(sheet.get_by_role("status")).to_contain_text("76 of 76 back. The last was back")
    sheet.get_by_role("slider").focus()
    page.keyboard.press("Home")
    expect(sheet.get_by_role("status")).to_contain_text("0 of 76 back. As it goes")
    planner.check("a rehearsal")
    page.keyboard.press("Escape")
    expect(sheet).to_have_count(0)
    # It is there after a reload, and after another view.
    page.reload()
    expect(told(page)).to_contain_text("All are back within their promised time")


def test_an_order_is_changed_by_keyboard_and_a_machine_starts_at_once(planner):
    page = planner.page
    lose(page, "cluster", "quay-a")
    lanes = page.get_by_role("group", name="Tier gold").get_by_role("button")
    first = lanes.nth(0).get_attribute("data-machine")
    lanes.nth(0).focus()
    page.keyboard.press("Shift+ArrowDown")
    expect(lanes.nth(1)).to_have_attribute("data-machine", first)
    moved = page.locator(f'[data-machine="{first}"]')
    expect(moved).to_be_focused()
    page.keyboard.press("i")
    expect(moved).to_contain_text("instant start")
    page.keyboard.press("Enter")
    sheet = page.get_by_role("complementary", name=f"{first} on its way back")
    expect(sheet).to_contain_text("From the point of")
    sheet.get_by_role("button", name="First of its tier").click()
    expect(lanes.nth(0)).to_have_attribute("data-machine", first)
    planner.check("a machine")
    page.get_by_role("button", name="Usual order").click()
    expect(page.get_by_role("button", name="Usual order")).to_have_count(0)


@pytest.mark.long
def test_a_recovery_is_kept_and_opened_again(planner):
    page = planner.page
    lose(page, "site", "Quay")
    expect(told(page)).to_contain_text("cannot be brought back")
    expect(page.get_by_role("region", name="What a copy would have saved")).to_contain_text(
        "Ticketing apps"
    )
    missing = page.get_by_role("region", name="What a copy would have saved")
    missing.get_by_role("button", name="See what copies would have saved").press("Enter")
    expect(missing.get_by_role("status")).to_contain_text(
        re.compile(r"jobs copied to hill-disk: \d+ instead of \d+ machines come back")
    )
    expect(missing.get_by_role("status")).to_contain_text("It costs the week")
    planner.check("copies that would have helped")
    page.get_by_role("button", name="Keep and compare").click()
    page.get_by_label("Name of this recovery").fill("Quay burns")
    page.get_by_role("button", name="Keep", exact=True).click()
    kept = page.get_by_role("list", name="Recoveries that are kept")
    expect(kept).to_contain_text("Quay burns")
    expect(kept).to_contain_text("of 54 back")
    lose(page, "site", "Quay")
    expect(page.get_by_text("Choose what is gone.")).to_be_visible()
    lose(page, "site", "Hill")
    page.get_by_role("button", name="Keep and compare").click()
    kept.get_by_role("button", name="Open").click()
    expect(told(page)).to_contain_text("Site Quay: 181 machines")
    planner.check("kept recoveries")
    kept.get_by_role("button", name="Forget").click()
    page.get_by_role("dialog").get_by_role("button", name="Forget").click()
    expect(kept).to_have_count(0)


def test_points_of_a_machine_and_what_falls_with_a_bad_one(planner):
    page = planner.page
    page.get_by_role("button", name="Points", exact=True).click()
    page.get_by_label("Machine").fill("ticketing-db-01")
    page.get_by_label("Machine").press("Enter")
    points = page.get_by_role("region", name="Points of ticketing-db-01")
    expect(points.get_by_role("status")).to_contain_text("The newest that can be used")
    planner.check("points")
    points.get_by_role("group", name="Points by job and repository").get_by_role(
        "button", name=re.compile("^full of Fri 30 Oct")
    ).first.focus()
    page.keyboard.press("Enter")
    sheet = page.get_by_role("complementary", name="Point of ticketing-db-01")
    expect(sheet).to_contain_text("The whole machine")
    sheet.get_by_role("button", name="See what falls with it").click()
    expect(sheet.get_by_role("status")).to_contain_text("fall with it")
    sheet.get_by_role("button", name=re.compile("^Restore it at")).click()
    expect(sheet.get_by_role("status").first).to_contain_text("Back Sat")
    planner.check("a point")
    # It is marked by keyboard, and taken back: what needs it falls and stands again.
    why = sheet.get_by_label("What is wrong with it")
    why.fill("does not boot")
    page.keyboard.press("Enter")
    expect(sheet).to_contain_text("bad, said by hand: does not boot")
    expect(sheet).to_contain_text("It was found to be bad")
    planner.check("a bad point")
    page.reload()
    expect(sheet).to_contain_text("does not boot")
    sheet.get_by_label("Why it is good after all").fill("the wrong one")
    sheet.get_by_role("button", name="It is good after all").click()
    expect(sheet).to_contain_text("good, said by hand")
    expect(sheet.get_by_text("It was found to be bad")).to_have_count(0)


@pytest.mark.parametrize(("theme", "size"), DRESSES)
def test_a_rota_is_set_and_a_test_ticked_by_hand(planner, theme, size):
    planner.dress(theme, size)
    page = planner.page
    page.get_by_role("button", name="Tests", exact=True).click()
    tests = page.get_by_role("region", name="Restore tests")
    tests.get_by_role("button", name=re.compile("rota$")).press("Enter")
    gold = tests.get_by_label(re.compile("^gold: every machine once in"))
    gold.fill("30")
    planner.check(f"the rota, {theme}")
    gold.press("Enter")
    expect(tests.get_by_role("status").first).to_contain_text("in the coming days, the first")
    days = tests.get_by_role("group", name="Tests of the coming days")
    first = days.locator("button[aria-pressed]").first
    machine = first.get_attribute("aria-label").split(",")[0]
    first.press("Enter")
    sheet = page.get_by_role("complementary", name=f"Test of {machine}")
    expect(sheet).to_contain_text("until it starts, then its boot, then away")
    planner.check(f"a test, {theme}")
    sheet.get_by_label("What was seen").fill("signed in, all services up")
    page.keyboard.press("Enter")
    record = tests.get_by_role("table", name="Restore tests, the newest first")
    expect(record.get_by_role("row").filter(has_text=machine).first).to_contain_text("passed")


@pytest.mark.parametrize(("theme", "size"), DRESSES)
def test_promises_are_read_night_by_night(planner, theme, size):
    planner.dress(theme, size)
    page = planner.page
    page.get_by_role("button", name="Promises").click()
    promises = page.get_by_role("region", name="Promises")
    expect(promises.get_by_role("status")).to_contain_text("would be back later than promised")
    expect(promises.get_by_role("row").filter(has_text="gold").first).to_contain_text("broken")
    planner.check(f"promises, {theme}")
    machine = promises.get_by_role("table").last.get_by_role("link").first
    name = machine.inner_text()
    machine.click()
    expect(page.get_by_role("region", name=f"Points of {name}")).to_be_visible()
