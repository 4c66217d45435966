"""The client library: typed, resumable, and once whatever the line does."""

from __future__ import annotations

import asyncio
import importlib
import inspect
import json
import pkgutil
import re
from collections.abc import Callable

import httpx
import pytest
from websockets.asyncio.server import ServerConnection, serve

import nestrel
import nestrel.client
from nestrel.client import (
    AsyncClient,
    ChangeSet,
    Client,
    FollowState,
    Forbidden,
    InvalidRequest,
    KeyReused,
    NameTaken,
    NestrelError,
    NotFound,
    Problem,
    StaleEdit,
    Unauthenticated,
    Unfollowed,
    Unreachable,
)
from nestrel.client.follow import Follow
from nestrel.core import problems
from nestrel.local.postgres import free_port
from tests.support import PATIENCE, Served, once, token, unique


def client_of(service: Served, user: str, **options: object) -> AsyncClient:
    return AsyncClient(service.url, lambda: token(user), **options)  # type: ignore[arg-type]  # options of the client


async def test_a_conversation_from_first_to_last_through_the_client(service: Served) -> None:
    mara, odd = unique("mara"), unique("odd")
    async with client_of(service, mara) as one, client_of(service, odd) as other:
        assert (await one.change_me(display_name="Mara")).display_name == "Mara"
        name = unique("quay")
        made = await one.make_conversation(name=name, title="Quay", members=[odd])
        posted = await one.post(made.id, "first", attributes={"berth": 3})
        reply = await other.post(made.id, "second", reply_to=posted.seq)
        assert (posted.seq, reply.reply_to, posted.attributes) == (1, 1, {"berth": 3})
        await one.post_batch(made.id, [{"body": f"b{n}"} for n in range(450)])
        assert [m.seq async for m in other.history(made.id)] == list(range(452, 0, -1))
        assert [m.seq async for m in other.history(made.id, order="asc", page_size=100, author=odd)] == [2]
        assert (await other.find(name.upper())).unread == 451
        assert {m.user_id async for m in other.members(made.id)} == {mara, odd}
        assert [c.id async for c in other.conversations()] == [made.id]
        changes = await other.changes(made.id)
        assert changes.reset
        assert (await other.changes(made.id, changes.cursor)).more is False
        await one.change_conversation(made.id, title="Quay talk")
        assert (await other.conversation(made.id)).title == "Quay talk"
        await one.change_member(made.id, odd, "reader")
        with pytest.raises(Forbidden):
            await other.post(made.id, "third")
        with pytest.raises(NameTaken):
            await other.make_conversation(name=name)
        with pytest.raises(InvalidRequest) as bad:
            await one.post(made.id, " ")
        assert bad.value.errors[0]["pointer"] == "/body"
        await one.post(made.id, "k", key="ключ")
        with pytest.raises(KeyReused):
            await one.post(made.id, "other", key="ключ")
        await one.close_conversation(made.id)
        with pytest.raises(NotFound):
            await other.find(made.id)


async def test_a_follow_survives_a_service_that_goes_away(make_database: Callable[[], str]) -> None:
    """What was posted while nobody was there comes once the service is back; nothing comes twice."""
    url, port, mara = make_database(), free_port(), unique("mara")
    seen: list[int] = []
    with Served(url, port=port) as first:
        first.wait_ready()
        writer = client_of(first, mara)
        made = await writer.make_conversation()
        follow = writer.follow(made.id)
        posting = asyncio.create_task(_post_when_live(writer, made.id, follow, 3))
        async for event in follow:
            assert isinstance(event, ChangeSet)
            seen += [m.seq for m in event.messages]
            if len(seen) == 3:
                break
        await posting
        first.kill()
    waiting = asyncio.create_task(follow.__anext__())
    await _reaches(follow, FollowState.AWAY)
    assert follow.state.reason
    with Served(url, port=port) as second:
        second.wait_ready()
        await writer.post_batch(made.id, [{"body": "x"}] * 10)
        event = await asyncio.wait_for(waiting, PATIENCE)
        while isinstance(event, ChangeSet):
            seen += [m.seq for m in event.messages]
            if len(seen) == 13:
                await writer.close_conversation(made.id)
            event = await asyncio.wait_for(follow.__anext__(), PATIENCE)
        assert event == Unfollowed(made.id, "closed")
        assert [event async for event in follow] == []
    assert seen == list(range(1, 14))
    await writer.close()


