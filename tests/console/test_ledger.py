"""The console in Chromium: two members in two windows, deep history, the way back, text as text, by keyboard."""

from __future__ import annotations

import asyncio
import json
import re

import httpx
from playwright.async_api import Browser, Route, expect

from tests.console.pages import Window, choose, first_becomes, first_on_screen, new_page, paste
from tests.support import PATIENCE, Person, Served, unique


async def test_a_message_written_in_one_window_stands_numbered_in_the_other(window: Window) -> None:
    mara, odd = await window("Mara Quill"), await window("Odd Haverland")
    for page in (mara, odd):
        await choose(page, "Control room")
    text = unique("Fog <b>on</b> the sound & 'all' 船\nslow")
    box = mara.get_by_label("Message", exact=True)
    await box.press_sequentially(text.split("\n")[0])
    await box.press("Shift+Enter")
    await box.press_sequentially(text.split("\n")[1])
    await box.press("Enter")
    for page, own in ((mara, True), (odd, False)):
        row = page.locator("article", has_text=text.split("\n")[0])
        await expect(row).to_have_count(1)
        await expect(row).to_have_attribute("data-seq", re.compile(r"64\d"))
        assert await row.locator("b").count() == 0
        assert (await row.locator(".border-buoy").count() == 1) is own
    await expect(box).to_have_value("")
    await expect(odd.get_by_role("navigation").get_by_role("listitem").first).to_contain_text("Control room")


async def test_older_history_loads_as_one_scrolls_and_the_view_does_not_jump(window: Window) -> None:
    page = await window("Mara Quill")
    await choose(page, "Berth log, Norwick and Holm Bay")
    pane = page.get_by_label("Ledger")
    await expect(page.locator("article[data-seq='20000']")).to_be_visible()
    await pane.hover()
    seen = [await first_on_screen(page)]
    while seen[-1] > 19_700:
        await page.mouse.wheel(0, -600)
        seen.append(await first_becomes(page, lambda seq: seq < seen[-1]))
    # 600 pixels are at most 20 rows: a view that jumped while pages came in above would have gone further.
    assert seen[0] - seen[-1] <= 20 * (len(seen) - 1) + 5
    rows = await page.evaluate(
        "[...document.querySelectorAll('article[data-seq]')].map(row => Number(row.dataset.seq))"
    )
    assert rows == list(range(rows[0], rows[-1] + 1))
    assert await page.evaluate("document.scrollingElement.scrollTop") == 0
    await expect(page.get_by_role("navigation", name="Conversations")).to_be_in_viewport()


async def test_what_comes_while_one_reads_above_is_a_pill_and_the_reload_comes_back(
    window: Window, demo: Served
) -> None:
    page = await window("Mara Quill")
    await choose(page, "Notices to all crews")
    await page.get_by_label("Ledger").focus()
    await page.keyboard.press("End")
    # What was there is read before anything new comes.
    listed = page.get_by_role("navigation", name="Conversations").get_by_role("link", name="Notices to all crews")
    await expect(listed).not_to_contain_text("unread")
    await page.get_by_label("Ledger").hover()
    newest = await first_on_screen(page)
    await page.mouse.wheel(0, -900)
    place = await first_becomes(page, lambda seq: seq < newest - 5)
    backend = Person(demo.url, "mara", issuer=_issuer(demo), audience="nestrel-demo")
    mine = (await backend.http.get("/conversations")).json()["items"]
    notices = next(item["id"] for item in mine if item["name"] == "notices")
    for n in range(3):
        assert (await backend.post(notices, f"news {n}")).status_code == 201
    await expect(page.get_by_role("button", name="3 new")).to_be_visible()
    assert await first_on_screen(page) == place
    await page.reload()
    await expect(page.get_by_role("main").get_by_role("heading")).to_have_text("Notices to all crews")
    await first_becomes(page, lambda seq: seq == place)
    await expect(page.get_by_test_id("member")).to_have_text("Mara Quill")
    await page.get_by_label("Ledger").focus()
    await page.keyboard.press("End")
    await expect(page.locator("article", has_text="news 2")).to_be_visible()


def _issuer(demo: Served) -> str:
    found: str = httpx.get(f"{demo.url}/console/config.json").json()["issuer"]["authority"]
    return found


