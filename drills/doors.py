"""Everybody at every door: people and tokens of each role, ended tokens, secret addresses."""

from __future__ import annotations

import random
import re
from collections import Counter
from collections.abc import Mapping
from typing import Any, Protocol

import requests
from served import ANSWER_WITHIN_S, Person, Served, served, signed_in

from gambrel.api.app import create_app
from gambrel.api.rights import ADMINISTER, OPEN, PLAN, READ, RIGHTS, WITH_OWN_TOKENS
from gambrel.store.sealing import Sealer

RANKS = {READ: 1, PLAN: 2, ADMINISTER: 3}
TURNED_AWAY = (401, 403, 429)
BODIES: tuple[Any, ...] = (None, {}, [], {"name": "x"}, "x")


class _Caller(Protocol):
    def ask(self, method: str, path: str, body: Any = None) -> requests.Response: ...


def _doors() -> list[tuple[str, str, str]]:
    """Every route with its methods: (endpoint, method, address), with an id that may exist."""
    # The list of routes needs an application, but no database.
    app = create_app("mysql+pymysql://nobody@127.0.0.1:1/none", "a key", Sealer.new_key())
    app.extensions["gambrel-computations"].close()
    found = []
    for rule in app.url_map.iter_rules():
        if rule.rule.startswith("/api/"):
            address = re.sub(r"<int:\w+>", "1", rule.rule)
            address = re.sub(r"<\w+:?day>|<day>", "2026-11-06", address)
            address = re.sub(r"<[^>]+>", "nightly-vms", address)
            for method in sorted((rule.methods or set()) - {"HEAD", "OPTIONS"}):
                found.append((rule.endpoint, method, address))
    return found


class _Program:
    """A caller with a token, or with none."""

    def __init__(self, address: str, secret: str | None) -> None:
        self.address, self.secret = address, secret

    def ask(self, method: str, path: str, body: Any = None) -> requests.Response:
        headers = {"Authorization": f"Bearer {self.secret}"} if self.secret else {}
        return requests.request(
            method, f"{self.address}{path}", json=body, headers=headers, timeout=ANSWER_WITHIN_S
        )


class _Somebody:
    """A person who is signed in."""

    def __init__(self, person: Person) -> None:
        self.person = person

    def ask(self, method: str, path: str, body: Any = None) -> requests.Response:
        return self.person.ask(method, path.removeprefix("/api/v1"), body)


def _callers(
    person: Person, link_of: Mapping[str, str], gambrel: Served
) -> dict[str, tuple[_Caller, int]]:
    """Whoever asks, with the rank of their role; 0: somebody unknown."""
    secrets = {}
    for role in (READ, PLAN, "ended"):
        made = person.ask(
            "POST", "/tokens", {"name": role, "role": READ if role == "ended" else role}
        ).json()
        secrets[role] = made["secret"]
        if role == "ended":
            person.ask("DELETE", f"/tokens/{made['token']['id']}").raise_for_status()
    return {
        "a reader": (_Somebody(Person(gambrel, link_of[READ])), RANKS[READ]),
        "a planner": (_Somebody(Person(gambrel, link_of[PLAN])), RANKS[PLAN]),
        "a reader's token": (_Program(gambrel.address, secrets[READ]), RANKS[READ]),
        "a planner's token": (_Program(gambrel.address, secrets[PLAN]), RANKS[PLAN]),
        "nobody": (_Program(gambrel.address, None), 0),
        "a token that was ended": (_Program(gambrel.address, secrets["ended"]), 0),
        "a token made up": (_Program(gambrel.address, "gt_" + "x" * 43), 0),
    }


def doors(rounds: int) -> str:
    """Ask at every route and method as everybody; whoever has no right is turned away."""
    chance = random.Random(17)
    statuses: Counter[int] = Counter()
    wrong: list[str] = []
    every = _doors()
    with served("demo") as gambrel:
        person = signed_in(gambrel)
        link_of = {
            role: person.ask("POST", "/people", {"name": f"A {role}", "role": role})
            .json()["link"]
            .partition("#")[2]
            for role in (READ, PLAN)
        }
        callers = _callers(person, link_of, gambrel)
        for _ in range(rounds):
            chance.shuffle(every)
            for endpoint, method, address in every:
                right = RIGHTS.get(endpoint, WITH_OWN_TOKENS)
                if right == OPEN:
                    continue
                for who, (caller, rank) in callers.items():
                    # Only doors that must stay shut are tried.
                    if right in RANKS and rank >= RANKS[right]:
                        continue
                    body: Any = chance.choice(BODIES)
                    status = caller.ask(method, address, body).status_code
                    statuses[status] += 1
                    if status not in TURNED_AWAY:
                        wrong.append(f"{who}: {method} {address} answers {status}")
        feeds = _feeds(person, 20 * rounds)
        alive = person.ask("GET", "/plans").status_code
    if alive != 200:
        wrong.append(f"the administrator's session answers {alive} afterwards")
    if wrong:
        raise AssertionError(f"{len(wrong)} doors:\n" + "\n".join(wrong[:40]))
    words = ", ".join(f"{count:,} of {status}" for status, count in sorted(statuses.items()))
    return (
        f"{len(every)} routes and methods, asked by {len(callers)} callers without the right to "
        f"them ({rounds} times): {words}; none was let in. {feeds}"
    )


def _feeds(person: Person, count: int) -> str:
    """Make calendar feeds, read them, end them: an address that was ended leads nowhere."""
    plan = person.plan()
    read = 0
    for turn in range(count):
        made = person.ask("POST", f"/plans/{plan}/feeds", {"name": f"feed {turn}"}).json()
        address = f"{person.address}/feeds/{made['address'].partition('/feeds/')[2]}"
        before = requests.get(address, timeout=ANSWER_WITHIN_S)
        person.ask("DELETE", f"/plans/{plan}/feeds/{made['feed']['id']}").raise_for_status()
        after = requests.get(address, timeout=ANSWER_WITHIN_S)
        near = requests.get(address.replace(".ics", "x.ics"), timeout=ANSWER_WITHIN_S)
        if before.status_code == 200 and before.content.startswith(b"BEGIN:VCALENDAR"):
            read += 1
        elif before.status_code != 429:
            raise AssertionError(f"a feed answers {before.status_code}")
        for answer in (after, near):
            if answer.status_code not in (404, 429):
                raise AssertionError(f"an address that was ended answers {answer.status_code}")
    if not read:
        raise AssertionError("no feed was read")
    return f"{count} calendar feeds were made and ended, {read} read before; none answered after."
