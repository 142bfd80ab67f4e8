"""`gambrel simulate`, `load`, `save` and `sample`: plan files in and out."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from gambrel.commands.database import database
from gambrel.commands.places import CommandError, say
from gambrel.commands.serving import prepared
from gambrel.core.limits import TooMuch
from gambrel.core.operations import apply_all
from gambrel.core.plan import Plan
from gambrel.core.plan_reading import PlanError, parse_instant, read_plan
from gambrel.core.simulate import simulate as run_simulation
from gambrel.demo import SCENARIOS
from gambrel.formats import plan_file, result_file
from gambrel.store.plan_tables import NotStorable
from gambrel.store.plans import draft, drafts, plan_heads, store_plan, version_plan


def _read(path: str) -> Plan:
    try:
        text = Path(path).read_bytes()
    except OSError as error:
        raise CommandError(f"Cannot read {path}: {error.strerror}.") from error
    try:
        return plan_file.read(text)
    except PlanError as error:
        raise CommandError(_listed(path, error)) from error


def _listed(path: str, error: PlanError | NotStorable) -> str:
    lines = [f"  {problem}" for problem in error.problems]
    return "\n".join([f"{path} is not a plan that can be used:", *lines])


def _write(path: str, text: str) -> None:
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
    plan = _read(path)
    try:
        forecast = run_simulation(plan, start, end)
    except TooMuch as error:
        raise CommandError(f"{path}: {error}") from error
    _write(output, json.dumps(result_file.result(forecast), indent=1) + "\n")


def load(path: str, name: str | None) -> None:
    """Store a plan file as the adopted version of a plan."""
    plan = _read(path)
    chosen = name or Path(path).stem
    with database() as url:
        try:
            with prepared(url).begin() as db:
                head = store_plan(
                    db, chosen, plan, actor="gambrel load", note=f"loaded from {path}"
                )
        except NotStorable as error:
            raise CommandError(_listed(path, error)) from error
    say(f"Stored as plan {head.name}, version {head.adopted_version}.")


def save(name: str | None, draft_id: int | None, output: str) -> None:
    """Write a stored plan, as adopted or as a draft has it, to a plan file."""
    with database() as url, prepared(url)() as db:
        heads = plan_heads(db)
        if not heads:
            raise CommandError("No plan is stored yet. `./gambrel load PLAN.json` stores one.")
        head = max(heads, key=lambda h: h.adopted_version)
        if name is not None:
            found = [h for h in heads if h.name == name]
            if not found:
                known = ", ".join(h.name for h in heads)
                raise CommandError(f"There is no plan {name}. There are: {known}.")
            head = found[0]
        if draft_id is None:
            plan = version_plan(db, head.adopted_version)
        else:
            if draft_id not in [d.id for d in drafts(db, head.id)]:
                raise CommandError(f"There is no open draft {draft_id} of plan {head.name}.")
            chosen = draft(db, draft_id)
            plan = apply_all(version_plan(db, chosen.base_version), chosen.operations)
    _write(output, plan_file.write(plan))


def sample(name: str, output: str) -> None:
    """Write one of the sample plans to a plan file."""
    _write(output, plan_file.write(read_plan(SCENARIOS[name]())))
