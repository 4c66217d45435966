"""Many nodes with many followers, on a clock of their own: what the bus carries, what is read from the store, and what
memory it takes, for each node. Hub, bus, checkpoints, what moved lately and the followers' sessions are the real code,
and so is the server's part of a connection, if that is asked for; the store and the network are not:
`python -m tests.simulation.nodes --nodes 64 --followers 1000000`.
"""

from __future__ import annotations

import asyncio
import gc
import json
import random
from collections import defaultdict
from collections.abc import Callable, Collection, Sequence
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

import click
import psutil

from nestrel.core.callers import Caller
from nestrel.core.cursors import AllPosition, ChangePosition
from nestrel.core.epochs import Begun
from nestrel.live import metrics
from nestrel.live.bus import Bus
from nestrel.store import rows
from nestrel.store.events import Moved
from nestrel.store.read.changes import Changes, State
from nestrel.store.read.journal import Tail
from nestrel.store.rows import Wire
from nestrel.store.write.answers import Growth
from tests.simulation.buses import Exchange, Notified
from tests.simulation.clock import VirtualLoop
from tests.simulation.followers import Server, Whole, bare
from tests.simulation.stage import Stage

_EPOCH = 1
_READ_SECONDS = 0.002
_FIRST = 64
"""Followers that come before memory is looked at."""
_TOGETHER = 1_000
_PEOPLE = 100
_NOW = datetime(2026, 11, 27, 12, tzinfo=UTC)
_KEPT = 64
"""Messages of each conversation that the store here keeps: more than any node is behind."""

pass_time = asyncio.sleep
"""Moves the simulation's own clock; no real time passes."""


def _message(conversation_id: UUID, seq: int) -> Wire:
    row = (seq, seq, "mara-0011aabb", "x" * 120, "plain", "{}", None, _NOW, None, 0, None, None, None, None)
    return rows.message(str(conversation_id), row)


class Store:
    """Conversations as their counters and newest messages; counts what each node reads."""

    def __init__(self) -> None:
        self.heads: dict[UUID, int] = defaultdict(int)
        self.journal: list[tuple[int, UUID, int]] = []

    def post(self, conversation_id: UUID, followed: bool) -> Growth:
        seq = self.heads[conversation_id] = self.heads[conversation_id] + 1
        self.journal.append((len(self.journal) + 1, conversation_id, seq))
        messages = [_message(conversation_id, seq)] if followed else []
        return Growth(conversation_id, seq - 1, seq - 1, seq, seq, 1, followed, _EPOCH, messages)

    def now(self) -> AllPosition:
        at = len(self.journal) + 1
        return AllPosition(_EPOCH, at, at, at)


