"""Suspension and sign-out, wherever somebody is connected; and the audit of every act over others."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

import asyncpg
import httpx
import jwt
import pytest

from nestrel.core.audit import Act
from nestrel.store.access import Caller
from nestrel.store.database import Database
from nestrel.store.write import audit
from tests.support import SECRET, Person, Served, call, unique, until

Make = Callable[..., Person]


async def closed_with(wire: Any) -> int:
    """The code with which a connection ends."""
    await asyncio.wait_for(wire.raw.wait_closed(), 60)
    code: int = wire.raw.close_code
    return code


async def test_whom_the_backend_suspends_is_out_everywhere_until_let_in(make_database: Callable[[], str]) -> None:
    """On every process: requests, sockets, streams and those that wait."""
    database = make_database()
    with Served(database) as one, Served(database) as two:
        office = Person(one.wait_ready().url, "office", scope="nestrel.service")
        odd = {served: Person(served.wait_ready().url, "odd") for served in (one, two)}
        place = (await odd[one].make())["id"]
        cursor = (await call(odd[two], "GET", f"/conversations/{place}/changes")).json()["cursor"]
        sent = (await odd[one].upload(place, b"berth plan")).json()["attachment_id"]
        link = (await call(odd[one], "POST", f"/conversations/{place}/attachments/{sent}/link", {}, 201)).json()["url"]
        assert httpx.get(link).status_code == 200
        waiting = asyncio.ensure_future(
            odd[two].http.get(f"/conversations/{place}/changes", params={"cursor": cursor, "wait": 30})
        )

        async def stream() -> None:
            async with odd[two].http.stream("GET", "/stream") as answer:
                assert answer.status_code == 200
                async for _ in answer.aiter_lines():
                    pass

        streaming = asyncio.ensure_future(stream())
        async with odd[one].socket() as first, odd[two].socket(header=True) as second:
            kept = (await call(office, "PUT", "/people/odd/suspension", {"reason": "fog horn"}, 201)).json()
            assert (kept["user_id"], kept["until"], kept["suspended_by"]) == ("odd", None, "office")
            assert [await closed_with(first), await closed_with(second)] == [4403, 4403]
        assert (await waiting).status_code == 403
        await asyncio.wait_for(streaming, 60)
        assert httpx.get(link).status_code == 404  # nor does what they have made work any more
        for who in odd.values():
            for method, path in (("GET", "/me"), ("GET", f"/conversations/{place}"), ("POST", "/resync")):
                assert (await call(who, method, path, {} if method == "POST" else None)).json()["status"] == 403
        await call(office, "PUT", "/people/odd/suspension", {}, 200)
        await call(office, "PUT", "/people/office/suspension", {}, 422)
        for _ in range(2):
            await call(office, "DELETE", "/people/odd/suspension", None, 204)
        for who in odd.values():
            until(lambda who=who: httpx.get(f"{who.url}/v1/me", headers=who.http.headers).status_code == 200)  # type: ignore[misc]  # bound at once
        await call(odd[one], "PUT", "/people/office/suspension", {}, 403)


async def test_a_sign_out_ends_the_tokens_of_before_and_no_later_ones(person: Make) -> None:
    office = person(scope="nestrel.service")
    now = int(datetime.now(UTC).timestamp())
    user = unique("odd")
    old, later, never = (Person(office.url, user) for _ in range(3))
    for who, issued in ((later, {"iat": now + 3600}), (never, {})):
        who.token = jwt.encode({"sub": user, "exp": now + 9_000, **issued}, SECRET, "HS256")
        who.http.headers["Authorization"] = f"Bearer {who.token}"
    await call(old, "GET", "/me", None, 200)
    async with old.socket() as wire, later.socket() as other:
        ended = (await call(office, "POST", f"/people/{user}/sign-out", None, 200)).json()
        assert ended["not_before"].endswith(".000000Z")
        assert await closed_with(wire) == 4401
        await call(old, "GET", "/me", None, 401)
        await call(never, "GET", "/me", None, 401)
        await call(later, "GET", "/me", None, 200)
        assert (await other.command(type="ping"))["type"] == "done"


async def test_the_audit_has_every_act_over_others(own: Served) -> None:
    office, mara, odd = (
        Person(own.url, name, **claims)
        for name, claims in (("office", {"scope": "nestrel.service"}), ("mara", {}), ("odd", {}))
    )
    place = (await mara.make(title="Quay", members=["odd", "petra"]))["id"]
    here = f"/conversations/{place}"
    first = (await odd.post(place, "a word of odd's")).json()["seq"]
    steps: list[tuple[Person, str, str, Any]] = [
        (mara, "PUT", f"{here}/members/ines", {}),
        (mara, "PATCH", f"{here}/members/odd", {"role": "moderator"}),
        (odd, "DELETE", f"{here}/members/ines", None),
        (odd, "PUT", f"{here}/kept-out/ines", {"reason": "a reason of odd's"}),
        (odd, "DELETE", f"{here}/kept-out/ines", None),
        (mara, "POST", f"{here}/invitations", {"uses": 2}),
        (mara, "PATCH", here, {"title": "Berth", "post_interval": 5}),
        (mara, "PUT", f"{here}/retention", {"keep_last": 50, "then": "discard"}),
        (mara, "DELETE", f"{here}/messages/{first}", None),
        (office, "PUT", "/people/petra/suspension", {"reason": "fog"}),
        (office, "DELETE", "/people/petra/suspension", None),
        (office, "POST", "/people/petra/sign-out", None),
        (mara, "DELETE", f"{here}/retention", None),
    ]
    for who, method, path, body in steps:
        answer = await who.http.request(
            method, path, json=body, headers={"X-Request-ID": f"r-{steps.index((who, method, path, body))}"}
        )
        assert answer.status_code < 300, answer.text
    for n in range(3):  # each by another way of the write path
        posted = await office.post(place, f"spoken for {n}", on_behalf_of="odd", key=f"b{n}")
        assert posted.status_code == 201
    await office.post(place, "spoken for 0", on_behalf_of="odd", key="b0")  # a repeat is no act
    batch = {"messages": [{"key": f"c{n}", "body": f"{n}", "on_behalf_of": "odd"} for n in range(2)]}
    await call(office, "POST", f"{here}/messages/batch", batch, 200)
    await call(odd, "DELETE", f"{here}/members/me", None, 204)  # leaving is nobody's act over others
    await call(mara, "DELETE", here, None, 204)
    found: list[dict[str, Any]] = []
    cursor = None
    while True:
        page = (await call(office, "GET", "/audit?limit=7" + (f"&cursor={cursor}" if cursor else ""))).json()
        found += page["items"]
        if (cursor := page["next"]) is None:
            break
    acts = [(one["actor"], one["act"], one["user_id"], one["seq"]) for one in reversed(found)]
    assert acts == [
        ("mara", "member-added", "ines", None), ("mara", "member-role", "odd", None),
        ("odd", "member-removed", "ines", None), ("odd", "kept-out", "ines", None), ("odd", "let-in", "ines", None),
        ("mara", "invited", None, None), ("mara", "conversation-changed", None, None), ("mara", "rule-set", None, None),
        ("mara", "message-removed", "odd", first), ("office", "suspended", "petra", None),
        ("office", "suspension-ended", "petra", None), ("office", "signed-out", "petra", None),
        ("mara", "rule-cleared", None, None), *(("office", "posted-for", "odd", n) for n in range(2, 7)),
        ("mara", "conversation-closed", None, None),
    ]  # fmt: skip
    assert [one["request_id"] for one in reversed(found)][:3] == ["r-0", "r-1", "r-2"]
    assert found[-4]["reason"] == "a reason of odd's"
    assert found[-2]["before"] == {"role": "writer"}
    assert "Berth" not in str(found)
    assert "a word of" not in str(found)
    some = (await call(office, "GET", f"/audit?actor=odd&conversation_id={place}")).json()["items"]
    assert [one["act"] for one in some] == ["let-in", "kept-out", "member-removed"]
    await call(mara, "GET", "/audit", None, 403)


async def test_nothing_changes_what_the_audit_says(database: Database, stranger: asyncpg.Connection[Any]) -> None:
    async with database.write() as connection:
        await audit.record(connection, Caller("mara"), Act.KEPT_OUT, user_id="odd", reason="fog")
    for statement in ("UPDATE nestrel.audit SET actor = 'odd'", "DELETE FROM nestrel.audit"):
        with pytest.raises(asyncpg.InsufficientPrivilegeError):
            await stranger.execute(statement)
    assert await stranger.fetchval("SELECT count(*) FROM nestrel.audit WHERE actor = 'mara'") == 1
    months = await stranger.fetchval("SELECT count(*) FROM pg_inherits WHERE inhparent = 'nestrel.audit'::regclass")
    assert months >= 13
