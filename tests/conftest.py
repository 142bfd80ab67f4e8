"""A MariaDB server for the tests that need one, with a fresh database for each module."""

from __future__ import annotations

import itertools
import os
import secrets
import uuid
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import settings
from sqlalchemy import Engine, text

from gambrel.commands.database import Instance
from gambrel.store.database import connect, migrate, sessions

# The machines that run this are slow at times: no example is failed for its time.
settings.register_profile("gambrel", deadline=None, derandomize=True, max_examples=80)
settings.load_profile("gambrel")

_numbers = itertools.count(1)

LONGEST_FIRST = (
    "core/simulation", "core/balance", "truth", "commands", "browser/test_tasks.py", "browser",
)  # fmt: skip
"""Tests of few files that take long; all others come after them. Pages are waited for, so those of
the browser come once the static checks, which run beside the first tests, are over."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Begin with the files that take long, so that none is left to one process at the end."""
    here = Path(__file__).parent

    def place(item: pytest.Item) -> int:
        at = item.path.relative_to(here)
        found = (i for i, name in enumerate(LONGEST_FIRST) if at.is_relative_to(name))
        return next(found, len(LONGEST_FIRST))

    items.sort(key=place)


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption(
        "--plans", type=int, default=0, help="generated plans for each test of tests/truth"
    )
    parser.addoption("--first-plan", type=int, default=0, help="number of the first of them")


@pytest.fixture(scope="session")
def server_url(tmp_path_factory) -> Iterator[str]:
    """The URL of a MariaDB server whose user may make databases called gambrel_test_*."""
    given = os.environ.get("GAMBREL_TEST_DATABASE_URL")
    if given:
        yield given
        return
    instance = Instance(tmp_path_factory.mktemp("mariadb"))
    try:
        yield instance.start()
    finally:
        instance.stop()


@pytest.fixture(scope="session")
def new_database(server_url) -> Callable[[], str]:
    """Make an empty database; returns its URL."""

    def make() -> str:
        name = f"gambrel_test_{next(_numbers)}_{secrets.token_hex(3)}"
        engine = connect(server_url)
        with engine.begin() as connection:
            connection.execute(text(f"CREATE DATABASE `{name}` CHARACTER SET utf8mb4"))
        engine.dispose()
        return f"{server_url.rpartition('/')[0]}/{name}"

    return make


@pytest.fixture(scope="session")
def migrated(new_database) -> Iterator[Engine]:
    """A database with the newest schema and nothing in it, for others to be like."""
    made = connect(new_database())
    migrate(made)
    yield made
    made.dispose()


@pytest.fixture(scope="session")
def new_store(migrated, new_database) -> Callable[[], str]:
    """Make a database with the newest schema; returns its URL.

    It is made like the one that was migrated: going through all revisions again takes four times
    as long.
    """

    def make() -> str:
        url: str = new_database()
        engine = connect(url)
        _make_like(engine, migrated)
        engine.dispose()
        return url

    return make


def _make_like(engine: Engine, other: Engine) -> None:
    """Make the tables, triggers and first rows of another database; the identity is its own."""
    with other.connect() as there:
        tables = [name for (name,) in there.execute(text("SHOW TABLES"))]
        made = [there.execute(text(f"SHOW CREATE TABLE `{name}`")).one()[1] for name in tables]
        names = [row[0] for row in there.execute(text("SHOW TRIGGERS"))]
        made += [there.execute(text(f"SHOW CREATE TRIGGER `{name}`")).one()[2] for name in names]
        rows = {name: there.execute(text(f"SELECT * FROM `{name}`")).all() for name in tables}
    with engine.begin() as here:
        here.execute(text("SET foreign_key_checks = 0"))
        for statement in made:
            here.exec_driver_sql(statement.replace("%", "%%"))
        rows["identity"] = [(str(uuid.uuid4()),)]
        for name, found in rows.items():
            for row in found:
                places = ", ".join(["%s"] * len(row))
                here.exec_driver_sql(f"INSERT INTO `{name}` VALUES ({places})", tuple(row))
        here.execute(text("SET foreign_key_checks = 1"))


@pytest.fixture(scope="module")
def database_url(new_store) -> str:
    """The URL of a database with the newest schema, for one module of tests."""
    url: str = new_store()
    return url


@pytest.fixture(scope="module")
def engine(database_url) -> Iterator[Engine]:
    made = connect(database_url)
    yield made
    made.dispose()


@pytest.fixture(scope="module")
def maker(engine):
    return sessions(engine)
