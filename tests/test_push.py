"""Web push: what a device gets, from a push service that answers as it is told, and when it is told nothing more."""

from __future__ import annotations

import asyncio
import io
import json
import time
import zipfile
from collections.abc import AsyncIterator
from contextlib import AsyncExitStack
from typing import Any

import httpx
import jwt
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nestrel.core import limits
from nestrel.demo.pushes import Said, check_sender
from nestrel.service.push_turns import Turns
from nestrel.store.database import Database
from nestrel.store.native import fetch
from tests.pushed import PushService, asked, told
from tests.support import PATIENCE, SECRET, Person, Served, call, once, unique


@pytest.fixture
async def served(url: str) -> AsyncIterator[Served]:
    with Served(url, NESTREL_PUSH_HOSTS="127.0.0.1/32") as made:
        yield made.wait_ready()


async def two(served: Served) -> tuple[Person, Person, str]:
    mara, odd = (Person(served.url, unique(name), name=name.title()) for name in ("mara", "odd"))
    return mara, odd, (await mara.make(kind="direct", members=[odd.user]))["id"]


async def devices(who: Person) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = (await call(who, "GET", "/me/push-subscriptions", status=200)).json()["items"]
    return found


def signed_in_later(served: Served, user: str) -> Person:
    """With a token that a sign-out of this second does not end."""
    who = Person(served.url, user)
    claims = {"sub": user, "iat": int(time.time()) + 5, "exp": int(time.time()) + 600}
    who.http.headers["Authorization"] = f"Bearer {jwt.encode(claims, SECRET, 'HS256')}"
    return who


async def test_a_device_is_told_what_only_it_can_read(served: Served, pushes: PushService) -> None:
    mara, odd, place = await two(served)
    device, own = await pushes.subscribed(odd), await pushes.subscribed(mara)
    await mara.post(place, "⚓" * 1_000)
    await mara.post(place, "and on")
    first, second = await told(device, lambda it: len(it) == 2)
    assert first.keys() == {"conversation_id", "seq", "title", "author", "body", "unread", "url"}
    assert (first["seq"], first["title"], first["author"], first["unread"]) == (1, "Mara", "Mara", 2)
    assert first["body"] == "⚓" * 499 + "…"
    assert second["url"] == f"{served.url}/console/c/{place}?at=2"
    assert not own.got
    assert all(one["bytes"] <= 3_000 and one["ttl"] == 3_600 for one in device.got)
    [topic] = {one["topic"] for one in device.got}
    assert len(topic) <= 32
    other = (await mara.make(kind="bulletin", members=[odd.user]))["id"]
    await mara.post(other, "elsewhere")
    await told(device, lambda it: len(it) == 3)
    assert device.got[2]["topic"] != topic
    device.says = Said(seconds=0.5, times=1)  # of one topic, the last to come is what a push service keeps
    for body in ("one", "two", "three"):
        await mara.post(place, body)
    assert [one["seq"] for one in (await told(device, lambda it: len(it) == 6))[3:]] == [3, 4, 5]
    key = (await call(odd, "GET", "/push-key", status=200)).json()["key"]
    assert {check_sender(one, pushes.address) for one in device.asked} == {key}


@pytest.mark.parametrize("content", ["title", "none"])
async def test_less_is_pushed_where_that_is_set(url: str, pushes: PushService, content: str) -> None:
    with Served(url, NESTREL_PUSH_HOSTS="127.0.0.1", NESTREL_PUSH_CONTENT=content) as served:
        mara, odd, place = await two(served.wait_ready())
        device = await pushes.subscribed(odd)
        await mara.post(place, "for your eyes")
        [notice] = await told(device, bool)
        assert "body" not in notice
        assert (notice["title"], notice["author"]) == (("Mara", "Mara") if content == "title" else (None, None))
        assert device.got[0]["ttl"] == 86_400


async def test_devices_end_with_what_their_push_service_says(served: Served, pushes: PushService) -> None:
    mara, odd, place = await two(served)
    gone, unknown, kept = [await pushes.subscribed(odd) for _ in range(3)]
    gone.says = Said(status=410)
    pushes.devices.pop(unknown.name)  # 404
    await mara.post(place, "one")
    await told(kept, bool)

    async def left() -> list[str]:
        return [one["endpoint"].rpartition("/")[2] for one in await devices(odd)]

    await once(left, lambda it: it == [kept.name])


