"""Webhooks from the command line, and a receiver by the library."""

from __future__ import annotations

import asyncio
import re
import time
from pathlib import Path
from typing import Any

import httpx
import pytest
from fastapi import FastAPI

from nestrel.client import NotSigned, received
from nestrel.core.webhooks import secret_of, signed
from nestrel.demo import board
from tests.receiver import receiver
from tests.support import Person, Served, token, unique
from tests.test_cli import Run, lines, make_run


@pytest.fixture
def run(service: Served, tmp_path: Path) -> Run:
    return make_run(service, tmp_path)


async def test_webhooks_are_made_watched_changed_and_taken_away(run: Run, service: Served) -> None:
    office = token(unique("office"), scope="nestrel.service")

    async def do(*words: str, code: int = 0) -> str:
        done = await asyncio.to_thread(run, *words, NESTREL_TOKEN=office)
        assert done.returncode == code, done.stderr
        return done.stdout if code == 0 else done.stderr

    mara = Person(service.url, unique("mara"))
    name = unique("pier")
    place = (await mara.make(name=name))["id"]
    async with receiver() as to:
        id_, secret = (await do("webhooks", "make", to.url, "--only", name)).split()
        await mara.post(place, "one")
        await to.has(lambda it: it.bodies(place) == ["one"])
        got = to.got[0]
        said = received(secret, got.headers, got.body)
        assert said["type"] == "changes"
        assert received([f"whsec_{'A' * 43}=", secret], got.headers, got.body) == said
        other = f"whsec_{'A' * 43}="
        wrong: list[tuple[str, dict[str, str], bytes, float | None]] = [
            (other, got.headers, got.body, None),
            (secret, got.headers, got.body + b" ", None),
            (secret, {**got.headers, "webhook-id": "msg_1"}, got.body, None),
            (secret, got.headers, got.body, 2e9),
            (secret, {**got.headers, "webhook-timestamp": "9" * 400}, got.body, None),
            (secret, {**got.headers, "webhook-timestamp": "-" + "9" * 5_000}, got.body, None),
            (secret, {}, got.body, None),
        ]
        for with_secret, headers, body, now in wrong:
            with pytest.raises(NotSigned):
                received(with_secret, headers, body, now=now)
        listed = await do("webhooks", "list")
        assert id_ in listed
        assert "up to date" in listed
        shown = await do("webhooks", "show", id_)
        assert "up to date" in shown
        assert "204" in shown
        assert "paused" in await do("webhooks", "change", id_, "--state", "paused")
        await mara.post(place, "two")
        assert to.url in await do("webhooks", "change", id_, "--state", "active")
        await to.has(lambda it: it.bodies(place) == ["one", "two"])
        await do("webhooks", "replay", id_, "--from", "2026-01-01T00:00:00Z")
        await to.has(lambda it: it.bodies(place) == ["one", "two", "one", "two"])
        await do("webhooks", "replay", id_, code=2)
        await do("webhooks", "change", id_, code=2)
        assert "not on the public internet" in await do("webhooks", "change", id_, "--to", "https://10.1.1.1", code=1)
        assert "taken away" in await do("webhooks", "delete", id_)
        assert id_ not in await do("webhooks", "list")
        assert f"no webhook {id_}" in await do("webhooks", "show", id_, code=1)


def test_a_member_is_refused(run: Run) -> None:
    done = run("webhooks", "list")
    assert (done.returncode, "trusted backend" in done.stderr) == (1, True)


def test_all_conversations_are_followed(run: Run, service: Served) -> None:
    headers = {"Authorization": f"Bearer {run.token}"}  # type: ignore[attr-defined]  # see make_run
    cursor = httpx.post(f"{service.url}/v1/resync", json={}, headers=headers).json()["cursor"]
    names = [unique("pier"), unique("quay")]
    for name in names:
        run("conversations", "make", name, "--title", f"Title of {name}")
        run("post", name, f"said in {name}")
    shown = run("follow", "--all", "--cursor", cursor, "-n", "2")
    assert shown.returncode == 0, shown.stderr
    for name in names:
        assert shown.stdout.index(f"Title of {name}") < shown.stdout.index(f"said in {name}")
    found = lines(run("follow", "--all", "--cursor", cursor, "-n", "2", "--json"))
    assert {row["body"] for one in found for row in one["messages"]} == {f"said in {name}" for name in names}
    assert run("follow").returncode == 2
    assert run("follow", names[0], "--all").returncode == 2


async def test_the_receiver_of_the_docs_takes_what_is_genuine() -> None:
    page = (Path(__file__).parent.parent / "docs/webhooks.md").read_text()
    [source] = re.findall(r"```python\n(.*?)```", page, re.DOTALL)
    secret = f"whsec_{'QUJD' * 8}"
    names: dict[str, Any] = {"SECRET": secret}
    exec(source, names)  # as a reader would run it
    body = b'{"type":"changes","data":{"items":[]}}'
    headers = signed([secret_of(secret)], "msg_1", time.time(), body)
    async with httpx.AsyncClient(transport=httpx.ASGITransport(names["app"]), base_url="http://office") as client:
        assert (await client.post("/in", content=body, headers=headers)).status_code == 204
        assert (await client.post("/in", content=body + b" ", headers=headers)).status_code == 400


async def test_the_demo_s_board_takes_what_is_signed_for_it() -> None:
    secret, app = board.secret("of the demo"), FastAPI()
    app.include_router(board.router(secret))
    body = b'{"type":"changes","data":{"items":[{"messages":[{"seq":1,"body":"one"}]}]}}'
    async with httpx.AsyncClient(transport=httpx.ASGITransport(app), base_url="http://board") as client:
        headers = signed([secret_of(secret)], "msg_1", time.time(), body)
        assert (await client.post("/board", content=body + b" ", headers=headers)).status_code == 400
        assert (await client.post("/board", content=body, headers=headers)).status_code == 204
        assert (await client.get("/board")).json() == [{"seq": 1, "body": "one"}]
