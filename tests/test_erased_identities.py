"""Erasing an identity: no table, no archive and no file has the id, nobody signs in with it, and whoever knew it begins
anew where it stood."""

from __future__ import annotations

import asyncio
import json
import os
import random
import re
from collections.abc import Callable, Iterator
from typing import Any
from uuid import UUID

import asyncpg
import pytest
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from sqlalchemy.engine import make_url

from nestrel.client import AsyncClient
from nestrel.core.commands import Remove
from nestrel.core.cursors import ChangePosition
from nestrel.core.ids import uuid7
from nestrel.core.replica import Replica
from nestrel.store import snapshots
from nestrel.store.database import Database
from nestrel.store.keep import identities
from nestrel.store.native import execute, fetch
from nestrel.store.read import catch_up, resync
from nestrel.store.write.writer import Writer
from tests.copies import Copies
from tests.receiver import receiver
from tests.support import PATIENCE, Person, Served, call, dump, once, traces, unique
from tests.test_retention_doors import refused
from tests.test_together import command as drawn
from tests.test_together import shown as shown_of
from tests.test_webhook_mirror import holds
from tests.test_webhooks import backend, hook
from tests.test_write_path import change_set, command_of, make

_SHOWN = re.compile(r"erased-[a-z]{16}\Z")


@pytest.fixture
def two(make_database: Callable[[], str]) -> Iterator[tuple[Served, Served]]:
    """Two processes on one database, that keep their files in one folder and sweep when they are asked to."""
    url = make_database()
    with (
        Served(url, NESTREL_SWEEP_SECONDS="3600") as one,
        Served(url, NESTREL_SWEEP_SECONDS="3600", NESTREL_FILES=str(one.files)) as other,
    ):
        yield one.wait_ready(), other.wait_ready()


async def erase(office: Person, user_id: str) -> dict[str, Any]:
    asked = {"user_id": user_id, "identity": True, "confirm": True}
    begun = (await call(office, "POST", "/erasures", asked, 201)).json()
    assert (begun["identity"], begun["finished_at"], begun["user_id"]) == (True, None, user_id)
    assert _SHOWN.match(begun["shown_as"])

    async def look() -> dict[str, Any]:
        found: dict[str, Any] = (await office.http.get(f"/erasures/{begun['id']}")).json()
        return found

    done = await once(look, lambda found: found["finished_at"] is not None)
    assert done["user_id"] == done["shown_as"] == begun["shown_as"]
    return done


async def sweep(office: Person) -> None:
    while (await office.http.post("/retention/run")).json()["waiting"]:
        pass


async def left_in_a_transaction(served: Served, place: str, author: str) -> None:
    url = make_url(served._env["NESTREL_DATABASE_URL"]).render_as_string(hide_password=False)
    database = await asyncpg.connect(url)
    await database.execute("SELECT nestrel.post($1, $2, 'k', 'in a transaction')", place, author)
    await database.close()


