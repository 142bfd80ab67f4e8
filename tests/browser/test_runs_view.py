"""Runs driven by mouse and keyboard: a night that goes wrong, an order, the morning after."""

from __future__ import annotations

import re
from datetime import date

import pytest
from playwright.sync_api import expect
from runs_told import as_planned

from gambrel.api.app import current_sessions
from gambrel.core.nights.nights import night_of
from gambrel.standins.runner import Client, StandInRunner
from gambrel.store import runners
from gambrel.store.plans import plan_heads
from gambrel.store.settings import set_setting

VIEW = "/runs"
NIGHT = night_of(date(2026, 11, 2), "Europe/Dublin")
FAILS = "office-desk-13"


@pytest.fixture
def night(planner):
    """The stand-in has played a night up to 21:30; one machine could not be quiesced."""
    with current_sessions(planner.app).begin() as db:
        plan = plan_heads(db)[-1].id
        token = runners.new_runner(db, plan, "Stand-in", "stand-in", actor="test")

    def world_of(plan):
        told = {NIGHT.date: (f"quiesce:{FAILS}:0:24",)}
        return as_planned(plan, NIGHT.start).world, told

    stand_in = StandInRunner(Client(planner.address, token), NIGHT.start, world_of)
    # In one go: each batch of events would start a forecast of the rest of the night.
    stand_in.speed = 10 * 3600.0
    stand_in.tick(0.0)
    stand_in.tick(1.0)
    planner.page.reload()
    expect(planner.page.get_by_role("heading", name="The night of Monday 2")).to_be_visible()
    return planner, stand_in


def test_the_sheet_of_a_night_is_read_and_fetched(planner):
    page = planner.page
    page.goto(f"{planner.address}/runs/2026-11-06")
    page.get_by_role("button", name="Night sheet").click()
    sheet = page.get_by_role("article", name="Night sheet")
    expect(sheet).to_contain_text("The night of Friday 6 November 2026")
    expect(sheet.get_by_role("row", name="Office file servers")).to_contain_text("late")
    expect(sheet).to_contain_text("Office file servers ends 1 h 45 min after its window")
    planner.check("night sheet")
    with page.expect_download() as fetched:
        sheet.get_by_role("link", name="PDF").click()
    assert fetched.value.path().read_bytes().startswith(b"%PDF-")


def test_a_night_is_watched_and_something_is_ordered(night):
    planner, stand_in = night
    page = planner.page
    expect(page.get_by_text(re.compile(r"of 29\d machines done"))).to_be_visible()
    trouble = page.get_by_role("region", name="Not done")
    expect(trouble).to_contain_text(FAILS)
    # The rest is drawn beside the requests.
    expect(page.get_by_role("region", name="The rest of the night")).to_contain_text("100 draws")
    expect(page.locator("[data-soft-edge]").first).to_be_attached()
    planner.check("tonight")
    bar = page.get_by_role("button", name=re.compile("^Office machines"))
    bar.focus()
    page.keyboard.press("Enter")
    sheet = page.get_by_role("complementary", name="Run of Office machines")
    expect(sheet).to_contain_text("machines done")
    expect(sheet.get_by_role("list", name="Machines of the run")).to_contain_text(FAILS)
    planner.check("a run")
    # Some of its machines may be chosen.
    sheet.get_by_role("checkbox").nth(1).check()
    sheet.get_by_role("button", name="Stop (1)").click()
    expect(sheet.get_by_role("status")).to_contain_text("Stop 1 machine of Office machines")
    sheet.get_by_role("checkbox").nth(1).uncheck()
    expect(sheet.get_by_role("status")).to_contain_text("Stop Office machines")
    sheet.get_by_role("button", name="Order", exact=True).click()
    orders = page.get_by_role("region", name="Orders of tonight")
    expect(orders).to_contain_text("open")
    # The page hears of it without a reload, and stays where it was.
    stand_in.tick(0.01)
    expect(orders).to_contain_text("done", timeout=10_000)
    expect(sheet).to_be_visible()
    page.keyboard.press("Escape")
    expect(sheet).to_be_hidden()


