"""Tables as files: CSV for programs, workbooks (Office Open XML) for people."""

from __future__ import annotations

import csv
import io
import itertools
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from openpyxl import Workbook
from openpyxl.cell import WriteOnlyCell
from openpyxl.styles import Font
from openpyxl.utils import get_column_letter

WORKBOOK = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
WIDEST = 60
MOST_ROWS = 200_000
"""Rows of a sheet: more take longer to make than anybody waits."""
LINES_AT_ONCE = 500
"""Lines of a file that go out together."""


def harmless(value: Any) -> Any:
    """A text that no spreadsheet takes for a formula."""
    return f"'{value}" if isinstance(value, str) and value[:1] in "=+-@\t\r" and value else value


def csv_lines(header: Sequence[str], rows: Iterable[Sequence[Any]]) -> Iterator[str]:
    """A table as CSV, some lines at a time."""
    text = io.StringIO()
    writer = csv.writer(text)
    for i, row in enumerate(itertools.chain([header], rows), start=1):
        writer.writerow([harmless(value) for value in row])
        if i % LINES_AT_ONCE == 0:
            yield text.getvalue()
            text.seek(0)
            text.truncate()
    yield text.getvalue()


def csv_table(header: Sequence[str], rows: Iterable[Sequence[Any]]) -> str:
    """A table as CSV."""
    return "".join(csv_lines(header, rows))


class TooManyRows(ValueError):
    """More rows than a workbook is made of."""


def _titles(sheet: Any, header: Sequence[str]) -> list[WriteOnlyCell]:
    cells = [WriteOnlyCell(sheet, value=title) for title in header]
    for cell in cells:
        cell.font = Font(bold=True)
    return cells


def workbook(sheets: Iterable[tuple[str, Sequence[str], Iterable[Sequence[Any]]]]) -> bytes:
    """Tables as a workbook: of each its name, its header and its rows.

    It is written row by row; columns are as wide as the first rows ask for.

    Raises:
        TooManyRows
    """
    book = Workbook(write_only=True)
    for name, header, rows in sheets:
        sheet = book.create_sheet(name[:31])
        told = ([harmless(value) for value in row] for row in rows)
        first = list(itertools.islice(told, LINES_AT_ONCE))
        for i, column in enumerate(zip(header, *first, strict=True), start=1):
            width = max(len(str(value)) for value in column) + 2
            sheet.column_dimensions[get_column_letter(i)].width = min(WIDEST, width)
        sheet.freeze_panes = "A2"
        sheet.append(_titles(sheet, header))
        for number, row in enumerate(itertools.chain(first, told), start=1):
            if number > MOST_ROWS:
                sheet.close()
                raise TooManyRows(f"it has more than {MOST_ROWS:,} rows; CSV takes any number")
            sheet.append(row)
    content = io.BytesIO()
    book.save(content)
    return content.getvalue()
