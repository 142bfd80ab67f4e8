"""The night sheet as a PDF (ISO 32000-1), A4, with its fonts in it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from fpdf import FPDF
from fpdf.fonts import FontFace, TTFFont

from gambrel.core import words
from gambrel.core.nights.nights import Night
from gambrel.core.questions.night_sheet import NightSheet, SheetRun, expected, headline

FONTS = Path(__file__).parent / "fonts"
FACE = "Archivo"
INK = (32, 30, 27)
PALE = (110, 104, 96)
HEADING = FontFace(emphasis="B", color=PALE)
MOST_CHECKS = 40
"""Checks that are printed; the rest are counted."""

RUN_COLUMNS = ("Begins", "Ends", "Window to", "Job", "Kind", "Machines", "Expected", "Done")
RUN_WIDTHS = (15, 15, 17, 52, 22, 17, 34, 14)


class _Page(FPDF):
    def __init__(self, title: str, foot: str) -> None:
        super().__init__(format="A4")
        self.foot = foot
        self.set_title(title)
        self.set_lang("en")
        for style, name in (("", "Archivo-Regular"), ("B", "Archivo-Bold")):
            self.add_font(FACE, style, FONTS / f"{name}.ttf")
        face = self.fonts[FACE.lower()]
        self._signs = face.cmap if isinstance(face, TTFFont) else {}
        self.set_margins(12, 12)
        self.set_auto_page_break(True, 16)
        self.set_draw_color(*PALE)
        self.set_line_width(0.1)

    def footer(self) -> None:
        self.set_y(-12)
        self.set_font(FACE, "", 8)
        self.set_text_color(*PALE)
        self.cell(0, 5, self.foot)
        self.cell(0, 5, f"{self.page_no()} of {{nb}}", align="R")

    def say(self, text: str, size: float = 9.5, style: str = "", *, above: float = 0.0) -> None:
        """A paragraph."""
        if above:
            self.ln(above)
        self.set_font(FACE, style, size)
        self.set_text_color(*INK)
        self.multi_cell(0, size * 0.5, self.known(text), align="L", new_x="LMARGIN", new_y="NEXT")

    def known(self, text: str) -> str:
        """A text in which what the font has no sign for is a question mark."""
        return "".join(c if ord(c) in self._signs else "?" for c in text)

    def to_tick(self, text: str) -> None:
        """A line with a box before it."""
        self.set_font(FACE, "", 9.5)
        top = self.get_y() + 1.2
        if top > self.h - 22:
            self.add_page()
            top = self.get_y() + 1.2
        self.rect(self.l_margin + self.c_margin, top, 3, 3)
        self.set_x(self.l_margin + 6)
        self.multi_cell(0, 5, self.known(text), align="L", new_x="LMARGIN", new_y="NEXT")


def night_sheet_pdf(
    sheet: NightSheet, plan_name: str, of_draft: str | None, made_at: float
) -> bytes:
    """The sheet as a file.

    Args:
        of_draft: the name of the draft that it is about; None: the adopted plan.
        made_at: an instant in UTC seconds.
    """
    zone, title = sheet.night.zone, words.night_title(sheet.night.date)
    of = f"the draft {of_draft}" if of_draft else "the adopted plan"
    page = _Page(title, f"{plan_name}, {of}. Made {words.dated_moment(made_at, zone)}.")
    # The same sheet is the same file.
    page.set_creation_date(datetime.fromtimestamp(made_at).astimezone())
    page.add_page()
    page.say(title, 17, "B")
    page.say(headline(sheet), 11, above=1)
    page.say("What runs, in order", 12, "B", above=3)
    _runs(page, sheet.runs, sheet.night)
    if sheet.held:
        page.say(f"On hold: {', '.join(sheet.held)}.", above=2)
    page.say("What to check", 12, "B", above=4)
    for check in sheet.checks[:MOST_CHECKS]:
        page.to_tick(check)
    if len(sheet.checks) > MOST_CHECKS:
        page.say(f"And {len(sheet.checks) - MOST_CHECKS} more, which the findings list.")
    if not sheet.checks:
        page.say("Nothing speaks against this night.")
    page.say("Whom to call", 12, "B", above=4)
    for contact in sheet.contacts:
        reached = ", ".join(filter(None, (contact.phone, contact.mail))) or "no telephone, no mail"
        jobs = f": {', '.join(contact.jobs)}" if contact.jobs else ""
        page.say(f"{contact.name}, {reached}{jobs}")
    if not sheet.contacts:
        page.say("Nobody is named. Names and telephones stand under Runs, Mail.")
    return bytes(page.output())


def _runs(page: _Page, runs: Sequence[SheetRun], night: Night) -> None:
    def at(instant: float | None) -> str:
        return "" if instant is None else words.moment(instant, night.zone)

    page.set_font(FACE, "", 8.5)
    page.set_text_color(*INK)
    with page.table(
        col_widths=RUN_WIDTHS, line_height=4.6, borders_layout="HORIZONTAL_LINES",
        text_align="LEFT", headings_style=HEADING, padding=(0.4, 0.8),
    ) as table:  # fmt: skip
        table.row(RUN_COLUMNS)
        for run in runs:
            row = table.row()
            for value in (
                at(run.begins), at(run.ends), at(run.window_end), run.name, run.kind,
                str(run.machines), expected(run), "",
            ):  # fmt: skip
                row.cell(page.known(value))
