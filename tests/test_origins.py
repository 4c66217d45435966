"""Pages of other origins: what is said to their browsers, before sign-in and with every answer."""

from __future__ import annotations

from collections.abc import Callable

import httpx
import pytest
from websockets.asyncio.client import connect
from websockets.exceptions import InvalidStatus

from nestrel.service.loading import SettingsError, load_settings
from tests.support import Person, Served

_APP = "https://app.example"
_OTHER = "https://other.example"
_SHOWN = "ETag, Link, Location, Retry-After, RateLimit, RateLimit-Policy, X-Request-ID, Content-Disposition"


def _asking(origin: str, method: str = "PATCH") -> dict[str, str]:
    return {"Origin": origin, "Access-Control-Request-Method": method, "Access-Control-Request-Headers": "if-match"}


def _told(answer: httpx.Response) -> dict[str, str]:
    return {name: value for name, value in answer.headers.items() if name.startswith("access-control")}


async def test_a_page_is_told_before_it_calls_and_with_each_answer(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_ORIGINS=f" {_APP}/ , http://127.0.0.1:9") as served:
        served.wait_ready()
        async with httpx.AsyncClient(base_url=served.url) as http:
            # `/v1/me/blocked/x` has a route of the framework's, `…/messages` one that goes past it.
            for path in ("/v1/me/blocked/x", "/v1/conversations/x/messages", "/v1/nowhere", "/healthz"):
                asked = await http.options(path, headers=_asking(_APP))
                assert (path, asked.status_code, asked.content) == (path, 204, b"")
                told = _told(asked)
                assert told["access-control-allow-origin"] == _APP
                assert told["access-control-allow-credentials"] == "true"
                assert told["access-control-max-age"] == "7200"
                assert "PATCH" in told["access-control-allow-methods"]
                taken = told["access-control-allow-headers"].lower()
                assert {"authorization", "if-match", "idempotency-key", "last-event-id"} <= set(taken.split(", "))
                assert "Origin" in asked.headers["vary"]
                refused = await http.options(path, headers=_asking(_OTHER))
                assert (refused.status_code, refused.json()["type"]) == (403, "/problems/forbidden")
                assert _told(refused) == {}
            outside = await http.options("/console/", headers=_asking(_APP))
            assert _told(outside) == {}
            nobody = await http.get("/v1/me", headers={"Origin": _APP})
            assert (nobody.status_code, nobody.headers["access-control-allow-origin"]) == (401, _APP)
            for shown in _SHOWN.split(", "):
                assert shown in nobody.headers["access-control-expose-headers"].split(", ")
            mara = Person(served.url, "mara")
            elsewhere = await mara.http.get("/me", headers={"Origin": _OTHER})
            # The browser keeps it from the page; a cache must not hand it to another.
            assert (elsewhere.status_code, _told(elsewhere), elsewhere.headers["vary"]) == (200, {}, "Origin")
            place = (await mara.make())["id"]
            large = await mara.http.post(f"/conversations/{place}/messages", content=b"x" * 3_000_000,
                                         headers={"Origin": _APP, "Content-Type": "application/json"})  # fmt: skip
            assert (large.status_code, large.headers["access-control-allow-origin"]) == (413, _APP)
            await mara.http.aclose()
            for _ in range(2):
                await http.options("/v1/me", headers=_asking("https://third.example"))
        assert served.log().count("https://third.example") == 1


async def test_any_origin_may_call_and_none_with_cookies(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_ORIGINS=f"*, {_APP}") as served:
        served.wait_ready()
        mara = Person(served.url, "mara")
        signed = await mara.http.post("/session")
        cookie = {"Cookie": signed.headers["set-cookie"].split(";")[0]}
        async with httpx.AsyncClient(base_url=served.url) as http:
            for origin, credentials in ((_OTHER, None), (_APP, "true")):
                for answer in (
                    await http.options("/v1/me", headers=_asking(origin)),
                    await http.get("/v1/me", headers={"Origin": origin}),
                ):
                    told = _told(answer)
                    assert told["access-control-allow-origin"] == origin
                    assert told.get("access-control-allow-credentials") == credentials
            for origin, status in ((_OTHER, 403), (_APP, 201)):
                made = await http.post("/v1/conversations", json={}, headers={"Origin": origin, **cookie})
                assert (origin, made.status_code) == (origin, status)
        address = f"ws://127.0.0.1:{served.port}/v1/live"
        line = await connect(address, origin=_OTHER, additional_headers=cookie)  # type: ignore[arg-type]  # plain text is an origin
        await line.send('{"type": "follow_all"}')
        assert "unauthenticated" in str(await line.recv())
        await line.close()
        await mara.http.aclose()


async def test_a_service_that_names_no_origin_says_nothing_of_them(service: Served) -> None:
    async with httpx.AsyncClient(base_url=service.url) as http:
        refused = await http.options("/v1/me", headers=_asking(_APP))
        assert (refused.status_code, _told(refused)) == (403, {})
        answer = await http.get("/healthz", headers={"Origin": _APP})
        assert (answer.status_code, _told(answer), answer.headers.get("vary")) == (200, {}, None)
    with pytest.raises(InvalidStatus) as closed:
        await connect(f"ws://127.0.0.1:{service.port}/v1/live", origin=_APP)  # type: ignore[arg-type]  # as above
    assert closed.value.response.status_code == 403


@pytest.mark.parametrize("wrong", ["app.example", "https://", "https://app.example/path", "null", "https://*.example"])
def test_what_is_no_origin_stops_the_start(wrong: str) -> None:
    with pytest.raises(SettingsError, match=r"NESTREL_ORIGINS: .*as in https://"):
        load_settings(origins=f"{_APP},{wrong}")
