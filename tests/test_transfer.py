"""Out as JSON Lines and CSV, in as JSON Lines: order, authors, times, and nothing twice."""

from __future__ import annotations

import asyncio
import csv
import io
import json
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

import asyncpg
import orjson
import pytest
from sqlalchemy.engine import make_url

from nestrel.client import AsyncClient
from nestrel.core.problems import InvalidRequest
from nestrel.core.times import format_time
from tests.support import PATIENCE, Person, Served, token, unique
from tests.test_retention_doors import bring, days_ago, refused


def office(service: Served) -> Person:
    return Person(service.url, unique("office"), scope="nestrel.service")


async def exported(who: Person, place: str, **query: str) -> list[dict[str, Any]]:
    answer = await who.http.get(f"/conversations/{place}/export", params=query)
    assert answer.status_code == 200, answer.text
    return [json.loads(line) for line in answer.text.splitlines()]


async def test_an_import_keeps_authors_times_and_order_and_a_second_run_adds_nothing(service: Served) -> None:
    backend, mara = office(service), Person(service.url, unique("mara"))
    place = (await mara.make())["id"]
    lines: list[dict[str, Any]] = [
        {"key": f"k{n}", "author_id": ("ines", "tove")[n % 2], "body": f"tide {n}", "created_at": days_ago(30 - n)}
        for n in range(12)
    ]
    lines[3]["reply_line"] = 2
    lines[5] = {**lines[5], "body": "", "removed_at": days_ago(1), "removed_by": "mara"}
    first = await bring(backend, place, *lines)
    assert (first["added"], first["seqs"], first["refused"]) == (12, list(range(1, 13)), [])
    again = await bring(backend, place, *lines)
    assert (again["added"], again["repeated"], again["seqs"]) == (0, 12, list(range(1, 13)))
    found = await exported(mara, place)
    assert [one["author_id"] for one in found] == [line["author_id"] for line in lines]
    assert [one["created_at"][:19] for one in found] == [line["created_at"][:19] for line in lines]
    assert (found[3]["reply_to"], found[5]["removed_by"], found[5]["body"]) == (2, "mara", "")
    shown = (await mara.http.get(f"/conversations/{place}")).json()
    assert (shown["message_count"], shown["head"], shown["unread"]) == (11, 12, 11)


async def test_lines_that_cannot_be_taken_are_named_and_the_rest_goes_in(service: Served) -> None:
    backend, mara = office(service), Person(service.url, unique("mara"))
    place = (await mara.make())["id"]
    good = {"author_id": "ines", "body": "x", "created_at": days_ago(5)}
    lines = [
        {**good, "key": "1"},
        {**good, "key": "2", "body": "  "},
        {**good, "key": "3", "created_at": days_ago(6)},
        {**good, "key": "4", "created_at": "yesterday"},
        {**good, "key": "5", "created_at": days_ago(-1)},
        {"key": "6", "body": "x"},
        {**good, "key": "7", "reply_line": 2},
        {**good, "key": "8", "reply_to": 99},
        {**good, "key": "1", "body": "other"},
        {**good, "key": "9"},
        {**good, "key": "10", "reply_line": 3},
    ]
    packed = b"".join(json.dumps(line).encode() + b"\n" for line in lines) + b"{nothing\n[1]\n"
    answer = (await backend.http.post(f"/conversations/{place}/import", content=packed)).json()
    assert (answer["added"], answer["seqs"]) == (2, [1, *[None] * 8, 2, *[None] * 3])
    told = {one["line"]: one["detail"] for one in answer["refused"]}
    assert list(told) == [2, 3, 4, 5, 6, 7, 8, 9, 11, 12, 13]
    for line, word in {2: "blank", 3: "order of time", 4: "RFC 3339", 5: "future", 6: "author_id", 7: "line 2",
                       8: "reply", 9: "key", 11: "was refused", 12: "JSON", 13: "object"}.items():  # fmt: skip
        assert word in told[line], told[line]


