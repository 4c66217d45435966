"""Posting through HTTP: once, in order, as sent, by whom the token names."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator, Callable

import httpx
import pytest

from nestrel.core.times import parse_time
from tests.support import Person, unique

Make = Callable[..., Person]


async def test_messages_are_numbered_without_a_gap_in_the_order_of_time(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    answers = await asyncio.gather(*(mara.post(place, f"m{n}") for n in range(60)))
    assert {answer.status_code for answer in answers} == {201}
    page = await mara.page(place, limit=200, order="asc")
    assert [item["seq"] for item in page["items"]] == list(range(1, 61))
    assert {item["body"] for item in page["items"]} == {f"m{n}" for n in range(60)}
    times = [parse_time(item["created_at"]) for item in page["items"]]
    assert times == sorted(times)
    revs = [item["rev"] for item in page["items"]]
    assert revs == sorted(set(revs))
    assert (page["head"], page["floor"]) == (60, 1)


async def test_a_repeat_with_its_key_posts_once_through_every_door(person: Make) -> None:
    mara = person()
    place, key = (await mara.make())["id"], "ключ 🗝"
    raced = await asyncio.gather(*(mara.post(place, "once", key) for _ in range(8)))
    assert sorted(answer.status_code for answer in raced) == [200] * 7 + [201]
    batch = await mara.http.post(
        f"/conversations/{place}/messages/batch", json={"messages": [{"key": key, "body": "once"}] * 2}
    )
    async with mara.socket() as wire:
        frame = await wire.command(type="post", conversation_id=place, key=key, body="once")
        reused = await wire.command(type="post", conversation_id=place, key=key, body="other")
    doors = [answer.json() for answer in raced] + batch.json()["items"] + [frame["message"]]
    assert all(message == doors[0] for message in doors)
    assert reused["problem"]["type"] == "/problems/key-reused"
    assert (await mara.post(place, "other", key)).status_code == 409
    assert (await mara.page(place))["head"] == 1
    twice = {"messages": [{"key": unique("new"), "body": "twice in one list"}] * 2}
    first, second = (await mara.http.post(f"/conversations/{place}/messages/batch", json=twice)).json()["items"]
    assert first == second


async def test_a_key_belongs_to_its_author_and_conversation(person: Make) -> None:
    mara, odd = person(), person("odd")
    first, second = [(await mara.make(members=[odd.user]))["id"] for _ in range(2)]
    for who, place in ((mara, first), (odd, first), (mara, second)):
        assert (await who.post(place, who.user, "same")).status_code == 201


async def test_the_author_is_the_tokens_subject_whatever_the_body_says(person: Make) -> None:
    mara, odd, backend = person(), person("odd"), person("backend", scope="other nestrel.service")
    place = (await mara.make(members=[odd.user]))["id"]
    forged = await odd.post(place, "hi", author_id=mara.user)
    assert forged.status_code == 422
    assert forged.json()["errors"] == [
        {"pointer": "/author_id", "detail": "is not a field of this request; leave it out"}
    ]
    assert (await odd.post(place, "hi", on_behalf_of=mara.user)).status_code == 403
    assert (await odd.post(place, "hi")).json()["author_id"] == odd.user
    assert (await backend.post(place, "hi", on_behalf_of=mara.user)).json()["author_id"] == mara.user


async def test_text_of_any_script_comes_back_as_sent(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    bodies = ["  space around \n", "שלום עולם", "नमस्ते", "e\u0301 \u00e9", "<b>&amp;</b>", "\u202eturned", "👩‍🚀" * 2000]
    attributes = {"z": [1.5, None, True, "ä"], "a": {"<": ">"}}
    for body in bodies:
        made = (await mara.post(place, body, attributes=attributes)).json()
        assert made["body"] == body
        read = (await mara.http.get(f"/conversations/{place}/messages/{made['seq']}")).json()
        assert read == made
        assert list(read["attributes"]) == ["z", "a"]


async def test_a_list_is_posted_all_or_not_at_all(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    address = f"/conversations/{place}/messages/batch"
    good = [{"key": f"k{n}", "body": f"b{n}", "reply_to": n or None} for n in range(5)]
    bad = await mara.http.post(address, json={"messages": [*good, {"key": "k9", "body": "x", "reply_to": 99}]})
    assert bad.status_code == 422
    assert bad.json()["errors"][0]["pointer"] == "/messages/5/reply_to"
    assert (await mara.page(place))["items"] == []
    done = await mara.http.post(address, json={"messages": good})
    assert [item["seq"] for item in done.json()["items"]] == [1, 2, 3, 4, 5]
    too_many = await mara.http.post(address, json={"messages": [{"key": "k", "body": "x"}] * 501})
    assert too_many.status_code == 422


@pytest.mark.parametrize(
    ("content", "status"),
    [
        (b"", 422),
        (b"not json", 422),
        (b"[]", 422),
        (b'"text"', 422),
        (b"{}", 422),
        (b'{"body": ""}', 422),
        (b'{"body": " \\n "}', 422),
        (b'{"body": 7}', 422),
        (b'{"body": null}', 422),
        (b'{"body": "a\\u0000b"}', 422),
        (b'{"body": "\\ud800"}', 422),
        (b'{"body": "\xff\xfe"}', 422),
        (b'{"body": "x", "unknown": 1}', 422),
        (b'{"body": "x", "format": "html"}', 422),
        (b'{"body": "x", "reply_to": 0}', 422),
        (b'{"body": "x", "reply_to": 1}', 422),
        (b'{"body": "x", "reply_to": 1e99}', 422),
        (b'{"body": "x", "attributes": []}', 422),
        (b'{"body": "x", "attributes": {"a": NaN}}', 422),
        (b'{"body": "x", "attributes": {"a": 1e999}}', 422),
        (b'{"body": "x", "attributes": {"a": "\\u0000"}}', 422),
        (b'{"body": "x", "attributes": ' + b'{"a":' * 50 + b"1" + b"}" * 50 + b"}", 422),
        (b'{"body": "x", "attributes": ' + b'{"a":' * 5000 + b"1" + b"}" * 5000 + b"}", 422),
        (json.dumps({"body": "x", "attributes": {"a": "y" * 4096}}).encode(), 413),
        (json.dumps({"body": "y" * 8001}).encode(), 413),
        (b'{"body": "' + b"y" * 600_000 + b'"}', 413),
    ],
    ids=lambda value: str(value)[:40],
)  # fmt: skip
async def test_a_bad_body_is_refused_with_a_problem_and_posts_nothing(
    person: Make, content: bytes, status: int
) -> None:
    mara = person()
    place = (await mara.make())["id"]
    answer = await mara.http.post(
        f"/conversations/{place}/messages", content=content, headers={"Content-Type": "application/json"}
    )
    assert answer.status_code == status, answer.text
    assert answer.headers["content-type"] == "application/problem+json"
    problem = answer.json()
    assert problem["type"] == ("/problems/too-large" if status == 413 else "/problems/invalid-request")
    assert problem["detail"]
    assert status == 413 or problem["errors"]
    assert (await mara.page(place))["head"] == 0


async def test_a_body_without_a_declared_length_is_bounded_too(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]

    async def endless() -> AsyncIterator[bytes]:
        for _ in range(100):
            yield b" " * 65_536

    answer = await mara.http.post(
        f"/conversations/{place}/messages", content=endless(), headers={"Content-Type": "application/json"}
    )
    assert answer.status_code == 413
    assert answer.json()["type"] == "/problems/too-large"


async def test_keys_have_limits_and_answers_carry_their_request_id(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    for key in ("", "k" * 129):
        assert (await mara.post(place, "x", key)).status_code == 422
    named = await mara.http.get("/me", headers={"X-Request-ID": "tide-7"})
    assert named.headers["x-request-id"] == "tide-7"
    for bad in ("x" * 65, "two words"):
        assert (await mara.http.get("/me", headers={"X-Request-ID": bad})).headers["x-request-id"] != bad


async def test_ids_that_are_none_and_paths_that_are_none_are_problems(person: Make) -> None:
    mara = person()
    answers: list[httpx.Response] = [
        await mara.http.get("/conversations/not-an-id"),
        await mara.http.get("/conversations/00000000-0000-7000-8000-000000000000"),
        await mara.http.get("/nowhere"),
        await mara.http.delete("/me"),
        await mara.post("00000000-0000-7000-8000-000000000000"),
    ]
    assert [answer.status_code for answer in answers] == [422, 404, 404, 405, 404]
    assert all(answer.headers["content-type"] == "application/problem+json" for answer in answers)
    assert all(answer.json()["instance"] == answer.headers["x-request-id"] for answer in answers)


async def test_the_role_is_checked_at_every_door(person: Make) -> None:
    """Members write in a group; in a bulletin owners and moderators do; guests of an open one read only."""
    owner, other, guest = person("owner"), person("other"), person("guest")
    bulletin = (await owner.make(kind="bulletin", members=[other.user], visibility="open", name=unique("b")))["id"]
    hidden = (await owner.make(members=[other.user]))["id"]

    async def doors(who: Person, place: str) -> list[str]:
        posted = await who.post(place)
        batch = await who.http.post(
            f"/conversations/{place}/messages/batch", json={"messages": [{"key": unique("k"), "body": "x"}]}
        )
        async with who.socket() as wire:
            frame = await wire.command(type="post", conversation_id=place, key=unique("k"), body="x")
        names = [answer.json().get("type", "done") for answer in (posted, batch)]
        return [*names, frame.get("problem", {}).get("type", "done")]

    assert await doors(owner, bulletin) == ["done"] * 3
    assert await doors(other, bulletin) == ["/problems/forbidden"] * 3
    assert await doors(guest, bulletin) == ["/problems/forbidden"] * 3
    assert await doors(other, hidden) == ["done"] * 3
    assert await doors(guest, hidden) == ["/problems/not-found"] * 3
    assert (
        await owner.http.patch(f"/conversations/{bulletin}/members/{other.user}", json={"role": "moderator"})
    ).is_success
    assert await doors(other, bulletin) == ["done"] * 3


COSTLY = ("1) " * 1200, "> - " * 2000, "_*" * 4000, "a|" * 300 + "\n" + "-|" * 300 + "\n" + "a\n" * 3000)


async def test_markdown_that_nobody_could_draw_in_good_time_is_refused_at_every_door(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    await mara.post(place, "fine", format="markdown")
    at = f"/conversations/{place}/messages"
    async with mara.socket() as wire:
        for body in COSTLY:
            batch = {"messages": [{"key": "k", "body": body, "format": "markdown"}]}
            answers = [
                await mara.post(place, body, format="markdown"),
                await mara.http.patch(f"{at}/1", json={"body": body}),  # which stays Markdown
                await mara.http.patch(f"{at}/1", json={"body": body, "format": "markdown"}),
                await mara.http.post(f"{at}/batch", json=batch),
            ]
            assert [answer.status_code for answer in answers] == [422] * 4
            assert all("Markdown" in answer.json()["errors"][0]["detail"] for answer in answers)
            frames = (
                {"type": "post", "key": "k", "body": body, "format": "markdown"},
                {"type": "edit", "seq": 1, "body": body},
            )
            for frame in frames:
                refused = await wire.command(**frame, conversation_id=place)
                assert refused["problem"]["status"] == 422
            assert (await mara.post(place, body)).status_code == 201  # as plain text it costs nothing
    assert [m["body"] for m in (await mara.page(place, order="asc"))["items"]] == ["fine", *COSTLY]
