"""Who is named in a message: at every door, and counted above the receipt as a plain scan would count them."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable
from typing import Any
from uuid import UUID

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nestrel.core.callers import Caller
from nestrel.core.commands import Command, Edit, Post, Read, Remove
from nestrel.core.problems import Problem
from nestrel.core.retention import Rule
from nestrel.store.database import Database
from nestrel.store.keep import closed, retention, sweep
from nestrel.store.native import fetch
from nestrel.store.read import conversations
from nestrel.store.write import conversations as changing
from nestrel.store.write.writer import Writer
from tests.support import Person, make_place, unique

Make = Callable[..., Person]


async def unread(who: Person, place: str) -> tuple[int, int]:
    items = (await who.http.get("/conversations")).json()["items"]
    one = next(item for item in items if item["id"] == place)
    assert (await who.http.get("/me")).json()["unread"] == {
        "conversations": sum(item["unread"] > 0 for item in items),
        "messages": sum(item["unread"] for item in items),
        "mentions": sum(item["unread_mentions"] for item in items),
    }
    return one["unread"], one["unread_mentions"]


async def test_a_message_names_members_and_they_see_how_often_until_they_have_read(person: Make) -> None:
    mara, odd, nobody = person(), person(), person()
    place = (await mara.make(members=[odd.user]))["id"]
    posted = await mara.post(place, "berth 3", mentions=[odd.user, mara.user, odd.user])
    assert (posted.status_code, posted.json()["mentions"]) == (201, [odd.user, mara.user])
    page = await odd.page(place)
    assert page["items"][0]["mentions"] == [odd.user, mara.user]
    assert {odd.user, mara.user} == set(page["profiles"])
    assert (await unread(odd, place), await unread(mara, place)) == ((1, 1), (1 - 1, 0))
    assert (await odd.http.get(f"/conversations/{place}")).json()["unread_mentions"] == 1

    for wanted, status, where in (
        ([nobody.user], 422, "/mentions"), ([odd.user, nobody.user], 422, "/mentions"), (["me"], 422, "/mentions/0"),
        ([f"deck-{n}" for n in range(51)], 413, None), ("odd", 422, "/mentions"), ([7], 422, "/mentions/0"),
    ):  # fmt: skip
        answer = await mara.post(place, "no", mentions=wanted)
        assert answer.status_code == status, answer.text
        assert where is None or answer.json()["errors"][0]["pointer"] == where
    fifty = await mara.post(place, "fifty of one", mentions=[odd.user] * 60)
    assert fifty.json()["mentions"] == [odd.user]

    batch = [{"key": "1", "body": "one", "mentions": [odd.user]}, {"key": "2", "body": "two"}]
    where = f"/conversations/{place}/messages/batch"
    items = (await mara.http.post(where, json={"messages": batch})).json()["items"]
    assert [one["mentions"] for one in items] == [[odd.user], []]
    batch = [{"key": "3", "body": "three"}, {"key": "4", "body": "four", "mentions": [nobody.user]}]
    refused = await mara.http.post(where, json={"messages": batch})
    assert (refused.status_code, refused.json()["errors"][0]["pointer"]) == (422, "/messages/1/mentions")
    assert await unread(odd, place) == (4, 3)
    await odd.http.put(f"/conversations/{place}/receipt", json={"read_seq": 2})
    assert await unread(odd, place) == (2, 1)


async def test_edits_keep_who_is_named_unless_they_say_and_a_removal_forgets(person: Make) -> None:
    mara, odd, tove = person(), person(), person()
    place = (await mara.make(members=[odd.user, tove.user]))["id"]
    async with odd.socket() as wire:
        await wire.command(type="follow", conversation_id=place)
        async with mara.socket() as own:
            done = await own.command(
                type="post", conversation_id=place, key="k", body="berth 3", mentions=[odd.user]
            )  # fmt: skip
            assert done["message"]["mentions"] == [odd.user]
            frame = await wire.get()
            assert frame["messages"][0]["mentions"] == [odd.user]
            assert set(frame["profiles"]) == {mara.user, odd.user}

            async def edit(body: str, **more: Any) -> dict[str, Any]:
                done = await own.command(type="edit", conversation_id=place, seq=1, body=body, **more)
                found: dict[str, Any] = done.get("message") or done["problem"]
                return found

            first = await edit("berth 4")
            assert first["mentions"] == [odd.user]
            renamed = await edit("berth 4", mentions=[tove.user])
            assert (renamed["mentions"], renamed["edits"]) == ([tove.user], 1)
            assert renamed["rev"] == first["rev"] + 1
            assert await unread(odd, place) == (1, 0)
            assert await unread(tove, place) == (1, 1)
            assert (await edit("berth 4", mentions=[unique("nobody")]))["status"] == 422
            await mara.http.delete(f"/conversations/{place}/members/{tove.user}")
            kept = await edit("berth 5", mentions=[tove.user])
            assert kept["mentions"] == [tove.user], "who has left since is no new mention"
            assert (await mara.post(place, "again", mentions=[tove.user])).status_code == 422
            again = await mara.post(place, "berth 3", key="k", mentions=[tove.user])
            assert (again.status_code, again.json()["type"]) == (409, "/problems/key-reused")
            assert (await mara.post(place, "berth 3", key="k", mentions=[odd.user])).status_code == 200
            tombstone = (await mara.http.delete(f"/conversations/{place}/messages/1")).json()
            assert tombstone["mentions"] == []
    assert await unread(odd, place) == (0, 0)


USERS = ("mara", "odd", "tove")
NAMED = st.lists(st.sampled_from(USERS), unique=True, max_size=3)
SEQS = st.integers(1, 6)
DEEDS = st.one_of(
    st.tuples(st.just("post"), st.sampled_from(USERS), NAMED),
    st.tuples(st.just("edit"), SEQS, st.none() | NAMED, st.sampled_from("ab")),
    st.tuples(st.just("remove"), SEQS),
    st.tuples(st.just("read"), st.sampled_from(USERS), SEQS),
    st.tuples(st.just("keep"), st.integers(1, 4)),
)


@pytest.fixture(scope="module")
async def database(make_database: Callable[[], str]) -> AsyncIterator[Database]:
    opened = Database(make_database())
    yield opened
    await opened.close()


def command_of(place: UUID, deed: tuple[Any, ...], authors: list[str]) -> Command | None:
    kind, *rest = deed
    if kind == "post":
        return Post(place, rest[0], "tide", mentions=tuple(rest[1]))
    if kind == "read":
        return Read(place, rest[0], min(rest[1], len(authors))) if authors else None
    if kind == "keep" or rest[0] > len(authors):
        return None
    author = authors[rest[0] - 1]
    if kind == "edit":
        return Edit(place, author, rest[0], rest[2], mentions=None if rest[1] is None else tuple(rest[1]))
    return Remove(place, author, rest[0])


_SCAN = """
SELECT count(*) FROM nestrel.messages m, nestrel.conversations c, nestrel.members r
WHERE c.id = $1 AND m.conversation_id = c.id AND m.seq >= c.floor AND r.conversation_id = c.id AND r.user_id = $2
  AND m.seq > r.read_seq AND m.author_id <> $2 AND m.removed_at IS NULL AND $2 = ANY(m.mentions)
