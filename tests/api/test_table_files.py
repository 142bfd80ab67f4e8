"""Every table as a file: the rows of the answer that its screen shows, with no formula in it."""

from __future__ import annotations

import csv
import io
from posixpath import normpath

import pytest
from openpyxl import load_workbook

from gambrel.api.rights import RIGHTS
from gambrel.api.table_files import TABLES, _flat
from gambrel.formats import tables
from gambrel.formats.tables import TooManyRows, csv_table, workbook

FRIDAY = "2026-11-06"


@pytest.fixture(scope="module")
def larkmoor(app):
    from estates import larkmoor_plan

    from gambrel.api.app import current_sessions
    from gambrel.store.plans import store_plan

    with current_sessions(app).begin() as db:
        head = store_plan(db, "larkmoor files", larkmoor_plan(), actor="test")
    return f"/api/v1/plans/{head.id}"


ADDRESSES = {
    "week": f"weeks/{FRIDAY}", "runs": f"nights/{FRIDAY}", "copies": f"nights/{FRIDAY}",
    "findings": f"findings/{FRIDAY}", "night-sheet": f"nights/{FRIDAY}/sheet", "jobs": "jobs",
    "paths": f"paths/{FRIDAY}", "loads": f"paths/{FRIDAY}/loads", "reach": "reach",
    "openings": f"windows/{FRIDAY}", "differences": "inbox",
    "exposure": f"estate/exposure/{FRIDAY}", "tonight": "tonight", "not-done": "tonight",
    "past-nights": "past-nights", "forecast-errors": "forecast-errors",
    "learned-changes": "learned-changes", "learned-ratios": "learned-ratios",
    "failure-rates": "failure-rates",
    "learned-rates": "learned-rates", "learned-times": "learned-times",
    "promises": f"promises/{FRIDAY}",
    "restore-tests": "restore-tests", "growth": "runway/growth", "adoptions": "adoptions",
    "sources": "sources", "runners": "runners", "feeds": "feeds",
    "people": "../../people", "tokens": "../../tokens",
}  # fmt: skip


EMPTY = {
    "copies", "differences", "not-done", "past-nights", "restore-tests", "forecast-errors",
    "learned-changes", "learned-rates", "learned-ratios", "learned-times", "growth", "adoptions",
    "sources",
    "runners", "feeds", "tokens", "tonight", "failure-rates",
}  # fmt: skip
"""The sample has none of these."""


def rows_of(client, address):
    answer = client.get(address)
    assert answer.status_code == 200, (address, answer.json)
    return list(csv.reader(io.StringIO(answer.get_data(as_text=True))))


@pytest.mark.parametrize("name", sorted(ADDRESSES))
def test_a_file_has_the_rows_of_the_screen(client, larkmoor, name):
    body = client.get(normpath(f"{larkmoor}/{ADDRESSES[name]}")).json
    shown = TABLES[name].rows
    expected = list(shown(body)) if callable(shown) else body if shown == "*" else body[shown]
    header, *rows = rows_of(client, f"{larkmoor}/tables/{name}.csv?day={FRIDAY}") or [[]]
    assert len(rows) == len(expected)
    for row, item in zip(rows, expected, strict=True):
        cells = dict(zip(header, row, strict=True))
        for key, value in _flat(item):
            assert cells[key] == str("" if value is None else tables.harmless(value)), key
    if name not in EMPTY:
        assert rows, "the sample has some"
    book = load_workbook(
        io.BytesIO(client.get(f"{larkmoor}/tables/{name}.xlsx?day={FRIDAY}").data), read_only=True
    )
    sheet = [[*row] for row in book.worksheets[0].iter_rows(values_only=True)]
    assert len(sheet) == (len(expected) + 1 if header else len(sheet))


def test_every_table_has_a_right_and_is_tried():
    assert {table.endpoint for table in TABLES.values()} <= set(RIGHTS)
    elsewhere = {"past-night", "space", "moves", "comparison", "compared-nights"}
    assert set(TABLES) - set(ADDRESSES) == elsewhere


@pytest.mark.parametrize("retention", [{"points": 14}, {"points": 60}])
def test_space_is_that_of_the_changes_that_are_not_saved(client, larkmoor, retention):
    longer = {
        "operation": "ChangeItem", "list": "jobs", "id": "mail", "changes": {"retention": retention}
    }  # fmt: skip
    asked = {"months": 6, "operations": [longer]}
    body = client.post(f"{larkmoor}/runway", asked).json
    answer = client.post(f"{larkmoor}/tables/space.csv", asked)
    assert answer.status_code == 200, answer.json
    rows = list(csv.DictReader(io.StringIO(answer.get_data(as_text=True))))
    assert len(rows) == len(body["repositories"]) * len(body["months"])
    for life in body["repositories"]:
        own = [row for row in rows if row["repository"] == life["id"]]
        assert [row["month"] for row in own] == [month["name"] for month in body["months"]]
        # A part that two months share counts for both, so the most of all is among them.
        assert max(float(row["most_gib"]) for row in own) == max(life["gib"])
        assert float(own[0]["most_gib"]) >= life["now_gib"]


