"""Two at one plan: who is there, and whose draft it is."""

from __future__ import annotations

from playwright.sync_api import expect


def here(page):
    return page.get_by_role("status", name="Who else is here")


def test_each_sees_the_other_and_a_draft_is_its_owners_until_it_is_shared(planner, colleague):
    page, theirs = planner.page, colleague
    expect(here(page)).to_contain_text("Niamh")
    expect(here(theirs)).to_contain_text("Planner")
    planner.bar("office-files").focus()
    page.keyboard.press("ArrowRight")
    # What is moved and not saved is seen while it happens.
    expect(here(theirs)).to_contain_text("Planner is editing")
    planner.effect().get_by_role("button", name="Save to draft").click()
    expect(planner.effect().get_by_role("button", name="Adopt")).to_be_visible()
    draft = page.url.split("draft=")[1].split("&")[0]
    plan = page.url.split("plan=")[1].split("&")[0]

    theirs.goto(f"{planner.address}/?plan={plan}&draft={draft}")
    effect = theirs.get_by_role("contentinfo", name="Effect of the changes")
    expect(effect).to_contain_text("This draft is Planner's own")
    expect(effect.get_by_role("button", name="Adopt")).to_have_count(0)
    # A move of one's own goes along into a copy.
    theirs.locator("[data-bar]").first.focus()
    theirs.keyboard.press("ArrowRight")
    effect.get_by_role("button", name="Go on in a copy").click()
    theirs.get_by_role("button", name="Continue").click()
    expect(effect.get_by_role("button", name="Save to draft")).to_be_visible()
    effect.get_by_role("button", name="Save to draft").click()
    expect(effect.get_by_role("button", name="Adopt")).to_be_visible()

    page.goto(f"{planner.address}/jobs?plan={plan}&draft={draft}&show=drafts")
    own = page.get_by_role("region", name="Draft larkmoor").filter(has_text="yours")
    expect(own).to_contain_text("not shared")
    own.get_by_role("button", name="Share").click()
    expect(own).to_contain_text("yours, shared")
    planner.check("drafts")
    theirs.goto(f"{planner.address}/?plan={plan}&draft={draft}")
    expect(effect.get_by_role("button", name="Adopt")).to_be_visible()
    theirs.close()
    expect(here(page)).not_to_contain_text("Niamh")
