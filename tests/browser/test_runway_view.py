"""Runway driven by mouse and keyboard: the date moves while a retention is typed, and the rest."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

VIEW = "/runway/2026-11-06"


def panel(page, name):
    return page.locator(f'[data-repository="{name}"]')


def sheet(page, name):
    return page.get_by_role("complementary", name=re.compile(name))


def test_a_retention_moves_the_date_while_it_is_typed_and_is_kept(planner):
    planner.go(VIEW)
    page = planner.page
    expect(page.get_by_text(re.compile(r"^quay-disk is full on "))).to_be_visible()
    planner.check("space")
    disk = panel(page, "quay-disk")
    disk.focus()
    page.keyboard.press("Enter")
    expect(sheet(page, "Repository quay-disk")).to_contain_text("Jobs in it")
    planner.check("a repository")
    page.locator('[data-job-in="cctv-store"]').focus()
    page.keyboard.press("Enter")
    points = page.get_by_label("Newest points")
    expect(points).to_be_focused()
    for typed in ("30", "20", "2"):
        page.keyboard.press("Control+a")
        page.keyboard.type(typed)
        expect(disk).to_contain_text("was 24 Apr 2027")
    # A reload in the middle loses nothing.
    page.reload()
    expect(points).to_have_value("2")
    expect(disk).to_contain_text("was 24 Apr 2027")
    planner.check("a job beside the curves")
    page.keyboard.press("Control+s")
    expect(page.get_by_text("1 change", exact=True)).to_be_visible()
    expect(disk).not_to_contain_text("was 24 Apr 2027")
    expect(disk).not_to_contain_text("24 Apr 2027")
    # Step by step back: to the repository, to its panel.
    page.keyboard.press("Escape")
    expect(page.locator('[data-job-in="cctv-store"]')).to_be_focused()
    page.keyboard.press("Escape")
    expect(disk).to_be_focused()


def test_answers_are_tried_and_one_is_kept(planner):
    planner.go(f"{VIEW}?repository=quay-disk")
    page = planner.page
    below = page.get_by_label("Below (% of its space)")
    below.fill("95")
    page.get_by_role("button", name="Look for answers").click()
    answers = page.get_by_role("list", name="Answers that are enough").get_by_role("listitem")
    expect(answers.first).to_be_visible()
    planner.check("answers")
    page.get_by_role("button", name="Try it").first.click()
    expect(panel(page, "quay-disk")).to_contain_text("was 24 Apr 2027")
    page.get_by_role("button", name="Stop trying it").click()
    expect(panel(page, "quay-disk")).not_to_contain_text("was 24 Apr 2027")
    page.get_by_role("button", name="Add to draft").first.click()
    expect(page.get_by_text(re.compile(r"^\d+ changes?$"))).to_be_visible()
    below.fill("300")
    expect(page.get_by_role("button", name="Look for answers")).to_be_disabled()


def test_a_change_to_come_is_expected_and_switched(planner):
    planner.go(f"{VIEW}?part=growth")
    page = planner.page
    expect(page.get_by_text("40 machines like machines tagged telemetry")).to_be_visible()
    planner.check("growth and changes")
    page.get_by_role("checkbox", name=re.compile("^Spring fleet")).check()
    expect(page.get_by_text("1 change", exact=True)).to_be_visible()
    page.get_by_role("button", name="Expect a change").click()
    page.get_by_label("Name", exact=True).fill("Lab doubles")
    page.get_by_role("button", name="A rule").click()
    page.get_by_label("Value for folder").fill("lab")
    page.get_by_label("On", exact=True).fill("2027-05-01")
    planner.check("a change to come")
    page.get_by_role("button", name="Add to draft").click()
    expect(page.get_by_text("Lab doubles")).to_be_visible()
    page.get_by_role("button", name="Space", exact=True).click()
    expect(page.get_by_text(re.compile("Counts 2 assumptions"))).to_be_visible()
    expect(panel(page, "quay-disk")).to_contain_text("full on")


@pytest.mark.long
def test_nights_and_the_purchase_are_worked_out(planner):
    planner.go(f"{VIEW}?part=nights&months=6")
    page = planner.page
    page.get_by_role("button", name="Simulate the nights").click()
    told = page.get_by_role("list", name="The nights in words")
    expect(told).to_contain_text("Window night does not hold now")
    expect(page.get_by_role("button", name="Cancel")).to_have_count(0)
    planner.check("nights ahead")
    page.get_by_role("button", name="The next purchase").click()
    page.get_by_role("button", name="Work out the purchase").click()
    bought = page.get_by_role("region", name="What to buy")
    expect(bought).to_contain_text("more space in quay-disk")
    expect(bought).to_contain_text("proxy like quay-p2")
    planner.check("a purchase")
    with page.expect_download() as begun:
        page.get_by_role("link", name="CSV").click()
    assert "order_by" in open(begun.value.path(), encoding="utf-8").readline()  # noqa: SIM115
    # It is there after a reload.
    page.reload()
    expect(bought).to_contain_text("more space in quay-disk")


@pytest.mark.parametrize(
    ("by", "shown"), [("tag", "gold"), ("owner", "workplace"), ("job", "Mail server")]
)
def test_occupancy_by_group_and_as_a_file(planner, by, shown):
    planner.go(f"{VIEW}?part=occupancy")
    page = planner.page
    expect(page.get_by_role("table", name="Who takes how much")).to_contain_text("ticketing")
    page.get_by_role("button", name=re.compile("^By")).click()
    page.get_by_role("menuitemradio", name=by, exact=True).click()
    table = page.get_by_role("table", name="Who takes how much")
    expect(table).to_contain_text(shown)
    planner.check("occupancy")
    page.get_by_label("On", exact=True).fill("2040-01-01")
    expect(page.get_by_role("alert")).to_contain_text("is not between")
    planner.complaints = [said for said in planner.complaints if "422" not in said]


def test_the_table_says_the_same_in_both_themes(planner):
    planner.go(f"{VIEW}?as=table")
    page = planner.page
    table = page.get_by_role("table", name="The most that each repository holds in each month")
    expect(table.get_by_role("row")).to_have_count(26)
    for theme in ("night", "paper"):
        planner.dress(theme, (1600, 1000))
        expect(table).to_be_visible()
        planner.check(f"the table, {theme}")
