"""Retention as it is met from outside: rules over HTTP, and the floor at every door."""

from __future__ import annotations

import asyncio
import json
from base64 import b64encode
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from hashlib import sha256
from typing import Any

import httpx
import pytest

from tests.support import PATIENCE, Person, Served, unique, until


@pytest.fixture(scope="module")
def swept(make_database: Callable[[], str]) -> Iterator[Served]:
    """A service that sweeps all the time."""
    with Served(make_database(), NESTREL_SWEEP_SECONDS="0.1") as served:
        yield served.wait_ready()


async def refused(answer: httpx.Response, status: int, name: str) -> dict[str, Any]:
    assert (answer.status_code, answer.json()["type"]) == (status, f"/problems/{name}"), answer.text
    problem: dict[str, Any] = answer.json()
    return problem


def days_ago(days: float) -> str:
    return (datetime.now(UTC) - timedelta(days=days)).isoformat()


async def bring(backend: Person, place: str, *lines: dict[str, Any]) -> dict[str, Any]:
    """Import messages, which may be old."""
    packed = b"".join(json.dumps(line).encode() + b"\n" for line in lines)
    answer = await backend.http.post(f"/conversations/{place}/import", content=packed)
    assert answer.status_code == 200, answer.text
    found: dict[str, Any] = answer.json()
    return found


async def test_a_rule_is_set_shown_previewed_confirmed_and_cleared(person: Callable[..., Person]) -> None:
    mara, odd = person("mara"), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    at = f"/conversations/{place}/retention"
    assert (await odd.http.get(at)).json() == {
        "keep_last": None, "keep_for": None, "keep_bytes": None, "then": None, "hold": False, "own": False,
        "from": None,
    }  # fmt: skip
    await mara.fill(place, 12)
    rule = {"keep_last": 5, "keep_for": "P30D", "then": "archive"}
    preview = (await mara.http.post(f"{at}/preview", json=rule)).json()
    assert (preview["expires"], preview["first_seq"], preview["last_seq"]) == (7, 1, 7)
    assert preview["bytes"] == 14
    assert sum(day["messages"] for day in preview["by_day"]) == 7
    problem = await refused(await mara.http.put(at, json=rule), 409, "confirm-needed")
    assert problem["preview"] == preview
    assert (await mara.page(place))["floor"] == 1
    done = await mara.http.put(at, json={**rule, "confirm": True})
    assert (done.status_code, done.json()) == (
        200, {"keep_last": 5, "keep_for": "P30D", "keep_bytes": None, "then": "archive", "hold": False, "own": True,
              "from": "own"},
    )  # fmt: skip
    assert (await mara.page(place))["floor"] == 8
    await refused(await odd.http.put(at, json=rule), 403, "forbidden")
    await refused(await odd.http.post(f"{at}/preview", json=rule), 403, "forbidden")
    await refused(await person("tove").http.get(at), 404, "not-found")
    assert (await mara.http.delete(at)).status_code == 204
    assert (await odd.http.get(at)).json()["own"] is False


@pytest.mark.parametrize(
    ("body", "pointer"),
    [
        ({}, ""),
        ({"then": "archive"}, ""),
        ({"keep_last": 5}, ""),
        ({"keep_last": 0, "then": "discard"}, "/keep_last"),
        ({"keep_for": "30 days", "then": "discard"}, "/keep_for"),
        ({"keep_for": "P0D", "then": "archive"}, "/keep_for"),
        ({"keep_bytes": 1.5, "then": "archive"}, "/keep_bytes"),
        ({"keep_last": 1, "then": "shred"}, "/then"),
        ({"hold": False}, ""),
        ({"keep_last": 1, "then": "archive", "more": 1}, "/more"),
    ],
)
async def test_what_is_no_rule_is_refused_and_says_where(
    person: Callable[..., Person], body: dict[str, Any], pointer: str
) -> None:
    mara = person()
    place = (await mara.make())["id"]
    problem = await refused(await mara.http.put(f"/conversations/{place}/retention", json=body), 422, "invalid-request")
    assert problem["errors"][0]["pointer"] == pointer


