"""The console away and back: a service that is killed, two seats of which one is cut, a start with no network."""

from __future__ import annotations

import re
from collections.abc import Callable

from playwright.async_api import Browser, expect

from nestrel.local.postgres import free_port
from tests.console.pages import Window, beside, choose, compare, new_page
from tests.support import Person, Served, token, unique


async def test_away_is_said_with_its_reason_and_what_is_posted_meanwhile_is_sent_once(
    browser: Browser, make_database: Callable[[], str]
) -> None:
    """The service is killed and comes back: the strip tells, the post waits in the ledger and then has its number.
    Nothing goes to the service while one types."""
    url, port, user = make_database(), free_port(), unique("kaz")
    page = await new_page(browser)
    line = page.get_by_role("status", name="line")
    with Served(url, port=port) as first:
        first.wait_ready()
        await Person(first.url, user).make(title="Rota swaps")
        await page.goto(f"{first.url}/console/")
        await page.get_by_label("Paste a token").fill(token(user))
        await page.get_by_role("button", name="Use this token").click()
        await page.get_by_role("navigation").get_by_role("link", name="Rota swaps").click()
        await expect(line).to_have_text("live")
        requests: list[str] = []
        page.on("request", lambda request: requests.append(request.url))
        box = page.get_by_label("Message", exact=True)
        await box.press_sequentially("can anyone take my Friday?")
        assert requests == []
        first.kill()
        await expect(line).to_contain_text("away")
        await expect(line).not_to_have_text("away")  # with a reason beside it
        await box.press("Enter")
        row = page.locator("article", has_text="take my Friday")
        await expect(row).to_have_attribute("data-state", "queued")
    with Served(url, port=port) as second:
        second.wait_ready()
        await expect(line).to_have_text("live")
        await expect(row).to_have_attribute("data-seq", "1")
        await expect(row).to_have_count(1)
        await page.close()


async def test_two_seats_part_and_come_together_again(window: Window) -> None:
    """Cut one line, post from both sides, restore it: nothing is missing, nothing twice, and it says its price."""
    page = await window("Mara Quill")
    await beside(page, "Odd Haverland")
    await compare(page, "Control room")
    await expect(page.locator("[data-cell='right missing']")).to_have_count(0)  # the other seat has read its page too
    await page.get_by_role("switch", name="line of Odd Haverland").click()
    await expect(page.get_by_role("status", name="right line")).to_have_text("away")
    texts = [unique("from mara") for _ in range(3)]
    for text in texts:
        await page.get_by_label("Message as Mara Quill").fill(text)
        await page.keyboard.press("Enter")
        await expect(page.locator("[data-cell='left held']", has_text=text)).to_have_count(1)
    waiting = unique("from odd")
    await page.get_by_label("Message as Odd Haverland").fill(waiting)
    await page.keyboard.press("Enter")
    await expect(page.locator("[data-cell=queued]", has_text=waiting)).to_have_count(1)
    await expect(page.locator("[data-cell='right missing']")).to_have_count(3)
    await page.get_by_role("switch", name="line of Odd Haverland").click()
    await expect(page.get_by_test_id("right resync")).to_have_text(re.compile(r"resync: 4 rows, [\d.]+ kB, \d+ ms"))
    for side in ("left", "right"):
        for text in (*texts, waiting):
            await expect(page.locator(f"[data-cell='{side} held']", has_text=text)).to_have_count(1)
    await expect(page.locator("[data-cell$=missing], [data-cell=queued], [data-cell$=old]")).to_have_count(0)
    await page.get_by_role("link", name="Wire").click()
    await page.get_by_label("Filter").fill(texts[0])
    await expect(page.get_by_role("row").filter(has_text="200 /v1/resync")).to_have_count(1)
    await page.get_by_role("button", name="200 /v1/resync").click()
    await expect(page.get_by_label("Decoded").get_by_role("listitem").filter(has_text=waiting)).to_have_count(1)
    await page.get_by_role("button", name="Pause").click()
    before = await page.get_by_role("row").count()
    await page.get_by_role("link", name="Side by side").click()
    await expect(page.get_by_role("status", name="right line")).to_have_text("live")
    assert before > 1


async def test_what_could_not_be_read_while_away_is_read_when_the_line_is_back(window: Window) -> None:
    page = await window("Mara Quill")
    await page.context.route("**/messages?limit=80*", lambda route: route.abort())
    await beside(page, "Odd Haverland")
    await compare(page, "Control room")
    missing = page.locator("[data-cell='right missing']")
    await expect(missing).not_to_have_count(0)  # of its page it holds what catching up brought
    await page.context.unroute_all()
    for state in ("away", "live"):
        await page.get_by_role("switch", name="line of Odd Haverland").click()
        await expect(page.get_by_role("status", name="right line")).to_have_text(state)
    await expect(missing).to_have_count(0)


async def test_a_conversation_that_could_not_be_opened_is_opened_when_it_can_be(window: Window) -> None:
    page = await window("Mara Quill")
    alert, said = page.get_by_role("main").get_by_role("alert"), page.locator("article[data-seq]").first
    await page.context.route("**/messages?*", lambda route: route.abort())
    await page.get_by_role("button", name="Open ones").click()
    row = page.get_by_role("listitem").filter(has_text="Galley and stores")  # she is no member: nothing is held
    await row.get_by_role("button", name="Read").click()
    await expect(alert).to_be_visible()
    await page.context.unroute_all()
    await page.get_by_role("button", name="Try again").click()
    await expect(said).to_be_visible()

    await page.evaluate("navigator.serviceWorker.ready.then(() => true)")
    await page.context.set_offline(True)
    await page.reload()
    await expect(alert).to_be_visible()
    await page.context.set_offline(False)
    await page.evaluate("window.dispatchEvent(new Event('online'))")
    await expect(said).to_be_visible()


async def test_with_no_network_the_console_opens_with_what_it_held_and_keeps_what_is_done(window: Window) -> None:
    page = await window("Mara Quill")
    await choose(page, "Control room")
    text = await page.locator("article[data-seq]").last.inner_text()
    await page.evaluate("navigator.serviceWorker.ready.then(() => true)")
    await expect(page.get_by_role("status", name="line")).to_have_text("live")
    await page.context.set_offline(True)
    await page.reload()
    await expect(page.get_by_role("status", name="line")).to_contain_text("away")
    await expect(page.locator("article[data-seq]").last).to_have_text(text, use_inner_text=True)
    await expect(page.get_by_role("main").get_by_role("heading")).to_have_text("Control room")
    for body in ("first at sea", "second at sea"):
        await page.get_by_label("Message", exact=True).fill(body)
        await page.keyboard.press("Enter")
        await expect(page.locator("article[data-state=queued]", has_text=body)).to_have_count(1)
    await page.reload()
    await expect(page.locator("article[data-state=queued]")).to_have_count(2)
    await expect(page.get_by_role("button", name="2 waiting")).to_be_visible()
    await page.context.set_offline(False)
    await page.evaluate("window.dispatchEvent(new Event('online'))")
    await expect(page.get_by_role("status", name="line")).to_have_text("live")
    await expect(page.locator("article[data-state]")).to_have_count(0)
    for body in ("first at sea", "second at sea"):
        await expect(page.locator("article[data-seq]", has_text=body)).to_have_count(1)
