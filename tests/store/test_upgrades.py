"""What an earlier Gambrel wrote still opens: a database is migrated, a plan file is read."""

import json
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from sqlalchemy import JSON, Date, DateTime, MetaData, Time, insert, text

from gambrel.core.edits.operations import apply_all, change_job
from gambrel.formats import plan_file
from gambrel.store.database import connect, migrate, sessions
from gambrel.store.plans import drafts, plan_heads, version_plan

EARLIER = Path(__file__).parent / "earlier"


def _column_value(column, value):
    if value is None:
        return None
    if isinstance(column.type, DateTime):
        return datetime.fromisoformat(value)
    if isinstance(column.type, Date):
        return datetime.fromisoformat(value).date()
    if isinstance(column.type, Time):
        hours, minutes, seconds = map(int, value.split(":"))
        return (datetime.min + timedelta(hours=hours, minutes=minutes, seconds=seconds)).time()
    # MariaDB keeps JSON as text: a reflected column takes the text as it was.
    return json.loads(value) if isinstance(column.type, JSON) else value


@pytest.fixture(params=sorted(EARLIER.glob("database-*.json")), ids=lambda path: path.stem)
def migrated(request, new_database):
    """A maker of sessions on a database that an earlier version wrote, migrated."""
    earlier = json.loads(request.param.read_text())
    engine = connect(new_database())
    migrate(engine, earlier["revision"])
    tables = MetaData()
    tables.reflect(engine)
    with engine.begin() as connection:
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
        for name, rows in earlier["rows"].items():
            columns = tables.tables[name].columns
            made = [{k: _column_value(columns[k], v) for k, v in row.items()} for row in rows]
            connection.execute(insert(tables.tables[name]), made)
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 1"))
    migrate(engine)
    yield sessions(engine)
    engine.dispose()


def test_a_database_of_an_earlier_version_opens_with_its_plan_and_its_draft(migrated):
    expected = plan_file.read((EARLIER / "plan-0008.json").read_text())
    with migrated() as session:
        (head,) = plan_heads(session)
        plan = version_plan(session, head.adopted_version)
        (draft,) = drafts(session, head.id)
    assert plan == expected
    assert draft.operations[:2] == (
        change_job("nightly", locked=False),
        change_job("nightly", window=None, at_window_end="finish"),
    )
    assert apply_all(plan, draft.operations).jobs[0].window is None


def test_a_plan_file_of_an_earlier_version_is_read_and_written_as_it_was():
    written = json.loads((EARLIER / "plan-0008.json").read_text())
    assert json.loads(plan_file.write(plan_file.read(json.dumps(written)))) == written
