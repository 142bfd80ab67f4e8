"""A planner looks after the estate: what is not protected, what changed, what a file brings."""

from __future__ import annotations

import re

import pytest
from dresses import DRESSES
from estates import larkmoor_file, service_of
from playwright.sync_api import expect

from gambrel.api.app import current_sessions
from gambrel.standins.world import World
from gambrel.store import sources
from gambrel.store.plans import plan_heads

VIEW = "/estate"


@pytest.fixture
def managers(site):
    """Three managers that the plan reads its estate from."""
    world = World(larkmoor_file())
    world.begin()
    _, app = site
    with service_of(world) as address:
        sealer = app.extensions["gambrel-discoveries"].sealer
        with current_sessions(app).begin() as db:
            plan = plan_heads(db)[-1].id
            for name in ("quay-a", "quay-b", "hill-a"):
                sample = world.sources[name].sample
                fields = {
                    "name": name, "kind": sample.kind, "make": sample.make, "site": sample.site,
                    "address": f"{address}/{name}",
                }  # fmt: skip
                accounts = [(a.scope, a.user, a.secret) for a in sample.accounts]
                sources.add_source(db, plan, fields, accounts, sealer, actor="test")
        yield


@pytest.fixture
def estate(managers, planner):
    """The planner before the estate view."""
    expect(planner.page.get_by_role("row").nth(1)).to_contain_text("staging")
    return planner


def row(page, name):
    return page.locator(f'[data-machine="{name}"]')


def test_the_table_answers_at_once_and_is_walked_by_keyboard(estate):
    page = estate.page
    said = page.get_by_role("main").get_by_role("status")
    expect(said).to_contain_text("10 machines are not protected, the longest since 7 May 2026")
    expect(row(page, "staging-trial-04")).to_contain_text("not protected since 7 May 2026")
    expect(page.get_by_role("table", name="Machines")).to_have_attribute("aria-rowcount", "238")
    row(page, "staging-trial-04").focus()
    page.keyboard.press("ArrowDown")
    expect(row(page, "staging-trial-05")).to_be_focused()
    page.keyboard.press("Space")
    expect(page.get_by_text("1 machine marked")).to_be_visible()
    page.keyboard.press("Enter")
    sheet = page.get_by_role("complementary", name="Machine staging-trial-05")
    expect(sheet).to_contain_text("never was; in the plan since 8 May 2026")
    page.keyboard.press("Escape")
    expect(sheet).to_have_count(0)
    page.get_by_role("button", name="Machine").click()
    table = page.get_by_role("table", name="Machines")
    table.evaluate("element => element.scrollTo(0, element.scrollHeight)")
    expect(row(page, "ticketing-web-16")).to_be_visible()


def test_filters_stand_in_the_address_and_survive_a_reload(estate):
    page = estate.page
    page.get_by_role("button", name=re.compile("twice")).click()
    expect(page.get_by_role("table", name="Machines")).to_have_attribute("aria-rowcount", "4")
    page.keyboard.press("/")
    page.keyboard.type("finance")
    expect(page.get_by_role("table", name="Machines")).to_have_attribute("aria-rowcount", "3")
    page.get_by_role("button", name="Grouped by nothing").click()
    page.get_by_role("menuitemradio", name="folder").click()
    expect(page.get_by_role("button", name=re.compile("^finance 2 machines"))).to_be_visible()
    assert "coverage=twice" in page.url and "find=finance" in page.url
    page.reload()
    expect(page.get_by_role("button", name=re.compile("^finance 2 machines"))).to_be_visible()
    page.get_by_role("button", name=re.compile("^finance 2 machines")).click()
    expect(row(page, "finance-db-01")).to_have_count(0)


def test_one_step_from_not_protected_into_a_job_with_its_effect(estate):
    page = estate.page
    row(page, "staging-trial-04").click()
    sheet = page.get_by_role("complementary", name="Machine staging-trial-04")
    sheet.get_by_role("button", name="See the week").click()
    expect(sheet.get_by_role("status").last).to_contain_text("ends")
    sheet.get_by_role("button", name="Add to draft").click()
    expect(page.get_by_role("banner")).to_contain_text("1 change")
    expect(row(page, "staging-trial-04")).not_to_contain_text("not protected")
    expect(page.get_by_role("main").get_by_role("status")).to_contain_text("9 machines")