async def leave_traces(office: Person, odd: Person, mara: Person, served: Served) -> tuple[str, list[str]]:
    """Let somebody do whatever leaves their id anywhere: in a group with an archive, and in others."""
    await odd.http.get("/me")
    rule = {"keep_last": 12, "then": "archive"}
    group = (await mara.make(members=[odd.user], retention=rule, name=unique("berths")))["id"]
    here = f"/conversations/{group}"
    await call(mara, "PUT", f"{here}/members/{odd.user}", {"role": "owner"})
    for n in range(6):
        await odd.post(group, f"odd's {n}")
        await mara.post(group, f"mara's {n}", mentions=[odd.user, mara.user])
    for seq in (2, 3, 8, 12):
        await call(odd, "PUT", f"{here}/messages/{seq}/reactions/like")
        await call(mara, "PUT", f"{here}/messages/{seq}/reactions/like")
    await call(odd, "PATCH", f"{here}/messages/1", {"body": "odd's, edited"}, 200)
    await call(odd, "DELETE", f"{here}/messages/4", None)  # one of mara's: removed by odd
    await call(odd, "DELETE", f"{here}/messages/5", None)  # one of odd's own, long before the erasure
    await mara.fill(group, 4)
    await sweep(office)  # messages 1 to 4 are in the archive
    await mara.fill(group, 3)  # and some wait for it
    sent = (await odd.upload(group, b"tide table", "tides.txt")).json()
    await odd.post(group, "", attachments=[sent["attachment_id"]])
    await odd.upload(group, b"not sent", "other.txt")
    await call(odd, "PUT", f"{here}/receipt", {"read_seq": 9}, 200)
    await call(odd, "POST", f"{here}/invitations", {}, 201)
    await call(odd, "PUT", f"{here}/kept-out/{unique('tam')}", {"reason": "fog"}, 201)
    await call(odd, "POST", f"{here}/messages/12/reports", {"reason": "rude"}, 201)
    await call(mara, "POST", f"{here}/messages/11/reports", {"reason": "odd words"}, 201)
    await call(odd, "PATCH", f"{here}/members/me", {"notify": "mentions"}, 200)
    await call(odd, "PUT", f"/me/blocked/{unique('tam')}", None)
    await call(mara, "PUT", f"/me/blocked/{odd.user}", None)
    await call(mara, "DELETE", f"/me/blocked/{odd.user}", None)
    await call(Person(mara.url, unique("una")), "PUT", f"/me/blocked/{odd.user}", None)
    await call(office, "PUT", f"/people/{odd.user}", {"display_name": f"Odd {odd.user}"}, 200)
    await call(office, "PUT", f"{here}/members/{unique('una')}", {})
    await call(office, "PUT", f"/people/{odd.user}/suspension", {"reason": "for a day"}, 201)
    await call(office, "DELETE", f"/people/{odd.user}/suspension")
    await call(mara, "POST", f"{here}/messages", {"body": "for odd", "mentions": [odd.user]}, 201)
    await call(office, "POST", f"{here}/messages", {"body": "said by odd", "on_behalf_of": odd.user}, 201)
    direct = (await odd.make(kind="direct", members=[mara.user]))["id"]
    await odd.post(direct, "a word")
    made = (await odd.make(members=[mara.user], title="made by odd"))["id"]
    left = (await mara.make(members=[odd.user]))["id"]
    await odd.post(left, "I leave")
    await call(odd, "DELETE", f"/conversations/{left}/members/me")
    closed = (await odd.make(members=[mara.user]))["id"]
    await call(odd, "DELETE", f"/conversations/{closed}")
    kept_out = (await mara.make())["id"]
    await call(mara, "PUT", f"/conversations/{kept_out}/kept-out/{odd.user}", {}, 201)
    await left_in_a_transaction(served, group, odd.user)

    async def taken_up() -> int:
        return int((await mara.http.get(here)).json()["head"])

    await once(taken_up, lambda head: head == 23)
    return group, [direct, made, left]


