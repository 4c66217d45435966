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


async def test_ctrl_k_goes_to_a_conversation_a_person_or_a_message(window: Window) -> None:
    page = await window("Noor Haddad")
    options, field = page.get_by_role("option"), page.get_by_role("combobox", name="Go to")

    async def find(text: str) -> None:
        await page.keyboard.press("ControlOrMeta+k")
        await expect(field).to_be_focused()
        await page.keyboard.type(text)

    await find("control ro")
    await expect(options.first).to_contain_text("Control room")
    await check_accessible(page)
    await page.keyboard.press("Enter")
    heading = page.get_by_role("main").get_by_role("heading")
    await expect(heading).to_have_text("Control room")
    await find("tam fer")
    person = options.filter(has_text="Tam Ferrier").filter(has_text="person")
    await person.click()
    await expect(heading).to_have_text("Tam Ferrier")
    await find("fender adrift")
    await options.filter(has_text="I have roped it off").first.click()
    await expect(page).to_have_url(re.compile(r"at=\d+"))
    await expect(page.locator("article[aria-current='true']")).to_contain_text("Fender adrift")
    await find("fender adrift")
    await page.get_by_role("option", name="Search messages for").click()
    await expect(page.get_by_label("Search messages")).to_have_value("fender adrift")
    await find("x")
    await page.keyboard.press("Escape")
    await expect(field).to_have_count(0)


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
