"""Invitations: who makes them, who joins with them, and when they end."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from nestrel.client import AsyncClient, Expired, NotFound
from tests.support import Person, Served, token, unique, until
from tests.test_cli import Run, make_run

Make = Callable[..., Person]


async def invite(who: Person, place: str, status: int = 201, **wanted: Any) -> dict[str, Any]:
    answer = await who.http.post(f"/conversations/{place}/invitations", json=wanted)
    assert answer.status_code == status, answer.text
    made: dict[str, Any] = answer.json()
    return made


async def accept(who: Person, made: dict[str, Any]) -> tuple[int, Any]:
    answer = await who.http.post(f"/invitations/{made['token']}/accept")
    return answer.status_code, answer.json()


async def seen(who: Person, made: dict[str, Any]) -> int:
    return (await who.http.get(f"/invitations/{made['token']}")).status_code


async def test_who_has_the_token_sees_what_it_leads_to_and_joins(person: Make) -> None:
    mara, odd, ines = person(), person(), person()
    place = (await mara.make(title="Quay", members=[ines.user]))["id"]
    made = await invite(mara, place, uses=1, expires_in=3600)
    assert {**made, "invitation_id": "", "token": "", "created_at": "", "expires_at": ""} == {
        "invitation_id": "", "token": "", "role": "writer", "uses_left": 1, "expires_at": "", "created_by": mara.user,
        "created_at": "",
    }  # fmt: skip
    assert len(made["token"]) == 43
    shown = await odd.http.get(f"/invitations/{made['token']}")
    assert (shown.status_code, shown.json()) == (
        200, {"conversation_id": place, "title": "Quay", "name": None, "kind": "group", "members": 2, "role": "writer"},
    )  # fmt: skip
    assert (await odd.http.get(f"/conversations/{place}")).status_code == 404  # seeing it is not being in it
    assert (await accept(ines, made))[0] == 200  # a member already: nothing is used up
    [listed] = (await mara.http.get(f"/conversations/{place}/invitations")).json()["items"]
    assert (listed["uses_left"], "token" in listed) == (1, False)
    status, joined = await accept(odd, made)
    assert (status, joined["id"], joined["my_role"], joined["members"]) == (200, place, "writer", 3)
    for _ in range(2):  # who is in it is told so for ever
        assert ((await accept(odd, made))[0], await seen(odd, made)) == (200, 200)
    late = person()
    assert ((await accept(late, made))[0], await seen(late, made)) == (410, 410)
    assert (await late.http.get(f"/conversations/{place}")).status_code == 404


async def test_only_who_may_invites_and_to_no_role_above_their_own(person: Make) -> None:
    mara, odd, ines, stranger, office = person(), person(), person(), person(), person(scope="nestrel.service")
    place = (await mara.make(members=[ines.user]))["id"]
    await mara.http.put(f"/conversations/{place}/members/{odd.user}", json={"role": "moderator"})
    for who, wanted, status in (
        (mara, {"role": "owner"}, 201), (odd, {"role": "moderator"}, 403), (odd, {"role": "owner"}, 403),
        (mara, {"role": "moderator"}, 201), (odd, {"role": "writer"}, 201),
        (ines, {}, 403), (stranger, {}, 404), (office, {"role": "owner"}, 201), (mara, {"uses": 0}, 422),
        (mara, {"expires_in": 1.5}, 422), (mara, {"expires_in": 0}, 422), (mara, {"role": "king"}, 422),
    ):  # fmt: skip
        await invite(who, place, status, **wanted)
    for who, status in ((ines, 403), (stranger, 404), (odd, 200), (office, 200)):
        assert (await who.http.get(f"/conversations/{place}/invitations")).status_code == status
    direct = (await mara.make(kind="direct", members=[odd.user]))["id"]
    await invite(mara, direct, 422)
    bulletin = (await mara.make(kind="bulletin"))["id"]
    assert (await invite(mara, bulletin))["role"] == "reader"


async def test_what_was_taken_back_or_whose_maker_may_not_any_more_does_not_come_back(person: Make) -> None:
    mara, odd, late = person(), person(), person()
    place = (await mara.make())["id"]
    members = f"/conversations/{place}/members/{odd.user}"
    await mara.http.put(members, json={"role": "owner"})
    revoked, high, low = await invite(odd, place), await invite(odd, place, role="owner"), await invite(odd, place)
    where = f"/conversations/{place}/invitations/{revoked['invitation_id']}"
    for _ in range(2):
        assert (await mara.http.delete(where)).status_code == 204
    assert (await seen(late, revoked), (await accept(late, revoked))[0]) == (404, 404)
    await mara.http.patch(members, json={"role": "moderator"})
    assert (await seen(late, high), await seen(late, low)) == (404, 200)
    await mara.http.patch(members, json={"role": "owner"})
    assert await seen(late, high) == 404
    await mara.http.delete(members)
    assert (await accept(late, low))[0] == 404
    await mara.http.put(members, json={"role": "owner"})
    assert (await accept(late, low))[0] == 404
    short, lasting = await invite(mara, place, expires_in=1), await invite(mara, place)
    until(lambda: httpx_status(late, short) == 410)
    await mara.http.delete(f"/conversations/{place}")
    assert (await accept(late, lasting))[0] == 404
    for bad in ("x", "A" * 43, "%00", "A" * 5_000):
        assert (await late.http.post(f"/invitations/{bad}/accept")).status_code == 404


def httpx_status(who: Person, made: dict[str, Any]) -> int:
    import httpx

    headers = {"Authorization": f"Bearer {who.token}"}
    return httpx.get(f"{who.url}/v1/invitations/{made['token']}", headers=headers).status_code


async def test_many_at_once_use_it_as_often_as_it_may_be(person: Make) -> None:
    mara, crowd = person(), [person() for _ in range(12)]
    place = (await mara.make())["id"]
    made = await invite(mara, place, uses=5)
    found = sorted([status for status, _ in await asyncio.gather(*(accept(who, made) for who in crowd))])
    assert found == [200] * 5 + [410] * 7
    assert (await mara.http.get(f"/conversations/{place}")).json()["members"] == 6


async def test_who_joins_is_told_and_those_who_follow_see_them(person: Make) -> None:
    mara, odd = person(), person()
    place = (await mara.make())["id"]
    made = await invite(mara, place)
    async with mara.socket() as wire:
        await wire.command(type="follow", conversation_id=place)
        await accept(odd, made)
        while True:
            frame = await wire.get()
            if frame["type"] == "changes" and any(one["user_id"] == odd.user for one in frame["members"]):
                break


def test_the_token_is_in_no_log_and_not_in_the_database(make_database: Callable[[], str], tmp_path: Path) -> None:
    with Served(make_database(), NESTREL_LOG_LEVEL="debug") as served:
        run: Run = make_run(served.wait_ready(), tmp_path)
        name, odd = unique("quay"), token(unique("odd"))
        run("conversations", "make", name, "--title", "Quay")
        done = run("invitations", "make", name, "--role", "reader", "--uses", "2", "--for", "P7D")
        assert (done.returncode, "makes a reader of who accepts it, 2 times, until" in done.stderr) == (0, True)
        secret = done.stdout.strip()
        assert (
            "a group of 1 member; it makes a reader of you"
            in run("invitations", "show", secret, NESTREL_TOKEN=odd).stdout
        )
        assert run("invitations", "accept", secret, NESTREL_TOKEN=odd).stdout == f"you are reader in {name}\n"
        [one] = [json.loads(line) for line in run("invitations", "list", name, "--json").stdout.splitlines()]
        assert one["uses_left"] == 1
        assert "reader" in run("invitations", "list", name).stdout
        assert run("invitations", "revoke", name, one["invitation_id"]).stdout == "taken back\n"
        assert "nobody is invited" in run("invitations", "list", name).stdout
        assert run("invitations", "accept", secret, NESTREL_TOKEN=token(unique("late"))).returncode == 1
        assert run("invitations", "make", name, "--for", "soon").returncode == 2
        assert secret not in served.log()


async def test_the_library_invites_and_accepts(person: Make) -> None:
    mara, odd = person(), person()
    place = (await mara.make(title="Quay"))["id"]
    async with AsyncClient(mara.url, mara.token) as owner, AsyncClient(odd.url, odd.token) as guest:
        made = await owner.invite(place, uses=1)
        assert made.token is not None
        assert (await guest.invited(made.token)).title == "Quay"
        assert (await guest.accept(made.token)).my_role == "writer"
        assert [one.uses_left async for one in owner.invitations(place)] == [0]
        async with AsyncClient(odd.url, token(unique("late"))) as late:
            with pytest.raises(Expired):
                await late.accept(made.token)
        await owner.revoke(place, made.invitation_id)
        with pytest.raises(NotFound):
            await guest.invited(made.token)
