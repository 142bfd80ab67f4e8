"""Calls made up from the API's own description: no error of the server, no slow answer."""

from __future__ import annotations

import random
import time
from collections import Counter
from collections.abc import Callable
from typing import Any

import schemathesis
from hypothesis import HealthCheck, Phase, given, seed, settings
from schemathesis import Case
from schemathesis.core.result import Ok
from served import Person, served, signed_in

SLOWEST_S = 5.0
LEFT_ALONE = {
    "DELETE /api/v1/session",
    "PUT /api/v1/session/password",
    "PATCH /api/v1/people/{person_id}",
    "DELETE /api/v1/people/{person_id}/sessions",
    "DELETE /api/v1/people/{person_id}/password",
    "POST /api/v1/plans/{plan_id}/nights-ahead",
    "POST /api/v1/plans/{plan_id}/purchases",
    "POST /api/v1/plans/{plan_id}/runway/below",
}
"""The first ones would end the session of the drill; the others compute for long, and all calls
beside them would be slow for that reason alone."""
WAITS_S = {"GET /api/v1/plans/{plan_id}/news": 20.0}
"""Routes that hold their answer back until there is something to tell, and for how long."""
REAL_SHARE = 0.8
"""How often an id is one that exists."""


def _real(person: Person, plans: list[int], chance: random.Random) -> dict[str, list[Any]]:
    plan = chance.choice(plans)
    drafts = person.ask("GET", f"/plans/{plan}").json()["open_drafts"]
    return {
        "plan_id": list(plans),
        "draft_id": [draft["id"] for draft in drafts] or [1],
        "day": ["2026-11-02", "2026-11-06", "2026-12-24"],
        "job": ["nightly-vms", "ticketing", "mail"],
        "name": ["mail-1", "quay-p2"],
    }


def _answer(person: Person, case: Case[Any], revision: str) -> tuple[int, float]:
    headers = {"X-CSRF-Token": person.token}
    if "If-Match" in (case.headers or {}):
        headers["If-Match"] = revision
    began = time.monotonic()
    answer = case.call(base_url=person.address, session=person.http, headers=headers, timeout=60)
    took = time.monotonic() - began
    if "attachment" in answer.headers.get("Content-Disposition", ""):
        # A file is as long as it is: what counts is when it begins to come.
        took = answer.elapsed
    return answer.status_code, took


def _each(cases: Any, count: int, check: Callable[[Case[Any]], None]) -> None:
    """Check some made-up cases; the same each time."""

    @seed(11)
    @settings(
        max_examples=count, database=None, deadline=None, phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    @given(cases)
    def run(case: Case[Any]) -> None:
        check(case)

    run()


def fuzz(calls: int) -> str:
    """Calls of every route, with values of the described kinds and with real ids among them."""
    chance = random.Random(5)
    statuses: Counter[int] = Counter()
    broken: list[str] = []
    slowest = ("", 0.0)
    with served("demo") as gambrel:
        person = signed_in(gambrel)
        plans = [int(p["id"]) for p in person.ask("GET", "/plans").json()]
        raw = person.ask("GET", "/openapi.json").json()
        schema = schemathesis.openapi.from_dict(raw)
        operations = [found.ok() for found in schema.get_all_operations() if isinstance(found, Ok)]
        each = max(1, calls // len(operations))
        for operation in operations:
            said = operation.label
            if said in LEFT_ALONE:
                continue
            known = _real(person, plans, chance)
            documented = set(operation.definition.raw["responses"])

            def check(
                case: Case[Any],
                said: str = said,
                known: dict[str, list[Any]] = known,
                documented: set[str] = documented,
            ) -> None:
                nonlocal slowest
                for name in case.path_parameters or {}:
                    if name in known and chance.random() < REAL_SHARE:
                        case.path_parameters[name] = chance.choice(known[name])
                status, took = _answer(person, case, f'"{chance.randrange(1, 30)}"')
                took = max(0.0, took - WAITS_S.get(said, 0.0))
                statuses[status] += 1
                if took > slowest[1]:
                    slowest = (said, took)
                if status >= 500 or took > SLOWEST_S or str(status) not in documented:
                    broken.append(f"{said}: {status} after {took:.1f} s, {case.as_curl_command()}")

            _each(operation.as_strategy(), 2 if said in WAITS_S else each, check)
        errors = gambrel.errors() if broken else ""
        alive = person.ask("GET", f"/plans/{plans[0]}").status_code
    if alive != 200:
        broken.append(f"a plan answers {alive} afterwards")
    if broken:
        raise AssertionError(f"{len(broken)} calls:\n" + "\n".join([*broken[:40], errors]))
    words = ", ".join(f"{count:,} of {status}" for status, count in sorted(statuses.items()))
    return (
        f"{sum(statuses.values()):,} calls of {len(operations)} operations: {words}. No answer of "
        f"5xx, none that the description does not name; the slowest took {slowest[1]:.1f} s "
        f"({slowest[0]})."
    )
