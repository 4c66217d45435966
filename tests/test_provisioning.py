"""People whom a backend puts here, and whose word a profile is."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import pytest
from click.testing import CliRunner

from nestrel.cli.main import main
from tests.support import Person, Served, token, unique

Make = Callable[..., Person]
_PICTURE = "https://pictures.example/odd.png"


async def profile(who: Person, user_id: str) -> dict[str, Any]:
    answer = await who.http.get(f"/people/{user_id}")
    assert answer.status_code == 200, answer.text
    found: dict[str, Any] = answer.json()
    return {"display_name": found["display_name"], "picture": found["picture"]}


async def test_somebody_is_known_before_they_sign_in(make_database: Callable[[], str]) -> None:
    with Served(make_database()) as served:
        served.wait_ready()
        office, mara = Person(served.url, "office", scope="nestrel.service"), Person(served.url, "mara")
        board = await office.make(kind="bulletin", title="Notices")
        await office.http.patch(f"/conversations/{board['id']}", json={"default": True})
        put = await office.http.put("/people/odd", json={"display_name": "Odd Strand", "picture": _PICTURE})
        assert put.status_code == 201
        assert (put.json()["user_id"], put.json()["display_name"]) == ("odd", "Odd Strand")
        # They are what a first sign-in would have made of them: found, and a member of what is everyone's.
        assert [one["user_id"] for one in (await office.http.get("/people?q=stra")).json()["items"]] == ["odd"]
        members = (await office.http.get(f"/conversations/{board['id']}/members")).json()["items"]
        assert "odd" in [one["user_id"] for one in members]
        place = (await mara.make(members=["odd"]))["id"]
        cursor = (await mara.page(place))["change_cursor"]
        assert (await office.http.put("/people/odd", json={"display_name": "Odd S."})).status_code == 200
        assert await profile(mara, "odd") == {"display_name": "Odd S.", "picture": _PICTURE}
        changes = (await mara.http.get(f"/conversations/{place}/changes", params={"cursor": cursor})).json()
        assert [one["user_id"] for one in changes["members"]] == ["odd"]
        assert (await office.http.put("/people/odd", json={"picture": None})).json()["picture"] is None
        assert (await office.http.put("/people/ines", json={})).json()["display_name"] == "ines"
        # A token's name is for a first sight, and this is none.
        odd = Person(served.url, "odd", name="Odd Strasser")
        assert (await odd.http.get("/me")).json()["display_name"] == "Odd S."
        for wrong in ({"display_name": None}, {"display_name": " "}, {"picture": "x"}, {"name": "x"}):
            assert (await office.http.put("/people/odd", json=wrong)).status_code == 422
        assert (await mara.http.put("/people/odd", json={})).status_code == 403
        assert (await office.http.put("/people/all", json={})).status_code == 422
        # An id that reads like another call is none of it.
        for body in ({}, {"display_name": "Odd"}):
            assert (await office.http.put("/people/mara%2Fsuspension", json=body)).status_code == 422
        assert (await mara.http.get("/me")).status_code == 200
        assert (await office.http.put("/people/a%2Fexport", json={})).json()["user_id"] == "a/export"
        done = (await office.http.get("/audit")).json()["items"]
        assert [one["text"] for one in done if one["act"] == "person-put" and one["user_id"] == "odd"] == [
            "changed picture", "changed display name", "changed display name, picture",
        ]  # fmt: skip


async def test_everyone_is_listed_by_id_for_a_backend(make_database: Callable[[], str]) -> None:
    with Served(make_database()) as served:
        served.wait_ready()
        office, mara = Person(served.url, "office", scope="nestrel.service"), Person(served.url, "mara")
        for n in range(7):
            await office.http.put(f"/people/p{n}", json={"display_name": f"Zoë {9 - n} Lund"})
        await mara.make(members=["never-here"])
        seen: list[str] = []
        query: dict[str, Any] = {"scope": "all", "limit": 3}
        while True:
            page = (await office.http.get("/people", params=query)).json()
            seen += [one["user_id"] for one in page["items"]]
            if page["next"] is None:
                break
            assert len(page["items"]) == 3
            # Somebody is called otherwise in the middle of it, and nobody is lost or doubled.
            await office.http.put(f"/people/{seen[-1]}", json={"display_name": "Aa"})
            query = {"cursor": page["next"], "limit": 3}
        assert seen == sorted([*(f"p{n}" for n in range(7)), "mara", "never-here", "office"])
        named = (await office.http.get("/people", params={"scope": "all", "q": "zo lund"})).json()["items"]
        assert 0 < len(named) < 7
        assert (await mara.http.get("/people", params={"scope": "all"})).status_code == 403
        taken = (await office.http.get("/people", params={"cursor": query["cursor"], "scope": "all"})).status_code
        assert taken == 422
        env = {"NESTREL_URL": served.url, "NESTREL_TOKEN": token("office", scope="nestrel.service")}
        shown = CliRunner().invoke(main, ["people", "--everyone", "--json"], env=env)
        assert shown.exit_code == 0
        assert shown.output.count("\n") == len(seen)
        made = CliRunner().invoke(main, ["put-person", "una", "--name", "Una Ness"], env=env)
        assert made.exit_code == 0
        assert "Una Ness" in made.output


async def test_a_profile_follows_the_newest_token(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_PROFILES="token") as served:
        served.wait_ready()
        now = int(time.time())

        async def name(**claims: Any) -> Any:
            shown = (await Person(served.url, "odd", **claims).http.get("/me")).json()
            return shown["display_name"], shown["picture"]

        assert await name(name="Odd Strand", iat=now - 100) == ("Odd Strand", None)
        assert await name(name="Odd Lund", picture=_PICTURE, iat=now - 50) == ("Odd Lund", _PICTURE)
        # An older token that still lives says nothing new, and what a token does not say stays.
        assert await name(name="Odd Strand", iat=now - 100) == ("Odd Lund", _PICTURE)
        assert await name(name="Odd Berg", iat=now - 60) == ("Odd Lund", _PICTURE)
        assert await name(iat=now - 10) == ("Odd Lund", _PICTURE)
        assert await name(name="Odd Berg", iat=now - 5) == ("Odd Berg", _PICTURE)
        odd = Person(served.url, "odd", name="Odd Berg")
        refused = await odd.http.patch("/me", json={"display_name": "Somebody"})
        assert (refused.status_code, refused.json()["type"]) == (403, "/problems/forbidden")
        async with Person(served.url, "odd", name="Odd Ness", iat=now - 1).socket() as line:
            assert line.signed_in["user_id"] == "odd"
        assert (await odd.http.get("/me")).json()["display_name"] == "Odd Ness"


async def test_a_profile_is_what_a_backend_says_alone(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_PROFILES="backend") as served:
        served.wait_ready()
        office = Person(served.url, "office", scope="nestrel.service")
        odd = Person(served.url, "odd", name="Odd Strand", picture=_PICTURE)
        shown = (await odd.http.get("/me")).json()
        assert (shown["display_name"], shown["picture"]) == ("odd", None)
        assert (await odd.http.patch("/me", json={"display_name": "Odd"})).status_code == 403
        await office.http.put("/people/odd", json={"display_name": "Odd S."})
        assert (await odd.http.get("/me")).json()["display_name"] == "Odd S."


@pytest.mark.parametrize("refuse", [False, True])
async def test_a_mistyped_id_becomes_a_member_unless_that_is_refused(
    make_database: Callable[[], str], refuse: bool
) -> None:
    with Served(make_database(), NESTREL_UNKNOWN_MEMBERS="refuse" if refuse else "take") as served:
        served.wait_ready()
        office, mara = Person(served.url, "office", scope="nestrel.service"), Person(served.url, "mara")
        await office.http.put("/people/odd", json={})
        place = (await mara.make(members=["odd"]))["id"]
        status = 422 if refuse else 201
        for who in (mara, office):
            for path, body in (
                ("POST /conversations", {"members": ["odd", unique("mistyped")]}),
                ("POST /conversations", {"kind": "direct", "members": [unique("mistyped")]}),
                (f"PUT /conversations/{place}/members/{unique('mistyped')}", {}),
            ):
                method, where = path.split()
                answer = await who.http.request(method, where, json=body)
                assert (path, answer.status_code) == (path, status), answer.text
                assert not refuse or "/people" in answer.text
        known = await mara.http.put(f"/conversations/{place}/members/office", json={})
        assert known.status_code == 201


async def test_a_name_that_is_one_persons_alone_is_refused_to_another(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_UNIQUE_NAMES="true") as served:
        served.wait_ready()
        office = Person(served.url, "office", scope="nestrel.service")
        assert (await office.http.put("/people/odd", json={"display_name": "Odd Strand"})).status_code == 201
        for user in ("una", "odd-2"):
            taken = await office.http.put(f"/people/{user}", json={"display_name": "odd strand"})
            assert (taken.status_code, taken.json()["type"]) == (409, "/problems/name-taken")
            assert (await office.http.get(f"/people/{user}")).status_code == 404
        assert (await office.http.put("/people/una", json={"display_name": "Una"})).status_code == 201
        # Whoever is called as another's id says gets a number, as at a first sight.
        assert (await office.http.put("/people/Una", json={})).status_code == 201
        assert (await profile(office, "una"))["display_name"] == "Una 2"