async def _reaches(follow: Follow, wanted: FollowState) -> None:
    async def state() -> FollowState:
        return follow.state.state

    await once(state, lambda found: found is wanted)


async def _post_when_live(client: AsyncClient, conversation: str, follow: Follow, count: int) -> None:
    await _reaches(follow, FollowState.LIVE)
    for n in range(count):
        await client.post(conversation, f"{n}")


async def test_a_follow_that_is_refused_says_so(service: Served) -> None:
    async with client_of(service, unique("mara")) as client:
        follow = client.follow("00000000-0000-7000-8000-000000000000")
        with pytest.raises(NotFound):
            await follow.__anext__()
        assert follow.state.state is FollowState.ENDED
    async with AsyncClient(service.url, token("m", seconds=-9)) as client:
        with pytest.raises(Unauthenticated):
            await client.follow("00000000-0000-7000-8000-000000000000").__anext__()


class Flaky(httpx.AsyncBaseTransport):
    """Lets each request through, and loses the answers that the test says."""

    def __init__(self, lose: int, status: int | None = None) -> None:
        self.lose, self.status, self.keys = lose, status, list[str]()
        self._inner = httpx.AsyncHTTPTransport()

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        self.keys.append(request.headers.get("Idempotency-Key", ""))
        response = await self._inner.handle_async_request(request)
        if request.method == "POST" and len(self.keys) <= self.lose:
            await response.aclose()
            if self.status:
                return httpx.Response(self.status, json={"type": "/problems/store-unavailable", "detail": "away"})
            raise httpx.ReadError("the answer was lost")
        return response

    async def aclose(self) -> None:
        await self._inner.aclose()


@pytest.mark.parametrize("status", [None, 503])
async def test_a_lost_answer_is_asked_for_again_with_the_same_key(service: Served, status: int | None) -> None:
    mara = unique("mara")
    async with client_of(service, mara) as setup:
        made = await setup.make_conversation()
    flaky = Flaky(2, status)
    async with client_of(service, mara, transport=flaky) as client:
        assert (await client.post(made.id, "once")).seq == 1
        assert len(set(flaky.keys)) == 1
        assert len(flaky.keys) == 3
        assert (await client.conversation(made.id)).head == 1
    async with client_of(service, mara, transport=Flaky(9), tries=2) as client:
        with pytest.raises(Unreachable):
            await client.post(made.id, "given up")


def test_the_blocking_client_is_the_same_one(service: Served) -> None:
    mara = unique("mara")
    with Client(service.url, token(mara)) as client:
        made = client.make_conversation(title="Blocking")
        follow = client.follow(made.id, client.history_page(made.id).change_cursor)
        for n in range(5):
            client.post(made.id, f"{n}")
        bodies: list[str] = []
        for event in follow:
            assert isinstance(event, ChangeSet)
            bodies += [m.body for m in event.messages]
            if len(bodies) == 5:
                break
        assert bodies == [m.body for m in client.history(made.id, order="asc")] == ["0", "1", "2", "3", "4"]
        assert next(iter(client.conversations())).id == made.id
        with pytest.raises(NotFound):
            client.find("no-such-name-here")
    with pytest.raises(Unreachable), Client(f"http://127.0.0.1:{free_port()}", "t", tries=1) as nobody:
        nobody.me()


def test_a_follow_is_ended_from_anywhere_and_nothing_complains(service: Served) -> None:
    """By leaving its loop, by another task that closes it while it waits, while there is no line at all, and with the
    loop itself, which is this test's own."""
    complaints: list[str] = []
    asyncio.run(_follow_and_leave(service, complaints))
    assert complaints == []


