"""What an application may not leave in its transaction: said at once where that can be known, and kept with its problem
otherwise; and what a role that may only post can do."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any
from uuid import UUID, uuid4

import asyncpg
import pytest
from sqlalchemy.engine import make_url

from nestrel.client.transaction import post
from nestrel.core.roles import direct_pair
from nestrel.store import addresses, roles
from tests.left import application, plain, posted, refusals
from tests.support import Person, Served, once, unique

__all__ = ["application"]  # the fixture


async def test_what_can_never_be_right_is_said_at_once(
    application: tuple[Served, str, asyncpg.Connection[Any]],
) -> None:
    served, _, connection = application
    mara = Person(served.url, "mara")
    name = unique("Straße ΤΆΞΙΣ")
    place = (await mara.make(name=name))["id"]
    good: dict[str, Any] = {"conversation": place, "author": "mara", "key": "k", "body": "b"}
    for wrong in (
        {"conversation": "no such"}, {"conversation": None}, {"author": ""}, {"author": "me"}, {"author": "x" * 129},
        {"author": "a\nb"}, {"author": "🛥" * 65}, {"key": ""}, {"key": "k" * 129}, {"body": " \u2003\n"},
        {"body": "x" * 8001}, {"body": None}, {"format": "html"}, {"attributes": {"a": "x" * 4097}},
        {"mentions": [f"u{n}" for n in range(51)]}, {"mentions": ["me"]}, {"reply_to": 0}, {"reply_to": 2**53},
    ):  # fmt: skip
        with pytest.raises(asyncpg.InvalidParameterValueError) as told:
            await post(connection, **{**good, **wrong})
        assert next(iter(wrong)) in str(told.value), wrong
    deep = '{"a":' * 32 + "1" + "}" * 32
    very = '{"a":' * 1_100 + "1" + "}" * 1_100
    endless = "{" + " " * 70_000 + "}"
    for document in (
        "[1]",
        '{"a": "\\u0000"}',
        '{"a": "\\ud800"}',
        '{"a": 1e400}',
        '{"a": [-1e309]}',
        deep,
        very,
        endless,
    ):
        with pytest.raises(asyncpg.InvalidParameterValueError, match="attributes"):
            await connection.execute("SELECT nestrel.post($1, 'mara', 'k', 'b', attributes => $2)", place, document)
    for large in ("array_fill('mara'::text, ARRAY[3000000])", "ARRAY[ARRAY['mara']]"):
        with pytest.raises(asyncpg.InvalidParameterValueError, match="mentions"):
            await connection.execute(f"SELECT nestrel.post($1, 'mara', 'k', 'b', mentions => {large})", place)
    assert await connection.fetchval("SELECT count(*) FROM nestrel.posts_waiting") == 0
    await post(connection, place, "mara", "twice", "named twice", mentions=["mara"] * 900)
    assert (await posted(mara, place, 1))[0]["mentions"] == ["mara"]
    await connection.execute("SELECT nestrel.post($1, 'mara', 'deep', 'b', attributes => $2)", place, deep[5:-1])
    assert len(await posted(mara, place, 2)) == 2
    # As large as may be, however it is written; and the name in another spelling.
    size = 4096 - len('{"a":""}')
    await post(connection, name.upper(), "mara", "large", "é" * 8000, attributes={"a": "é" * (size // 2)})
    await connection.execute(
        "SELECT nestrel.post($1, 'mara', 'spaced', 'b', attributes => $2)", place, '{ "a" :  "' + "x" * size + '" }'
    )
    assert [m["body"][:2] for m in await posted(mara, place, 4)][2:] == ["éé", "b"]


async def test_what_was_left_before_there_were_limits_is_refused_and_blocks_nothing(
    application: tuple[Served, str, asyncpg.Connection[Any]],
) -> None:
    """Rows as an earlier version let them in: large ones are not even read, and what cannot be read is refused."""
    served, _, connection = application
    mara = Person(served.url, "mara")
    place = (await mara.make())["id"]
    left = (
        "INSERT INTO nestrel.posts_waiting "
        "(conversation_id, author_id, key, body, format, attributes, mentions, posted_as) "
        "VALUES ($1, 'mara', $2, $3, 'plain', $4::text::json, $5::text[], 'app')"
    )
    very = '{"a":' * 1_100 + "1" + "}" * 1_100
    for key, body, attributes, mentions in (
        ("1", "b", '{"a": 1e400}', 0), ("2", "b", very, 0), ("3", "b", "{" + " " * 5_000_000 + "}", 0),
        ("4", "x" * 5_000_000, None, 0), ("5", "b", None, 200_000), ("6", "good", None, 0),
    ):  # fmt: skip
        await connection.execute(left, place, key, body, attributes, ["mara"] * mentions)
    assert [m["body"] for m in await posted(mara, place, 1)] == ["good"]
    found = await refusals(connection, 5)
    assert [row["key"] for row in found] == ["1", "2", "3", "4", "5"]
    assert {json.loads(row["problem"])["status"] for row in found} == {413, 422}


async def test_the_queue_is_nobody_elses_to_hold(
    application: tuple[Served, str, asyncpg.Connection[Any]],
) -> None:
    """A role of the database that may do nothing here holds what locks it can."""
    served, url, connection = application
    mara, odd = Person(served.url, "mara"), Person(served.url, "odd")
    place = (await mara.make())["id"]
    for name in ("posts waiting", "adopting names", f"pair {direct_pair('mara', 'odd')}"):
        await connection.execute("SELECT pg_advisory_lock(hashtextextended('nestrel ' || $1, 0))", name)
    role = unique("other").replace("-", "_")
    await connection.execute(f"CREATE ROLE {role} LOGIN PASSWORD 'x'")
    stranger = await asyncpg.connect(plain(url, username=role, password="x"))
    for statement in ("SELECT FROM nestrel.locks FOR UPDATE", "DELETE FROM nestrel.locks"):
        with pytest.raises(asyncpg.InsufficientPrivilegeError):
            await stranger.execute(statement)
    await stranger.close()
    await post(connection, place, "mara", "k", "posted")
    assert [m["body"] for m in await posted(mara, place, 1)] == ["posted"]
    await odd.http.get("/me")
    assert (await mara.http.put("/me/blocked/odd")).status_code == 201


async def test_what_is_refused_later_is_kept_with_its_problem_and_holds_up_nothing(
    application: tuple[Served, str, asyncpg.Connection[Any]],
) -> None:
    served, _, connection = application
    mara = Person(served.url, "mara")
    place, closed, unknown = (await mara.make())["id"], (await mara.make())["id"], str(uuid4())
    await mara.http.delete(f"/conversations/{closed}")
    async with connection.transaction():
        tickets = [
            await post(connection, unknown, "mara", "k1", "b"),
            await post(connection, closed, "mara", "k2", "b"),
            await post(connection, place, "mara", "k3", "b", reply_to=99),
            await post(connection, place, "mara", "k4", "1) " * 1200, format="markdown"),
            await post(connection, place, "mara", "k5", "b", mentions=["nobody"]),
            await post(connection, place, "mara", "k6", "first"),
            await post(connection, place, "mara", "k6", "second"),
        ]
        await post(connection, place, "mara", "k7", "good")
    assert [m["body"] for m in await posted(mara, place, 2)] == ["first", "good"]
    found = await refusals(connection, 6)
    assert [row["ticket"] for row in found] == [*tickets[:5], tickets[6]]
    assert {(row["conversation_id"], row["author"]) for row in found[:2]} == {
        (UUID(one), "mara") for one in (unknown, closed)
    }
    assert [row["key"] for row in found] == ["k1", "k2", "k3", "k4", "k5", "k6"]
    types = [json.loads(row["problem"])["type"].rpartition("/")[2] for row in found]
    assert types == ["not-found", "not-found", "invalid-request", "invalid-request", "invalid-request", "key-reused"]
    office = Person(served.url, "office", scope="nestrel.service")
    begun = await office.http.post("/erasures", json={"user_id": "mara", "confirm": True})
    assert begun.status_code == 201, begun.text

    async def kept() -> int:
        return int(await connection.fetchval("SELECT count(*) FROM nestrel.refused_posts"))

    await once(kept, lambda count: count == 0)


async def test_who_may_only_post_can_do_nothing_else(make_database: Callable[[], str]) -> None:
    url = make_database()
    app, owner, serving = unique("harbour"), unique("owner"), unique("serving")
    assert set(await roles.make(url, owner, serving, posting=[app])) == {app, owner, serving}
    connection = await asyncpg.connect(plain(url))
    await connection.execute(f"ALTER ROLE \"{app}\" PASSWORD 'p'; ALTER ROLE \"{serving}\" PASSWORD 'p'")
    mine = await asyncpg.connect(plain(url, username=app, password="p"))
    as_serving = (
        make_url(addresses.sqlalchemy(url)).set(username=serving, password="p").render_as_string(hide_password=False)
    )
    try:
        with Served(as_serving) as served:
            mara = Person(served.wait_ready().url, "mara")
            place = (await mara.make())["id"]
            await post(mine, place, "mara", "k", "b")
            assert len(await posted(mara, place, 1)) == 1
            office = Person(served.url, "office", scope="nestrel.service")
            [told] = (await office.http.get("/audit", params={"conversation_id": place})).json()["items"]
            assert (told["actor"], told["act"]) == (app, "posted-for")
        tables = await connection.fetch(
            "SELECT relname FROM pg_class WHERE relnamespace = 'nestrel'::regnamespace AND relkind IN ('r', 'p')"
        )
        for (table,) in tables:
            for statement in (
                "SELECT FROM nestrel.{}",
                "DELETE FROM nestrel.{}",
                "INSERT INTO nestrel.{} DEFAULT VALUES",
            ):
                with pytest.raises(asyncpg.InsufficientPrivilegeError):
                    await mine.execute(statement.format(table))
        for (function,) in await connection.fetch(
            "SELECT proname FROM pg_proc WHERE pronamespace = 'nestrel'::regnamespace AND proname <> ALL($1)",
            list(roles.LEFT_BY),
        ):
            allowed = await connection.fetchval(
                "SELECT bool_or(has_function_privilege($1, oid, 'EXECUTE')) FROM pg_proc WHERE proname = $2",
                app,
                function,
            )
            assert not allowed, function
    finally:
        await mine.close()
        await connection.execute(f'DROP OWNED BY "{app}"; DROP ROLE "{app}"')
        await connection.close()
