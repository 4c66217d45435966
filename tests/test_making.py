"""Making something once: idempotency keys beside those of posts; and what a backend makes for others."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any
from uuid import uuid4

import asyncpg
import pytest

from nestrel.client import AsyncClient
from nestrel.service import doors
from nestrel.service.intake import Counted, intake_of
from nestrel.store import addresses
from tests.support import Person, Served, token, unique

Make = Callable[..., Person]


@pytest.fixture
def backend(person: Make) -> Person:
    return person("office", scope="nestrel.service")


async def make(who: Person, key: str, **fields: Any) -> tuple[int, dict[str, Any]]:
    answer = await who.http.post("/conversations", json=fields, headers={"Idempotency-Key": key})
    return answer.status_code, answer.json()


async def test_a_conversation_is_made_once_by_its_key(person: Make, backend: Person) -> None:
    mara, odd = person(), person("odd")
    fields = {"name": unique("order"), "title": "Order 12", "members": [odd.user]}
    answers = await asyncio.gather(*(make(mara, "order 12", **fields) for _ in range(6)))
    assert sorted(status for status, _ in answers) == [200] * 5 + [201]
    [place] = {made["id"] for _, made in answers}
    status, other = await make(mara, "order 12", **{**fields, "title": "Order 13"})
    assert (status, other["type"]) == (409, "/problems/key-reused")
    # A key is its caller's own, and one that was refused made nothing.
    status, refused = await make(odd, "order 12", **fields)
    assert (status, refused["type"]) == (409, "/problems/name-taken")
    status, theirs = await make(odd, "order 12", title="Order 12")
    assert status == 201
    assert theirs["id"] != place
    # What came of it since is what a repeat shows.
    await mara.http.patch(f"/conversations/{place}", json={"title": "Shipped"})
    status, again = await make(mara, "order 12", **fields)
    assert (status, again["id"], again["title"]) == (200, place, "Shipped")
    await mara.http.delete(f"/conversations/{place}")
    status, gone = await make(mara, "order 12", **fields)
    assert (status, gone["type"]) == (404, "/problems/not-found")
    pair = {"kind": "direct", "members": [odd.user]}
    [first, second] = [await make(mara, "two", **pair) for _ in range(2)]
    assert (first[0], second[0], first[1]["id"]) == (201, 200, second[1]["id"])
    status, _ = await make(mara, "two", kind="direct", members=[backend.user])
    assert status == 409


async def test_a_key_is_free_again_after_a_day(make_database: Callable[[], str]) -> None:
    url = make_database()
    with Served(url) as served:
        mara = Person(served.wait_ready().url, "mara")
        _, first = await make(mara, "k")
        connection = await asyncpg.connect(addresses.driver(url))
        for hours, status in ((23, 200), (2, 201)):
            await connection.execute("UPDATE nestrel.made_keys SET made_at = made_at - $1 * interval '1 hour'", hours)
            found, second = await make(mara, "k")
            assert (hours, found, second["id"] == first["id"]) == (hours, status, status == 200)
        await connection.close()


async def test_no_other_request_takes_a_key_and_ignores_it(person: Make) -> None:
    """Whatever makes something either honours the key, or says that it does not."""
    mara = person()
    place = (await mara.make())["id"]
    honoured = {path for path, route in doors.routes() if intake_of(route.endpoint).keyed}
    assert honoured == {"/v1/conversations", "/v1/conversations/{conversation_id}/messages"}
    office = person("office", scope="nestrel.service")
    values = {"conversation_id": place, "seq": "1", "user_id": mara.user, "attachment_id": str(uuid4()),
              "webhook_id": str(uuid4()), "token": "none", "user_id:path": mara.user}  # fmt: skip
    tried = 0
    for path, route in doors.routes():
        if "POST" in (route.methods or ()) and path not in honoured:
            if intake_of(route.endpoint).counted is Counted.READ:
                continue
            where = path.removeprefix("/v1")
            for name, value in values.items():
                where = where.replace("{" + name + "}", value)
            assert "{" not in where, where
            answer = await office.http.post(where, json={}, headers={"Idempotency-Key": "k"})
            assert answer.status_code == 422, (path, answer.text)
            assert "/Idempotency-Key" in [one["pointer"] for one in answer.json()["errors"]], (path, answer.text)
            tried += 1
    assert tried >= 10


async def test_a_backend_makes_a_direct_conversation_of_two_others(person: Make, backend: Person) -> None:
    mara, odd, ines = person(), person("odd"), person("ines")
    fields = {"kind": "direct", "members": [mara.user, odd.user]}
    made = await backend.http.post("/conversations", json=fields)
    assert made.status_code == 201, made.text
    place = made.json()["id"]
    assert (made.json()["members"], made.json()["my_role"]) == (2, None)
    for one, partner in ((mara, odd), (odd, mara)):
        shown = (await one.http.get("/conversations")).json()["items"]
        assert [(item["id"], item["partner"]) for item in shown] == [(place, partner.user)]
        assert (await one.post(place)).status_code == 201
    again = await backend.http.post("/conversations", json={**fields, "members": [odd.user, mara.user]})
    assert (again.status_code, again.json()["id"]) == (200, place)
    theirs = await mara.http.post("/conversations", json={"kind": "direct", "members": [odd.user]})
    assert (theirs.status_code, theirs.json()["id"]) == (200, place)
    for who, members, status in (
        (ines, [mara.user, odd.user], 422), (mara, [mara.user, ines.user], 422), (backend, [mara.user] * 2, 201),
        (backend, [mara.user, odd.user, ines.user], 422), (backend, [], 422), (backend, [backend.user], 422),
        (backend, [backend.user, ines.user], 201),
    ):  # fmt: skip
        answer = await who.http.post("/conversations", json={"kind": "direct", "members": members})
        assert (members, answer.status_code) == (members, status), answer.text
    await ines.http.put(f"/me/blocked/{odd.user}")
    blocked = await backend.http.post("/conversations", json={"kind": "direct", "members": [odd.user, ines.user]})
    assert blocked.status_code == 403


async def test_the_client_makes_a_conversation_once(service: Served) -> None:
    async with AsyncClient(service.url, lambda: token("office", scope="nestrel.service")) as client:
        key = unique("key")
        first = await client.make_conversation(title="Order 14", key=key)
        assert (await client.make_conversation(title="Order 14", key=key)).id == first.id
        assert (await client.make_conversation(title="Order 14")).id != first.id
