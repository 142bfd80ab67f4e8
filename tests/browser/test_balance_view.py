"""Balance driven by mouse and keyboard: a week that fits, what if, and how sure it is."""

from __future__ import annotations

import re

import pytest
from dresses import DRESSES
from playwright.sync_api import expect

VIEW = "/balance"


@pytest.fixture
def balance(planner):
    expect(planner.page.get_by_role("heading", name="Balance", exact=True)).to_be_visible()
    yield planner
    planner.app.extensions["gambrel-computations"].cancel_all()


def night(page, day):
    return page.locator(f'[data-night="2026-11-0{day}"]')


def allow(page, *, seconds):
    page.get_by_role("button", name=re.compile("^at most")).click()
    page.get_by_label("Time (seconds)").fill(str(seconds))


def searched(page):
    """Search until the week fits, however slow the machine; then take the best so far."""
    allow(page, seconds=600)
    page.get_by_role("button", name="Look for a better week").click()
    expect(page.get_by_text("the week fits").first).to_be_visible(timeout=240_000)
    stop = page.get_by_role("button", name="Stop, take the best so far")
    if stop.is_visible():
        stop.click()
    moves = page.get_by_role("list", name="Moves by gain")
    expect(moves).to_be_visible()
    return moves


def test_a_week_that_fits_is_found_understood_taken_and_adopted(balance):
    page = balance.page
    expect(night(page, 6)).to_contain_text("over")
    moves = searched(page)
    lines = moves.get_by_role("listitem")
    assert 1 <= lines.count() <= 15
    for i in range(lines.count()):
        expect(lines.nth(i)).to_contain_text(re.compile("[Oo]n its own"))
    # What is ticked is what the nights above show.
    expect(night(page, 6)).to_contain_text("fits")
    page.get_by_role("button", name="None", exact=True).click()
    expect(night(page, 6)).to_contain_text("over")
    page.get_by_role("button", name="All", exact=True).click()
    expect(night(page, 6)).to_contain_text("fits")
    expect(page.get_by_role("region", name="How far any plan could go")).to_contain_text("at least")
    balance.check("a proposal")
    # Any rung can be looked at by the arrow keys; the nights above follow.
    rungs = page.get_by_role("radiogroup", name="Plans by the number of their moves")
    fits = rungs.get_by_role("radio", checked=True)
    expect(fits).to_contain_text(": fits")
    fits.focus()
    page.keyboard.press("Home")
    lowest = rungs.get_by_role("radio").first
    expect(lowest).to_be_focused()
    page.keyboard.press("Space")
    expect(lowest).to_be_checked()
    size = int(re.match(r"\d+", lowest.inner_text()).group())
    expect(lines).to_have_count(size)
    # The choice outlives a reload.
    page.reload()
    expect(lowest).to_be_checked()
    expect(lines).to_have_count(size)
    lowest.focus()
    # As long as a hand holds a key: the choice follows the focus only while it is down.
    page.keyboard.press("ArrowUp", delay=150)
    best = rungs.get_by_role("radio").last
    expect(best).to_be_checked()
    expect(night(page, 6)).to_contain_text("fits")
    page.get_by_role("button", name=re.compile("to the draft$")).first.click()
    expect(balance.effect()).to_contain_text("Adopt")
    expect(night(page, 6)).to_contain_text("fits")
    balance.effect().get_by_role("button", name="Adopt").click()
    page.get_by_role("dialog").get_by_role("button", name=re.compile("^Adopt")).click()
    expect(page.get_by_text("The adopted plan", exact=True)).to_be_visible()
    expect(night(page, 6)).to_contain_text("fits")


def test_a_search_outlives_a_reload_and_is_stopped(balance):
    page = balance.page
    allow(page, seconds=600)
    page.get_by_role("button", name="Look for a better week").click()
    search = page.get_by_role("region", name="The search")
    expect(search).to_contain_text("simulated")
    page.reload()
    expect(search).to_contain_text("simulated")
    page.get_by_role("button", name="Cancel", exact=True).click()
    expect(page.get_by_text("It was cancelled")).to_be_visible()


def test_by_keyboard_only_fewer_kinds_of_move_are_looked_for(balance):
    page = balance.page
    page.get_by_role("button", name=re.compile("^By")).focus()
    page.keyboard.press("Enter")
    page.keyboard.press("Enter")  # the first kind, fulls to other nights, goes
    page.keyboard.press("Escape")
    expect(page.get_by_role("button", name=re.compile("^By"))).to_contain_text("5 kinds")


@pytest.mark.long
def test_what_if_shows_nights_against_scenarios_and_one_is_balanced(balance):
    page = balance.page
    page.get_by_role("button", name="What if").click()
    lost = page.get_by_role("row").filter(has_text="proxy quay-p2 is lost")
    expect(lost).to_contain_text("not backed up")
    balance.check("what if")
    form = page.get_by_role("form", name="Another scenario")
    form.get_by_role("button", name=re.compile("^What if")).click()
    page.get_by_role("menuitemradio", name="a host is lost").click()
    form.get_by_role("button", name="Simulate it").click()
    host = page.get_by_role("row").filter(has_text="restart elsewhere")
    expect(host).to_contain_text("over")
    host.get_by_role("link", name="What comes back when").click()
    loss = page.get_by_role("region", name="The day of the loss").get_by_role("status").first
    expect(loss).to_contain_text(re.compile("^Host .*machines"))
    page.get_by_role("link", name="Balance", exact=True).click()
    page.get_by_role("button", name="What if").click()
    host.get_by_role("button", name="Balance it").click()
    expect(page.get_by_text(re.compile("^For a week in which host .* is lost"))).to_be_visible()


def test_how_sure_a_week_is_shows_on_the_week_strip(balance):
    page = balance.page
    page.get_by_role("button", name="How sure").click()
    page.get_by_label("Weeks to simulate").fill("20")
    page.get_by_role("button", name="See how sure the week is").click()
    friday = page.get_by_role("row").filter(has_text="Friday 6")
    expect(friday).to_contain_text(re.compile("of 100 weeks|every week|no week"))
    night(page, 6).hover()
    expect(page.get_by_role("tooltip")).to_contain_text("ends inside its windows in")
    for y in (500, 600, 780):
        page.mouse.move(640, y)
    expect(page.get_by_role("tooltip")).to_be_hidden()
    balance.check("how sure")


@pytest.mark.parametrize(("theme", "size"), DRESSES)
def test_nothing_is_in_the_way_of_anybody(balance, theme, size):
    balance.dress(theme, size)
    expect(balance.page.get_by_role("heading", name="Balance", exact=True)).to_be_visible()
    expect(night(balance.page, 6)).to_contain_text("over")
    balance.check(f"balance, {theme}, {size}")
