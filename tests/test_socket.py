"""The WebSocket: signing in, following with no hole and no double, and refusals that do not end it."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable
from typing import Any
from uuid import uuid4

import httpx
import jsonschema_rs
import pytest
from websockets.asyncio.client import connect
from websockets.exceptions import ConnectionClosed

from tests.support import PATIENCE, Person, Served, Wire, token, unique

Make = Callable[..., Person]


async def closed(raw: Any) -> tuple[int | None, str]:
    """How the service closes a connection; what comes before that is dropped."""
    try:
        while True:
            await asyncio.wait_for(raw.recv(), PATIENCE)
    except ConnectionClosed:
        return raw.close_code, raw.close_reason


async def test_a_page_and_a_follow_meet_without_hole_or_double(person: Make) -> None:
    """While a writer posts without a pause, readers join at any moment, by page and by cursor; each sees all, once."""
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    await mara.fill(place, 20)

    async def write() -> None:
        for n in range(150):
            await mara.post(place, f"live {n}")

    async def read(start_after: int) -> list[int]:
        while (page := await odd.page(place, limit=200, order="asc"))["head"] < start_after:
            pass
        seen = [item["seq"] for item in page["items"]]
        async with odd.socket() as wire:
            done = await wire.command(type="follow", conversation_id=place, cursor=page["change_cursor"])
            assert done["cursor"] == page["change_cursor"]
            base = done["cursor"]
            while seen[-1] < 170:
                frame = await wire.get()
                assert frame["base"] == base
                base = frame["cursor"]
                seen += [item["seq"] for item in frame["messages"]]
        return seen

    writing = asyncio.create_task(write())
    for seen in await asyncio.gather(*(read(n) for n in (20, 40, 41, 80, 120))):
        assert seen == list(range(1, 171))
    await writing


async def test_a_cursor_resumes_where_it_was_and_applying_twice_changes_nothing(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    async with mara.socket() as wire:
        cursor = (await wire.command(type="follow", conversation_id=place))["cursor"]
    await mara.fill(place, 450)
    async with mara.socket(header=True) as wire:
        await wire.command(type="follow", conversation_id=place, cursor=cursor)
        first = await wire.messages(450)
        again = await wire.command(type="follow", conversation_id=place, cursor=cursor)
        assert again["cursor"] == cursor
        second = await wire.messages(450)
        present = await wire.command(type="follow", conversation_id=place)
        assert present["cursor"] != cursor
        await wire.quiet()
    assert [m["seq"] for m in first] == list(range(1, 451))
    assert first == second


async def test_changes_over_http_end_where_more_ends(person: Make) -> None:
    """The eleventh of "ten at most" is not lost: `more` until nothing is left, then an empty set."""
    mara, odd = person(), person("odd")
    place = (await mara.make())["id"]
    await mara.fill(place, 7)
    newest = (await mara.http.get(f"/conversations/{place}/changes", params={"limit": 5})).json()
    assert newest["reset"]
    assert newest["conversation"]["my_role"] is None
    assert [m["seq"] for m in newest["messages"]] == [3, 4, 5, 6, 7]
    cursor, members = newest["cursor"], newest["members"]
    await mara.fill(place, 23)
    await mara.http.put(f"/conversations/{place}/members/{odd.user}", json={})
    await mara.http.patch(f"/conversations/{place}", json={"title": "renamed"})
    seen, titles, more = [], [], True
    while more:
        found = (await mara.http.get(f"/conversations/{place}/changes", params={"cursor": cursor, "limit": 5})).json()
        assert found["base"] == cursor
        assert len(found["messages"]) + len(found["members"]) <= 5
        seen += [m["seq"] for m in found["messages"]]
        members += found["members"]
        titles += [found["conversation"]["title"]] if found["conversation"] else []
        cursor, more = found["cursor"], found["more"]
    assert seen == list(range(8, 31))
    assert {m["user_id"] for m in members} == {mara.user, odd.user}
    assert titles[-1] == "renamed"
    last = (await mara.http.get(f"/conversations/{place}/changes", params={"cursor": cursor})).json()
    assert (last["messages"], last["members"], last["conversation"], last["cursor"]) == ([], [], None, cursor)


async def test_whoever_leaves_or_is_removed_hears_nothing_of_what_came_after(person: Make) -> None:
    mara, odd, ines = person(), person("odd"), person("ines")
    place = (await mara.make(members=[odd.user, ines.user]))["id"]
    async with mara.socket() as keeps, odd.socket() as leaves, ines.socket() as removed:
        for wire in (keeps, leaves, removed):
            await wire.command(type="follow", conversation_id=place)
        await odd.http.delete(f"/conversations/{place}/members/me")
        await mara.post(place, "odd is gone")
        await mara.http.delete(f"/conversations/{place}/members/{ines.user}")
        await mara.post(place, "both are gone")
        assert await leaves.get() == {"type": "unfollowed", "conversation_id": place, "reason": "left"}
        await leaves.quiet()
        frames = [await removed.get()]
        while frames[-1]["type"] == "changes":
            frames.append(await removed.get())
        assert frames[-1] == {"type": "unfollowed", "conversation_id": place, "reason": "removed"}
        assert [m["body"] for frame in frames[:-1] for m in frame["messages"]] == ["odd is gone"]
        await removed.quiet()
        gone: dict[str, str] = {}
        bodies: list[str] = []
        while bodies[-1:] != ["both are gone"]:
            frame = await keeps.get()
            gone |= {member["user_id"]: member["left_at"] for member in frame["members"] if member["left_at"]}
            bodies += [m["body"] for m in frame["messages"]]
        assert set(gone) == {odd.user, ines.user}
        assert (await leaves.command(type="follow", conversation_id=place))["problem"]["status"] == 404


async def test_closing_a_conversation_ends_every_follow(person: Make) -> None:
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    async with odd.socket() as wire:
        await wire.command(type="follow_all")
        await mara.http.delete(f"/conversations/{place}")
        assert await wire.get() == {"type": "unfollowed", "conversation_id": place, "reason": "closed"}


async def test_follow_all_brings_old_and_new_conversations_and_unfollow_leaves_one_out(person: Make) -> None:
    mara, odd = person(), person("odd")
    first, second = [(await mara.make(members=[odd.user]))["id"] for _ in range(2)]
    async with odd.socket() as wire:
        assert (await wire.command(type="follow_all"))["cursor"]
        await mara.post(first, "one")
        assert [m["body"] for m in await wire.messages(1)] == ["one"]
        await wire.command(type="unfollow", conversation_id=second)
        await mara.post(second, "not heard")
        await mara.post(first, "two")
        assert [m["body"] for m in await wire.messages(1)] == ["two"]
        third = (await mara.make(members=[odd.user], title="new"))["id"]
        joined = await wire.get()
        assert (joined["conversation_id"], joined["reset"], joined["base"]) == (third, True, None)
        assert joined["conversation"]["title"] == "new"
        await mara.post(third, "three")
        assert [m["body"] for m in await wire.messages(1)] == ["three"]
        await wire.quiet()


async def test_a_changed_profile_reaches_those_who_share_a_conversation(person: Make) -> None:
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    await mara.post(place)
    async with odd.socket() as wire:
        await wire.command(type="follow", conversation_id=place)
        await mara.http.patch("/me", json={"display_name": "Captain Quill"})
        frame = await wire.get()
        assert frame["profiles"][mara.user]["display_name"] == "Captain Quill"
        assert [member["user_id"] for member in frame["members"]] == [mara.user]


async def test_posts_of_one_socket_keep_their_order(person: Make) -> None:
    mara = person()
    places = [(await mara.make())["id"] for _ in range(3)]
    async with mara.socket() as wire:
        for n in range(300):
            await wire.send(type="post", ref=n, conversation_id=places[n % 3], key=f"k{n}", body=f"{n}")
        answers = [await wire.get() for _ in range(300)]
    assert {answer["type"] for answer in answers} == {"done"}
    by_ref = {answer["ref"]: answer["message"]["seq"] for answer in answers}
    assert [by_ref[n] for n in range(300)] == [n // 3 + 1 for n in range(300)]


@pytest.mark.parametrize(
    ("frame", "pointer"),
    [
        ("not json", ""),
        ("[]", ""),
        ('"text"', ""),
        ("7", ""),
        ("{}", "/type"),
        ('{"type": 7}', "/type"),
        ('{"type": "sing"}', "/type"),
        ('{"type": "post"}', "/conversation_id"),
        ('{"type": "follow", "conversation_id": "x"}', "/conversation_id"),
        ('{"type": "follow", "conversation_id": 7}', "/conversation_id"),
        (json.dumps({"type": "unfollow", "conversation_id": str(uuid4()), "more": 1}), "/more"),
        ('{"type": "follow_all", "ref": {}}', "/ref"),
        (json.dumps({"type": "follow_all", "ref": "x" * 129}), "/ref"),
        ('{"type": "sign_in"}', "/token"),
        ('{"a":' * 3000 + "1" + "}" * 3000, ""),
    ],
    ids=lambda value: str(value)[:40],
)  # fmt: skip
async def test_a_bad_frame_is_refused_and_the_socket_lives(person: Make, frame: str, pointer: str) -> None:
    mara = person()
    async with mara.socket() as wire:
        await wire.raw.send(frame)
        answer = await wire.get()
        assert answer["type"] == "refused"
        assert answer["problem"]["type"] == "/problems/invalid-request"
        assert pointer in [error["pointer"] for error in answer["problem"]["errors"]]
        await wire.raw.send(b"\x00\xff")
        assert (await wire.get())["type"] == "refused"
        assert (await wire.command(type="unfollow", conversation_id=str(uuid4())))["type"] == "done"


async def test_a_post_is_checked_in_a_frame_as_in_a_request(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    async with mara.socket() as wire:
        for fields, name in (
            ({"body": " "}, "invalid-request"),
            ({"body": "x" * 8001}, "too-large"),
            ({"body": "x", "reply_to": 9}, "invalid-request"),
            ({"body": "x", "on_behalf_of": "odd"}, "forbidden"),
            ({"body": "x", "conversation_id": str(uuid4())}, "not-found"),
        ):
            answer = await wire.command(**{"type": "post", "conversation_id": place, "key": unique("k"), **fields})
            assert answer["problem"]["type"] == f"/problems/{name}"
        wrong = await wire.command(type="follow", conversation_id=place, cursor="A" * 56)
        assert wrong["problem"]["errors"][0]["pointer"] == "/cursor"
    assert (await mara.page(place))["head"] == 0


async def test_without_a_good_first_frame_the_connection_is_closed(service: Served) -> None:
    address = "ws" + service.url[4:] + "/v1/live"
    for first in ('{"type": "follow_all"}', "not json", '{"type": "sign_in", "token": "x"}',
                  json.dumps({"type": "sign_in", "token": token("m", seconds=-5)})):  # fmt: skip
        async with connect(address) as raw:
            await raw.send(first)
            assert json.loads(await raw.recv())["type"] == "refused"
            assert (await closed(raw))[0] == 4401
    async with connect(address, additional_headers={"Authorization": "Bearer x"}) as raw:
        assert (await closed(raw))[0] == 4401


async def test_a_token_that_runs_out_ends_the_connection_unless_renewed(service: Served) -> None:
    user = unique("mara")
    async with (
        connect("ws" + service.url[4:] + "/v1/live") as raw,
        connect("ws" + service.url[4:] + "/v1/live") as kept,
    ):
        for one in (raw, kept):
            await one.send(json.dumps({"type": "sign_in", "token": token(user, seconds=2)}))
            await one.recv()
        await kept.send(json.dumps({"type": "sign_in", "token": token(user), "ref": 1}))
        assert json.loads(await kept.recv())["type"] == "signed_in"
        assert (await closed(raw))[0] == 4401
        wire = Wire(kept)
        assert (await wire.command(type="unfollow", conversation_id=str(uuid4())))["type"] == "done"
        await wire.send(type="sign_in", token=token("someone-else"))
        assert (await closed(kept))[0] == 4401


async def test_a_frame_over_the_limit_ends_with_1009_and_abuse_with_4429(person: Make) -> None:
    mara = person()
    async with mara.socket() as wire:
        await wire.raw.send("x" * 300_000)
        assert (await closed(wire.raw))[0] == 1009
    async with mara.socket() as wire:
        for _ in range(101):
            await wire.raw.send("nonsense")
        assert (await closed(wire.raw))[0] == 4429


async def test_frames_and_changes_are_as_the_asyncapi_document_says(person: Make) -> None:
    mara, odd = person(), person("odd")
    document = httpx.get(mara.url + "/asyncapi.json").json()
    assert document["asyncapi"].startswith("3.")

    def check(frame: dict[str, Any]) -> None:
        schema = {**document["components"]["schemas"][f"server_{frame['type']}"], "components": document["components"]}
        jsonschema_rs.validate(schema, frame)

    place = (await mara.make(members=[odd.user]))["id"]
    async with connect("ws" + mara.url[4:] + "/v1/live") as raw:
        wire = Wire(raw)
        await wire.send(type="sign_in", token=mara.token)
        check(await wire.get())
        check(await wire.command(type="follow", conversation_id=place))
        check(await wire.command(type="post", conversation_id=place, key="k", body="x"))
        check(await wire.get())
        check(await wire.command(type="nonsense"))
        await mara.http.delete(f"/conversations/{place}")
        check(await wire.get())
    known = {message["name"] for message in document["channels"]["live"]["messages"].values()}
    async with mara.socket() as wire:
        for name in known - {"signed_in", "done", "refused", "changes", "unfollowed", "checkpoint", "rewound"}:
            answer = await wire.command(type=name)
            assert "/type" not in [error["pointer"] for error in answer.get("problem", {}).get("errors", [])], name