class NodeSource:
    """`Source` for one node."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self.reads = 0

    def __getattr__(self, name: str) -> Any:
        raise AssertionError(f"the simulation asks for {name}, which it does not have")

    async def check(self, _caller: Caller, _conversation_id: UUID) -> None:
        pass

    async def states(self, conversation_ids: Sequence[UUID]) -> dict[UUID, State]:
        return {
            id_: State(head, head, 1, 0, False, _EPOCH, Begun([_EPOCH], [0], head))
            for id_ in conversation_ids
            for head in (self._store.heads[id_],)
        }

    async def since(self, asked: Sequence[tuple[UUID, ChangePosition]], limit: int) -> Sequence[Changes]:
        self.reads += len(asked)
        await asyncio.sleep(_READ_SECONDS)
        return [self._changes(conversation_id, start) for conversation_id, start in asked]

    def _changes(self, conversation_id: UUID, start: ChangePosition) -> Changes:
        head = self._store.heads[conversation_id]
        messages = [_message(conversation_id, seq) for seq in range(start.rev + 1, head + 1)][-_KEPT:]
        return Changes(conversation_id, start, ChangePosition(head, head, head, _EPOCH), head, 1, messages=messages)

    async def tail(self, since: AllPosition | None) -> Tail:
        await asyncio.sleep(_READ_SECONDS)
        from_ = since.xmax - 1 if since is not None else 0
        return Tail(self._store.now(), 0, self._store.journal[from_:])

    async def tell_apart(self, _running: Collection[int]) -> None:
        pass


class Node(Stage):
    """One process, with its bus and its checkpoints, and with those who follow at it."""

    def __init__(self, store: Store, bus: Bus) -> None:
        self.reader = NodeSource(store)
        super().__init__(self.reader, bus, seconds=3.0)
        self.heard = self.deliveries = 0
        self.bus = bus
        self.server = Server(self)
        self.spawn(self.checkpoints.run())

    async def start(self) -> None:
        await self.bus.start(self._hear, self.hub.look_again)

    def _hear(self, moved: Sequence[Moved]) -> None:
        self.heard += len(moved)
        self.hub.heard(moved)

    def delivered(self, _conversation_id: object, _user_id: object) -> None:
        self.deliveries += 1

    async def die(self) -> None:
        await self.bus.stop()
        await self.server.stop()
        await super().die()


def _buses(nodes: int, *, topics: bool) -> list[Bus]:
    """The bus of each of so many processes: over Redis a process hears of what is followed there, over the database of
    everything."""
    if topics:
        exchange = Exchange()
        return [exchange.bus(f"node{n}") for n in range(nodes)]
    everyone: list[Callable[[str], None]] = []
    return [Notified(everyone, f"node{n}") for n in range(nodes)]


@dataclass(slots=True)
class Shown:
    """What a run shows, for each post: bus messages, those that somebody had to hear, reads and deliveries of all nodes
    together; bytes of rings of all nodes together, and of each follower; how many followers are behind, or gone, at
    the end; and of each kind what the node has that has the most of it."""

    posts: int
    heard: float
    needed: float
    reads: float
    deliveries: float
    rings: int
    follower: float
    behind: int
    most: dict[str, float]


def _memory() -> int:
    gc.collect()
    return psutil.Process().memory_info().rss


async def _come(nodes: Sequence[Node], numbers: range, ids: Sequence[UUID], dice: random.Random, whole: bool) -> None:
    """Followers, spread over nodes and conversations, and live."""
    spread = numbers.stop >= len(ids) * len(nodes)
    for n in numbers:
        node = nodes[n // len(ids) % len(nodes)] if spread else dice.choice(nodes)
        who, place = f"reader{n % _PEOPLE}", ids[n % len(ids)]
        if whole:
            Whole(node.server, who, place)
        else:
            bare(node, who, place)
        if n % _TOGETHER == 0:
            await pass_time(0.1)
    async with asyncio.timeout(60):
        while sum(len(session.following.follows) for node in nodes for session in node.sessions) < numbers.stop:
            await pass_time(1)


async def _run(
    nodes: int, followers: int, places: int, rate: float, seconds: float, *, topics: bool, whole: bool, seed: int
) -> Shown:
    dice, store = random.Random(seed), Store()
    made = [Node(store, bus) for bus in _buses(nodes, topics=topics)]
    for node in made:
        await node.start()
    ids = [UUID(int=n + 1) for n in range(places)]
    await _come(made, range(_FIRST), ids, dice, whole)  # what is made once is no part of what each takes
    rest = _memory()
    await _come(made, range(_FIRST, followers), ids, dice, whole)
    held = (_memory() - rest) / (followers - _FIRST)
    posts = round(rate * seconds)
    for _ in range(posts):
        node, place = dice.choice(made), dice.choice(ids)
        growth = store.post(place, node.hub.followed(place))
        node.hub.grown([growth])
        node.bus.publish([Moved(place, growth.rev)])
        await pass_time(1 / rate)
    await pass_time(5)
    shown = Shown(
        posts,
        sum(node.heard for node in made) / posts,
        metrics.BUS_NEEDED._value.get() / posts,
        sum(node.reader.reads for node in made) / posts,
        sum(node.deliveries for node in made) / posts,
        sum(node.hub.ring_bytes for node in made),
        held,
        followers
        - sum(
            follower.at is not None and follower.at.rev == store.heads[id_]
            for node in made
            for id_, channel in node.hub.channels.items()
            for follower in channel.followers
        ),
        {
            "bus messages a second": max(node.heard for node in made) / seconds,
            "reads a second": max(node.reader.reads for node in made) / seconds,
            "deliveries a second": max(node.deliveries for node in made) / seconds,
            "followers": max(node.hub.followers for node in made),
            "MB of rings": max(node.hub.ring_bytes for node in made) / 1e6,
            "MB of followers": max(node.hub.followers for node in made) * held / 1e6,
        },
    )
    for node in made:
        await node.die()
    return shown


def simulate(
    nodes: int, followers: int, places: int, rate: float, seconds: float, *, topics: bool, whole: bool, seed: int = 1
) -> Shown:
    """What so many nodes show, with so many followers spread over them and over the conversations, at so many posts a
    second to random ones at random nodes. `whole`: of each connection there is also what the server has of it."""
    with asyncio.Runner(loop_factory=VirtualLoop) as runner:
        return runner.run(_run(nodes, followers, places, rate, seconds, topics=topics, whole=whole, seed=seed))


@click.command()
@click.option("--nodes", default=64, show_default=True)
@click.option("--followers", default=1_000_000, show_default=True)
@click.option("--places", default=50_000, show_default=True, help="Conversations that they follow.")
@click.option("--rate", default=1_000.0, show_default=True, help="Posts a second.")
@click.option("--seconds", default=10.0, show_default=True)
@click.option("--bus", type=click.Choice(["redis", "postgres"]), default="redis", show_default=True)
@click.option("--whole", is_flag=True, help="Each follower with the server's part of its connection: twice the memory.")
@click.option("--json", "as_json", is_flag=True)
def main(
    nodes: int, followers: int, places: int, rate: float, seconds: float, bus: str, whole: bool, as_json: bool
) -> None:
    """Show what each node of many hears, reads and holds."""
    gc.disable()  # it would look through a million connections again and again
    shown = simulate(nodes, followers, places, rate, seconds, topics=bus == "redis", whole=whole)
    if as_json:
        click.echo(json.dumps(asdict(shown)))
        return
    click.echo(f"{nodes} nodes, {followers:,} followers, {places:,} conversations, {rate:,.0f} posts/s over {bus}")
    for what, value in (
        ("bus messages a post", shown.heard), ("of which were needed", shown.needed), ("reads a post", shown.reads),
        ("deliveries a post", shown.deliveries), ("bytes of rings, all nodes", shown.rings),
        ("bytes of a follower", shown.follower), ("followers behind at the end", shown.behind),
        *((f"most on a node: {name}", value) for name, value in shown.most.items()),
    ):  # fmt: skip
        click.echo(f"  {what:<40} {value:,.2f}")


if __name__ == "__main__":
    main()
