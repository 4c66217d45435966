"""What is done to a cluster under load, and what must hold then: `script/cluster faults`.

Members write all the time with replicas and outboxes, one posts by plain HTTP and measures for how long nothing is
taken, one follows and measures how late it hears, one removes messages and reads at once whether they are gone.
"""

from __future__ import annotations

import asyncio
import contextlib
import random
import tempfile
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

import click
import httpx
import orjson
from cluster.parts import Kind
from cluster.processes import State
from cluster.standing import Cluster, ClusterError, until

from nestrel.client import AsyncClient, ReplicaState
from nestrel.core.problems import NestrelError
from nestrel.service.settings import default_data_dir
from tests.probe import Probe
from tests.soak import Device
from tests.soaked import check
from tests.support import SECRET, Person, token

_USERS = ("mara", "odd", "ines")
_WARM_SECONDS = 3.0
_AFTER_SECONDS = 10.0
WRITES_SECONDS = 30.0
"""Within which writes are taken again after the death of a primary."""
CURRENT_SECONDS = 10.0
"""Within which those who follow are current after that."""
REFUSED_SECONDS = 5.0
"""For which a planned switchover may refuse writes."""

off = asyncio.to_thread


def make(folder: Path, net: int = 78, **options: Any) -> Cluster:
    """A cluster whose people sign in as those of the tests do."""
    alone = dict.fromkeys(("NESTREL_JWKS_URL", "NESTREL_ISSUER", "NESTREL_AUDIENCE"))
    return Cluster(folder, net, {**alone, "NESTREL_JWT_SECRET": SECRET}, **options)


@dataclass(slots=True)
class Outcome:
    """What one run has shown. Times are in seconds: `refused` is the longest in which no write was taken, `late` the
    longest between an acknowledgement and its being heard by somebody who follows."""

    fault: str
    run: int
    refused: float = 0.0
    late: float = 0.0
    acknowledged: int = 0
    messages: int = 0
    resets: int = 0
    broken: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Fault:
    """Something that is done to a cluster. `does` returns the parts that are to be healed; `writes` says that writes
    are to be taken again before they are healed, `hold` for how long they then stay as they are, `meanwhile` what must
    come about before they are."""

    name: str
    does: Callable[[Cluster], list[str]]
    writes: bool = True
    limit: float = WRITES_SECONDS
    hold: float = _AFTER_SECONDS
    meanwhile: Callable[[Cluster], bool] = lambda _cluster: True


def _switch(cluster: Cluster) -> list[str]:
    cluster.switch()
    return []


def _kill(*names: str) -> Callable[[Cluster], list[str]]:
    return lambda cluster: [cluster.kill(name).name for name in names]


def _freeze(name: str) -> Callable[[Cluster], list[str]]:
    return lambda cluster: [cluster.freeze(name).name]


def _another_redis(cluster: Cluster) -> bool:
    """Whether one of those that are left has become the primary, and services that run hear by it."""
    running = [part for part in cluster.places.of(Kind.NESTREL) if cluster.state(part) is State.RUNS]
    return cluster.redis_primary() is not None and all(_hears(f"http://{part.at}") for part in running)


FAULTS = (
    Fault("a planned switchover", _switch, limit=REFUSED_SECONDS),
    Fault("the primary killed", _kill("primary")),
    Fault("the primary frozen, and back as a stale one", _freeze("primary")),
    Fault("the synchronous standby killed", _kill("standby")),
    Fault("one etcd lost for 40 s", _kill("etcd-1"), hold=40.0),
    Fault("two etcd lost for 40 s", _kill("etcd-1", "etcd-2"), writes=False, hold=40.0),
    Fault("HAProxy restarted", _kill("haproxy"), writes=False, hold=1.0),
    Fault("PgBouncer restarted", _kill("pgbouncer"), writes=False, hold=1.0),
    Fault("the Redis primary killed", _kill("redis-primary"), meanwhile=_another_redis),
    Fault("Redis all gone", _kill("redis-1", "redis-2", "redis-3")),
    Fault("a service killed", _kill("nestrel-1")),
    Fault("a service frozen", _freeze("nestrel-2")),
    Fault(
        "primary, Redis primary and a service killed at once",
        _kill("primary", "redis-primary", "nestrel-3"),
        meanwhile=_another_redis,
    ),
)


