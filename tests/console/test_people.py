"""People in the console: members chosen by name from the directory, and named in messages."""

from __future__ import annotations

import re
from collections.abc import Awaitable, Callable

from playwright.async_api import Browser, Page, expect

from tests.console.pages import check_accessible, choose, paste
from tests.support import Person, Served, unique

Window = Callable[..., Awaitable[Page]]


async def test_a_member_is_named_by_keyboard_and_sees_it_in_the_list_until_it_is_read(window: Window) -> None:
    mara, odd = await window("Mara Quill"), await window("Odd Haverland")
    await choose(mara, "Control room")
    await choose(odd, "MV Corran, bridge and deck")
    link = odd.get_by_role("navigation").get_by_role("link", name="Control room")
    box, word = mara.get_by_label("Message", exact=True), unique("fog")
    await box.press_sequentially(f"{word} mail@odd @haver")
    options = mara.get_by_role("option")
    await expect(options).to_have_text([re.compile("Odd Haverland")])
    await expect(box).to_have_attribute("aria-activedescendant", re.compile("."))
    await check_accessible(mara)
    await mara.keyboard.press("Enter")
    await mara.keyboard.type("and @s")  # at once, behind the name
    await expect(box).to_have_value(f"{word} mail@odd @Odd Haverland and @s")
    await expect(options.first).to_be_visible()
    await box.press("Escape")
    await expect(options).to_have_count(0)
    await box.press_sequentially("omeone")
    await box.press("Enter")
    row = mara.locator("article", has_text=word)
    await expect(row.locator(".text-chart", has_text="@Odd Haverland")).to_be_visible()
    await expect(link.get_by_text(re.compile(r"^@\d+"))).to_be_visible()
    await check_accessible(odd)
    await choose(odd, "Control room")
    mine = odd.locator("article", has_text=word)
    await expect(mine.locator(".text-buoy", has_text="@Odd Haverland")).to_be_visible()
    await odd.keyboard.press("End")
    await expect(link.get_by_text(re.compile(r"^@\d+"))).to_have_count(0)

    await row.focus()
    await mara.keyboard.press("e")
    await mara.keyboard.press("ControlOrMeta+A")
    await mara.keyboard.type(f"{word} cleared, thank you @Inés Caldeira")
    await mara.keyboard.press("Enter")
    await expect(mine.get_by_text("@Inés Caldeira")).to_have_class(re.compile("text-chart"))
    await expect(mine.get_by_text("@Odd Haverland")).to_have_count(0)


async def test_members_are_chosen_by_name_and_one_nobody_knows_by_id(browser: Browser, service: Served) -> None:
    mara = Person(service.url, unique("mara"))
    ines = Person(service.url, unique("ines"), name=f"Inés {unique('Caldeira')}")
    await ines.http.get("/me")
    await mara.make(title="berths", members=[ines.user])
    shown = (await ines.http.get("/me")).json()["display_name"]
    page = await paste(browser, service, mara.token)
    await page.get_by_role("button", name="New").click()
    await page.get_by_label("Title").fill("tides")
    field = page.get_by_label("Members", exact=True)
    await field.fill("ines cald")
    await page.get_by_role("option", name=shown).wait_for()
    await check_accessible(page)
    await field.press("Enter")
    await expect(page.get_by_role("list", name="Chosen").get_by_text(shown)).to_be_visible()
    stranger = unique("new-deckhand")
    await field.fill(stranger)
    await page.get_by_role("option", name="Nobody you can see").click()
    await page.get_by_role("button", name=f"Leave out {stranger}").click()
    await page.get_by_role("button", name="Make").click()
    await page.get_by_role("button", name="2 members").click()
    add = page.get_by_label("People to add")
    await add.fill(stranger)
    await page.get_by_role("option", name="Nobody you can see").wait_for()
    await add.press("Tab")
    await page.get_by_role("button", name="Add").click()
    await expect(page.get_by_role("dialog").get_by_role("listitem").filter(has_text=stranger)).to_be_visible()
    await check_accessible(page)
