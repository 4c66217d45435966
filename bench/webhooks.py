"""Webhooks: what one of everything costs a post, how soon it has what was posted, and how fast it catches up."""

from __future__ import annotations

import asyncio
import statistics
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import httpx

from bench.crowd import PACE, at_a_pace, posts_at_a_pace
from bench.harness import Bench, Process, Result, token
from bench.posts import make_conversations, sign_in, summary
from nestrel.local.postgres import free_port

_BEHIND = 5_000
_SECONDS = 60.0


def measure(bench: Bench, rounds: int, seconds: int) -> list[Result]:
    """With and without, in turn."""
    waits, costs, told, lags, rates = [], [], [], [], []
    with _receiver() as receiver:
        for turn in range(rounds):
            found: dict[str | None, tuple[float, float]] = {}
            for type_ in ("changes", None, "notices")[:: 1 if turn % 2 else -1]:
                with bench.service() as service, _hook(service, receiver, type_):
                    found[type_] = asyncio.run(at_a_pace(bench, service, seconds))
                    seen = receiver.get("/").json()
                    lags += seen["lags"]
            waits.append((found["changes"][0], found[None][0]))
            costs.append((found["changes"][1], found[None][1]))
            told.append((found["notices"][1], found[None][1]))
        for _ in range(rounds):
            with bench.service(NESTREL_QUOTA_CONVERSATIONS="0", NESTREL_QUOTA_MEMBERSHIPS="0") as service:
                rates.append(asyncio.run(_from_behind(service, receiver)))
    at = f"at {PACE:,} posts/s with one webhook of everything, against none"
    half, most = statistics.median(lags), sorted(lags)[int(len(lags) * 0.99)]
    rate = statistics.median(rates)
    return [
        summary(f"p99 of a post {at}", waits, " ms", "≤ 1.2", lambda ratio: ratio <= 1.2),
        summary(f"CPU of a post {at}", costs, " µs", "≤ 1.15", lambda ratio: ratio <= 1.15),
        summary(f"CPU of a post {at.replace('everything', 'notices')}", told, " µs", "≤ 1.05", lambda it: it <= 1.05),
        Result("from a post to the receiver, median", half, None, " ms", "≤ 50 ms", half, half <= 50),
        Result("from a post to the receiver, 99th percentile", most, None, " ms", "≤ 300 ms", most, most <= 300),
        Result("change sets/s to a webhook that was behind", rate, None, "/s", "≥ 5,000", rate, rate >= 5_000),
    ]


@contextmanager
def _receiver() -> Iterator[httpx.Client]:
    port = free_port()
    process = Process("bench.receiving", str(port), ready="/", port=port)
    try:
        with httpx.Client(base_url=f"http://127.0.0.1:{port}", timeout=60) as client:
            yield client
    finally:
        process.stop()


def _office(service: Process) -> httpx.Client:
    headers = {"Authorization": f"Bearer {token('office', 'nestrel.service')}"}
    return httpx.Client(base_url=f"http://127.0.0.1:{service.port}/v1", headers=headers, timeout=60)


@contextmanager
def _hook(service: Process, receiver: httpx.Client, type_: str | None) -> Iterator[None]:
    if type_ is None:
        yield
        return
    with _office(service) as office:
        id_ = _make(office, receiver, type_)["webhook_id"]
        yield
        office.delete(f"/webhooks/{id_}").raise_for_status()


def _make(office: httpx.Client, receiver: httpx.Client, type_: str = "changes") -> dict[str, Any]:
    made = office.post("/webhooks", json={"url": str(receiver.base_url.join("/in")), "type": type_})
    made.raise_for_status()
    found: dict[str, Any] = made.json()
    return found


async def _from_behind(service: Process, receiver: httpx.Client) -> float:
    """Change sets a second to one that was paused while many conversations moved."""
    with _office(service) as office:
        places = await make_conversations(service, _BEHIND, ["paced"])
        await _post_into(service, places)
        made = _make(office, receiver)
        path = f"/webhooks/{made['webhook_id']}"
        office.patch(path, json={"state": "paused"}).raise_for_status()
        await _post_into(service, places)
        await asyncio.to_thread(receiver.get, "/")
        begun = time.perf_counter()
        office.patch(path, json={"state": "active"}).raise_for_status()
        got = 0
        while got < _BEHIND:
            await asyncio.sleep(0.02)
            got += (await asyncio.to_thread(receiver.get, "/")).json()["items"]
            assert time.perf_counter() - begun < _SECONDS, f"only {got} came"
        spent = time.perf_counter() - begun
        office.delete(path).raise_for_status()
        return _BEHIND / spent


async def _post_into(service: Process, places: list[str]) -> None:
    """One message into each."""
    wires = [await sign_in(service, "paced") for _ in range(16)]
    for n in range(0, len(places), 16):
        pairs = zip(wires, places[n : n + 16], strict=False)
        await asyncio.gather(*(posts_at_a_pace(wire, place, 1.0, 1) for wire, place in pairs))
    for wire in wires:
        wire.close()
