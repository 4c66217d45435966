"""What a browser keeps: two tabs of one member, signing out, pictures of elsewhere."""

from __future__ import annotations

from playwright.async_api import Browser, Page, Request, expect

from tests.console.pages import Window, choose, new_page, paste
from tests.support import Person, Served, token, unique

_HELD = """async () => {
  const held = [];
  for (const { name } of await indexedDB.databases()) held.push(name);
  return [held.length, Object.keys(sessionStorage).concat(Object.keys(localStorage))];
}"""
_CURSOR = """async () => {
  for (const { name } of await indexedDB.databases()) {
    if (!name.startsWith("nestrel.replica.")) continue;
    const done = (asked) => new Promise((resolve) => { asked.onsuccess = () => resolve(asked.result); });
    const database = await done(indexedDB.open(name));
    const cursor = await done(database.transaction("meta").objectStore("meta").get("cursor"));
    database.close();
    return cursor;
  }
}"""


async def two_tabs(window: Window) -> tuple[Page, Page]:
    """Of one member, at one conversation."""
    one = await window("Mara Quill")
    await choose(one, "Control room")
    two = await one.context.new_page()
    await two.goto(one.url)
    await expect(two.get_by_role("status", name="line")).to_have_text("live")
    return one, two


async def test_two_tabs_send_what_waits_once(window: Window) -> None:
    """Both hold the member's outbox; what was written in one while away is sent by whichever comes back, once."""
    one, two = await two_tabs(window)
    await one.context.set_offline(True)
    for page in (one, two):
        await expect(page.get_by_role("status", name="line")).to_contain_text("away")
    for page, body in ((one, "written in the first tab"), (two, "written in the second tab")):
        await page.get_by_label("Message", exact=True).fill(body)
        await page.keyboard.press("Enter")
    for page in (one, two):
        for body in ("written in the first tab", "written in the second tab"):
            await expect(page.locator("article[data-state=queued]", has_text=body)).to_have_count(1)
    await one.context.set_offline(False)
    for page in (one, two):
        await page.evaluate("window.dispatchEvent(new Event('online'))")
    for page in (one, two):
        await expect(page.locator("article[data-state]")).to_have_count(0)
        for body in ("written in the first tab", "written in the second tab"):
            await expect(page.locator("article[data-seq]", has_text=body)).to_have_count(1)


async def test_a_tab_that_was_away_shows_what_another_one_took_in(window: Window) -> None:
    """Both keep one replica, and the tab that was there has moved its cursor past what the other one has seen."""
    one, two = await two_tabs(window)
    network = await one.context.new_cdp_session(one)
    conditions = {"latency": 0, "downloadThroughput": -1, "uploadThroughput": -1}
    await network.send("Network.enable")
    await network.send("Network.emulateNetworkConditions", {"offline": True, **conditions})
    await expect(one.get_by_role("status", name="line")).to_contain_text("away")
    before = await two.evaluate(_CURSOR)
    bodies = [f"{unique('said')} while one was away" for _ in range(2)]
    for body in bodies:
        await two.get_by_label("Message", exact=True).fill(body)
        await two.keyboard.press("Enter")
        await expect(two.locator("article[data-seq]", has_text=body)).to_have_count(1)
    while await two.evaluate(_CURSOR) == before:
        await expect(two.get_by_role("status", name="line")).to_have_text("live")
    await network.send("Network.emulateNetworkConditions", {"offline": False, **conditions})
    await one.evaluate("window.dispatchEvent(new Event('online'))")
    await expect(one.get_by_role("status", name="line")).to_have_text("live")
    for body in bodies:
        await expect(one.locator("article[data-seq]", has_text=body)).to_have_count(1)


async def test_who_signs_out_leaves_nothing_unless_they_want_to(browser: Browser, service: Served) -> None:
    user = unique("tam")
    await Person(service.url, user).make(title="Engine room")
    for keeps in (False, True):
        page = await paste(browser, service, token(user))
        await page.get_by_role("navigation").get_by_role("link", name="Engine room").click()
        if keeps:
            await page.get_by_label("keep for offline").check()
        await page.get_by_role("button", name="sign out").click()
        await expect(page.get_by_label("Paste a token")).to_be_visible()
        databases, names = await page.evaluate(_HELD)
        assert databases == (1 if keeps else 0), names
        assert not [name for name in names if "token" in name]
        await page.close()


async def test_a_picture_of_elsewhere_is_a_link_and_nobody_is_asked_for_it(browser: Browser, service: Served) -> None:
    user, asked = unique("tam"), []
    tam = Person(service.url, user)
    place = (await tam.make(title="Notices"))["id"]
    await tam.post(place, "![the berth](https://pictures.example/berth.png) and **this**", format="markdown")
    page: Page = await new_page(browser)

    def note(request: Request) -> None:
        if not request.url.startswith(service.url):
            asked.append(request.url)

    page.on("request", note)
    await page.goto(f"{service.url}/console/")
    await page.get_by_label("Paste a token").fill(token(user))
    await page.get_by_role("button", name="Use this token").click()
    await page.get_by_role("navigation").get_by_role("link", name="Notices").click()
    await expect(page.locator("article strong")).to_have_text("this")
    await expect(page.locator("article a")).to_have_attribute("href", "https://pictures.example/berth.png")
    assert await page.locator("article img").count() == 0
    assert asked == []
    await page.close()
