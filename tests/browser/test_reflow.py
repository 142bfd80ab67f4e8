"""At 640 x 400, which is 1280 x 800 at 200 %: everything is in reach without sideways scrolling."""

import re

from playwright.sync_api import expect

WIDE = """() => {
  const wide = document.documentElement.clientWidth, found = [];
  if (document.documentElement.scrollWidth > wide) found.push('the page itself');
  for (const each of document.querySelectorAll('body *')) {
    // The board is the one thing that may be wider than the window.
    if (each.closest('[data-wide], [data-radix-popper-content-wrapper]')) continue;
    const style = getComputedStyle(each);
    const scrolls = ['auto', 'scroll'].includes(style.overflowX);
    if (scrolls && each.scrollWidth > each.clientWidth + 1)
      found.push('scrolls: ' + (each.getAttribute('aria-label') ?? each.className));
    const box = each.getBoundingClientRect();
    const said = each.children.length === 0 && each.textContent.trim();
    const clipped = style.clip !== 'auto' || style.clipPath !== 'none';
    if (said && box.width > 1 && box.height > 1 && !clipped && box.right > wide + 1)
      found.push('outside: ' + said.slice(0, 40));
  }
  return found;
}"""

BUSY = re.compile("^(Reading|Drawing|Looking|Simulating|Opening) ")

VIEWS = {
    "board": "/board/2026-11-06",
    "board, a job": "/board/2026-11-06?job=office-files",
    "board, findings": "/board/2026-11-06?findings=open",
    "board as a table": "/board/2026-11-06?as=table",
    "estate": "/estate/2026-11-06",
    "estate, a machine": "/estate/2026-11-06?machine=mail-01",
    "estate, inbox": "/estate/2026-11-06?panel=inbox",
    "estate, import": "/estate/2026-11-06?panel=import",
    "paths": "/paths/2026-11-06",
    "paths, an item": "/paths/2026-11-06?item=links%2Fquay-hill",
    "reach": "/paths/2026-11-06?show=reach",
    "windows": "/paths/2026-11-06?show=windows",
    "sizing": "/paths/2026-11-06?show=sizing",
    "jobs": "/jobs/2026-11-06",
    "a job": "/jobs/2026-11-06?job=office-files",
    "a clause": "/jobs/2026-11-06?job=office-files&clause=machines",
    "where is room": "/jobs/2026-11-06?show=room",
    "check": "/jobs/2026-11-06?show=check",
    "balance": "/balance/2026-11-06",
    "what if": "/balance/2026-11-06?show=if",
    "how sure": "/balance/2026-11-06?show=sure",
    "runs": "/runs/2026-11-06",
    "past nights": "/runs/2026-11-06?part=nights",
    "ledger": "/runs/2026-11-06?part=ledger",
    "day of the loss": "/recovery/2026-11-06",
    "points": "/recovery/2026-11-06?part=points&machine=ticketing-db-01",
    "promises": "/recovery/2026-11-06?part=promises",
}


def test_nothing_needs_sideways_scrolling(planner):
    page = planner.page
    page.set_viewport_size({"width": 640, "height": 400})
    found = {}
    for name, address in VIEWS.items():
        page.goto(planner.address + address)
        expect(page.locator("main").first).to_be_visible()
        page.wait_for_timeout(250)
        expect(page.get_by_text(BUSY)).to_have_count(0)
        if wide := page.evaluate(WIDE):
            found[name] = wide
    assert found == {}


def test_a_draft_is_adopted_and_a_sheet_read_in_a_narrow_window(planner):
    page = planner.page
    page.set_viewport_size({"width": 640, "height": 400})
    planner.bar("fleet-telemetry").focus()
    page.keyboard.press("]")
    expect(planner.effect()).to_contain_text("starts Sat")
    page.get_by_role("button", name="Save to draft").click()
    page.get_by_role("button", name="Adopt").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_be_visible()
    assert page.evaluate(WIDE) == []
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Show 3 rooflines").click()
    expect(page.get_by_role("region", name="Rooflines")).to_contain_text("slots")