async def test_a_hold_alone_is_a_rule_and_lifting_it_wants_to_be_confirmed(person: Callable[..., Person]) -> None:
    mara = person()
    place = (await mara.make(retention={"keep_last": 3, "then": "discard"}))["id"]
    at = f"/conversations/{place}/retention"
    await mara.fill(place, 5)
    assert (await mara.page(place))["floor"] == 3
    held = await mara.http.put(at, json={"hold": True, "keep_last": 3, "then": "discard"})
    assert held.status_code == 200
    await mara.fill(place, 4, "held")
    assert (await mara.page(place))["floor"] == 3
    await refused(await mara.http.put(at, json={"keep_last": 3, "then": "discard"}), 409, "confirm-needed")
    assert (await mara.http.put(at, json={"hold": True})).json()["hold"] is True
    lifted = await mara.http.put(at, json={"keep_last": 3, "then": "discard", "confirm": True})
    assert lifted.status_code == 200
    assert (await mara.page(place))["floor"] == 7


async def test_every_door_honours_the_floor_at_the_instant_of_the_post(person: Callable[..., Person]) -> None:
    mara, odd = person("mara"), person("odd")
    place = (await mara.make(members=[odd.user], retention={"keep_last": 3, "then": "archive"}))["id"]
    at = f"/conversations/{place}"
    async with odd.socket() as wire:
        await wire.command(type="follow", conversation_id=place)
        for n in range(1, 6):
            await mara.post(place, f"m{n}", f"k{n}")
        floors: dict[int, int] = {}
        while len(floors) < 5:
            frame = await wire.get()
            floors |= {message["seq"]: frame["floor"] for message in frame["messages"]}
            assert all(message["seq"] >= frame["floor"] for message in frame["messages"])
        assert floors[5] == 3
        for frame in ({"type": "edit", "body": "x"}, {"type": "react", "symbol": "like"}, {"type": "remove"}):
            answer = await wire.command(**frame, conversation_id=place, seq=2)
            assert answer["problem"]["type"] == "/problems/expired"
    page = await mara.page(place, order="asc")
    assert ([item["seq"] for item in page["items"]], page["floor"], page["older"]) == ([3, 4, 5], 3, None)
    for path in ("messages/2", "messages/2/edits", "messages/2/reactions", "messages/2/readers"):
        await refused(await mara.http.get(f"{at}/{path}"), 410, "expired")
    await refused(await mara.post(place, "m1", "k1"), 410, "expired")
    late = await mara.post(place, "a reply", reply_to=2)
    await refused(late, 422, "invalid-request")
    shown = (await odd.http.get(at)).json()
    assert (shown["floor"], shown["message_count"], shown["unread"], shown["head"]) == (3, 3, 3, 5)
    receipt = (await odd.http.put(f"{at}/receipt", json={"read_seq": 1})).json()
    assert receipt == {"read_seq": 1, "unread": 3}
    resynced = (await odd.http.post("/resync", json={})).json()["items"][0]
    assert ([item["seq"] for item in resynced["messages"]], resynced["floor"]) == ([3, 4, 5], 3)
    lines = (await odd.http.get(f"{at}/export")).text.splitlines()
    assert [json.loads(line)["seq"] for line in lines] == [3, 4, 5]


