"""Redis as the bus: each process hears of what is followed in it and of nothing else, and of that without a gap."""

from __future__ import annotations

import asyncio
import shutil
import signal
import socket
import subprocess
import tempfile
from collections.abc import AsyncIterator, Callable, Collection, Iterator, Sequence
from contextlib import asynccontextmanager
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path
from typing import cast
from uuid import UUID, uuid4

import pytest
import redis.asyncio as redis
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from prometheus_client import REGISTRY

from nestrel.live import redis_line
from nestrel.live.channel import Listener
from nestrel.live.hub import Hub
from nestrel.live.redis_address import parse
from nestrel.live.redis_bus import RedisBus
from nestrel.live.source import Source
from nestrel.local.postgres import free_port
from nestrel.store.events import Moved
from nestrel.store.read.changes import State
from nestrel.store.words import Words
from tests.support import PATIENCE, Person, Served, once, unique, until

PASSWORD = "berth-four"
MANY = 8


class Server:
    """A Redis of the test's own."""

    def __init__(self, folder: str, *options: str, port: int | None = None) -> None:
        self.port = port or free_port()
        self._command = [
            shutil.which("redis-server") or "/usr/bin/redis-server",
            *options,
            "--bind",
            "127.0.0.1",
            "--dir",
            folder,
        ]
        if not options or not options[0].endswith(".conf"):
            self._command += ["--save", "", "--port" if "--tls-port" not in options else "--tls-port", str(self.port)]
        self.start()

    def start(self) -> None:
        self._process = subprocess.Popen(self._command, stdout=subprocess.DEVNULL)
        until(self._answers)

    def stop(self) -> None:
        self._process.terminate()
        self._process.wait(PATIENCE)

    def signal(self, number: int) -> None:
        self._process.send_signal(number)

    def _answers(self) -> bool:
        with socket.socket() as probe:
            return probe.connect_ex(("127.0.0.1", self.port)) == 0

    @property
    def url(self) -> str:
        return f"redis://127.0.0.1:{self.port}"


@pytest.fixture
def folder() -> Iterator[str]:
    with tempfile.TemporaryDirectory() as made:
        yield made


@pytest.fixture
def server(folder: str) -> Iterator[Server]:
    made = Server(folder)
    yield made
    made.stop()


def _certificate(folder: str) -> tuple[str, str]:
    """A certificate for this machine, and its key, in files."""
    key = ec.generate_private_key(ec.SECP256R1())
    name, now = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "skerry")]), datetime.now(UTC)
    certificate = (
        x509.CertificateBuilder(name, name, key.public_key(), x509.random_serial_number(), now - timedelta(1),
                                now + timedelta(1))
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ip_address("127.0.0.1"))]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    files = Path(folder) / "public.pem", Path(folder) / "private.pem"
    files[0].write_bytes(certificate.public_bytes(serialization.Encoding.PEM))
    form = serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    files[1].write_bytes(key.private_bytes(*form))
    return str(files[0]), str(files[1])


@pytest.fixture(params=["plain", "password and TLS", "Sentinel"])
def address(request: pytest.FixtureRequest, folder: str) -> Iterator[str]:
    started = []
    if request.param == "plain":
        started.append(Server(folder))
        url = started[0].url
    elif request.param == "password and TLS":
        public, private = _certificate(folder)
        tls = ("--port", "0", "--tls-port", str(port := free_port()), "--tls-cert-file", public)
        started.append(Server(folder, *tls, "--tls-key-file", private, "--tls-auth-clients", "no",
                              "--requirepass", PASSWORD, port=port))  # fmt: skip
        url = f"rediss://:{PASSWORD}@127.0.0.1:{port}?ssl_ca_certs={public}"
    else:
        started.append(Server(folder, "--requirepass", PASSWORD))
        settings, port = Path(folder) / "sentinel.conf", free_port()
        settings.write_text(
            f"port {port}\nsentinel monitor skerry 127.0.0.1 {started[0].port} 1\n"
            f"sentinel auth-pass skerry {PASSWORD}\nrequirepass {PASSWORD}-watch\n"
        )
        started.append(Server(folder, str(settings), "--sentinel", port=port))
        url = f"redis+sentinel://:{PASSWORD}-watch@127.0.0.1:{port}/skerry?password={PASSWORD}"
    yield url
    for one in started:
        one.stop()


async def test_word_of_what_is_followed_goes_over_redis(make_database: Callable[[], str], address: str) -> None:
    url = make_database()
    with Served(url, NESTREL_BUS=address) as one, Served(url, NESTREL_BUS=address) as other:
        mara, odd = Person(one.wait_ready().url, unique("mara")), Person(other.wait_ready().url, unique("odd"))
        async with odd.socket() as wire:
            await wire.command(type="follow_all")
            place = (await mara.make(members=[odd.user]))["id"]
            assert (await wire.get())["conversation_id"] == place
            for n in range(5):
                await mara.post(place, f"{n}")
            assert [m["body"] for m in await wire.messages(5)] == [f"{n}" for n in range(5)]


WORDS = Words(b"a key of the test's own")


class Ear:
    """One process's side of the bus."""

    def __init__(self, url: str, name: str) -> None:
        self.bus = RedisBus(redis_line.connect(url), name, "skerry", lambda: WORDS)
        self.moved = list[Moved]()
        self.stirred = asyncio.Event()
        self.returns = 0

    def heard(self, moved: Sequence[Moved]) -> None:
        self.moved += moved
        self.stirred.set()

    def returned(self) -> None:
        self.returns += 1
        self.stirred.set()

    async def until(self, condition: Callable[[], bool]) -> None:
        async with asyncio.timeout(PATIENCE):
            while not condition():
                self.stirred.clear()
                await self.stirred.wait()


