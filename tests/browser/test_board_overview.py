"""The board by machines, hosts, proxies and so on; the week and the month; room; printing."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect


def lanes_by(page, what):
    page.get_by_role("button", name=re.compile("^Lanes by")).click()
    page.get_by_role("menuitemradio", name=what, exact=True).click()


@pytest.mark.parametrize("what", ["machine", "host", "proxy", "repository", "link", "tier"])
def test_lanes_of_places(planner, what):
    page = planner.page
    lanes_by(page, what)
    region = page.get_by_role("region", name=re.compile(f"^Work by {what}"))
    expect(region).to_be_visible()
    expect(region.get_by_role("button")).not_to_have_count(0)
    assert f"lanes={what}" in page.url
    planner.check(f"lanes by {what}")


def test_lanes_fold_and_zoom_by_keyboard(planner):
    page = planner.page
    lanes_by(page, "proxy")
    region = page.get_by_role("region", name=re.compile("^Work by proxy"))
    lane = region.get_by_role("button", name=re.compile("^quay-p2"))
    expect(lane).to_have_attribute("aria-expanded", "true")
    open_height = lane.bounding_box()["height"]
    lane.focus()
    page.keyboard.press("Enter")
    expect(lane).to_have_attribute("aria-expanded", "false")
    assert lane.bounding_box()["height"] < open_height
    page.get_by_role("button", name="Unfold all").click()
    expect(lane).to_have_attribute("aria-expanded", "true")
    region.focus()
    for key in ("+", "ArrowRight", "-", "0"):
        page.keyboard.press(key)


def test_a_piece_opens_its_job(planner):
    page = planner.page
    lanes_by(page, "tier")
    region = page.get_by_role("region", name=re.compile("^Work by tier"))
    expect(region.get_by_role("button")).not_to_have_count(0)
    box = page.locator("[data-overview] canvas").last.bounding_box()
    tip = page.locator("[data-overview] .cursor-pointer")
    for x in range(int(box["x"]) + 60, int(box["x"]) + 700, 25):
        page.mouse.move(x, box["y"] + 10)
        page.evaluate("new Promise(done => requestAnimationFrame(() => setTimeout(done)))")
        if tip.count():
            page.mouse.down()
            page.mouse.up()
            break
    expect(page.get_by_role("complementary", name=re.compile("^Job "))).to_be_visible()


def test_the_week_stands_on_one_axis(planner):
    page = planner.page
    page.keyboard.press("w")
    expect(page.get_by_role("region", name=re.compile("^Work by job"))).to_be_visible()
    page.keyboard.press("t")
    expect(page.get_by_role("table", name="Work by job")).to_contain_text("Lab")
    page.keyboard.press("t")
    page.keyboard.press("w")
    expect(page.get_by_role("region", name="Runs by job")).to_be_visible()


def test_the_month_leads_to_a_night(planner):
    page = planner.page
    page.get_by_role("button", name="Month", exact=True).click()
    month = page.get_by_role("dialog")
    expect(month.get_by_role("row")).to_have_count(6)
    thirteenth = month.get_by_role("button", name=re.compile("^13"))
    expect(thirteenth).to_be_enabled()
    planner.check("the month")
    thirteenth.click()
    expect(page).to_have_url(re.compile("2026-11-13"))


def test_where_is_room_stands_under_the_axis(planner):
    page = planner.page
    planner.bar("lab-builds").focus()
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Where is room?").click()
    strip = page.get_by_role("group", name="Where is room for Lab")
    start = strip.get_by_role("button", name=re.compile("^Start 23:30"))
    expect(start).to_be_visible()
    start.click()
    expect(planner.effect()).to_contain_text("23:30")


def test_the_board_is_printed_without_its_frame(planner):
    page = planner.page
    expect(page.get_by_role("button", name="Print the board")).to_be_visible()
    page.emulate_media(media="print")
    expect(page.get_by_role("navigation", name="Views")).to_be_hidden()
    expect(page.get_by_role("heading", name=re.compile("Friday night"))).to_be_visible()


def test_lanes_of_places_show_what_is_moved_before_it_is_saved(planner):
    page = planner.page
    lanes_by(page, "proxy")
    region = page.get_by_role("region", name=re.compile("^Work by proxy"))
    lane = region.get_by_role("button", name=re.compile("^quay-p2"))
    expect(lane).to_contain_text("quay-p2")
    was = lane.get_attribute("aria-label")
    lanes_by(page, "job")
    planner.bar("office-files").focus()
    for _ in range(4):
        page.keyboard.press("ArrowLeft")
    expect(planner.effect()).to_be_visible()
    lanes_by(page, "proxy")
    expect(lane).not_to_have_attribute("aria-label", was)
