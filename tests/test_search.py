"""Search, against a plain scan: whatever is posted, edited, removed and taken away, and whoever comes and goes."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nestrel.core.callers import Caller
from nestrel.core.commands import Command, Edit, Post, Remove
from nestrel.core.paging import MessagePosition
from nestrel.core.problems import Problem
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.core.retention import Rule
from nestrel.core.search import question
from nestrel.core.words import pieces
from nestrel.service.indexer import Indexer
from nestrel.store import lexemes
from nestrel.store.database import Database
from nestrel.store.keep import indexing, retention, sweep
from nestrel.store.native import fetch
from nestrel.store.read import search
from nestrel.store.read.search import LAST, SearchFilter
from nestrel.store.write import conversations, members
from nestrel.store.write.writer import Writer
from tests.support import Person, Served, make_place, unique

Make = Callable[..., Person]


@pytest.fixture(scope="module")
async def database(make_database: Callable[[], str]) -> AsyncIterator[Database]:
    opened = Database(make_database())
    yield opened
    await opened.close()


async def pages(database: Database, caller: Caller, wanted: SearchFilter, limit: int) -> list[tuple[str, int, str]]:
    """All hits, page by page, as (conversation, number, body); each page goes on from where the last one said."""
    found, after, before = list[tuple[str, int, str]](), LAST, None
    async with database.read() as connection, connection.transaction("repeatable_read"):
        while True:
            page = await search.find(connection, caller, wanted, limit, after)
            assert len(page.hits) <= limit
            assert all(one.place < after for one in page.hits)
            found += [(str(hit.place.conversation_id), hit.place.seq, hit.row[3]) for hit in page.hits]
            if page.following is None:
                return found
            assert page.following < after, "each page goes on behind the one before"
            before, after = after, page.following
            assert before != after


WORDS = st.lists(st.sampled_from(["tide", "Fog", "berth", "été", "東京", "tidal"]), min_size=1, max_size=4)
DEEDS = st.one_of(
    st.tuples(
        st.just("post"), st.integers(0, 2), st.sampled_from(["mara", "odd"]), st.lists(WORDS, min_size=1, max_size=3)
    ),
    st.tuples(st.just("edit"), st.integers(0, 2), st.integers(1, 8), WORDS),
    st.tuples(st.just("remove"), st.integers(0, 2), st.integers(1, 8)),
    st.tuples(st.just("keep"), st.integers(0, 2), st.integers(1, 5)),
    st.tuples(st.just("leave"), st.integers(0, 2)),
    st.tuples(st.just("join"), st.integers(0, 2)),
    st.tuples(st.just("close"), st.integers(0, 2)),
    st.tuples(st.just("index")),
    st.tuples(st.just("renew")),
)  # fmt: skip
QUESTIONS = st.sampled_from(
    ["tide", "fog berth", "ti*", "tide -fog", '"fog berth"', "ete", "京", "東京 tide", "absent"]
)


class Scene:
    """Three conversations, and what a plain scan of them says."""

    def __init__(self, database: Database, places: list[UUID], viewer: str) -> None:
        self.database, self.places, self.viewer = database, places, viewer
        self.writer = Writer(database)

    async def do(self, deed: tuple[Any, ...], indexer: Indexer) -> None:
        kind, *rest = deed
        if kind == "index":
            return await indexer.step()
        if kind == "renew":
            while await indexing.renew(self.database, -60.0):
                pass
            return None
        place = self.places[rest[0]]
        if kind == "post":
            return await self.write(*(Post(place, rest[1], " ".join(said)) for said in rest[2]))
        if kind in ("edit", "remove"):
            async with self.database.read() as connection:
                found = await fetch(
                    connection, "SELECT author_id FROM nestrel.messages WHERE conversation_id = $1 AND seq = $2",
                    place, rest[1],
                )  # fmt: skip
            if not found:
                return None
            author = found[0][0]
            if kind == "edit":
                return await self.write(Edit(place, author, rest[1], " ".join(rest[2])))
            return await self.write(Remove(place, author, rest[1]))
        try:
            if kind == "keep":
                await retention.put(self.database, place, Rule(keep_last=rest[1]), confirmed=True)
                while await sweep.step(self.database):
                    pass
            elif kind == "leave":
                await members.end(self.database, Caller(self.viewer), place, self.viewer)
            elif kind == "join":
                await members.put(self.database, Caller("mara"), place, self.viewer, None, DEFAULT_QUOTAS)
            else:
                await conversations.close(self.database, Caller("mara"), place)
        except Problem:
            pass
        return None

    async def write(self, *commands: Command) -> None:
        with suppress(Problem):
            await self.writer.submit(list(commands))

    async def scan(self, q: str, author: str | None, only: UUID | None) -> list[tuple[str, int, str]]:
        asked = question(q)
        async with self.database.read() as connection:
            rows = await fetch(connection, _SCAN, self.places, self.viewer)
        return [
            (str(id_), seq, body) for id_, seq, body, user, mine in rows
            if asked.marks(body) is not None and (author is None or user == author)
            and (mine if only is None else id_ == only)
        ]  # fmt: skip


_THERE = "SELECT 1 FROM nestrel.conversations WHERE id = $1 AND closed_at IS NULL"
_INDEXED = """
SELECT conversation_id, block, tsvector_to_array(words) FROM nestrel.search_blocks
WHERE conversation_id = ANY($1::uuid[])
"""
_SCAN = """
SELECT m.conversation_id, m.seq, m.body, m.author_id, EXISTS (SELECT FROM nestrel.members r
    WHERE r.conversation_id = c.id AND r.user_id = $2 AND r.left_at IS NULL)