@asynccontextmanager
async def ears(url: str, count: int) -> AsyncIterator[list[Ear]]:
    made = [Ear(url, f"process-{n}") for n in range(count)]
    for ear in made:
        await ear.bus.start(ear.heard, ear.returned)
    try:
        yield made
    finally:
        for ear in made:
            await ear.bus.stop()


async def test_a_process_hears_of_what_it_attends_to_alone(server: Server) -> None:
    places, end = [uuid4() for _ in range(5 * MANY)], uuid4()
    async with ears(server.url, MANY) as processes:
        for n, ear in enumerate(processes):
            await ear.bus.attend([*places[n::MANY], end], [f"odd-{n}"])
        for ear in processes:
            ear.bus.publish([Moved(place, 1) for place in places])
            ear.bus.publish([Moved(places[0], 2, tuple(f"odd-{n}" for n in range(MANY))), Moved(end, 1)])
        for n, ear in enumerate(processes):
            await ear.until(lambda ear=ear: sum(one.conversation_id == end for one in ear.moved) == MANY - 1)  # type: ignore[misc]  # mypy takes no defaults of lambdas
            of_places = [one for one in ear.moved if one.conversation_id in places and one.rev == 1]
            assert len(of_places) == 5 * (MANY - 1), "more than what is followed here, or its own"
            assert {one.conversation_id for one in of_places} == set(places[n::MANY])
            assert [one.joined for one in ear.moved if one.joined] == [(f"odd-{n}",)] * (MANY - 1)


async def test_what_is_attended_to_is_confirmed_and_what_is_left_is_let_go_later(
    server: Server, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("nestrel.live.redis_bus._LINGER_SECONDS", 0.0)
    look = redis.from_url(server.url)

    async def hear(place: UUID) -> int:
        return (await look.pubsub_numsub(f"skerry:{place}"))[0][1]

    async with ears(server.url, 2) as (one, other):
        server.signal(signal.SIGSTOP)
        asked = asyncio.create_task(one.bus.attend([uuid4()]))
        assert not (await asyncio.wait([asked], timeout=0.1))[0], "nobody has confirmed it"
        server.signal(signal.SIGCONT)
        await asked
        places = [uuid4() for _ in range(40)]
        for place in places:
            await asyncio.gather(one.bus.attend([place]), one.bus.attend([place]))
            assert await hear(place) == 1
            one.bus.neglect([place])
            await one.bus.attend([place])  # whether it has been let go of by now or not
            assert await hear(place) == 1
        one.bus.neglect(places[1:])
        async with asyncio.timeout(PATIENCE):
            while any([await hear(place) for place in places[1:]]):
                other.bus.publish([Moved(places[0], 1)])
                await one.until(lambda: bool(one.moved))
        assert await hear(places[0]) == 1
    await look.aclose()


async def test_a_line_that_was_cut_and_a_redis_that_was_away_are_looked_past(server: Server) -> None:
    place, later = uuid4(), uuid4()
    look = redis.from_url(server.url)
    async with ears(server.url, 2) as (one, other):
        await one.bus.attend([place])
        await look.client_kill_filter(_type="pubsub")
        await one.until(lambda: one.returns >= 2)  # so all is looked at again
        other.bus.publish([Moved(place, 1)])
        await one.until(lambda: Moved(place, 1) in one.moved)
        server.stop()
        async with asyncio.timeout(PATIENCE):
            await one.bus.attend([later])
        await once(_up, lambda up: up == 0)
        server.start()
        await one.until(lambda: one.returns >= 3)
        await once(_up, lambda up: up == 1)
        other.bus.publish([Moved(later, 1)])
        await one.until(lambda: Moved(later, 1) in one.moved)
    await look.aclose()


async def _up() -> float | None:
    """What is told of whether this process has its bus."""
    return REGISTRY.get_sample_value("nestrel_bus_up")


async def test_a_position_is_read_when_word_is_heard_and_not_before() -> None:
    order = list[str]()

    class Attention:
        async def attend(self, conversations: Collection[UUID] = (), users: Collection[str] = ()) -> None:
            await asyncio.sleep(0)
            order.append("heard")

        def neglect(self, conversations: Collection[UUID] = (), users: Collection[str] = ()) -> None:
            order.append("neglected")

    class Positions:
        async def states(self, conversation_ids: Sequence[UUID]) -> dict[UUID, State]:
            order.append("read")
            return {}

    hub, listener = Hub(cast("Source", Positions()), Attention()), cast("Listener", object())
    first, second = await hub.follow([uuid4()], "mara", listener) + await hub.follow([uuid4()], "mara", listener)
    hub.unfollow(first)
    hub.unfollow(second)
    assert order == ["heard", "read", "heard", "read", "neglected", "neglected"]


@pytest.mark.parametrize(
    ("url", "words"),
    [
        ("smoke", "redis://"),
        ("redis://127.0.0.1:berth", "host and a port"),
        ("redis+sentinel://127.0.0.1:26379", "name the Sentinels"),
        ("redis+sentinel://127.0.0.1/skerry?colour=red", "does not take colour"),
        ("redis+sentinel://:s%65cret@[::1/skerry", "Invalid IPv6|host and a port"),
    ],
)
def test_an_address_that_is_none_is_refused_in_words(url: str, words: str) -> None:
    with pytest.raises(ValueError, match=words) as refused:
        parse(url)
    assert "secret" not in str(refused.value)
