"""Going anywhere and doing anything by name."""

import re

import pytest
from playwright.sync_api import expect
from test_keyboard import is_somewhere


@pytest.fixture
def find(planner):
    """Opens the finder and types into it; returns what it offers."""

    def type_in(text):
        planner.page.keyboard.press("Control+k")
        dialog = planner.page.get_by_role("dialog", name="Find or do something")
        dialog.get_by_role("combobox").fill(text)
        return dialog

    return type_in


@pytest.mark.parametrize(
    ("text", "choice", "address"),
    [
        ("tuesday", "Tuesday night, 3 November", r"/board/2026-11-03"),
        ("office file", "Office file servers", r"/jobs/2026-11-06\?.*job=office-files"),
        ("quay-p2", "quay-p2", r"/paths/2026-11-06\?.*item=proxies%2Fquay-p2"),
        ("hill-disk", "hill-disk", r"/paths/2026-11-06\?.*item=repositories%2Fhill-disk"),
        ("better week", "Look for a better week", r"/balance/2026-11-06"),
        ("ticketing-db-06", "ticketing-db-06", r"/estate/2026-11-06\?.*machine=ticketing-db-06"),
    ],
)
def test_a_name_leads_to_what_is_called_so(planner, find, text, choice, address):
    dialog = find(text)
    option = dialog.get_by_role("option", name=re.compile(f"^{choice}"))
    expect(option).to_have_attribute("aria-selected", "true")
    planner.page.keyboard.press("Enter")
    expect(planner.page).to_have_url(re.compile(address))
    expect(dialog).to_have_count(0)


def test_it_undoes_what_was_moved_and_offers_only_what_can_be_done(planner, find):
    page = planner.page
    dialog = find("")
    offered = dialog.get_by_role("option", name=re.compile("^(Undo|Save|Discard)"))
    expect(dialog.get_by_role("option", name=re.compile("^Make a new job"))).to_have_count(1)
    expect(offered).to_have_count(0)
    planner.check("finder")
    page.keyboard.press("Escape")
    expect(dialog).to_have_count(0)
    bar = planner.bar("office-files")
    bar.focus()
    page.keyboard.press("ArrowLeft")
    expect(bar).to_have_attribute("aria-label", re.compile("Due Fri 20:55"))
    dialog = find("undo")
    expect(dialog.get_by_role("option")).to_have_count(1)
    page.keyboard.press("Enter")
    expect(bar).to_have_attribute("aria-label", re.compile("Due Fri 21:00"))


def test_what_has_no_such_name_is_said_so(find):
    expect(find("zeppelin")).to_contain_text("Nothing is called that.")


@pytest.mark.parametrize(
    ("keys", "opened"),
    [
        ("inb", "Inbox"), ("sour", "Sources"), ("imp", "Import"), ("make", "New job"),
        ("reac", "Reach"), ("wind", "Windows"), ("sizi", "Sizing"),
    ],
)  # fmt: skip
def test_sheets_are_five_keys_from_find_and_have_the_focus(planner, keys, opened):
    """Four letters at most, then Enter."""
    page = planner.page
    page.keyboard.press("Control+k")
    expect(page.get_by_role("dialog", name="Find or do something")).to_be_visible()
    page.keyboard.type(keys)
    page.keyboard.press("Enter")
    sheet = page.get_by_role("complementary").or_(page.get_by_role("main"))
    expect(sheet.filter(has_text=re.compile(opened)).first).to_be_visible()
    is_somewhere(page)


def test_a_link_is_edited_with_four_keys_from_find(planner):
    """The first letters of its name, Enter, and Enter on Edit, which has the focus."""
    page = planner.page
    page.keyboard.press("Control+k")
    expect(page.get_by_role("dialog", name="Find or do something")).to_be_visible()
    page.keyboard.type("qh")
    expect(page.get_by_role("option").first).to_contain_text("Link Quay to Hill")
    page.keyboard.press("Enter")
    sheet = page.get_by_role("complementary", name="link quay-hill")
    expect(sheet.get_by_role("button", name="Edit")).to_be_focused()
    page.keyboard.press("Enter")
    expect(sheet.get_by_label("Rate (Mbit/s)")).to_be_visible()
    is_somewhere(page)
