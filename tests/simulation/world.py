"""Nodes and clients around the truth: the real hub, sessions, frames and checkpoints; the real replica and outbox."""

from __future__ import annotations

import asyncio
import contextlib
import json
import random
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import asynccontextmanager
from dataclasses import replace
from typing import Any
from uuid import UUID

from starlette.websockets import WebSocket

from nestrel.client.line import Frame, Line
from nestrel.client.replica.outbox import Outbox
from nestrel.client.replica.reading import Reading
from nestrel.client.replica.store import ReplicaFile
from nestrel.client.replica.sync import ReplicaState, Sync
from nestrel.core.callers import Caller
from nestrel.core.commands import Command
from nestrel.core.cursors import AllPosition, ResyncPosition
from nestrel.core.epochs import Lineage
from nestrel.core.problems import Problem, StoreUnavailable, Trouble, Unreachable
from nestrel.live.source import Gone, Want
from nestrel.service.addressing import addressed
from nestrel.service.socket import Session
from nestrel.store.events import Moved
from nestrel.store.read.resync import Pending
from nestrel.store.write.answers import Growth, Written
from tests.simulation.model import NEWEST, Truth
from tests.simulation.stage import SEAL, Stage

_NOTHING = UUID(int=0)

pass_time = asyncio.sleep
"""Moves the simulation's own clock; no real time passes."""


class Known:
    """The store as one process sees it: the first question after a restore tells it that there was one."""

    def __init__(self, truth: Truth, renew: Callable[[], None]) -> None:
        self._truth = truth
        self._renew = renew
        self._epoch = truth.epoch

    def meet(self) -> None:
        if self._epoch != self._truth.epoch:
            self._epoch = self._truth.epoch
            self._renew()
            raise StoreUnavailable("it was restored", reason=Trouble.RESTORED)

    def __getattr__(self, name: str) -> Any:
        ask = getattr(self._truth, name)

        async def asked(*args: Any) -> Any:
            self.meet()
            return await ask(*args)

        return asked


class Node(Stage):
    """A service process: what `Service` is to a session, on the truth."""

    def __init__(self, truth: Truth) -> None:
        self.truth = truth
        super().__init__(Known(truth, self.renew), seconds=2.0)
        self.writer = self
        self.lines: set[SimLine] = set()
        self.spawn(self.checkpoints.run())

    def renew(self) -> None:
        self.moves.forget()
        self.hub.renew()

    @property
    def history(self) -> Lineage:
        return self.truth.lineage

    def offer(self, unit: Sequence[Command], answered: Callable[[list[Written] | Exception], None]) -> None:
        async def run() -> None:
            try:
                with contextlib.suppress(StoreUnavailable):
                    self.source.meet()
                written = await self.truth.carry_out(self, unit[0], self.hub.followed)
            except Problem as problem:
                answered(problem)
            else:
                answered([written])

        self.spawn(run())

    def serve(self, line: SimLine) -> None:
        scope: dict[str, Any] = {"type": "websocket", "headers": [], "path": "/v1/live", "client": None}

        async def send(message: Any) -> None:
            if message["type"] == "websocket.send":
                line.to_client(message["text"])
            elif message["type"] == "websocket.close":
                line.cut()

        first = True

        async def receive() -> Any:
            nonlocal first
            if first:
                first = False
                return {"type": "websocket.connect"}
            return await line.to_service.get()

        self.lines.add(line)
        session = Session(self, WebSocket(scope, receive, send), receive, send)  # type: ignore[arg-type]  # the part of Service that it uses
        self.spawn(session.run())

    async def die(self) -> None:
        for line in tuple(self.lines):
            line.cut()
        await super().die()