async def test_age_expires_to_the_instant_before_any_sweep_comes(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_SWEEP_SECONDS="3600") as served:
        served.wait_ready()
        mara = Person(served.url, "mara")
        backend = Person(served.url, "office", scope="nestrel.service")
        place = (await mara.make(retention={"keep_for": "P7D", "then": "archive"}))["id"]
        lines = [
            {"key": f"{n}", "author_id": "odd", "body": f"m{n}", "created_at": days_ago(age)}
            for n, age in enumerate((9, 8, 7.5, 6, 1), 1)
        ]
        brought = await bring(backend, place, *lines)
        assert (brought["added"], brought["seqs"]) == (5, [1, 2, 3, 4, 5])
        page = await mara.page(place, order="asc")
        assert ([item["seq"] for item in page["items"]], page["floor"]) == ([4, 5], 4)
        await refused(await mara.http.get(f"/conversations/{place}/messages/3"), 410, "expired")
        shown = (await mara.http.get("/conversations")).json()["items"][0]
        assert (shown["message_count"], shown["unread"], shown["floor"]) == (2, 2, 4)
        changes = (await mara.http.get(f"/conversations/{place}/changes")).json()
        assert ([item["seq"] for item in changes["messages"]], changes["floor"]) == ([4, 5], 4)
        again = await bring(backend, place, *lines)
        assert (again["added"], again["repeated"], again["seqs"]) == (0, 5, [None, None, None, 4, 5])
        assert shown["last_message"]["seq"] == 5
        rule = {"keep_for": "PT1H", "then": "archive", "confirm": True}
        assert (await mara.http.put(f"/conversations/{place}/retention", json=rule)).status_code == 200
        empty = (await mara.http.get("/conversations")).json()["items"][0]
        assert (empty["message_count"], empty["unread"], empty["floor"], empty["last_message"]) == (0, 0, 6, None)
        assert (await mara.page(place))["items"] == []
        assert (await mara.post(place, "tide is turning")).json()["seq"] == 6
        # What waits for the sweep is archived for whoever exports the archive, so that it is never nowhere.
        export = await mara.http.get(f"/conversations/{place}/export", params={"part": "archive"})
        assert [json.loads(line)["seq"] for line in export.text.splitlines()] == [1, 2, 3, 4, 5]


async def test_followers_hear_within_a_sweep_of_a_floor_that_age_has_moved(swept: Served) -> None:
    mara, backend = Person(swept.url, unique("mara")), Person(swept.url, "office", scope="nestrel.service")
    place = (await mara.make(retention={"keep_for": "PT2S", "then": "archive"}))["id"]
    async with mara.socket() as wire:
        await wire.command(type="follow", conversation_id=place)
        await bring(backend, place, {"key": "1", "author_id": mara.user, "body": "old"})
        frame = await wire.get()
        assert [message["seq"] for message in frame["messages"]] == [1]
        while frame["floor"] != 2:
            frame = await wire.get()
        assert frame["messages"] == []


async def test_what_is_swept_is_listed_read_back_and_whole(swept: Served) -> None:
    mara, odd = Person(swept.url, unique("mara")), Person(swept.url, unique("odd"))
    place = (await mara.make(members=[odd.user], retention={"keep_last": 2, "then": "archive"}))["id"]
    at = f"/conversations/{place}"
    await mara.post(place, "berth 3 is free", attributes={"berth": 3})
    await mara.http.patch(f"{at}/messages/1", json={"body": "berth 4 is free"})
    await odd.http.put(f"{at}/messages/1/reactions/like")
    await mara.post(place, "a slip of the pen")
    await mara.http.delete(f"{at}/messages/2")
    await mara.fill(place, 3)

    def archived() -> int:
        head = {"Authorization": f"Bearer {mara.token}"}
        items = httpx.get(f"{swept.url}/v1{at}/archive", headers=head).json()["items"]
        return sum(item["messages"] for item in items)

    until(lambda: archived() == 3)
    listed = (await mara.http.get(f"{at}/archive")).json()
    [segment] = listed["items"]
    assert (segment["segment"], segment["first_seq"], segment["last_seq"]) == (1, 1, 3)
    assert (listed["next"], listed["discarded"]) == (None, [])
    read = await mara.http.get(f"{at}/archive/1")
    assert read.headers["content-type"] == "application/jsonl"
    assert (len(read.content), sha256(read.content).hexdigest()) == (segment["bytes"], segment["sha256"])
    assert read.headers["content-digest"] == f"sha-256=:{b64encode(sha256(read.content).digest()).decode()}:"
    first, second, third = (json.loads(line) for line in read.text.splitlines())
    assert (first["body"], first["attributes"], first["edits"]) == ("berth 4 is free", {"berth": 3}, 1)
    assert [(one["body"], one["edited_by"]) for one in first["earlier"]] == [("berth 3 is free", mara.user)]
    assert first["reactions"] == [{"symbol": "like", "count": 1, "by": [odd.user]}]
    assert (second["body"], second["removed_by"]) == ("", mara.user)
    assert third["body"] == "m1"
    await refused(await odd.http.get(f"{at}/archive"), 403, "forbidden")
    await refused(await odd.http.get(f"{at}/archive/1"), 403, "forbidden")
    await refused(await mara.http.get(f"{at}/archive/2"), 404, "not-found")


