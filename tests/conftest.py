"""A MariaDB server for the tests that need one, with a fresh database for each module."""

from __future__ import annotations

import itertools
import math
import os
import secrets
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

HERE = Path(__file__).parent
_numbers = itertools.count(1)


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption(
        "--plans", type=int, default=0, help="generated plans for each test of tests/truth"
    )
    parser.addoption("--first-plan", type=int, default=0, help="number of the first of them")


SLOW = ("browser", "commands", "drills")
"""Folders whose tests mostly wait for other processes."""


@pytest.hookimpl(trylast=True)
def pytest_collection_modifyitems(items):
    """Quick files between the slow ones: one worker waits while another computes.

    The last are quick, so that no worker has nothing to do while another begins a long file.
    """
    files: dict[Path, list[pytest.Item]] = {}
    for item in items:
        files.setdefault(item.path, []).append(item)
    slow = [f for f in files if f.relative_to(HERE).parts[0] in SLOW]
    quick = [f for f in files if f not in slow]
    every = math.ceil(len(quick) / max(1, len(slow)))
    order = []
    for i in range(max(len(slow), math.ceil(len(quick) / every) if every else 0)):
        order += [*slow[i : i + 1], *quick[i * every : (i + 1) * every]]
    items[:] = [item for file in order for item in files[file]]


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


@pytest.fixture(scope="module")
def database_url(new_database) -> str:
    """The URL of a database with the newest schema, for one module of tests."""
    url: str = new_database()
    engine = connect(url)
    migrate(engine)
    engine.dispose()
    return url


@pytest.fixture(scope="module")
def engine(database_url) -> Iterator[Engine]:
    made = connect(database_url)
    yield made
    made.dispose()


@pytest.fixture(scope="module")
def maker(engine):
    return sessions(engine)