class SimLine:
    """A connection: frames keep their order, each takes its time, and it can be cut between any two."""

    def __init__(self, world: World, node: Node, user: str) -> None:
        self.user_id = user
        self._world = world
        self._node = node
        self._broken = False
        self._arrives = [0.0, 0.0]
        self.to_service: asyncio.Queue[Any] = asyncio.Queue()
        self._inbox: asyncio.Queue[str | None] = asyncio.Queue()

    def _later(self, way: int, put: Callable[[Any], None], what: Any) -> None:
        loop = asyncio.get_running_loop()
        self._arrives[way] = max(self._arrives[way] + 1e-6, loop.time() + self._world.dice.random() * 0.2)
        loop.call_at(self._arrives[way], put, what)

    def to_client(self, text: str) -> None:
        if not self._broken:
            self._world.check_delivery(self.user_id, text)
            self._later(0, self._inbox.put_nowait, text)

    def cut(self) -> None:
        if not self._broken:
            self._broken = True
            self._node.lines.discard(self)
            self._later(1, self.to_service.put_nowait, {"type": "websocket.disconnect", "code": 1006})
            self._inbox.put_nowait(None)

    async def send(self, frame: Frame) -> None:
        if self._broken:
            raise Unreachable("cut")
        self._later(1, self.to_service.put_nowait, {"type": "websocket.receive", "text": json.dumps(frame)})

    async def receive(self) -> Frame:
        text = await self._inbox.get()
        if text is None:
            raise Unreachable("cut")
        frame: Frame = json.loads(text)
        return frame


class Client:
    """A member's device: its file outlives it."""

    def __init__(self, world: World, user: str) -> None:
        self.world = world
        self.user = user
        self.name = "simulation"
        self.file = ReplicaFile(":memory:")
        self.outbox = Outbox(self.file)
        self.reading = Reading(self.file)
        self.line_now: SimLine | None = None
        self.start()

    def start(self) -> None:
        self.sync = Sync(self.file, self.outbox, self, told=self._look, offload=_at_once, chance=self.world.dice.random)
        self.task = asyncio.ensure_future(self.sync.run())

    async def upload(
        self, conversation_id: str, name: str, size: int, read: Callable[[int, int], bytes]
    ) -> dict[str, Any]:
        raise AssertionError("no post of the simulation bears a file")

    async def kill(self) -> None:
        self.task.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await self.task

    def _look(self) -> None:
        """Whoever looks never sees a post both waiting and numbered."""
        pending = {one.content["body"] for one in self.outbox.entries() if one.kind == "post" and one.waiting}
        if pending:
            held = {
                row[0] for row in self.file._connection.execute("SELECT json_extract(object, '$.body') FROM messages")
            }
            assert not pending & held - self.world.truth.uncertain, "a post is shown twice"

    @asynccontextmanager
    async def line(self) -> AsyncIterator[Line]:
        await self.world.truth.lag(0.3)
        if self.world.dice.random() < self.world.trouble / 2:
            raise Unreachable("no way through")
        node = self.world.dice.choice(self.world.nodes)
        line = self.line_now = SimLine(self.world, node, self.user)
        node.serve(line)
        try:
            await line.send({"type": "sign_in", "token": self.user})
            await line.receive()
            yield line
        finally:
            line.cut()

    async def resync(self, cursor: str | None) -> bytes:
        await self.world.truth.lag(0.3)
        answer = await self.world.resync(self.user, cursor)
        await self.world.truth.lag(0.3)
        if self.world.dice.random() < self.world.trouble:
            raise Unreachable("the answer was lost")
        return answer

    async def changes(self, id_: str, cursor: str | None) -> bytes | None:
        """`GET …/changes`."""
        truth, user = self.world.truth, self.user
        start = SEAL.open_conversation(user, UUID(id_), cursor) if cursor else None
        [found] = (await truth.catch_up(Caller(user), [Want(UUID(id_), start, None)], 5)).values()
        await truth.lag(0.3)
        if self.world.dice.random() < self.world.trouble:
            raise Unreachable("the answer was lost")
        return None if isinstance(found, Gone) else addressed(SEAL, user, found).encode()


async def _at_once(work: Callable[..., Any], *args: Any) -> Any:
    await asyncio.sleep(0)
    return work(*args)


