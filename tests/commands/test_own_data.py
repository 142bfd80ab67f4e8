"""`gambrel dump` and `undump`, and what is done before an upgrade, as somebody types it."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest
from plans import small_plan
from sqlalchemy import text

from gambrel.store.database import connect, migrate, newest_revision, revision_of, sessions
from gambrel.store.dumps import check_dump
from gambrel.store.plans import plan_heads, store_plan

SRC = Path(__file__).parents[2] / "src"


def gambrel(*arguments, url, state):
    environment = {
        **os.environ, "PYTHONPATH": str(SRC), "GAMBREL_DATABASE_URL": url,
        "GAMBREL_STATE": str(state),
    }  # fmt: skip
    state.mkdir(exist_ok=True)
    return subprocess.run(
        [sys.executable, "-m", "gambrel.cli", *map(str, arguments)],
        capture_output=True, text=True, env=environment, timeout=120, check=False,
    )  # fmt: skip


@pytest.fixture
def stored(new_store):
    """The URL of a database with one plan, "mine"."""
    url = new_store()
    engine = connect(url)
    with sessions(engine).begin() as db:
        store_plan(db, "mine", small_plan(), actor="test")
    engine.dispose()
    return url


def plans_of(url):
    with sessions(connect(url))() as db:
        return [head.name for head in plan_heads(db)]


def test_a_machine_is_lost_and_another_stands(stored, new_database, tmp_path):
    first, second = tmp_path / "first", tmp_path / "second"
    file = tmp_path / "all.gambrel-dump"
    done = gambrel("dump", file, url=stored, state=first)
    assert done.returncode == 0, done.stderr
    fresh = new_database()
    back = gambrel("undump", file, url=fresh, state=second)
    assert back.returncode == 0, back.stderr
    assert "It is back" in back.stdout
    assert plans_of(fresh) == ["mine"]
    # The keys came along, so that sealed secrets can be opened there.
    key = "sealing-key"
    assert (second / key).read_text() == (first / key).read_text()
    assert (second / key).stat().st_mode & 0o077 == 0


@pytest.mark.long
def test_plans_that_are_there_are_replaced_only_when_it_is_said(stored, new_database, tmp_path):
    file, state = tmp_path / "all.gambrel-dump", tmp_path / "state"
    assert gambrel("dump", file, url=stored, state=state).returncode == 0
    with sessions(connect(stored)).begin() as db:
        store_plan(db, "newer", small_plan(), actor="test")
    refused = gambrel("undump", file, url=stored, state=state)
    assert refused.returncode == 1
    assert "Add --replace" in refused.stderr
    assert plans_of(stored) == ["mine", "newer"]
    done = gambrel("undump", file, "--replace", url=stored, state=state)
    assert done.returncode == 0, done.stderr
    assert plans_of(stored) == ["mine"]
    (kept,) = (state / "dumps").glob("*-before-undump.gambrel-dump")
    assert gambrel("undump", kept, "--replace", url=stored, state=state).returncode == 0
    assert plans_of(stored) == ["mine", "newer"]


def test_a_file_that_is_no_dump_changes_nothing(stored, tmp_path):
    wrong = tmp_path / "wrong"
    wrong.write_text("not a dump")
    done = gambrel("undump", wrong, "--replace", url=stored, state=tmp_path / "state")
    assert done.returncode == 1
    assert "cannot be brought back" in done.stderr
    assert "Traceback" not in done.stderr
    assert plans_of(stored) == ["mine"]


def test_an_upgrade_makes_a_dump_before(new_database, tmp_path):
    url, state = new_database(), tmp_path / "state"
    engine = connect(url)
    migrate(engine, "0014")
    with engine.begin() as connection:
        for statement in (
            "INSERT INTO plans (name, created_at) VALUES ('old', UTC_TIMESTAMP())",
            "INSERT INTO sign_ins (key_hash, name, began_at, expires_at) "
            "VALUES ('x', 'Una', UTC_TIMESTAMP(), '2099-01-01')",
        ):
            connection.execute(text(statement))
    done = gambrel("link", url=url, state=state)
    assert done.returncode == 0, done.stderr
    (kept,) = (state / "dumps").glob("*-before-upgrade-from-0014.gambrel-dump")
    assert check_dump(kept)[0].revision == "0014"
    with engine.connect() as connection:
        assert revision_of(connection) == newest_revision()
        role = connection.execute(text("SELECT role FROM people WHERE name = 'Una'")).scalar()
    assert role == "administer", "who was signed in had every right"


def test_an_older_program_leaves_newer_tables_alone(stored, tmp_path):
    engine = connect(stored)
    with engine.begin() as connection:
        connection.execute(text("UPDATE alembic_version SET version_num = '9999'"))
    done = gambrel("link", url=stored, state=tmp_path / "state")
    assert done.returncode == 1
    assert "written by a newer Gambrel" in done.stderr
    assert "Traceback" not in done.stderr
    with engine.connect() as connection:
        assert revision_of(connection) == "9999"
