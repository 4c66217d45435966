"""Rules of kinds: a conversation's own goes before its kind's, and that before the service's."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any

import httpx
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st

from nestrel.cli.main import main
from nestrel.core.retention import NO_RULE, Inherited, Rule, Source, Version, inherited
from nestrel.core.roles import Kind
from nestrel.store.database import Database
from nestrel.store.keep import retention
from tests.support import Person, Served, make_pair, make_place, token, until

KINDS = ("direct", "group", "bulletin")


def test_a_number_grows_with_every_change_of_what_holds() -> None:
    """Each step changes the service's rule, or a kind's; who has an older number has another rule."""

    @given(st.lists(st.sampled_from(["service", "kind", "clear"]), max_size=12))
    def check(steps: list[str]) -> None:
        service, kind = Version(1, NO_RULE), None
        held = inherited(service, kind)
        for number, step in enumerate(steps, 2):
            if step == "service":
                service = Version(number, Rule(keep_last=number))
            elif step == "kind":
                kind = Version(number, Rule(keep_for=None, keep_bytes=number))
            elif kind is not None:
                kind = Version(number, NO_RULE, cleared=True)
            present = inherited(service, kind)
            assert (present.number > held.number) or present == held
            held = present

    check()
    own = Version(3, Rule(keep_last=1))
    assert inherited(Version(1, NO_RULE), own) == Inherited(3, Rule(keep_last=1), Source.KIND)
    assert inherited(Version(1, NO_RULE), None) == Inherited(1, NO_RULE, None)


async def test_the_kinds_rule_goes_before_the_services_and_behind_the_own(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_SWEEP_SECONDS="0.2") as served:
        served.wait_ready()
        mara, office = Person(served.url, "mara"), Person(served.url, "office", scope="nestrel.service")
        places = {
            "direct": (await mara.make(kind="direct", members=["odd"]))["id"], "group": (await mara.make())["id"],
            "bulletin": (await mara.make(kind="bulletin"))["id"], "own": (await mara.make())["id"],
        }  # fmt: skip
        for place in places.values():
            await mara.fill(place, 10)
        rule = {"keep_last": 9, "then": "archive", "confirm": True}
        await mara.http.put(f"/conversations/{places['own']}/retention", json={**rule, "keep_last": 8})

        async def rules(**expected: tuple[int | None, str | None]) -> None:
            for name, place in places.items():
                shown = (await mara.http.get(f"/conversations/{place}/retention")).json()
                assert (name, shown["keep_last"], shown["from"]) == (name, *expected[name])
                assert shown["own"] is (shown["from"] == "own")

        none: tuple[int | None, str | None] = (None, None)
        await rules(direct=none, group=none, bulletin=none, own=(8, "own"))
        for who, status in ((mara, 403), (office, 200)):
            for method, body in (("GET", None), ("PUT", {**rule, "keep_last": 4})):
                answer = await who.http.request(method, "/retention", params={"kind": "direct"}, json=body)
                assert answer.status_code == status, answer.text
        assert answer.json()["from"] == "kind"
        wrong = await office.http.put("/retention", params={"kind": "room"}, json=rule)
        assert wrong.status_code == 422
        refused = await office.http.put("/retention", json={"keep_last": 6, "then": "archive"})
        # Of those alone that go by it: of the direct one the kind's rule has the say.
        assert (refused.status_code, refused.json()["preview"]["expires"]) == (409, 8)
        await office.http.put("/retention", json={**rule, "keep_last": 6})
        await asyncio.to_thread(until, lambda: _settled(served, places, {"direct": 7, "group": 5, "bulletin": 5}))
        await rules(direct=(4, "kind"), group=(6, "service"), bulletin=(6, "service"), own=(8, "own"))
        made = (await mara.make(kind="direct", members=["ines"]))["id"]
        assert (await mara.http.get(f"/conversations/{made}/retention")).json()["from"] == "kind"
        shown = (await office.http.get("/retention", params={"kind": "group"})).json()
        assert (shown["keep_last"], shown["from"]) == (6, "service")
        # Cleared, those of the kind go by the service's again, and whatever that takes has to be confirmed.
        await office.http.put("/retention", json={**rule, "keep_last": 2})
        asked = await office.http.delete("/retention", params={"kind": "direct"})
        assert (asked.status_code, asked.json()["preview"]["expires"]) == (409, 2)
        assert (await office.http.delete("/retention?kind=direct&confirm=true")).status_code == 204
        await asyncio.to_thread(until, lambda: _settled(served, places, {"direct": 9, "group": 9, "bulletin": 9}))
        await rules(direct=(2, "service"), group=(2, "service"), bulletin=(2, "service"), own=(8, "own"))
        body = {"keep_last": 1, "then": "archive"}
        preview = await office.http.post("/retention/preview", params={"kind": "group"}, json=body)
        assert preview.json()["expires"] == 1
        await office.http.delete("/retention")
        assert (await office.http.get("/retention")).json()["from"] is None
        done = (await office.http.get("/audit")).json()["items"]
        texts = [one["text"] for one in done if one["act"] == "service-rule-set"]
        assert texts[-1] == "of kind direct, keeps the newest 4 messages, archives the rest"
        env = {"NESTREL_URL": served.url, "NESTREL_TOKEN": token("office", scope="nestrel.service")}
        for arguments, said in (
            (["set", "--kind", "bulletin", "--keep-for", "P30D", "--yes"], "(the rule of its kind)"),
            (["show", "--kind", "bulletin"], "younger than P30D"),
            (["preview", "--kind", "bulletin", "--keep-last", "1"], ""),
            (["clear", "--kind", "bulletin"], "keeps everything"),
        ):
            result = CliRunner().invoke(main, ["retention", *arguments], env=env)
            assert (result.exit_code, said in result.output) == (0, True), result.output
        assert CliRunner().invoke(main, ["retention", "show", "--kind", "group", "--all"], env=env).exit_code == 2


def _settled(served: Served, places: dict[str, str], floors: dict[str, int]) -> bool:
    head = {"Authorization": f"Bearer {token('mara')}"}
    return all(
        httpx.get(f"{served.url}/v1/conversations/{places[name]}/messages", headers=head).json()["floor"] == floor
        for name, floor in floors.items()
    )


_STEPS = st.lists(
    st.tuples(st.sampled_from(["set", "clear", "own", "disown", "make"]), st.sampled_from(["all", *KINDS]),
              st.integers(1, 50)), max_size=8,
)  # fmt: skip


@settings(max_examples=15)
@given(steps=_STEPS)
def test_whatever_is_set_in_whatever_order_the_nearest_rule_holds(
    steps: list[tuple[str, str, int]], make_database: Callable[[], str]
) -> None:
    """A dictionary knows what must hold."""

    async def run() -> None:
        database = Database(make_database())
        service: int | None = None
        kinds: dict[str, int] = {}
        own: dict[Any, int] = {}
        places = [("group", await make_place(database, mara="owner")), ("direct", await make_pair(database, "a", "b"))]
        for what, which, keep in steps:
            kind = None if which == "all" else Kind(which)
            if what in ("set", "clear"):
                rule = Rule(keep_last=keep) if what == "set" else None
                await retention.put_inherited(database, rule, kind, confirmed=True)
                if kind is None:
                    service = keep if rule else None
                elif rule:
                    kinds[which] = keep
                else:
                    kinds.pop(which, None)
            elif what == "make":
                places.append(("group", await make_place(database, mara="owner")))
            else:
                _, place = places[keep % len(places)]
                await retention.put(database, place, Rule(keep_last=keep) if what == "own" else None, confirmed=True)
                own.pop(place, None)
                if what == "own":
                    own[place] = keep
            if keep % 2:
                await _inherit(database)
        await _inherit(database)
        for kind_, place in places:
            async with database.read() as connection:
                shown = await retention.read(connection, place)
            wanted = own.get(place, kinds.get(kind_, service))
            source = "own" if place in own else "kind" if kind_ in kinds else "service" if service else None
            assert (shown["keep_last"], shown["from"]) == (wanted, source)
        await database.close()

    asyncio.run(run())


async def _inherit(database: Database) -> None:
    while await retention.inherit(database):
        pass
