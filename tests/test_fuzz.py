"""Frames and cursors that no client of ours would send: refused, never a failure, and never anyone else's data."""

from __future__ import annotations

import random
import string
from collections.abc import Callable
from typing import Any

import orjson
import pytest

from tests import generated
from tests.support import Person, Served

Make = Callable[..., Person]

_KINDS = (
    "follow", "follow_all", "unfollow", "post", "edit", "remove", "react", "unreact", "read", "sign_in", "changes",
)  # fmt: skip


def _value(dice: random.Random, place: str, cursors: list[str]) -> Any:
    """Something that stands where a field should, right or wrong."""
    return dice.choice([
        place, dice.choice(cursors), _bent(dice, dice.choice(cursors)), None, True, -1, 0, 1, 2**53, 2**80, 1.5, "",
        "like", "\x00", "x" * 9_000, [], {}, [place], {"a": {"b": []}}, "".join(dice.choices(string.printable, k=20)),
    ])  # fmt: skip


def _bent(dice: random.Random, cursor: str) -> str:
    """A cursor with one character changed, left out, or doubled."""
    at = dice.randrange(len(cursor))
    other = dice.choice([char for char in string.ascii_letters + string.digits + "-_" if char != cursor[at]])
    return cursor[:at] + dice.choice([other, "", cursor[at] * 2]) + cursor[at + 1 :]


async def test_whatever_a_frame_holds_it_is_answered_and_brings_nothing_of_others(person: Make) -> None:
    dice = random.Random(20_261_125)
    mara, odd = person(), person("odd")
    theirs = (await mara.make())["id"]
    await mara.post(theirs, "not for odd")
    own = (await odd.make())["id"]
    await odd.post(own, "odd's own")
    cursors = [
        (await who.http.get(f"/conversations/{place}/changes")).json()["cursor"]
        for who, place in ((mara, theirs), (odd, own))
    ]
    cursors += [(await who.http.get("/conversations")).json()["cursor"] for who in (mara, odd)]
    fields = ("conversation_id", "cursor", "seq", "rev", "body", "key", "symbol", "read_seq", "token", "format", "ref")
    for _ in range(12):
        async with odd.socket() as wire:
            for _ in range(60):  # a hundred refusals in a minute would end the connection
                frame: dict[str, Any] = {"type": dice.choice([*_KINDS, _value(dice, theirs, cursors)])}
                for name in dice.sample(fields, dice.randrange(5)):
                    frame[name] = _value(dice, dice.choice([theirs, own]), cursors)
                if frame["type"] == "sign_in":
                    continue  # a token that is not accepted ends the connection, as it should
                await wire.raw.send(
                    orjson.dumps(frame, option=orjson.OPT_NON_STR_KEYS).decode() if _fits(frame) else "{"
                )
            await wire.send(type="unfollow", conversation_id=theirs, ref="the end")
            while (frame := await wire.get()).get("ref") != "the end":
                assert frame["type"] in ("done", "refused", "changes", "unfollowed", "checkpoint"), frame
                assert frame.get("problem", {}).get("status", 0) < 500, frame
                assert "not for odd" not in orjson.dumps(frame).decode()
            assert frame["type"] == "done"


def _fits(frame: dict[str, Any]) -> bool:
    try:
        orjson.dumps(frame)
    except (TypeError, orjson.JSONEncodeError):  # a number beyond 64 bits
        return False
    return True


async def test_a_cursor_that_is_not_of_this_place_and_member_opens_no_door(person: Make) -> None:
    dice = random.Random(20_261_125)
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    other = (await mara.make(members=[odd.user]))["id"]
    await mara.fill(place, 5)

    async def own(who: Person, where: str) -> dict[str, str]:
        page = await who.page(where, limit=2)
        listed = (await who.http.get("/conversations", params={"limit": 1})).json()
        changes = (await who.http.get(f"/conversations/{where}/changes")).json()
        return {
            "change": changes["cursor"],
            "page": page["older"] or "",
            "all": listed["cursor"],
            "list": listed["next"],
        }

    await mara.fill(other, 5)
    good = await own(mara, place)
    foreign, elsewhere = await own(odd, place), await own(mara, other)
    doors: dict[str, Callable[[str], tuple[str, str, dict[str, Any]]]] = {
        "change": lambda cursor: ("GET", f"/conversations/{place}/changes", {"params": {"cursor": cursor}}),
        "change in a header": lambda cursor: (
            "GET", f"/conversations/{place}/stream", {"headers": {"Last-Event-ID": cursor}}
        ),
        "change in a map": lambda cursor: ("POST", "/resync", {"json": {"conversations": {place: cursor}}}),
        "page": lambda cursor: ("GET", f"/conversations/{place}/messages", {"params": {"cursor": cursor}}),
        "all": lambda cursor: ("POST", "/resync", {"json": {"cursor": cursor}}),
        "all in a header": lambda cursor: ("GET", "/stream", {"headers": {"Last-Event-ID": cursor}}),
        "list": lambda cursor: ("GET", "/conversations", {"params": {"cursor": cursor}}),
    }  # fmt: skip
    for door, request in doors.items():
        kind = door.split()[0]
        wrong = [*foreign.values(), elsewhere["change"], elsewhere["page"]]
        wrong += [cursor for name, cursor in good.items() if name != kind]
        wrong += [_bent(dice, good[kind]) for _ in range(12)]
        for cursor in wrong:
            method, path, options = request(cursor)
            answer = await mara.http.request(method, path, **options)
            assert answer.status_code == 422, (door, cursor, answer.text[:200])
            assert "m1" not in answer.text


@pytest.mark.whole
async def test_whatever_anybody_asks_is_answered_and_is_no_fault_of_the_service(own: Served) -> None:
    """Every route and every frame, from every role; `script/hostile` does it 50,000 times each."""
    dice = random.Random(20_261_127)
    cast = await generated.Cast(own).gather()
    found = await generated.requests(cast, 1_600, dice)
    assert {200, 403, 404, 422} <= found.keys()
    assert await generated.frames(cast, 1_200, dice) > 800
    bugs = [line[:2000] for line in own.log().splitlines() if '"level":"error"' in line]
    assert bugs == []