"""
_STRAY = """
SELECT count(*) FROM nestrel.mentions n WHERE conversation_id = $1 AND NOT EXISTS (
    SELECT FROM nestrel.messages m WHERE m.conversation_id = n.conversation_id AND m.seq = n.seq
      AND n.user_id = ANY(m.mentions))
"""


@settings(max_examples=60, suppress_health_check=list(HealthCheck), database=None)
@given(deeds=st.lists(DEEDS, min_size=1, max_size=25))
async def test_mentions_are_counted_as_a_scan_counts_them(database: Database, deeds: list[tuple[Any, ...]]) -> None:
    place = await make_place(database, mara="owner", odd="writer", tove="writer")
    writer, authors = Writer(database), list[str]()
    for deed in deeds:
        command = command_of(place, deed, authors)
        if command is not None:
            try:
                await writer.submit([command])
            except Problem:
                assert deed[0] != "post"
        if deed[0] == "post":
            authors.append(deed[1])
        if deed[0] == "keep":
            await retention.put(database, place, Rule(keep_last=deed[1]), confirmed=True)
    async with database.read() as connection:
        for user in USERS:
            [(scanned,)] = await fetch(connection, _SCAN, place, user)
            assert (await conversations.show(connection, place, user))["unread_mentions"] == scanned
    while await sweep.step(database):
        pass
    async with database.read() as connection:
        assert (await fetch(connection, _STRAY, place))[0][0] == 0


async def test_nothing_is_left_of_mentions_in_what_was_closed(database: Database) -> None:
    place = await make_place(database, mara="owner", odd="writer")
    await Writer(database).submit([Post(place, "mara", "x", mentions=("odd",)), Post(place, "mara", "y")])
    await changing.close(database, Caller("mara"), place)
    while await closed.step(database):
        pass
    async with database.read() as connection:
        found = await fetch(connection, "SELECT count(*) FROM nestrel.mentions WHERE conversation_id = $1", place)
    assert found[0][0] == 0
