"""Conversations, members and people in the application's own transaction: all of it or nothing, once, in order."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable
from typing import Any

import asyncpg
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import create_engine
from sqlalchemy.orm import Session

from nestrel.client.transaction import make_conversation, post, put_member, put_person, remove_member
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.service.waiting_posts import WaitingPosts
from nestrel.store import roles
from nestrel.store.database import Database
from nestrel.store.write import conversations
from tests.left import application, plain, posted, refused
from tests.support import Person, Served, once, unique

__all__ = ["application"]  # the fixture

Application = tuple[Served, str, Any]


async def found(who: Person, name: str) -> dict[str, Any]:
    """The conversation of that name, once it is there."""

    async def look() -> list[dict[str, Any]]:
        return list((await who.http.get("/conversations", params={"name": name})).json()["items"])

    return (await once(look, bool))[0]


async def emptied(connection: asyncpg.Connection[Any]) -> None:
    async def look() -> int:
        return int(
            await connection.fetchval(
                "SELECT (SELECT count(*) FROM nestrel.acts_waiting) + (SELECT count(*) FROM nestrel.posts_waiting)"
            )
        )

    await once(look, lambda waiting: waiting == 0)


async def test_an_order_and_its_conversation_are_there_together_or_not_at_all(application: Application) -> None:
    served, url, connection = application
    await connection.execute("CREATE TABLE orders (id text PRIMARY KEY)")
    engine = create_engine(plain(url, "postgresql+psycopg"))

    def order(name: str, *, fail: bool) -> None:
        with Session(engine) as session:
            session.connection().exec_driver_sql("INSERT INTO orders VALUES (%s)", (name,))
            put_person(session, "odd", "Odd Strand")
            make_conversation(session, name, title=f"Order {name}", members=["odd"], owner="mara",
                              attributes={"order": name})  # fmt: skip
            post(session, name, "odd", f"{name} asked", "Two cabins, please")
            put_member(session, name, "ines", "moderator")
            post(session, name, "mara", f"{name} answered", "They are yours")
            if fail:
                session.rollback()
            else:
                session.commit()

    served.stop()  # nobody serves: what is left waits
    kept, lost = unique("kept"), unique("lost")
    await asyncio.to_thread(order, lost, fail=True)
    await asyncio.to_thread(order, kept, fail=False)
    served.restart().wait_ready()
    office, mara = Person(served.url, "office", scope="nestrel.service"), Person(served.url, "mara")
    place = await found(mara, kept)
    assert (place["title"], place["attributes"], place["my_role"]) == (f"Order {kept}", {"order": kept}, "owner")
    messages = await posted(mara, place["id"], 2)
    assert [(m["author_id"], m["body"]) for m in messages] == [
        ("odd", "Two cabins, please"), ("mara", "They are yours"),
    ]  # fmt: skip
    await emptied(connection)
    members = (await office.http.get(f"/conversations/{place['id']}/members")).json()["items"]
    assert {one["user_id"]: one["role"] for one in members} == {"odd": "writer", "mara": "owner", "ines": "moderator"}
    assert (await office.http.get("/people/odd")).json()["display_name"] == "Odd Strand"
    everything = (await office.http.get("/conversations", params={"scope": "all"})).json()["items"]
    assert [one["name"] for one in everything] == [kept], "what was rolled back left something"
    assert await connection.fetchval("SELECT count(*) FROM orders") == 1
    # The same again: the name is kept, the keys are repeats, the roles are as they are.
    await connection.execute("DELETE FROM orders")
    await asyncio.to_thread(order, kept, fail=False)
    await emptied(connection)
    assert len((await mara.page(place["id"]))["items"]) == 2
    assert (await found(mara, kept))["id"] == place["id"]
    done = (await office.http.get("/audit", params={"conversation_id": place["id"]})).json()["items"]
    assert {"conversation-made", "member-added", "posted-for"} == {one["act"] for one in done}
    engine.dispose()


async def test_a_member_goes_and_nobody_has_to_own_it(application: Application) -> None:
    served, _, connection = application
    office, odd = Person(served.url, "office", scope="nestrel.service"), Person(served.url, "odd")
    name = unique("berths")
    async with connection.transaction():
        await make_conversation(connection, name, members=["odd", "ines"], kind="bulletin", visibility="open")
        await remove_member(connection, name, "ines")
        await put_member(connection, name, "odd", "moderator")
    await emptied(connection)
    place = await found(odd, name)
    assert (place["kind"], place["visibility"], place["my_role"]) == ("bulletin", "open", "moderator")
    members = (await office.http.get(f"/conversations/{place['id']}/members")).json()["items"]
    assert {one["user_id"]: one["role"] for one in members if one["left_at"] is None} == {"odd": "moderator"}
    async with odd.socket() as line:  # by the id, and told to whoever is there
        await line.command(type="follow", conversation_id=place["id"])
        await put_member(connection, place["id"], "una", "reader")
        frame = await line.get()
        assert [(one["user_id"], one["role"]) for one in frame["members"]] == [("una", "reader")]
    for members_ in (["odd", "una"], ["una", "odd"]):
        await make_conversation(connection, None, kind="direct", members=members_)
    await emptied(connection)
    theirs = (await odd.http.get("/conversations")).json()["items"]
    assert [one["partner"] for one in theirs if one["kind"] == "direct"] == ["una"]


async def test_what_can_never_be_right_is_said_at_the_call(application: Application) -> None:
    _, _, connection = application
    good: dict[str, Any] = {"name": "berths"}
    for wrong in (
        {"name": None}, {"name": ""}, {"name": " x"}, {"name": "x" * 81}, {"name": "a\nb"}, {"name": "a\u202eb"},
        {"title": "x" * 201}, {"title": "a\nb"}, {"kind": "room"}, {"kind": None}, {"visibility": "secret"},
        {"members": ["me"]}, {"members": [f"u{n}" for n in range(1001)]}, {"members": ["x" * 129]}, {"owner": "all"},
        {"attributes": {"a": "x" * 4097}}, {"kind": "direct"}, {"kind": "direct", "name": None},
        {"kind": "direct", "name": None, "members": ["a", "b"], "owner": "a"},
        {"kind": "direct", "name": None, "members": ["a", "b"], "visibility": "open"},
    ):  # fmt: skip
        with pytest.raises(asyncpg.InvalidParameterValueError):
            await make_conversation(connection, **{**good, **wrong})
    for document in ("[1]", '{"a": "\\u0000"}', '{"a": 1e400}', '{"a":' * 32 + "1" + "}" * 32):
        with pytest.raises(asyncpg.InvalidParameterValueError, match="attributes"):
            await connection.execute("SELECT nestrel.make_conversation('x', attributes => $1)", document)
    with pytest.raises(asyncpg.InvalidParameterValueError, match="members"):
        await connection.execute(
            "SELECT nestrel.make_conversation('x', members => array_fill('m'::text, ARRAY[3000000]))"
        )
    for call in (
        put_member(connection, "no such", "odd"),
        put_member(connection, "", "odd"),
        remove_member(connection, "no such", "odd"),
        post(connection, "no such", "odd", "k", "b"),
        *(put_person(connection, user, name, picture) for user, name, picture in (
            ("me", "Me", None), ("odd", " ", None), ("odd", "x" * 129, None), ("odd", "a\nb", None),
            ("odd", "Odd", "ftp://x"), ("odd", "Odd", "https://x/" + "y" * 2000),
        )),
    ):  # fmt: skip
        with pytest.raises(asyncpg.InvalidParameterValueError):
            await call
    name = unique("later")
    async with connection.transaction():
        await make_conversation(connection, name)
        for wrong_role in ("admin", ""):
            with pytest.raises(asyncpg.InvalidParameterValueError, match="role"):
                async with connection.transaction():
                    await put_member(connection, name, "odd", wrong_role)
    await emptied(connection)


async def test_what_turns_out_wrong_later_is_kept_and_holds_up_nothing(application: Application) -> None:
    served, _, connection = application
    mara = Person(served.url, "mara")
    taken, place = unique("Harbour"), (await mara.make())["id"]
    await mara.make(name=taken)
    alike = taken.replace("o", "о")  # Cyrillic
    closed = (await mara.make())["id"]
    await mara.http.delete(f"/conversations/{closed}")
    async with connection.transaction():
        tickets = [
            await make_conversation(connection, alike),
            await put_member(connection, alike, "odd"),
            await post(connection, alike, "odd", "k", "for one that is not made"),
            await put_member(connection, closed, "odd"),
            await remove_member(connection, place, "odd"),
            await put_member(connection, place, "mara", "reader"),
        ]
        await put_member(connection, place, "odd")
    rows = await refused(connection, 6)
    assert [row["ticket"] for row in rows] == tickets
    kinds = [json.loads(row["problem"])["type"].rpartition("/")[2] for row in rows]
    assert kinds == ["name-taken", "not-found", "not-found", "not-found", "not-found", "forbidden"]
    await emptied(connection)  # the last act comes after the last refusal
    assert (await mara.http.get(f"/conversations/{place}")).json()["members"] == 2
    await connection.execute("UPDATE nestrel.refused_posts SET refused_at = refused_at - interval '8 days'")
    assert await connection.fetch("SELECT * FROM nestrel.refused") == []


async def test_order_is_that_of_tickets_though_somebody_holds_one_conversation(application: Application) -> None:
    """What is held up holds up what is behind it in its conversation, and nothing else."""
    served, url, connection = application
    mara = Person(served.url, "mara")
    held, other = (await mara.make(members=["odd"]))["id"], (await mara.make())["id"]
    holder = await asyncpg.connect(plain(url))
    begun = holder.transaction()
    await begun.start()
    await holder.execute("SELECT FROM nestrel.conversations WHERE id = $1 FOR UPDATE", held)
    async with connection.transaction():
        await post(connection, held, "mara", "1", "first")
        await remove_member(connection, held, "odd")
        await post(connection, held, "mara", "2", "second")
        await post(connection, other, "mara", "3", "elsewhere")
        await put_member(connection, other, "odd")
    assert [m["body"] for m in await posted(mara, other, 1)] == ["elsewhere"]

    async def members() -> int:
        return int((await mara.http.get(f"/conversations/{other}")).json()["members"])

    await once(members, lambda count: count == 2)
    await begun.rollback()
    await emptied(connection)
    assert [m["body"] for m in await posted(mara, held, 2)] == ["first", "second"]
    rows = await connection.fetch(
        "SELECT rev, 'post' FROM nestrel.messages WHERE conversation_id = $1 UNION ALL "
        "SELECT rev, 'gone' FROM nestrel.members WHERE conversation_id = $1 AND left_at IS NOT NULL ORDER BY 1", held
    )  # fmt: skip
    assert [row[1] for row in rows] == ["post", "gone", "post"]
    await holder.close()


async def test_who_leaves_things_there_can_do_nothing_else(make_database: Callable[[], str]) -> None:
    url = make_database()
    app, owner, serving = unique("harbour"), unique("owner"), unique("serving")
    await roles.make(url, owner, serving, posting=[app])
    connection = await asyncpg.connect(plain(url))
    await connection.execute(f"ALTER ROLE \"{app}\" PASSWORD 'p'; ALTER ROLE \"{serving}\" PASSWORD 'p'")
    mine = await asyncpg.connect(plain(url, username=app, password="p"))
    with Served(plain(url, username=serving, password="p")) as served:
        mara = Person(served.wait_ready().url, "mara")
        async with mine.transaction():
            await make_conversation(mine, "berths", owner="mara", members=[app])
            await put_member(mine, "berths", "odd")
            await put_person(mine, "odd", "Odd")
            await remove_member(mine, "berths", app)
        place = await found(mara, "berths")
        await emptied(connection)
        office = Person(served.url, "office", scope="nestrel.service")
        told = (await office.http.get("/audit")).json()["items"]
        assert {one["actor"] for one in told if one["conversation_id"] == place["id"]} == {app}
    for statement in (
        "SELECT * FROM nestrel.acts_waiting", "SELECT * FROM nestrel.refused", "SELECT nestrel.place_v1('berths')",
        "SELECT nestrel.check_attributes_v1('{}')",
    ):  # fmt: skip
        with pytest.raises(asyncpg.InsufficientPrivilegeError):
            await mine.execute(statement)
    await mine.close()
    await connection.close()


async def test_a_fault_of_ours_stops_nothing_behind_it_and_loses_nothing(
    make_database: Callable[[], str], monkeypatch: pytest.MonkeyPatch
) -> None:
    url = make_database()
    database = Database(url)
    connection = await asyncpg.connect(plain(url))
    real = conversations.make_in

    async def faulty(*given: Any) -> None:
        if given[2].name == "fault":
            raise RuntimeError("a fault of ours")
        await real(*given)

    monkeypatch.setattr(conversations, "make_in", faulty)
    for name in ("fault", "good"):
        await make_conversation(connection, name)
    await put_member(connection, "fault", "odd")

    def queue() -> WaitingPosts:
        return WaitingPosts(
            database, lambda _: None, lambda _, __: None, lambda _: False, None, DEFAULT_QUOTAS, None
        )  # fmt: skip

    await queue().take_in_turn()
    assert await connection.fetchval("SELECT array_agg(name) FROM nestrel.conversations") == ["good"]
    assert await connection.fetchval("SELECT count(*) FROM nestrel.acts_waiting") == 2
    monkeypatch.setattr(conversations, "make_in", real)
    await queue().take_in_turn()
    assert await connection.fetchval("SELECT count(*) FROM nestrel.conversations") == 2
    assert await connection.fetchval("SELECT count(*) FROM nestrel.refused") == 0
    await connection.close()
    await database.close()


_STEPS = st.lists(
    st.tuples(st.sampled_from(["make", "put", "remove", "post"]), st.sampled_from(["a", "b"]),
              st.sampled_from(["odd", "ines"])), min_size=1, max_size=12,
)  # fmt: skip


@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(transactions=st.lists(st.tuples(_STEPS, st.booleans()), min_size=1, max_size=4))
async def test_any_transactions_end_as_if_done_one_by_one(
    transactions: list[tuple[list[tuple[str, str, str]], bool]], application_twice: tuple[str, list[Database]]
) -> None:
    """Two processes take what transactions leave; a dictionary knows what must come of it."""
    url, databases = application_twice
    connection = await asyncpg.connect(plain(url))
    run = unique("run")
    members: dict[str, set[str]] = {}
    bodies: dict[str, list[str]] = {}
    for number, (steps, commits) in enumerate(transactions):
        transaction = connection.transaction()
        await transaction.start()
        made = set(members)
        done: list[tuple[str, str, str, str]] = []
        for n, (what, where, who) in enumerate(steps):
            name = f"{run}-{where}"
            if what == "make":
                await make_conversation(connection, name)
                made.add(where)
            elif where not in made:
                with pytest.raises(asyncpg.InvalidParameterValueError):
                    async with connection.transaction():
                        await put_member(connection, name, who)
                continue
            elif what == "put":
                await put_member(connection, name, who)
            elif what == "remove":
                await remove_member(connection, name, who)
            else:
                await post(connection, name, who, f"{number}-{n}", f"{number}-{n}")
            done.append((what, where, who, f"{number}-{n}"))
        if not commits:
            await transaction.rollback()
            continue
        await transaction.commit()
        for what, where, who, body in done:
            inside, said = members.setdefault(where, set()), bodies.setdefault(where, [])
            if what == "put":
                inside.add(who)
            elif what == "remove":
                inside.discard(who)
            elif what == "post":
                said.append(body)
        if number % 2:
            await _take(databases)
    await _take(databases)
    for where, inside in members.items():
        id_ = await connection.fetchval("SELECT id FROM nestrel.conversations WHERE name = $1", f"{run}-{where}")
        there = await connection.fetch(
            "SELECT user_id FROM nestrel.members WHERE conversation_id = $1 AND left_at IS NULL", id_
        )
        assert {row[0] for row in there} == inside
        rows = await connection.fetch("SELECT body FROM nestrel.messages WHERE conversation_id = $1 ORDER BY seq", id_)
        assert [row[0] for row in rows] == bodies[where]
    assert await connection.fetchval("SELECT count(*) FROM nestrel.acts_waiting") == 0
    await connection.close()


async def _take(databases: list[Database]) -> None:
    """Both processes at one moment, until nothing waits."""
    queues = [
        WaitingPosts(database, lambda _: None, lambda _, __: None, lambda _: False, None, DEFAULT_QUOTAS, None)
        for database in databases
    ]
    for _ in range(2):
        await asyncio.gather(*(queue.take_in_turn() for queue in queues))
    await queues[0].take_in_turn()


@pytest.fixture
async def application_twice(make_database: Callable[[], str]) -> Any:
    url = make_database()
    databases = [Database(url), Database(url)]
    yield url, databases
    for database in databases:
        await database.close()
