"""Erasing a person: everywhere that their words are, and nowhere else."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable, Iterator
from hashlib import sha256
from typing import Any

import pytest

from tests.support import PATIENCE, Person, Served, unique
from tests.test_retention_doors import refused


@pytest.fixture(scope="module")
def held(make_database: Callable[[], str]) -> Iterator[Served]:
    """A service that sweeps only when it is asked to."""
    with Served(make_database(), NESTREL_SWEEP_SECONDS="3600") as served:
        yield served.wait_ready()


async def finished(backend: Person, erasure: dict[str, Any]) -> dict[str, Any]:
    async with asyncio.timeout(PATIENCE):
        while True:
            found: dict[str, Any] = (await backend.http.get(f"/erasures/{erasure['id']}")).json()
            if found["finished_at"] is not None:
                return found


async def test_a_person_is_erased_live_waiting_and_archived_and_a_record_stays(held: Served) -> None:
    backend = Person(held.url, unique("office"), scope="nestrel.service")
    odd, mara = Person(held.url, unique("odd"), name="Odd of the linesmen"), Person(held.url, unique("mara"))
    rule = {"keep_last": 6, "then": "archive"}
    place = (await mara.make(members=[odd.user], retention=rule))["id"]
    at = f"/conversations/{place}"
    for n in range(1, 5):
        await odd.post(place, f"odd's own {n}")
        await mara.post(place, f"mara's {n}")
    await odd.http.patch(f"{at}/messages/7", json={"body": "odd's own and edited"})
    await mara.http.put(f"{at}/messages/7/reactions/like")
    while (await backend.http.post("/retention/run")).json()["waiting"]:
        pass
    for n in range(5, 7):  # these push others below the floor, where they wait
        await odd.post(place, f"odd's own {n}")
    asked = {"user_id": odd.user}
    preview = (await backend.http.post("/erasures/preview", json=asked)).json()
    assert preview == {
        "user_id": odd.user, "display_name": "Odd of the linesmen", "messages": 5, "archived": 1, "conversations": 1,
    }  # fmt: skip
    problem = await refused(await backend.http.post("/erasures", json=asked), 409, "confirm-needed")
    assert problem["preview"] == preview
    begun = await backend.http.post("/erasures", json={**asked, "confirm": True})
    assert begun.status_code == 201
    record = await finished(backend, begun.json())
    assert (record["user_id"], record["asked_by"], record["conversations"]) == (odd.user, backend.user, 1)
    assert record["messages"] + record["archived"] == 6
    assert (await mara.http.get(f"{at}/messages/7/edits")).json()["items"] == []
    while (await backend.http.post("/retention/run")).json()["waiting"]:
        pass
    everything = (await mara.http.get(f"{at}/export", params={"part": "all"})).text
    assert "odd's own" not in everything
    found = [json.loads(line) for line in everything.splitlines()]
    assert [one["seq"] for one in found] == list(range(1, 11))
    assert [one["body"] for one in found if one["author_id"] == mara.user] == [f"mara's {n}" for n in range(1, 5)]
    assert all(one["removed_by"] == backend.user for one in found if one["author_id"] == odd.user)
    for segment in (await mara.http.get(f"{at}/archive")).json()["items"]:
        content = (await mara.http.get(f"{at}/archive/{segment['segment']}")).content
        assert (sha256(content).hexdigest(), len(content)) == (segment["sha256"], segment["bytes"])
    page = await mara.page(place)
    assert page["profiles"][odd.user] == {**page["profiles"][odd.user], "display_name": odd.user, "picture": None}
    shown = (await mara.http.get(at)).json()
    assert shown["message_count"] == sum(not one["removed_at"] for one in page["items"])
    [listed] = [one for one in (await backend.http.get("/erasures")).json()["items"] if one["id"] == record["id"]]
    assert listed == record


async def test_what_is_written_after_the_act_stays(held: Served) -> None:
    backend, odd = Person(held.url, unique("office"), scope="nestrel.service"), Person(held.url, unique("odd"))
    place = (await odd.make())["id"]
    await odd.fill(place, 700)
    begun = await backend.http.post("/erasures", json={"user_id": odd.user, "confirm": True})
    await odd.post(place, "I am back")
    assert (await finished(backend, begun.json()))["messages"] == 700
    page = await odd.page(place, limit=2)
    assert [one["body"] for one in page["items"]] == ["I am back", ""]


async def test_only_a_backend_erases_people(held: Served) -> None:
    mara = Person(held.url, unique("mara"))
    body = {"user_id": mara.user, "confirm": True}
    await refused(await mara.http.post("/erasures", json=body), 403, "forbidden")
    await refused(await mara.http.post("/erasures/preview", json={"user_id": mara.user}), 403, "forbidden")
    await refused(await mara.http.get("/erasures"), 403, "forbidden")
