"""Where the service's own requests may go: names that resolve to inner addresses, to several, or to nothing."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from ipaddress import ip_address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nestrel.core.targets import Address, Allowed, check, parse
from nestrel.service.outbound import Outbound
from tests.receiver import Receiver, receiver

PUBLIC = "93.184.216.34"


def resolving(*addresses: str) -> Callable[[str, int], Awaitable[list[Address]]]:
    async def resolve(_host: str, _port: int) -> list[Address]:
        return [ip_address(one) for one in addresses]

    return resolve


async def ask(to: Receiver, host: str, allowed: Allowed, *addresses: str) -> str | None:
    outbound = Outbound(allowed, resolving(*addresses))
    answer = await outbound.post(
        f"http://{host}:{to.port}/in", {"webhook-id": "x"}, b'{"type":"closed","data":{"items":[]}}'
    )
    await outbound.close()
    return answer.error


async def test_what_a_name_resolves_to_is_what_is_checked_and_connected_to() -> None:
    async with receiver() as to:
        named = Allowed.parse(["office.skerry.example"])
        assert await ask(to, "office.skerry.example", named, "127.0.0.1") is None
        assert len(to.got) == 1
        assert to.got[0].headers["host"] == f"office.skerry.example:{to.port}"
        near = Allowed.parse(["127.0.0.0/8"])
        assert await ask(to, "127.0.0.1", Allowed(), "10.0.0.1") is None  # nothing is to be resolved
        for host, allowed, addresses in (
            ("office.skerry.example", Allowed(), ["127.0.0.1"]),  # http, and not allowed by name
            ("elsewhere.skerry.example", named, ["127.0.0.1"]),
            ("localhost", Allowed(), ["10.0.0.1"]),
            ("localhost", Allowed(), ["127.0.0.1", "10.0.0.1"]),  # one of them is enough
            ("localhost", Allowed(), []),
        ):
            assert await ask(to, host, allowed, *addresses) is not None
        assert len(to.got) == 2
        check(ip_address("127.0.0.1"), "anything.example", near)


INNER = (
    "10.1.2.3", "127.0.0.1", "169.254.169.254", "172.16.0.1", "192.168.0.1", "100.64.0.1", "0.0.0.0", "224.0.0.1",
    "255.255.255.255", "::1", "::", "fe80::1", "fd00::1", "ff02::1", "::ffff:10.0.0.1", "64:ff9b::a00:1",
    "2002:a00:1::", "2001:0:4136:e378:8000:63bf:f5ff:fffe",
    "fec0::1", "feff::1", "3fff::1", "3fff:fff::1", "192.88.99.1", "2001:db8::1", "5f00::1",
)  # fmt: skip


@pytest.mark.parametrize("inner", INNER)
def test_no_inner_address_is_public(inner: str) -> None:
    with pytest.raises(ValueError, match="public internet"):
        check(ip_address(inner), "office.skerry.example", Allowed())
    check(ip_address(PUBLIC), "office.skerry.example", Allowed())


@given(st.text(max_size=60), st.sampled_from(["https://", "http://", ""]), st.integers(0, 70_000))
def test_whatever_is_given_is_read_or_refused(text: str, scheme: str, port: int) -> None:
    for url in (scheme + text, f"{scheme}{text}:{port}/x", f"https://{text}.skerry.example/"):
        try:
            target = parse(url, Allowed())
        except ValueError:
            continue
        assert target.tls or target.host == "localhost" or (target.literal and target.literal.is_loopback)
        assert target.path.startswith(b"/")


def test_hosts_that_are_allowed_are_names_and_networks() -> None:
    allowed = Allowed.parse(["harbour.skerry.example.", "10.0.0.0/8", "fd00::/8"])
    assert parse("http://harbour.skerry.example/", allowed).port == 80
    assert parse("https://10.1.1.1:22/", allowed).port == 22
    for wrong in ("10.0.0.0/99", "a b", "", "http://x", "1.2.3"):
        with pytest.raises(ValueError, match="neither"):
            Allowed.parse([wrong])


async def test_this_machine_is_asked_only_where_whoever_says_so_is_trusted_or_it_is_named() -> None:
    for url in ("http://127.0.0.1/in", "https://127.0.0.1/in", "http://localhost/in", "https://[::1]:9000/in"):
        parse(url, Allowed())
        with pytest.raises(ValueError, match=r"https|public internet"):
            parse(url, Allowed(here=False))
    async with receiver() as to:
        no = Allowed(here=False)
        assert "public internet" in str(await Outbound(no, resolving("127.0.0.1")).post("https://localhost/", {}, b""))
        for host in ("localhost", "127.0.0.1"):
            named = Allowed.parse(["127.0.0.1/32"], here=False)
            assert await ask(to, host, named, "127.0.0.1") is None
        assert len(to.got) == 2
