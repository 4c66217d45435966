"""A receiver that keeps a copy: it has all that is kept, of conversations of before the webhook too, and gets it anew
when it asks."""

from __future__ import annotations

from typing import Any

import pytest

from nestrel.core import limits
from tests.receiver import TAKEN, Receiver, hang, receiver
from tests.support import Person, Served, call, once, unique
from tests.test_webhooks import backend, hook


async def holds(who: Person, to: Receiver, place: str) -> None:
    """Wait until the copy of a conversation is what the service has, every row of it."""
    items: list[dict[str, Any]] = []
    page = await who.page(place, limit=200, order="asc")
    while True:
        items += page["items"]
        if page["newer"] is None:
            break
        page = await who.page(place, limit=200, cursor=page["newer"])
    members = (await call(who, "GET", f"/conversations/{place}/members?limit=200", None, 200)).json()["items"]

    def same(it: Receiver) -> bool:
        held = it.held.get(place)
        if held is None:
            return False
        rows = [(one.seq, one.rev, one.body) for one in held.ordered()]
        people = {one.user_id: one.rev for one in held.present()}
        return rows == [(one["seq"], one["rev"], one["body"]) for one in items] and people == {
            one["user_id"]: one["rev"] for one in members
        }

    await to.has(same)


async def test_a_conversation_of_before_comes_whole_with_its_next_change_and_once(own: Served) -> None:
    office, mara = backend(own), Person(own.url, unique("mara"))
    small, large, quiet = [(await mara.make(members=[unique("odd")]))["id"] for _ in range(3)]
    count = limits.WEBHOOK_ROWS * 2 + 30
    await mara.fill(large, count)
    await mara.fill(small, 5)
    await mara.fill(quiet, 3)
    async with receiver() as to:
        await hook(office, to)
        for place in (small, large):
            await mara.post(place, "the next one")
            await holds(mara, to, place)
        assert quiet not in to.held, "nothing has changed there"
        await mara.post(small, "another")
        await holds(mara, to, small)
        for place in (small, large):
            resets = [item for item in to.items if item["conversation_id"] == place and item["reset"]]
            assert len(resets) == 1
            assert resets[0]["messages"][0]["seq"] == 1
        parts = [item for item in to.items if item["conversation_id"] == large]
        assert [item["more"] for item in parts[:2]] == [True, True]
        assert len(to.bodies(small)) == 7, "a row came twice"
        assert to.back == []
        # A member who joins later moves a conversation of before as well.
        await call(mara, "PUT", f"/conversations/{quiet}/members/{unique('una')}", {}, 201)
        await holds(mara, to, quiet)


async def test_everything_is_sent_anew_from_the_start_and_it_is_said_how_far_that_is(own: Served) -> None:
    office, mara = backend(own), Person(own.url, unique("mara"))
    places = [(await mara.make(members=[unique("odd")]))["id"] for _ in range(4)]
    for place in places:
        await mara.fill(place, 12)
    await call(mara, "DELETE", f"/conversations/{places[0]}/messages/3", status=200)
    async with receiver() as to:
        made = await hook(office, to)
        path = f"/webhooks/{made['webhook_id']}"
        assert made["replaying"] is None
        await mara.post(places[0], "taken")
        await holds(mara, to, places[0])
        to.held.clear()  # as a receiver that has lost its copy, or never had one
        to.answer = hang
        asked = await call(office, "POST", f"{path}/replay", {"from": "start"}, 202)
        assert asked.json()["replaying"]["of"] >= 4
        assert asked.json()["replaying"]["conversations"] < asked.json()["replaying"]["of"]
        await mara.post(places[1], "meanwhile")
        to.end()
        to.answer = TAKEN

        async def shown() -> dict[str, Any]:
            found: dict[str, Any] = (await call(office, "GET", path, None, 200)).json()
            return found

        await once(shown, lambda it: it["replaying"] is None)
        for place in places:
            await holds(mara, to, place)
        await mara.post(places[2], "behind it")
        await holds(mara, to, places[2])
        assert not to.items[-1]["reset"], "it was told of everything"
        entry = (await call(office, "GET", "/audit", None, 200)).json()["items"][0]
        assert (entry["act"], entry["text"]) == ("webhook-replayed", "everything, from the start")
        await call(office, "DELETE", path, status=204)


async def test_what_cannot_be_sent_anew_is_refused(own: Served) -> None:
    office = backend(own)
    async with receiver() as to:
        notices = await hook(office, to, type="notices")
        for body in ({"from": "start"},):
            answer = await call(office, "POST", f"/webhooks/{notices['webhook_id']}/replay", body, 422)
            assert "/from" in answer.text
        made = await hook(office, to)
        for wrong in ({}, {"from": "begin"}, {"from": "start", "cursor": made["cursor"]}):
            await call(office, "POST", f"/webhooks/{made['webhook_id']}/replay", wrong, 422)


@pytest.mark.parametrize("posts", [3, 90])
async def test_one_conversation_alone_comes_whole(own: Served, posts: int) -> None:
    office, mara = backend(own), Person(own.url, unique("mara"))
    place = (await mara.make())["id"]
    await mara.fill(place, posts)
    async with receiver() as to:
        made = await hook(office, to, conversation_id=place)
        await call(office, "POST", f"/webhooks/{made['webhook_id']}/replay", {"from": "start"}, 202)
        await holds(mara, to, place)
        assert len(to.bodies(place)) == posts
