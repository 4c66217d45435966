"""Many nodes with many followers, on a clock of its own: what the bus carries, what is read from the store, and what
memory it takes, for each node. Hub, checkpoints and what moved lately are the real code; the store, the network and
whoever follows are not: `python -m tests.simulation.nodes --nodes 64 --followers 1000000`.
"""

from __future__ import annotations

import asyncio
import gc
import random
from collections import defaultdict
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from typing import Any
from uuid import UUID

import click
import psutil

from nestrel.core.cursors import AllPosition, ChangePosition
from nestrel.core.epochs import Begun
from nestrel.live import metrics
from nestrel.live.channel import Follower
from nestrel.live.checkpoints import Checkpoints
from nestrel.live.hub import Hub
from nestrel.live.moves import Moves
from nestrel.store.events import Moved, Signal
from nestrel.store.read.changes import Changes, State
from nestrel.store.read.journal import Tail
from nestrel.store.rows import Wire
from nestrel.store.write.answers import Growth
from tests.simulation.clock import VirtualLoop

_EPOCH = 1
_READ_SECONDS = 0.002
_BUS_SECONDS = 0.001
_KEPT = 64
"""Messages of each conversation that the store here keeps: more than any node is behind."""


def _message(conversation_id: UUID, seq: int) -> Wire:
    return {
        "conversation_id": str(conversation_id), "seq": seq, "rev": seq, "author_id": "mara", "body": "x" * 120,
        "format": "plain", "created_at": "2026-11-27T12:00:00.000000Z", "edited_at": None, "removed_at": None,
        "reply_to": None, "reactions": {}, "mentions": [], "attachments": [], "attributes": {}, "edits": 0,
    }  # fmt: skip


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

    async def states(self, conversation_ids: Sequence[UUID]) -> dict[UUID, State]:
        return {
            id_: State(head, head, 1, 0, False, _EPOCH, Begun([_EPOCH], [0], head))
            for id_ in conversation_ids
            for head in (self._store.heads[id_],)
        }

    async def since(self, conversation_id: UUID, start: ChangePosition, limit: int) -> Changes | None:
        self.reads += 1
        await asyncio.sleep(_READ_SECONDS)
        head = self._store.heads[conversation_id]
        messages = [_message(conversation_id, seq) for seq in range(start.rev + 1, head + 1)][-_KEPT:]
        return Changes(conversation_id, start, ChangePosition(head, head, head, _EPOCH), head, 1, messages=messages)

    async def tail(self, since: AllPosition | None) -> Tail:
        await asyncio.sleep(_READ_SECONDS)
        from_ = since.xmax - 1 if since is not None else 0
        return Tail(self._store.now(), 0, self._store.journal[from_:])

    async def tell_apart(self, _running: Collection[int]) -> None:
        pass


class SimBus:
    """The bus between the nodes. With `topics` a node hears of what it attends to, as over Redis; without, of
    everything, as over the database."""

    def __init__(self, *, topics: bool) -> None:
        self.topics = topics
        self.nodes: list[SimNode] = []
        self.attending: dict[UUID, set[SimNode]] = defaultdict(set)

    def publish(self, sender: SimNode, moved: Moved) -> None:
        heard = self.attending.get(moved.conversation_id, set()) if self.topics else self.nodes
        for node in heard:
            if node is not sender:
                node.heard += 1
                asyncio.get_running_loop().call_later(_BUS_SECONDS, node.hub.heard, [moved])


class SimNode:
    """One process, with those who follow at it; it is their listener, and takes what it is told at once."""

    def __init__(self, store: Store, bus: SimBus) -> None:
        self.heard = self.deliveries = 0
        self.source = NodeSource(store)
        self._bus = bus
        self.hub = Hub(self.source, self)
        self.moves = Moves(self.source)
        self.checkpoints = Checkpoints(self.hub, self.moves, 3.0)
        bus.nodes.append(self)

    # The hub's attention

    async def attend(self, conversations: Collection[UUID] = (), users: Collection[str] = ()) -> None:
        for id_ in conversations:
            self._bus.attending[id_].add(self)

    def neglect(self, conversations: Collection[UUID] = (), users: Collection[str] = ()) -> None:
        for id_ in conversations:
            self._bus.attending[id_].discard(self)

    # The followers' side

    def wake(self, follower: Follower) -> None:
        entry = follower.channel.next_entry(follower.at) if follower.at is not None else None
        while entry is not None and follower.at is not None:
            self.deliveries += 1
            follower.at = entry.end
            entry = follower.channel.next_entry(follower.at)

    def end(self, follower: Follower, reason: str) -> None:
        raise AssertionError(reason)

    def joined(self, conversation_id: UUID) -> None: ...

    def signalled(self, follower: Follower, signal: Signal) -> None: ...

    def renewed(self) -> None: ...


