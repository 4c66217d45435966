"""Whom one may find, and what they have said: against a plain scan of who shares what with whom."""

from __future__ import annotations

import base64
import unicodedata
from collections.abc import AsyncIterator, Callable
from typing import Any
from unittest.mock import AsyncMock
from urllib.parse import quote

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.commands import Post, Remove
from nestrel.core.cursors import CursorSeal
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.core.retention import Rule
from nestrel.core.words import LAST, words
from nestrel.store import asked
from nestrel.store.database import Database
from nestrel.store.keep import retention
from nestrel.store.native import execute, fetch
from nestrel.store.read import people, said
from nestrel.store.write import conversations, members, profiles
from nestrel.store.write.writer import Writer
from tests.support import Person, Served, make_place, unique

Make = Callable[..., Person]


async def found(who: Person, **query: Any) -> list[str]:
    """The ids of a whole directory, page by page, by its cursors alone."""
    ids, params = [], query
    while True:
        answer = await who.http.get("/people", params=params)
        assert answer.status_code == 200, answer.text
        page = answer.json()
        ids += [one["user_id"] for one in page["items"]]
        if page["next"] is None:
            return ids
        assert f"cursor={page['next']}" in answer.headers["link"]
        params = {"cursor": page["next"], "limit": query.get("limit", 50)}


async def test_people_are_found_by_the_beginning_of_any_word_by_whoever_shares_a_conversation(
    service: Served,
) -> None:
    mara = Person(service.url, unique("mara"), name="Mára Østby-Lund")
    odd = Person(service.url, unique("odd"), name="Odd STRASSER")
    backend = Person(service.url, unique("office"), scope="nestrel.service", name="Office")
    for one in (odd, backend):
        await one.http.get("/me")
    unseen = unique("never-seen")
    assert await found(mara) == [mara.user], "oneself, and nobody else yet"
    place = (await mara.make(members=[odd.user, unseen]))["id"]
    assert sorted(await found(mara)) == sorted([mara.user, odd.user, unseen])
    for q, whom in (
        ("mara", [mara.user]), ("ØSTBY", [mara.user]), ("lund mar", [mara.user]), ("mar xy", []), ("straß", [odd.user]),
        ("ostby", []), (unseen, [unseen]), ("seen", [unseen]), ("!?", []), (odd.user, [odd.user]), ("tby", []),
    ):  # fmt: skip
        assert await found(mara, q=q) == whom, q
    assert await found(mara, q="x" * limits.SEARCH_CHARS) == []
    assert (await mara.http.get("/people", params={"q": "x" * 201})).status_code == 422
    shown = (await mara.http.get(f"/people/{odd.user}")).json()
    assert (shown["display_name"], shown["rev"]) == ("Odd STRASSER", 1)
    assert (await mara.http.get("/people/me")).json()["user_id"] == mara.user

    await odd.http.patch("/me", json={"display_name": "Odin"})
    assert (await found(mara, q="odin"), await found(mara, q="strass")) == ([odd.user], [])
    await odd.http.delete(f"/conversations/{place}/members/me")
    assert odd.user in await found(mara), "who was there is still known"
    assert await found(odd) == [odd.user]
    for path in (f"/people/{mara.user}", f"/people/{mara.user}/messages"):
        assert (await odd.http.get(path)).status_code == 404
    assert mara.user in await found(backend, q="mara", limit=200)
    await mara.http.delete(f"/conversations/{place}")
    assert await found(mara) == [mara.user], "what is closed makes nobody known"


async def test_a_directory_goes_on_by_its_cursor_alone_however_long_the_question(person: Make) -> None:
    mara, other = person(), person()
    word = "試" * 60
    crew = [f"{unique('deck')} {word}" for _ in range(7)]
    await mara.make(members=[*crew, "a/b", "x/messages"])
    assert sorted(await found(mara, q=word, limit=2)) == sorted(crew)
    first = (await mara.http.get("/people", params={"q": word, "limit": 2})).json()
    assert len(first["next"]) <= 400
    for params in (
        {"cursor": first["next"], "q": word},
        {"cursor": first["next"][:-1] + ("x" if first["next"][-1] != "x" else "y")},
        {"cursor": "abc"},
    ):
        assert (await mara.http.get("/people", params=params)).status_code == 422
    assert (await other.http.get("/people", params={"cursor": first["next"]})).status_code == 422
    for odd_id in ("a/b", "x/messages"):
        assert (await mara.http.get(f"/people/{quote(odd_id, safe='')}")).json()["user_id"] == odd_id
        assert (await mara.http.get(f"/people/{quote(odd_id, safe='')}/messages")).json()["items"] == []


