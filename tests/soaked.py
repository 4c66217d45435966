"""What must hold when a soak is over."""

from __future__ import annotations

import asyncio
from typing import TYPE_CHECKING, Any

import orjson

from nestrel.client import AsyncClient, SyncedReplica
from tests.receiver import Receiver
from tests.soak_beside import file_bytes
from tests.support import Served, token

if TYPE_CHECKING:
    from tests.soak import Device
    from tests.soak_beside import Import, Uploads

WATCH = "watch"
_NEWEST = 50
"""Messages that a copy which begins anew holds at least."""


async def check(url: str, devices: list[Device], places: list[str], excused: set[str], counts: dict[str, int]) -> None:
    """Everything that was posted stands once and in order, but for what is `excused`, and all devices hold the same."""
    async with AsyncClient(url, lambda: token("office")) as client:
        bodies: list[str] = []
        for place in places:
            lines = b"".join([chunk async for chunk in client.export(place, part="all")]).splitlines()
            everything = [orjson.loads(line) for line in lines]
            truth = [message async for message in client.history(place, order="asc")]
            counts["messages"] += len(everything)
            assert [one["seq"] for one in everything] == list(range(1, len(everything) + 1))
            assert [one.seq for one in truth] == [one["seq"] for one in everything][-len(truth) :]
            at = [one["created_at"] for one in everything]
            assert at == sorted(at)
            bodies += [one["body"] for one in everything]
            people = {member.user_id: member async for member in client.members(place)}
            for device in devices:
                await _settle(device, place, truth, people)
        kept = [body for body in bodies if not body.startswith("edited")]
        assert len(kept) == len(set(kept)), "a post stands twice"
        edited = len(bodies) - len(kept)
        missing = {body for device in devices for body in device.posted} - set(kept) - excused
        assert len(missing) <= edited, f"{len(missing) - edited} posts are lost"


async def check_import(served: Served, imported: Import, counts: dict[str, int]) -> None:
    async with AsyncClient(served.url, lambda: token("office")) as client:
        found = [message.body async for message in client.history(imported.place, order="asc")]
    assert found == [f"line {n}" for n in range(len(imported.lines))], "the import is not there once and in order"
    counts["lines imported"] = len(found)


async def check_files(served: Served, uploads: Uploads, counts: dict[str, int]) -> None:
    """Every file that a message bears is there as it was sent."""
    async with AsyncClient(served.url, lambda: token("office")) as client:
        async for message in client.history(uploads.place):
            for file in message.attachments:
                found = b"".join([chunk async for chunk in client.attachment(uploads.place, file.attachment_id)])
                n = int(file.name.removeprefix("berth-").removesuffix(".txt"))
                assert found == file_bytes(n), f"{file.name} is not what was sent"
                counts["files"] += 1
    assert counts["files"] or not uploads.count, "no file is left"


async def check_webhook(served: Served, hears: Receiver, places: list[str], counts: dict[str, int]) -> None:
    """What a receiver of everything holds is what there is, once the last of it has come."""
    async with AsyncClient(served.url, lambda: token("office")) as client:
        for place in places:
            truth = {message.seq: message async for message in client.history(place, order="asc")}

            def there(it: Receiver, place: str = place, truth: dict[int, Any] = truth) -> bool:
                held = it.held[place].messages if place in it.held else {}
                rows = all(held[seq] == one for seq, one in truth.items() if seq in held)
                return rows and set(sorted(truth)[-_NEWEST:]) <= set(held)

            await hears.has(there)
    assert hears.back == [], "messages were passed over"
    counts["webhook requests"] = len(hears.taken)


async def watched(url: str, places: list[str]) -> None:
    """Somebody wants to be told of everything, and is never there."""
    async with AsyncClient(url, lambda: token(WATCH)) as client:
        for place in places:
            await client.notify(place, "all")


async def check_notices(served: Served, told: Receiver, places: list[str], counts: dict[str, int]) -> None:
    """Of every message somebody was told who wanted it."""

    def notices(it: Receiver) -> set[tuple[str, int]]:
        return {
            (item["conversation_id"], item["seq"])
            for got in it.taken
            for item in got.json["data"]["items"]
            if item["user_id"] == WATCH
        }

    async with AsyncClient(served.url, lambda: token("office")) as client:
        for place in places:
            wanted = {(place, one.seq) async for one in client.history(place) if one.removed_at is None}
            await told.has(lambda it, wanted=wanted: wanted <= notices(it))  # type: ignore[misc]  # bound at once
    counts["notices"] = len(notices(told))


async def _settle(device: Device, place: str, truth: list[Any], people: dict[str, Any]) -> None:
    """Everything that a device holds of a conversation is as the service has it, once the last of it has come."""
    replica = device.replica
    assert replica is not None
    newest = max(message.rev for message in truth) if truth else 0

    def there(one: SyncedReplica) -> bool:
        held = one.messages(place, limit=10_000)
        members = {member.user_id: member.rev for member in one.members(place)}
        rows = max((message.rev for message in held), default=0) == newest
        return rows and members == {user: member.rev for user, member in people.items()}

    try:
        async with asyncio.timeout(30):
            await replica.until(there)
    except TimeoutError:
        raise AssertionError(f"{device.user} is not brought to the present of {place}") from None
    held = {message.seq: message for message in replica.messages(place, limit=10_000)}
    for message in truth:
        if message.seq in held:
            assert held[message.seq] == message, f"{device.user} holds another {message.seq}"
    holes = replica.holes(place)
    newest = [message.seq for message in truth][-_NEWEST:]
    assert set(newest) <= set(held), f"{device.user} misses {holes}"
