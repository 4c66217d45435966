"""Every table of the store, by subject. The migrations make just these: `tests/test_tables.py` compares."""

from nestrel.store.tables import consuming, conversations, files, messages, people, retention, running
from nestrel.store.tables.base import metadata

__all__ = ["consuming", "conversations", "files", "messages", "metadata", "people", "retention", "running"]
