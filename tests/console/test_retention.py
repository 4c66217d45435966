"""The Retention place: nobody is surprised by what a rule takes."""

from __future__ import annotations

from collections.abc import Callable

from playwright.async_api import Browser, expect

from tests.console.pages import Window, check_accessible, choose, paste
from tests.support import Person, Served, unique


async def test_a_rule_is_previewed_confirmed_and_torn_off_at_its_edge(
    browser: Browser, service: Served, person: Callable[..., Person]
) -> None:
    mara = person()
    place = (await mara.make(title="Berth talk"))["id"]
    await mara.fill(place, 12, "tide ")
    page = await paste(browser, service, mara.token)
    await page.get_by_role("navigation").get_by_role("link", name="Berth talk").click()
    await expect(page.locator("article[data-seq='1']")).to_be_visible()
    await page.get_by_role("link", name="Retention").click()
    await expect(page.get_by_role("form", name="Rule")).to_contain_text("Keeps everything.")
    await page.get_by_label("Newest messages").fill("none")
    await expect(page.get_by_role("alert")).to_contain_text("whole number")
    await expect(page.get_by_role("button", name="rule")).to_be_disabled()
    await page.get_by_label("Newest messages").fill("5")
    preview = page.get_by_role("region", name="Preview")
    await expect(preview.get_by_role("status")).to_contain_text("7 messages would go: 1–7")
    await expect(preview.get_by_role("listitem").last).to_contain_text("tide 7")
    await page.get_by_role("button", name="Set the rule").click()
    dialog = page.get_by_role("alertdialog")
    await expect(dialog).to_contain_text("7 messages go at once")
    await check_accessible(page)
    await dialog.get_by_role("button", name="Leave it").click()
    assert (await mara.page(place))["floor"] == 1
    await page.get_by_role("button", name="Set the rule").click()
    await dialog.get_by_role("button", name="Go ahead").click()
    await expect(page.get_by_role("form", name="Rule")).to_contain_text("Keeps the newest 5 messages")
    assert (await mara.page(place))["floor"] == 8
    segment = page.get_by_role("button", name="Read segment 1")
    await expect(segment).to_be_visible()  # with the next sweep
    await segment.click()
    await expect(page.get_by_role("region", name="Segment 1")).to_contain_text("tide 7")
    await page.get_by_role("link", name="Conversations").click()
    await expect(page.get_by_text("7 earlier messages archived, floor 8")).to_be_visible()
    await expect(page.locator("article[data-seq='7']")).to_have_count(0)
    await page.close()


async def test_the_edge_moves_live_and_only_owners_set_the_rule(window: Window) -> None:
    mara, odd = await window("Mara Quill"), await window("Odd Haverland", width=360, scheme="dark")
    await choose(mara, "Control room")
    heading = mara.get_by_text("messages kept")
    await expect(heading).to_have_text("500 messages kept")
    text = unique("the 501st")
    await mara.get_by_label("Message", exact=True).fill(text)
    await mara.keyboard.press("Enter")
    await expect(mara.locator("article", has_text=text)).to_be_visible()
    await expect(heading).to_have_text("500 messages kept")
    await odd.get_by_role("link", name="Retention").click()
    await odd.get_by_role("combobox").select_option(label="Control room")
    await expect(odd.get_by_text("Keeps the newest 500 messages, and archives the rest.")).to_be_visible()
    await expect(odd.get_by_role("form", name="Rule")).to_have_count(0)
    await check_accessible(odd)
    await odd.get_by_role("combobox").select_option(label="MV Corran, bridge and deck")
    await odd.get_by_label("Age ISO 8601").fill("P20D")
    await expect(odd.get_by_role("region", name="Preview").get_by_role("status")).to_contain_text("would go")
    await check_accessible(odd)