async def test_of_a_members_long_questions_the_newest_are_kept(database: Database) -> None:
    async with database.read() as connection:
        names = [await asked.keep(connection, "mara", f"question {n}") for n in range(102)]
        await asked.keep(connection, "mara", "question 2")
        await asked.keep(connection, "odd", "question 0")
        kept = [n for n, name in enumerate(names) if await asked.read(connection, "mara", name) is not None]
        assert kept == list(range(2, 102))
        await asked.forget(connection)
        assert await asked.read(connection, "odd", names[0]) == "question 0"
        await fetch(connection, "UPDATE nestrel.asked SET at = at - interval '3 days' WHERE user_id = 'odd'")
        await asked.forget(connection)
        assert await asked.read(connection, "odd", names[0]) is None


async def test_with_an_open_directory_everyone_finds_everyone(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_DIRECTORY="all") as served:
        mara, odd = (Person(served.wait_ready().url, unique(name), name=name) for name in ("Mara", "Odd"))
        for one in (mara, odd):
            await one.http.get("/me")
        assert await found(mara, q="odd") == [odd.user]
        assert (await mara.http.get(f"/people/{odd.user}")).status_code == 200
        assert (await mara.http.get(f"/people/{unique('nobody')}")).status_code == 404
        place = (await odd.make())["id"]
        await odd.post(place, "to myself")
        said_ = (await mara.http.get(f"/people/{odd.user}/messages")).json()
        assert said_["items"] == [], "seeing someone is not reading what they say elsewhere"


async def test_what_one_person_has_said_goes_over_conversations_in_both_directions(person: Make) -> None:
    mara, odd, tove = person(), person(), person()
    places = [(await mara.make(title=f"berth {n}", members=[odd.user]))["id"] for n in range(3)]
    hidden = (await odd.make(members=[tove.user]))["id"]
    for n in range(12):
        await odd.post(places[n % 3], f"{n}")
        await mara.post(places[n % 3], "mine")
    await odd.post(hidden, "not for mara")
    await odd.http.delete(f"/conversations/{places[0]}/messages/1")
    where, bodies = f"/people/{odd.user}/messages", [f"{n}" for n in range(1, 12)]

    async def page(**query: Any) -> dict[str, Any]:
        answer = await mara.http.get(where, params=query)
        assert answer.status_code == 200, answer.text
        found_: dict[str, Any] = answer.json()
        return found_

    first = await page(limit=4)
    assert [one["body"] for one in first["items"]] == bodies[:-5:-1]
    assert (first["newer"], set(first["profiles"])) == (None, {odd.user})
    assert first["conversations"][places[1]] == {"name": None, "title": "berth 1", "kind": "group"}
    second = await page(limit=4, cursor=first["older"])
    assert [one["body"] for one in second["items"]] == bodies[-5:-9:-1]
    back = await page(limit=4, cursor=second["newer"])
    assert (back["items"], back["newer"]) == (first["items"], None)
    last = await page(limit=50, cursor=second["older"])
    assert ([one["body"] for one in last["items"]], last["older"]) == (["3", "2", "1"], None)
    rising = await page(limit=5, order="asc")
    assert [one["body"] for one in rising["items"]] == bodies[:5]
    assert rising["older"] is None
    assert [one["body"] for one in (await page(cursor=rising["newer"]))["items"]] == bodies[5:]
    for query in ({"cursor": rising["newer"], "order": "asc"}, {"order": "up"}, {"limit": 201}):
        assert (await mara.http.get(where, params=query)).status_code == 422
    assert (await tove.http.get(f"/people/{mara.user}/messages")).status_code == 404


