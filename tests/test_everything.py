"""A backend on a line: every conversation of the store, or of one kind, and nothing of it for anybody else."""

from __future__ import annotations

import asyncio
import json
import random
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from typing import Any

import httpx
import pytest
from click.testing import CliRunner

from nestrel.cli.main import main
from nestrel.client import AsyncClient
from nestrel.core.objects import ChangeSet
from nestrel.core.replica import Replica
from tests.support import PATIENCE, Person, Served, Wire, token, unique


@pytest.fixture
async def office(make_database: Callable[[], str]) -> AsyncIterator[Person]:
    with Served(make_database(), NESTREL_CHECKPOINT_SECONDS="0.2") as served:
        yield Person(served.wait_ready().url, "office", scope="nestrel.service")


class Mirror:
    """What somebody holds who takes all that comes."""

    def __init__(self) -> None:
        self.of: dict[str, Replica] = {}
        self.cursor: str | None = None
        self.closed: set[str] = set()
        self.begun: set[str] = set()
        """Conversations that came from their beginning."""

    def take(self, frame: dict[str, Any]) -> None:
        if frame["type"] == "checkpoint":
            self.cursor = frame["cursor"]
        elif frame["type"] == "unfollowed":
            assert frame["reason"] == "closed"
            self.closed.add(frame["conversation_id"])
            self.of.pop(frame["conversation_id"], None)
        else:
            assert frame["type"] == "changes", frame
            changes = ChangeSet.model_validate(frame)
            place = changes.conversation_id
            self.of.setdefault(place, Replica(place)).apply(changes)
            if changes.reset:
                self.begun.add(place)

    def bodies(self, place: str) -> list[str]:
        return [one.body for one in self.of[place].ordered()] if place in self.of else []

    async def until(self, wire: Wire, condition: Callable[[], bool]) -> None:
        async with asyncio.timeout(PATIENCE):
            while not condition():
                self.take(await wire.get(checkpoints=True))

    async def up_to_date(self, wire: Wire, *, anew: bool = False) -> None:
        """Take what comes until a checkpoint that was not there before. On a line that has begun `anew` the first one
        is of all that was there when it began, and is the same as before where nothing has happened since."""
        before, self.cursor = None if anew else self.cursor, None
        async with asyncio.timeout(PATIENCE):
            while self.cursor is None or self.cursor == before:
                self.take(await wire.get(checkpoints=True))


async def test_every_conversation_comes_those_made_later_too_and_a_cursor_goes_on(office: Person) -> None:
    mara, odd = Person(office.url, "mara"), Person(office.url, "odd")
    before = (await mara.make(members=["odd"]))["id"]
    await mara.fill(before, 3)
    mirror = Mirror()
    async with office.socket() as wire:
        done = await wire.command(type="follow_all", scope="all")
        assert (done["type"], done["reset"], done["rewound"]) == ("done", False, False)
        await mirror.up_to_date(wire)
        assert mirror.of == {}, "from now on"
        later = (await odd.make(title="Later"))["id"]
        await mirror.until(wire, lambda: later in mirror.of)
        assert [one.user_id for one in mirror.of[later].present()] == ["odd"]
        direct = (await mara.make(kind="direct", members=["odd"]))["id"]
        for place, who in ((later, odd), (direct, mara), (before, mara)):
            assert (await who.post(place, f"in {place}")).status_code == 201
        await mirror.until(
            wire, lambda: all(mirror.bodies(one)[-1:] == [f"in {one}"] for one in (later, direct, before))
        )
        gone = (await odd.make())["id"]
        await odd.post(gone, "gone")
        await mirror.until(wire, lambda: gone in mirror.of)
        await odd.http.delete(f"/conversations/{gone}")
        await mirror.until(wire, lambda: gone in mirror.closed)
        await mirror.up_to_date(wire)
    await mara.post(before, "while away")
    unseen = (await odd.make())["id"]
    async with office.socket() as wire:
        await wire.command(type="follow_all", scope="all", cursor=mirror.cursor)
        await mirror.until(wire, lambda: unseen in mirror.of and mirror.bodies(before)[-1] == "while away")
        await mirror.up_to_date(wire)
    everything = (await office.http.get("/conversations", params={"scope": "all"})).json()["items"]
    assert {one["id"] for one in everything} == mirror.begun - mirror.closed | {before}


