"""A planner without a mouse."""

import json
import re

import pytest
from playwright.sync_api import expect


def holds(page, condition):
    """Wait for a condition; the page's own rules forbid what waits inside it."""
    for _ in range(600):
        if page.evaluate(condition):
            return
        page.wait_for_timeout(50)
    raise AssertionError(f"never: {condition}")


NAME = """() => {
  const e = document.activeElement;
  if (!e || e === document.body) return '';
  const label = e.getAttribute('aria-label') ?? e.labels?.[0]?.textContent ?? e.textContent;
  return (label || e.getAttribute('placeholder') || e.tagName).trim();
}"""
MOST_STOPS = 90
SETTLES_MS = 200


class Keyboard:
    """A planner without a mouse: every key is counted, and the focus is somewhere after each."""

    def __init__(self, planner):
        self.planner, self.page, self.presses = planner, planner.page, 0

    def press(self, *keys):
        for key in keys:
            self.page.keyboard.press(key)
            self.presses += 1

    def type(self, text):
        self.page.keyboard.type(text)

    def here(self):
        holds(self.page, "document.activeElement !== document.body")
        return self.page.evaluate(NAME)

    def to(self, pattern, *, back=False):
        """Tab to what is called so; no key where the focus is there or gets there by itself."""
        self.page.wait_for_timeout(SETTLES_MS)
        for _ in range(MOST_STOPS):
            if re.search(pattern, self.page.evaluate(NAME)):
                return
            self.press("Shift+Tab" if back else "Tab")
        pytest.fail(f"{pattern} is not within reach; the focus is at {self.here()!r}")

    def choose_file(self, name, content):
        """Choose a CSV file where the focus is on what asks for files."""
        with self.page.expect_file_chooser() as chooser:
            # An answer of the page: by then the browser knows that a chooser is waited for.
            self.here()
            self.press("Enter")
        chooser.value.set_files([{"name": name, "mimeType": "text/csv", "buffer": content}])

    def is_at(self, selector):
        return self.page.evaluate(f"document.activeElement.matches({json.dumps(selector)})")

    def to_what(self, selector, *, group=None, arrow="ArrowDown"):
        """Tab to what a selector means; into its group first where arrow keys lead on inside."""
        self.page.wait_for_timeout(SETTLES_MS)
        for key, wanted in (("Tab", group or selector), (arrow, selector)):
            for _ in range(MOST_STOPS):
                if self.is_at(wanted):
                    break
                self.press(key)
            else:
                pytest.fail(f"{wanted} is not within reach; the focus is at {self.here()!r}")

    def to_bar(self, job):
        """The bar of a job among those that stand on the board."""
        wanted = f'[data-bar][data-job="{job}"]'
        self.to_what("[data-bar]")
        above = self.page.locator(wanted).first.evaluate(
            "bar => bar.getBoundingClientRect().y"
            " < document.activeElement.getBoundingClientRect().y"
        )
        self.to_what(wanted, group="[data-bar]", arrow="ArrowUp" if above else "ArrowDown")

    def to_clause(self, key):
        self.to_what(f'[data-clause="{key}"]')

    def find(self, text, option):
        """Ctrl+K, what is typed, Enter."""
        self.press("Control+k")
        expect(self.page.get_by_role("combobox")).to_be_focused()
        self.type(text)
        expect(self.page.get_by_role("option", name=option).first).to_be_visible()
        self.press("Enter")
        self.here()

    def choose(self, pattern, option):
        """Open a list of words and choose one by its first letters."""
        self.to(pattern)
        self.press("Enter")
        entry = self.page.get_by_role("menuitemradio", name=option, exact=True)
        expect(entry).to_be_visible()
        for _ in range(40):
            if self.page.evaluate("document.activeElement.textContent.trim()") == option:
                break
            self.press("ArrowDown")
        self.press("Enter")
        self.here()

    def added(self, changes):
        """Tab back to "Add to draft" and use it."""
        self.to(r"^Add to draft", back=True)
        self.press("Enter")
        self.draft_holds(changes)

    def draft_holds(self, changes):
        """The draft holds so much, and the focus is somewhere."""
        expect(self.page.get_by_text(changes, exact=True)).to_be_visible()
        self.here()

    def saved(self, changes):
        self.press("Control+s")
        self.draft_holds(changes)
