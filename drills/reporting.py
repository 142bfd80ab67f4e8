"""A runner that reports out of order, twice, with nonsense between, while Gambrel is killed."""

from __future__ import annotations

import json
import random
import time
from datetime import date
from typing import Any

import requests
from served import ANSWER_WITHIN_S, Person, Served, served, signed_in

from gambrel.core.nights.nights import night_of, planner_zone
from gambrel.core.plan.reading import read_plan
from gambrel.core.units import MINUTE
from gambrel.standins.performance import Performance
from gambrel.standins.true_world import TrueWorld

NIGHT = date(2026, 11, 6)
STEP_S = 20 * MINUTE
BACK_WITHIN_S = 120.0
MOST_IN_A_BATCH = 200
NONSENSE: tuple[Any, ...] = (
    None, 7, [], {}, {"id": "n1"}, {"id": "n2", "what": "machine flew", "at": "2026-11-06T21:00Z"},
    {"id": "n3", "what": "run began", "at": "2999-01-01T00:00:00Z", "job": "nightly-vms"},
    {"id": "n" * 200, "what": "run ended", "at": -1, "job": None, "occurrence": {}},
)  # fmt: skip


def _night_as_told(file: dict[str, Any]) -> list[dict[str, Any]]:
    """All events of a night with its troubles, in order."""
    plan = read_plan(file)
    night = night_of(NIGHT, planner_zone(plan))
    performance = Performance(plan, night.start, plan.state.points, TrueWorld(7, NIGHT))
    events = []
    at = night.start
    while at < night.end:
        at = min(at + STEP_S, night.end)
        events += [*performance.advance(at), *performance.progress()]
    return events


class _Reporter:
    """A runner that tries again until its batch is confirmed."""

    def __init__(self, gambrel: Served, token: str) -> None:
        self.address, self.token = f"{gambrel.address}/api/v1/runner/events", token
        self.batches = self.again = 0

    def send(self, events: list[Any]) -> dict[str, Any]:
        latest = time.monotonic() + BACK_WITHIN_S
        while time.monotonic() < latest:
            try:
                answer = requests.post(
                    self.address, json={"events": events}, timeout=ANSWER_WITHIN_S,
                    headers={"Authorization": f"Bearer {self.token}"},
                )  # fmt: skip
                if answer.status_code == 200:
                    self.batches += 1
                    return dict(answer.json())
                if answer.status_code < 500:
                    raise AssertionError(f"a batch is answered {answer.status_code}: {answer.text}")
            except requests.RequestException:
                pass
            self.again += 1
            time.sleep(0.2)
        raise AssertionError("a batch was not taken: " + answer.text)


def _plan_of_its_own(
    person: Person, gambrel: Served, file: dict[str, Any], name: str
) -> tuple[int, _Reporter]:
    made = person.ask("POST", "/plans", {"name": name, "begins": "file", "file": json.dumps(file)})
    made.raise_for_status()
    plan = int(made.json()["id"])
    token = person.ask("POST", f"/plans/{plan}/runners", {"name": "runner"}).json()["token"]
    return plan, _Reporter(gambrel, token)


def _ledger(person: Person, plan: int) -> list[str]:
    answer = person.ask("GET", f"/plans/{plan}/ledger.jsonl")
    answer.raise_for_status()
    return sorted(answer.text.splitlines())


def reports(kills: int) -> str:
    """Two plans of one kind hear of a night, one in order, one in any; their ledgers agree."""
    chance = random.Random(23)
    with served("demo") as gambrel:
        person = signed_in(gambrel)
        name = "larkmoor" if kills > 5 else "tiny"
        file = person.ask("GET", f"/plans/{person.plan(name)}/file").json()
        events = _night_as_told(file)
        tidy, in_order = _plan_of_its_own(person, gambrel, file, "told in order")
        untidy, in_any = _plan_of_its_own(person, gambrel, file, "told in any order")
        for first in range(0, len(events), MOST_IN_A_BATCH):
            refused = in_order.send(events[first : first + MOST_IN_A_BATCH])["refused"]
            if refused:
                raise AssertionError(f"an event as it was is refused: {refused[0]}")
        told = [*events, *chance.sample(events, len(events) // 3)]
        chance.shuffle(told)
        sizes: list[int] = []
        while sum(sizes) < len(told):
            sizes.append(chance.randrange(1, MOST_IN_A_BATCH))
        killed_at = set(chance.sample(range(len(sizes)), min(kills, len(sizes))))
        refused_nonsense = first = 0
        for turn, size in enumerate(sizes):
            if turn in killed_at:
                gambrel.application().kill()
            nonsense = chance.choices(NONSENSE, k=2)
            answer = in_any.send([*told[first : first + size], *nonsense])
            first += size
            if len(answer["refused"]) != len(nonsense):
                raise AssertionError(f"refused, of {nonsense}: {answer['refused']}")
            refused_nonsense += len(nonsense)
        one, other = _ledger(person, tidy), _ledger(person, untidy)
        errors = gambrel.errors()
    if one != other:
        differing = [f"{a}\n{b}" for a, b in zip(one, other, strict=False) if a != b]
        raise AssertionError(
            f"{len(one)} and {len(other)} lines, {len(differing)} differ:\n"
            f"{differing[:1]}\n{errors}"
        )
    if not one:
        raise AssertionError("the ledger is empty")
    return (
        f"A runner reported {len(events):,} events of a night in {in_any.batches:,} batches, out "
        f"of order and a third of them twice. It also sent {refused_nonsense:,} events that make "
        "no sense, and Gambrel refused those one by one. The drill killed the application "
        f"{len(killed_at)} times meanwhile ({in_any.again} batches were sent again). The ledger "
        f"has the same {len(one):,} lines as that of the same night told in order."
    )