async def _follow_and_leave(service: Served, complaints: list[str]) -> None:
    asyncio.get_running_loop().set_exception_handler(lambda _loop, context: complaints.append(str(context)))
    mara = unique("mara")
    async with client_of(service, mara) as client:
        place = (await client.make_conversation()).id
        page = await client.history_page(place)
        await client.post(place, "one")
        left = client.follow(place, page.change_cursor)
        async for _ in left:
            break
        await left.close()
        assert [event async for event in left] == []

        waiting = client.follow(place)
        rest = asyncio.create_task(collect(waiting))
        while waiting.state.state is not FollowState.LIVE:
            await asyncio.sleep(0)
        await waiting.close()
        assert await rest == []
        assert waiting.state.reason == "closed by the caller"

        async for _ in client.follow(place, page.change_cursor):
            break  # nobody holds it any more
    async with AsyncClient(f"http://127.0.0.1:{free_port()}", "t") as nowhere:
        away = nowhere.follow(place)
        rest = asyncio.create_task(collect(away))
        while away.state.state is not FollowState.AWAY:
            await asyncio.sleep(0)
        await away.close()
        assert await rest == []


async def test_a_follow_can_be_closed_by_what_hears_that_the_store_was_set_back() -> None:
    """Within the step that waits for the next event: that hears of the end, and does not wait for itself."""

    async def speak(socket: ServerConnection) -> None:
        for answer in ({"type": "signed_in", "user_id": "mara"}, {"type": "done", "cursor": "c", "rewound": True}):
            await socket.recv()
            await socket.send(json.dumps(answer))
        await socket.wait_closed()

    async with serve(speak, "127.0.0.1", 0) as server:
        port = server.sockets[0].getsockname()[1]
        async with AsyncClient(f"http://127.0.0.1:{port}", "t") as client:
            follow = client.follow("somewhere", "c", on_rewound=lambda: follow.close())
            assert await asyncio.wait_for(collect(follow), PATIENCE) == []


async def test_what_comes_before_the_answer_to_a_follow_is_not_taken_for_it() -> None:
    """A store that fails over just then is told at once, and what commits just then may be sent first."""
    heard: list[str] = []
    changes = {
        "type": "changes", "conversation_id": "somewhere", "base": "c", "cursor": "d", "head": 1, "floor": 1,
        "reset": False, "more": False, "conversation": None, "messages": [], "members": [], "profiles": {},
    }  # fmt: skip

    async def speak(socket: ServerConnection) -> None:
        await socket.recv()
        await socket.send(json.dumps({"type": "signed_in", "user_id": "mara"}))
        await socket.recv()
        for frame in ({"type": "rewound"}, changes, {"type": "done", "cursor": "c", "rewound": False}):
            await socket.send(json.dumps(frame))
        await socket.wait_closed()

    async def rewound() -> None:
        heard.append("rewound")

    async with serve(speak, "127.0.0.1", 0) as server:
        port = server.sockets[0].getsockname()[1]
        async with AsyncClient(f"http://127.0.0.1:{port}", "t") as client:
            async with client.follow("somewhere", "c", on_rewound=rewound) as follow:
                event = await asyncio.wait_for(anext(follow), PATIENCE)
            assert isinstance(event, ChangeSet)
            assert (heard, event.cursor, follow.cursor) == (["rewound"], "d", "d")


async def collect(follow: Follow) -> list[object]:
    return [event async for event in follow]


def test_every_problem_type_has_its_exception_and_all_have_one_root() -> None:
    for name, cls in problems.PROBLEMS.items():
        document = cls("why", errors=[{"pointer": "/a", "detail": "b"}], retry_after=3, extra={"more": 1}).document(
            "id"
        )
        back = problems.from_document(document, cls.status)
        assert type(back) is cls
        assert (back.detail, back.retry_after, back.errors[0]["pointer"]) == ("why", 3, "/a")
        assert document["type"] == f"/problems/{name}"
        assert getattr(nestrel.client, cls.__name__) is cls
    assert issubclass(Problem, NestrelError)
    assert issubclass(Unreachable, NestrelError)


