"""Tables as files: CSV for programs, workbooks (Office Open XML) for people."""

from __future__ import annotations

import csv
import io
import itertools
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from openpyxl import Workbook
from openpyxl.styles import Font
from openpyxl.utils import get_column_letter

WORKBOOK = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
WIDEST = 60


def harmless(value: Any) -> Any:
    """A text that no spreadsheet takes for a formula."""
    return f"'{value}" if isinstance(value, str) and value[:1] in "=+-@\t\r" and value else value


def csv_lines(header: Sequence[str], rows: Iterable[Sequence[Any]]) -> Iterator[str]:
    """A table as CSV, row by row."""
    text = io.StringIO()
    writer = csv.writer(text)
    for row in itertools.chain([header], rows):
        writer.writerow([harmless(value) for value in row])
        yield text.getvalue()
        text.seek(0)
        text.truncate()


def csv_table(header: Sequence[str], rows: Iterable[Sequence[Any]]) -> str:
    """A table as CSV."""
    return "".join(csv_lines(header, rows))


def workbook(sheets: Iterable[tuple[str, Sequence[str], Iterable[Sequence[Any]]]]) -> bytes:
    """Tables as a workbook: of each its name, its header and its rows."""
    book = Workbook()
    book.remove(book.active)
    for name, header, rows in sheets:
        sheet = book.create_sheet(name[:31])
        sheet.append(list(header))
        widths = [len(title) for title in header]
        for row in rows:
            told = [harmless(value) for value in row]
            sheet.append(told)
            widths = [max(w, len(str(v))) for w, v in zip(widths, told, strict=True)]
        for cell in sheet[1]:
            cell.font = Font(bold=True)
        for i, width in enumerate(widths, start=1):
            sheet.column_dimensions[get_column_letter(i)].width = min(WIDEST, width + 2)
        sheet.freeze_panes = "A2"
    content = io.BytesIO()
    book.save(content)
    return content.getvalue()
