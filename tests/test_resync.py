"""Away and back: the all cursor, the map of cursors, the bound of a catch-up, and what a return may show to whom."""

from __future__ import annotations

import asyncio
import random
from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Any
from uuid import UUID

import asyncpg
import pytest
from sqlalchemy.engine import make_url

from nestrel.core.cursors import AllPosition, CursorSeal
from tests.copies import Copies
from tests.support import PATIENCE, Person, Served, unique

Make = Callable[..., Person]


async def test_a_return_costs_what_changed_and_misses_nothing(person: Make) -> None:
    mara, odd = person(), person("odd")
    places = [(await mara.make(title=f"t{n}", members=[odd.user]))["id"] for n in range(12)]
    for place in places:
        await mara.fill(place, 5)
    copies = Copies(odd)
    assert len(await copies.resync()) == 12
    assert copies.answers[0]["reset"]
    assert set(copies.answers[0]["joined"]) == set(places)
    await copies.check()
    assert await copies.resync() == []
    assert not copies.answers[0]["reset"]

    await mara.post(places[0], "new")
    await mara.http.patch(f"/conversations/{places[1]}/messages/2", json={"body": "edited"})
    await mara.http.delete(f"/conversations/{places[2]}/messages/3")
    await mara.http.put(f"/conversations/{places[3]}/messages/4/reactions/like")
    await mara.http.put(f"/conversations/{places[4]}/receipt", json={"read_seq": 5})
    await mara.http.patch(f"/conversations/{places[5]}", json={"title": "renamed"})
    await mara.http.delete(f"/conversations/{places[6]}/members/{odd.user}")
    await odd.http.delete(f"/conversations/{places[7]}/members/me")
    await mara.http.delete(f"/conversations/{places[8]}")
    fresh = (await mara.make(title="fresh", members=[odd.user]))["id"]
    await mara.post(fresh, "welcome")
    for _ in range(2):  # out and in again: a copy of before is of no use
        await mara.http.delete(f"/conversations/{places[9]}/members/{odd.user}")
        await mara.post(places[9], "while odd was out")
        await mara.http.put(f"/conversations/{places[9]}/members/{odd.user}", json={})
    items = {item["conversation_id"]: item for item in await copies.resync()}
    answer = copies.answers[0]
    assert set(items) == {*places[:6], places[9], fresh}
    assert set(answer["gone"]) == set(places[6:9])
    assert set(answer["joined"]) == {places[9], fresh}
    assert {id_ for id_, item in items.items() if item["reset"]} == {places[9], fresh}
    rows = {id_: [row["seq"] for row in item["messages"]] for id_, item in items.items()}
    assert [rows[place] for place in places[:6]] == [[6], [2], [3], [4], [], []]
    assert [row["user_id"] for row in items[places[4]]["members"]] == [mara.user]
    await copies.check()
    assert await copies.resync() == []
    assert len(copies.cursor or "") <= 400


