"""Gambrel's own data as a file and back: whole, of one instant, checked, from older schemas."""

from __future__ import annotations

import json
import threading
import zipfile

import pytest
from plans import small_plan
from sqlalchemy import inspect, text

from gambrel.core.plan.reading import read_plan
from gambrel.demo import larkmoor
from gambrel.store import dumps
from gambrel.store.database import connect, migrate, newest_revision, revision_of, sessions
from gambrel.store.dumps import DumpError, check_dump, is_empty, load_dump, write_dump
from gambrel.store.people import add_person
from gambrel.store.plans import plan_heads, store_plan, version_plan

KEYS = {"sealing-key": "s" * 40}


def everything(engine):
    """All rows of a database, by table."""
    with engine.connect() as connection:
        return {
            name: sorted(map(repr, connection.execute(text(f"SELECT * FROM `{name}`"))))
            for name in inspect(connection).get_table_names()
        }


@pytest.fixture(scope="module")
def filled(engine, maker):
    with maker.begin() as db:
        store_plan(db, "larkmoor", read_plan(larkmoor()), actor="test")
        add_person(db, "Gráinne \\ 'Ó' \u2028 \x00", "plan", actor="test")
    return engine


@pytest.fixture
def other(new_database):
    made = connect(new_database())
    yield made
    made.dispose()


def test_what_comes_back_is_what_was_there(filled, other, tmp_path):
    path = tmp_path / "all.gambrel-dump"
    written = write_dump(filled, path, KEYS)
    assert path.stat().st_mode & 0o077 == 0, "nobody else may read it"
    manifest, keys = check_dump(path)
    assert (manifest, keys) == (written, KEYS)
    load_dump(other, path)
    assert everything(other) == everything(filled)
    with sessions(other)() as db:
        head = plan_heads(db)[0]
        assert version_plan(db, head.adopted_version) == read_plan(larkmoor())
    # A second time over what is there, triggers and all.
    load_dump(other, path)
    assert everything(other) == everything(filled)
    with (
        pytest.raises(Exception, match="audit trail"),
        other.begin() as connection,
    ):
        connection.execute(text("UPDATE audit_entries SET actor = 'x'"))


@pytest.mark.long
def test_it_is_of_one_instant_while_others_write(filled, maker, other, tmp_path):
    """A plan and its audit entry are one transaction: never one without the other."""
    stop = threading.Event()

    def write():
        number = 0
        while not stop.wait(0.1):
            with maker.begin() as db:
                store_plan(db, f"written {number}", small_plan(), actor="writer")
            number += 1

    writers = threading.Thread(target=write)
    writers.start()
    try:
        for turn in range(2):
            path = tmp_path / f"{turn}.gambrel-dump"
            write_dump(filled, path, {})
            load_dump(other, path)
            with other.connect() as connection:
                plans = connection.execute(
                    text("SELECT COUNT(*) FROM plans WHERE name LIKE 'written %'")
                ).scalar()
                told = connection.execute(
                    text(
                        "SELECT COUNT(*) FROM audit_entries WHERE actor = 'writer' "
                        "AND action = 'store plan'"
                    )
                ).scalar()
            assert plans == told
    finally:
        stop.set()
        writers.join()


def changed(path, target, change):
    """A copy of a dump in which members were changed."""
    with zipfile.ZipFile(path) as old, zipfile.ZipFile(target, "w") as new:
        for name in old.namelist():
            content = change(name, old.read(name))
            if content is not None:
                new.writestr(name, content)
    return target


def in_manifest(edit):
    def change(name, content):
        if name != dumps.MANIFEST:
            return content
        told = json.loads(content)
        edit(told)
        return json.dumps(told)

    return change


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda n, c: None if n == "tables/plans.jsonl" else c, "cannot be read"),
        (lambda n, c: c[:-1] if n == "tables/plans.jsonl" else c, "table plans"),
        (lambda n, c: c + c if n == "tables/jobs.jsonl" else c, "table jobs"),
        (lambda n, c: b"{}" if n == dumps.KEYS else c, "keys"),
        (lambda n, c: None if n == dumps.MANIFEST else c, "cannot be read"),
        (in_manifest(lambda told: told.update(format="other/1")), "no gambrel-dump/1"),
        (in_manifest(lambda told: told.update(revision="9999")), "newer Gambrel"),
        (
            in_manifest(lambda told: told["tables"].update({"x`; DROP": told["tables"]["plans"]})),
            "no name of a table",
        ),
    ],
)
def test_what_is_not_whole_is_refused_and_nothing_is_replaced(
    filled, other, tmp_path, change, words
):
    path = tmp_path / "good"
    write_dump(filled, path, KEYS)
    bad = changed(path, tmp_path / "bad", change)
    migrate(other)
    before = everything(other)
    with pytest.raises(DumpError, match=words):
        load_dump(other, bad)
    assert everything(other) == before


@pytest.mark.parametrize("content", [b"", b"PK\x03\x04 cut short", b"not at all a dump"])
def test_any_other_file_is_refused(tmp_path, content):
    path = tmp_path / "file"
    path.write_bytes(content)
    with pytest.raises(DumpError, match="cannot be read"):
        check_dump(path)
    with pytest.raises(DumpError, match="cannot be read"):
        check_dump(tmp_path / "not there")


@pytest.mark.parametrize(
    "revision",
    [
        "0001",
        pytest.param("0007", marks=pytest.mark.long),
        "0011",
        pytest.param("0014", marks=pytest.mark.long),
    ],
)
def test_a_dump_of_an_older_schema_is_brought_up(new_database, other, tmp_path, revision):
    old = connect(new_database())
    migrate(old, revision)
    write_dump(old, tmp_path / "old", {})
    old.dispose()
    load_dump(other, tmp_path / "old")
    with other.connect() as connection:
        assert revision_of(connection) == newest_revision()
        assert is_empty(connection)


def test_a_write_that_fails_leaves_nothing(filled, tmp_path, monkeypatch, new_database):
    bare = connect(new_database())
    with pytest.raises(DumpError, match="no schema"):
        write_dump(bare, tmp_path / "bare", {})
    bare.dispose()
    assert list(tmp_path.iterdir()) == []
