"""By keyboard alone: the focus is always in something, and comes back to where it was."""

import re

import pytest
from keyboard import holds
from playwright.sync_api import expect

FOCUS = "document.activeElement.closest('[aria-label]')?.getAttribute('aria-label') ?? ''"


def focused(page):
    """What has the focus, by its own name or that of what it is in; "" for the page itself."""
    return page.evaluate(FOCUS)


def is_somewhere(page):
    holds(page, "document.activeElement && document.activeElement !== document.body")


def press(page, *keys):
    for key in keys:
        page.keyboard.press(key)


def test_a_full_that_moves_leaves_the_focus_at_its_job(planner):
    page = planner.page
    planner.bar("fleet-telemetry").focus()
    press(page, "]")
    expect(planner.effect()).to_contain_text("starts Sat")
    is_somewhere(page)
    holds(page, "document.activeElement.dataset.job === 'fleet-telemetry'")


def test_a_sheet_takes_the_focus_and_gives_it_back(planner):
    page = planner.page
    planner.bar("database-servers").focus()
    press(page, "Enter")
    sheet = page.get_by_role("complementary", name="Job Database servers")
    expect(sheet).to_be_focused()
    press(page, "Escape")
    expect(sheet).not_to_be_attached()
    expect(planner.bar("database-servers")).to_be_focused()
    press(page, "f")
    expect(page.get_by_role("complementary", name="Findings")).to_be_focused()
    press(page, "Escape")
    expect(planner.bar("database-servers")).to_be_focused()


def test_find_leads_into_what_it_opens(planner):
    page = planner.page
    press(page, "Control+k")
    page.keyboard.type("finance databases")
    page.get_by_role("option", name=re.compile("Finance databases")).first.wait_for()
    press(page, "Enter")
    is_somewhere(page)
    expect(page.locator("main, aside").first).to_be_visible()
    assert "Find or do something" not in focused(page)


def test_adopting_opens_on_the_note_and_leaves_the_plan_in_the_address(planner):
    page = planner.page
    planner.bar("fleet-telemetry").focus()
    press(page, "ArrowRight", "Control+s")
    expect(page.get_by_text("1 change", exact=True)).to_be_visible()
    planner.effect().get_by_role("button", name="Adopt").focus()
    press(page, "Enter")
    expect(page.get_by_label(re.compile("^Note: why"))).to_be_focused()
    press(page, "Escape")
    expect(planner.effect().get_by_role("button", name="Adopt")).to_be_focused()
    press(page, "Enter")
    page.get_by_role("button", name="Adopt this plan").click()
    expect(page).to_have_url(re.compile(r"plan=\d+&draft=none"))
    is_somewhere(page)


@pytest.mark.parametrize("dialog", ["Month", "Find"])
def test_a_dialog_gives_the_focus_back(planner, dialog):
    page = planner.page
    opener = page.get_by_role("button", name=re.compile(f"^{dialog}"))
    opener.focus()
    press(page, "Enter")
    expect(page.get_by_role("dialog")).to_be_visible()
    press(page, "Escape")
    expect(page.get_by_role("dialog")).not_to_be_attached()
    expect(opener).to_be_focused()


def test_the_week_of_a_month_is_walked_by_arrow_keys(planner):
    page = planner.page
    page.get_by_role("button", name="Month", exact=True).click()
    table = page.get_by_role("table", name="Nights of five weeks")
    expect(table.get_by_role("button").nth(30)).to_be_visible()
    stop = table.locator("button:not([tabindex='-1']):not(:disabled)")
    expect(stop).to_have_count(1)
    stop.focus()
    press(page, "ArrowDown", "ArrowRight", "Enter")
    expect(page.get_by_role("dialog")).not_to_be_attached()
    expect(page).to_have_url(re.compile("/board/2026-11-1"))
    is_somewhere(page)