@dataclass(slots=True)
class Shown:
    """What a run shows, for each post: bus messages, those that somebody had to hear, reads and deliveries of all nodes
    together; bytes of rings for each followed conversation of a node, and of a node for each of its followers."""

    posts: int = 0
    heard: float = 0.0
    needed: float = 0.0
    reads: float = 0.0
    deliveries: float = 0.0
    ring: float = 0.0
    follower: float = 0.0
    behind: int = 0
    busiest: dict[str, float] = field(default_factory=dict)


async def _run(
    nodes: int, followers: int, places: int, rate: float, seconds: float, *, topics: bool, seed: int
) -> Shown:
    dice, store, bus = random.Random(seed), Store(), SimBus(topics=topics)
    made = [SimNode(store, bus) for _ in range(nodes)]
    ids = [UUID(int=n + 1) for n in range(places)]
    # A node that has just started looks at all that is followed there: nothing, as a rule.
    turning = [asyncio.ensure_future(node.checkpoints.run()) for node in made]
    await asyncio.sleep(1)
    gc.collect()
    rest = psutil.Process().memory_info().rss
    for n in range(followers):
        node = made[n // places % nodes if followers >= places * nodes else dice.randrange(nodes)]
        [follower] = await node.hub.follow([ids[n % places]], "reader", node)
        follower.started = True
    held = psutil.Process().memory_info().rss - rest
    needed = metrics.BUS_NEEDED._value.get()
    posts = round(rate * seconds)
    for _ in range(posts):
        node, place = dice.choice(made), dice.choice(ids)
        growth = store.post(place, node.hub.followed(place))
        node.hub.grown([growth])
        bus.publish(node, Moved(place, growth.rev))
        await asyncio.sleep(1 / rate)
    await asyncio.sleep(5)
    for task in turning:
        task.cancel()
    await asyncio.gather(*turning, return_exceptions=True)
    channels = sum(len(node.hub.channels) for node in made)
    behind = sum(
        channel.at is None or channel.at.rev < store.heads[id_]
        for node in made
        for id_, channel in node.hub.channels.items()
    )
    return Shown(
        posts,
        sum(node.heard for node in made) / posts,
        (metrics.BUS_NEEDED._value.get() - needed) / posts,
        sum(node.source.reads for node in made) / posts,
        sum(node.deliveries for node in made) / posts,
        sum(node.hub.ring_bytes for node in made) / channels,
        held / followers,
        behind,
        {
            "heard": max(node.heard for node in made) / seconds,
            "reads": max(node.source.reads for node in made) / seconds,
            "deliveries": max(node.deliveries for node in made) / seconds,
        },
    )


def simulate(
    nodes: int, followers: int, places: int, rate: float = 100.0, seconds: float = 10.0, *, topics: bool, seed: int = 1
) -> Shown:
    """What so many nodes show, with so many followers spread over them and over the conversations, at so many posts a
    second to random ones at random nodes."""
    loop = VirtualLoop()
    try:
        return loop.run_until_complete(_run(nodes, followers, places, rate, seconds, topics=topics, seed=seed))
    finally:
        loop.close()


@click.command()
@click.option("--nodes", default=64, show_default=True)
@click.option("--followers", default=1_000_000, show_default=True)
@click.option("--places", default=50_000, show_default=True, help="Conversations that they follow.")
@click.option("--rate", default=1_000.0, show_default=True, help="Posts a second.")
@click.option("--seconds", default=10.0, show_default=True)
@click.option("--bus", type=click.Choice(["redis", "postgres"]), default="redis", show_default=True)
def main(nodes: int, followers: int, places: int, rate: float, seconds: float, bus: str) -> None:
    """Show what each node of many hears, reads and holds."""
    shown = simulate(nodes, followers, places, rate, seconds, topics=bus == "redis")
    click.echo(f"{nodes} nodes, {followers:,} followers, {places:,} conversations, {rate:,.0f} posts/s over {bus}")
    for what, value in (
        ("bus messages a post", shown.heard), ("of which were needed", shown.needed), ("reads a post", shown.reads),
        ("deliveries a post", shown.deliveries), ("ring bytes of a followed conversation", shown.ring),
        ("bytes of a follower in the hub", shown.follower), ("behind at the end", shown.behind),
        *((f"busiest node: {name}/s", value) for name, value in shown.busiest.items()),
    ):  # fmt: skip
        click.echo(f"  {what:<40} {value:,.2f}")


if __name__ == "__main__":
    main()
