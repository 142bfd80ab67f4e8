"""Plan files (`gambrel-plan/1`) as text."""

from __future__ import annotations

import json
from typing import Any

from gambrel.core.plan.objects import Plan
from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.core.plan.values import PlanError, Problem


def _distinct_keys(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) != len(pairs):
        names = [key for key, _ in pairs]
        twice = next(key for key in names if names.count(key) > 1)
        raise PlanError([Problem("(file)", twice, "is a key that stands twice in one object")])
    return found


def _no_constant(text: str) -> Any:
    raise PlanError([Problem("(file)", text, "is not a number that JSON knows")])


def read(text: str | bytes) -> Plan:
    """The plan in the text of a plan file; UTF-8, with or without a byte order mark.

    Raises:
        PlanError: where it is not JSON, or breaks the format.
    """
    try:
        decoded = text.decode("utf-8-sig") if isinstance(text, bytes) else text
    except UnicodeDecodeError as error:
        reason = f"is no UTF-8 at byte {error.start}"
        raise PlanError([Problem("(file)", "the file", reason)]) from None
    try:
        raw = json.loads(decoded, object_pairs_hook=_distinct_keys, parse_constant=_no_constant)
    except json.JSONDecodeError as error:
        where = f"line {error.lineno}, column {error.colno}"
        raise PlanError([Problem(where, error.msg, "keeps this from being JSON")]) from None
    except RecursionError:
        raise PlanError([Problem("(file)", "the file", "is nested too deeply")]) from None
    return read_plan(raw)


def write(plan: Plan) -> str:
    """The plan as the text of a plan file."""
    return json.dumps(write_plan(plan), ensure_ascii=False, indent=1) + "\n"