def test_a_table_is_asked_for_in_its_own_way(client, larkmoor):
    assert "POST" in client.get(f"{larkmoor}/tables/space.csv").json["detail"]
    assert "GET" in client.post(f"{larkmoor}/tables/jobs.csv", {}).json["detail"]
    refused = client.post(f"{larkmoor}/tables/space.csv", {"months": -1})
    assert refused.status_code == 422 and refused.json["errors"][0]["field"] == "months"
    missing = client.get(f"{larkmoor}/tables/moves.csv")
    assert missing.status_code == 422 and missing.json["errors"][0]["field"] == "computation"


def test_a_comparison_is_a_file(client, larkmoor):
    draft = client.post(f"{larkmoor}/drafts", {"name": "compared"}).json
    later = {"operation": "ChangeItem", "list": "jobs", "id": "mail", "changes": {"priority": 3}}
    client.post(
        f"/api/v1/drafts/{draft['id']}/operations", {"operations": [later]},
        If_Match=f'"{draft["revision"]}"',
    )  # fmt: skip
    sides = f"day={FRIDAY}&one=adopted&other=draft:{draft['id']}"
    header, *rows = rows_of(client, f"{larkmoor}/tables/comparison.csv?{sides}")
    assert [row[header.index("id")] for row in rows] == ["mail"]
    body = client.get(f"{larkmoor}/compare/{FRIDAY}?{sides}").json
    header, *rows = rows_of(client, f"{larkmoor}/tables/compared-nights.csv?{sides}")
    assert len(rows) == 2 * len(body["one"]["nights"])
    assert {row[header.index("plan")] for row in rows} == {body["one"]["name"], "compared"}


def test_a_draft_has_tables_of_its_own(client, larkmoor):
    draft = client.post(f"{larkmoor}/drafts", {"name": "on hold"}).json
    hold = {"operation": "ChangeItem", "list": "jobs", "id": "mail", "changes": {"priority": 1}}
    saved = client.post(
        f"/api/v1/drafts/{draft['id']}/operations", {"operations": [hold]},
        If_Match=f'"{draft["revision"]}"',
    )  # fmt: skip
    assert saved.status_code == 200
    adopted = rows_of(client, f"{larkmoor}/tables/jobs.csv")
    drafted = rows_of(client, f"{larkmoor}/tables/jobs.csv?draft={draft['id']}")
    assert adopted != drafted and len(adopted) == len(drafted)
    at = adopted[0].index("priority")
    assert [row[at] for row in drafted[1:] if row[0] == "mail"] == ["1"]


def test_what_cannot_be_made_is_named(client, larkmoor, stranger):
    assert client.get(f"{larkmoor}/tables/ghosts.csv").status_code == 404
    assert "xlsx" in client.get(f"{larkmoor}/tables/jobs.ods").json["detail"]
    missing = client.get(f"{larkmoor}/tables/week.csv")
    assert missing.status_code == 422 and missing.json["errors"][0]["field"] == "day"
    assert stranger.get(f"{larkmoor}/tables/jobs.csv").status_code == 401
    for address in ("ledger", "estate"):
        assert client.get(f"{larkmoor}/{address}.xlsx").mimetype == tables.WORKBOOK
        assert client.get(f"{larkmoor}/{address}.ods").status_code == 404


def test_no_cell_is_a_formula():
    rows = [["=1+1", "@x", "-2", -2, None, "plain"], ["+1", "\tx", "", 0.5, True, "a\nb"]]
    header = list("abcdef")
    told = list(csv.reader(io.StringIO(csv_table(header, rows))))
    assert told[1][:4] == ["'=1+1", "'@x", "'-2", "-2"]
    sheet = load_workbook(io.BytesIO(workbook([("Sheet", header, rows)]))).active
    assert [cell.data_type for cell in sheet[2]][:3] == ["s", "s", "s"]
    assert [cell.value for cell in sheet[3]][:2] == ["'+1", "'\tx"]
    assert sheet.freeze_panes == "A2" and sheet["A1"].font.bold


def test_a_workbook_has_an_end(monkeypatch):
    monkeypatch.setattr(tables, "MOST_ROWS", 3)
    assert workbook([("Few", ["a"], [[1]] * 3)])
    with pytest.raises(TooManyRows, match="more than 3 rows"):
        workbook([("Many", ["a"], ([i] for i in range(4)))])
