"""Several people who write at once: nothing is lost, nobody is told of an error of the server."""

from __future__ import annotations

import random
import threading
from dataclasses import dataclass, field
from typing import Any

from served import Person, served, signed_in


@dataclass
class Kept:
    """What the server answered, and how many changes the shared draft must hold by that."""

    answers: dict[int, int] = field(default_factory=dict)
    shared: int = 0

    def note(self, status: int) -> None:
        self.answers[status] = self.answers.get(status, 0) + 1


def start_at(job: str, minute: int) -> dict[str, Any]:
    """A move of a job's first schedule."""
    return {
        "operation": "MoveStart", "job": job, "schedule": 0,
        "start_time": f"{20 + minute // 60 % 3:02}:{minute % 60:02}", "day_shift": 0,
    }  # fmt: skip


def _write(person: Person, plan: int, shared: int, turns: int, seed: int, kept: Kept) -> None:
    chance = random.Random(seed)
    jobs = [job["id"] for job in person.ask("GET", f"/plans/{plan}").json()["jobs"]]
    own = person.ask("POST", f"/plans/{plan}/drafts", {"name": f"writer {seed}"}).json()
    for turn in range(turns):
        job = chance.choice(jobs)
        for draft in (own["id"], shared):
            now = person.ask("GET", f"/drafts/{draft}").json()
            answer = person.ask(
                "POST", f"/drafts/{draft}/operations",
                {"operations": [start_at(job, chance.randrange(180))]}, now["revision"],
            )  # fmt: skip
            kept.note(answer.status_code)
            if answer.status_code == 200 and draft == shared:
                kept.shared += 1
            if chance.random() < 0.3:
                now = person.ask("GET", f"/drafts/{draft}").json()
                answer = person.ask("POST", f"/drafts/{draft}/undo", revision=now["revision"])
                kept.note(answer.status_code)
                undone = answer.status_code == 200 and answer.json()["revision"] > now["revision"]
                if undone and draft == shared:
                    kept.shared -= 1
        machines = person.ask("GET", f"/plans/{plan}/estate?limit=20").json()["rows"]
        facts = {
            "machines": [chance.choice(machines)["name"]],
            "state": {"daily_change": round(chance.uniform(0.01, 0.2), 3)},
        }
        kept.note(person.ask("POST", f"/plans/{plan}/estate/facts", facts).status_code)
        if turn % 5 == 4:
            now = person.ask("GET", f"/drafts/{own['id']}").json()
            answer = person.ask(
                "POST", f"/drafts/{own['id']}/adopt", {"note": "", "despite": True},
                now["revision"],
            )  # fmt: skip
            kept.note(answer.status_code)
            if answer.status_code == 200:
                own = person.ask("POST", f"/plans/{plan}/drafts", {"name": f"w {seed}"}).json()


def writers(turns: int) -> str:
    """Two, then eight writers, in drafts of their own and in one that they share."""
    told = []
    with served("demo") as gambrel:
        person = signed_in(gambrel)
        plan = person.plan("tiny")
        for count in (2, 8):
            shared = person.ask("POST", f"/plans/{plan}/drafts", {"name": "shared"}).json()["id"]
            kept = [Kept() for _ in range(count)]
            threads = [
                threading.Thread(
                    target=_write, args=(person.another(), plan, shared, turns, 100 * count + i, k)
                )
                for i, k in enumerate(kept)
            ]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            answers: dict[int, int] = {}
            for each in kept:
                for status, number in each.answers.items():
                    answers[status] = answers.get(status, 0) + number
            wrong = {status: n for status, n in answers.items() if status >= 500}
            if wrong:
                raise AssertionError(f"{count} writers: {wrong}")
            held = len(person.ask("GET", f"/drafts/{shared}").json()["changes"])
            confirmed = sum(each.shared for each in kept)
            if held != confirmed:
                raise AssertionError(f"{held} changes are in the draft, {confirmed} were confirmed")
            words = ", ".join(f"{n} of {status}" for status, n in sorted(answers.items()))
            told.append(
                f"{count} writers: {words}; the shared draft holds all {held} changes that were "
                "confirmed and not undone."
            )
    return " ".join(told)