FROM nestrel.messages m JOIN nestrel.conversations c ON c.id = m.conversation_id
WHERE c.id = ANY($1::uuid[]) AND c.closed_at IS NULL AND m.seq >= c.floor AND m.removed_at IS NULL
ORDER BY m.created_at DESC, m.conversation_id DESC, m.seq DESC
"""


@settings(max_examples=60, suppress_health_check=list(HealthCheck), database=None)
@given(
    deeds=st.lists(DEEDS, min_size=1, max_size=20),
    q=QUESTIONS,
    size=st.integers(1, 3),
    author=st.none() | st.sampled_from(["mara", "odd"]),
    one=st.booleans(),
)
async def test_search_finds_what_a_scan_finds_in_its_order(
    database: Database, deeds: list[tuple[Any, ...]], q: str, size: int, author: str | None, one: bool
) -> None:
    viewer = unique("viewer")
    places = [await make_place(database, mara="owner", odd="writer", **{viewer: "reader"}) for _ in range(3)]
    scene, indexer = Scene(database, places, viewer), Indexer(database)
    with pytest.MonkeyPatch.context() as patch:
        for module in (lexemes, indexing, search):
            patch.setattr(module, "BLOCK", 4)
        for statement in ("_INDEXING_EXPIRED", "_INDEXING_AGED", "_OF_BLOCK"):
            patch.setattr(indexing, statement, getattr(indexing, statement).replace("256", "4"))
        patch.setattr(search, "_BLOCKS", search._BLOCKS.replace("256", "4"))
        patch.setattr(search, "_BLOCKS_AT_ONCE", 3)
        patch.setattr(search, "_TAILS_AT_ONCE", 2)
        patch.setattr(search, "_FIRST_TAIL", 1)
        patch.setattr(search, "_MESSAGES", 6)
        patch.setattr(indexing, "MESSAGES", 5)
        for deed in deeds:
            await scene.do(deed, indexer)
        # What is in the index is found as it stands, and nothing that may not be: also before the index knows of it.
        only = places[0] if one else None
        async with database.read() as connection:
            there = bool(
                await fetch(
                    connection, "SELECT 1 FROM nestrel.conversations WHERE id = $1 AND closed_at IS NULL", places[0]
                )
            )
        wanted = SearchFilter(question(q), only, author)
        if there or not one:
            early = await pages(database, Caller(viewer), wanted, size)
            assert set(early) <= set(await scene.scan(q, author, only))
        await indexer.step()
        while indexer.left:
            await indexer.step()
        expected = await scene.scan(q, author, only)
        if there or not one:
            assert await pages(database, Caller(viewer), wanted, size) == expected
        while await indexing.renew(database, -60.0):
            pass
        if there or not one:
            assert await pages(database, Caller(viewer), wanted, size) == expected
        await agrees(database, places)


async def agrees(database: Database, places: list[UUID]) -> None:
    """Renewed blocks have the words of what is kept, and none else; a closed conversation has none."""
    async with database.read() as connection:
        found = await fetch(connection, _INDEXED, places)
        kept = await fetch(connection, _SCAN, places, "")
    wanted: dict[tuple[UUID, int], set[str]] = {}
    for id_, seq, body, *_ in kept:
        block = wanted.setdefault((id_, (seq - 1) // 4), {lexemes.place_lexeme(id_)})
        block |= set(map(lexemes.lexeme, pieces(body)))
    for id_, block, words in found:
        assert set(words) == wanted.pop((id_, block), {lexemes.place_lexeme(id_)})
    assert wanted == {}


async def test_many_of_one_moment_and_many_conversations_are_paged_to_the_end(database: Database) -> None:
    viewer = unique("viewer")
    at = datetime(2026, 5, 1, tzinfo=UTC)
    places = [await make_place(database, mara="owner", **{viewer: "reader"}) for _ in range(5)]
    writer = Writer(database)
    for n, place in enumerate(places):
        for start in range(0, 600, 300):
            same = at + timedelta(hours=start // 300 if n % 2 else 0)
            await writer.submit([
                Post(place, "mara", f"tide {k}", service=True, created_at=same, imported=True) for k in range(300)
            ])  # fmt: skip
    indexer = Indexer(database)
    while True:
        await indexer.step()
        if not indexer.left:
            break
    found = await pages(database, Caller(viewer), SearchFilter(question("tide")), 200)
    assert len(found) == len(set(found)) == 3_000
    some = await pages(
        database, Caller(viewer), SearchFilter(question("ti*"), places[1], None, at + timedelta(hours=1)), 50
    )
    assert [seq for _, seq, _ in some] == list(range(600, 300, -1))
    some = await pages(
        database, Caller(viewer), SearchFilter(question("tide"), places[1], None, None, at + timedelta(hours=1)), 50
    )
    assert [seq for _, seq, _ in some] == list(range(300, 0, -1))
    with pytest.MonkeyPatch.context() as patch:  # a member of very many conversations
        patch.setattr(search, "_PLACES", 2)
        assert await pages(database, Caller(viewer), SearchFilter(question("tide")), 200) == found
    assert await pages(database, Caller(unique("stranger")), SearchFilter(question("tide")), 200) == []


async def test_what_is_removed_is_soon_out_of_the_index_and_what_only_grew_waits(
    make_database: Callable[[], str],
) -> None:
    database = Database(make_database())
    try:
        place = await make_place(database, mara="owner")
        writer, indexer = Writer(database), Indexer(database)

        async def words() -> set[str]:
            async with database.read() as connection:
                return {word for row in await fetch(connection, _INDEXED, [place]) for word in row[2]}

        await writer.submit([Post(place, "mara", "gannet"), Post(place, "mara", "skua")])
        await indexer.step()
        assert await indexing.renew(database, 0.0) == 0
        assert await indexing.renew(database, -60.0) == 1
        await writer.submit([Remove(place, "mara", 1)])
        await indexer.step()
        assert {"gannet", "skua"} <= await words()
        assert await indexing.renew(database, 0.0) == 1
        assert await words() == {"skua", lexemes.place_lexeme(place)}
        await writer.submit([Edit(place, "mara", 2, "tern")])
        await indexer.step()
        assert await indexing.renew(database, 0.0) == 1
        assert await words() == {"tern", lexemes.place_lexeme(place)}
    finally:
        await database.close()


async def test_two_processes_index_together_and_nothing_is_left_out(database: Database) -> None:
    place = await make_place(database, mara="owner")
    writer, indexers = Writer(database), [Indexer(database), Indexer(database)]
    for n in range(20):
        await asyncio.gather(
            writer.submit([Post(place, "mara", f"gull {n}") for _ in range(20)]), *(one.step() for one in indexers)
        )
    for one in indexers:
        await one.step()
    assert len(await pages(database, Caller("mara"), SearchFilter(question("gull"), place), 100)) == 400


async def test_search_at_its_door(service: Served) -> None:
    mara, odd = Person(service.url, unique("mara")), Person(service.url, unique("odd"))
    backend = Person(service.url, unique("office"), scope="nestrel.service")
    word = unique("gannet").replace("-", "")
    place = (await mara.make(title="berths", members=[odd.user]))["id"]
    other = (await mara.make(visibility="open"))["id"]
    await mara.post(place, f"The {word.upper()}, alongside.", mentions=[odd.user])
    await mara.post(place, f"{word} away")
    await mara.post(other, f"{word} elsewhere")

    async def hits(who: Person, **query: Any) -> list[dict[str, Any]]:
        answer = await who.http.get("/search", params={"q": word, **query})
        assert answer.status_code == 200, answer.text
        items: list[dict[str, Any]] = answer.json()["items"]
        return items

    async def settled(who: Person, count: int, **query: Any) -> list[dict[str, Any]]:
        for _ in range(1_000):
            if len(items := await hits(who, **query)) == count:
                return items
            await asyncio.sleep(0.02)
        raise AssertionError(f"not {count} hits: {items}")

    items = await settled(mara, 3)
    assert [one["message"]["body"] for one in items] == [
        f"{word} elsewhere",
        f"{word} away",
        f"The {word.upper()}, alongside.",
    ]
    assert items[2]["marks"] == [[4, 4 + len(word)]]
    assert items[2]["message"]["mentions"] == [odd.user]
    page = (await odd.http.get("/search", params={"q": word})).json()
    assert [one["message"]["conversation_id"] for one in page["items"]] == [place, place]
    assert page["conversations"] == {place: {"name": None, "title": "berths", "kind": "group"}}
    assert set(page["profiles"]) == {mara.user, odd.user}
    assert len(await hits(odd, conversation_id=other)) == 1
    assert len(await hits(backend)) == 3
    assert await hits(mara, author=odd.user) == []
    assert len(await hits(mara, **{"from": items[0]["message"]["created_at"]})) == 1
    assert len(await hits(mara, to=items[0]["message"]["created_at"])) == 2
    hidden = (await mara.make())["id"]
    assert (await odd.http.get("/search", params={"q": word, "conversation_id": hidden})).status_code == 404

    first = (await mara.http.get("/search", params={"q": f"{word} -alongside", "limit": 1})).json()
    cursor = first["next"]
    assert len(cursor) <= 400
    second = (await mara.http.get("/search", params={"cursor": cursor, "limit": 1})).json()
    assert [one["message"]["body"] for one in second["items"]] == [f"{word} away"]
    poor: tuple[dict[str, Any], ...] = (
        {"cursor": cursor, "q": word}, {"q": "-x"}, {"q": ""}, {}, {"q": "x" * 201}, {"q": "a*"},
        {"q": word, "limit": 0},
        {"q": word, "from": "now"}, {"cursor": "x"}, {"q": word, "conversation_id": "x"},
    )  # fmt: skip
    for query in poor:
        assert (await mara.http.get("/search", params=query)).status_code == 422, query
    assert (await odd.http.get("/search", params={"cursor": cursor})).status_code == 422

    await mara.http.patch(f"/conversations/{place}/messages/2", json={"body": "away"})
    await mara.http.delete(f"/conversations/{place}/messages/1")
    assert await hits(odd) == [], "what is gone is not found from that moment on"
    await mara.http.patch(f"/conversations/{place}/messages/2", json={"body": f"{word} back"})
    await settled(odd, 1)
    await odd.http.delete(f"/conversations/{place}/members/me")
    assert await hits(odd) == []


async def test_without_an_index_search_says_so(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_SEARCH="off") as served:
        mara = Person(served.wait_ready().url, unique("mara"))
        assert (await mara.http.get("/search", params={"q": "x"})).status_code == 404


def test_a_place_before_all_others_is_the_last() -> None:
    assert MessagePosition(datetime.now(UTC), UUID(int=1), 1) < LAST
