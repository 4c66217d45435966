"""The Search place: one box and its filters, hits with what is around them, and the way into the ledger."""

from __future__ import annotations

import re
from collections.abc import Awaitable, Callable

from playwright.async_api import Page, expect

from tests.console.pages import check_accessible
from tests.support import unique

Window = Callable[..., Awaitable[Page]]


async def test_a_hit_is_found_as_one_types_and_opens_the_ledger_at_its_number(window: Window) -> None:
    page = await window("Mara Quill")
    await page.get_by_role("link", name="Search").click()
    box = page.get_by_label("Search messages")
    await expect(box).to_be_focused()
    await box.press_sequentially("fender adr*")
    hits = page.get_by_role("region", name="Hits").get_by_role("link")
    await expect(hits.first.locator("mark").first).to_have_text(re.compile("fender", re.IGNORECASE))
    await expect(page.get_by_role("status").filter(has_text="hit")).to_be_visible()
    await check_accessible(page)

    await page.get_by_label("In", exact=True).select_option(label="Control room")
    await expect(hits.first).to_contain_text("in Control room")
    await page.get_by_label("By").fill("noor")
    await page.get_by_role("option", name=re.compile("Noor Haddad")).click()
    await expect(hits.first).to_contain_text("Noor Haddad")
    await expect(hits.filter(has_text="Yusuf Adeyo")).to_have_count(0)
    await box.press("ArrowDown")
    await expect(hits.first).to_be_focused()
    await expect(page.get_by_role("region", name="Hits").locator("p").first).to_be_visible()
    await check_accessible(page)
    number = (await hits.first.locator(".sounding").first.inner_text()).strip()
    await page.keyboard.press("Enter")
    await expect(page.get_by_role("main").get_by_role("heading")).to_have_text("Control room")
    row = page.locator(f"article[data-seq='{number}']")
    await expect(row).to_be_in_viewport()
    await expect(row).to_have_attribute("aria-current", "true")


async def test_what_cannot_be_looked_for_says_why_and_nothing_found_says_so(window: Window) -> None:
    page = await window("Odd Haverland", width=380)
    await page.get_by_role("link", name="Search").click()
    box = page.get_by_label("Search messages")
    await box.fill("-fog")
    await expect(page.get_by_role("alert")).to_contain_text("at least one word")
    await box.fill(unique("nobody-said-this"))
    await expect(page.get_by_role("status").filter(has_text="nothing found")).to_be_visible()
    await box.fill("")
    await expect(page.get_by_role("alert")).to_have_count(0)
    await check_accessible(page)
