"""Pages of history: every message once, in the order asked for, however much is posted meanwhile."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from datetime import timedelta
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule, run_state_machine_as_test

from nestrel.core.times import format_time, parse_time
from tests.support import Person, Served, token, unique

Make = Callable[..., Person]


async def walk(who: Person, place: str, direction: str, **query: Any) -> list[dict[str, Any]]:
    """All pages from a first one on, each checked to be in the order that was asked for."""
    page = await who.page(place, **query)
    found: list[dict[str, Any]] = []
    limit = query.get("limit", 50)
    while True:
        seqs = [item["seq"] for item in page["items"]]
        assert seqs == sorted(seqs, reverse=query.get("order", "desc") == "desc")
        found += page["items"]
        if page[direction] is None:
            return found
        page = await who.page(place, cursor=page[direction], limit=limit)


async def test_pages_reach_every_message_once_both_ways(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    await mara.fill(place, 137)
    assert [m["seq"] for m in await walk(mara, place, "older", limit=10)] == list(range(137, 0, -1))
    assert [m["seq"] for m in await walk(mara, place, "newer", limit=10, order="asc")] == list(range(1, 138))
    first = await mara.page(place, limit=10)
    assert (first["newer"], first["head"]) == (None, 137)
    second = await mara.page(place, cursor=first["older"])
    back = await mara.page(place, cursor=second["newer"], limit=10)
    assert back["items"] == first["items"]


async def test_before_after_and_around_choose_the_nearest(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    await mara.fill(place, 30)

    async def seqs(**query: Any) -> list[int]:
        return [item["seq"] for item in (await mara.page(place, **query))["items"]]

    assert await seqs(before=20, limit=3) == [19, 18, 17]
    assert await seqs(before=20, limit=3, order="asc") == [17, 18, 19]
    assert await seqs(after=20, limit=3) == [23, 22, 21]
    assert await seqs(after=20, limit=3, order="asc") == [21, 22, 23]
    assert await seqs(around=15, limit=5, order="asc") == [13, 14, 15, 16, 17]
    assert await seqs(around=30, limit=5, order="asc") == [28, 29, 30]
    assert await seqs(around=2**53 - 1, limit=1) == [30]
    assert await seqs(before=1) == await seqs(after=30) == await seqs(after=2**53 - 1) == []
    assert len(await seqs(before=2**53 - 1)) == 30
    beyond = await mara.page(place, after=2**53 - 1)
    assert [m["seq"] for m in (await mara.page(place, cursor=beyond["older"], limit=2))["items"]] == [30, 29]


async def test_author_and_time_narrow_a_page_and_its_cursors(person: Make) -> None:
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    for n in range(24):
        await (odd if n % 3 == 0 else mara).post(place, f"{n}")
    own = await walk(mara, place, "older", author=odd.user, limit=3)
    assert [m["seq"] for m in own] == [22, 19, 16, 13, 10, 7, 4, 1]
    rows = (await mara.page(place, limit=200, order="asc"))["items"]
    start, end = rows[5]["created_at"], rows[15]["created_at"]
    expected = [m["seq"] for m in rows if start <= m["created_at"] < end]
    query = {"from": start, "to": end, "order": "asc", "limit": 4}
    assert [m["seq"] for m in await walk(mara, place, "newer", **query)] == expected
    both = await walk(mara, place, "newer", author=odd.user, **query)
    assert [m["seq"] for m in both] == [seq for seq in expected if (seq - 1) % 3 == 0]
    late = format_time(parse_time(rows[-1]["created_at"]) + timedelta(seconds=1))
    assert (await mara.page(place, **{"from": late}))["items"] == []
    assert (await mara.page(place, author="nobody"))["older"] is None


async def test_a_page_shows_each_author_once_with_the_newest_profile(person: Make) -> None:
    mara, odd = person(name="Mara Quill"), person("odd")
    mara = Person(mara.url, mara.user, name="Mara Quill")
    place = (await mara.make(members=[odd.user, "never-seen"]))["id"]
    for who in (mara, odd, mara, odd):
        await who.post(place)
    profiles = (await odd.page(place))["profiles"]
    assert set(profiles) == {mara.user, odd.user}
    assert profiles[mara.user]["display_name"] == "Mara Quill"
    await mara.http.patch("/me", json={"display_name": "Captain Quill"})
    assert (await odd.page(place))["profiles"][mara.user]["display_name"] == "Captain Quill"
    members = (await odd.http.get(f"/conversations/{place}/members")).json()
    assert members["profiles"]["never-seen"]["display_name"] == "never-seen"


async def test_links_repeat_the_cursors(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    await mara.fill(place, 9)
    answer = await mara.http.get(f"/conversations/{place}/messages", params={"before": 7, "limit": 2})
    links = {link["rel"]: link["url"] for link in answer.links.values()}
    assert set(links) == {"prev", "next"}
    for relation, url in links.items():
        cursor = answer.json()[{"prev": "older", "next": "newer"}[relation]]
        assert parse_qs(urlsplit(url).query)["cursor"] == [cursor]
        followed = await mara.http.get(str(httpx.URL(mara.url).join(url)))
        assert len(followed.json()["items"]) == 2


@pytest.mark.parametrize(
    "query",
    [
        {"limit": 0}, {"limit": 201}, {"limit": "many"}, {"order": "up"}, {"before": -1}, {"after": 2**53},
        {"around": "x"}, {"before": 5, "after": 2}, {"from": "2026-11-25 10:00:00"}, {"from": "yesterday"},
        {"to": "2026-11-25T10:00:00 02:00"}, {"cursor": "nonsense"}, {"cursor": "A" * 401}, {"cursor": ""},
        {"author": ""}, {"author": "x" * 129}, {"offset": 10},
    ],
    ids=str,
)  # fmt: skip
async def test_a_bad_query_is_a_clear_422(person: Make, query: dict[str, Any]) -> None:
    mara = person()
    place = (await mara.make())["id"]
    answer = await mara.http.get(f"/conversations/{place}/messages", params=query)
    assert answer.status_code == 422, answer.text
    problem = answer.json()
    assert problem["type"] == "/problems/invalid-request"
    assert problem["errors"][0]["detail"]


async def test_what_is_percent_encoded_is_utf8(person: Make) -> None:
    """Bytes that are none are refused, and not looked for as other characters."""
    mara = person()
    place = (await mara.make())["id"]
    for path, pointer in (
        (f"/conversations/{place}/messages?author=%FF", "/author"),
        ("/conversations?scope=open&name=berth%C3", "/name"),
        ("/people?q=%80", "/q"), ("/people?limit=5&q=a+%E2%82", "/q"), (f"/conversations/{place}/members/%FFodd", None),
    ):  # fmt: skip
        answer = await mara.http.get(path)
        problem = answer.json()
        assert (answer.status_code, problem["type"]) == (422, "/problems/invalid-request"), path
        assert "UTF-8" in problem["detail"]
        assert pointer is None or [one["pointer"] for one in problem["errors"]] == [pointer]
    for path in (f"/conversations/{place}/messages?author=m%C3%A5ra%20+%F0%9F%9A%A2", "/people?q=%E2%9A%93"):
        assert (await mara.http.get(path)).status_code == 200


async def test_a_cursor_stands_alone_and_belongs_to_one_member_and_place(person: Make) -> None:
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    other = (await mara.make())["id"]
    await mara.fill(place, 5)
    await mara.fill(other, 5)
    page = await mara.page(place, limit=2)
    cursor, change_cursor = page["older"], page["change_cursor"]
    changed = cursor[:20] + ("A" if cursor[20] != "A" else "B") + cursor[21:]

    async def status(who: Person, address: str, **query: Any) -> int:
        return (await who.http.get(f"/conversations/{address}", params=query)).status_code

    assert await status(mara, f"{place}/messages", cursor=cursor, limit=1) == 200
    assert await status(mara, f"{place}/messages", cursor=cursor, order="asc") == 422
    assert await status(mara, f"{place}/messages", cursor=changed) == 422
    assert await status(odd, f"{place}/messages", cursor=cursor) == 422
    assert await status(mara, f"{other}/messages", cursor=cursor) == 422
    assert await status(mara, f"{place}/messages", cursor=change_cursor) == 422
    assert await status(mara, f"{place}/changes", cursor=cursor) == 422
    assert await status(odd, f"{place}/changes", cursor=change_cursor) == 422
    assert await status(mara, f"{place}/changes", cursor=change_cursor) == 200


class Paging(RuleBasedStateMachine):
    """One reader goes through the pages of a conversation while others post; a list knows the truth."""

    url = ""

    @initialize(order=st.sampled_from(["asc", "desc"]), limit=st.integers(1, 7), before=st.integers(0, 12))
    def start(self, order: str, limit: int, before: int) -> None:
        headers = {"Authorization": f"Bearer {token(unique('reader'))}"}
        self.http = httpx.Client(base_url=self.url + "/v1", headers=headers)
        self.place = self.http.post("/conversations", json={}).json()["id"]
        self.truth: list[str] = []
        self.read: list[tuple[int, str]] = []
        self.order, self.limit = order, limit
        self.post(before)
        self.take({"order": order, "limit": limit})
        self.head_at_start = len(self.truth)

    @rule(count=st.integers(1, 9))
    def post(self, count: int) -> None:
        messages = [{"key": unique("k"), "body": unique("body")} for _ in range(count)]
        if messages:
            self.http.post(
                f"/conversations/{self.place}/messages/batch", json={"messages": messages}
            ).raise_for_status()
            self.truth += [message["body"] for message in messages]

    @rule()
    def next_page(self) -> None:
        cursor = self.page["older" if self.order == "desc" else "newer"]
        if cursor is not None:
            self.take({"cursor": cursor, "limit": self.limit})

    @rule()
    def turn_back(self) -> None:
        """The page on the other side of this one ends right where this one begins."""
        cursor = self.page["newer" if self.order == "desc" else "older"]
        if cursor is None or not self.page["items"]:
            return
        other = self.http.get(f"/conversations/{self.place}/messages", params={"cursor": cursor}).json()["items"]
        first = self.page["items"][0]["seq"]
        assert [item["seq"] for item in other][-1] == first + (1 if self.order == "desc" else -1)

    def take(self, query: dict[str, Any]) -> None:
        answer = self.http.get(f"/conversations/{self.place}/messages", params=query)
        self.page = answer.raise_for_status().json()
        self.read += [(item["seq"], item["body"]) for item in self.page["items"]]

    @invariant()
    def everything_was_read_once_and_in_order(self) -> None:
        if not hasattr(self, "page"):
            return
        seqs = [seq for seq, _ in self.read]
        first = 1 if self.order == "asc" else getattr(self, "head_at_start", len(self.truth))
        step = 1 if self.order == "asc" else -1
        assert seqs == list(range(first, first + step * len(seqs), step))
        assert all(self.truth[seq - 1] == body for seq, body in self.read)

    def teardown(self) -> None:
        if hasattr(self, "http"):
            self.http.close()


async def test_paging_under_concurrent_posts_misses_nothing_and_doubles_nothing(service: Served) -> None:
    Paging.url = service.url
    config = settings(max_examples=25, stateful_step_count=20, suppress_health_check=list(HealthCheck))
    await asyncio.to_thread(run_state_machine_as_test, Paging, settings=config)
