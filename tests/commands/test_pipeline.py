"""`gambrel check` and `gambrel diff`: exit statuses, words, JSON and the report of tests."""

from __future__ import annotations

import json
from xml.etree import ElementTree as Xml

import pytest

from gambrel.cli import main
from gambrel.commands.pipeline import CANNOT_BE_CHECKED, FAILS, PASSES
from gambrel.demo import larkmoor, tiny


@pytest.fixture(scope="module")
def files(tmp_path_factory):
    folder = tmp_path_factory.mktemp("plans")
    late = larkmoor()
    # With the first job alone every night fits.
    early = larkmoor()
    early["jobs"] = early["jobs"][:1]
    early["state"]["points"] = []
    for name, plan in (("late", late), ("early", early), ("tiny", tiny())):
        (folder / f"{name}.json").write_text(json.dumps(plan))
    return folder


def test_a_week_with_a_night_over_does_not_pass(files, capsys, tmp_path):
    report, told = tmp_path / "report.xml", tmp_path / "told.json"
    late = str(files / "late.json")
    assert main(["check", late, "--junit", str(report), "--json", str(told)]) == FAILS
    said = capsys.readouterr().out
    assert "* Fri 06 Nov  over   last run ends Sat 07:43" in said
    assert said.rstrip().endswith("It does not pass: Fri 06 Nov is over.")
    cases = Xml.parse(report).getroot().findall("testcase")
    failed = [case.get("name") for case in cases if case.find("failure") is not None]
    assert (len(cases), failed) == (7, ["Fri 2026-11-06"])
    answer = json.loads(told.read_text())
    assert not answer["passes"]
    assert [night["verdict"] for night in answer["nights"]].count("over") == 1
    assert {"what", "why", "gravity", "subjects"} <= answer["findings"][0].keys()


def test_a_week_that_fits_passes_unless_less_is_asked_for(files, capsys):
    early = str(files / "early.json")
    assert main(["check", early, "--json", "-"]) == PASSES
    told = json.loads(capsys.readouterr().out)
    assert told["passes"]
    verdicts = {night["verdict"] for night in told["nights"]}
    strict = main(["check", early, "--fail-on", "tight", "--json", "-"])
    assert strict == (FAILS if "tight" in verdicts else PASSES)


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["--week", "soon"], "no date"),
        (["--week", "2019-01-01"], "--week"),
        (["--json", "/nowhere/at/all.json"], "Cannot write"),
    ],
)
def test_what_cannot_be_checked_is_told_from_what_fails(files, capsys, arguments, words):
    assert main(["check", str(files / "tiny.json"), *arguments]) == CANNOT_BE_CHECKED
    assert words in capsys.readouterr().err


def test_a_file_that_is_no_plan_names_what_is_wrong(tmp_path, capsys):
    wrong = tmp_path / "wrong.json"
    wrong.write_text('{"format": "gambrel-plan/1", "jobs": 5}')
    assert main(["check", str(wrong)]) == CANNOT_BE_CHECKED
    assert "jobs" in capsys.readouterr().err
    assert main(["diff", str(wrong), str(wrong)]) == CANNOT_BE_CHECKED


def test_two_files_are_told_apart_in_words(files, tmp_path, capsys):
    changed = tiny()
    changed["jobs"][0]["name"] = "Renamed"
    changed["proxies"][0]["slots"] = 77
    other = tmp_path / "other.json"
    other.write_text(json.dumps(changed))
    one = str(files / "tiny.json")
    assert main(["diff", one, one]) == PASSES
    assert capsys.readouterr().out == "Both say the same.\n"
    assert main(["diff", one, str(other)]) == FAILS
    said = capsys.readouterr().out
    assert "is called Renamed" in said
    assert "slots 77 (was " in said
    assert main(["diff", one, str(other), "--json"]) == FAILS
    assert {change["subject"] for change in json.loads(capsys.readouterr().out)} == {"job", "proxy"}
