"""Past runs from CSV and JSON lines: columns, units, dates, durations, and what is wrong."""

import json
from zoneinfo import ZoneInfo

import pytest

from gambrel.core.plan.instants import parse_instant
from gambrel.formats.inventory_csv import Unreadable, read_table
from gambrel.formats.past_runs import (
    CsvSettings,
    guessed_columns,
    parsed_duration,
    parsed_time,
    past_runs_of_csv,
    past_runs_of_json_lines,
)

DUBLIN = ZoneInfo("Europe/Dublin")
CSV = """Job;Machine;Start Time;End Time;Duration;Type;Read (GB);Status;Message
Nightly;gate;06.11.2026 21:00:05;06.11.2026 21:20:05;;Full;1.234,5;Success;
Nightly;fares;06.11.2026 21:00:09;;0:10:00;Incremental;12;Failed;disk offline
"""


def read(text, **settings):
    table = read_table("runs.csv", text.encode())
    columns = settings.pop("mapping", None) or guessed_columns(table.header)
    return past_runs_of_csv(table, CsvSettings(columns, time_zone="Europe/Dublin", **settings))


def test_columns_are_guessed_and_rows_read():
    found = read(CSV)
    assert not found.problems
    gate, fares = found.rows
    assert (gate.job, gate.machine, gate.outcome, gate.kind) == ("Nightly", "gate", "done", "full")
    assert gate.start == parse_instant("2026-11-06T21:00:05Z")
    assert gate.end - gate.start == 1200
    assert gate.source_bytes == pytest.approx(1234.5e9, rel=1e-6)
    assert fares.end - fares.start == 600
    assert (fares.outcome, fares.reason) == ("failed", "disk offline")


@pytest.mark.parametrize(
    ("text", "order", "instant"),
    [
        ("2026-11-06T21:00:00Z", "day first", "2026-11-06T21:00:00Z"),
        ("2026-11-06 21:00", "day first", "2026-11-06T21:00:00Z"),
        ("2026-07-06 21:00", "day first", "2026-07-06T20:00:00Z"),
        ("2026-11-06T21:00:00.5+01:00", "day first", "2026-11-06T20:00:00Z"),
        ("06.11.2026 21:00", "month first", "2026-11-06T21:00:00Z"),
        ("06/11/2026 21:00", "day first", "2026-11-06T21:00:00Z"),
        ("11/06/2026 9:00 PM", "month first", "2026-11-06T21:00:00Z"),
        ("11/06/2026, 12:30 a.m.", "month first", "2026-11-06T00:30:00Z"),
    ],
)
def test_times_as_people_write_them(text, order, instant):
    assert parsed_time(text, DUBLIN, order) == parse_instant(instant)


@pytest.mark.parametrize(
    "text", ["", "soon", "31.02.2026 10:00", "06.11.1026 10:00", "13/13/2026 10:00",
             "06/11/2026 13:00 PM", "2026-11-06", "٠٦.١١.٢٠٢٦ ٢١:٠٠"],
)  # fmt: skip
def test_what_is_no_time_is_refused(text):
    with pytest.raises(ValueError, match="is "):
        parsed_time(text, DUBLIN)


@pytest.mark.parametrize(
    ("text", "seconds"),
    [("1:23:45", 5025), ("83:20", 5000), ("1 h 23 min", 4980), ("83 min", 4980), ("4980 s", 4980),
     ("1,5 h", 5400), ("90 seconds", 90)],
)  # fmt: skip
def test_durations_as_people_write_them(text, seconds):
    assert parsed_duration(text) == seconds


@pytest.mark.parametrize("text", ["", "long", "1:2", "-5 min", "5 days"])
def test_what_is_no_duration_is_refused(text):
    with pytest.raises(ValueError, match="no duration"):
        parsed_duration(text)


@pytest.mark.parametrize(
    ("row", "line", "column", "said"),
    [
        ("Nightly;;06.11.2026 21:00;06.11.2026 22:00;;;;;", 2, "Machine", "is empty"),
        ("Nightly;gate;soon;06.11.2026 22:00;;;;;", 2, "Start Time", "is no time"),
        ("Nightly;gate;06.11.2026 21:00;06.11.2026 20:00;;;;;", 2, "End Time", "before it starts"),
        ("Nightly;gate;06.11.2026 21:00;;;;;;", 2, "", "neither an end nor a duration"),
        ("Nightly;gate;06.11.2026 21:00;06.11.2026 22:00;;half;;;", 2, "Type", "is none of"),
        ("Nightly;gate;06.11.2026 21:00;06.11.2026 22:00;;;-4;;", 2, "Read (GB)", "below 0"),
        ("Nightly;gate;06.11.2026 21:00;06.11.2026 22:00;;;;odd;", 2, "Status", "is no outcome"),
        ("Nightly;gate;06.11.2026 21:00", 2, "", "has 3 cells"),
    ],
)
def test_a_bad_row_is_named_by_line_column_and_reason(row, line, column, said):
    found = read(CSV.splitlines()[0] + "\n" + row + "\n")
    assert [(p.line, p.column) for p in found.problems] == [(line, column)]
    assert said in found.problems[0].reason and not found.rows


def test_a_table_without_the_columns_that_are_needed():
    found = read("a,b\n1,2\n", mapping={"job": "a"})
    assert {p.reason for p in found.problems} == {
        "has no column for the machine", "has no column for the start",
        "has no column for the end or the duration",
    }  # fmt: skip


LINE = {
    "job": "nightly", "occurrence": "2026-11-06T21:00:00Z", "machine": "gate", "outcome": "done",
    "start": "2026-11-06T21:00:05Z", "end": "2026-11-06T21:20:05Z", "source_bytes": 5,
}  # fmt: skip


def json_lines(*lines):
    head = json.dumps({"format": "gambrel-ledger/1"})
    return past_runs_of_json_lines("\n".join([head, *(json.dumps(line) for line in lines)]))


def test_json_lines_are_read_and_bad_ones_named():
    found = json_lines(
        LINE, {**LINE, "end": "2026-11-06T20:00:00Z"}, {**LINE, "source_bytes": -1},
        {**LINE, "outcome": "fine"}, {**LINE, "machine": 7}, 3, {**LINE, "source_bytes": True},
    )  # fmt: skip
    assert [row.machine for row in found.rows] == ["gate"]
    assert found.rows[0].occurrence == parse_instant("2026-11-06T21:00:00Z")
    assert [(p.line, p.column) for p in found.problems] == [
        (3, "end"), (4, "source_bytes"), (5, "outcome"), (6, "machine"), (7, ""),
        (8, "source_bytes"),
    ]  # fmt: skip


@pytest.mark.parametrize("text", ["", "{}", '{"format": "other/1"}', "[1]", "x"])
def test_another_format_is_refused(text):
    with pytest.raises(Unreadable, match="first line"):
        past_runs_of_json_lines(text)
