"""`gambrel check` and `gambrel diff`: plan files in pipelines, without a server or a database."""

from __future__ import annotations

import json
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Any
from xml.etree import ElementTree as Xml

from gambrel.commands.files import read, write
from gambrel.commands.places import CommandError, complain, say
from gambrel.core.edits.plan_diff import PlanChange, compare
from gambrel.core.findings import Finding, find
from gambrel.core.nights.nights import GRADES, NightOutcome, night_outcome, today_of
from gambrel.core.plan.instants import format_instant, format_known
from gambrel.core.plan.objects import Plan
from gambrel.core.words import count, duration, moment
from gambrel.work.forecaster import Forecaster, OutOfReach, origin_night

PASSES, FAILS, CANNOT_BE_CHECKED = 0, 1, 2
"""Exit statuses of `check`; of `diff`: the same, differ, cannot be compared."""
FAIL_ON = ("over", "tight")


@dataclass(frozen=True, slots=True)
class Checked:
    """A week of a plan file: its nights, and what is wrong with it."""

    plan: Plan
    zone: str
    nights: tuple[NightOutcome, ...]
    findings: tuple[Finding, ...]

    def failing(self, fail_on: str) -> list[NightOutcome]:
        """The nights that are as bad as `fail_on`, or worse."""
        return [n for n in self.nights if GRADES.index(n.verdict) <= GRADES.index(fail_on)]


def checked(plan: Plan, day: date | None) -> Checked:
    """A week of a plan. `day`: any of it; None: the first week that can be forecast.

    Raises:
        CommandError: where it cannot be simulated.
    """
    origin = origin_night(plan, today_of(plan, datetime.now(UTC)))
    forecaster = Forecaster(plan, origin)
    try:
        week = forecaster.week(day or origin.date)
        nights = tuple(night_outcome(week.forecast, night) for night in week.nights)
        found = find(week.forecast, week.start, week.end)
    except OutOfReach as error:
        raise CommandError(f"--week: {error}.") from error
    except ValueError as error:
        raise CommandError(str(error)) from error
    return Checked(plan, origin.zone, nights, tuple(found))


def check(
    path: str, week: str | None, fail_on: str, to_json: str | None, to_junit: str | None
) -> int:
    """Check a plan file; returns the exit status.

    Args:
        week: a date of the week.
        fail_on: the mildest verdict of a night with which the plan does not pass.
        to_json, to_junit: files to write as well; "-" prints in place of the words.
    """
    try:
        try:
            day = None if week is None else date.fromisoformat(week)
        except ValueError:
            raise CommandError(f"--week: {week!r} is no date such as 2026-11-06.") from None
        told = checked(read(path), day)
        failing = told.failing(fail_on)
        if "-" not in (to_json, to_junit):
            _say(told, failing)
        if to_json is not None:
            write(to_json, json.dumps(_as_json(told, fail_on), indent=1) + "\n")
        if to_junit is not None:
            write(to_junit, _as_junit(path, told, fail_on))
    except CommandError as error:
        complain(str(error))
        return CANNOT_BE_CHECKED
    return FAILS if failing else PASSES


def _night_words(outcome: NightOutcome, zone: str) -> str:
    parts = []
    if outcome.last_end is not None:
        parts.append(f"last run ends {moment(outcome.last_end, zone)}")
    if outcome.over_s > 0:
        parts.append(f"{duration(outcome.over_s)} after its window")
    if outcome.missed:
        parts.append(f"{count(outcome.missed, 'machine-run')} not done")
    return ", ".join(parts) or "nothing runs"


def _say(told: Checked, failing: Sequence[NightOutcome]) -> None:
    first = told.nights[0].night.date
    say(f"Week of {first:%-d %B %Y}, times of {told.zone}")
    for outcome in told.nights:
        day = outcome.night.date
        mark = "*" if outcome in failing else " "
        say(f"{mark} {day:%a %d %b}  {outcome.verdict:<5}  {_night_words(outcome, told.zone)}")
    if told.findings:
        say("")
    for finding in told.findings:
        say(f"{finding.gravity}: {finding.what}\n    {finding.why}")
    say("")
    if failing:
        listed = ", ".join(f"{n.night.date:%a %d %b} is {n.verdict}" for n in failing)
        say(f"It does not pass: {listed}.")
    else:
        say("It passes.")


def _as_json(told: Checked, fail_on: str) -> dict[str, Any]:
    return {
        "passes": not told.failing(fail_on),
        "fail_on": fail_on,
        "time_zone": told.zone,
        "nights": [
            {
                "date": outcome.night.date.isoformat(),
                "verdict": outcome.verdict,
                "last_end": format_known(outcome.last_end),
                "over_s": outcome.over_s,
                "missed": outcome.missed,
            }
            for outcome in told.nights
        ],
        "findings": [
            {
                "kind": finding.kind,
                "gravity": finding.gravity,
                "what": finding.what,
                "why": finding.why,
                "at": None if finding.at is None else format_instant(finding.at),
                "subjects": [{"kind": s.kind, "id": s.id} for s in finding.subjects],
            }
            for finding in told.findings
        ],
    }


def _as_junit(path: str, told: Checked, fail_on: str) -> str:
    """A report as test runners write it: a test for each night, findings as its output."""
    failing = told.failing(fail_on)
    suite = Xml.Element(
        "testsuite", name=path, tests=str(len(told.nights)), failures=str(len(failing)),
        errors="0", skipped="0",
    )  # fmt: skip
    for outcome in told.nights:
        day = outcome.night.date
        case = Xml.SubElement(suite, "testcase", classname="nights", name=f"{day:%a} {day}")
        if outcome in failing:
            words = f"{outcome.verdict}: {_night_words(outcome, told.zone)}"
            Xml.SubElement(case, "failure", message=words, type=outcome.verdict)
    lines = [f"{f.gravity}: {f.what} {f.why}" for f in told.findings]
    Xml.SubElement(suite, "system-out").text = "\n".join(lines)
    return Xml.tostring(suite, encoding="unicode", xml_declaration=True) + "\n"


# --- diff ---------------------------------------------------------------------------------------


def diff(one: str, other: str, *, as_json: bool) -> int:
    """Say what of one plan file is otherwise in another; returns the exit status."""
    try:
        changes = compare(read(one), read(other))
    except CommandError as error:
        complain(str(error))
        return CANNOT_BE_CHECKED
    if as_json:
        sys.stdout.write(json.dumps([_change(change) for change in changes], indent=1) + "\n")
    elif not changes:
        say("Both say the same.")
    else:
        for change in changes:
            say(_change_words(change))
    return FAILS if changes else PASSES


def _change(change: PlanChange) -> dict[str, Any]:
    return {
        "kind": change.kind, "subject": change.subject, "id": change.id, "name": change.name,
        "lines": list(change.lines),
    }  # fmt: skip


def _change_words(change: PlanChange) -> str:
    name = "" if change.subject == change.name or not change.name else f" {change.name}"
    subject = "" if change.subject == "estate" else change.subject
    head = f"{subject}{name}".strip()
    said = head if change.kind == "changed" else f"{head} is {change.kind}"
    return "\n".join([said[:1].upper() + said[1:], *(f"    {line}" for line in change.lines)])
