"""Clients that are slow, and many that read at once."""

from __future__ import annotations

import socket
import threading
import time

from served import Person, percentile, served, signed_in

HALF_SENT = (
    b"POST /api/v1/session HTTP/1.1\r\nHost: here\r\nContent-Type: application/json\r\n"
    b"Content-Length: 500\r\n\r\n{"
)
HALF_A_HEADER = b"GET /api/v1/session HTTP/1.1\r\nHost: here\r\nX-Slow: "
DELAYED_AT_MOST = 8.0
"""How many times the usual time an answer may take beside slow clients."""


def _times(person: Person, count: int) -> list[float]:
    taken = []
    for _ in range(count):
        began = time.monotonic()
        person.ask("GET", "/plans").raise_for_status()
        taken.append(time.monotonic() - began)
    return taken


def slow_clients(count: int) -> str:
    """Half-sent requests, and answers that nobody reads, delay nobody."""
    with served("start") as gambrel:
        person = signed_in(gambrel)
        usual = percentile(_times(person, 40), 0.5)
        held = []
        for i in range(count):
            client = socket.create_connection(gambrel.host, 10)
            client.sendall(HALF_SENT if i % 2 else HALF_A_HEADER)
            held.append(client)
        for _ in range(count):
            # It asks for much, and reads nothing of the answer.
            client = socket.create_connection(gambrel.host, 10)
            client.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
            client.sendall(b"GET /api/v1/openapi.json HTTP/1.1\r\nHost: here\r\n\r\n")
            held.append(client)
        beside = percentile(_times(person, 40), 0.5)
        for client in held:
            client.close()
    if beside > DELAYED_AT_MOST * usual:
        raise AssertionError(f"an answer took {beside:.3f} s beside slow clients, {usual:.3f} else")
    return (
        f"Beside {count} half-sent requests and {count} clients that read nothing of their "
        f"answers, a request takes {beside / usual:.1f} times as long as without them "
        f"(median of 40: {beside * 1000:.0f} ms, {usual * 1000:.0f} ms)."
    )


PATHS = (
    "/plans/{plan}", "/plans/{plan}/weeks/2026-11-02", "/plans/{plan}/nights/2026-11-06",
    "/plans/{plan}/findings/2026-11-02", "/plans/{plan}/estate?limit=100",
    "/plans/{plan}/paths/2026-11-06", "/plans/{plan}/jobs", "/plans/{plan}/nights/2026-11-12",
)  # fmt: skip


def _reading(person: Person, plan: int, until: float, out: list[float]) -> None:
    turn = 0
    while time.monotonic() < until:
        path = PATHS[turn % len(PATHS)].format(plan=plan)
        turn += 1
        began = time.monotonic()
        answer = person.ask("GET", path)
        out.append(time.monotonic() - began)
        if answer.status_code >= 500:
            raise AssertionError(f"{path} answered {answer.status_code}")
        time.sleep(0.5)


def readers(count: int) -> str:
    """Many readers at once, each with half a second between two requests."""
    seconds = 2.0 * count
    with served() as gambrel:
        person = signed_in(gambrel)
        plan = person.plan()
        for path in PATHS:
            person.ask("GET", path.format(plan=plan))
        before = gambrel.memory_mib()
        taken: list[list[float]] = [[] for _ in range(count)]
        until = time.monotonic() + seconds
        threads = [
            threading.Thread(target=_reading, args=(person.another(), plan, until, out))
            for out in taken
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        after = gambrel.memory_mib()
    every = [value for out in taken for value in out]
    if any(len(out) < 2 for out in taken):
        raise AssertionError("a reader was not answered")
    return (
        f"{count} readers, each asking again half a second after an answer, for {seconds:.0f} s: "
        f"{len(every):,} answers, median {percentile(every, 0.5) * 1000:.0f} ms, 95th percentile "
        f"{percentile(every, 0.95) * 1000:.0f} ms. The application's memory went from "
        f"{before:.0f} to {after:.0f} MiB."
    )