async def test_one_kind_alone(office: Person) -> None:
    mara = Person(office.url, "mara")
    async with office.socket() as wire:
        await wire.command(type="follow_all", scope="all", kind="bulletin")
        mirror = Mirror()
        group, bulletin = (await mara.make())["id"], (await mara.make(kind="bulletin"))["id"]
        for place in (group, bulletin):
            await mara.post(place, "said")
        await mirror.until(wire, lambda: mirror.bodies(bulletin) == ["said"])
        await mirror.up_to_date(wire)
        assert set(mirror.of) == {bulletin}
        again = await wire.command(type="follow_all", scope="all")
        assert again["problem"]["type"] == "/problems/slow-down"
    async with office.socket() as wire:
        for fields in ({"scope": "all"}, {"scope": "mine"}, {"scope": "all", "kind": "group"}):
            refused = await wire.command(type="follow_all", cursor=mirror.cursor, **fields)
            assert (fields, refused["problem"]["status"]) == (fields, 422)
        for fields in ({"kind": "group"}, {"scope": "all", "kind": "room"}, {"scope": "none"}):
            refused = await wire.command(type="follow_all", **fields)
            assert (fields, refused["problem"]["status"]) == (fields, 422)
        mine = await wire.command(type="follow_all")
        refused = await wire.command(type="follow_all", scope="all", cursor=mine["cursor"])
        assert refused["problem"]["status"] == 422


async def test_nobody_else_follows_everything(office: Person) -> None:
    mara = Person(office.url, "mara")
    async with mara.socket() as wire:
        refused = await wire.command(type="follow_all", scope="all")
        assert refused["problem"]["type"] == "/problems/forbidden"
    answer = await mara.http.get("/stream", params={"scope": "all"})
    assert (answer.status_code, answer.json()["type"]) == (403, "/problems/forbidden")
    assert (await office.http.get("/stream", params={"kind": "group"})).status_code == 422
    # A line whose next token is no backend's any more is sent nothing more of it.
    place = (await mara.make())["id"]
    async with office.socket() as wire:
        await wire.command(type="follow_all", scope="all")
        await wire.send(type="sign_in", token=token("office"))
        while (await wire.get())["type"] != "signed_in":
            pass
        await mara.post(place, "not for them")
        async with mara.socket() as other:  # what is posted is handed on before this is answered
            await other.command(type="follow", conversation_id=place)
            await mara.post(place, "behind it")
            assert (await other.messages(1))[0]["body"] == "behind it"
        await wire.quiet()


async def test_a_stream_of_events_says_the_same(office: Person) -> None:
    mara = Person(office.url, "mara")
    place = (await mara.make())["id"]

    @asynccontextmanager
    async def stream(**headers: str) -> AsyncIterator[AsyncIterator[tuple[str, str, str]]]:
        async with office.http.stream("GET", "/stream", params={"scope": "all"}, headers=headers) as answer:
            assert answer.status_code == 200
            yield events(answer)

    async def events(answer: httpx.Response) -> AsyncIterator[tuple[str, str, str]]:
        fields: dict[str, str] = {}
        async for line in answer.aiter_lines():
            name, _, value = line.partition(": ")
            if line:
                fields[name] = value
            elif "event" in fields:
                yield fields["event"], fields.get("id", ""), fields["data"]
                fields = {}
            else:
                fields = {}

    cursor = ""
    async with asyncio.timeout(PATIENCE), stream() as coming:
        await mara.post(place, "first")
        seen = []
        async for event, id_, data in coming:
            if event == "changes":
                seen += [one["body"] for one in json.loads(data)["messages"]]
            elif event == "checkpoint" and seen:
                cursor = id_
                break
    assert seen == ["first"]
    await mara.post(place, "second")
    async with asyncio.timeout(PATIENCE), stream(**{"Last-Event-ID": cursor}) as coming:
        async for event, _, data in coming:
            if event == "changes":
                assert [one["body"] for one in json.loads(data)["messages"]] == ["second"]
                break


