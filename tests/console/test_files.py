"""Files and Markdown in the console: sent by chooser, drop and paste, seen in place and large, and while away."""

from __future__ import annotations

import base64
import re
from collections.abc import Awaitable, Callable
from pathlib import Path

from playwright.async_api import Browser, Page, expect

from tests.console.pages import check_accessible, choose, paste
from tests.support import Person, Served, unique
from tests.test_attachments import picture

Window = Callable[..., Awaitable[Page]]

_DROP = """([kind, name, content]) => {
  const carried = new DataTransfer();
  const bytes = Uint8Array.from(atob(content), (one) => one.charCodeAt(0));
  carried.items.add(new File([bytes], name));
  const where = document.querySelector("textarea[aria-label=Message]");
  const event = kind === "paste"
    ? new ClipboardEvent("paste", {clipboardData: carried, bubbles: true, cancelable: true})
    : new DragEvent(kind, {dataTransfer: carried, bubbles: true, cancelable: true});
  where.dispatchEvent(event);
}"""
_PASTE = """([plain, html]) => {
  const carried = new DataTransfer();
  carried.setData("text/plain", plain);
  if (html) carried.setData("text/html", html);
  document.activeElement.dispatchEvent(
    new ClipboardEvent("paste", {clipboardData: carried, bubbles: true, cancelable: true}));
}"""


async def bring(page: Page, kind: str, name: str, content: bytes) -> None:
    await page.evaluate(_DROP, [kind, name, base64.b64encode(content).decode()])


async def test_files_are_chosen_dropped_and_pasted_and_seen_in_place_and_large(window: Window, tmp_path: Path) -> None:
    mara, odd = await window("Mara Quill"), await window("Odd Haverland")
    for page in (mara, odd):
        await choose(page, "Control room")
    (tmp_path / "first.png").write_bytes(picture(900, 600))
    word = unique("berths")
    await mara.locator("input[type=file]").set_input_files(tmp_path / "first.png")
    await bring(mara, "drop", "second.png", picture(300, 300))
    await bring(mara, "paste", "notes.txt", b"tides")
    await bring(mara, "drop", "wrong.txt", b"not this one")
    sending = mara.get_by_role("list", name="Files to send")
    await expect(sending.get_by_role("listitem")).to_have_count(4)
    await check_accessible(mara)
    await mara.get_by_role("button", name="Leave out wrong.txt").click()
    await mara.get_by_label("Message", exact=True).fill(word)
    await mara.keyboard.press("Enter")
    await expect(sending).to_have_count(0)
    row = odd.locator("article[data-seq]", has_text=word)
    small = row.get_by_role("button", name=re.compile("View"))
    await expect(small.get_by_role("img")).to_have_count(2)
    heights = await small.evaluate_all("all => all.map(one => one.getBoundingClientRect().height)")
    assert heights == [146, 146]
    await expect(row.get_by_role("button", name="Fetch notes.txt")).to_be_visible()
    await check_accessible(odd)

    await row.get_by_role("button", name="View first.png").press("Enter")
    viewer = odd.get_by_role("dialog")
    await expect(viewer.get_by_role("heading")).to_have_text("first.png")
    await expect(viewer.get_by_role("img")).to_be_visible()
    await check_accessible(odd)
    await odd.keyboard.press("ArrowRight")
    await expect(viewer.get_by_role("heading")).to_have_text("second.png")
    await odd.keyboard.press("ArrowRight")
    await expect(viewer.get_by_role("heading")).to_have_text("first.png")
    async with odd.expect_download() as fetched:
        await odd.keyboard.press("f")
    assert Path(await (await fetched.value).path()).read_bytes() == picture(900, 600)
    await odd.keyboard.press("Escape")
    await expect(viewer).to_have_count(0)

    mine = mara.locator("article[data-seq]", has_text=word)
    await mine.focus()
    await mara.keyboard.press("e")
    await mara.get_by_role("list", name="Files of this message").get_by_role("button", name="second.png").click()
    await mara.get_by_role("button", name="Save").click()
    await expect(small).to_have_count(1)
    await mine.focus()
    await mara.keyboard.press("Delete")
    await mara.get_by_role("button", name="Remove", exact=True).click()
    await expect(odd.get_by_role("img", name="first.png")).to_have_count(0)