def test_access_is_tried_and_differences_are_read_taken_and_undone(estate):
    page = estate.page
    page.get_by_role("button", name="3 sources").click()
    sheet = page.get_by_role("complementary", name="Sources")
    sheet.get_by_role("button", name="Try all access").click()
    expect(sheet).to_contain_text("2 of 9 fail")
    expect(sheet).to_contain_text("The password has expired")
    expect(page.get_by_role("button", name="3 sources 1 with trouble")).to_be_visible()
    page.get_by_role("button", name="Discover all").click()
    expect(page.get_by_role("button", name="Inbox 14")).to_be_visible()
    page.get_by_role("button", name="Inbox 14").click()
    inbox = page.get_by_role("complementary", name="Inbox of differences")
    expect(inbox).to_contain_text("joins Office machines by rule")
    expect(inbox.get_by_role("list", name="Effect on the week")).to_contain_text("Fri ends")
    inbox.get_by_role("button", name=re.compile("Take: lab-build-10 is no longer there")).click()
    expect(page.get_by_role("button", name="Inbox 13")).to_be_visible()
    expect(page.get_by_role("button", name="1 gone")).to_be_visible()
    page.get_by_role("button", name="Changes").click()
    changes = page.get_by_role("complementary", name="Changes of the estate")
    expect(changes).to_contain_text("lab-build-10 is no longer there")
    changes.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("button", name="Inbox 14")).to_be_visible()


def test_facts_are_stated_for_many_and_a_file_is_seen_before_it_is_taken(estate):
    page = estate.page
    for name in ("staging-trial-04", "staging-trial-05"):
        row(page, name).get_by_role("checkbox").check()
    page.get_by_role("button", name="Edit facts").click()
    page.get_by_label("Change a day (% of what is used)").fill("7,5")
    page.get_by_role("button", name="State it for 2 machines").click()
    expect(row(page, "staging-trial-04")).to_contain_text("7.5 % ✎")
    page.get_by_role("button", name="Import").click()
    content = "Maschine;Host;Größe (GB)\nprint-01;qb-h1;12,5\nprint-02;nowhere;5\n"
    page.get_by_label("Files to import").set_input_files(
        [{"name": "m.csv", "mimeType": "text/csv", "buffer": content.encode()}]
    )
    sheet = page.get_by_role("complementary", name="Import")
    expect(sheet).to_contain_text("print-01 is new on qb-h1")
    expect(sheet.get_by_label("What is wrong")).to_contain_text("m.csv, line 3, Host")
    expect(sheet.get_by_role("button", name="Import all of it")).to_be_disabled()
    expect(sheet.get_by_text("Reading …")).to_have_count(0)
    sheet.get_by_role("button", name="Only the good rows").click()
    expect(sheet).to_contain_text("1 machine imported")
    expect(page.get_by_role("main").get_by_role("status")).to_contain_text("11 machines")


@pytest.mark.long
@pytest.mark.parametrize(("theme", "size"), DRESSES)
def test_the_estate_has_no_accessibility_violation(estate, theme, size):
    page = estate.page
    estate.dress(theme, size)
    expect(row(page, "staging-trial-04")).to_be_visible()
    page.get_by_role("button", name="3 sources").click()
    page.get_by_role("button", name="Try all access").click()
    page.get_by_role("button", name="Discover all").click()
    expect(page.get_by_role("button", name="Inbox 14")).to_be_visible()
    for opened in ("Inbox 14", re.compile("3 sources"), "Changes", "Import", None):
        if opened is None:
            row(page, "ticketing-db-01").click()
        elif opened != re.compile("3 sources"):
            page.get_by_role("button", name=opened).click()
        page.wait_for_timeout(700)
        estate.check(opened)