async def test_an_import_during_which_the_store_is_set_back_leaves_no_hole(
    make_database: Callable[[], str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """What the first call brought is lost in part: the second one takes nothing, and a second run brings all."""
    monkeypatch.setattr("nestrel.client.importing.CHUNK_LINES", 10)
    url = make_database()
    at = datetime(2026, 1, 1, tzinfo=UTC)
    times = [format_time(at + timedelta(hours=n)) for n in range(30)]
    lines = [
        orjson.dumps({"author_id": "odd", "body": f"{n}", "key": f"{n}", "created_at": time})
        for n, time in enumerate(times)
    ]
    with Served(url) as served:
        served.wait_ready()
        async with AsyncClient(served.url, token("office", scope="nestrel.service")) as client:
            place = (await client.make_conversation()).id
            raw = await asyncpg.connect(make_url(url).render_as_string(hide_password=False))
            with pytest.raises(InvalidRequest, match="ends at 4"):
                async for step in client.import_lines(place, lines):
                    assert step.lines == 10
                    await raw.execute("DELETE FROM nestrel.messages WHERE seq > 4")
                    await raw.execute(
                        "UPDATE nestrel.conversations SET head = 4, rev = rev + 1, message_count = 4, "
                        "last_at = (SELECT created_at FROM nestrel.messages WHERE seq = 4)"
                    )
            await raw.close()
            async for step in client.import_lines(place, lines):
                assert not step.refused
            assert [one.body async for one in client.history(place, order="asc")] == [f"{n}" for n in range(30)]


async def test_only_a_trusted_backend_imports_and_a_call_has_a_limit(service: Served) -> None:
    backend, mara = office(service), Person(service.url, unique("mara"))
    place = (await mara.make())["id"]
    line = b'{"key": "1", "author_id": "odd", "body": "x"}\n'
    await refused(await mara.http.post(f"/conversations/{place}/import", content=line), 403, "forbidden")
    await refused(await backend.http.post(f"/conversations/{place}/import", content=b"{}\n" * 5_001), 413, "too-large")
    await refused(await backend.http.post(f"/conversations/{place}/import", content=b""), 422, "invalid-request")


async def test_what_is_exported_is_as_it_stands_in_both_forms(person: Callable[..., Person], service: Served) -> None:
    mara, odd = person("mara"), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    await mara.post(place, 'a "quoted", body\nof two lines', attributes={"berth": [1, 2]})
    await mara.post(place, "=1+1", format="markdown", reply_to=1)
    await odd.http.put(f"/conversations/{place}/messages/2/reactions/like")
    await mara.http.patch(f"/conversations/{place}/messages/2", json={"body": "second"})
    page = await mara.page(place, order="asc")
    lines = await exported(odd, place)
    assert [{key: line[key] for key in page["items"][0]} for line in lines] == page["items"]
    assert [len(line["earlier"]) for line in lines] == [0, 1]
    assert [mark["user_id"] for mark in lines[1]["reacted"]] == [odd.user]
    answer = await odd.http.get(f"/conversations/{place}/export", params={"form": "csv"})
    assert answer.headers["content-type"] == "text/csv; charset=utf-8"
    rows = list(csv.DictReader(io.StringIO(answer.text, newline="")))
    assert [row["body"] for row in rows] == ['a "quoted", body\nof two lines', "second"]
    assert (json.loads(rows[0]["attributes"]), rows[1]["reply_to"], rows[0]["reply_to"]) == ({"berth": [1, 2]}, "1", "")
    assert json.loads(rows[1]["reactions"])[0]["count"] == 1
    await refused(await odd.http.get(f"/conversations/{place}/export", params={"part": "archive"}), 403, "forbidden")
    await refused(await mara.http.get("/export"), 403, "forbidden")
    outsider = person("tove")
    await refused(await outsider.http.get(f"/conversations/{place}/export"), 404, "not-found")


async def test_all_conversations_come_out_one_after_the_other_archive_first(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_SWEEP_SECONDS="0.1") as served:
        served.wait_ready()
        mara, backend = Person(served.url, "mara"), Person(served.url, "office", scope="nestrel.service")
        places = [(await mara.make(retention={"keep_last": 3, "then": "archive"}))["id"] for _ in range(2)]
        for place in places:
            await mara.fill(place, 8)
        answer = await backend.http.get("/export", params={"part": "all"})
        found = [json.loads(line) for line in answer.text.splitlines()]
        assert [(one["conversation_id"], one["seq"]) for one in found] == [
            (place, seq) for place in sorted(places) for seq in range(1, 9)
        ]


async def test_what_was_exported_comes_back_with_all_that_hangs_on_it(service: Served) -> None:
    backend, mara, odd = office(service), Person(service.url, unique("mara")), Person(service.url, unique("odd"))
    place = (await mara.make(members=[odd.user]))["id"]
    await mara.post(place, "berth 3")
    await mara.http.patch(f"/conversations/{place}/messages/1", json={"body": "berth 4", "format": "markdown"})
    await mara.http.patch(f"/conversations/{place}/messages/1", json={"body": "berth 5"})
    for who, symbol in ((mara, "like"), (odd, "like"), (odd, "⚓")):
        await who.http.put(f"/conversations/{place}/messages/1/reactions/{symbol}")
    await odd.post(place, "to be removed")
    await odd.http.delete(f"/conversations/{place}/messages/2")
    lines = await exported(mara, place)
    copy = (await mara.make(members=[odd.user]))["id"]
    async with odd.socket() as wire:
        await wire.command(type="follow", conversation_id=copy)
        brought = await bring(backend, copy, *[{**line, "key": f"{line['seq']}"} for line in lines])
        assert (brought["added"], brought["refused"]) == (2, [])
        live = await wire.messages(2)
    there = await exported(mara, copy)

    def without(line: dict[str, Any]) -> dict[str, Any]:
        kept = {name: value for name, value in line.items() if name not in ("conversation_id", "rev", "reactions")}
        return {**kept, "marks": sorted((mark["symbol"], mark["count"]) for mark in line["reactions"])}

    assert [without(line) for line in there] == [without(line) for line in lines]
    page = await mara.page(copy, order="asc")
    assert page["items"] == live  # what followers got is what stands
    assert page["items"][0]["edits"] == 2
    await odd.http.delete(f"/conversations/{copy}/messages/1/reactions/like")
    assert (await mara.page(copy, order="asc"))["items"][0]["reactions"][-1]["count"] == 1


async def test_an_export_that_nobody_reads_to_its_end_gives_back_what_it_took(service: Served) -> None:
    mara = Person(service.url, unique("mara"))
    place = (await mara.make())["id"]
    await mara.fill(place, 6_000, "a long line of the berth log, so that no buffer holds it all " * 8)
    for _ in range(5):
        async with mara.http.stream("GET", f"/conversations/{place}/export") as answer:
            if answer.status_code == 429:  # the one before has not ended yet
                assert answer.headers["retry-after"] == "5"
                continue
            async for _ in answer.aiter_bytes():
                break
    async with asyncio.timeout(PATIENCE):
        while (answer := await mara.http.get(f"/conversations/{place}/export")).status_code == 429:
            pass
    assert answer.text.count("\n") == 6_000