async def test_a_run_on_demand_sweeps_to_the_end_and_the_metrics_say_what_waits(swept: Served) -> None:
    mara, backend = Person(swept.url, unique("mara")), Person(swept.url, "office", scope="nestrel.service")
    place = (await mara.make(retention={"keep_last": 5, "then": "discard"}))["id"]
    await mara.fill(place, 500)
    async with asyncio.timeout(PATIENCE):
        while (await backend.http.post("/retention/run")).json()["waiting"]:
            pass
    found = (await mara.http.get(f"/conversations/{place}/archive")).json()
    assert found["items"] == []
    assert [(run["first_seq"], run["last_seq"]) for run in found["discarded"]] == [(1, 495)]
    metrics = httpx.get(f"{swept.url}/metrics").text
    assert "nestrel_sweep_backlog 0.0" in metrics
    assert 'nestrel_expired_total{then="discard"}' in metrics
    await refused(await mara.http.post("/retention/run"), 403, "forbidden")


async def test_a_message_too_large_for_its_conversation_is_refused_and_loses_nothing(
    person: Callable[..., Person],
) -> None:
    mara = person()
    place = (await mara.make(retention={"keep_bytes": 100, "then": "archive"}))["id"]
    await mara.post(place, "x" * 60)
    await refused(await mara.post(place, "y" * 101), 413, "too-large")
    edit = await mara.http.patch(f"/conversations/{place}/messages/1", json={"body": "z" * 101})
    await refused(edit, 413, "too-large")
    await mara.post(place, "y" * 40)
    assert (await mara.page(place))["floor"] == 1
    # An edit that makes the whole too large takes the oldest away, as a post does.
    await mara.http.patch(f"/conversations/{place}/messages/2", json={"body": "y" * 41})
    assert (await mara.page(place))["floor"] == 2


async def test_the_rule_of_the_service_is_a_backend_s_to_set(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_SWEEP_SECONDS="0.1") as served:
        served.wait_ready()
        mara, backend = Person(served.url, "mara"), Person(served.url, "office", scope="nestrel.service")
        place = (await mara.make())["id"]
        await mara.fill(place, 10)
        rule = {"keep_last": 4, "then": "discard"}
        await refused(await mara.http.put("/retention", json=rule), 403, "forbidden")
        problem = await refused(await backend.http.put("/retention", json=rule), 409, "confirm-needed")
        assert problem["preview"]["expires"] == 6
        assert (await backend.http.put("/retention", json={**rule, "confirm": True})).status_code == 200

        def floor() -> int:
            head = {"Authorization": f"Bearer {mara.token}"}
            found = httpx.get(f"{served.url}/v1/conversations/{place}/messages", headers=head).json()["floor"]
            return int(found)

        until(lambda: floor() == 7)
        shown = (await mara.http.get(f"/conversations/{place}/retention")).json()
        assert (shown["keep_last"], shown["own"], shown["from"]) == (4, False, "service")