async def test_a_backend_lists_all_conversations_of_a_member_and_by_what_they_are_called(service: Served) -> None:
    mara, odd = Person(service.url, unique("mara")), Person(service.url, unique("odd"))
    backend = Person(service.url, unique("office"), scope="nestrel.service")
    word = unique("pier").replace("-", "")
    made = [(await mara.make(title=f"{word} Tïdes {n}", members=[odd.user] if n % 2 else []))["id"] for n in range(5)]

    async def ids(**query: Any) -> list[str]:
        listed, params = [], {"scope": "all", "limit": 2, **query}
        while True:
            answer = await backend.http.get("/conversations", params=params)
            assert answer.status_code == 200, answer.text
            listed += [one["id"] for one in answer.json()["items"]]
            if answer.json()["next"] is None:
                return listed
            params = {"limit": 2, "cursor": answer.json()["next"]}

    assert await ids(q=f"{word} tid") == made[::-1]
    assert await ids(member=odd.user) == [made[3], made[1]]
    assert await ids(q=f"{word} 4", member=odd.user) == []
    await mara.http.patch(f"/conversations/{made[0]}", json={"title": "renamed"})
    await mara.http.delete(f"/conversations/{made[1]}")
    assert await ids(q=word) == [made[4], made[3], made[2]]
    assert (await mara.http.get("/conversations", params={"scope": "all"})).status_code == 403
    for wrong in ({"member": odd.user}, {"q": "x"}, {"scope": "all", "name": "x"}):
        assert (await backend.http.get("/conversations", params=wrong)).status_code == 422


NAMES = st.lists(st.sampled_from(["Mara", "márta", "Öst", "OST", "Lund", "lunde", "東京"]), min_size=1, max_size=3)
IDS = [f"crew-{n}" for n in range(6)]


@pytest.fixture(scope="module")
async def database(make_database: Callable[[], str]) -> AsyncIterator[Database]:
    opened = Database(make_database())
    yield opened
    await opened.close()


def plain(text: str) -> str:
    folded = unicodedata.normalize("NFD", text.casefold())
    return "".join(char for char in folded if not unicodedata.combining(char))


@settings(max_examples=40, suppress_health_check=list(HealthCheck), database=None)
@given(
    named=st.dictionaries(st.sampled_from(IDS), NAMES),
    places=st.lists(st.tuples(st.sets(st.sampled_from(IDS), min_size=1), st.sets(st.sampled_from(IDS)), st.booleans())),
    viewer=st.sampled_from([*IDS, None]),
    q=st.sampled_from(["", "m", "mar", "ost", "lund", "LUNDE", "lu ma", "crew", "crew 3", "東", "z"]),
    few=st.booleans(),
)
async def test_the_directory_is_what_a_scan_finds(
    database: Database, named: dict[str, list[str]], places: list[tuple[set[str], set[str], bool]], viewer: str | None,
    q: str, few: bool,
) -> None:  # fmt: skip
    prefix = unique("p").replace("-", "")  # each example has people of its own
    name = {id_: f"{prefix} {id_} {' '.join(named.get(id_, []))}" for id_ in IDS}
    who = {id_: f"{prefix}{id_}" for id_ in IDS}
    for id_ in named:
        await profiles.first_sight(database, who[id_], name[id_], None)
    shared, known = set[tuple[str, str]](), set(named)
    for inside, gone, is_closed in places:
        owner, *rest = sorted(inside)
        place = await make_place(database, **{who[owner]: "owner"}, **{who[one]: "writer" for one in rest})
        left = (gone & inside) - {owner}
        for one in left:
            await members.end(database, Caller(who[one]), place, who[one])
        known |= inside
        if is_closed:
            await conversations.close(database, Caller(who[owner]), place)
        else:
            shared |= {(now, one) for now in inside - left for one in inside}

    def matches(id_: str) -> bool:
        called = name[id_] if id_ in named else ""
        return all(any(plain(word).startswith(plain(wanted)) for word in [*words(called), *words(who[id_])])
                   for wanted in words(q))  # fmt: skip

    visible = (
        known if viewer is None else {one for one in IDS if (one == viewer and one in known) or (viewer, one) in shared}
    )
    expected = {who[one] for one in visible if matches(one)}
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(people, "_few", AsyncMock(return_value=few))
        patch.setattr(people, "_CHUNK", 3)
        listed, after = list[str](), None
        async with database.read() as connection:
            while True:
                wanted = f"{q} {prefix}" if viewer is None else q
                page, after = await people.find(connection, viewer and who[viewer], wanted, 2, after)
                listed += page
                if after is None:
                    break
            for one in IDS:
                seen = await people.visible(connection, viewer and who[viewer], who[one])
                assert seen == (one in visible or one == viewer), one
    if viewer is None:
        expected = {who[one] for one in visible if matches(one) and (one in named or prefix in words(who[one])[0])}
    assert len(listed) == len(set(listed))
    assert set(listed) == expected


