"""The console in Chromium: two members in two windows, deep history, the way back, text as text, by keyboard."""

from __future__ import annotations

import asyncio
import re
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path

import httpx
import pytest
from bench.browser import FLAGS
from playwright.async_api import Browser, Page, async_playwright, expect

from nestrel.demo import run, seed
from nestrel.demo.postgres import free_port
from nestrel.service.settings import Settings
from nestrel.store.database import Database
from tests.support import SECRET, Person, Served, token, unique

_AXE = Path(__file__).parent.parent / "console/node_modules/axe-core/axe.min.js"


@pytest.fixture(scope="module")
def demo(make_database: Callable[[], str], tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    """The service with the demo's data and its issuer, as `nestrel demo` runs it."""
    url = make_database()

    async def fill() -> None:
        database = Database(url)
        await seed.seed(database, datetime.now(UTC), 7, lambda _n: None)
        await database.close()

    asyncio.run(fill())
    settings = Settings(data_dir=tmp_path_factory.mktemp("demo"))
    with (
        run.issuer(settings, free_port()) as trusted,
        Served(
            url,
            NESTREL_JWKS_URL=str(trusted.jwks_url),
            NESTREL_ISSUER=str(trusted.issuer),
            NESTREL_AUDIENCE=str(trusted.audience),
        ) as served,
    ):
        yield served.wait_ready()


@pytest.fixture
async def browser() -> AsyncIterator[Browser]:
    async with async_playwright() as playwright:
        launched = await playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield launched
        await launched.close()


Window = Callable[..., Awaitable[Page]]


@pytest.fixture
def window(browser: Browser, demo: Served) -> Window:
    """Opens a window with a profile of its own, signed in as a member of the demo."""

    async def open_(member: str, *, width: int = 1280, scheme: str = "light") -> Page:
        context = await browser.new_context(viewport={"width": width, "height": 800}, color_scheme=scheme)
        page = await context.new_page()
        await page.goto(f"{demo.url}/console/")
        await page.get_by_role("button", name="Sign in").click()
        await page.get_by_role("link", name=member).click()
        await expect(page.get_by_role("status", name="line")).to_have_text("live")
        return page

    return open_


async def choose(page: Page, title: str) -> None:
    await page.get_by_role("navigation").get_by_role("link", name=title).click()
    await expect(page.get_by_role("main").get_by_role("heading")).to_have_text(title)
    await expect(page.locator("article").first).to_be_visible()


_FIRST = """() => {
  const pane = document.querySelector('section[aria-label=Ledger]');
  if (!pane) return;
  const top = pane.getBoundingClientRect().top;
  for (const row of pane.querySelectorAll('article[data-seq]'))
    if (row.getBoundingClientRect().bottom > top + 1) return Number(row.dataset.seq);
}"""


async def first_on_screen(page: Page) -> int:
    """The first number on screen, once one is drawn."""
    found: int | None = None
    async with asyncio.timeout(10):
        while found is None:
            found = await page.evaluate(_FIRST)
    return found


async def first_becomes(page: Page, good: Callable[[int], bool]) -> int:
    """Wait until the first number on screen is a good one, and give it."""
    async with asyncio.timeout(10):
        while not good(found := await first_on_screen(page)):
            await asyncio.sleep(0.02)
    return found


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
    await page.get_by_label("Ledger").hover()
    newest = await first_on_screen(page)
    await page.mouse.wheel(0, -900)
    place = await first_becomes(page, lambda seq: seq < newest - 5)
    backend = Person(demo.url, "mara", issuer=_issuer(demo), audience="nestrel-demo")
    listed = (await backend.http.get("/conversations")).json()["items"]
    notices = next(item["id"] for item in listed if item["name"] == "notices")
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
    box = page.get_by_label("Edit message 1")
    await box.fill("oil at 4 bar")
    await box.press("Enter")
    await expect(page.get_by_role("alert")).to_contain_text("Now: oil at 3 bar")
    await page.get_by_role("button", name="Save anyway").click()
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


async def paste(browser: Browser, service: Served, pasted: str) -> Page:
    page = await browser.new_page()
    await page.goto(f"{service.url}/console/")
    await page.get_by_label("Paste a token").fill(pasted)
    await page.get_by_role("button", name="Use this token").click()
    await expect(page.get_by_role("status", name="line")).to_have_text("live")
    return page


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


async def test_away_is_said_with_its_reason_and_what_is_posted_meanwhile_is_sent_once(
    browser: Browser, make_database: Callable[[], str]
) -> None:
    """The service is killed and comes back: the strip tells, the post waits in the ledger and then has its number.
    Nothing goes to the service while one types."""
    url, port, user = make_database(), free_port(), unique("kaz")
    page = await browser.new_page()
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
        await expect(line).to_have_text("live", timeout=20_000)
        await expect(row).to_have_attribute("data-seq", "1", timeout=15_000)
        await expect(row).to_have_count(1)
        await page.close()


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


@pytest.mark.parametrize(("scheme", "width"), [("light", 1280), ("dark", 1280), ("light", 360)])
async def test_there_is_no_axe_violation_and_nothing_wider_than_the_window(
    window: Window, scheme: str, width: int
) -> None:
    page = await window("Mara Quill", width=width, scheme=scheme)
    await choose(page, "Control room")
    await check_accessible(page)
    await beside(page, "Odd Haverland")
    await expect(page.locator("li[data-seq]").first).to_be_visible()
    await check_accessible(page)
    await page.get_by_role("link", name="Wire").click()
    await page.get_by_role("button", name="200 /v1/resync").first.click()
    await check_accessible(page)


async def check_accessible(page: Page) -> None:
    """Assert that axe finds no fault, and that the page is no wider than its window."""
    await page.evaluate(_AXE.read_text())
    found = await page.evaluate("axe.run(document, {resultTypes: ['violations']})")
    assert [(v["id"], v["nodes"][0]["html"]) for v in found["violations"]] == []
    assert await page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")


async def test_with_a_shared_secret_a_token_is_pasted(browser: Browser, service: Served) -> None:
    user = unique("tam")
    await Person(service.url, user).make(title="Engine room")
    page = await browser.new_page()
    await page.goto(f"{service.url}/console/")
    await page.get_by_label("Paste a token").fill("nonsense")
    await page.get_by_role("button", name="Use this token").click()
    await expect(page.get_by_role("alert")).to_contain_text("nestrel token USER")
    await page.get_by_label("Paste a token").fill(token(user, secret=SECRET))
    await page.get_by_role("button", name="Use this token").click()
    await expect(page.get_by_role("status", name="line")).to_have_text("live")
    await expect(page.get_by_role("navigation").get_by_role("link", name="Engine room")).to_be_visible()
    assert "eyJ" not in page.url


async def beside(page: Page, member: str) -> None:
    """Sign a second member in, side by side with the first."""
    await page.get_by_role("link", name="Side by side").click()
    async with page.expect_popup() as opened:
        await page.get_by_role("button", name="Sign in a second member").click()
    await (await opened.value).get_by_role("link", name=member).click()
    await expect(page.get_by_role("status", name="right line")).to_have_text("live")


async def test_two_seats_part_and_come_together_again(window: Window) -> None:
    """Cut one line, post from both sides, restore it: nothing is missing, nothing twice, and it says its price."""
    page = await window("Mara Quill")
    await beside(page, "Odd Haverland")
    await page.get_by_label("on").select_option(label="Control room")
    await expect(page.locator("li[data-seq]").first).to_be_visible()
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
