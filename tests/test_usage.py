"""Usage and connections: exact to the command, over processes, and through a kill."""

from __future__ import annotations

import asyncio
import csv
import io
import json
import re
import time
from collections.abc import Callable
from contextlib import AsyncExitStack
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import uuid4

from nestrel import __version__, build
from nestrel.core.usage import EDITS, POSTS, Counted, Followed, Follows, Meter, Peaks
from nestrel.store.database import Database
from nestrel.store.write import connections, rates, usage
from nestrel.store.write.connections import Open
from tests.support import Person, Served, once, own_cluster, unique


async def used(office: Person, **query: str) -> list[dict[str, Any]]:
    answer = await office.http.get("/usage", params=query)
    assert answer.status_code == 200, answer.text
    items: list[dict[str, Any]] = answer.json()["items"]
    return items


async def until_used(office: Person, enough: Callable[[dict[str, Any]], bool], **query: str) -> dict[str, Any]:
    """The sums of a question, once they are as they should become; an hour may end meanwhile."""

    async def sums() -> dict[str, Any]:
        items = await used(office, **query)
        fields = ("posts", "edits", "removals", "reactions", "receipts", "deliveries")
        most = ("people", "connections_peak", "stored_bytes")
        return {field: sum(item[field] for item in items) for field in fields} | {
            field: max((item[field] for item in items), default=0) for field in most
        }

    return await once(sums, enough)


async def test_every_command_counts_once_whatever_its_door_and_process(make_database: Callable[[], str]) -> None:
    database = make_database()
    with Served(database) as one, Served(database) as two:
        office = Person(one.wait_ready().url, "office", scope="nestrel.service")
        mara, odd = Person(one.url, "mara"), Person(two.wait_ready().url, "odd")
        place = (await mara.make(members=["odd"]))["id"]
        here = f"/conversations/{place}"
        async with odd.socket() as wire:
            await wire.command(type="follow", conversation_id=place)
            for n in range(3):
                await mara.post(place, "abcde", key=f"k{n}")
            await mara.post(place, "abcde", key="k0")  # a repeat is none
            await odd.http.post(
                f"{here}/messages/batch", json={"messages": [{"key": "b", "body": "x"}, {"key": "c", "body": "y"}]}
            )
            await wire.command(type="post", conversation_id=place, key="w", body="z")
            await mara.http.patch(f"{here}/messages/1", json={"body": "abcdef"})
            await mara.http.delete(f"{here}/messages/2")
            await odd.http.put(f"{here}/messages/1/reactions/like")
            await wire.command(type="read", conversation_id=place, read_seq=6)
            await wire.messages(6)
            sums = await until_used(
                office, lambda sums: sums["posts"] >= 6 and sums["receipts"] >= 1 and sums["connections_peak"] >= 1
            )
        assert {**sums, "deliveries": 0} == {
            "posts": 6, "edits": 1, "removals": 1, "reactions": 1, "receipts": 1, "deliveries": 0, "people": 2,
            "connections_peak": 1, "stored_bytes": 14,
        }  # fmt: skip
        assert sums["deliveries"] >= 1
        of_place = await until_used(office, lambda s: s["posts"] == 6, of="conversation", id=place)
        assert (of_place["deliveries"], of_place["people"], of_place["stored_bytes"]) == (sums["deliveries"], 2, 14)
        assert of_place["connections_peak"] == 1
        of_odd = await until_used(office, lambda s: s["posts"] == 3, of="person", id="odd", by="day")
        assert (of_odd["deliveries"], of_odd["reactions"], of_odd["connections_peak"]) == (sums["deliveries"], 1, 1)
        assert [one["id"] for one in await used(office, of="person")] == ["mara", "odd"]
        table = await office.http.get("/usage", params={"of": "person"}, headers={"Accept": "text/csv"})
        assert table.headers["content-type"].startswith("text/csv")
        rows = list(csv.DictReader(io.StringIO(table.text)))
        assert {row["id"]: (row["posts"], row["stored_bytes"]) for row in rows} == {
            "mara": ("3", "11"),
            "odd": ("3", "3"),
        }
        first = (await office.http.get("/usage", params={"of": "person", "limit": 1})).json()
        rest = (await office.http.get("/usage", params={"cursor": first["next"]})).json()
        assert [one["id"] for one in first["items"] + rest["items"]] == ["mara", "odd"]
        hour = datetime.now(UTC).replace(minute=0, second=0, microsecond=0)
        assert (
            await used(office, to=hour.isoformat().replace("+00:00", "Z"), **{"from": "2020-01-01T00:00:00Z"}) == []
            or datetime.now(UTC).minute < 2
        )
        for who, query, status in (
            (mara, {}, 403),
            (office, {"id": "x"}, 422),
            (office, {"of": "conversation", "id": "x"}, 422),
        ):
            assert (await who.http.get("/usage", params=query)).status_code == status


