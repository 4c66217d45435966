"""Conversations and members: kinds, visibility, names, roles, and what each may see and do."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any
from uuid import UUID

import pytest

from tests.support import Person, unique

Make = Callable[..., Person]
ROLES = ("owner", "moderator", "writer", "reader")


async def listed(who: Person, **query: Any) -> list[dict[str, Any]]:
    items: list[dict[str, Any]] = []
    while True:
        page = (await who.http.get("/conversations", params=query)).raise_for_status().json()
        items += page["items"]
        if page["next"] is None:
            return items
        query = {"cursor": page["next"], "limit": query.get("limit", 50)}


async def test_a_conversation_is_made_shown_changed_and_closed(person: Make) -> None:
    mara, odd = person(), person("odd")
    name = unique("Quay")
    await odd.http.get("/me")
    made = await mara.make(name=name, title="Quay talk", members=[odd.user], attributes={"berth": 3})
    assert UUID(made["id"]).version == 7
    assert (made["name"], made["my_role"], made["members"], made["unread"]) == (name, "owner", 2, 0)
    assert made["attributes"] == {"berth": 3}
    address = f"/conversations/{made['id']}"
    shown = (await odd.http.get(address)).json()
    assert (shown["me"]["user_id"], shown["me"]["role"]) == (odd.user, "writer")
    assert shown == {**made, "my_role": "writer", "me": shown["me"]}
    assert (await odd.http.patch(address, json={"title": "x"})).status_code == 403
    changed = (await mara.http.patch(address, json={"title": "Berth talk", "name": None})).json()
    assert (changed["title"], changed["name"], changed["rev"]) == ("Berth talk", None, made["rev"] + 1)
    assert (await odd.http.delete(address)).status_code == 403
    assert (await mara.http.delete(address)).status_code == 204
    for who in (mara, odd):
        assert (await who.http.get(address)).status_code == 404
        assert (await who.post(made["id"])).status_code == 404
        assert made["id"] not in [item["id"] for item in await listed(who)]


async def test_the_name_of_a_closed_conversation_is_free_at_once(person: Make) -> None:
    mara = person()
    name = unique("erase")
    place = (await mara.make(name=name))["id"]
    await mara.fill(place, 3)
    await mara.http.delete(f"/conversations/{place}")
    assert (await mara.make(name=name))["name"] == name


async def test_two_makers_of_one_name_at_one_moment(person: Make) -> None:
    people, name = [person() for _ in range(6)], unique("Slipway")
    answers = await asyncio.gather(
        *(
            who.http.post("/conversations", json={"name": name.upper() if n % 2 else name})
            for n, who in enumerate(people)
        )
    )
    assert sorted(answer.status_code for answer in answers) == [201] + [409] * 5
    taken = next(answer for answer in answers if answer.status_code == 409).json()
    assert taken["type"] == "/problems/name-taken"


async def test_a_direct_conversation_is_one_for_each_pair(person: Make) -> None:
    mara, odd, ines = person(), person("odd"), person("ines")
    raced = await asyncio.gather(
        *(who.http.post("/conversations", json={"kind": "direct", "members": [other.user]})
          for who, other in [(mara, odd), (odd, mara)] * 4)
    )  # fmt: skip
    assert sorted(answer.status_code for answer in raced) == [200] * 7 + [201]
    place = raced[0].json()["id"]
    assert {answer.json()["id"] for answer in raced} == {place}
    assert (await ines.http.get(f"/conversations/{place}")).status_code == 404
    for who, other in ((mara, odd), (odd, mara)):
        await other.http.patch("/me", json={"display_name": f"the other, {other.user}"})
        listed = (await who.http.get("/conversations")).json()
        assert listed["items"][0]["partner"] == other.user
        assert listed["profiles"][other.user]["display_name"] == f"the other, {other.user}"
    assert (await mara.http.put(f"/conversations/{place}/members/{ines.user}", json={})).status_code == 403
    assert (await odd.http.delete(f"/conversations/{place}/members/me")).status_code == 403
    wrongs: tuple[dict[str, Any], ...] = (
        {"members": []}, {"members": [odd.user, ines.user]}, {"members": [mara.user]},
        {"members": [odd.user], "name": "x"}, {"members": [odd.user], "visibility": "open"},
    )  # fmt: skip
    for wrong in wrongs:
        assert (await mara.http.post("/conversations", json={"kind": "direct", **wrong})).status_code == 422


async def test_an_open_conversation_is_found_read_and_joined(person: Make) -> None:
    mara, odd = person(), person("odd")
    name = unique("pier")
    place = (await mara.make(name=name, visibility="open"))["id"]
    await mara.post(place, "welcome")
    found = await listed(odd, scope="open", name=name.upper())
    assert [item["id"] for item in found] == [place]
    assert (found[0]["my_role"], found[0]["unread"]) == (None, None)
    assert [m["body"] for m in (await odd.page(place))["items"]] == ["welcome"]
    assert (await odd.http.get(f"/conversations/{place}/changes")).status_code == 403
    assert (await odd.http.put(f"/conversations/{place}/members/me", json={"role": "owner"})).status_code == 403
    joined = await odd.http.put(f"/conversations/{place}/members/me", json={})
    assert (joined.status_code, joined.json()["role"]) == (201, "writer")
    assert (await odd.http.put(f"/conversations/{place}/members/me", json={})).status_code == 200
    shown = (await odd.http.get(f"/conversations/{place}")).json()
    assert (shown["unread"], shown["members"]) == (1, 2)
    assert (await odd.http.delete(f"/conversations/{place}/members/me")).status_code == 204
    await mara.http.patch(f"/conversations/{place}", json={"visibility": "closed"})
    assert (await odd.http.get(f"/conversations/{place}")).status_code == 404
    assert (await odd.http.put(f"/conversations/{place}/members/me", json={})).status_code == 404
    assert (await odd.http.get(f"/conversations/{place}/messages")).status_code == 404


async def test_newest_activity_comes_first_with_unread_and_last_message(person: Make) -> None:
    mara, odd = person(), person("odd")
    places = [(await mara.make(title=f"t{n}", members=[odd.user]))["id"] for n in range(5)]
    for place in (places[2], places[0], places[2], places[4]):
        await mara.post(place, f"into {place}")
    await odd.post(places[2], "mine")
    items = await listed(odd, limit=2)
    assert [item["id"] for item in items] == [places[2], places[4], places[0], places[3], places[1]]
    assert [item["unread"] for item in items] == [2, 1, 1, 0, 0]
    assert items[0]["last_message"]["body"] == "mine"
    assert items[3]["last_message"] is None
    page = (await odd.http.get("/conversations")).json()
    assert page["cursor"]
    assert set(page["profiles"]) >= {mara.user, odd.user}
    for wrong in ({"cursor": page["cursor"]}, {"scope": "none"}, {"limit": 0}, {"cursor": "x"}):
        assert (await odd.http.get("/conversations", params=wrong)).status_code == 422


async def test_a_backend_sees_every_conversation(person: Make) -> None:
    mara, backend = person(), person("backend", scope="nestrel.service")
    place = (await mara.make(name=unique("inner")))["id"]
    assert (await backend.http.get(f"/conversations/{place}")).status_code == 200
    assert place in [item["id"] for item in await listed(backend, scope="open", limit=200)]


@pytest.mark.parametrize("role", [*ROLES, None])
async def test_the_matrix_of_roles_and_what_they_may_do_to_members(person: Make, role: str | None) -> None:
    owner, actor = person("owner"), person("actor")
    place = (await owner.make(visibility="open"))["id"]
    address = f"/conversations/{place}/members"
    if role:
        await owner.http.put(f"{address}/{actor.user}", json={"role": role})
    allowed = {"owner": ROLES, "moderator": ("writer", "reader")}.get(role or "", ())
    for target in ROLES:
        someone = unique("someone")
        added = await actor.http.put(f"{address}/{someone}", json={"role": target})
        assert added.status_code == (201 if target in allowed else 403), (role, target)
        await owner.http.put(f"{address}/{someone}", json={"role": target})
        changed = await actor.http.patch(f"{address}/{someone}", json={"role": "reader"})
        assert changed.status_code == (200 if target in allowed else 403)
        removed = await actor.http.delete(f"{address}/{someone}")
        await owner.http.put(f"{address}/{someone}", json={"role": target})
        assert removed.status_code == (
            204 if target in allowed or (role == "moderator" and target not in ("owner", "moderator")) else 403
        )
    assert (await actor.http.patch(f"/conversations/{place}", json={"title": "x"})).status_code == (
        200 if role == "owner" else 403
    )


async def test_the_last_owner_does_not_leave_the_others_alone(person: Make) -> None:
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    address = f"/conversations/{place}/members"
    assert (await mara.http.delete(f"{address}/me")).status_code == 403
    assert (await mara.http.patch(f"{address}/me", json={"role": "writer"})).status_code == 403
    assert (await mara.http.delete(f"{address}/nobody")).status_code == 404
    assert (await mara.http.patch(f"{address}/nobody", json={"role": "writer"})).status_code == 404
    await mara.http.patch(f"{address}/{odd.user}", json={"role": "owner"})
    assert (await mara.http.delete(f"{address}/me")).status_code == 204
    assert (await mara.http.get(f"/conversations/{place}")).status_code == 404
    back = await odd.http.put(f"{address}/{mara.user}", json={})
    assert (back.status_code, back.json()["left_at"]) == (201, None)


async def test_members_are_paged_and_bounded(person: Make) -> None:
    mara = person()
    others = sorted(unique("m") for _ in range(25))
    place = (await mara.make(members=others))["id"]
    found, query = [], {"limit": 10}
    while True:
        page = (await mara.http.get(f"/conversations/{place}/members", params=query)).json()
        found += [item["user_id"] for item in page["items"]]
        if page["next"] is None:
            break
        query = {"limit": 10, "cursor": page["next"]}
    assert found == sorted([*others, mara.user])
    assert (await mara.http.post("/conversations", json={"members": ["x"] * 1001})).status_code == 422
    for bad in ({"name": " x"}, {"name": "x" * 81}, {"title": "a\nb"}, {"kind": "room"}, {"members": [""]}, {"x": 1}):
        assert (await mara.http.post("/conversations", json=bad)).status_code == 422
    wrongs: tuple[dict[str, Any], ...] = ({}, {"title": None}, {"visibility": None}, {"kind": "group"})
    for bad in wrongs:
        assert (await mara.http.patch(f"/conversations/{place}", json=bad)).status_code == 422


async def test_a_profile_comes_from_the_first_token_and_changes_for_all(person: Make) -> None:
    mara = person(name="ignored")
    first = Person(mara.url, unique("tam"), name="Tam Ferrier", picture="https://pictures.example/tam.png")
    shown = (await first.http.get("/me")).json()
    assert (shown["display_name"], shown["picture"]) == ("Tam Ferrier", "https://pictures.example/tam.png")
    later = Person(mara.url, first.user, name="Someone Else")
    assert (await later.http.get("/me")).json() == shown
    changed = (await later.http.patch("/me", json={"display_name": "T. Ferrier", "picture": None})).json()
    assert changed == {**shown, "display_name": "T. Ferrier", "picture": None, "rev": shown["rev"] + 1}
    assert (await later.http.patch("/me", json={"display_name": "T. Ferrier"})).json() == changed
    for bad in ({}, {"display_name": ""}, {"display_name": None}, {"picture": "javascript:alert(1)"}):
        assert (await later.http.patch("/me", json=bad)).status_code == 422


async def test_two_changes_of_one_profile_do_not_undo_each_other(person: Make) -> None:
    """Each names one field: at one moment, time and again, both hold afterwards."""
    mara = person()
    await mara.http.get("/me")
    for n in range(12):
        wanted = {"display_name": f"Mara {n}", "picture": f"https://pictures.example/{n}.png"}
        await asyncio.gather(*(mara.http.patch("/me", json={name: value}) for name, value in wanted.items()))
        shown = (await mara.http.get("/me")).json()
        assert {name: shown[name] for name in wanted} == wanted
