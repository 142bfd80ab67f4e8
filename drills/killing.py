"""kill -9 of the application and of the database, at any moment, while somebody writes."""

from __future__ import annotations

import random
import threading
import time

import psutil
import requests
from served import Person, served, signed_in
from writing import start_at

BACK_WITHIN_S = 120.0


def _write_on(
    person: Person, draft: int, job: str, ended: threading.Event, saved: list[tuple[int, str]]
) -> None:
    """Save one move after the other and note what was confirmed: its place and its words."""
    chance = random.Random(7)
    while not ended.is_set():
        try:
            now = person.ask("GET", f"/drafts/{draft}")
            if now.status_code != 200:
                time.sleep(0.1)
                continue
            revision = now.json()["revision"]
            answer = person.ask(
                "POST", f"/drafts/{draft}/operations",
                {"operations": [start_at(job, chance.randrange(180))]}, revision,
            )  # fmt: skip
            if answer.status_code == 200:
                made = answer.json()
                saved.append((len(made["changes"]), made["changes"][-1]["words"]))
        except requests.RequestException:
            time.sleep(0.1)


def kills(rounds: int) -> str:
    """Kill one of the processes again and again; all comes back, nothing confirmed is lost."""
    chance = random.Random(3)
    slowest = 0.0
    with served("demo") as gambrel:
        person = signed_in(gambrel)
        plan = person.plan("tiny")
        draft = person.ask("POST", f"/plans/{plan}/drafts", {"name": "killed"}).json()["id"]
        job = person.ask("GET", f"/plans/{plan}").json()["jobs"][0]["id"]
        saved: list[tuple[int, str]] = []
        ended = threading.Event()
        writer = threading.Thread(
            target=_write_on, args=(person.another(), draft, job, ended, saved)
        )
        writer.start()
        killed = {"application": 0, "database": 0}
        for _ in range(rounds):
            time.sleep(chance.uniform(0.3, 2.0))
            target = chance.choice(("application", "database", "both"))
            for name in killed:
                if target not in (name, "both"):
                    continue
                process = gambrel.application() if name == "application" else gambrel.database()
                try:
                    process.kill()
                    killed[name] += 1
                except psutil.NoSuchProcess:
                    continue
            began = time.monotonic()
            while True:
                if time.monotonic() - began > BACK_WITHIN_S:
                    raise AssertionError("it did not come back: " + "".join(gambrel.said[-20:]))
                try:
                    if person.ask("GET", f"/drafts/{draft}").status_code == 200:
                        break
                except requests.RequestException:
                    pass
                time.sleep(0.1)
            slowest = max(slowest, time.monotonic() - began)
        ended.set()
        writer.join()
        changes = person.ask("GET", f"/drafts/{draft}").json()["changes"]
        lost = [words for at, words in saved if changes[at - 1]["words"] != words]
        if not saved:
            raise AssertionError("nothing was saved between the kills")
        if lost:
            raise AssertionError(f"{len(lost)} confirmed changes are lost, such as {lost[0]}")
        twice = len(changes) - len(saved)
    return (
        f"{rounds} rounds of kill -9 ({killed['application']} of the application, "
        f"{killed['database']} of the database): {len(saved):,} saves were confirmed, 0 lost; "
        f"{twice} saved without their answer having arrived. 0 rounds needed a hand; the longest "
        f"took {slowest:.1f} s until it answered again."
    )
