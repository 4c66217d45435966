"""Posting in a transaction of the application's own, on the database that the service uses: the message is there if
the transaction commits, and not if it does not. It needs nothing of the service but its schema."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import orjson

_ARGUMENTS = ("conversation", "author", "key", "body", "format", "attributes", "mentions", "reply_to")
_TYPES = ("text", "text", "text", "text", "text", "json", "text[]", "bigint")


def post(
    connection_or_session: Any,
    conversation: str,
    author: str,
    key: str,
    body: str,
    *,
    format: str = "plain",
    attributes: dict[str, Any] | None = None,
    mentions: Sequence[str] = (),
    reply_to: int | None = None,
    schema: str = "nestrel",
) -> Any:
    """Leave a message in the transaction that is open on a connection or session: SQLAlchemy's `Connection` and
    `Session`, their asynchronous kinds, or asyncpg's `Connection`. Where that is asynchronous, so is this: await it.

    The service posts it once, moments after the commit, on behalf of `author`. `conversation` is an id or a name,
    which is looked up at once. A post over HTTP with the same `key` on behalf of the same author is its repeat. What
    is refused then (a conversation that is closed by then) stands in the table `refused_posts` of the schema.
    Returns the ticket: a conversation's messages that are there together are posted in the order of theirs.

    Raises:
        Whatever the driver has for SQLSTATE 22023: it can never be right, or no conversation has that name; the
        transaction is then to be rolled back.
        TypeError: what was given is no connection or session.
    """
    packed = None if attributes is None else orjson.dumps(attributes).decode()
    values = (conversation, author, key, body, format, packed, list(mentions), reply_to)
    if _has(connection_or_session, "fetchval") and _has(connection_or_session, "is_in_transaction"):  # no pool has that
        marks = ", ".join(f"${n}::{type_}" for n, type_ in enumerate(_TYPES, 1))
        return connection_or_session.fetchval(f"SELECT {_name(schema)}({marks})", *values)
    if _has(connection_or_session, "scalar") and _has(connection_or_session, "execute"):
        from sqlalchemy import text

        marks = ", ".join(f"CAST(:{name} AS {type_})" for name, type_ in zip(_ARGUMENTS, _TYPES, strict=True))
        statement = text(f"SELECT {_name(schema)}({marks})")
        return connection_or_session.scalar(statement, dict(zip(_ARGUMENTS, values, strict=True)))
    raise TypeError(
        "post needs a connection or session of SQLAlchemy's, or a connection of asyncpg's, with its transaction open; "
        f"this is {type(connection_or_session).__name__}"
    )


def _has(given: Any, method: str) -> bool:
    return callable(getattr(given, method, None))


def _name(schema: str) -> str:
    return f'"{schema.replace(chr(34), chr(34) * 2)}".post'
