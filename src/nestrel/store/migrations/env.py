"""Alembic's entry: runs the migrations on the connection that `nestrel.store.schema` hands over."""

from alembic import context

attributes = context.config.attributes
context.configure(
    connection=attributes["connection"], version_table_schema=attributes["schema"], transaction_per_migration=True
)
with context.begin_transaction():
    context.run_migrations()
