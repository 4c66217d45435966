"""Posts, conversations, members and people in a transaction of the application's own, on the database that the service
uses: they are there if the transaction commits, and not if it does not. It needs nothing of the service but its schema.

Each call takes SQLAlchemy's `Connection` and `Session`, their asynchronous kinds, or asyncpg's `Connection`, with its
transaction open. Where that is asynchronous, so is the call: await it. It returns a *ticket*; what was left is carried
out in the order of tickets, as a trusted backend would, moments after the commit. What turns out wrong only then stands
in `refused` of the schema for 7 days.

All of them raise:
    Whatever the driver has for SQLSTATE 22023: it can never be right, or no conversation has that name and no earlier
    ticket makes it; the transaction is then to be rolled back.
    TypeError: what was given is no connection or session.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import orjson


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
    """Leave a message, which is posted once on behalf of `author`. `conversation` is an id or a name, also one that an
    earlier ticket makes. A post over HTTP with the same `key` on behalf of the same author is its repeat. A refusal
    stands for 30 days in `refused_posts` of the schema, too.
    """
    return _call(
        connection_or_session, schema, "post", conversation=(conversation, "text"), author=(author, "text"),
        key=(key, "text"), body=(body, "text"), format=(format, "text"), attributes=(_packed(attributes), "json"),
        mentions=(list(mentions), "text[]"), reply_to=(reply_to, "bigint"),
    )  # fmt: skip


def make_conversation(
    connection_or_session: Any,
    name: str | None,
    *,
    title: str | None = None,
    kind: str = "group",
    visibility: str = "closed",
    members: Sequence[str] = (),
    owner: str | None = None,
    attributes: dict[str, Any] | None = None,
    schema: str = "nestrel",
) -> Any:
    """Make a conversation. One that has the name already is kept as it is, so that this can be done again. Without an
    `owner` it has none but the application. A direct one has no name and exactly two members.
    """
    return _call(
        connection_or_session, schema, "make_conversation", name=(name, "text"), title=(title, "text"),
        kind=(kind, "text"), visibility=(visibility, "text"), members=(list(members), "text[]"),
        owner=(owner, "text"), attributes=(_packed(attributes), "json"),
    )  # fmt: skip


def put_member(
    connection_or_session: Any, conversation: str, user_id: str, role: str = "writer", *, schema: str = "nestrel"
) -> Any:
    """Make somebody a member, or give a member another role."""
    return _call(
        connection_or_session, schema, "put_member", conversation=(conversation, "text"), user_id=(user_id, "text"),
        role=(role, "text"),
    )  # fmt: skip


def remove_member(connection_or_session: Any, conversation: str, user_id: str, *, schema: str = "nestrel") -> Any:
    """End somebody's membership."""
    return _call(
        connection_or_session, schema, "remove_member", conversation=(conversation, "text"), user_id=(user_id, "text")
    )


def put_person(
    connection_or_session: Any, user_id: str, display_name: str, picture: str | None = None, *, schema: str = "nestrel"
) -> Any:
    """Make somebody's profile, or set the name, and the picture if one is given, of the one that is there."""
    return _call(
        connection_or_session, schema, "put_person", user_id=(user_id, "text"), display_name=(display_name, "text"),
        picture=(picture, "text"),
    )  # fmt: skip


def _packed(attributes: dict[str, Any] | None) -> str | None:
    return None if attributes is None else orjson.dumps(attributes).decode()


def _call(connection_or_session: Any, schema: str, function: str, **arguments: tuple[Any, str]) -> Any:
    """Call a function of the schema; each argument comes with its type in SQL."""
    called = f'"{schema.replace(chr(34), chr(34) * 2)}".{function}'
    if _has(connection_or_session, "fetchval") and _has(connection_or_session, "is_in_transaction"):  # no pool has that
        marks = ", ".join(f"{name} => ${n}::{type_}" for n, (name, (_, type_)) in enumerate(arguments.items(), 1))
        return connection_or_session.fetchval(f"SELECT {called}({marks})", *(value for value, _ in arguments.values()))
    if _has(connection_or_session, "scalar") and _has(connection_or_session, "execute"):
        from sqlalchemy import text

        marks = ", ".join(f"{name} => CAST(:{name} AS {type_})" for name, (_, type_) in arguments.items())
        values = {name: value for name, (value, _) in arguments.items()}
        return connection_or_session.scalar(text(f"SELECT {called}({marks})"), values)
    raise TypeError(
        f"{function} needs a connection or session of SQLAlchemy's, or a connection of asyncpg's, with its transaction "
        f"open; this is {type(connection_or_session).__name__}"
    )


def _has(given: Any, method: str) -> bool:
    return callable(getattr(given, method, None))
