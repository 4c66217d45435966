"""A browser's session: a cookie for what cannot send a header, and only for the service's own pages."""

from __future__ import annotations

import json
from collections.abc import Callable
from http.cookies import SimpleCookie

import httpx
import pytest
from websockets.asyncio.client import connect
from websockets.exceptions import ConnectionClosed, InvalidStatus
from websockets.typing import Origin

from tests.support import PATIENCE, Person, Served, token, unique, until

Make = Callable[..., Person]


async def begun(who: Person) -> tuple[str, httpx.AsyncClient]:
    """The cookie of a new session, and a browser that has it and no token."""
    answer = await who.http.post("/session")
    assert (answer.status_code, answer.content) == (204, b"")
    text = answer.headers["set-cookie"]
    jar: SimpleCookie = SimpleCookie(text)
    value = f"nestrel={jar['nestrel'].value}"
    assert "; HttpOnly" in text
    assert "; SameSite=Strict" in text
    assert "; Secure" not in text  # on this machine there is no TLS
    assert who.token not in text
    browser = httpx.AsyncClient(base_url=who.url + "/v1", headers={"Cookie": value}, timeout=PATIENCE)
    return value, browser


async def test_the_cookie_stands_for_its_member_where_it_only_asks_and_on_own_pages(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    await mara.post(place)
    _, browser = await begun(mara)
    async with browser:
        assert (await browser.get("/me")).json()["user_id"] == mara.user
        async with browser.stream("GET", f"/conversations/{place}/stream") as stream:
            assert stream.status_code == 200
        path, body = f"/conversations/{place}/messages", {"body": "from a page"}
        for origin, status in (
            (mara.url, 201), (None, 403), ("https://elsewhere.example", 403), ("null", 403), (mara.url + ".evil", 403),
        ):  # fmt: skip
            headers = {"Origin": origin} if origin is not None else {}
            assert (await browser.post(path, json=body, headers=headers)).status_code == status
        # A bearer wins, needs no Origin, and a bad one is not made good by the cookie.
        odd = person()
        bearer = {"Authorization": f"Bearer {odd.token}"}
        assert (await browser.get("/me", headers=bearer)).json()["user_id"] == odd.user
        assert (await browser.patch("/me", json={"display_name": "Odd"}, headers=bearer)).status_code == 200
        assert (await browser.get("/me", headers={"Authorization": "Bearer none"})).status_code == 401
        assert (await browser.post("/session", headers={"Origin": mara.url})).status_code == 401


async def test_a_backends_session_is_no_backends(person: Make) -> None:
    office, mara = person(scope="nestrel.service"), person()
    place = (await mara.make())["id"]
    _, browser = await begun(office)
    async with browser:
        assert (await browser.get("/audit")).status_code == 403
        assert (await browser.get(f"/conversations/{place}")).status_code == 404


async def test_an_ended_session_is_taken_nowhere_any_more(make_database: Callable[[], str]) -> None:
    database = make_database()
    with Served(database) as one, Served(database) as two:
        mara = Person(one.wait_ready().url, unique("mara"))
        two.wait_ready()
        value, browser = await begun(mara)
        _, other = await begun(mara)
        async with browser, other, httpx.AsyncClient(base_url=two.url + "/v1", headers={"Cookie": value}) as beside:
            assert (await beside.get("/me")).status_code == 200
            async with connect(
                "ws" + two.url[4:] + "/v1/live", additional_headers={"Cookie": value}, origin=Origin(two.url)
            ) as wire:
                assert json.loads(await wire.recv())["user_id"] == mara.user
                ended = await browser.delete("/session", headers={"Origin": mara.url})
                assert (ended.status_code, "Max-Age=0" in ended.headers["set-cookie"]) == (204, True)
                with pytest.raises(ConnectionClosed):
                    await wire.recv()
                assert wire.close_code == 4401
            assert (await browser.get("/me")).status_code == 401
            until(lambda: httpx.get(f"{two.url}/v1/me", headers={"Cookie": value}).status_code == 401)
            assert (await other.get("/me")).status_code == 200
            # A sign-out ends what is left.
            office = Person(one.url, "office", scope="nestrel.service")
            assert (await office.http.post(f"/people/{mara.user}/sign-out")).status_code == 200
            assert (await other.get("/me")).status_code == 401


async def test_a_socket_by_cookie_wants_an_own_page_and_gives_way_to_a_token(person: Make) -> None:
    mara, odd = person(), person()
    value, browser = await begun(mara)
    await browser.aclose()
    address = "ws" + mara.url[4:] + "/v1/live"
    for origin in (None, "https://elsewhere.example"):
        with pytest.raises(InvalidStatus) as refused:
            await connect(address, additional_headers={"Cookie": value}, origin=origin)  # type: ignore[arg-type]  # any text is an origin
        assert refused.value.response.status_code == 403
    for cookie, first in ((value, mara.user), ("nestrel=forged", odd.user)):
        async with connect(address, additional_headers={"Cookie": cookie}, origin=mara.url) as wire:  # type: ignore[arg-type]  # likewise
            if first == mara.user:
                assert json.loads(await wire.recv())["user_id"] == mara.user
            await wire.send(json.dumps({"type": "sign_in", "token": odd.token, "ref": 1}))
            assert json.loads(await wire.recv())["user_id"] == odd.user


async def test_elsewhere_the_cookie_is_secure_and_of_this_host_alone(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_PUBLIC_URL="https://talk.skerry.example") as served:
        mara = Person(served.wait_ready().url, "mara")
        answer = await mara.http.post("/session", headers={"Host": "talk.skerry.example"})
        text = answer.headers["set-cookie"]
        assert text.startswith("__Host-nestrel=")
        assert "; Secure" in text
        assert "; Path=/" in text
        assert "omain" not in text
        value = text.partition(";")[0]
        async with httpx.AsyncClient(base_url=served.url + "/v1", headers={"Cookie": value}) as browser:
            there = {"Host": "talk.skerry.example"}
            assert (await browser.get("/me", headers=there)).status_code == 200
            assert (await browser.get("/me")).status_code == 401  # on loopback it has another name
            for origin, status in (("https://talk.skerry.example", 200), ("http://evil.example", 403)):
                changed = await browser.patch("/me", json={"display_name": "M"}, headers={**there, "Origin": origin})
                assert changed.status_code == status


async def test_a_session_lasts_no_longer_than_its_key_nor_than_half_a_day(url: str) -> None:
    first, second = "a" * 40, "b" * 40
    headers: dict[str, str] = {}
    for secrets, status in ((first, 200), (f"{second},{first}", 200), (second, 401)):
        with Served(url, NESTREL_JWT_SECRET=secrets) as served:
            served.wait_ready()
            if not headers:
                signed = token("mara", secret=first, seconds=30 * 86_400)
                begun = httpx.post(f"{served.url}/v1/session", headers={"Authorization": f"Bearer {signed}"})
                text = begun.headers["set-cookie"]
                assert 0 < int(text.partition("Max-Age=")[2].partition(";")[0]) <= 12 * 3_600
                headers = {"Cookie": text.partition(";")[0]}
            answer = httpx.get(f"{served.url}/v1/me", headers=headers)
            assert (secrets, answer.status_code) == (secrets, status)
    assert "key" in answer.json()["detail"]


async def test_among_others_the_first_whole_one_counts(person: Make) -> None:
    mara = person()
    value, browser = await begun(mara)
    await browser.aclose()
    for header, status in (
        (f"theme=dark; {value}; x=y", 200), (f'nestrel="\\1\\2"; {value}', 200), (f"{value}x", 401), (f"x{value}", 401),
        (value.replace("=", '="') + '"', 401), ("nestrel=", 401), (f"a={value}", 401),
    ):  # fmt: skip
        answer = httpx.get(f"{mara.url}/v1/me", headers={"Cookie": header})
        assert (header, answer.status_code) == (header, status)