async def test_a_message_is_edited_liked_read_and_removed_by_keyboard_and_the_other_window_sees_it(
    window: Window,
) -> None:
    mara, odd = await window("Mara Quill"), await window("Odd Haverland")
    for page in (mara, odd):
        await choose(page, "Control room")
    text = unique("berth 3")
    await mara.get_by_label("Message", exact=True).fill(text)
    await mara.keyboard.press("Enter")
    row, other = (page.locator("article[data-seq]", has_text=text) for page in (mara, odd))
    await expect(other).to_have_count(1)
    await expect(row.get_by_role("img", name="read up to here by Odd Haverland")).to_be_visible()

    await row.focus()
    await mara.keyboard.press("e")
    await mara.keyboard.press("End")
    await mara.keyboard.type(" at noon")
    await mara.keyboard.press("Enter")
    await expect(other).to_contain_text(f"{text} at noon")
    await other.get_by_role("button", name="edited").click()
    earlier = odd.get_by_role("dialog", name="Earlier bodies")
    await expect(earlier.get_by_role("listitem")).to_have_text(re.compile(f"^1.*{text}$"))
    await odd.keyboard.press("Escape")

    await odd.locator("article[data-seq]").last.focus()
    await odd.keyboard.press("ArrowUp")
    await odd.keyboard.press("ArrowDown")
    await odd.keyboard.press("l")
    like = row.get_by_role("button", name="like, 1")
    await like.focus()
    await expect(mara.get_by_role("tooltip")).to_have_text("Odd Haverland")
    await odd.keyboard.press("l")
    await expect(like).to_have_count(0)

    seq = await row.get_attribute("data-seq")
    await row.focus()
    await mara.keyboard.press("Delete")
    await mara.keyboard.press("Enter")
    await expect(odd.locator(f"article[data-seq='{seq}']")).to_contain_text("removed")
    await expect(other).to_have_count(0)
    await expect(odd.get_by_role("button", name=f"Like message {seq}")).to_have_count(0)


async def test_an_edit_that_was_overtaken_shows_the_present_and_asks(browser: Browser, service: Served) -> None:
    user = Person(service.url, unique("tam"))
    place = (await user.make(title="Engine room"))["id"]
    await user.post(place, "oil at 2 bar")
    page = await paste(browser, service, user.token)
    await page.get_by_role("navigation").get_by_role("link", name="Engine room").click()
    row = page.locator("article[data-seq='1']")
    await row.hover()
    await row.get_by_role("button", name="Edit message 1").click()
    await user.http.patch(f"/conversations/{place}/messages/1", json={"body": "oil at 3 bar"})
    box = page.get_by_role("textbox", name="Edit message 1")
    await box.fill("oil at 4 bar")
    await box.press("Enter")
    await expect(page.get_by_role("alert")).to_contain_text("Now: oil at 3 bar")
    await page.get_by_role("button", name="Save anyway").click()
    await expect(box).to_have_count(0)  # what is written in it is the row's text, too
    await expect(row).to_contain_text("oil at 4 bar")
    assert (await user.http.get(f"/conversations/{place}/messages/1")).json()["edits"] == 2


async def test_what_was_on_screen_is_read_and_not_more(browser: Browser, service: Served) -> None:
    """A conversation with 200 unread messages opens where they begin; what lies below the pane stays unread."""
    writer, reader = Person(service.url, unique("mara")), Person(service.url, unique("tam"))
    place = (await writer.make(title="Tide watch", members=[reader.user]))["id"]
    await writer.fill(place, 300)
    await reader.http.put(f"/conversations/{place}/receipt", json={"read_seq": 100})
    page = await paste(browser, service, reader.token)
    link = page.get_by_role("navigation").get_by_role("link", name="Tide watch")
    await expect(link).to_contain_text("200 unread")
    await link.click()
    await expect(page.get_by_text("unread from here")).to_be_visible()
    await expect(link).not_to_contain_text("200 unread")
    read = (await reader.http.get(f"/conversations/{place}/messages/101/readers")).json()["items"][0]["read_seq"]
    seen: int = await page.evaluate(
        """() => {
          const pane = document.querySelector('section[aria-label=Ledger]').getBoundingClientRect();
          return Math.max(...[...document.querySelectorAll('article[data-seq]')]
            .filter((row) => row.getBoundingClientRect().bottom <= pane.bottom + 1)
            .map((row) => Number(row.dataset.seq)));
        }"""
    )
    assert 101 < read <= seen < 200
    await expect(link).to_contain_text(f"{300 - read} unread")
    await page.get_by_role("button", name="new").last.click()
    await expect(link).not_to_contain_text("unread")


