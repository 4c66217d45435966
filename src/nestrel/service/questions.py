"""Questions with several pages: the cursor of the next page stands for the whole question, however long it is."""

from __future__ import annotations

from typing import Any

import orjson

from nestrel.core.callers import Caller
from nestrel.core.problems import invalid
from nestrel.service.listing import opened
from nestrel.service.state import Service
from nestrel.store import asked
from nestrel.store.native import Connection

_INLINE_BYTES = 200
_NAME_CHARS = 11


async def sealed(
    connection: Connection, service: Service, caller: Caller, of: str, question: list[Any], key: str
) -> str:
    """The cursor that continues a question of the list called `of` behind `key`: the question is in it, or in the
    store where it is long."""
    text = orjson.dumps([*question, key]).decode()
    if len(text.encode()) > _INLINE_BYTES or not text.isascii():
        name = await asked.keep(connection, caller.user_id, orjson.dumps(question).decode())
        text = f"#{name}{key}"
    return service.seal.listing(caller.user_id, of, text)


async def unsealed(
    connection: Connection, service: Service, caller: Caller, of: str, cursor: str
) -> tuple[list[Any], str]:
    """The question that a cursor stands for, and the key behind which it goes on.

    Raises:
        InvalidRequest: it is no cursor of this list and member, or its question has been forgotten.
    """
    text = opened(service.seal.open_listing, caller.user_id, of, cursor)
    if not text.startswith("#"):
        *question, key = orjson.loads(text)
        return question, key
    name, key = text[1 : 1 + _NAME_CHARS], text[1 + _NAME_CHARS :]
    kept = await asked.read(connection, caller.user_id, name)
    if kept is None:
        raise invalid(
            "/cursor", "has been forgotten, after two days or a hundred questions more; ask again without one"
        )
    return orjson.loads(kept), key
