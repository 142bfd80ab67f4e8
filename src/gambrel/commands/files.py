"""`gambrel simulate` and `sample`: plan files in and out, without a database."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterable
from pathlib import Path

from gambrel.commands.places import CommandError
from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.objects import Plan
from gambrel.core.plan.reading import read_plan
from gambrel.core.plan.values import PlanError, Problem
from gambrel.core.simulation_limits import TooMuch
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


def simulate(path: str, from_: str, to: str, output: str) -> None:
    """Simulate a plan file and write the result file."""
    start, end = _instant("--from", from_), _instant("--to", to)
    if end <= start:
        raise CommandError(f"--to: {to} is not after --from {from_}.")
    plan = read(path)
    from gambrel.core.simulation.simulate import (
        simulate as run_simulation,  # takes longer than most mistakes
    )

    try:
        forecast = run_simulation(plan, start, end)
    except TooMuch as error:
        raise CommandError(f"{path}: {error}") from error
    write(output, json.dumps(result_file.result(forecast), indent=1) + "\n")


def sample(name: str, output: str) -> None:
    """Write one of the sample plans to a plan file."""
    write(output, plan_file.write(read_plan(SCENARIOS[name]())))