@settings(max_examples=30, suppress_health_check=list(HealthCheck), database=None)
@given(
    posts=st.lists(st.tuples(st.integers(0, 2), st.sampled_from(["mara", "odd"]), st.booleans()), max_size=20),
    size=st.integers(1, 4),
    older=st.booleans(),
    keep=st.integers(1, 6),
)
async def test_what_was_said_comes_as_a_scan_would_sort_it(
    database: Database, posts: list[tuple[int, str, bool]], size: int, older: bool, keep: int
) -> None:
    places = [await make_place(database, mara="owner", odd="writer", tove="reader") for _ in range(3)]
    viewer = unique("viewer")
    for place in places[:2]:
        await members.put(database, Caller("mara"), place, viewer, None, DEFAULT_QUOTAS)
    writer, wanted = Writer(database), list[tuple[str, str, int]]()
    for n, user, removed in posts:
        [one] = await writer.submit([Post(places[n], user, "tide")])
        if removed:
            await writer.submit([Remove(places[n], user, one.object["seq"])])
        elif user == "odd" and n < 2:
            wanted.append((one.object["created_at"], str(places[n]), one.object["seq"]))
    await retention.put(database, places[0], Rule(keep_last=keep), confirmed=True)
    async with database.read() as connection:
        floor = await connection.driver.fetchval("SELECT floor FROM nestrel.conversations WHERE id = $1", places[0])
        wanted = sorted((one for one in wanted if one[1] != str(places[0]) or one[2] >= floor), reverse=older)
        listed, after = list[tuple[str, str, int]](), None
        while True:
            page = await said.page(connection, viewer, "odd", size, older=older, after=after)
            listed += [(one["created_at"], one["conversation_id"], one["seq"]) for one in page.items]
            after = page.last
            if not page.more:
                break
    assert listed == wanted


async def test_hidden_people_cost_nothing_and_are_named_nowhere(database: Database) -> None:
    """What a question reads goes by whom one may see: as much with nobody hidden as with thousands called so."""
    await make_place(database, odd="owner", **{f"mara{n}": "writer" for n in range(20)})

    async def read() -> int:
        """Blocks that the question reads."""
        values: tuple[object, ...] = ("odd", "mara", "mara" + LAST, "", "", [], [], 11)
        async with database.read() as connection:
            found, _ = await people.find(connection, "odd", "mara", 10, None)
            assert len(found) == 10
            explained = await fetch(connection, f"EXPLAIN (ANALYZE, BUFFERS, FORMAT JSON) {people._BY_SHARED}", *values)
        plan = explained[0][0][0]["Plan"]
        return int(plan["Shared Hit Blocks"] + plan["Shared Read Blocks"])

    before = await read()
    async with database.write() as connection:
        hidden = [f"mara-hidden-{n}" for n in range(3_000)]
        fill = "INSERT INTO nestrel.person_words SELECT 'mara', u, 0 FROM unnest($1::text[]) u"
        await execute(connection, fill, hidden)
    assert (
        await read() < 1.5 * before
    )  # whose trees are a step deeper now; one block for each of them would be 3,000 more


def test_a_page_cursor_says_nothing_of_where_it_goes_on() -> None:
    seal = CursorSeal(b"a key of the test's own")
    for key in ("mara-hidden", "", "x", "\U0001f6a2" * 64, "é" * 128):
        token = seal.listing("odd", "people", key)
        raw = base64.urlsafe_b64decode(token + "=" * (-len(token) % 4))
        assert key.encode() not in raw or not key
        assert seal.open_listing("odd", "people", token) == key
        for wrong in (("mara", "people"), ("odd", "members")):
            with pytest.raises(ValueError, match="cursor"):
                seal.open_listing(*wrong, token)
        for n in range(len(token)):
            changed = token[:n] + ("A" if token[n] != "A" else "B") + token[n + 1 :]
            with pytest.raises(ValueError, match="cursor"):
                seal.open_listing("odd", "people", changed)
