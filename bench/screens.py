"""How smoothly the screens move: frames in headless Chromium while one pans or scrolls."""

from __future__ import annotations

import json
import statistics
import tempfile
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, Route, sync_playwright
from sizes import BARS, FRAMES, SETTLED_MS, large, sample

from gambrel.commands.database import Instance, free_port
from gambrel.commands.opening import prepared
from gambrel.commands.places import chromium_path
from gambrel.commands.serving import Application
from gambrel.core.plan.reading import read_plan
from gambrel.store.plans import store_plan
from gambrel.store.sign_in import new_link

FLAGS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
    "--disable-background-networking", "--disable-component-update", "--disable-sync",
]  # fmt: skip

PAN = """async ([selector, frames, dx, dy]) => {
  const box = document.querySelector(selector);
  const taken = [];
  let last = await new Promise(requestAnimationFrame);
  for (let i = 0; i < frames; i++) {
    const sign = Math.floor(i / 45) % 2 ? -1 : 1;
    const turn = { deltaX: sign * dx, bubbles: true, cancelable: true };
    if (dx) box.dispatchEvent(new WheelEvent("wheel", turn));
    if (dy) box.scrollBy(0, sign * dy);
    const now = await new Promise(requestAnimationFrame);
    taken.push(now - last);
    last = now;
  }
  return taken;
}"""


def more_bars(route: Route) -> None:
    """The server's own answer, its lanes repeated until there are enough bars."""
    answer = route.fetch()
    body: dict[str, Any] = answer.json()
    once = list(body["lanes"])
    copies = 1
    while once and sum(len(lane["rows"]) for lane in body["lanes"]) < BARS:
        body["lanes"] += [{**lane, "id": f"{lane['id']} {copies}"} for lane in once]
        copies += 1
    route.fulfill(response=answer, body=json.dumps(body))


def line(what: str, taken: list[float]) -> str:
    ordered = sorted(taken)
    median, late = statistics.median(taken), ordered[int(0.95 * len(ordered))]
    smooth = sum(1 for t in taken if t <= 1000 / 60 * 1.5) / len(taken)
    return (
        f"| {what} | {1000 / median:.0f} | {median:.1f} ms | {late:.1f} ms | {smooth * 100:.0f} % |"
    )


def _signed_in(page: Page, address: str, link: str) -> None:
    page.goto(f"{address}/sign-in#{link}")
    page.wait_for_selector("[data-bar]", timeout=120_000)


def screens() -> list[str]:
    """The section of the page."""
    instance = Instance(Path(tempfile.mkdtemp()))
    url = instance.start()
    maker = prepared(url)
    port = free_port()
    lines = ["| | frames a second | median frame | 95th percentile | in time for 60 a second |",
             "|---|---|---|---|---|"]  # fmt: skip
    try:
        with maker.begin() as db:
            store_plan(db, "larkmoor", read_plan(sample()), actor="bench")
            store_plan(db, "large", read_plan(large()), actor="bench")
            link = new_link(db, "bench")
        application = Application(url, port)
        try:
            application.wait_until_ready()
            address = f"http://127.0.0.1:{port}"
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path=chromium_path(), args=FLAGS)
                page = browser.new_page(viewport={"width": 1280, "height": 800})
                _signed_in(page, address, link)
                page.route("**/lanes", more_bars)
                plans = page.evaluate("fetch('/api/v1/plans').then(r => r.json())")
                ids = {plan["name"]: plan["id"] for plan in plans}
                page.goto(f"{address}/board/2026-11-06?plan={ids['larkmoor']}&lanes=host&span=week")
                page.wait_for_selector("[data-overview] canvas", timeout=120_000)
                page.wait_for_timeout(3000)
                page.keyboard.press("+")
                taken = page.evaluate(PAN, ["[data-overview]", FRAMES, 25, 0])
                lines.append(line(f"the board pans, {BARS:,} bars by host, a week", taken))
                taken = page.evaluate(PAN, ["[data-overview] [role=region]", FRAMES, 0, 40])
                lines.append(line("the same scrolls", taken))
                page.goto(f"{address}/estate/2026-11-06?plan={ids['large']}")
                page.wait_for_selector("[data-scroller]", timeout=300_000)
                page.wait_for_timeout(SETTLED_MS)
                taken = page.evaluate(PAN, ["[data-scroller]", FRAMES, 0, 120])
                lines.append(line("the table of 10,000 machines scrolls", taken))
                browser.close()
        finally:
            application.stop()
    finally:
        instance.stop()
    return lines
