"""Sources that lie: whatever an inventory says, every plan can still be opened and forecast."""

from __future__ import annotations

import json
import random
import threading
import time
from collections import Counter
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlsplit

from served import served, signed_in

from gambrel.commands.database import free_port

MOST_PAGES = 40
ODD: tuple[Any, ...] = (
    None, -1, 0, 1e308, -1e-9, "", "x" * 70_000, "\ud800", [], {}, True, [[]], {"a": {"b": []}},
    "1; DROP TABLE plans", "<script>", 10**30, float("nan"), "2026-99-99", 3.5,
)  # fmt: skip


def _honest() -> dict[str, Any]:
    """Pages as a source of make A gives them."""
    from gambrel.demo import larkmoor
    from gambrel.standins.service import create_service
    from gambrel.standins.world import World

    world = World(larkmoor())
    world.begin()
    service = create_service(world).test_client()
    name, source = next((n, s) for n, s in world.sources.items() if s.sample.make == "A")
    account = source.sample.accounts[0]
    login = (account.user, account.secret)
    pages = {
        "access": service.get(f"/{name}/access?for=source", auth=login).json,
        "summary": service.get(f"/{name}/summary", auth=login).json,
    }
    for what in ("hosts", "stores", "machines"):
        for page in range(1, MOST_PAGES):
            answer = service.get(f"/{name}/{what}?page={page}", auth=login)
            pages[f"{what} {page}"] = answer.json
    return pages


def _spoilt(value: Any, chance: random.Random, share: float) -> Any:
    if chance.random() < share:
        return chance.choice(ODD)
    if isinstance(value, dict):
        return {key: _spoilt(each, chance, share) for key, each in value.items()}
    if isinstance(value, list):
        made = [_spoilt(each, chance, share) for each in value]
        return made + made[:1] if chance.random() < share else made
    return value


class _Liar(ThreadingHTTPServer):
    def __init__(self, port: int, chance: random.Random) -> None:
        super().__init__(("127.0.0.1", port), _Answering)
        self.chance, self.pages, self.share = chance, _honest(), 0.02


class _Answering(BaseHTTPRequestHandler):
    server: _Liar

    def do_GET(self) -> None:
        asked = urlsplit(self.path)
        what = asked.path.strip("/").split("/")[-1]
        page = parse_qs(asked.query).get("page", ["1"])[0]
        pages = self.server.pages
        honest = pages.get(what, pages.get(f"{what} {page}", {"items": []}))
        told = json.dumps(_spoilt(honest, self.server.chance, self.server.share)).encode()
        self.send_response(200)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(told)))
        self.end_headers()
        self.wfile.write(told)

    def log_message(self, *_: Any) -> None:
        pass


def lies(times: int) -> str:
    """Read a source again and again that spoils parts of what it says, and take what it names."""
    chance = random.Random(8)
    port = free_port()
    liar = _Liar(port, chance)
    threading.Thread(target=liar.serve_forever, daemon=True).start()
    ends: Counter[str] = Counter()
    accepted = 0
    with served("demo") as gambrel:
        person = signed_in(gambrel)
        plan = person.plan("tiny")
        site = person.ask("GET", f"/plans/{plan}/file").json()["sites"][0]["id"]
        made = person.ask(
            "POST", f"/plans/{plan}/sources",
            {
                "name": "liar", "kind": "manager", "make": "A", "site": site, "interval_min": None,
                "address": f"http://127.0.0.1:{port}/liar",
                "accounts": [{"scope": "source", "user": "u", "secret": "s"}],
            },
        )  # fmt: skip
        made.raise_for_status()
        source = made.json()["id"]
        for turn in range(times):
            liar.share = 0.0 if turn % 5 == 0 else chance.choice((0.002, 0.02, 0.2))
            person.ask("POST", f"/plans/{plan}/discoveries", {"sources": [source]})
            until = time.monotonic() + 60
            while time.monotonic() < until:
                listed = person.ask("GET", f"/plans/{plan}/sources").json()["sources"]
                read = next(s for s in listed if s["id"] == source)["last_discovery"]
                if read is not None and read["state"] != "running":
                    break
                time.sleep(0.05)
            ends[read["state"]] += 1
            inbox = person.ask("GET", f"/plans/{plan}/inbox").json()
            ids = [e["id"] for e in inbox["differences"]][: chance.randrange(1, 40)]
            if ids:
                answer = person.ask("POST", f"/plans/{plan}/inbox/accept", {"ids": ids})
                accepted += answer.status_code == 200
                if answer.status_code >= 500:
                    raise AssertionError(f"accepting answered {answer.status_code}: {answer.text}")
            for path in (f"/plans/{plan}", f"/plans/{plan}/file", f"/plans/{plan}/estate"):
                answer = person.ask("GET", path)
                if answer.status_code != 200:
                    raise AssertionError(f"{path} answers {answer.status_code} after a lie")
    liar.shutdown()
    words = ", ".join(f"{count} {state}" for state, count in sorted(ends.items()))
    return (
        f"{times} readings of a source that spoils up to a fifth of its values: {words}; "
        f"{accepted} times what it named was taken over. The plan opened every time."
    )
