"""Runs migrations on the connection that `gambrel.store.database` hands over."""

from alembic import context

from gambrel.store.models import Base

context.configure(
    connection=context.config.attributes["connection"],
    target_metadata=Base.metadata,
    compare_type=True,
)
with context.begin_transaction():
    context.run_migrations()
