"""One fault takes no others with it: the store's troubles told apart, locks that somebody holds, tasks that die."""

from __future__ import annotations

import asyncio
import json
import os
from collections.abc import Sequence
from contextlib import AsyncExitStack, suppress
from typing import Any
from uuid import UUID, uuid4

import asyncpg
import pytest
from sqlalchemy.engine import make_url

from nestrel.core.callers import Caller
from nestrel.core.commands import Edit, Post
from nestrel.core.cursors import AllPosition, ChangePosition, CursorSeal
from nestrel.core.problems import StoreUnavailable, Trouble
from nestrel.live.checkpoints import Checkpoints
from nestrel.live.deliveries import Checkpoint, Delivery
from nestrel.live.following import Following
from nestrel.live.hub import Hub
from nestrel.live.moves import Moves
from nestrel.live.returns import Returns
from nestrel.live.source import StoreSource
from nestrel.store import troubles
from nestrel.store.database import Database
from nestrel.store.native import fetch
from nestrel.store.write import apply, profiles
from nestrel.store.write.writer import Writer
from tests.forked import nestrel
from tests.support import PATIENCE, Person, Served, make_place, own_cluster, unique, until

pytestmark = pytest.mark.whole


async def test_a_pool_that_is_full_and_a_slow_statement_are_no_outage(
    url: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("nestrel.store.database._WAIT_SECONDS", 0.05)
    database = Database(url, pool_size=2)
    try:
        one, two = await database.take(), await database.take()
        with pytest.raises(StoreUnavailable) as busy:
            async with database.read():
                raise AssertionError("there was no connection left")
        assert (busy.value.reason, busy.value.extra["reason"]) == (Trouble.BUSY, "busy")
        database.give_back(one)
        kept = two.driver
        database.give_back(two)
        with pytest.raises(StoreUnavailable) as slow:
            async with database.read() as connection:
                await fetch(connection, "SET statement_timeout = '20ms'")
                await fetch(connection, "SELECT pg_sleep(1)")
        assert slow.value.reason is Trouble.SLOW
        assert not kept.is_closed()
        assert len(database._idle) == 2, "connections were thrown away for one that was slow"
    finally:
        await database.close()


async def test_a_process_that_freezes_as_it_writes_holds_a_conversation_for_a_moment(database: Database) -> None:
    """And no longer than it takes to notice that it is frozen; what reads for somebody slow has its time."""
    place = await make_place(database, mara="owner")
    writer = Writer(database)
    async with database.snapshot(patient=True) as reading:
        with pytest.raises(StoreUnavailable):
            async with database.write() as frozen:
                await fetch(frozen, "SELECT FROM nestrel.conversations WHERE id = $1 FOR UPDATE", place)
                taken = False
                while not taken:
                    with suppress(StoreUnavailable):  # it is locked
                        taken = bool(await writer.submit([Post(place, "mara", "behind it", key="a key")]))
                await fetch(frozen, "SELECT")
        assert await fetch(reading, "SELECT count(*) FROM nestrel.messages WHERE conversation_id = $1", place)


async def test_a_connection_in_use_at_the_close_ends_with_its_use(url: str) -> None:
    database = Database(url)
    async with database.read() as connection:
        await database.close()
        assert (await fetch(connection, "SELECT 1"))[0][0] == 1
    assert connection.driver.is_closed()


async def test_a_database_that_takes_no_writes_is_not_ready_and_says_why(
    url: str, stranger: asyncpg.Connection[Any]
) -> None:
    with Served(url) as served:
        mara = Person(served.wait_ready().url, unique("mara"))
        place = (await mara.make())["id"]
        name = make_url(url).database
        await stranger.execute(f'ALTER DATABASE "{name}" SET default_transaction_read_only = on')
        await stranger.execute(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name LIKE 'nestrel%' "
            "AND datname = current_database()"
        )
        answer = await mara.post(place)
        while answer.json().get("reason") == "away":  # the connections that were cut
            answer = await mara.post(place)
        assert (answer.status_code, answer.json()["reason"]) == (503, "read-only")
        assert int(answer.headers["retry-after"]) > 0
        ready = await mara.http.get(served.url + "/readyz")
        assert (ready.status_code, ready.json()["reason"]) == (503, "read-only")
        assert (ready.headers["content-type"], "retry-after" in ready.headers) == ("application/problem+json", True)
        assert (await mara.page(place))["head"] == 0
        await stranger.execute(f'ALTER DATABASE "{name}" SET default_transaction_read_only = off')
        await stranger.execute(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name LIKE 'nestrel%' "
            "AND datname = current_database()"
        )
        await asyncio.to_thread(served.wait_ready)


def test_every_error_of_the_driver_s_own_has_a_meaning() -> None:
    """By name: an upgrade of the driver that brings a new kind of error is noticed here."""
    own = {
        name
        for name in dir(asyncpg.exceptions)
        if isinstance(kind := getattr(asyncpg.exceptions, name), type)
        and issubclass(kind, Exception)
        and not issubclass(kind, (asyncpg.PostgresError, Warning))
    }
    meant = {name for name in own if troubles.reason_of(_made(name)) is not None}
    assert own - meant == {"ClientConfigurationError", "UnsupportedClientFeatureError"}
    for state, reason in (
        ("57P01", "away"),
        ("53100", "full"),
        ("53300", "busy"),
        ("58030", "full"),
        ("40P01", "locked"),
    ):
        error = asyncpg.PostgresError("x")
        error.sqlstate = state  # type: ignore[misc]  # as the driver sets it on a kind that it does not know
        assert troubles.reason_of(error) == reason


def _made(name: str) -> Exception:
    kind: type[Exception] = getattr(asyncpg.exceptions, name)
    return kind.__new__(kind)


async def test_a_channel_that_cannot_be_read_holds_up_only_who_follows_it(
    database: Database, monkeypatch: pytest.MonkeyPatch, afterwards: AsyncExitStack
) -> None:
    sick, well = await make_place(database, mara="owner"), await make_place(database, odd="owner")
    source = StoreSource(database, 1_000)
    hub = Hub(source)
    afterwards.push_async_callback(hub.stop)
    since = source.since

    async def fails(asked: Sequence[tuple[UUID, ChangePosition]], *args: Any) -> Any:
        if any(conversation_id == sick for conversation_id, _ in asked):
            raise StoreUnavailable("that one cannot be read")
        return await since(asked, *args)

    monkeypatch.setattr(source, "since", fails)
    monkeypatch.setattr("nestrel.live.hub._REACH_SECONDS", 0.2)
    seal = CursorSeal(b"a key of the test's own")
    checkpoints = Checkpoints(hub, moves := Moves(source), 1.0)
    returns = Returns(source, moves, checkpoints)
    mara, odd = (Following(hub, source, returns, lambda: seal, Caller(user), lambda: None) for user in ("mara", "odd"))
    for one in (mara, odd):
        await one.follow_all(None)
    at: AllPosition | None = await checkpoints.turn(None)
    writer = Writer(database)
    for place, user in ((sick, "mara"), (well, "odd")):
        await writer.submit([Post(place, user, "x")])
    for _ in range(2):
        at = await checkpoints.turn(at)
    events = []
    while odd.pending:
        events.append(await odd.next())
    assert [type(event) for event in events if event] == [Delivery, Checkpoint]
    for _ in range(3):
        assert not (mara.pending and isinstance(await mara.next(), Checkpoint))
    monkeypatch.undo()
    async with asyncio.timeout(PATIENCE):
        while True:
            at = await checkpoints.turn(at)
            found = []
            while mara.pending:
                found.append(await mara.next())
            if any(isinstance(event, Checkpoint) for event in found):
                break


async def test_an_earlier_body_is_kept_a_hundred_times_and_so_many_bytes(database: Database) -> None:
    place = await make_place(database, mara="owner")
    writer = Writer(database)
    await writer.submit([Post(place, "mara", "first")])
    for n in range(130):
        await writer.submit([Edit(place, "mara", 1, f"body {n}")])

    async def kept() -> list[int]:
        async with database.read() as connection:
            rows = await fetch(
                connection, "SELECT n FROM nestrel.message_edits WHERE conversation_id = $1 ORDER BY n", place
            )
        return [row[0] for row in rows]

    assert await kept() == list(range(31, 131))
    emoji = "⚓" * 8_000
    for n in range(30):
        await writer.submit([Edit(place, "mara", 1, f"{n}{emoji[: 8_000 - 2]}")])
    found = await kept()
    assert found[-1] == 160
    assert 8 <= len(found) <= 11
    [answer] = await writer.submit([Edit(place, "mara", 1, "last")])
    assert answer.object["edits"] == 161


async def test_the_units_of_an_import_are_written_one_after_another(url: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """One that fails ends the call: nothing of a later one is there, and the same lines again lose nothing."""
    with Served(url) as served:
        office = Person(served.wait_ready().url, "office", scope="nestrel.service")
        place = (await office.make())["id"]
        lines = [
            {
                "author_id": "odd",
                "body": f"line {n}",
                "key": f"{n}",
                "created_at": f"2026-03-01T00:{n // 60:02}:{n % 60:02}Z",
            }
            | ({"reply_line": n - 1} if n > 2 else {})
            for n in range(3_000)
        ]
        stranger = await asyncpg.connect(make_url(url).render_as_string(hide_password=False))
        await stranger.execute(
            "CREATE FUNCTION public.no() RETURNS trigger LANGUAGE plpgsql AS "
            "$$ BEGIN IF new.body = 'line 1500' THEN RAISE 'not this one'; END IF; RETURN new; END $$"
        )
        await stranger.execute(
            "CREATE TRIGGER no BEFORE INSERT ON nestrel.messages FOR EACH ROW EXECUTE FUNCTION public.no()"
        )
        content = "\n".join(map(_line, lines))
        headers = {"Content-Type": "application/jsonl"}
        answer = await office.http.post(f"/conversations/{place}/import", content=content, headers=headers)
        assert answer.status_code == 500
        assert (await office.page(place))["head"] == 1_000
        await stranger.execute("DROP TRIGGER no ON nestrel.messages")
        await stranger.close()
        answer = await office.http.post(f"/conversations/{place}/import", content=content, headers=headers)
        assert (answer.json()["added"], answer.json()["refused"]) == (2_000, [])
        page = await office.page(place, limit=200, order="asc", after=995)
        assert all(item["reply_to"] == item["seq"] - 2 for item in page["items"])


def _line(fields: dict[str, Any]) -> str:
    return json.dumps(fields)


async def test_a_batch_that_is_rolled_back_leaves_no_number_in_its_commands(
    database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    place = await make_place(database, mara="owner")
    writer, real = Writer(database), apply.apply
    failed = 0

    async def once(*args: Any) -> Any:
        nonlocal failed
        failed += 1
        if failed == 1:
            raise RuntimeError("cut short")
        return await real(*args)

    monkeypatch.setattr(apply, "apply", once)
    units = [
        [
            Post(place, "odd", f"{n}", key=f"{n}", service=True, imported=True, answers=n - 1 if n else None)
            for n in range(3)
        ],
        [Post(place, "mara", "other")],
    ]
    answers = await asyncio.gather(*(writer.submit(unit) for unit in units))
    assert [one.object["seq"] for one in answers[0]] == [1, 2, 3]
    assert answers[1][0].object["seq"] == 4
    async with database.read() as connection:
        found = await fetch(connection, "SELECT reply_to FROM nestrel.messages ORDER BY seq")
    assert [row[0] for row in found] == [None, 1, 2, None]


async def test_two_services_in_one_database_do_not_hear_each_other(url: str) -> None:
    other: dict[str, Any] = {"NESTREL_SCHEMA": "harbour"}
    env = {**os.environ, "NESTREL_DATABASE_URL": url, **other}
    done = await asyncio.to_thread(nestrel, "db", "upgrade", env=env, seconds=PATIENCE)
    assert "upgraded" in done.stdout, done.stderr
    with Served(url) as one, Served(url, **other) as two:
        here, there = Person(one.wait_ready().url, "mara"), Person(two.wait_ready().url, "mara")
        place, elsewhere = (await here.make())["id"], (await there.make())["id"]
        assert (await here.http.get(f"/conversations/{elsewhere}")).status_code == 404
        async with there.socket() as wire:
            await wire.command(type="follow", conversation_id=elsewhere)
            await here.post(place, "x")
            await there.post(elsewhere, "y")
            assert [message["body"] for message in await wire.messages(1)] == ["y"]
        assert (await here.page(place))["head"] == 1


async def test_a_profile_in_thousands_of_conversations_is_told_of_to_the_end_by_whoever_is_left(
    database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(profiles, "_MEMBERSHIPS", 3)
    await profiles.first_sight(database, "mara", "Mara", None)
    places = [await make_place(database, mara="owner") for _ in range(8)]
    go_on, killed = profiles.go_on, False

    async def dies(*_args: Any) -> bool:
        nonlocal killed
        killed = True
        raise asyncio.CancelledError

    monkeypatch.setattr(profiles, "go_on", dies)
    with pytest.raises(asyncio.CancelledError):
        await profiles.change(database, "mara", {"display_name": "Mara Lind"})
    assert killed
    while await go_on(database):
        pass
    async with database.read() as connection:
        rows = await fetch(connection, "SELECT rev FROM nestrel.conversations WHERE id = ANY($1)", places)
        assert [row[0] for row in rows] == [3] * 8
        assert not await fetch(connection, "SELECT FROM nestrel.profile_news")


async def test_a_database_killed_under_callers_answers_no_500() -> None:
    async with own_cluster("nestrel") as own:
        with Served(own.url("nestrel")) as served:
            mara = Person(served.wait_ready().url, "mara")
            place = (await mara.make())["id"]
            seen: set[int] = set()
            stop = False

            async def call(n: int) -> None:
                while not stop:
                    answer = await (mara.post(place, key=uuid4().hex) if n % 2 else mara.http.get("/conversations"))
                    seen.add(answer.status_code)

            calling = [asyncio.create_task(call(n)) for n in range(40)]
            for _ in range(4):
                await asyncio.to_thread(own.stop, "immediate")
                await asyncio.to_thread(own.start, own.port)
                await asyncio.to_thread(until, lambda: served.wait_ready() is served)
            stop = True
            await asyncio.gather(*calling)
            assert seen <= {200, 201, 503}, seen
            assert "InternalClientError" not in served.log()