async def test_no_table_archive_or_file_has_the_id_and_authorship_shows_one_other(two: tuple[Served, Served]) -> None:
    served, other = two
    office = Person(served.url, unique("office"), scope="nestrel.service")
    odd, mara = Person(served.url, unique("odd:ä")), Person(served.url, unique("mara"))
    elsewhere = Person(other.url, odd.user)
    await call(elsewhere, "GET", "/me", None, 200)
    group, others = await leave_traces(office, odd, mara, served)
    here = f"/conversations/{group}"
    before = await mara.page(group, limit=200)
    assert odd.user in str(before)
    assert any(traces(served, odd.user)), "nothing was looked for"

    done = await erase(office, odd.user)
    shown = done["shown_as"]
    assert traces(served, odd.user) == ([], [])

    # What there was is still there, without the person.
    page = await mara.page(group, limit=200)
    assert [one["seq"] for one in page["items"]] == [one["seq"] for one in before["items"]]
    for was, now in zip(before["items"], page["items"], strict=True):
        if was["author_id"] == odd.user:
            assert (now["author_id"], now["body"], now["attachments"]) == (shown, "", [])
        else:
            assert now["body"] == was["body"]
        assert now["removed_by"] in (None, office.user, shown)
        assert all(one["count"] == 1 and one["by"] == [mara.user] for one in now["reactions"])
        assert odd.user not in now["mentions"]
    assert page["profiles"][shown]["display_name"] == shown
    exported = [json.loads(line) for line in (await mara.http.get(f"{here}/export?part=all")).text.splitlines()]
    assert {one["author_id"] for one in exported} == {mara.user, shown}
    assert next(one for one in exported if one["seq"] == 4)["removed_by"] == shown
    assert [one["reactions"][0]["count"] for one in exported if one["seq"] == 2] == [1]
    for segment in (await mara.http.get(f"{here}/archive")).json()["items"]:
        assert (await mara.http.get(f"{here}/archive/{segment['segment']}")).status_code == 200
    for place in (group, *others):
        members = (await mara.http.get(f"/conversations/{place}/members")).json()["items"]
        assert {odd.user, shown}.isdisjoint(one["user_id"] for one in members)
        assert (await mara.http.get(f"/conversations/{place}")).json()["members"] == len(members)
    acts = (await office.http.get("/audit", params={"actor": shown})).json()["items"]
    assert {"kept-out", "message-removed"} <= {one["act"] for one in acts}
    acts = (await office.http.get("/audit", params={"limit": 200})).json()["items"]
    assert [one["user_id"] for one in acts if one["act"] == "erased"] == [shown]

    # Nobody is let in as them, nor brings them back, at either process.
    for one in (odd, elsewhere):
        await refused(await one.http.get("/me"), 401, "unauthenticated")
    await refused(await office.http.put(f"/people/{odd.user}", json={"display_name": "Odd"}), 422, "invalid-request")
    await refused(await office.http.put(f"{here}/members/{odd.user}", json={}), 422, "invalid-request")
    await refused(await mara.http.post("/conversations", json={"members": [odd.user]}), 422, "invalid-request")
    for_them = {"body": "said by odd", "on_behalf_of": odd.user}
    await refused(await office.http.post(f"{here}/messages", json=for_them), 422, "invalid-request")
    line = {"author_id": odd.user, "body": "said long ago", "created_at": "2020-01-01T00:00:00Z"}
    answer = (await office.http.post(f"{here}/import", content=json.dumps(line))).json()
    assert answer["refused"], answer
    await left_in_a_transaction(served, group, odd.user)

    async def refusals() -> str:
        return "\n".join(line for line in dump(served).splitlines() if "nestrel.refused_posts " in line)

    await once(refusals, lambda found: "this identity was erased" in found)
    again = {"user_id": odd.user, "identity": True, "confirm": True}
    await refused(await office.http.post("/erasures", json=again), 422, "invalid-request")
    assert traces(served, odd.user) == ([], [])

    # Until the erasure is deleted: then it is somebody new.
    await call(office, "DELETE", f"/erasures/{done['id']}", None, 204)
    await refused(await office.http.get(f"/erasures/{done['id']}"), 404, "not-found")
    assert (await call(odd, "GET", "/me", None, 200)).json()["display_name"] == odd.user

    async def there() -> int:
        return (await elsewhere.http.get("/me")).status_code

    await once(there, lambda status: status == 200)
    assert (await call(odd, "GET", "/conversations", None, 200)).json()["items"] == []