async def test_files_wait_for_the_line_also_over_a_new_start(browser: Browser, service: Served) -> None:
    mara = Person(service.url, unique("mara"))
    place = await mara.make(title="berths")
    page = await paste(browser, service, mara.token)
    await choose_empty(page, "berths")
    await page.context.set_offline(True)
    await bring(page, "drop", "berth.png", picture())
    await page.get_by_role("button", name="Send").click()
    pending = page.locator("article[data-state]")
    await expect(pending).to_have_attribute("data-state", re.compile("queued|sending"))
    await expect(pending).to_contain_text("berth.png")
    await page.context.set_offline(False)
    await page.reload()
    await expect(page.get_by_role("img", name="berth.png")).to_be_visible()
    await expect(pending).to_have_count(0)
    [message] = (await mara.page(place["id"]))["items"]
    assert (message["body"], [one["name"] for one in message["attachments"]]) == ("", ["berth.png"])
    # What was seen is there without a network.
    await page.context.set_offline(True)
    await page.get_by_role("link", name="Wire").click()
    await page.get_by_role("link", name="Conversations").click()
    await choose(page, "berths")
    await expect(page.get_by_role("img", name="berth.png")).to_be_visible()


async def test_a_refused_file_says_why_and_can_be_given_up(browser: Browser, service: Served) -> None:
    mara = Person(service.url, unique("mara"))
    await mara.make(title="berths")
    page = await paste(browser, service, mara.token)
    await choose_empty(page, "berths")
    await page.get_by_label("Message", exact=True).fill("too large")
    handle = await page.evaluate_handle("() => new File([new Uint8Array(25_000_001)], 'large.bin')")
    await page.evaluate(
        """(file) => {
          const carried = new DataTransfer();
          carried.items.add(file);
          document.dispatchEvent(new DragEvent("drop", {dataTransfer: carried, bubbles: true, cancelable: true}));
        }""",
        handle,
    )
    await page.get_by_role("button", name="Send").click()
    pending = page.locator("article[data-state=refused]")
    await expect(pending.get_by_role("alert")).to_contain_text("25,000,000 bytes")
    await check_accessible(page)
    await pending.get_by_role("button", name="Discard").click()
    await expect(pending).to_have_count(0)


async def choose_empty(page: Page, title: str) -> None:
    await page.get_by_role("navigation").get_by_role("link", name=title).click()
    await expect(page.get_by_label("Message", exact=True)).to_be_visible()


async def test_markdown_is_written_by_keyboard_and_seen_before_it_is_sent(browser: Browser, service: Served) -> None:
    mara = Person(service.url, unique("mara"))
    place = await mara.make(title="berths")
    page = await paste(browser, service, mara.token)
    await choose_empty(page, "berths")
    box = page.get_by_label("Message", exact=True)
    await page.get_by_role("button", name="Markdown").click()
    await box.press_sequentially("see the plan")
    await page.keyboard.press("Shift+Home")
    for _ in range(4):
        await page.keyboard.press("Shift+ArrowRight")
    await page.evaluate(_PASTE, ["https://skerry.example/plan", ""])
    await expect(box).to_have_value("see [the plan](https://skerry.example/plan)")
    await page.keyboard.press("End")
    await page.keyboard.press("Shift+Enter")
    await page.evaluate(_PASTE, ["tides", '<p>and <a href="https://skerry.example/tides">tides</a></p>'])
    await page.keyboard.press("Shift+Enter")
    await page.keyboard.press("Shift+Enter")
    await box.press_sequentially("- ramp")
    await page.keyboard.press("Shift+Enter")
    await page.keyboard.press("Tab")
    await box.press_sequentially("~~late~~")
    await page.keyboard.press("Shift+Enter")
    await page.keyboard.press("Shift+Enter")
    await box.press_sequentially("```")
    await page.keyboard.press("Shift+Enter")
    await box.press_sequentially("a")
    await page.keyboard.press("Enter")
    await box.press_sequentially("b")
    written = (
        "see [the plan](https://skerry.example/plan)\nand [tides](https://skerry.example/tides)\n\n"
        "- ramp\n  - ~~late~~\n```\na\nb\n```"
    )
    await expect(box).to_have_value(written)
    await page.get_by_role("button", name="Preview").click()
    look = page.get_by_role("region", name="How it will look")
    await expect(look.get_by_role("link", name="the plan")).to_have_attribute("href", "https://skerry.example/plan")
    await expect(look.locator("li li del")).to_have_text("late")
    await expect(look.locator("pre")).to_have_text("a\nb\n")
    await check_accessible(page)
    await box.focus()
    await page.keyboard.press("Control+End")
    await page.keyboard.press("Enter")
    await expect(page.locator("article[data-seq] pre")).to_have_text("a\nb\n")
    [message] = (await mara.page(place["id"]))["items"]
    assert (message["format"], message["body"]) == ("markdown", written)
