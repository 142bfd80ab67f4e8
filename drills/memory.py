"""Memory after hours of use: changing previews, every view, a large estate."""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import requests
from served import Person, percentile, served, signed_in
from writing import start_at

from gambrel import demo
from gambrel.commands.places import PROJECT

MOST_DEMO_MIB = 700.0
MOST_LARGE_MIB = 3072.0
THIS_WEEK = 0.75
"""The part of the previews of a large estate that ask for the first week."""
FIRST = date(2026, 11, 2)


def _preview(
    person: Person,
    plan: int,
    jobs: list[str],
    chance: random.Random,
    weeks: int,
    first: date = FIRST,
) -> float:
    moves = [
        start_at(chance.choice(jobs), chance.randrange(180)) for _ in range(chance.randint(1, 3))
    ]
    night = first + timedelta(days=chance.randrange(7 * weeks))
    began = time.monotonic()
    answer = person.ask(
        "POST", f"/plans/{plan}/preview",
        {
            "operations": moves, "night": night.isoformat(), "draft": None, "load": None,
            "scope": chance.choice(("night", "week")),
        },
    )  # fmt: skip
    answer.raise_for_status()
    return time.monotonic() - began


def _jobs(person: Person, plan: int) -> list[str]:
    found = person.ask("GET", f"/plans/{plan}").json()["jobs"]
    return [job["id"] for job in found if job["schedules"]]


def _check(most: float, peak: float) -> None:
    if peak > most:
        raise AssertionError(f"the application had {peak:.0f} MiB, more than {most:.0f}")


def previews(count: int) -> str:
    """Previews of ever other moves, in any of the next 24 weeks."""
    chance = random.Random(1)
    with served("demo") as gambrel:
        person = signed_in(gambrel)
        plan = person.plan()
        jobs = _jobs(person, plan)
        peak, taken = gambrel.memory_mib(), []
        for _ in range(count):
            taken.append(_preview(person, plan, jobs, chance, 24))
            peak = max(peak, gambrel.memory_mib())
        after = gambrel.memory_mib()
    _check(MOST_DEMO_MIB, peak)
    return (
        f"{count:,} changing previews in 24 weeks: at most {peak:.0f} MiB, {after:.0f} MiB at the "
        f"end; median {percentile(taken, 0.5) * 1000:.0f} ms, 95th percentile "
        f"{percentile(taken, 0.95) * 1000:.0f} ms."
    )


def _look(person: Person, plan: int, chance: random.Random, jobs: list[str]) -> list[float]:
    """All that every view asks for, once, for some night."""
    day = (FIRST + timedelta(days=1 + chance.randrange(84))).isoformat()
    job = chance.choice(jobs)
    draft: dict[str, Any] = {"draft": None, "operations": []}
    asked: list[tuple[str, str, Any]] = [
        ("GET", f"/plans/{plan}", None),
        ("GET", f"/plans/{plan}/weeks/{day}", None),
        ("GET", f"/plans/{plan}/nights/{day}", None),
        ("GET", f"/plans/{plan}/findings/{day}", None),
        ("POST", f"/plans/{plan}/lanes", {**draft, "night": day, "span": "week", "by": "host"}),
        ("POST", f"/plans/{plan}/lanes", {**draft, "night": day, "span": "night", "by": "proxy"}),
        ("GET", f"/plans/{plan}/estate?limit=100&search={chance.choice('abcdefgh')}", None),
        ("GET", f"/plans/{plan}/estate/exposure/{day}", None),
        ("GET", f"/plans/{plan}/paths/{day}", None),
        ("GET", f"/plans/{plan}/paths/{day}/loads", None),
        ("GET", f"/plans/{plan}/paths/{day}/week?name=proxy:quay-p2", None),
        ("GET", f"/plans/{plan}/reach", None),
        ("GET", f"/plans/{plan}/windows/{day}", None),
        ("GET", f"/plans/{plan}/jobs", None),
        ("GET", f"/plans/{plan}/jobs/week/{day}", None),
        ("POST", f"/plans/{plan}/jobs/look", {**draft, "job": job, "night": day}),
        ("POST", f"/plans/{plan}/jobs/tradeoffs", {**draft, "job": job}),
        ("POST", f"/plans/{plan}/jobs/points", {**draft, "job": job, "day": day}),
        ("GET", f"/plans/{plan}/compare/{day}?one=adopted&other=adopted", None),
        ("GET", f"/plans/{plan}/validation/{day}", None),
        ("GET", f"/plans/{plan}/tonight", None),
        ("GET", f"/plans/{plan}/past-nights", None),
        ("GET", f"/plans/{plan}/standing", None),
        ("GET", f"/plans/{plan}/ledger?machine={chance.choice('abcdefgh')}", None),
        ("GET", f"/plans/{plan}/learned-changes", None),
        ("GET", f"/plans/{plan}/learned-rates", None),
        ("GET", f"/plans/{plan}/forecast-errors", None),
        ("GET", f"/plans/{plan}/inbox", None),
        ("GET", f"/plans/{plan}/promises/{day}", None),
        ("GET", f"/plans/{plan}/recoveries/subjects", None),
        (
            "POST", f"/plans/{plan}/recoveries/simulated",
            {"draft": None, "loss": {"at": f"{day}T09:00:00Z", "sites": ["quay"]}},
        ),
        ("POST", f"/plans/{plan}/runway", {"draft": None, "months": chance.choice((6, 12, 24))}),
        ("POST", f"/plans/{plan}/rehearsals", {"draft": None, "night": day}),
        (
            "POST", f"/plans/{plan}/what-if",
            {"draft": None, "day": day, "happens": [{"happens": "LoseProxy", "proxy": "quay-p2"}]},
        ),
    ]  # fmt: skip
    taken = []
    for method, path, body in asked:
        began = time.monotonic()
        answer = person.ask(method, path, body)
        taken.append(time.monotonic() - began)
        if answer.status_code >= 400:
            raise AssertionError(f"{method} {path}: {answer.status_code} {answer.text[:300]}")
    return taken