async def test_whoever_knew_the_id_begins_anew_there_once_and_nowhere_else(two: tuple[Served, Served]) -> None:
    served, other = two
    office = Person(served.url, unique("office"), scope="nestrel.service")
    odd, mara = Person(served.url, unique("odd")), Person(served.url, unique("mara"))
    there, without = [(await mara.make(members=members))["id"] for members in ([odd.user], [unique("tam")])]
    for place in (there, without):
        await mara.post(place, "a word")
    await odd.post(there, "odd's")
    absent = Copies(mara)
    await absent.resync()
    cursor = (await mara.http.get(f"/conversations/{there}/changes")).json()["cursor"]
    at_other = Person(other.url, mara.user)
    async with at_other.socket() as line, odd.socket() as theirs:
        await line.command(type="follow", conversation_id=there)
        await theirs.command(type="follow", conversation_id=there)
        done = await erase(office, odd.user)
        members: dict[str, Any] = {}
        authors: set[str] = set()
        async with asyncio.timeout(PATIENCE):
            while odd.user in members or done["shown_as"] not in authors:
                frame = await line.get()
                assert frame["type"] == "changes"
                if frame["reset"]:
                    members, authors = {}, set()
                members |= {one["user_id"]: one for one in frame["members"]}
                authors |= {one["author_id"] for one in frame["messages"]}
        assert odd.user not in authors
        with pytest.raises(Exception, match="4401"):
            async with asyncio.timeout(PATIENCE):
                while True:
                    await theirs.raw.recv()
    items = await absent.resync()
    assert [(one["conversation_id"], one["reset"]) for one in items] == [(there, True)]
    assert odd.user not in str(absent.held[there])
    changed = (await mara.http.get(f"/conversations/{there}/changes", params={"cursor": cursor})).json()
    assert changed["reset"]
    # From here on it is as ever.
    await mara.post(there, "later")
    for one in (await absent.resync(), [
        (await mara.http.get(f"/conversations/{there}/changes", params={"cursor": changed["cursor"]})).json()
    ]):  # fmt: skip
        assert [(item["reset"], [message["body"] for message in item["messages"]]) for item in one] == [
            (False, ["later"])
        ]


async def test_a_copy_of_a_webhook_has_the_id_no_more(own: Served) -> None:
    office, odd, mara = backend(own), Person(own.url, unique("odd")), Person(own.url, unique("mara"))
    place = (await mara.make(members=[odd.user]))["id"]
    async with receiver() as to:
        await hook(office, to)
        await mara.fill(place, 80)
        await odd.post(place, "odd's")
        await mara.http.patch(f"/conversations/{place}/messages/3", json={"body": "for odd", "mentions": [odd.user]})
        await holds(mara, to, place)
        done = await erase(office, odd.user)
        await holds(mara, to, place)
        kept = to.held[place]
        assert odd.user not in str([(one.author_id, one.mentions) for one in kept.ordered()])
        assert kept.ordered()[-1].author_id == done["shown_as"]


async def test_the_client_erases_an_identity_and_gives_it_back(own: Served) -> None:
    office = Person(own.url, unique("office"), scope="nestrel.service")
    odd = Person(own.url, unique("odd"))
    await call(odd, "GET", "/me", None, 200)

    async with AsyncClient(own.url, office.token) as client:
        begun = await client.erase(odd.user, identity=True)
        assert begun.identity
        await once(lambda: client.erasure(begun.id), lambda record: record.finished_at is not None)
        await client.delete_erasure(begun.id)
    await call(odd, "GET", "/me", None, 200)
    plain = (await call(office, "POST", "/erasures", {"user_id": odd.user, "confirm": True}, 201)).json()
    await refused(await office.http.delete(f"/erasures/{plain['id']}"), 422, "invalid-request")
    mine = {"user_id": office.user, "identity": True, "confirm": True}
    await refused(await office.http.post("/erasures", json=mine), 422, "invalid-request")


async def erase_in(database: Database, place: UUID, user_id: str, writer: Writer) -> str:
    """What an erasure does in one conversation, as its background task does it."""
    id_ = uuid7(1, os.urandom(10))
    async with database.write() as connection:
        shown = identities.new_name()
        begin = "INSERT INTO nestrel.erasures (id, user_id, asked_by, asked_at, identity, shown_as) VALUES "
        await execute(connection, begin + "($1, $2, 'office', clock_timestamp(), true, $3)", id_, user_id, shown)
    while (changed := await identities.rename(database, id_, place, user_id, shown)) is None:
        async with database.read() as connection:
            sql = (
                "SELECT seq FROM nestrel.messages WHERE conversation_id = $1 AND author_id = $2 AND removed_at IS NULL"
            )
            left = [row[0] for row in await fetch(connection, sql, place, user_id)]
        for seq in left:
            await writer.submit([Remove(place, "office", seq, service=True)])
    assert changed
    assert await identities.rename(database, id_, place, user_id, shown) is False, "nothing is left to change"
    return shown