def whole(cluster: Cluster) -> bool:
    """Whether everything runs, and each PostgreSQL has its part."""
    roles = sorted(cluster.roles().values())
    return (
        all(cluster.state(part) is State.RUNS for part in cluster.places.parts.values())
        and roles == ["leader", "replica", "sync_standby"]
        and sorted(map(cluster.redis_role, cluster.places.of(Kind.REDIS))) == ["primary", "replica", "replica"]
        and all(_ready(url) and _hears(url) for url in (f"http://{at.at}" for at in cluster.places.of(Kind.NESTREL)))
    )


def _ready(url: str) -> bool:
    with contextlib.suppress(httpx.HTTPError):
        return httpx.get(f"{url}/readyz", timeout=5).status_code == 200
    return False


def _hears(url: str) -> bool:
    """Whether each process of a service hears others' moves at once, and not at checkpoints alone."""
    with contextlib.suppress(httpx.HTTPError):
        return "nestrel_bus_up 1.0" in httpx.get(f"{url}/metrics", timeout=5).text.splitlines()
    return False


async def run(cluster: Cluster, fault: Fault, number: int, *, timed: bool = True) -> Outcome:
    """Do it to a cluster that is whole, under load, and say what came of it. The cluster is whole again then. `timed`:
    that something took too long is a broken promise, too."""
    outcome, dice = Outcome(fault.name, number), random.Random(f"{fault.name} {number}")
    await off(until, lambda: whole(cluster), "the whole cluster")
    url = cluster.places.url
    with tempfile.TemporaryDirectory(prefix="nestrel-faults-") as folder:
        office = Person(url, "office")
        places = [(await office.make(members=list(_USERS)))["id"] for _ in range(3)]
        devices = [Device(url, user, Path(folder) / f"{user}.db", places[:2], dice) for user in _USERS]
        for device in devices:
            await device.start()
        acting = asyncio.create_task(_act(devices, dice))
        try:
            async with Probe(url, places[2]).running() as probe:
                await asyncio.sleep(_WARM_SECONDS)
                began = time.monotonic()
                harmed = await off(fault.does, cluster)
                back = await probe.taken_after(time.monotonic() + 0.5) if fault.writes else True
                await asyncio.sleep(fault.hold)
                try:
                    await off(until, lambda: fault.meanwhile(cluster), "what others are to take over")
                except ClusterError as error:
                    outcome.broken.append(str(error))
                for name in harmed:
                    await off(cluster.heal, name)
                back = back and await probe.taken_after(time.monotonic())
                await off(until, lambda: whole(cluster), "the whole cluster")
                await asyncio.sleep(_AFTER_SECONDS / 2)
        finally:
            acting.cancel()
            await asyncio.wait({acting})
        outcome.refused, outcome.late = probe.refused(began), probe.late(began)
        outcome.acknowledged, outcome.resets = len(probe.taken), probe.resets
        outcome.broken += (_late(fault, outcome) if timed else []) + await _lost(probe, url, devices, places, outcome)
        if not back:
            outcome.broken.append("writes were not taken again")
        for device in devices:
            await device.stop()
        await office.http.aclose()
    return outcome


async def _act(devices: list[Device], dice: random.Random) -> None:
    while True:
        dice.choice(devices).act()
        await asyncio.sleep(0.03 + dice.random() * 0.05)


def _late(fault: Fault, outcome: Outcome) -> list[str]:
    """What took too long, in words."""
    broken = []
    if outcome.refused > fault.limit:
        broken.append(f"writes were refused for {outcome.refused:.1f} s")
    if outcome.late > CURRENT_SECONDS + (fault.limit if fault.writes else 0):
        broken.append(f"heard {outcome.late:.1f} s late")
    return broken