async def test_a_hundred_edits_cost_one_row(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    await mara.fill(place, 3)
    copies = Copies(mara)
    await copies.resync()
    for n in range(100):
        await mara.http.patch(f"/conversations/{place}/messages/2", json={"body": f"edit {n}"})
    (item,) = await copies.resync()
    assert [(row["seq"], row["body"]) for row in item["messages"]] == [(2, "edit 99")]
    assert item["members"] == []


async def test_a_late_commit_is_not_skipped(service_database: str, own: Served) -> None:
    """A transaction that was under way when the cursor was taken, and commits behind later ones, is told of."""
    mara = Person(own.url, unique("mara"))
    slow, quick = (await mara.make(title="slow"))["id"], (await mara.make())["id"]
    copies = Copies(mara)
    raw = await asyncpg.connect(make_url(service_database).render_as_string(hide_password=False))
    try:
        transaction = raw.transaction()
        await transaction.start()
        await raw.execute(
            "UPDATE nestrel.conversations SET title = 'late', rev = rev + 1, own_rev = rev + 1, "
            "moved_xid = pg_current_xact_id() WHERE id = $1",
            UUID(slow),
        )
        await mara.post(quick, "committed at once")
        await copies.resync()
        assert copies.held[slow].conversation is not None
        shown = copies.held[slow].conversation
        assert shown is not None
        assert shown.title == "slow"
        await mara.post(quick, "and one more")
        assert {item["conversation_id"] for item in await copies.resync()} == {quick}
        await transaction.commit()
    finally:
        await raw.close()
    assert {item["conversation_id"] for item in await copies.resync()} == {slow}
    await copies.check()


async def test_whoever_writes_elsewhere_makes_nobody_repeat_a_row(
    make_database: Callable[[], str], service_database: str, own: Served
) -> None:
    """More transactions are open in other databases of the cluster, and of a role that may not write here, than a
    cursor holds; and one of the service's own role, which is waited for."""
    mara = Person(own.url, unique("mara"))
    place = (await mara.make())["id"]
    guest = unique("guest").replace("-", "_")
    url = make_url(service_database)
    opened: list[asyncpg.Connection[Any]] = []
    elsewhere = make_database()

    async def open_one(address: str, **who: Any) -> None:
        raw = await asyncpg.connect(address, **who)
        opened.append(raw)
        await raw.execute("BEGIN")
        await raw.execute("SELECT pg_current_xact_id()")

    here = url.render_as_string(hide_password=False)
    try:
        opened.append(await asyncpg.connect(here))
        await opened[0].execute(f"CREATE ROLE {guest} LOGIN PASSWORD '{guest}'")
        await open_one(here)
        for _ in range(4):
            await open_one(here, user=guest, password=guest)
        for _ in range(60):
            await open_one(elsewhere)
        ours = int(await opened[1].fetchval("SELECT pg_current_xact_id()::text"))
        await mara.post(place, "behind them all")  # a snapshot ends at the last one that is over
        key = await opened[0].fetchval("SELECT value FROM nestrel.service_secrets WHERE name = 'cursor'")
        seal = CursorSeal(bytes(key))
        async with asyncio.timeout(PATIENCE):
            while True:  # they are told apart at the second checkpoint that they last to
                copies = Copies(mara)
                await copies.resync()
                assert copies.cursor is not None
                at = seal.open_all(mara.user, copies.cursor)
                assert isinstance(at, AllPosition)
                if at.running == (ours,):
                    break
        await mara.fill(place, 20)
        assert sum(len(item["messages"]) for item in await copies.resync()) == 20
        await mara.post(place, "one more")
        assert [row["body"] for item in await copies.resync() for row in item["messages"]] == ["one more"]
        await copies.check()
    finally:
        for raw in opened:
            await raw.close()


async def test_any_mixture_of_changes_and_returns_ends_in_the_servers_state(person: Make) -> None:
    """Random changes by two members, and returns at random moments, the answers paged as they come."""
    dice = random.Random(20_261_125)
    mara, odd = person(), person("odd")
    places = [(await mara.make(members=[odd.user]))["id"] for _ in range(6)]
    copies = Copies(odd)
    for _ in range(40):
        for _ in range(dice.randrange(12)):
            place = dice.choice(places)
            what = dice.randrange(8)
            head = (await mara.http.get(f"/conversations/{place}")).json()["head"]
            seq = dice.randint(1, max(1, head))
            where = f"/conversations/{place}/messages/{seq}"
            if what <= 2:
                await mara.fill(place, dice.choice([1, 3, 70]))
            elif what == 3:
                await mara.http.patch(where, json={"body": f"edit {dice.random()}"})
            elif what == 4:
                await mara.http.delete(where)
            elif what == 5:
                await odd.http.put(f"{where}/reactions/like")
            elif what == 6:
                await mara.http.delete(f"/conversations/{place}/members/{odd.user}")
            else:
                await mara.http.put(f"/conversations/{place}/members/{odd.user}", json={})
        await copies.resync()
        await copies.check()


async def test_a_large_resync_comes_in_parts_that_leave_nothing_out(person: Make) -> None:
    mara, odd = person(), person("odd")
    places = [(await mara.make(members=[odd.user]))["id"] for _ in range(5)]
    copies = Copies(odd)
    await copies.resync()
    for place in places:
        await mara.fill(place, 1_500)
    items = await copies.resync()
    assert len(copies.answers) >= 4
    assert all(len(answer["cursor"]) <= 400 for answer in copies.answers)
    for place in places:
        seqs = [row["seq"] for item in items if item["conversation_id"] == place for row in item["messages"]]
        assert seqs == list(range(1, 1_501))
    # A client that is cut in the middle keeps the cursor of the part that it got, and goes on from there.
    for place in places:
        await mara.fill(place, 1_500)
    part = (await odd.http.post("/resync", json={"cursor": copies.cursor})).json()
    assert part["more"]
    for item in part["items"]:
        copies.apply(item)
    copies.cursor = part["cursor"]
    await mara.post(places[0], "meanwhile")
    await copies.resync()
    for place, replica in copies.held.items():
        assert sorted(replica.messages) == list(range(1, replica.head + 1))
        assert replica.head == (3_001 if place == places[0] else 3_000)


async def test_a_map_of_cursors_does_the_same(person: Make) -> None:
    mara, odd = person(), person("odd")
    still, moved, left = [(await mara.make(members=[odd.user]))["id"] for _ in range(3)]
    cursors = {
        place: (await odd.http.get(f"/conversations/{place}/changes")).json()["cursor"]
        for place in (still, moved, left)
    }
    await mara.post(moved, "moved")
    await odd.http.delete(f"/conversations/{left}/members/me")
    fresh = (await mara.make(members=[odd.user]))["id"]
    answer = (await odd.http.post("/resync", json={"conversations": cursors})).json()
    assert {item["conversation_id"]: item["reset"] for item in answer["items"]} == {moved: False, fresh: True}
    assert (answer["joined"], answer["gone"], answer["more"]) == ([fresh], [left], False)
    after = (await odd.http.post("/resync", json={"cursor": answer["cursor"]})).json()
    assert (after["items"], after["joined"], after["gone"]) == ([], [], [])
    held = {item["conversation_id"]: item["cursor"] for item in answer["items"]}
    again = (await odd.http.post("/resync", json={"conversations": {still: cursors[still], **held}})).json()
    assert (again["items"], again["joined"], again["gone"]) == ([], [], [])

    bad = await odd.http.post("/resync", json={"conversations": {still: cursors[still], moved: cursors[still]}})
    assert bad.status_code == 422
    assert bad.json()["errors"][0]["pointer"] == f"/conversations/{moved}"
    for body in (
        {"conversations": cursors, "cursor": answer["cursor"]},
        {"cursor": cursors[still]},
        {"cursor": answer["cursor"][:-1] + ("A" if answer["cursor"][-1] != "A" else "B")},
        {"conversations": {"x": "y"}},
        {"conversations": {str(UUID(int=n)): "x" for n in range(1_001)}},
    ):
        refused = await odd.http.post("/resync", json=body)
        assert refused.status_code == 422, body
        assert refused.json()["type"] == "/problems/invalid-request"
    assert (await mara.http.post("/resync", json={"cursor": answer["cursor"]})).status_code == 422


async def test_a_snapshot_of_a_state_that_was_lost_begins_anew(service_database: str, own: Served) -> None:
    """As after a restore from an older copy: the cursor knows transactions that this database has never seen."""
    mara = Person(own.url, unique("mara"))
    place = (await mara.make())["id"]
    copies = Copies(mara)
    await copies.resync()
    gone = (await mara.make())["id"]
    later = (await mara.http.get("/conversations")).json()["cursor"]
    await copies.resync()
    assert set(copies.held) == {place, gone}
    raw = await asyncpg.connect(make_url(service_database).render_as_string(hide_password=False))
    try:
        key = await raw.fetchval("SELECT value FROM nestrel.service_secrets WHERE name = 'cursor'")
        await raw.execute("DELETE FROM nestrel.members WHERE conversation_id = $1", UUID(gone))
    finally:
        await raw.close()
    seal = CursorSeal(key)
    at = seal.open_all(mara.user, later)
    assert isinstance(at, AllPosition)
    for lost in (replace(at, epoch=at.epoch ^ 1), replace(at, xmax=at.xmax + 2**20), replace(at, lsn=at.lsn + 2**30)):
        copies.cursor = seal.all(mara.user, lost)
        await copies.resync()
        assert copies.answers[0]["reset"]
        assert set(copies.held) == {place}
        async with mara.socket() as wire:
            done = await wire.command(type="follow_all", cursor=seal.all(mara.user, lost))
            assert done["reset"]
            assert (await wire.get())["reset"]


@pytest.fixture(scope="module")
def service_database(make_database: Callable[[], str]) -> str:
    return make_database()


@pytest.fixture(scope="module")
def own(service_database: str) -> Iterator[Served]:
    """A service whose catch-ups end at 50 rows, with checkpoints at once."""
    env: dict[str, Any] = {"NESTREL_CATCH_UP_ROWS": "50", "NESTREL_CHECKPOINT_SECONDS": "0.1"}
    with Served(service_database, **env) as served:
        yield served.wait_ready()


async def test_a_catch_up_beyond_the_bound_begins_at_the_newest_page(own: Served) -> None:
    mara = Person(own.url, unique("mara"))
    place = (await mara.make())["id"]
    copies = Copies(mara)
    await copies.resync()
    cursor = copies.held[place].cursor
    await mara.fill(place, 50)
    (item,) = await copies.resync()
    assert not item["reset"]
    assert [row["seq"] for row in item["messages"]] == list(range(1, 51))
    changes = (await mara.http.get(f"/conversations/{place}/changes", params={"cursor": cursor})).json()
    assert not changes["reset"]
    await mara.fill(place, 51)
    (item,) = await copies.resync()
    assert item["reset"]
    assert [row["seq"] for row in item["messages"]] == list(range(52, 102))
    assert item["conversation"]["head"] == 101
    changes = (await mara.http.get(f"/conversations/{place}/changes", params={"cursor": cursor, "limit": 10})).json()
    assert changes["reset"]
    assert [row["seq"] for row in changes["messages"]] == list(range(92, 102))
    async with mara.socket() as wire:
        await wire.command(type="follow", conversation_id=place, cursor=cursor)
        assert (await wire.get())["reset"]
    for n in range(60):  # many changes of few rows are not many rows
        await mara.http.patch(f"/conversations/{place}/messages/1", json={"body": f"{n}"})
    (item,) = await copies.resync()
    assert not item["reset"]
    assert [row["body"] for row in item["messages"]] == ["59"]


async def test_who_was_removed_learns_nothing_of_what_came_after_by_any_way(person: Make) -> None:
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    copies = Copies(odd)
    await copies.resync()
    cursor = copies.held[place].cursor
    await mara.http.delete(f"/conversations/{place}/members/{odd.user}")
    await mara.post(place, "not for odd")
    stream = f"/conversations/{place}/stream"
    for answer in (
        await odd.http.get(f"/conversations/{place}/changes", params={"cursor": cursor}),
        await odd.http.get(f"/conversations/{place}/changes", params={"cursor": cursor, "wait": 1}),
        await odd.http.get(stream, params={"cursor": cursor}),
        await odd.http.get(stream, headers={"Last-Event-ID": cursor or ""}),
    ):
        assert answer.status_code == 404
    mapped = (await odd.http.post("/resync", json={"conversations": {place: cursor}})).json()
    assert (mapped["items"], mapped["gone"]) == ([], [place])
    async with odd.socket() as wire:
        refused = await wire.command(type="follow", conversation_id=place, cursor=cursor)
        assert refused["problem"]["status"] == 404
        await wire.command(type="follow_all", cursor=copies.cursor)
        assert await wire.get() == {"type": "unfollowed", "conversation_id": place, "reason": "removed"}
        await wire.quiet()
    assert await copies.resync() == []
    assert copies.held == {}


async def test_a_rate_counts_commands_and_not_who_comes_back(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_RATE_LIMIT="3") as served:
        served.wait_ready()
        mara = Person(served.url, unique("mara"))
        place = (await mara.make())["id"]
        answers = [await mara.post(place, "x") for _ in range(3)]
        assert [answer.status_code for answer in answers] == [201, 201, 429]
        assert answers[-1].json()["type"] == "/problems/slow-down"
        assert int(answers[-1].headers["Retry-After"]) > 0
        assert (await mara.http.post("/resync", json={})).status_code == 200
        assert (await mara.http.get(f"/conversations/{place}/changes")).status_code == 200
