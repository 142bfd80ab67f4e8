"""A MariaDB server for the tests that need one, with a fresh database for each module."""

from __future__ import annotations

import itertools
import os
import secrets
from collections.abc import Callable, Iterator

import pytest
from hypothesis import settings
from sqlalchemy import Engine, text

from gambrel.commands.database import Instance
from gambrel.store.database import connect, migrate, sessions

# The machines that run this are slow at times: no example is failed for its time.
settings.register_profile("gambrel", deadline=None, derandomize=True, max_examples=80)
settings.load_profile("gambrel")

_numbers = itertools.count(1)


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