async def _lost(probe: Probe, url: str, devices: list[Device], places: list[str], outcome: Outcome) -> list[str]:
    """Which promises on what was acknowledged were not kept, in words."""
    broken = [f"read after its removal: {body}" for body in probe.stale]
    if outcome.resets:
        broken.append(f"{outcome.resets} resets")
    if missing := probe.taken.keys() - probe.heard.keys():
        broken.append(f"{len(missing)} were never heard")
    counts = {"messages": 0}
    for look in (_acknowledged(probe, url, places[2]), _same(url, devices, places[:2], counts)):
        try:
            await look
        except (AssertionError, TimeoutError, NestrelError) as error:
            broken.append(str(error) or type(error).__name__)
    outcome.messages = counts["messages"]
    return broken


async def _acknowledged(probe: Probe, url: str, place: str) -> None:
    """Everything that was acknowledged stands once, in one order, without a gap."""
    async with AsyncClient(url, lambda: token("office")) as client:
        there = [message async for message in client.history(place, order="asc")]
    assert [message.seq for message in there] == list(range(1, len(there) + 1)), "a gap"
    bodies = [message.body for message in there if message.removed_at is None]
    assert len(bodies) == len(set(bodies)), "a post stands twice"
    assert probe.taken.keys() <= set(bodies), "acknowledged posts are lost"


async def _same(url: str, devices: list[Device], places: list[str], counts: dict[str, int]) -> None:
    """What devices have posted stands once, and all of them hold the same."""
    for device in devices:
        assert device.replica is not None
        async with asyncio.timeout(90):
            await device.replica.until(lambda one: one.state.state is ReplicaState.LIVE and one.outbox.next() is None)
    await check(url, devices, places, set(), counts)


def table(outcomes: list[Outcome]) -> str:
    """A row for each fault, over all of its runs."""
    rows = ["| fault | n | no write taken, s | heard late, s | acknowledged | broken |", "|---|--:|--:|--:|--:|---|"]
    for fault in FAULTS:
        mine = [one for one in outcomes if one.fault == fault.name]
        if mine:
            refused = " ".join(f"{one.refused:.1f}" for one in mine)
            late = " ".join(f"{one.late:.1f}" for one in mine)
            broken = "; ".join(text for one in mine for text in one.broken) or "none"
            rows.append(
                f"| {fault.name} | {len(mine)} | {refused} | {late} | {sum(one.acknowledged for one in mine):,} "
                f"| {broken} |"
            )
    return "\n".join(rows)


@click.command()
@click.option("--runs", default=3, show_default=True, help="How often each is done.")
@click.option("--only", help="Only faults whose name holds this.")
@click.option("--folder", type=click.Path(path_type=Path), default=default_data_dir() / "faults", show_default=True,
              help="Where the cluster and the results lie; what is there already is not done again.")  # fmt: skip
def main(runs: int, only: str | None, folder: Path) -> None:
    """Do everything to a cluster that might happen to it, under load, and print what came of it."""
    folder.mkdir(parents=True, exist_ok=True)
    results = folder / "results.jsonl"
    done = [Outcome(**orjson.loads(line)) for line in results.read_bytes().splitlines()] if results.exists() else []
    cluster = make(folder / "cluster")
    try:
        cluster.start(click.echo)
        for number in range(1, runs + 1):
            for fault in FAULTS:
                known = any((one.fault, one.run) == (fault.name, number) for one in done)
                if known or (only and only not in fault.name):
                    continue
                outcome = asyncio.run(run(cluster, fault, number))
                click.echo(f"{number} {outcome}")
                done.append(outcome)
                with results.open("ab") as file:
                    file.write(orjson.dumps(asdict(outcome)) + b"\n")
    finally:
        cluster.stop()
    click.echo(table(done))
    if any(one.broken for one in done):
        raise SystemExit(1)


if __name__ == "__main__":
    main()