def views(minutes: int) -> str:
    """Every view again and again with previews between them, as long as a planner may sit there."""
    chance = random.Random(2)
    with served("demo") as gambrel:
        person = signed_in(gambrel)
        plan = person.plan()
        jobs = _jobs(person, plan)
        peak, taken, rounds = gambrel.memory_mib(), [], 0
        half = 0.0
        until = time.monotonic() + 60.0 * minutes
        while time.monotonic() < until:
            taken += _look(person, plan, chance, jobs)
            for _ in range(5):
                taken.append(_preview(person, plan, jobs, chance, 12))
            rounds += 1
            peak = max(peak, gambrel.memory_mib())
            if time.monotonic() < until - 30.0 * minutes:
                half = peak
        after = gambrel.memory_mib()
    _check(MOST_DEMO_MIB, peak)
    return (
        f"{minutes} min of every view without a pause ({rounds} rounds, {len(taken):,} requests): "
        f"at most {peak:.0f} MiB, {half:.0f} MiB in the first half, {after:.0f} MiB at the end."
    )


def large_previews(count: int) -> str:
    """Previews of an estate of 10,000 machines, two at a time."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "large.json"
        file.write_text(json.dumps(_with_a_point(demo.large())))
        subprocess.run(
            [sys.executable, "-m", "gambrel.cli", "load", str(file), "--name", "large"],
            check=True, cwd=PROJECT, stdout=subprocess.DEVNULL,
            env={**os.environ, "GAMBREL_STATE": folder, "PYTHONPATH": str(PROJECT / "src")},
        )  # fmt: skip
        return _large_previews(folder, count)


def _with_a_point(plan: dict[str, Any]) -> dict[str, Any]:
    """The plan with one restore point, after which its nights begin, whatever the date is."""
    job = plan["jobs"][0]
    at = f"{FIRST - timedelta(days=1)}T20:00:00Z"
    machine = next(m["id"] for m in plan["machines"])
    point = {
        "job": job["id"], "machine": machine, "repository": job["repository"], "kind": "full",
        "at": at, "exists_from": at, "stored_bytes": 1.0,
    }  # fmt: skip
    return {**plan, "state": {**plan.get("state", {}), "points": [point]}}


def _large_previews(folder: str, count: int) -> str:
    with served("start", folder=folder) as gambrel:
        person = signed_in(gambrel)
        plan = person.plan("large")
        jobs = _jobs(person, plan)
        first = date.fromisoformat(person.ask("GET", f"/plans/{plan}").json()["first_night"])
        people = person, person.another()
        for each in people:
            each.patience_s = 600.0

        def ask(number: int) -> tuple[list[float], float]:
            chance, peak = random.Random(4 + number), 0.0
            taken: list[float] = []
            for _ in range((count + number) // 2):
                # Mostly this week, as planners do; a week farther off is simulated from the first.
                weeks = 1 if chance.random() < THIS_WEEK else 4
                try:
                    taken.append(_preview(people[number], plan, jobs, chance, weeks, first))
                except requests.HTTPError as error:
                    # What takes too long on a busy machine is ended, and says so.
                    if "Retry-After" not in error.response.headers:
                        raise
                peak = max(peak, gambrel.memory_mib())
            return taken, peak

        with ThreadPoolExecutor() as both:
            found = list(both.map(ask, range(2)))
        after = gambrel.memory_mib()
    taken = [seconds for each, _ in found for seconds in each]
    peak = max(most for _, most in found)
    _check(MOST_LARGE_MIB, peak)
    return (
        f"{count} changing previews with 10,000 machines, two at a time: at most "
        f"{peak:.0f} MiB, {after:.0f} MiB at the end; median {percentile(taken, 0.5):.1f} s, 95th "
        f"percentile {percentile(taken, 0.95):.1f} s; {count - len(taken)} took too long and were "
        "ended."
    )
