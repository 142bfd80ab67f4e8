"""Databases of tests are like those that are migrated."""

from sqlalchemy import text

from gambrel.store.database import connect


def shape(engine):
    with engine.connect() as db:
        here = db.execute(text("SELECT DATABASE()")).scalar()
        return {
            what: sorted(
                map(
                    str,
                    db.execute(
                        text(
                            f"SELECT {columns} FROM information_schema.{what} WHERE {of} = '{here}'"
                        )
                    ),
                )
            )
            for what, columns, of in (
                ("columns", "table_name, column_name, column_type, is_nullable", "table_schema"),
                ("statistics", "table_name, index_name, column_name, non_unique", "table_schema"),
                (
                    "referential_constraints",
                    "table_name, constraint_name, referenced_table_name, delete_rule",
                    "constraint_schema",
                ),
                ("triggers", "trigger_name, action_statement", "trigger_schema"),
            )
        }


def test_a_database_made_like_the_migrated_one_has_its_shape_and_its_own_identity(
    migrated, new_store
):
    made = connect(new_store())
    assert shape(made) == shape(migrated)
    assert shape(made)["triggers"]
    with made.connect() as one, migrated.connect() as other:
        asked = text("SELECT id FROM identity")
        assert one.execute(asked).scalar() != other.execute(asked).scalar()
        revision = text("SELECT version_num FROM alembic_version")
        assert one.execute(revision).scalar() == other.execute(revision).scalar()
    made.dispose()
