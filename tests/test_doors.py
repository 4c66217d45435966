"""The same promise through every door: repeats, ids, revisions, sizes, tokens that are withdrawn."""

from __future__ import annotations

import asyncio
import csv
import json
import stat
from collections.abc import Callable
from io import StringIO
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest
from websockets.asyncio.client import connect
from websockets.exceptions import ConnectionClosed

from tests.support import PATIENCE, Person, Served, Wire, token, unique
from tests.test_cli import Run, make_run

Make = Callable[..., Person]
PRESENT, BEFORE = "the-present-secret-that-is-long-enough", "the-secret-of-before-long-enough-as-well"
_MOST = 256 * 1024


@pytest.mark.parametrize("end", ["reader", "removed"])
async def test_a_repeat_is_answered_whatever_has_become_of_its_author(person: Make, end: str) -> None:
    """Whoever lost the answer learns that the post is there, through every door, and learns nothing else by it."""
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    first = (await odd.post(place, "said", "k")).json()
    if end == "removed":
        await mara.http.delete(f"/conversations/{place}/members/{odd.user}")
    else:
        await mara.http.put(f"/conversations/{place}/members/{odd.user}", json={"role": "reader"})
    await mara.http.put(f"/conversations/{place}/messages/1/reactions/like")
    again = (await odd.post(place, "said", "k")).json()
    assert (again["seq"], again["body"]) == (first["seq"], "said")
    assert [one["count"] for one in again["reactions"]] == ([1] if end == "reader" else [])
    refusal = 403 if end == "reader" else 404
    assert (await odd.post(place, "new", "k2")).status_code == refusal
    listed = await odd.http.post(
        f"/conversations/{place}/messages/batch", json={"messages": [{"key": "k", "body": "said"}]}
    )
    assert listed.json()["items"][0]["seq"] == first["seq"]
    async with odd.socket() as wire:
        done = await wire.command(type="post", conversation_id=place, key="k", body="said")
        assert done["message"]["seq"] == first["seq"]
        refused = await wire.command(type="post", conversation_id=place, key="k3", body="new")
        assert refused["problem"]["status"] == refusal


async def test_a_repeat_is_answered_beyond_the_rate(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_RATE_LIMIT="3") as served:
        mara = Person(served.wait_ready().url, "mara")
        place = (await mara.make())["id"]
        posted: list[dict[str, Any]] = []
        while (answer := await mara.post(place, "said", f"k{len(posted)}")).status_code != 429:
            posted.append(answer.json()["seq"])
            assert len(posted) < 200
        repeated = [(await mara.post(place, "said", f"k{n}")).json()["seq"] for n in range(len(posted))]
        assert repeated == posted


