"""The tasks of docs/guide/tasks.md, each by keyboard alone; the focus is never lost to the page."""

import re

import pytest
from keyboard import Keyboard, holds
from playwright.sync_api import expect

from gambrel.demo import larkmoor

KEY_S = 0.2
CLICK_S = 1.1 + 0.2
"""Times of a practised hand: a key; to point at something, and to press and release. After Card,
Moran and Newell (1980), "The Keystroke-Level Model for User Performance Time with Interactive
Systems"."""


@pytest.fixture
def keys(planner, request):
    """A keyboard; what is done with it takes at most twice the time of the clicks of a mouse.

    What is typed is typed by both, so that it is left out of the comparison.
    """
    keyboard = Keyboard(planner)
    yield keyboard
    clicks = request.node.get_closest_marker("by_mouse").kwargs["clicks"]
    assert keyboard.presses * KEY_S <= 2 * clicks * CLICK_S


def clause(page, key):
    return page.locator(f'[data-clause="{key}"]')


@pytest.mark.by_mouse(clicks=8)
def test_why_friday_is_late_and_three_fulls_that_mend_it(keys, planner):
    page = planner.page
    keys.find("friday night", re.compile("Friday night"))
    expect(page.get_by_role("list", name="Why")).to_contain_text("slots of proxy quay-p2")
    for job in ("fleet-telemetry", "finance-apps", "office-desks"):
        keys.to_bar(job)
        keys.press("]")
        holds(page, f"document.activeElement.dataset.job === '{job}'")
    expect(planner.effect()).to_contain_text("was 1 h 45 min")
    keys.saved("3 changes")


@pytest.mark.by_mouse(clicks=12)
def test_a_job_of_three_rules_with_copies_and_limits(keys, planner):
    page = planner.page
    keys.find("make a new job", "Make a new job")
    expect(page.get_by_label("Name")).to_be_focused()
    keys.type("Three rules")
    keys.press("Enter")
    expect(clause(page, "machines")).to_be_visible()
    for n, value in enumerate(("cctv", "lab", "fleet")):
        keys.to(r"^(Or another rule|A rule)$")
        keys.press("Enter")
        expect(page.get_by_label("Value for folder").nth(n)).to_be_focused()
        keys.type(value)
    expect(clause(page, "machines")).to_contain_text("or folder lab or folder fleet")
    keys.press("Escape")
    keys.to_clause("copies")
    keys.press("Enter")
    keys.to(r"^A copy$")
    keys.press("Enter")
    expect(clause(page, "copies")).to_contain_text("kept 30 days")
    keys.press("Escape")
    keys.to_clause("limits")
    keys.press("Enter")
    keys.to(r"^Streams")
    keys.type("3")
    expect(clause(page, "limits")).to_contain_text("3 streams at once")
    keys.saved("1 change")


@pytest.mark.by_mouse(clicks=4)
def test_a_database_server_with_a_volume_left_out(keys, planner):
    page = planner.page
    keys.find("database servers", re.compile("^Database servers"))
    expect(clause(page, "machines")).to_be_visible()
    keys.to_what("table [type=checkbox]", group="table *", arrow="ArrowRight")
    keys.press(" ")
    expect(clause(page, "machines")).to_contain_text("without 1 disk")
    keys.saved("1 change")


@pytest.mark.by_mouse(clicks=10)
def test_the_second_saturday_with_holidays_moved(keys, planner):
    page = planner.page
    keys.find("hill office", re.compile("^Hill office"))
    keys.to_clause("runs")
    keys.press("Enter")
    keys.to(r"^When, as you would say it")
    keys.press("Control+a")
    keys.type("on the second Saturday of the month at 21:00")
    expect(clause(page, "runs")).to_contain_text("second Saturday")
    keys.to(r"^Not on")
    keys.press("Enter", "ArrowDown", " ", "Escape")
    keys.choose(r"^What falls there", "moves to the next free day")
    keys.added("1 change")


