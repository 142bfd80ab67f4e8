"""What is wrong with a simulated plan, and what would help.

A finding belongs to a class: a rule over a forecast, figures, subjects, two lines in plain words.
`find` looks for all of them; `gambrel.core.findings.help` proposes operations and keeps those that
were simulated and helped.
"""

from __future__ import annotations

from collections.abc import Collection

from gambrel.core.findings import loads, protection, runs
from gambrel.core.findings.model import GRAVITIES, Finding, Look, Subject, Thresholds
from gambrel.core.simulation.forecast import Forecast

RULES = {**runs.RULES, **protection.RULES, **loads.RULES}
"""Every class of findings with its rule: a function from a Look to the findings."""

__all__ = ["GRAVITIES", "RULES", "Finding", "Look", "Subject", "Thresholds", "find"]


def find(
    forecast: Forecast,
    start: float,
    end: float,
    thresholds: Thresholds | None = None,
    *,
    kinds: Collection[str] | None = None,
) -> list[Finding]:
    """Everything that a forecast shows between two instants, the gravest first.

    Args:
        start, end: UTC seconds; runs are looked at whose occurrence is in [start, end).
        kinds: look for these classes only.
    """
    look = Look(forecast, start, end, thresholds or Thresholds())
    wanted = RULES.keys() if kinds is None else kinds
    rules = dict.fromkeys(RULES[kind] for kind in wanted)
    found = [f for rule in rules for f in rule(look) if f.kind in wanted]
    return sorted(found, key=lambda f: (GRAVITIES.index(f.gravity), -f.weight, f.kind, f.key))
