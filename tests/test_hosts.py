"""Who may call at all: hosts, origins, proxies, and what pages may do with the answers."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from ipaddress import ip_network
from typing import Any

import httpx
import pytest
from websockets.asyncio.client import connect
from websockets.exceptions import InvalidStatus

from nestrel.local.postgres import free_port
from nestrel.service.hosts import Hosts, Proxies, host_of
from nestrel.service.loading import load_settings
from tests.hostile import Raw
from tests.support import Person, Served


@pytest.fixture(scope="module")
def own(make_database: Callable[[], str]) -> Iterator[Served]:
    with Served(make_database(), NESTREL_PROXIES="127.0.0.1/32", NESTREL_ORIGINS="https://chat.example") as served:
        yield served.wait_ready()


async def test_pages_of_elsewhere_and_other_hosts_are_not_let_in(own: Served) -> None:
    address = f"ws://127.0.0.1:{own.port}/v1/live"
    for origin in (f"http://127.0.0.1:{own.port}", "https://chat.example"):
        await (await connect(address, origin=origin)).close()  # type: ignore[arg-type]  # plain text is an origin
    with pytest.raises(InvalidStatus) as refused:
        await connect(address, origin="https://elsewhere.example")  # type: ignore[arg-type]  # as above
    assert refused.value.response.status_code == 403
    async with httpx.AsyncClient() as http:
        for host, status in (("localhost:1", 200), ("127.0.0.9", 200), ("[::1]:5", 200), ("elsewhere.example", 421)):
            answer = await http.get(own.url + "/healthz", headers={"Host": host})
            assert answer.status_code == status, host


async def test_answers_of_the_api_are_not_kept_or_taken_for_something_else(own: Served) -> None:
    mara = Person(own.url, "mara")
    async with httpx.AsyncClient() as nobody:
        refused = await nobody.get(own.url + "/v1/me")
    for answer in (await mara.http.get("/me"), refused):
        assert (answer.headers["cache-control"], answer.headers["x-content-type-options"]) == ("no-store", "nosniff")
    for path in ("/console/%00", "/console/" + "a" * 5_000, "/console/" + "b/" * 3_000):
        answer = await mara.http.get(own.url + path)
        assert answer.status_code in (200, 404), path[:40]
    wrong = await mara.http.put("/me")
    assert (wrong.status_code, wrong.json()["type"]) == (405, "/problems/method-not-allowed")
    assert "PATCH" in wrong.headers["allow"]
    raw = await Raw.open(own)
    await raw.say(b"GET /v1/me?q=\xff HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n")
    assert await raw.status() in (400, 422)
    raw.close()


async def test_an_upgrade_that_a_proxy_has_dropped_says_what_to_pass_on(own: Served) -> None:
    mara = Person(own.url, "mara")
    for headers in ({}, {"Authorization": f"Bearer {mara.token}"}, {"Sec-WebSocket-Version": "13"}):
        async with httpx.AsyncClient() as http:
            answer = await http.get(own.url + "/v1/live", headers=headers)
        assert (answer.status_code, answer.json()["type"]) == (426, "/problems/upgrade-required")
        assert answer.headers["upgrade"] == "websocket"
        assert "pass on Upgrade and Connection" in answer.json()["detail"]


async def test_metrics_are_for_this_machine_and_no_proxy(own: Served, make_database: Callable[[], str]) -> None:
    async with httpx.AsyncClient() as http:
        assert (await http.get(own.url + "/metrics")).status_code == 200
        for header in ("Forwarded", "X-Forwarded-For"):
            assert (await http.get(own.url + "/metrics", headers={header: "for=127.0.0.1"})).status_code == 404
        port = free_port()
        with Served(make_database(), NESTREL_METRICS_PORT=str(port)) as served:
            served.wait_ready()
            assert (await http.get(served.url + "/metrics")).status_code == 404
            assert "nestrel_connections" in (await http.get(f"http://127.0.0.1:{port}/metrics")).text


def test_hosts_and_proxies() -> None:
    assert [host_of(text) for text in ("A.example:80", "[::1]:5", "plain", "1.2.3.4")] == [
        "a.example",
        "::1",
        "plain",
        "1.2.3.4",
    ]
    told = Hosts("0.0.0.0", ["a.example"], "https://b.example:8443", [])
    assert [told.answers_to(host) for host in ("a.example", "b.example:8443", "c.example")] == [True, True, False]
    assert told.same_origin("https://b.example:8443", "x", "http")
    assert not told.same_origin("http://b.example", "x", "http")
    # With a public address nothing else is its own: neither what the Host says, nor another scheme.
    assert not told.same_origin("http://a.example", "a.example", "http")
    own = Hosts("127.0.0.1", [], None, ["https://chat.example"])
    here = "127.0.0.1:8460"
    for origin, host, scheme, taken in (
        (f"http://{here}", here, "http", True), (f"http://{here}", here, "ws", True),
        (f"https://{here}", here, "http", False), ("https://a.example", "a.example", "wss", True),
        ("http://a.example", "a.example", "https", False), ("https://chat.example", "x", "http", True),
        ("null", "null", "http", False), ("a.example", "a.example", "http", False),
    ):  # fmt: skip
        assert (origin, own.same_origin(origin, host, scheme)) == (origin, taken)
    for host, answered in (("127.0.0.1", True), ("127.8.8.8:80", True), ("127.evil.example", False), ("127.1", False)):
        assert (host, own.answers_to(host)) == (host, answered)
    proxies = Proxies([ip_network("10.0.0.0/8")])
    for peer, header, scheme in (
        ("10.1.1.1", (b"x-forwarded-proto", b"https"), "https"), ("9.9.9.9", (b"x-forwarded-proto", b"https"), "http"),
        ("10.1.1.1", (b"forwarded", b"proto=https;for=1.2.3.4"), "https"),
        ("10.1.1.1", (b"x-forwarded-proto", b"gopher"), "http"),
    ):  # fmt: skip
        scope = {"type": "http", "scheme": "http", "client": (peer, 1), "headers": [header]}
        proxies.look_behind(scope)
        assert (peer, header, scope["scheme"]) == (peer, header, scheme)
    assert Hosts("0.0.0.0", [], None, []).answers_to("any.example")
    settings = load_settings(proxies="10.0.0.0/8, 127.0.0.1/32")
    proxies = Proxies(settings.proxies)
    forwarded = [(b"x-forwarded-for", b"203.0.113.9, 10.1.1.1")]
    assert proxies.client_of("10.2.2.2", forwarded) == "203.0.113.9"
    assert proxies.client_of("203.0.113.1", forwarded) == "203.0.113.1"  # who is no proxy is not believed
    assert proxies.client_of("127.0.0.1", [(b"forwarded", b'for="[2001:db8::1]:47";proto=https')]) == "2001:db8::1"


async def test_the_console_speaks_to_nobody_else(make_database: Callable[[], str]) -> None:
    env: dict[str, Any] = {
        "NESTREL_ISSUER": "https://id.skerry.example/realm",
        "NESTREL_CONSOLE_CONNECTS": "https://tokens.skerry.example",
    }
    with Served(make_database(), **env) as served:
        answer = httpx.get(f"{served.wait_ready().url}/console/")
    policy = {part.split()[0]: part.split()[1:] for part in answer.headers["content-security-policy"].split(";")}
    assert policy["connect-src"] == ["'self'", "https://id.skerry.example", "https://tokens.skerry.example"]
