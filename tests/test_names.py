"""Display names that are one person's alone."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

import asyncpg
import pytest
from sqlalchemy.engine import make_url

from nestrel.store.confusables import skeletons
from nestrel.store.database import Database
from nestrel.store.native import execute, fetch
from nestrel.store.write import conversations
from tests.support import Person, Served, make_place, unique


@pytest.mark.parametrize(
    ("one", "other", "alike"),
    [
        ("mara", "Mara", True), ("mara", "mаra", True), ("rn", "m", True), ("Norrn", "Nom", False),
        ("Torn", "Tom", True), ("paypal", "pаypаl", True), ("l0l", "lOl", True), ("Ines", "In\u200bes", True),
        ("1ine", "line", True), ("Odd", "Ödd", False), ("mara", "mira", False), ("Straße", "STRASSE", True),
        ("a\u0301", "á", True), (" Mara", "Mara", True), ("Mara ", "Mara", True), ("Mara  Lund", "Mara Lund", True),
        ("Mara\u00a0Lund", "Mara Lund", True), ("Mara\u2800Lund", "Mara Lund", True), ("Мara", "Mara", True),
        ("\ufff9Mara\ufffb", "Mara", True), ("\u202eMara\u202c", "Mara", True), ("Ｍａｒａ", "Mara", True),
        ("Ma\u3164ra", "Mara", True), ("Mara\u2800", "Mara", True), ("\u2066Mara\u2069", "Mara", True),
        ("Mara\ufe0f", "Mara", True), ("Mara\U000e0061", "Mara", True), ("MaraLund", "Mara Lund", False),
    ],
)  # fmt: skip
def test_names_that_look_alike_are_one(one: str, other: str, alike: bool) -> None:
    key = skeletons().key
    assert (key(one) == key(other)) is alike
    assert key(key(one)) == key(one)


async def name_of(who: Person) -> str:
    return str((await who.http.get("/me")).json()["display_name"])


async def rename(who: Person, name: str) -> int:
    return (await who.http.patch("/me", json={"display_name": name})).status_code


async def test_a_taken_name_is_refused_or_gets_a_number(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_UNIQUE_NAMES="true") as served:
        served.wait_ready()
        mara, second, third = (Person(served.url, f"p{n}", name="Mara Lund") for n in range(3))
        assert [await name_of(who) for who in (mara, second, third)] == ["Mara Lund", "Mara Lund 2", "Mara Lund 3"]
        odd, ines = Person(served.url, "odd"), Person(served.url, "ines")
        assert [await name_of(who) for who in (odd, ines)] == ["odd", "ines"]
        refused = await odd.http.patch("/me", json={"display_name": "mаra lund"})  # with a Cyrillic letter in it
        assert (refused.status_code, refused.json()["type"]) == (409, "/problems/name-taken")
        assert [await rename(odd, name) for name in ("Ines", "p0", "Odd")] == [409, 409, 200]
        assert await rename(mara, "Petra") == 200
        assert await rename(odd, "Mara Lund") == 409  # given up, and still hers for a while
        assert await rename(mara, "Mara Lund") == 200
        # Of many who want one name at the same moment one gets it.
        crowd = [Person(served.url, f"c{n}") for n in range(8)]
        assert sorted(await asyncio.gather(*(rename(who, "Harbour Master") for who in crowd))) == [200] + [409] * 7
        # A newcomer keeps an id that is somebody's name.
        place = (await odd.make(members=["p0"]))["id"]
        async with mara.socket() as wire:
            await wire.command(type="follow", conversation_id=place)
            assert await rename(odd, "skipper") == 200
            newcomer = Person(served.url, "Skipper")
            assert await name_of(newcomer) == "Skipper"
            assert await name_of(odd) == "skipper 2"
            names: list[str] = []
            while "skipper 2" not in names:
                names += [one["display_name"] for one in (await wire.get()).get("profiles", {}).values()]


async def test_turned_on_it_numbers_doubles_and_the_oldest_keeps_its_name(make_database: Callable[[], str]) -> None:
    database = make_database()
    with Served(database) as served:
        served.wait_ready()
        people = [Person(served.url, user, name="Mara") for user in ("c", "b", "a")]
        for who in people:
            await who.http.get("/me")
        for who in (people[1], people[0]):  # who was a member of something first was there first
            await who.make()
    with Served(database, NESTREL_UNIQUE_NAMES="true") as served:
        served.wait_ready()
        people = [Person(served.url, user, name="Mara") for user in ("c", "b", "a")]
        for _ in range(600):
            names = [await name_of(who) for who in people]
            if names == ["Mara 2", "Mara", "Mara 3"]:
                break
            await asyncio.sleep(0.05)
        assert names == ["Mara 2", "Mara", "Mara 3"]
        assert await rename(people[0], "Mara") == 409
        raw = await asyncpg.connect(make_url(database).render_as_string(hide_password=False))
        await raw.execute(
            "UPDATE nestrel.held_names SET given_up_at = now() - interval '31 days' WHERE name = 'Mara 2'"
        )
        await raw.close()
        assert await rename(people[2], "Mara 2") == 200


async def test_a_name_does_not_turn_the_direction_of_text(person: Callable[..., Person]) -> None:
    mara = person()
    for wrong in ("\u202earaM", "Ma\u2066ra"):
        assert await rename(mara, wrong) == 422
        assert (await mara.http.post("/conversations", json={"name": wrong})).status_code == 422
    assert await name_of(person(name="\u202earaM")) != "\u202earaM"  # a token's is not taken over


async def test_a_conversations_name_looks_like_no_other(person: Callable[..., Person], database: Database) -> None:
    mara = person()
    name = unique("quay")
    place = (await mara.make(name=name))["id"]
    other = (await mara.make(name=unique("slip")))["id"]
    for alike in (name.replace("a", "а"), f"{name[:4]}\u200b{name[4:]}", name.upper().replace("Q", "Ｑ")):
        made = await mara.http.post("/conversations", json={"name": alike})
        assert (made.status_code, made.json()["type"]) == (409, "/problems/name-taken")
        assert (await mara.http.patch(f"/conversations/{other}", json={"name": alike})).status_code == 409
    assert (await mara.http.patch(f"/conversations/{place}", json={"name": name.upper()})).status_code == 200
    assert (await mara.http.delete(f"/conversations/{place}")).status_code == 204
    await mara.make(name=name)
    # Those of before are taken in; of two that look alike both stay.
    async with database.write() as connection:
        for called in ("berth", "bеrth"):
            made_id = await make_place(database, mara="owner")
            await execute(connection, "UPDATE nestrel.conversations SET name = $2, name_key = $2, name_look = NULL "
                          "WHERE id = $1", made_id, called)  # fmt: skip
    while await conversations.learn_looks(database):
        pass
    async with database.read() as connection:
        rows = await fetch(connection, "SELECT name_look FROM nestrel.conversations WHERE name IS NOT NULL ORDER BY id")
    assert len({row[0] for row in rows}) == len(rows) == 2
    assert None not in {row[0] for row in rows}