@pytest.mark.whole
async def test_whatever_happens_and_wherever_the_line_is_cut_the_mirror_holds_the_store(
    make_database: Callable[[], str],
) -> None:
    """Two processes, people who do all kinds of things, and a line that is cut again and again, now at one process and
    now at the other: in the end the mirror is what the service has."""
    url, dice = make_database(), random.Random(7)
    with Served(url, NESTREL_CHECKPOINT_SECONDS="0.1") as one, Served(url, NESTREL_CHECKPOINT_SECONDS="0.1") as other:
        people = [Person(served.wait_ready().url, user) for served in (one, other) for user in ("mara", "odd")]
        backends = [Person(served.url, "office", scope="nestrel.service") for served in (one, other)]
        mirror, places = Mirror(), list[str]()

        async def act() -> None:
            for n in range(120):
                who = dice.choice(people)
                if not places or dice.random() < 0.1:
                    places.append((await who.make(visibility="open", members=["mara", "odd"]))["id"])
                place, what = dice.choice(places), dice.random()
                if what < 0.6:
                    await who.post(place, f"{n}")
                elif what < 0.8:
                    await who.http.put(f"/conversations/{place}/messages/1/reactions/like")
                elif what < 0.9:
                    await who.http.put(f"/conversations/{place}/members/{unique('una')}", json={})
                else:
                    await who.http.delete(f"/conversations/{place}/messages/1")

        async with backends[0].socket() as wire:
            done = await wire.command(type="follow_all", scope="all")
            mirror.cursor = done["cursor"]
        acting = asyncio.create_task(act())
        while not acting.done():
            async with dice.choice(backends).socket() as wire:
                await wire.command(type="follow_all", scope="all", cursor=mirror.cursor)
                for _ in range(dice.randrange(1, 25)):
                    try:
                        mirror.take(await wire.get(0.5, checkpoints=True))
                    except TimeoutError:
                        break
        await acting
        async with backends[1].socket() as wire:
            await wire.command(type="follow_all", scope="all", cursor=mirror.cursor)
            await mirror.up_to_date(wire, anew=True)
        for place in places:
            page = await people[0].page(place, limit=200, order="asc")
            held = mirror.of[place]
            assert [(m.seq, m.body, m.rev) for m in held.ordered()] == [
                (m["seq"], m["body"], m["rev"]) for m in page["items"]
            ]
            members = (await people[0].http.get(f"/conversations/{place}/members", params={"limit": 200})).json()[
                "items"
            ]
            assert {m.user_id: m.rev for m in held.present()} == {m["user_id"]: m["rev"] for m in members}


async def test_the_client_and_the_command_follow_everything(office: Person) -> None:
    mara = Person(office.url, "mara")
    place = (await mara.make(title="Berths"))["id"]
    async with AsyncClient(office.url, lambda: token("office", scope="nestrel.service")) as client:
        async with client.follow_everything() as follow:
            coming = asyncio.create_task(anext(follow))
            while follow.state.state != "live":
                await asyncio.sleep(0)
            await mara.post(place, "through the client")
            async with asyncio.timeout(PATIENCE):
                event = await coming
            assert isinstance(event, ChangeSet)
            assert [one.body for one in event.messages] == ["through the client"]
            cursor = follow.cursor
        assert cursor is not None
    env = {"NESTREL_URL": office.url, "NESTREL_TOKEN": token("office", scope="nestrel.service")}
    result = await asyncio.to_thread(
        CliRunner().invoke, main, ["follow", "--everything", "--cursor", cursor, "--count", "1"], env=env
    )
    assert result.exit_code == 0, result.output
    assert "Berths" in result.output
    assert "through the client" in result.output
    wrong = CliRunner().invoke(main, ["follow", "--everything", "--all"], env=env)
    assert wrong.exit_code == 2