async def test_what_cannot_be_taken_now_is_told_later_and_holds_nobody_up(served: Served, pushes: PushService) -> None:
    mara, odd, place = await two(served)
    busy, broken, small, refusing, well = [await pushes.subscribed(odd) for _ in range(5)]
    busy.says = Said(status=429, retry_after=2, times=1)
    broken.says = Said(status=503, times=2)
    small.says = Said(status=413, times=1)
    refusing.says = Said(status=400)
    await mara.post(place, "one")
    await told(well, bool)
    [notice] = await told(small, bool)
    assert (notice["author"], "body" in notice) == ("Mara", False)
    for late in (busy, broken):
        assert (await told(late, bool))[0]["body"] == "one"
    first, second = [one["at"] for one in busy.asked]
    assert second - first >= 2
    assert [one["status"] for one in broken.asked] == [503, 503, 201]
    # What was read or removed meanwhile is not told any more.
    broken.says = Said(status=503)
    await mara.post(place, "two")
    await asked(broken, lambda it: len(it) >= 4)
    await call(mara, "DELETE", f"/conversations/{place}/messages/2", status=200)
    broken.says = Said()
    await mara.post(place, "three")
    await told(broken, lambda it: it[-1]["seq"] == 3)
    assert [one["notice"]["seq"] for one in broken.got] == [1, 3]
    await asked(refusing, lambda it: len(it) == 3)
    assert len(await devices(odd)) == 5


@pytest.mark.whole
@pytest.mark.parametrize("ends", ["kill", "stop"])
async def test_who_hangs_holds_nobody_up_and_is_told_later(served: Served, pushes: PushService, ends: str) -> None:
    mara, odd, place = await two(served)
    hanging, well = [await pushes.subscribed(odd) for _ in range(2)]
    hanging.says = Said(seconds=PATIENCE, times=2)
    await mara.post(place, "one")
    await told(well, lambda it: len(it) == 1)
    await mara.post(place, "two")
    await told(well, lambda it: len(it) == 2)
    assert not hanging.got
    # What has no answer yet is written down.
    if ends == "kill":
        served.kill()
    else:
        assert served.stop() == 0
        assert not any(word in served.log() for word in ("Traceback", "was destroyed"))
    served.restart().wait_ready()
    assert sorted(one["seq"] for one in await told(hanging, lambda it: len(it) >= 2))[:2] == [1, 2]


async def test_whoever_takes_over_tells_what_the_one_before_had_not(url: str, pushes: PushService) -> None:
    with Served(url, NESTREL_PUSH_HOSTS="127.0.0.1") as first, Served(url, NESTREL_PUSH_HOSTS="127.0.0.1") as second:
        first.wait_ready(), second.wait_ready()
        mara, odd, place = await two(first)
        device = await pushes.subscribed(odd)
        elsewhere = Person(second.url, odd.user)
        async with elsewhere.socket() as wire:
            # Who sends hears what is looked at on the other process.
            await wire.command(type="looking", conversation_id=place)
            await mara.post(place, "looked at")
            await mara.post((await mara.make(kind="bulletin", members=[odd.user]))["id"], "not looked at")
            await told(device, lambda it: [one["body"] for one in it] == ["not looked at"])
        await mara.post(place, "two")
        first.kill()
        # At least once: what stood behind the kept snapshot is decided again, as everything is now.
        await told(device, lambda it: any(one["body"] == "two" for one in it))
        await Person(second.url, mara.user).post(place, "three")
        await told(device, lambda it: any(one["body"] == "three" for one in it))


