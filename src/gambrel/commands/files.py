"""`gambrel simulate` and `sample`: plan files in and out, without a database."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

from gambrel.commands.places import CommandError
from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.objects import Plan
from gambrel.core.plan.reading import read_plan
from gambrel.core.plan.values import PlanError, Problem
from gambrel.demo import SCENARIOS
from gambrel.formats import plan_file, result_file


def read(path: str) -> Plan:
    """The plan of a file. Raises CommandError."""
    try:
        text = Path(path).read_bytes()
    except OSError as error:
        raise CommandError(f"Cannot read {path}: {error.strerror}.") from error
    try:
        return plan_file.read(text)
    except PlanError as error:
        raise CommandError(listed(path, error.problems)) from error


def listed(path: str, problems: Iterable[Problem]) -> str:
    """A message about a plan file, one line for each problem."""
    lines = [f"  {problem}" for problem in problems]
    return "\n".join([f"{path} is not a plan that can be used:", *lines])


def write(path: str, text: str) -> None:
    """Write a file whole or not at all; "-" prints it. Raises CommandError."""
    if path == "-":
        sys.stdout.write(text)
        return
    target = Path(path)
    part = target.with_name(target.name + ".part")
    try:
        part.write_text(text)
        part.replace(target)
    except OSError as error:
        raise CommandError(f"Cannot write {path}: {error.strerror}.") from error


def _instant(option: str, text: str) -> float:
    try:
        return parse_instant(text)
    except ValueError as error:
        raise CommandError(f"{option}: {error}.") from error


def simulate(
    path: str,
    from_: str,
    to: str,
    output: str | None,
    instant: str | None = None,
    state_output: str | None = None,
) -> None:
    """Simulate a plan file and write the result file.

    Args:
        output: None: no result file.
        instant: where to stop to write `state_output`, the plan with its state as it is then.
    """
    start, end = _instant("--from", from_), _instant("--to", to)
    if end <= start:
        raise CommandError(f"--to: {to} is not after --from {from_}.")
    if (instant is None) != (state_output is None):
        raise CommandError("--state-at and --state-output go together.")
    if output is None and state_output is None:
        raise CommandError("Name a file with --output, or with --state-at and --state-output.")
    middle = None if instant is None else _instant("--state-at", instant)
    if middle is not None and not start <= middle < end:
        raise CommandError(f"--state-at: {instant} is not within --from {from_} and --to {to}.")
    plan = read(path)
    from gambrel.core.simulation import simulate as engine  # takes longer than most mistakes

    try:
        if output is not None:
            forecast = engine.simulate(plan, start, end)
            write(output, json.dumps(result_file.result(forecast), indent=1) + "\n")
        if middle is not None and state_output is not None:
            state = engine.state_at(plan, start, end, middle)
            write(state_output, plan_file.write(replace(plan, state=state)))
    except ValueError as error:
        raise CommandError(f"{path}: {error}") from error


def sample(name: str, output: str) -> None:
    """Write one of the sample plans to a plan file."""
    write(output, plan_file.write(read_plan(SCENARIOS[name]())))
