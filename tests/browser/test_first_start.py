"""The first start: from nothing to a plan, by keyboard, with what the screen says alone."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect


def test_from_nothing_to_a_first_night_by_keyboard(newcomer):
    page = newcomer.page
    expect(page.get_by_role("heading", name="Nothing is planned here yet")).to_be_visible()
    newcomer.check("the first start")
    page.get_by_role("radio", name="Bring files").focus()
    page.keyboard.press("Space")
    page.get_by_label("Name of the plan").focus()
    page.keyboard.type("Harbour")
    page.keyboard.press("Tab")
    page.keyboard.type("barn")
    page.keyboard.press("Enter")
    # It goes on where the inventory is brought.
    page.wait_for_url("**/estate**panel=import**")
    expect(page.get_by_role("complementary")).to_be_visible()
    page.goto(f"{newcomer.address}/board")
    steps = page.get_by_role("list", name="Steps to the first night")
    expect(steps.get_by_role("listitem")).to_have_count(4)
    expect(steps.locator('[aria-current="step"]')).to_contain_text("What there is")
    newcomer.check("the four steps")
    # Each step leads to where it is done.
    for link, place in (
        ("Ask hypervisors and agents", "Sources"),
        ("Add a repository", "repository"),
        ("Draw a window", "Windows"),
        ("Write the first job", "job"),
    ):
        page.goto(f"{newcomer.address}/board")
        page.get_by_role("link", name=link).focus()
        page.keyboard.press("Enter")
        page.wait_for_url(lambda url: "/board" not in url)
        expect(page.locator("main, aside").filter(has_text=place).first).to_be_visible()


@pytest.mark.long
def test_the_sample_is_one_click_away(newcomer):
    page = newcomer.page
    page.get_by_role("radio", name="Look around in sample data").click()
    page.get_by_role("button", name="Begin").click()
    page.wait_for_selector("[data-bar]")
    expect(page.locator("[data-night]").filter(has_text="over").first).to_be_visible()


def test_a_file_that_is_no_plan_keeps_what_was_typed(newcomer, tmp_path):
    page = newcomer.page
    wrong = tmp_path / "wrong.json"
    wrong.write_text('{"format": "gambrel-plan/1", "jobs": 3}')
    page.get_by_role("radio", name="Bring files").click()
    page.locator("#plan-file").set_input_files(wrong)
    page.get_by_label("Name of the plan").fill("Harbour")
    page.get_by_role("button", name="Begin").click()
    expect(page.get_by_role("alert")).to_contain_text("jobs")
    expect(page.get_by_label("Name of the plan")).to_have_value("Harbour")
    newcomer.complaints.clear()