def test_whatever_the_library_takes_and_gives_has_a_name_in_it() -> None:
    """Annotations are texts, as some names are imported for type checkers alone: what counts is words that are a class
    of ours."""
    ours = {
        name: value
        for module in pkgutil.walk_packages(nestrel.__path__, "nestrel.")
        if module.name.startswith("nestrel.client.")
        or re.search(r"core\.(\w*objects|roles|outbox|replica)$", module.name)
        for name, value in vars(importlib.import_module(module.name)).items()
        if isinstance(value, type) and value.__module__ == module.name
    }
    missing, seen = set(), set[str]()
    for exported in {getattr(nestrel.client, name) for name in dir(nestrel.client) if name[0].isupper()}:
        for name, method in inspect.getmembers(exported, inspect.isfunction):
            if name.startswith("_") and name != "__aenter__":
                continue
            for annotation in method.__annotations__.values():
                words = set(re.findall(r"[A-Z]\w+", str(annotation)))
                seen |= words
                missing |= {(exported.__name__, name, word) for word in words & set(ours) - set(dir(nestrel.client))}
    assert missing == set()
    assert {"Follow", "FollowAll", "SearchPage", "SaidPage", "Message"} <= seen


async def test_a_live_conversation_stays_current_and_holds_what_its_commands_answer(service: Served) -> None:
    mara, odd = unique("mara"), unique("odd")
    async with client_of(service, mara) as one, client_of(service, odd) as other:
        await other.me()
        made = await one.make_conversation(members=[odd])
        await one.post_batch(made.id, [{"body": f"m{n + 1}"} for n in range(120)])
        async with one.live(made.id, newest=20) as here, asyncio.timeout(PATIENCE):
            assert [message.seq for message in here.messages] == list(range(101, 121))
            assert [message.seq for message in await here.older(30)] == list(range(100, 70, -1))
            assert (await here.edit(120, "edited")).edits == 1
            assert here.messages[-1].body == "edited"
            with pytest.raises(StaleEdit) as stale:
                await here.edit(120, "late", rev=1)
            assert stale.value.extra["message"]["body"] == "edited"
            await other.react(made.id, 119, "⚓")
            await other.remove_member(made.id)
            await here.until(lambda replica: odd not in [member.user_id for member in replica.present()])
            assert here.replica.messages[119].reactions[0].by == [odd]
            await one.put_member(made.id, odd)
            assert (await other.read(made.id, 118)).unread == 2
            await here.until(lambda replica: replica.read_by(118) == [odd])
            assert here.replica.read_by(119) == []
            await here.remove(119)
            assert [message.removed_by for message in here.messages[-2:]] == [mara, None]
            await other.change_me(display_name="Odd the bosun")
            await here.until(lambda replica: replica.name_of(odd) == "Odd the bosun")
            await here.post("the last word")
            assert here.replica.unread(odd) == 2
            assert (await other.conversation(made.id)).unread == 2
            await one.close_conversation(made.id)
            with pytest.raises(NestrelError, match="closed"):
                await here.until(lambda _replica: False)


def test_the_blocking_client_edits_likes_reads_and_lists_who_did(service: Served) -> None:
    user = unique("mara")
    with Client(service.url, token(user)) as client:
        place = client.make_conversation().id
        rev = client.post(place, "one").rev
        assert client.edit(place, 1, "two", rev=rev).body == "two"
        assert [(body.n, body.body) for body in client.edits(place, 1)] == [(1, "one")]
        assert client.react(place, 1).reactions[0].symbol == "like"
        assert [(one.symbol, one.user_id) for one in client.reactions(place, 1)] == [("like", user)]
        assert client.unreact(place, 1).reactions == []
        assert client.read(place, 1).read_seq == 1
        assert [reader.user_id for reader in client.readers(place, 1)] == [user]
        assert client.remove(place, 1).removed_by == user