class World:
    """Everything of one schedule."""

    def __init__(self, seed: int) -> None:
        self.dice = random.Random(seed)
        self.trouble = 0.1
        self.truth = Truth(self.dice)
        self.truth.notify = self._committed
        self.truth.trouble = 0.05
        self.users = ["mara", "odd", "ines"]
        self.places = [UUID(int=n + 1) for n in range(3)]
        for place in self.places:
            self.truth.make(place, self.dice.sample(self.users, self.dice.randint(1, 3)))
        self.nodes = [Node(self.truth), Node(self.truth)]
        self.clients = [Client(self, user) for user in self.users]
        self.posted: list[str] = []
        self._doing: set[asyncio.Task[Any]] = set()

    def _committed(self, node: object, moved: Moved, growth: Growth | None) -> None:
        """The node that wrote knows at once; the others hear of it late, twice, or not at all."""
        loop = asyncio.get_running_loop()
        for other in self.nodes:
            if other is node and growth is not None:
                loop.call_soon(other.hub.grown, [growth])  # behind the answer, as the writer does it
            elif self.dice.random() > self.trouble:
                for _ in range(1 + (self.dice.random() < 0.1)):
                    loop.call_later(self.dice.random(), other.hub.heard, [moved])

    def check_delivery(self, user: str, text: str) -> None:
        """Nobody is sent a row from after their time."""
        frame = json.loads(text)
        if frame["type"] == "changes":
            self.check_rows(user, frame)

    def check_rows(self, user: str, changes: dict[str, Any]) -> None:
        talk = self.truth.talks.get(UUID(changes["conversation_id"]))
        if talk is None or SEAL.open_conversation(user, talk.id, changes["cursor"]).epoch != self.truth.epoch:
            return  # made before the restore
        row = talk.members.get(user)
        if row is not None and row.wire["left_at"] is not None:
            newest = max((one["rev"] for one in changes["messages"]), default=0)
            assert newest < row.rev, f"{user} was sent what came after they had left"

    async def resync(self, user: str, token: str | None) -> bytes:
        """`POST /resync`, a conversation in each answer."""
        now = await self.truth.read(self.truth.snapshot)
        self.truth.fail()
        at = SEAL.open_all(user, token) if token is not None else None
        resuming = isinstance(at, ResyncPosition)
        part = at if isinstance(at, ResyncPosition) else ResyncPosition(at, now, _NOTHING)
        lineage = self.truth.lineage
        if not all(lineage.goes_on(one, now) for one in (part.since, part.upto) if one is not None):
            part = ResyncPosition(None, now, _NOTHING)
        if part.since is None and part.upto.epoch != now.epoch:
            part = ResyncPosition(None, now, _NOTHING)
        if part.since is None:
            mine = sorted(id_ for id_, talk in self.truth.talks.items() if talk.has(user))
            places = [Pending(id_, joined=True) for id_ in mine if id_ > part.after]
        else:
            places = [place for place in self.truth.places(user, part.since) if place.id > part.after]
        if part.within is not None:
            places.insert(0, Pending(part.after, part.within))
        answer: dict[str, Any] = {"joined": [], "gone": [], "reset": part.since is None, "more": False}
        answer["rewound"] = part.since is not None and part.since.epoch != now.epoch
        answer["begins"] = part.after == _NOTHING
        items: list[str] = []
        for place in places[:1]:
            talk = self.truth.talks[place.id]
            part = replace(part, after=place.id, within=None)
            found = (
                self.truth.newest(talk) if place.start is None else self.truth._since(talk, place.start, 5, None, 30)
            )
            await self.truth.lag()
            if self.truth.epoch != now.epoch:
                raise StoreUnavailable("the line broke")
            if place.gone or found is None or not talk.has(user):
                answer["gone"].append(str(place.id))
                continue
            items.append(addressed(SEAL, user, found))
            self.check_rows(user, json.loads(items[-1]))
            answer["joined"] += [str(place.id)] if place.joined else []
            part = replace(part, within=found.end if found.more else None)
        end: AllPosition | ResyncPosition = part.upto
        if len(places) > 1 or part.within is not None:
            answer["more"], end = True, part
        elif resuming:
            answer["more"] = True
        answer["cursor"] = SEAL.all(user, end)
        return f'{{"items":[{",".join(items)}],{json.dumps(answer)[1:]}'.encode()

    # What happens

    def _do(self, work: Any) -> None:
        async def tried() -> None:
            with contextlib.suppress(StoreUnavailable):
                await work

        task = asyncio.ensure_future(tried())
        self._doing.add(task)
        task.add_done_callback(self._doing.discard)

    async def run(self, steps: int) -> None:
        """So many things happen; then the trouble ends, and everyone must come to the truth."""
        for _ in range(steps):
            await pass_time(self.dice.random() * 0.8)
            await self._step()
        self.trouble = self.truth.trouble = 0.0
        await asyncio.gather(*self._doing)
        async with asyncio.timeout(600):
            while not all(self._at_rest(client) for client in self.clients):
                for client in self.clients:
                    if client.task.done():
                        client.task.result()
                await pass_time(1)
            await pass_time(10)  # checkpoints find what was lost
        self.check()
        for client in self.clients:
            await client.kill()
            client.file.close()
        for node in self.nodes:
            await node.die()

    def _at_rest(self, client: Client) -> bool:
        return client.sync.standing.state is ReplicaState.LIVE and client.outbox.next() is None

    async def _step(self) -> None:
        dice, truth = self.dice, self.truth
        client, talk = dice.choice(self.clients), truth.talks[dice.choice(self.places)]
        node, user, what = dice.choice(self.nodes), dice.choice(self.users), dice.random()
        seq = dice.randint(1, talk.head + 1)
        if what < 0.35:
            self.posted.append(f"post {len(self.posted)}")
            entry = client.outbox.put("post", str(talk.id), {"body": self.posted[-1]})
            if dice.random() < 0.3:
                client.outbox.put("edit", str(talk.id), {"body": f"{self.posted[-1]}, edited"}, about=entry.key)
            client.sync.something_waits()
        elif what < 0.45:
            client.outbox.put("remove", str(talk.id), {}, seq=seq)
            client.sync.something_waits()
        elif what < 0.5:
            client.outbox.put("read", str(talk.id), {"read_seq": max(1, talk.head)})
            client.sync.something_waits()
        elif what < 0.6:
            self._do(truth.join(node, talk.id, user))
        elif what < 0.68:
            self._do(truth.leave(node, talk.id, user, dice.choice(["left", "removed"])))
        elif what < 0.72:
            self._do(truth.rename(node, talk.id))
        elif what < 0.73:
            self._do(truth.close(node, talk.id))
        elif what < 0.76:
            self._do(truth.expire(node, talk.id))
        elif what < 0.85:
            if client.line_now is not None:
                client.line_now.cut()
        elif what < 0.92:
            await client.kill()
            client.start()
        elif what < 0.935:
            truth.save()
        elif what < 0.945:
            truth.restore(promoted=dice.random() < 0.5)
        elif what < 0.97:
            number = dice.randrange(len(self.nodes))
            dead, self.nodes[number] = self.nodes[number], Node(truth)
            await dead.die()
        else:
            client.sync.retry_now()

    def check(self) -> None:
        """Everyone holds the truth, and nothing else."""
        for talk in self.truth.talks.values():
            assert sorted(talk.messages) == list(range(talk.floor, talk.head + 1))
        posted = [body for talk in self.truth.talks.values() for body in talk.posted]
        assert len(posted) == len(set(posted)), "a post was made twice"
        for client in self.clients:
            mine = {str(id_): talk for id_, talk in self.truth.talks.items() if talk.has(client.user)}
            held = {one.id: one for one in client.reading.conversations()}
            assert set(held) == set(mine), f"{client.user} holds {set(held)}, not {set(mine)}"
            for id_, talk in mine.items():
                self._check_copy(client, id_, talk, held[id_].title)

    def _check_copy(self, client: Client, id_: str, talk: Any, title: str) -> None:
        assert title == f"t{talk.own_rev}", f"{client.user} holds the title {title} of {id_}, not t{talk.own_rev}"
        messages = {one.seq: one for one in client.reading.messages(id_, limit=10_000)}
        assert min(messages, default=talk.floor) >= talk.floor, f"{client.user} still holds what has expired of {id_}"
        for seq, one in messages.items():
            assert seq in talk.messages, f"{client.user} holds a {seq} of {id_} that is not there"
            truth = talk.messages[seq].wire
            assert (one.rev, one.body) == (truth["rev"], truth["body"]), f"{client.user} holds an old {seq} of {id_}"
        # What began with a newest page has a hole in front of it, in which messages that changed later may stand.
        begins = talk.head + 1
        while begins - 1 in messages:
            begins -= 1
        kept = talk.head - talk.floor + 1
        assert talk.head - begins + 1 >= min(NEWEST, kept), f"{client.user} misses the newest of {id_}"
        people = {one.user_id: (one.rev, one.read_seq) for one in client.reading.members(id_)}
        there = {user: (row.rev, row.wire["read_seq"]) for user, row in talk.members.items() if talk.has(user)}
        assert people == there, f"{client.user} holds other members of {id_}: {people}, not {there}"
