"""Writes the audit entry of an act in the transaction of the act."""

from __future__ import annotations

import os
import time
from collections.abc import Sequence
from typing import Any, NamedTuple
from uuid import UUID

import orjson

from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.ids import uuid7
from nestrel.store.native import Connection, array, execute, texts

_AUDIT_RECORD = """
INSERT INTO nestrel.audit (audit_id, actor, act, conversation_id, user_id, seq, before, after, request_id)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
"""
_REASON = "INSERT INTO nestrel.audit_reasons (audit_id, user_id, reason) VALUES ($1, $2, $3)"
_RECORD_MANY = """
INSERT INTO nestrel.audit (audit_id, actor, act, conversation_id, user_id, seq, request_id)
SELECT * FROM unnest($1::text::uuid[], $2::text::text[], $3::text::text[], $4::text::uuid[], $5::text::text[],
                     $6::text::bigint[], $7::text::text[])
"""
COUNT = """nestrel.audit_count_v1({0}::text::uuid[], {1}::text::text[], {2}::text::text[], {3}::text::uuid[],
    {4}::text::text[], {5}::text::bigint[], {6}::text::text[])"""
"""Count acts, of which the columns are the values from the first number on (`columns`)."""
_AUDIT_COUNT = f"SELECT {COUNT.format(*(f'${n}' for n in range(1, 8)))}"


class Done(NamedTuple):
    """An act that is one of many, as the write path records it."""

    actor: str
    act: Act
    conversation_id: UUID
    user_id: str
    seq: int | None
    request_id: str


_last = 0


def new_id() -> UUID:
    """An id that sorts by time, and within this process in the order of the calls: the 12 bits behind the millisecond
    are its fraction (RFC 9562, 6.2, method 3), and never go back."""
    global _last
    _last = max(_last + 1, time.time_ns() * 4096 // 1_000_000)
    return uuid7(_last >> 12, (_last & 0xFFF).to_bytes(2) + os.urandom(8))


async def record(
    connection: Connection,
    caller: Caller,
    act: Act,
    *,
    conversation_id: UUID | None = None,
    user_id: str | None = None,
    seq: int | None = None,
    before: Any = None,
    after: Any = None,
    reason: str | None = None,
) -> None:
    """Write down what a caller does, with the values of before and after as JSON."""
    id_ = new_id()
    await execute(
        connection, _AUDIT_RECORD, id_, caller.user_id, act.value, conversation_id, user_id, seq, _packed(before),
        _packed(after), caller.request_id,
    )  # fmt: skip
    if reason is not None:
        await execute(connection, _REASON, id_, user_id, reason)


async def record_many(connection: Connection, done: Sequence[Done]) -> None:
    """Write down what a batch does to messages."""
    await execute(connection, _RECORD_MANY, *columns(done))


async def count(connection: Connection, done: Sequence[Done]) -> None:
    """Count what a backend does for others: one row for each hour (UTC), backend, act, conversation and person, with
    the newest message's number and the newest request."""
    await execute(connection, _AUDIT_COUNT, *columns(done))


def columns(done: Sequence[Done]) -> tuple[object, ...]:
    """Acts as arrays for a statement: id, actor, act, conversation, user, `seq` and request."""
    return (
        array([new_id() for _ in done]),
        texts([one.actor for one in done]),
        texts([one.act.value for one in done]),
        array([one.conversation_id for one in done]),
        texts([one.user_id for one in done]),
        array([one.seq for one in done]),
        texts([one.request_id for one in done]),
    )


def _packed(value: Any) -> str | None:
    return None if value is None else orjson.dumps(value).decode()