async def test_an_id_with_any_sign_is_a_member_at_its_own_address(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    for user in (unique("deck/1"), unique("a b?c#d"), unique("船/../x"), unique("50%2F")):
        where = f"/conversations/{place}/members/{quote(user, safe='')}"
        assert (await mara.http.put(where, json={"role": "writer"})).status_code in (200, 201)
        listed = (await mara.http.get(f"/conversations/{place}/members")).json()["items"]
        assert user in [one["user_id"] for one in listed]
        guest = Person(mara.url, user)
        assert (await guest.post(place)).status_code == 201
        assert (await mara.http.delete(where)).status_code in (200, 204)
        assert (await guest.post(place)).status_code == 404


async def test_words_of_the_paths_are_no_ones_id(person: Make) -> None:
    mara = person()
    for word in ("me", "all"):
        assert (await mara.http.post("/conversations", json={"members": [word]})).status_code == 422
        assert (await Person(mara.url, word).http.get("/me")).status_code == 401


async def test_a_like_between_does_not_make_an_edit_stale_and_an_edit_does(person: Make) -> None:
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    posted = (await mara.post(place, "one")).json()
    where = f"/conversations/{place}/messages/1"
    assert (await odd.http.put(f"{where}/reactions/like")).status_code == 200
    edited = await mara.http.patch(where, json={"body": "two"}, headers={"If-Match": f'"{posted["rev"]}"'})
    assert (edited.status_code, edited.json()["body"]) == (200, "two")
    late = await mara.http.patch(where, json={"body": "three"}, headers={"If-Match": f'"{posted["rev"]}"'})
    assert late.status_code == 412
    for match in ("9" * 5_000, '"' + "9" * 5_000 + '"', '"-1"', '"١"', "W/x"):
        poor = await mara.http.patch(where, json={"body": "x"}, headers={b"If-Match": match.encode()})
        assert poor.status_code in (412, 422), match[:10]


async def test_a_change_set_is_never_larger_than_a_frame_may_be(person: Make) -> None:
    """Live, on a return, of one conversation and as a stream, with bodies whose JSON is far larger than their count."""
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    bodies = ["⚓" * 4_000, "\x01" * 4_000, "m" * 8_000]
    async with odd.socket() as wire:
        begun = await wire.command(type="follow", conversation_id=place)
        for _ in range(2):
            answer = await mara.http.post(
                f"/conversations/{place}/messages/batch",
                json={"messages": [{"key": unique("k"), "body": bodies[n % 3]} for n in range(240)]},
            )
            assert answer.status_code == 200
        seen: list[int] = []
        while len(seen) < 480:
            text = await asyncio.wait_for(wire.raw.recv(), PATIENCE)
            assert len(text if isinstance(text, bytes) else text.encode()) <= _MOST
            seen += [one["seq"] for one in json.loads(text)["messages"]]
        assert seen == list(range(1, 481))
    cursor, found, rounds = begun["cursor"], [], 0
    while True:
        answer = await odd.http.get(f"/conversations/{place}/changes", params={"cursor": cursor, "limit": 500})
        changes = answer.json()
        assert len(answer.content) <= _MOST
        found += [one["seq"] for one in changes["messages"]]
        cursor, rounds = changes["cursor"], rounds + 1
        if not changes["more"]:
            break
    assert found == list(range(1, 481))
    assert rounds > 10
    token_, sizes, there = None, [], []
    while True:
        answer = await odd.http.post("/resync", json={"cursor": token_} if token_ else {})
        part = answer.json()
        sizes += [len(json.dumps(item, ensure_ascii=False).encode()) for item in part["items"]]
        there += [one["seq"] for item in part["items"] for one in item["messages"]]
        token_ = part["cursor"]
        if not part["more"]:
            break
    assert max(sizes) <= _MOST
    assert there[-1] == 480


async def test_whoever_is_no_backend_any_more_keeps_no_more_than_is_theirs(person: Make) -> None:
    mara, user = person(), unique("relay")
    place = (await mara.make())["id"]
    relay = Person(mara.url, user, scope="nestrel.service")
    async with relay.socket() as wire:
        assert (await wire.command(type="follow", conversation_id=place))["type"] == "done"
        assert (await wire.command(type="sign_in", token=token(user)))["type"] == "signed_in"
        ended = wire.kept.pop(0) if wire.kept else await wire.get()
        assert (ended["type"], ended["conversation_id"]) == ("unfollowed", place)
        await mara.post(place, "not for them")
        await wire.quiet()


async def test_a_long_poll_ends_with_its_token(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    cursor = (await mara.http.get(f"/conversations/{place}/changes")).json()["cursor"]
    short = Person(mara.url, mara.user, seconds=2)
    answer = await short.http.get(f"/conversations/{place}/changes", params={"cursor": cursor, "wait": 25})
    assert answer.status_code in (200, 401)
    assert answer.elapsed.total_seconds() < 15
    assert (await short.http.get("/me")).status_code == 401


async def test_two_secrets_while_they_are_changed(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_JWT_SECRET=f"{PRESENT},{BEFORE}") as served:
        served.wait_ready()
        for secret, status in ((PRESENT, 200), (BEFORE, 200), ("a-third-secret-that-is-long-enough-too", 401)):
            mara = Person(served.url, "mara")
            answer = await mara.http.get("/me", headers={"Authorization": f"Bearer {token('mara', secret=secret)}"})
            assert answer.status_code == status


async def test_a_cell_of_a_table_is_no_formula(person: Make, service: Served) -> None:
    mara = person()
    place = (await mara.make())["id"]
    bodies = ["=1+1", "+1", "-1", "@a", "\t=1", "plain", 'a"b', "two\nlines"]
    for body in bodies:
        await mara.post(place, body)
    text = (await mara.http.get(f"/conversations/{place}/export", params={"form": "csv"})).text
    rows = list(csv.DictReader(StringIO(text, newline="")))
    cells = [row["body"] for row in rows]
    assert not [cell for cell in cells if cell[:1] in "=+-@\t\r"]
    assert [cell.lstrip("'") for cell in cells] == bodies


@pytest.fixture
def run(service: Served, tmp_path: Path) -> Run:
    return make_run(service, tmp_path)


def test_a_token_comes_from_a_file_and_what_the_commands_keep_is_for_its_owner(run: Run, tmp_path: Path) -> None:
    held = tmp_path / "token"
    held.write_text(token(unique("mara")) + "\n")
    name = unique("quay")
    assert run("conversations", "make", name, "--token-file", str(held), NESTREL_TOKEN=None).returncode == 0
    piped = run("post", name, "hello", "--token-file", "-", NESTREL_TOKEN=None, STDIN=held.read_text())
    assert piped.stdout == f"posted as 1 in {name}\n"
    for made in (
        ("export", name, "--into", "out.jsonl", "--token-file", str(held)),
        ("resync", "--into", "own.db", "--token-file", str(held)),
    ):
        done = run(*made)
        assert done.returncode == 0, done.stderr
    for path in tmp_path.rglob("o*.*"):
        assert stat.S_IMODE(path.stat().st_mode) == 0o600, path


async def test_a_token_that_runs_out_on_a_socket_closes_it(person: Make) -> None:
    for seconds in (2, 10, 60):  # on a busy machine the shortest may have run out before it is looked at
        short = Person(person().url, unique("mara"), seconds=seconds)
        async with connect("ws" + short.url[4:] + "/v1/live") as raw:
            wire = Wire(raw)
            await wire.send(type="sign_in", token=short.token)
            if (await wire.get())["type"] != "signed_in":
                continue
            with pytest.raises(ConnectionClosed):
                while True:
                    await wire.get()
            assert raw.close_code == 4401
            return
    raise AssertionError("no token was taken within a minute")