@pytest.mark.long
def test_an_order_is_taken_back(night):
    planner, _ = night
    page = planner.page
    page.get_by_role("button", name=re.compile("^Ticket gates")).first.click()
    sheet = page.get_by_role("complementary", name="Run of Ticket gates")
    sheet.get_by_role("button", name="Hold").click()
    sheet.get_by_role("button", name="Order", exact=True).click()
    orders = page.get_by_role("region", name="Orders of tonight")
    orders.get_by_role("button", name="Take back").click()
    expect(orders).to_contain_text("taken back")


def test_the_morning_after_is_read_and_the_ledger_filtered(night):
    planner, stand_in = night
    page = planner.page
    while stand_in.clock < NIGHT.end:
        stand_in.tick(1.0)
    page.get_by_role("button", name="Past nights").click()
    mark = page.get_by_role("button", name=re.compile("^Monday 2 November"))
    expect(mark).to_be_visible()
    expect(page.get_by_role("heading", name="Monday 2 November")).to_be_visible()
    planner.check("past nights")
    page.get_by_role("link", name="Morning report").click()
    report = page.get_by_role("article", name="Morning report")
    expect(report.get_by_role("region", name="Needs a hand")).to_contain_text(FAILS)
    expect(report.get_by_role("region", name="Left behind")).to_contain_text("snapshot")
    planner.check("the report")
    planner.dress("night", (1600, 1000))
    expect(report).to_be_visible()
    planner.check("the report by night")
    page.get_by_role("button", name="Ledger").click()
    page.get_by_label("Machine").fill(FAILS)
    page.keyboard.press("Enter")
    table = page.get_by_role("table")
    expect(table).to_contain_text("failed")
    expect(page).to_have_url(re.compile(f"machine={FAILS}"))
    page.reload()
    expect(page.get_by_role("table").get_by_role("row")).to_have_count(2)
    planner.check("the ledger")


@pytest.mark.long
def test_a_night_that_is_over_stands_on_the_strip_and_on_the_board(night):
    planner, stand_in = night
    page = planner.page
    while stand_in.clock < NIGHT.end + 3600:
        stand_in.tick(1.0)
    page.goto(planner.address + "/board/2026-11-03")
    over = page.locator('[data-night="2026-11-02"]')
    expect(over).to_contain_text("past: over")
    over.focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Monday 2 November")).to_be_visible()
    board = page.get_by_role("main", name="Board")
    bar = board.get_by_role("button", name=re.compile("^Office machines, due")).first
    expect(bar).to_have_attribute("aria-label", re.compile("1 machine not done"))
    planner.check("the board of a night that is over")
    bar.click()
    sheet = page.get_by_role("complementary", name="Run of Office machines")
    expect(sheet).to_contain_text(FAILS)
    page.keyboard.press("Escape")
    expect(sheet).not_to_be_attached()
    # The other views speak of the nights to come; the board is where one that is over is shown.
    page.get_by_role("link", name="Estate", exact=True).click()
    expect(page.locator('[data-night="2026-11-03"]')).to_have_attribute("aria-current", "date")
    page.locator('[data-night="2026-11-02"]').click()
    expect(page).to_have_url(re.compile("/board/2026-11-02"))