async def test_a_taken_name_says_so_at_the_field_and_a_new_one_is_made(window: Window) -> None:
    page = await window("Noor Haddad")
    await page.get_by_role("button", name="New").click()
    await page.get_by_label("Name short").fill("CONTROL-ROOM")
    await page.get_by_role("button", name="Make").click()
    await expect(page.get_by_label("Name short")).to_have_attribute("aria-invalid", "true")
    await expect(page.get_by_role("alert")).to_contain_text("another conversation is called")
    name = unique("pilots")
    await page.get_by_label("Name short").fill(name)
    await page.get_by_role("button", name="Make").click()
    await expect(page.get_by_role("main").get_by_role("heading")).to_have_text(name)
    await page.get_by_label("Message", exact=True).fill("first here")
    await page.keyboard.press("Enter")
    await expect(page.locator("article[data-seq='1']")).to_contain_text("first here")


async def test_a_reader_reads_and_a_guest_joins(window: Window) -> None:
    page = await window("Kaz Morita")
    await choose(page, "Notices to all crews")
    await expect(page.get_by_text("Owners and moderators write here.")).to_be_visible()
    await expect(page.get_by_label("Message", exact=True)).to_have_count(0)
    await page.get_by_role("button", name="Open ones").click()
    await page.get_by_role("listitem").filter(has_text="Holm Bay terminal").get_by_role("button").click()
    await expect(page.get_by_text("You read this one as a guest.")).to_be_visible()
    await page.get_by_role("button", name="Join").click()
    await expect(page.get_by_label("Message", exact=True)).to_be_visible()


async def test_who_is_writing_is_shown_until_it_is_said(window: Window) -> None:
    mara, odd = await window("Mara Quill"), await window("Odd Haverland")
    for page in (mara, odd):
        await choose(page, "Control room")
    line = odd.get_by_role("status", name="writing")
    await expect(line).to_have_text("")
    await mara.get_by_label("Message", exact=True).press_sequentially("Swell")
    async with asyncio.timeout(PATIENCE):  # it is shown for some seconds, which a busy machine may let pass
        while await line.inner_text() != "Mara Quill is writing":
            await mara.keyboard.type("l")
    await expect(mara.get_by_role("status", name="writing")).to_have_text("")
    await mara.keyboard.press("Enter")
    await expect(odd.locator("article", has_text="Swell").last).to_be_visible()
    await expect(line).to_have_text("")


async def test_what_cannot_be_drawn_leaves_the_rest_and_can_be_removed(browser: Browser, service: Served) -> None:
    """Markdown that came before there was a limit; a row that is not as it should be; a place likewise."""
    owner = Person(service.url, unique("mara"))
    place = (await owner.make(title="Fog horn"))["id"]
    lines = [
        {
            "author_id": owner.user,
            "created_at": f"2026-01-01T00:00:0{n}Z",
            "key": f"{n}",
            "body": body,
            "format": format_,
        }
        for n, (body, format_) in enumerate(
            [("1) " * 1200, "markdown"), ("_*" * 4000, "markdown"), ("odd one", "plain"), ("**calm**", "markdown")]
        )
    ]
    content = "\n".join(map(json.dumps, lines)).encode()
    office = Person(service.url, "office", scope="nestrel.service")
    answer = await office.http.post(f"/conversations/{place}/import", content=content)
    assert answer.status_code == 200, answer.text
    page = await new_page(browser, service_workers="block")

    async def broken(route: Route) -> None:
        found = await (await route.fetch()).json()
        items = found.get("items", ())
        for one in [message for item in items for message in item.get("messages", [item])]:
            one["reactions"] = None if one.get("body") == "odd one" else one.get("reactions")
        await route.fulfill(json=found)

    await page.route(re.compile(r"/messages\?|/v1/resync"), broken)
    await page.route("**/v1/reports*", lambda route: route.fulfill(json={"items": None, "next": None}))
    await page.goto(f"{service.url}/console/")
    await page.get_by_label("Paste a token").fill(owner.token)
    await page.get_by_role("button", name="Use this token").click()
    await page.get_by_role("navigation").get_by_role("link", name="Fog horn").click()
    await expect(page.get_by_text("Message 3 cannot be shown")).to_be_visible()
    await expect(page.locator("article[data-seq='4'] strong")).to_have_text("calm")
    row = page.locator("article[data-seq='1']")
    await expect(row).to_contain_text("1) 1) 1)")
    await row.focus()
    await row.press("Delete")
    await row.get_by_role("button", name="Remove", exact=True).click()
    await expect(row).to_contain_text("removed")
    await page.get_by_role("navigation", name="Places").get_by_role("link", name="Reports").click()
    await expect(page.get_by_role("alert")).to_contain_text("This place cannot be shown")
    await page.get_by_role("navigation", name="Places").get_by_role("link", name="Conversations").click()
    await expect(page.get_by_role("navigation").get_by_role("link", name="Fog horn")).to_be_visible()