@pytest.mark.by_mouse(clicks=6)
def test_a_job_is_split_in_three(keys, planner):
    page = planner.page
    keys.find("office machines", re.compile("^Office machines"))
    expect(clause(page, "machines")).to_be_visible()
    keys.to(r"^Split it into even groups", back=True)
    keys.press("Enter")
    sheet = page.get_by_role("complementary", name=re.compile("^Split"))
    expect(sheet).to_be_visible()
    keys.choose(r"^Into", "3 groups")
    # Until the groups are measured nothing can be added, and Tab goes past the button.
    expect(sheet.get_by_role("list", name="Groups").get_by_role("listitem")).to_have_count(3)
    keys.to(r"^Add to draft")
    keys.press("Enter")
    keys.draft_holds("3 changes")


@pytest.mark.by_mouse(clicks=16)
def test_a_proxy_its_slots_and_peak_hours(keys, planner):
    page = planner.page
    keys.find("new proxy", "New proxy")
    keys.to(r"^Name of the proxy")
    keys.type("quay-p9")
    keys.press("Enter")
    expect(page.get_by_role("complementary", name=re.compile("quay-p9"))).to_be_visible()
    keys.to(r"^Edit$")
    keys.press("Enter")
    keys.to(r"^Slots")
    keys.press("Control+a")
    keys.type("6")
    keys.to(r"^Add to draft")
    keys.press("Enter")
    keys.draft_holds("2 changes")
    keys.find("finance databases", re.compile("^Finance databases"))
    expect(clause(page, "machines")).to_be_visible()
    keys.to_clause("readers")
    keys.press("Enter")
    keys.choose(r"^Transport", "hot-add only")
    keys.added("3 changes")
    # The editor of the clause closes, and the clause has the focus.
    holds(page, "document.activeElement.matches('[data-clause=readers]')")
    keys.find("quay-hill", "Link Quay to Hill")
    sheet = page.get_by_role("complementary", name=re.compile("quay-hill"))
    keys.to(r"^Edit$")
    keys.press("Enter")
    keys.to(r"^Paint with at most")
    keys.press("Control+a")
    keys.type("200")
    keys.to(r"^Or type the hours")
    keys.type("mon-fri 08:00-18:00")
    keys.press("Enter")
    expect(sheet).to_contain_text("08:00 to 18:00: at most 200 Mbit/s")
    keys.to(r"^Add to draft")
    keys.press("Enter")
    keys.draft_holds("4 changes")


def rows_of_a_file(bad):
    """Six machines under headers of its own; three of them name what is not there or no size."""
    rows = [[f"shop-{n}", "qb-h1", "40"] for n in range(1, 7)]
    if bad:
        rows[0][2], rows[2][1], rows[4][2] = "lots", "nowhere", "-3"
    return "\n".join(";".join(row) for row in [["Asset", "Host", "Size GB"], *rows]).encode()


@pytest.mark.by_mouse(clicks=7)
def test_an_inventory_with_three_bad_rows(keys, planner):
    page = planner.page

    def choose_file(content):
        keys.to(r"^Files to import", back=True)
        keys.choose_file("shops.csv", content)

    keys.find("import an inventory", "Import an inventory")
    sheet = page.get_by_role("complementary", name="Import")
    expect(sheet).to_be_visible()
    choose_file(rows_of_a_file(bad=True))
    # "Asset" says nothing to the product: what is the name of a machine is told it once.
    expect(sheet.get_by_role("button", name="is not used")).to_be_visible()
    keys.choose(r"^is ?not used", "name")
    wrong = sheet.get_by_role("list", name="What is wrong")
    expect(wrong.get_by_role("listitem")).to_have_count(3)
    for line, column in ((2, "Size GB"), (4, "Host"), (6, "Size GB")):
        expect(wrong).to_contain_text(f"shops.csv, line {line}, {column}")
    expect(sheet.get_by_role("heading", name="3 machines would change")).to_be_visible()
    keys.here()
    choose_file(rows_of_a_file(bad=False))
    expect(sheet.get_by_role("heading", name="6 machines would change")).to_be_visible()
    expect(wrong).to_have_count(0)
    keys.to(r"^Import all of it")
    keys.press("Enter")
    expect(sheet).to_contain_text("6 machines imported")
    keys.here()


