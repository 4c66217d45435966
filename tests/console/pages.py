"""What tests of the console do with a page."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

from playwright.async_api import Browser, Page, expect

from tests.support import PATIENCE, Served

_AXE = Path(__file__).parent.parent.parent / "console/node_modules/axe-core/axe.min.js"

Window = Callable[..., Awaitable[Page]]


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
    async with asyncio.timeout(PATIENCE):
        while found is None:
            found = await page.evaluate(_FIRST)
    return found


async def first_becomes(page: Page, good: Callable[[int], bool]) -> int:
    """Wait until the first number on screen is a good one, and give it."""
    async with asyncio.timeout(PATIENCE):
        while not good(found := await first_on_screen(page)):
            await asyncio.sleep(0.02)
    return found


async def new_page(browser: Browser, **options: Any) -> Page:
    """A page of a new profile, whose every wait is as patient as the tests are."""
    context = await browser.new_context(**options)
    context.set_default_timeout(PATIENCE * 1000)
    return await context.new_page()


async def paste(browser: Browser, service: Served, pasted: str) -> Page:
    page = await new_page(browser)
    await page.goto(f"{service.url}/console/")
    await page.get_by_label("Paste a token").fill(pasted)
    await page.get_by_role("button", name="Use this token").click()
    await expect(page.get_by_role("status", name="line")).to_have_text("live")
    return page


async def check_accessible(page: Page) -> None:
    """Assert that axe finds no fault, and that the page is no wider than its window."""
    await page.evaluate(_AXE.read_text())
    found = await page.evaluate("axe.run(document, {resultTypes: ['violations']})")
    faults = [(v["id"], v["nodes"][0]["html"]) for v in found["violations"]]
    assert faults == [], faults
    assert await page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")


async def beside(page: Page, member: str) -> None:
    """Sign a second member in, side by side with the first."""
    await page.get_by_role("link", name="Side by side").click()
    async with page.expect_popup() as opened:
        await page.get_by_role("button", name="Sign in a second member").click()
    await (await opened.value).get_by_role("link", name=member).click()
    await expect(page.get_by_role("status", name="right line")).to_have_text("live")


async def compare(page: Page, title: str) -> None:
    """Choose what two members side by side are compared on."""
    on = page.get_by_label("on")
    await on.select_option(label=title)
    # The one before stays until this one is drawn.
    await expect(on.locator("option:checked")).to_have_text(title)
    await expect(page.locator("li[data-seq]").first).to_be_visible()