async def test_what_was_told_is_kept_through_a_kill_and_never_told_twice(make_database: Callable[[], str]) -> None:
    database = make_database()
    with Served(database) as served:
        mara = Person(served.wait_ready().url, "mara")
        office = Person(served.url, "office", scope="nestrel.service")
        place = (await mara.make())["id"]
        for n in range(5):
            await mara.post(place, f"{n}")
        await until_used(office, lambda sums: sums["posts"] == 5)
        served.kill()
        served.restart().wait_ready()
        await mara.post(place, "after")
        await until_used(office, lambda sums: sums["posts"] == 6)
        served.stop()  # what it has counted since goes out with it
        served.restart().wait_ready()
        assert (await until_used(office, lambda sums: sums["posts"] >= 6))["posts"] == 6


async def test_the_peak_of_a_conversation_is_of_all_processes_and_of_its_hour(make_database: Callable[[], str]) -> None:
    database = make_database()
    with Served(database) as one, Served(database) as two:
        office = Person(one.wait_ready().url, "office", scope="nestrel.service")
        mara, odd = Person(one.url, "mara"), Person(two.wait_ready().url, "odd")
        place = (await mara.make(members=["odd"]))["id"]
        async with mara.socket() as here, odd.socket() as far:
            for wire in (here, far):
                await wire.command(type="follow", conversation_id=place)
            await mara.post(place, "one")
            await until_used(office, lambda sums: sums["connections_peak"] == 2, of="conversation", id=place)
        await mara.post(place, "two")
        sums = await until_used(office, lambda sums: sums["posts"] == 2, of="conversation", id=place)
        assert sums["connections_peak"] == 2


async def test_a_peak_of_before_the_first_message_of_an_hour_is_of_that_hour(database: Database) -> None:
    place, hour = uuid4(), 3600.0 * 500_000
    steps = [("a", 3, 10.0), ("b", 2, 3610.0), ("a", 1, 3620.0), ("b", 0, 7210.0), ("a", 0, 7220.0)]
    for node, n, at in steps:
        await usage.follow(database, node, {place: Followed(n, n)}, hour + at)
    counted = Counted(int(hour) + 7200)
    counted.commands[place, "mara"] = [1, 0, 0, 0, 0]
    await usage.add(database, "a", 1, [counted], {}, hour + 7300)
    async with database.read() as connection:
        [(peak,)] = await connection.driver.fetch("SELECT connections_peak FROM nestrel.usage_places")
        left = await connection.driver.fetch("SELECT FROM nestrel.usage_follows")
    assert (peak, left) == (3, [])  # 1 and 2 stood when the hour began; in the hour before they were 5


async def test_an_addition_that_is_sent_again_is_made_once(database: Database) -> None:
    counted = Counted(3600)
    counted.commands[uuid4(), "mara"] = [7, 0, 0, 0, 0]
    for n in (1, 1, 2):
        await usage.add(database, "node", n, [counted], {}, 3700.0)
    async with database.read() as connection:
        [(posts,)] = await connection.driver.fetch("SELECT posts FROM nestrel.usage_commands")
    assert posts == 14


