"""What everyone is in, and what is too many to be carried."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any

from nestrel.core import limits
from tests.support import Person, Served, once, unique

Make = Callable[..., Person]


async def until_members(who: Person, place: str, count: int) -> None:
    await once(lambda: who.http.get(f"/conversations/{place}"), lambda answer: answer.json()["members"] == count)


async def test_everyone_is_in_what_is_everyones_and_who_leaves_stays_away(own: Served) -> None:
    office = Person(own.url, "office", scope="nestrel.service")
    before = [Person(own.url, f"before{n}") for n in range(3)]
    for who in before:
        await who.http.get("/me")
    place = (await office.make(kind="bulletin", title="Notices"))["id"]
    here = f"/conversations/{place}"
    await office.http.put(f"{here}/kept-out/before2")
    changed = await office.http.patch(here, json={"default": True})
    assert (changed.status_code, changed.json()["default"]) == (200, True)
    async with before[0].socket() as wire:
        await wire.command(type="follow_all")
        await until_members(office, place, 3)
        newcomer = Person(own.url, "newcomer")
        first = (await newcomer.http.get("/conversations")).json()["items"]
        assert [(one["id"], one["my_role"]) for one in first] == [(place, "reader")]
    assert (await before[2].http.get(here)).status_code == 404  # who is kept out is kept out
    for who in (before[0], newcomer):
        assert (await who.http.delete(f"{here}/members/me")).status_code == 204
    await office.http.patch(here, json={"default": True})  # again: everyone is asked once more, and they stay away
    late = Person(own.url, "late")
    await late.http.get("/me")
    await until_members(office, place, 3)
    assert (await newcomer.http.get("/conversations")).json()["items"] == []
    assert (await office.http.patch(here, json={"default": False})).json()["default"] is False
    after = Person(own.url, "after")
    assert (await after.http.get("/conversations")).json()["items"] == []
    group = (await before[1].make())["id"]
    for who, where, wanted, status in (
        (office, group, True, 422), (before[1], group, True, 403), (before[1], group, False, 403),
        (office, group, None, 422),
    ):  # fmt: skip
        answer = await who.http.patch(f"/conversations/{where}", json={"default": wanted})
        assert answer.status_code == status


async def test_many_who_sign_in_at_one_moment_are_each_joined_once(own: Served) -> None:
    office = Person(own.url, "office", scope="nestrel.service")
    place = (await office.make(kind="bulletin"))["id"]
    await office.http.patch(f"/conversations/{place}", json={"default": True})
    crowd = [Person(own.url, f"p{n}") for n in range(40)]
    await asyncio.gather(*(who.http.get("/me") for who in crowd))
    await until_members(office, place, 41)
    listed = (await office.http.get(f"/conversations/{place}/members", params={"limit": 200})).json()["items"]
    assert len(listed) == 41


async def test_of_a_crowd_change_sets_carry_those_who_rule_it(person: Make) -> None:
    office, mara, odd = person(scope="nestrel.service"), person(), person()
    many = [unique("m") for _ in range(limits.MEMBERS_CARRIED - 2)]
    made = await office.http.post("/conversations", json={"members": [mara.user, *many]})
    place = made.json()["id"]
    here = f"/conversations/{place}"
    await office.http.patch(f"{here}/members/{mara.user}", json={"role": "moderator"})

    async def carried(who: Person, cursor: str | None = None) -> tuple[dict[str, Any], str]:
        """The member rows of a catch-up."""
        rows: dict[str, Any] = {}
        while True:
            found = (await who.http.get(f"{here}/changes", params={"cursor": cursor} if cursor else {})).json()
            rows |= {row["user_id"]: row for row in found["members"]}
            cursor = found["cursor"]
            if not found["more"]:
                return rows, str(cursor)

    rows, cursor = await carried(mara)
    assert len(rows) == limits.MEMBERS_CARRIED
    async with mara.socket() as wire:
        await wire.command(type="follow", conversation_id=place, cursor=cursor)
        await office.http.put(f"{here}/members/{odd.user}", json={})  # one too many
        async with odd.socket() as theirs:
            await theirs.command(type="follow", conversation_id=place)
            await odd.post(place, "from the crowd")
            await theirs.messages(1)
            await theirs.command(type="read", conversation_id=place, read_seq=1)
            await wire.command(type="read", conversation_id=place, read_seq=1)
            heard: set[str] = set()
            while mara.user not in heard:
                heard |= {row["user_id"] for row in (await wire.get()).get("members", [])}
            assert heard == {mara.user}
            # Whoever leaves hears it, though nobody else does.
            await office.http.delete(f"{here}/members/{odd.user}")
            while (frame := await theirs.get())["type"] != "unfollowed":
                pass
            assert frame["reason"] == "removed"
    rows, cursor = await carried(mara)
    assert set(rows) == {office.user, mara.user}
    shown = (await mara.http.get(here)).json()
    assert (shown["me"]["read_seq"], shown["me"]["role"], shown["members"]) == (1, "moderator", limits.MEMBERS_CARRIED)
    await office.http.patch(f"{here}/members/{mara.user}", json={"role": "writer"})
    rows, _ = await carried(mara, cursor)  # who rules no more is said to do so no more
    assert {user: row["role"] for user, row in rows.items()} == {mara.user: "writer"}
    items, after = 0, None
    while True:
        page = (
            await mara.http.get(f"{here}/members", params={"limit": 200, **({"cursor": after} if after else {})})
        ).json()
        items, after = items + len(page["items"]), page["next"]
        if after is None:
            break
    assert items == limits.MEMBERS_CARRIED
    synced = (await mara.http.post("/resync", json={})).json()
    assert {row["user_id"] for item in synced["items"] for row in item["members"]} == {office.user, mara.user}
