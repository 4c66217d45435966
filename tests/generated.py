"""Requests and frames that nobody would write, from everybody: what comes back is never a failure of the service."""

from __future__ import annotations

import asyncio
import random
import string
from typing import Any
from urllib.parse import quote
from uuid import uuid4

import httpx
import orjson
from websockets.exceptions import ConnectionClosed

from nestrel.service import doors
from tests.support import Person, Served, unique

_FIELDS = (
    "body", "key", "messages", "members", "kind", "visibility", "name", "title", "role", "hidden", "until", "reason",
    "state", "post_interval", "default", "read_seq", "symbol", "seq", "cursor", "conversations", "keep_last",
    "keep_for", "then", "confirm", "uses", "expires_in", "mentions", "attachments", "on_behalf_of", "attributes",
    "format", "reply_to", "display_name", "picture", "user_id", "limit", "from", "to", "by", "of", "id", "q", "scope",
    "order",
)  # fmt: skip
_SAFE_TO_CALL = {"erasures", "suspension", "sign-out", "run", "export"}
"""What would change the people who ask, or takes long, is called by nobody here."""
_TYPES = (
    "follow",
    "follow_all",
    "unfollow",
    "ping",
    "post",
    "edit",
    "remove",
    "react",
    "unreact",
    "read",
    "signal",
    "looking",
    "none",
)
_TOGETHER = 16
_FRAMES_EACH = 90


class Cast:
    """Somebody of each role, and what they may name."""

    def __init__(self, served: Served) -> None:
        self.office = Person(served.url, unique("office"), scope="nestrel.service")
        self.people = [
            self.office,
            *(
                Person(served.url, unique(name))
                for name in ("owner", "moderator", "writer", "reader", "passer", "kept-out")
            ),
        ]
        self.places: list[str] = []

    async def gather(self) -> Cast:
        """Make a conversation of each kind with all of them in it."""
        _, owner, *others = self.people
        for kind, visibility in (("group", "open"), ("bulletin", "closed")):
            place = (await owner.make(kind=kind, visibility=visibility))["id"]
            for who, role in zip(others, ("moderator", "writer", "reader"), strict=False):
                await owner.http.put(f"/conversations/{place}/members/{who.user}", json={"role": role})
            await owner.http.put(f"/conversations/{place}/kept-out/{self.people[-1].user}", json={})
            await owner.fill(place, 5)
            self.places.append(place)
        return self

    def value(self, dice: random.Random, depth: int = 0) -> Any:
        """Something that stands where another thing should, or the right one by chance."""
        plain: list[Any] = [
            None, True, False, -1, 0, 1, 3, 2**53, 1.5, "", " ", "like", "⚓", "x" * dice.choice((1, 200, 9_000)),
            "P1D", "2026-11-27T00:00:00Z", "group", "closed", "owner", "\x00", "\u202e", "a\u0301" * 40,
            "' OR 1=1 --", "../..",
            dice.choice(self.people).user, dice.choice(self.places), str(uuid4()),
            "".join(dice.choices(string.printable, k=12)),
        ]  # fmt: skip
        if depth < 2 and dice.random() < 0.2:
            return dice.choice(
                [[self.value(dice, depth + 1) for _ in range(3)], {dice.choice(_FIELDS): self.value(dice, depth + 1)}]
            )
        return dice.choice(plain)


async def requests(cast: Cast, count: int, dice: random.Random) -> dict[int, int]:
    """So many requests to all routes, from everybody; how many had which status."""
    routes = [(path, method) for path, route in doors.routes() for method in sorted(route.methods or ())]
    routes = [one for one in routes if one[0].rpartition("/")[2] not in _SAFE_TO_CALL | {"stream"}]
    found: dict[int, int] = {}

    async def some(n: int) -> None:
        for _ in range(n):
            path, method = dice.choice(routes)
            who = dice.choice(cast.people)
            answer = await _ask(cast, dice, who.http, method, path)
            assert answer.status_code < 500, (method, answer.request.url, answer.text[:300])
            found[answer.status_code] = found.get(answer.status_code, 0) + 1

    await asyncio.gather(*(some(count // _TOGETHER) for _ in range(_TOGETHER)))
    return found


async def _ask(cast: Cast, dice: random.Random, http: httpx.AsyncClient, method: str, path: str) -> httpx.Response:
    filled = path.removeprefix("/v1")
    while "{" in filled:
        before, _, rest = filled.partition("{")
        name, _, after = rest.partition("}")
        right = {"conversation_id": dice.choice(cast.places), "user_id:path": dice.choice(cast.people).user, "seq": "3",
                 "symbol": "like", "segment": "1"}  # fmt: skip
        value = right.get(name, str(uuid4())) if dice.random() < 0.7 else str(cast.value(dice, 2))[:300]
        filled = before + quote(value.replace("\x00", ""), safe="") + after
    body = {dice.choice(_FIELDS): cast.value(dice) for _ in range(dice.randrange(4))}
    query = {dice.choice(_FIELDS): str(cast.value(dice, 2))[:400] for _ in range(dice.randrange(3))}
    content = orjson.dumps(body, option=orjson.OPT_NON_STR_KEYS) if method not in ("GET", "HEAD") else b""
    if content and dice.random() < 0.05:
        content = content[:-1]
    headers = {"Content-Type": "application/json"}
    return await http.request(method, filled, params=query, content=content, headers=headers)


async def frames(cast: Cast, count: int, dice: random.Random) -> int:
    """So many frames, from everybody; how many were answered. A hundred refusals in a minute end a connection, so
    that each has fewer."""

    async def some(who: Person, n: int) -> int:
        answered = 0
        while n > 0:
            async with who.socket() as wire:
                for number in range(min(n, _FRAMES_EACH)):
                    frame = {"type": dice.choice(_TYPES), "ref": number, "conversation_id": dice.choice(cast.places)}
                    for _ in range(dice.randrange(4)):
                        frame[dice.choice(_FIELDS)] = cast.value(dice)
                    await wire.raw.send(orjson.dumps(frame, option=orjson.OPT_NON_STR_KEYS).decode())
                await wire.send(type="unfollow", conversation_id=str(uuid4()), ref="the end")
                try:
                    while (said := await wire.get()).get("ref") != "the end":
                        status = said.get("problem", {}).get("status", 0)
                        assert status < 500, said
                        answered += "ref" in said
                except ConnectionClosed:
                    if wire.raw.close_code != 4429:  # refused too often
                        raise
            n -= _FRAMES_EACH
        return answered

    each = count // len(cast.people)
    return sum(await asyncio.gather(*(some(who, each) for who in cast.people)))
