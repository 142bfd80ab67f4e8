"""A plan with what the ledger has learned in place of what it states."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import Any

from gambrel.core.ledger.learned_change import LearnedChange
from gambrel.core.ledger.learned_rates import LearnedRate
from gambrel.core.ledger.learned_times import LearnedTime
from gambrel.core.ledger.shown_tonight import CORRECTED
from gambrel.core.plan.objects import Plan


def as_learned(
    plan: Plan,
    changes: Mapping[str, LearnedChange],
    rates: Iterable[LearnedRate],
    times: Iterable[LearnedTime] = (),
    weekday: int | None = None,
) -> Plan:
    """The plan as it would be if all that was learned were taken over.

    Args:
        weekday: of the night that is to be forecast, 0 for Monday, where its change counts and not
            the usual one.
    """
    lists: dict[str, dict[str, dict[str, float]]] = {}
    streams: dict[str, Any] = {}
    for rate in rates:
        kind, _, name = rate.what.partition(":")
        if kind == "stream":
            streams[f"{name}_mib_per_s"] = rate.learned
        else:
            list_name, (key,) = CORRECTED[kind]
            lists.setdefault(list_name, {})[name] = {key: rate.learned}
    stated: dict[str, dict[str, Any]] = {}
    for time in times:
        if time.key is not None:
            stated.setdefault(time.job, {})[time.key] = time.value
    changed: dict[str, Any] = {
        name: tuple(replace(each, **by_id.get(each.id, {})) for each in getattr(plan, name))
        for name, by_id in lists.items()
    }
    return replace(
        plan,
        **changed,
        jobs=tuple(replace(job, **stated.get(job.id, {})) for job in plan.jobs),
        transports=replace(plan.transports, **streams),
        machines=tuple(
            machine
            if (found := changes.get(machine.id)) is None
            else replace(
                machine,
                daily_change=found.change if weekday is None else found.in_night(weekday),
                churn_ceiling=found.ceiling or machine.churn_ceiling,
            )
            for machine in plan.machines
        ),
    )