async def test_an_endpoint_is_one_persons_and_ends_with_their_sign_in(served: Served, pushes: PushService) -> None:
    mara, odd, place = await two(served)
    office = Person(served.url, unique("office"), scope="nestrel.service")
    device = await pushes.subscribed(odd)
    subscription = device.subscription(pushes.address)
    again = await call(odd, "PUT", "/me/push-subscriptions", {**subscription, "expirationTime": 4e12}, 200)
    assert again.json()["expires_at"] == "2096-10-02T07:06:40.000000Z"
    # Who only knows the address has not its browser's secret.
    known = pushes.device().subscription(pushes.address)
    guessed = {**subscription, "keys": known["keys"]}
    for part in ("auth", "p256dh"):
        half = {**subscription, "keys": {**subscription["keys"], part: known["keys"][part]}}
        for wrong in (guessed, half):
            await call(mara, "PUT", "/me/push-subscriptions", wrong, 403)
    assert [len(await devices(who)) for who in (odd, mara)] == [1, 0]
    taken = await call(mara, "PUT", "/me/push-subscriptions", subscription, 201)
    assert taken.json()["subscription_id"] != again.json()["subscription_id"]
    assert [len(await devices(who)) for who in (odd, mara)] == [0, 1]
    await call(odd, "DELETE", f"/me/push-subscriptions/{taken.json()['subscription_id']}", status=204)
    assert len(await devices(mara)) == 1
    await odd.post(place, "to whom?")
    await told(device, bool)
    await call(mara, "DELETE", f"/me/push-subscriptions/{taken.json()['subscription_id']}", status=204)
    assert await devices(mara) == []
    for way, path in (("POST", "sign-out"), ("PUT", "suspension")):
        await pushes.subscribed(odd)
        await call(office, way, f"/people/{odd.user}/{path}", {})
        await call(office, "DELETE", f"/people/{odd.user}/suspension", status=204)
        odd = signed_in_later(served, odd.user)
        assert await devices(odd) == []


async def test_a_browsers_device_ends_with_its_session(served: Served, pushes: PushService) -> None:
    _, odd, _ = await two(served)
    kept = await pushes.subscribed(odd)
    begun = await call(odd, "POST", "/session", status=204)
    cookie = begun.headers["set-cookie"].partition(";")[0]
    async with httpx.AsyncClient(base_url=served.url + "/v1", headers={"Cookie": cookie, "Origin": served.url}) as page:
        device = pushes.device()
        answer = await page.put("/me/push-subscriptions", json=device.subscription(pushes.address))
        assert answer.status_code == 201
        assert len(await devices(odd)) == 2
        assert (await page.delete("/session")).status_code == 204
    assert [one["endpoint"].rpartition("/")[2] for one in await devices(odd)] == [kept.name]


async def test_what_is_no_subscription_is_refused(served: Served, pushes: PushService) -> None:
    _, odd, _ = await two(served)
    good = pushes.device().subscription(pushes.address)
    keys = good["keys"]
    wrong = [
        ("/endpoint", {**good, "endpoint": "https://10.0.0.1/push/a"}),
        ("/endpoint", {**good, "endpoint": "https://127.0.0.2/push/a"}),
        ("/endpoint", {**good, "endpoint": "http://[::1]:9000/push/a"}),
        ("/endpoint", {**good, "endpoint": "push me"}),
        ("/keys/p256dh", {**good, "keys": {**keys, "p256dh": keys["auth"]}}),
        ("/keys/p256dh", {**good, "keys": {**keys, "p256dh": "B" + "A" * 86}}),
        ("/keys/p256dh", {**good, "keys": {**keys, "p256dh": "not base64!"}}),
        ("/keys/auth", {**good, "keys": {**keys, "auth": "AAAA"}}),
        ("/keys/auth", {**good, "keys": {"p256dh": keys["p256dh"]}}),
        ("/expirationTime", {**good, "expirationTime": -1}),
        ("/topic", {**good, "topic": "x"}),
    ]
    for pointer, body in wrong:
        answer = await call(odd, "PUT", "/me/push-subscriptions", body, 422)
        assert [one["pointer"] for one in answer.json()["errors"]] == [pointer], json.dumps(body)
    await call(odd, "GET", "/me/push-subscriptions?cursor=x", status=422)
    assert await devices(odd) == []


async def test_of_many_devices_the_oldest_goes(served: Served, pushes: PushService) -> None:
    _, odd, _ = await two(served)
    made = [await pushes.subscribed(odd) for _ in range(21)]
    page = (await call(odd, "GET", "/me/push-subscriptions?limit=15", status=200)).json()
    rest = (await call(odd, "GET", f"/me/push-subscriptions?limit=15&cursor={page['next']}", status=200)).json()
    names = [one["endpoint"].rpartition("/")[2] for one in page["items"] + rest["items"]]
    assert names == [one.name for one in made[1:]]
    assert rest["next"] is None


