"""Settings: a colleague is brought in, signs in with a password, and may only look."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect

VIEW = "/settings/2026-11-06?part=people"
PASSWORD = "a barn stands on four posts"


def test_a_colleague_is_brought_in_to_look(planner, chromium):
    page = planner.page
    expect(page.get_by_role("table", name="People")).to_contain_text("Planner")
    planner.check("people")
    page.get_by_role("textbox", name="Name").focus()
    page.keyboard.type("Orla")
    page.keyboard.press("Enter")
    once = page.get_by_role("status").filter(has_text="Send this link to Orla")
    link = once.locator("code").inner_text()
    row = page.get_by_role("row", name="Orla")
    expect(row).to_contain_text("a link, until they set a password")

    context = chromium.new_context(viewport={"width": 1280, "height": 800})
    context.set_default_timeout(60_000)
    theirs = context.new_page()
    theirs.goto(link)
    theirs.wait_for_selector("[data-bar]")
    expect(theirs.get_by_text("The adopted plan, to look at")).to_be_visible()
    # What would be may be asked; it cannot be kept.
    theirs.locator("[data-bar]").first.focus()
    theirs.keyboard.press("ArrowRight")
    effect = theirs.get_by_role("contentinfo", name="Effect of the changes")
    expect(effect).to_contain_text("You may look: this cannot be saved")
    expect(effect.get_by_role("button", name="Save to draft")).to_have_count(0)

    theirs.goto(f"{planner.address}/settings/2026-11-06")
    expect(theirs.get_by_role("navigation", name="Parts of Settings")).not_to_contain_text("People")
    theirs.get_by_label("New password", exact=True).fill("orla is my name!")
    theirs.get_by_label("New password, once more").fill("orla is my name!")
    theirs.keyboard.press("Enter")
    expect(theirs.get_by_text("is too easy to guess")).to_be_visible()
    theirs.get_by_label("New password", exact=True).fill(PASSWORD)
    theirs.get_by_label("New password, once more").fill(PASSWORD)
    theirs.keyboard.press("Enter")
    expect(theirs.get_by_text("Done. You are signed out everywhere but here.")).to_be_visible()
    theirs.get_by_role("button", name="Sign out").click()

    theirs.get_by_label("Name").fill("Orla")
    theirs.get_by_label("Password").fill("not this one at all")
    theirs.keyboard.press("Enter")
    expect(theirs.get_by_role("alert")).to_contain_text("do not belong together")
    theirs.get_by_label("Password").fill(PASSWORD)
    theirs.keyboard.press("Enter")
    theirs.wait_for_selector("[data-bar]")

    # Whoever is barred is out with the next thing they ask.
    row.get_by_role("button", name="Bar").click()
    page.get_by_role("dialog").get_by_role("button", name="Bar").click()
    expect(row).to_contain_text("barred")
    theirs.reload()
    expect(theirs.get_by_role("heading", name="Sign in")).to_be_visible()
    context.close()


def test_a_token_is_made_shown_once_and_ended(planner):
    planner.go("/settings/2026-11-06?part=tokens")
    page = planner.page
    page.get_by_label("Name").fill("the pipeline")
    page.get_by_role("button", name="Make the token").click()
    secret = page.get_by_role("status").filter(has_text="Copy this token").locator("code")
    expect(secret).to_contain_text("gt_")
    planner.check("tokens")
    page.reload()
    row = page.get_by_role("row", name="the pipeline")
    expect(row).to_contain_text("never")
    expect(page.locator("code")).to_have_count(0)
    row.get_by_role("button", name="End").click()
    page.get_by_role("dialog").get_by_role("button", name="End").click()
    expect(page.get_by_text("No program has a token yet.")).to_be_visible()


def test_a_calendar_is_connected_and_cut_off(planner, chromium):
    planner.go("/settings/2026-11-06?part=feeds")
    page = planner.page
    expect(page.get_by_text("This plan has no feed yet.")).to_be_visible()
    page.get_by_label("Name").fill("the phone")
    page.keyboard.press("Enter")
    address = page.get_by_role("status").filter(has_text="Give this address").locator("code")
    expect(address).to_contain_text("/feeds/")
    planner.check("calendars")
    read = chromium.new_context().request.get(address.inner_text())
    assert read.status == 200
    assert read.text().count("BEGIN:VEVENT") >= 7
    page.get_by_role("row", name="the phone").get_by_role("button", name="End").click()
    page.get_by_role("dialog").get_by_role("button", name="End").click()
    expect(page.get_by_text("This plan has no feed yet.")).to_be_visible()
    assert chromium.new_context().request.get(address.inner_text()).status == 404


def test_the_trail_is_searched_and_the_address_keeps_it(planner):
    planner.go("/settings/2026-11-06?part=trail")
    page = planner.page
    trail = page.get_by_role("table", name="Audit trail")
    expect(trail).to_contain_text("store plan")
    page.get_by_label("Says").fill("nobody ever did this")
    expect(page.get_by_text("Nothing like this was done.")).to_be_visible()
    page.reload()
    expect(page.get_by_label("Says")).to_have_value("nobody ever did this")
    page.get_by_label("Says").fill("sign in")
    expect(trail).to_contain_text("Planner")
    expect(trail).not_to_contain_text("store plan")
    planner.check("the audit trail")


@pytest.mark.parametrize("theme", ["paper", pytest.param("night", marks=pytest.mark.long)])
def test_every_part_has_no_accessibility_violation(planner, theme):
    for part in ("you", "provider", "data"):
        planner.go(f"/settings/2026-11-06?part={part}")
        planner.dress(theme, (1280, 800))
        planner.page.wait_for_selector("main section")
        planner.check(part)
