"""A machine that is lost and a program that grew older: dumps beside writers, and upgrades."""

from __future__ import annotations

import os
import random
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

from served import Person, served, signed_in
from sqlalchemy import Engine, inspect, text
from writing import start_at

from gambrel.commands.database import Instance
from gambrel.commands.places import PROJECT
from gambrel.store.database import connect, migrate, newest_revision, revisions
from gambrel.store.dumps import load_dump

DUMPS_AT_ONCE_S = 0.5


def _gambrel(state: Path, *arguments: str) -> str:
    """Run a command of Gambrel with a state folder of its own; returns what it said."""
    done = subprocess.run(
        [sys.executable, "-m", "gambrel.cli", *arguments], cwd=PROJECT, text=True,
        capture_output=True, check=False,
        env={**os.environ, "GAMBREL_STATE": str(state), "PYTHONPATH": str(PROJECT / "src")},
    )  # fmt: skip
    if done.returncode != 0:
        raise AssertionError(f"{arguments} failed:\n{done.stdout}{done.stderr}")
    return done.stdout + done.stderr


def _write_on(person: Person, draft: int, job: str, over: threading.Event, kept: list[str]) -> None:
    """Save one move after the other and note the words of what was confirmed."""
    chance = random.Random(29)
    while not over.is_set():
        revision = person.ask("GET", f"/drafts/{draft}").json()["revision"]
        answer = person.ask(
            "POST", f"/drafts/{draft}/operations",
            {"operations": [start_at(job, chance.randrange(180))]}, revision,
        )  # fmt: skip
        if answer.status_code == 200:
            kept.append(answer.json()["changes"][-1]["words"])
        time.sleep(0.02)


def dumps(count: int) -> str:
    """Dump while somebody writes; each dump stands again on another machine, whole."""
    with tempfile.TemporaryDirectory() as folder:
        told: list[tuple[Path, int, int]] = []
        kept: list[str] = []
        with served("demo") as gambrel:
            person = signed_in(gambrel)
            plan = person.plan("tiny")
            draft = person.ask("POST", f"/plans/{plan}/drafts", {"name": "written"}).json()["id"]
            job = person.ask("GET", f"/plans/{plan}").json()["jobs"][0]["id"]
            over = threading.Event()
            writer = threading.Thread(
                target=_write_on, args=(person.another(), draft, job, over, kept)
            )
            writer.start()
            try:
                for turn in range(count):
                    path = Path(folder) / f"{turn}.gambrel-dump"
                    before = len(kept)
                    _gambrel(gambrel.state, "dump", str(path))
                    # One more may be in the draft whose answer has not arrived.
                    told.append((path, before, len(kept) + 1))
                    time.sleep(DUMPS_AT_ONCE_S)
            finally:
                over.set()
                writer.join()
        slowest = 0.0
        for path, least, most in told:
            began = time.monotonic()
            with tempfile.TemporaryDirectory() as state:
                _gambrel(Path(state), "undump", str(path))
                link = _gambrel(Path(state), "link").rpartition("#")[2].split()[0]
                with served("start", folder=state) as gambrel:
                    changes = Person(gambrel, link).ask("GET", f"/drafts/{draft}").json()["changes"]
            slowest = max(slowest, time.monotonic() - began)
            words = [change["words"] for change in changes]
            if not least <= len(words) <= most or words != kept[: len(words)]:
                raise AssertionError(
                    f"{path.name} holds {len(words)} changes; {least} were confirmed before it "
                    f"was begun, {most - 1} when it was written"
                )
    return (
        f"{count} dumps while somebody saved {len(kept):,} times; each was brought back on an "
        "empty machine and held what was confirmed before it was begun, in order and nothing "
        f"else. From nothing to signed in took {slowest:.0f} s at most."
    )


def _rows(engine: Engine) -> dict[str, int]:
    """How many rows each table has."""
    with engine.connect() as connection:
        return {
            name: int(connection.execute(text(f"SELECT COUNT(*) FROM `{name}`")).scalar_one())
            for name in inspect(connection).get_table_names()
        }


def upgrades(count: int) -> str:
    """Start on the tables of each earlier schema, filled from the demo; nothing is lost."""
    told = []
    with tempfile.TemporaryDirectory() as folder:
        full = Path(folder) / "full.gambrel-dump"
        with served("demo") as gambrel:
            person = signed_in(gambrel)
            plan = person.plan("tiny")
            person.ask("POST", f"/plans/{plan}/drafts", {"name": "open"}).raise_for_status()
            _gambrel(gambrel.state, "dump", str(full))
        older = [revision for revision in revisions() if revision != newest_revision()]
        for revision in older[-count:]:
            state = Path(folder) / revision
            (state / "database").mkdir(parents=True)
            instance = Instance(state / "database")
            try:
                engine = connect(instance.start())
                load_dump(engine, full)
                # What the older schema has no place for goes; all else must come along.
                migrate(engine, revision, back=True)
                before = _rows(engine)
                engine.dispose()
            finally:
                instance.stop()
            said = _gambrel(state, "link")
            with served("start", folder=str(state)) as gambrel:
                administrator = Person(gambrel, said.rpartition("#")[2].split()[0])
                listed = administrator.ask("GET", "/plans").json()
                for each in listed:
                    answer = administrator.ask("GET", f"/plans/{each['id']}")
                    if answer.status_code != 200:
                        raise AssertionError(f"from {revision}: {each['name']}: {answer.text}")
            if not list((state / "dumps").glob(f"*-before-upgrade-from-{revision}.gambrel-dump")):
                raise AssertionError(f"no dump was made before the upgrade from {revision}")
            instance = Instance(state / "database")
            try:
                engine = connect(instance.start())
                after = _rows(engine)
                engine.dispose()
            finally:
                instance.stop()
            lost = {t: (n, after.get(t, 0)) for t, n in before.items() if after.get(t, 0) < n}
            if lost:
                raise AssertionError(f"from {revision} fewer rows came along: {lost}")
            told.append(sum(before.values()))
    return (
        f"From {len(told)} earlier schemas, {older[-count:][0]} to {older[-1]}, each filled from "
        f"the demo as far as it has a place for it ({min(told):,} to {max(told):,} rows): a dump "
        "was made, every table kept its rows, every plan opened."
    )
