"""Lists of which a page shows a part: they go on as they are scrolled, and a change draws what has changed."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable

import httpx
from playwright.async_api import Browser, Locator, expect

from tests.console.pages import check_accessible, paste
from tests.support import Person, Served, once, unique

_MANY = 230


async def _each(names: list[str], work: Callable[[str], Awaitable[httpx.Response]]) -> None:
    turns = asyncio.Semaphore(8)

    async def one(name: str) -> None:
        async with turns:
            # They wait for one another: who has waited too long on a busy machine is asked to try again.
            answer = await once(lambda: work(name), lambda found: found.status_code != 503)
            assert answer.status_code < 300, answer.text

    await asyncio.gather(*(one(name) for name in names))


async def _scrolled(pane: Locator, wanted: Locator) -> None:
    """Scroll to the end, and on, until something is there."""
    async with asyncio.timeout(120):
        while not await wanted.count():
            await pane.evaluate("e => { e.scrollTop = e.scrollHeight }")
            await asyncio.sleep(0)


async def test_many_conversations_are_listed_by_what_is_seen(browser: Browser, service: Served) -> None:
    mara = Person(service.url, unique("mara"))
    names = [unique(f"berth{n:03}") for n in range(_MANY)]
    for name in names:  # in order: the first of them is the one with the oldest activity
        await mara.make(title=name)
    page = await paste(browser, service, mara.token)
    rows = page.get_by_role("navigation", name="Conversations").get_by_role("listitem")
    await expect(rows.filter(has_text=names[-1])).to_be_visible()
    assert await rows.count() < 60
    await expect(rows.first).to_have_attribute("aria-setsize", str(_MANY))
    oldest = rows.filter(has_text=names[0])
    await page.evaluate("performance.clearResourceTimings()")
    await _scrolled(page.get_by_role("navigation", name="Conversations").locator("div.overflow-y-auto"), oldest)
    await oldest.click()
    await expect(page.get_by_role("heading", name=names[0])).to_be_visible()
    await page.get_by_label("Find a conversation").fill(names[7][:12])
    await expect(rows).to_have_count(1)
    await check_accessible(page)
    # Another one moves: no list is read for it.
    await page.get_by_label("Find a conversation").fill("")
    other = (await mara.http.get("/conversations", params={"limit": 1})).json()["items"][0]
    await mara.post(other["id"], "a word that moves it")
    await expect(rows.filter(has_text="a word that moves it")).to_be_visible()
    lists = "performance.getEntriesByType('resource').filter(e => /conversations[?]limit/.test(e.name)).length"
    assert await page.evaluate(lists) == 0


async def test_members_kept_out_and_open_ones_go_on_as_they_are_scrolled(browser: Browser, service: Served) -> None:
    mara = Person(service.url, unique("mara"))
    crew = [f"{unique('crew')}-{n:03}" for n in range(_MANY)]
    place = (await mara.make(title="Roll call", members=crew[:100]))["id"]
    here = f"/conversations/{place}"
    await _each(crew[100:], lambda name: mara.http.put(f"{here}/members/{name}", json={}))
    out = sorted(f"{unique('out')}-{n:03}" for n in range(_MANY))
    await _each(out, lambda name: mara.http.put(f"{here}/kept-out/{name}", json={}))
    page = await paste(browser, service, mara.token)
    await page.goto(f"{service.url}/console/c/{place}")
    await page.get_by_role("button", name=f"{_MANY + 1} members").click()
    dialog = page.get_by_role("dialog")
    last = (await mara.http.get(f"{here}/members", params={"limit": 200})).json()
    rest = (await mara.http.get(f"{here}/members", params={"limit": 200, "cursor": last["next"]})).json()["items"]
    await _scrolled(dialog.locator("ul.overflow-y-auto"), dialog.get_by_label(f"role of {rest[-1]['user_id']}"))
    assert await dialog.get_by_role("listitem").count() == _MANY + 1
    await page.keyboard.press("Escape")
    await page.get_by_role("link", name="Settings").click()
    kept = page.get_by_role("region", name="Kept out")
    await kept.get_by_role("button", name="More").scroll_into_view_if_needed()
    listed = (await mara.http.get(f"{here}/kept-out", params={"limit": 200})).json()
    listed = (await mara.http.get(f"{here}/kept-out", params={"limit": 200, "cursor": listed["next"]})).json()["items"]
    await _scrolled(kept.locator("ul"), kept.get_by_text(listed[-1]["user_id"]))
    await expect(kept.get_by_role("button", name="More")).to_have_count(0)
    await check_accessible(page)