@pytest.mark.by_mouse(clicks=7)
def test_a_machine_left_out_with_a_date_to_look_again(keys, planner):
    page = planner.page
    name = next(m["id"] for m in larkmoor()["machines"] if m["folder"] == "staging")
    keys.find(name, re.compile(name))
    expect(page.get_by_role("complementary", name=f"Machine {name}")).to_be_visible()
    keys.to(r"^Leave it out on purpose")
    keys.press("Enter")
    keys.to(r"^Why it needs no protection")
    keys.type("a trial that ends soon")
    keys.to(r"^Look at this again on")
    keys.type("11302026")
    keys.to(r"^Leave it out$")
    keys.press("Enter")
    expect(page.get_by_role("complementary")).to_contain_text("left out")
    keys.here()


@pytest.mark.by_mouse(clicks=10)
def test_a_draft_is_compared_adopted_and_gone_back_from(keys, planner):
    page = planner.page
    keys.find("friday night", re.compile("Friday night"))
    keys.to_bar("fleet-telemetry")
    keys.press("ArrowRight")
    keys.saved("1 change")
    keys.find("compare", re.compile("^Compare the draft"))
    expect(page.get_by_role("main", name="Comparison")).to_contain_text("Fleet telemetry")
    keys.to(r"^Adopt$")
    keys.press("Enter")
    expect(page.get_by_label(re.compile("^Note: why"))).to_be_focused()
    keys.to(r"^Adopt this plan")
    keys.press("Enter")
    expect(page).to_have_url(re.compile("draft=none"))
    keys.find("drafts", "Drafts")
    keys.to(r"^Go back")
    keys.press("Enter")
    expect(page.get_by_role("dialog")).to_be_visible()
    keys.to(r"^Go back|^Yes")
    keys.press("Enter")
    expect(page.get_by_role("dialog")).not_to_be_attached()
    expect(page.get_by_text("back to what was in force before").first).to_be_visible()
    keys.here()


@pytest.mark.by_mouse(clicks=5)
def test_room_for_an_imagined_job_of_2_tib(keys, planner):
    page = planner.page
    keys.find("where is room", "Where is room for a new job?")
    keys.to(r"^Used data")
    keys.press("Control+a")
    keys.type("2048")
    keys.press("Enter")
    expect(page.get_by_role("region", name="The best starts")).to_contain_text("The three best")
    keys.to(r"^Use it")
    keys.press("Enter")
    expect(clause(page, "machines")).to_contain_text("nothing selected")
    expect(clause(page, "runs")).to_contain_text("full on")
    keys.here()


@pytest.mark.by_mouse(clicks=5)
def test_the_loss_of_a_proxy_is_balanced(keys, planner):
    page = planner.page
    keys.find("what if", "What if")
    row = page.get_by_role("row", name=re.compile("quay-p2 is lost"))
    expect(row.get_by_role("button", name="Balance it")).to_be_visible()
    row.get_by_role("button", name="Balance it").focus()
    keys.press("Enter")
    expect(page.get_by_text(re.compile("^For a week in which"))).to_contain_text("quay-p2")
    keys.to(r"^Look for a better week")
    keys.press("Enter")
    expect(page.get_by_role("region", name="The search")).to_be_visible()
    keys.to(r"^Stop, take the best so far")
    keys.press("Enter")
    expect(page.get_by_role("region", name="The search")).not_to_be_attached()
    keys.here()


@pytest.mark.by_mouse(clicks=2)
def test_how_sure_friday_is(keys, planner):
    page = planner.page
    keys.find("how sure", "How sure is this week")
    expect(page.get_by_role("region", name="How sure")).to_contain_text(
        re.compile(r"of \d+ weeks|in \d+ of")
    )
    keys.here()