async def test_what_a_sweep_has_archived_meanwhile_is_emptied_before_the_id_goes(database: Database) -> None:
    """Between the emptying of an archive and the lock a sweep may put more of the person's words there."""
    place = await make(database)
    id_, shown = uuid7(1, os.urandom(10)), identities.new_name()
    async with database.write() as connection:
        await execute(connection, "INSERT INTO nestrel.archive_authors VALUES ('odd', $1, 1, 1)", place)
    assert await identities.rename(database, id_, place, "odd", shown) is None
    async with database.write() as connection:
        await execute(connection, "DELETE FROM nestrel.archive_authors WHERE conversation_id = $1", place)
    assert await identities.rename(database, id_, place, "odd", shown)


# An example takes most of a second: one that fails is shown as it is, and not made smaller for minutes.
@pytest.mark.whole
@settings(max_examples=25, suppress_health_check=list(HealthCheck), database=None, phases=[Phase.generate])
@given(
    dice=st.randoms(use_true_random=False),
    rows=st.integers(1, 12),
    stops=st.lists(st.integers(0, 40), min_size=4, max_size=4),
)
async def test_every_reader_begins_anew_once_and_holds_what_is_there(
    database: Database, dice: random.Random, rows: int, stops: list[int]
) -> None:
    """Readers by both kinds of cursors, who stop at any time before the erasure and behind it, and read in parts."""
    erased_at, commands = dice.randint(5, 35), [drawn(dice) for _ in range(41)]
    place, writer = await make(database), Writer(database)
    by_place = [(stop, Replica(str(place)), list[ChangePosition | None]([None]), list[int]()) for stop in stops[:2]]
    by_all = [(stop, Replica(str(place)), list[Any]([None]), list[int]()) for stop in stops[2:]]

    async def bring(now: int, *, last: bool = False) -> None:
        async with database.read() as connection:
            for _, replica, at, resets in by_place if last else [one for one in by_place if one[0] == now]:
                more = True
                while more:
                    start = at[0]
                    found = (
                        await catch_up.newest(connection, place, 50, rows=rows + 50)
                        if start is None
                        else await catch_up.since(connection, place, start, rows)
                    )
                    assert found is not None
                    resets += [now] if found.reset and start is not None else []
                    replica.apply(change_set(found))
                    at[0], more = found.end, found.more
            for _, replica, cursors, resets in by_all if last else [one for one in by_all if one[0] == now]:
                more = cursors[0] is not None
                if not more:  # not by a sync from nothing: mara is in the conversations of other examples, too
                    cursors[0] = await snapshots.now(connection)
                    found = await catch_up.newest(connection, place, 50)
                    assert found is not None
                    replica.apply(change_set(found))
                while more:
                    answer = await resync.from_cursor(connection, "mara", cursors[0], rows, 100_000)
                    for item in answer.items:
                        if item.conversation_id == place:
                            resets += [now] if item.reset else []
                            replica.apply(change_set(item))
                    cursors[0], more = answer.cursor, answer.more

    shown = ""
    for now in range(41):
        if now == erased_at:
            shown = await erase_in(database, place, "odd", writer)
        else:
            kind, user, *rest = commands[now]
            command = (kind, "tove" if shown and user == "odd" else user, *rest)  # nobody is let in as that
            await asyncio.gather(writer.submit([command_of(place, command)]), return_exceptions=True)
        await bring(now)
    await bring(41, last=True)
    async with database.read() as connection:
        whole, newest = Replica(str(place)), await catch_up.newest(connection, place, 200)
        assert newest is not None
        whole.apply(change_set(newest))
    for stop, replica, _, resets in [*by_place, *by_all]:
        # Who has begun anew holds the newest page alone, which may be small.
        assert all(whole.messages[seq] == message for seq, message in replica.messages.items())
        assert resets or replica.messages.keys() == whole.messages.keys()
        assert (sorted(replica.members), replica.head) == (sorted(whole.members), whole.head), (
            stop,
            erased_at,
            resets,
            rows,
        )
        assert "odd" not in str(shown_of(replica))
        assert len(resets) == (1 if stop < erased_at else 0), (stop, erased_at, resets)