async def test_what_is_older_than_it_is_kept_for_is_forgotten(database: Database) -> None:
    now = time.time()
    places = {age: uuid4() for age in (399, 401)}
    for n, (age, place) in enumerate(places.items(), 1):
        hour = int((now - age * 86_400) // 3600 * 3600)
        counted = Counted(hour)
        counted.commands[place, "mara"] = [1, 0, 0, 0, 0]
        await usage.add(database, "node", n, [counted], {}, hour + 10.0)
    await usage.forget(database, 400)
    async with database.read() as connection:
        for table in ("usage_commands", "usage_places"):
            left = await connection.driver.fetch(f"SELECT DISTINCT conversation_id FROM nestrel.{table}")
            assert left == [(places[399],)], table


def test_the_hour_of_a_command_is_that_in_which_it_was_done() -> None:
    meter, place = Meter(), uuid4()
    for kind, now in ((POSTS, 7199.9), (POSTS, 7200.0), (EDITS, 7300.0), (POSTS, 7199.0)):
        meter.command(kind, place, "mara", now)
    taken = {counted.hour: counted.commands[place, "mara"] for counted in meter.take()}
    assert taken == {3600: [2, 0, 0, 0, 0], 7200: [1, 1, 0, 0, 0]}
    assert meter.take() == []


def test_a_peak_is_seen_however_short_it_was() -> None:
    peaks = Peaks()
    assert [peaks.seen({"mara": n}, hour) for n, hour in ((2, 0), (1, 0), (3, 0), (1, 1))] == [
        {"mara": 2}, {}, {"mara": 3}, {"mara": 1},
    ]  # fmt: skip
    for n in (4, 3, 2):  # all gone before anybody looks
        peaks.left.note("odd", n)
    peaks.left.note("mara", 1)
    assert peaks.seen({"mara": 2}, 1) == {"odd": 4, "mara": 2}
    assert peaks.seen({"mara": 2}, 1) == {}
    a, b = uuid4(), uuid4()
    follows = Follows()
    follows.left.note(a, 5)
    news = follows.news({a: 1, b: 2}, 10)
    assert news == {a: Followed(1, 5), b: Followed(2, 2)}
    follows.told(news)
    assert follows.news({a: 1, b: 2}, 10) == {}
    follows.left.note(b, 2)  # as many as the others were told of
    follows.left.note(a, 3)
    assert follows.news({a: 1}, 10) == {b: Followed(0, 0), a: Followed(1, 3)}


async def test_who_goes_from_one_process_to_another_was_never_at_both(database: Database) -> None:
    async def listed(node: str, *since: float) -> None:
        present = [
            Open(f"{node}{n}", "mara", datetime.now(UTC) - timedelta(seconds=at), "socket", 0, 0)
            for n, at in enumerate(since)
        ]
        await rates.beat(database, node)
        await connections.tell(database, node, present, ())

    async def at_once(node: str) -> int:
        async with database.read() as connection:
            [n] = await connections.elsewhere_at_once(connection, ["mara"], node)
        return n

    await listed("a", 30, 20)
    await listed("b", 10)
    assert (await at_once("a"), await at_once("b")) == (1, 2)
    await listed("c", 0)  # which has come after all that the others have told: from one of them, maybe
    assert (await at_once("a"), await at_once("c")) == (0, 0)
    async with database.read() as connection:
        await connection.driver.execute("UPDATE nestrel.connections SET since = since - interval '10 s'")
        await connection.driver.execute("UPDATE nestrel.processes SET beat_at = beat_at - interval '20 s'")
    assert await at_once("c") == 0  # nobody has told of theirs since
    await connections.tell(database, "a", [], ["a1"])
    assert await at_once("c") == 1
    await connections.tell(database, "b", [], [])
    assert await at_once("c") == 2


async def test_the_peak_of_a_person_is_of_all_their_connections(make_database: Callable[[], str]) -> None:
    database = make_database()
    with Served(database) as one, Served(database) as two:
        office = Person(one.wait_ready().url, "office", scope="nestrel.service")
        two.wait_ready()
        mara = [Person(at.url, "mara") for at in (one, one, two, two)]
        odd = Person(two.url, "odd")
        async with AsyncExitStack() as briefly:
            for _ in range(5):
                await briefly.enter_async_context(odd.socket())
        async with AsyncExitStack() as stack:
            for who in mara:
                await stack.enter_async_context(who.socket())
            await until_used(office, lambda sums: sums["connections_peak"] == 4, of="person", id="mara")
            one.kill()  # those that were there are not counted with those that come
            for who in mara[2:]:
                await stack.enter_async_context(who.socket())
            there = Person(two.url, "office", scope="nestrel.service")
            await until_used(there, lambda sums: sums["connections_peak"] == 5, of="person", id="odd")
            await mara[2].http.post("/conversations", json={})
            place = (await mara[2].make())["id"]
            await mara[2].post(place, "a later addition")
            sums = await until_used(there, lambda sums: sums["posts"] == 1, of="person", id="mara")
            assert sums["connections_peak"] == 4
            shown = (await there.http.get(f"{two.url}/metrics")).text
            assert float(re.findall(r"^nestrel_usage_behind_seconds(?:\{.*\})? (\S+)", shown, re.M)[0]) < 60


async def test_who_is_connected_is_listed_and_can_be_ended_on_whatever_process(
    make_database: Callable[[], str],
) -> None:
    database = make_database()
    with Served(database, NESTREL_QUOTA_CONNECTIONS="2") as one, Served(database, NESTREL_QUOTA_CONNECTIONS="2") as two:
        office = Person(one.wait_ready().url, "office", scope="nestrel.service")
        mara, there = Person(one.url, "mara"), Person(two.wait_ready().url, "mara")

        async def listing() -> list[dict[str, Any]]:
            return list((await office.http.get("/connections")).json()["items"])

        async def listed(*follows: int) -> list[dict[str, Any]]:
            return await once(listing, lambda found: sorted(item["follows"] for item in found) == list(follows))

        place = (await mara.make())["id"]
        async with mara.socket() as here, there.socket() as far:
            await far.command(type="follow", conversation_id=place)
            found = await listed(0, 1)
            assert {(item["user_id"], item["kind"], item["behind"]) for item in found} == {("mara", "socket", 0)}
            assert len({item["process"] for item in found}) == 2
            # The quota is of all processes together; known within some seconds.
            await once(lambda: _full(there), bool)
            other = next(item for item in found if item["follows"] == 1)
            assert (await office.http.delete(f"/connections/{other['connection_id']}")).status_code == 204
            await asyncio.wait_for(far.raw.wait_closed(), 60)
            assert far.raw.close_code == 4410
            assert (await here.command(type="ping"))["type"] == "done"
            await listed(0)
        await listed()
        assert (await office.http.delete(f"/connections/{unique('none')}")).status_code == 204
        assert (await mara.http.get("/connections")).status_code == 403
        two.kill()


async def test_a_process_tells_its_lists_again_when_the_database_has_lost_them() -> None:
    async with own_cluster("fallen") as postgres:
        with Served(postgres.url("fallen")) as served:
            mara = Person(served.wait_ready().url, "mara")
            office = Person(served.url, "office", scope="nestrel.service")

            async def listing() -> list[dict[str, Any]] | None:
                answer = await office.http.get("/connections")
                return list(answer.json()["items"]) if answer.status_code == 200 else None

            async with mara.socket():
                before = await once(listing, bool)
                port = postgres.port
                postgres.stop("immediate")  # what is of passing worth is gone with it
                postgres.start(port)
                assert await once(listing, lambda found: found is not None) == before, "the first answer is whole"


async def _full(who: Person) -> bool:
    """Whether one more connection is refused."""
    async with who.http.stream("GET", "/stream") as answer:
        return answer.status_code == 403 and json.loads(await answer.aread())["quota"] == "connections"


async def test_a_backend_is_told_what_runs(service: Served, person: Callable[..., Person]) -> None:
    office = person(scope="nestrel.service")
    found = (await office.http.get("/service")).json()
    assert (found["version"], found["revision"], found["commit"]) == (__version__, build.schema(), build.commit())
    assert found["epoch"].isdigit()
    assert (await office.http.get("/service")).json()["epoch"] == found["epoch"]
    assert (await person().http.get("/service")).status_code == 403
