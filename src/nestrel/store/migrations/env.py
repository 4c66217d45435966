"""Alembic's entry: runs the migrations on the connection that `nestrel.store.schema` hands over."""

from alembic import context

context.configure(connection=context.config.attributes["connection"])
with context.begin_transaction():
    context.run_migrations()
