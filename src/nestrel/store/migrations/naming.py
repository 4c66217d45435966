"""Migrations name the schema `nestrel`; a database that is told another one gets that in its place."""

from __future__ import annotations

from alembic import op

from nestrel.store.native import in_schema


def schema() -> str:
    """The schema that is being brought to date."""
    config = op.get_context().config
    assert config is not None
    name: str = config.attributes["schema"]
    return name


def run(sql: str) -> None:
    """Carry out one statement there."""
    op.execute(in_schema(sql, schema()))