@pytest.mark.long
def test_a_draft_is_rehearsed_and_nothing_is_kept(planner):
    page = planner.page
    page.get_by_role("button", name="Rehearse").click()
    expect(page.get_by_role("heading", name=re.compile("^Rehearsal of"))).to_be_visible()
    expect(page.get_by_text(re.compile(r"of 29\d machines done"))).to_be_visible()
    page.get_by_role("button", name=re.compile("^Goes wrong")).click()
    page.get_by_role("menuitemradio", name="what I choose").click()
    page.get_by_label("From").fill("21:30")
    page.get_by_role("button", name="Add").click()
    expect(page.get_by_role("list", name="What went wrong")).to_contain_text("stopped answering")
    planner.check("a rehearsal")
    page.reload()
    expect(page.get_by_role("list", name="What went wrong")).to_contain_text("21:30")
    page.get_by_role("button", name=re.compile("^Office machines, due")).first.click()
    sheet = page.get_by_role("complementary", name="Run of Office machines")
    expect(sheet.get_by_role("list", name="Machines of the run")).to_contain_text("done")
    # The ledger has nothing of it.
    page.get_by_role("button", name="Ledger").click()
    expect(page.get_by_text("No run fits these filters.")).to_be_visible()


def test_runners_and_mail_are_set(planner):
    page = planner.page
    page.get_by_role("button", name="Runner").click()
    sheet = page.get_by_role("complementary", name="Runners")
    sheet.get_by_label("Name").fill("cron on gates")
    sheet.get_by_role("button", name="Make a token").click()
    expect(sheet.get_by_role("status")).to_contain_text("gr_")
    planner.check("runners")
    page.get_by_role("button", name="Mail", exact=True).click()
    mail = page.get_by_role("complementary", name="Mail")
    mail.get_by_label("Report to").fill("backups@example.org")
    mail.get_by_role("button", name="Save", exact=True).click()
    expect(mail.get_by_role("status")).to_contain_text("Saved")
    mail.get_by_label("Time").fill("half past seven")
    mail.get_by_role("button", name="Save", exact=True).click()
    expect(mail.get_by_role("alert")).to_be_visible()
    planner.check("mail")
    # The browser says so as well.
    planner.complaints = [c for c in planner.complaints if "422" not in c]


PAST = """job,machine,start,duration,read (GiB),status
Office machines,office-desk-13,2026-10-02 20:00:03,20 min,4,success
Old desks,office-desk-14,2026-10-02 20:00:03,20 min,4,success
"""


def test_past_runs_are_imported_with_a_look_first(planner):
    page = planner.page
    page.get_by_role("button", name="Import", exact=True).click()
    sheet = page.get_by_role("complementary", name="Import past runs")
    sheet.get_by_label("File of past runs").set_input_files(
        {"name": "past.csv", "mimeType": "text/csv", "buffer": PAST.encode()}
    )
    unknown = sheet.get_by_role("region", name="Jobs that the plan does not have")
    expect(unknown).to_contain_text("Old desks")
    go = sheet.get_by_role("button", name=re.compile("^Import 1"))
    expect(go).to_be_disabled()
    planner.check("an import")
    unknown.get_by_role("button", name="Leave out").click()
    expect(unknown).to_be_hidden()
    go.click()
    expect(sheet.get_by_role("status")).to_contain_text("1 machine-run imported")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Ledger").click()
    expect(page.get_by_role("table")).to_contain_text("office-desk-13")


@pytest.mark.long
def test_an_order_waits_for_somebody_else(night, colleague):
    planner, _ = night
    page, theirs = planner.page, colleague

    def rule(on):
        with current_sessions(planner.app).begin() as db:
            set_setting(db, "rules", {"second_person_for_orders": on}, actor="test", told={})

    rule(True)
    try:
        page.get_by_role("button", name=re.compile("^Ticket gates")).first.click()
        orders = page.get_by_role("complementary", name="Run of Ticket gates")
        orders.get_by_role("button", name="Hold").click()
        orders.get_by_role("button", name="Order", exact=True).click()
        given = page.get_by_role("region", name="Orders of tonight")
        expect(given).to_contain_text("to be confirmed by somebody else")
        expect(given.get_by_role("button", name="Confirm")).to_have_count(0)
        theirs.goto(page.url.split("&run=")[0])
        mine = theirs.get_by_role("region", name="Orders of tonight")
        mine.get_by_role("button", name="Confirm").click()
        expect(mine).to_contain_text("by Planner and Niamh: open")
    finally:
        rule(False)