async def test_what_is_kept_of_notices_is_exported_and_erased_with_the_person(
    served: Served, pushes: PushService
) -> None:
    _, odd, place = await two(served)
    office = Person(served.url, unique("office"), scope="nestrel.service")
    device = await pushes.subscribed(odd)
    await call(odd, "PATCH", f"/conversations/{place}/members/me", {"notify": "none"}, 200)
    answer = await call(odd, "GET", f"/people/{odd.user}/export", status=200)
    with zipfile.ZipFile(io.BytesIO(answer.content)) as kept:
        [notify] = [json.loads(line) for line in kept.read("notices.jsonl").splitlines()]
        [told_at] = [json.loads(line) for line in kept.read("devices.jsonl").splitlines()]
    assert (notify["conversation_id"], notify["notify"]) == (place, "none")
    assert told_at["endpoint"] == device.subscription(pushes.address)["endpoint"]
    assert not {"auth", "p256dh", "session"} & told_at.keys()
    begun = await call(office, "POST", "/erasures", {"user_id": odd.user, "confirm": True}, 201)

    async def erased() -> bool:
        return bool((await call(office, "GET", f"/erasures/{begun.json()['id']}", status=200)).json()["finished_at"])

    await once(erased, bool)
    assert await devices(odd) == []
    shown = (await call(odd, "GET", f"/conversations/{place}", status=200)).json()
    assert shown["my_notify"] == "all"


@pytest.mark.whole
async def test_devices_that_never_answer_keep_nobody_elses_notices_back(
    served: Served, pushes: PushService, database: Database
) -> None:
    """One member with as many devices as there may be, each at a push service of its own that takes the connection and
    says nothing."""
    mara, odd, place = await two(served)
    well = await pushes.subscribed(odd)
    await mara.post(place, "before")
    await told(well, lambda it: len(it) == 1)
    kaz = Person(served.url, unique("kaz"))
    board = (await mara.make(kind="bulletin", members=[kaz.user]))["id"]
    open_, most = set[asyncio.StreamWriter](), 0

    async def hang(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        nonlocal most
        open_.add(writer)
        most = max(most, len(open_))
        while await reader.read(65_536):
            pass
        open_.discard(writer)
        writer.close()

    async with AsyncExitStack() as stack:
        for _ in range(limits.PUSH_SUBSCRIPTIONS):
            server = await stack.enter_async_context(await asyncio.start_server(hang, "127.0.0.1", 0))
            address = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}"
            await call(kaz, "PUT", "/me/push-subscriptions", pushes.device().subscription(address), 201)

        async def waiting() -> int:
            async with database.read() as connection:
                counted = "SELECT count(*) FROM nestrel.push_again a JOIN nestrel.push_subscriptions s ON s.id = " \
                          "a.subscription_id WHERE s.user_id = $1"  # fmt: skip
                return int((await fetch(connection, counted, kaz.user))[0][0])

        for turn in range(4):
            for n in range(5):
                await mara.post(board, f"notice {turn} {n}")
            assert await once(waiting, bool) <= limits.PUSH_WAITING
            await mara.post(place, f"beside it {turn}")
            await told(well, lambda it, turn=turn: len(it) == turn + 2)  # type: ignore[misc]  # bound at once
        assert 0 < most <= 5
        served.kill()
    assert [one["notice"]["body"] for one in well.got] == ["before", *(f"beside it {turn}" for turn in range(4))]


@given(st.lists(st.tuples(st.sampled_from("abc"), st.integers(0, 3), st.integers(0, 5)), max_size=60))
def test_turns_are_shared_between_services_and_people(deeds: list[tuple[str, int, int]]) -> None:
    """Whoever asks for turns, fails or leaves: no person and no service that has failed has more than their share, and
    all that was taken can be given back."""
    turns, now, taken = Turns(), 100.0, list[tuple[str, str]]()
    for origin, what, who in deeds:
        now += 1.0
        if what == 0:
            turns.failed(origin, now)
        elif what == 1:
            turns.answered(origin, now)
            assert turns.is_good(origin, now)
        elif what == 2 and taken:
            turns.leave(*taken.pop(who % len(taken)))
        else:
            of_person, of_origin = (sum(one[n] == key for one in taken) for n, key in ((1, str(who)), (0, origin)))
            got = turns.take(origin, str(who), now)
            assert got == (of_person < 5 and of_origin < (1 if turns.has_failed(origin, now) else 20))
            taken += [(origin, str(who))] * got
    for one in taken:
        turns.leave(*one)
    assert turns.take("z", "z", now)
