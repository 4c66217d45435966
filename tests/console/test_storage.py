"""A browser that keeps nothing, is full, or holds an older version of the console: each says what to do, and no words
are lost."""

from __future__ import annotations

from playwright.async_api import Browser, expect

from tests.console.pages import check_accessible, new_page, paste
from tests.support import Person, Served, once, unique

_REFUSED = """
IDBFactory.prototype.open = () => { throw new DOMException('denied', 'SecurityError') };
Object.defineProperty(window, 'localStorage', { get() { throw new DOMException('denied', 'SecurityError') } });
"""
_FULL = """
window.full = false;
for (const name of ['put', 'add']) {
  const kept = IDBObjectStore.prototype[name];
  IDBObjectStore.prototype[name] = function (...values) {
    if (window.full) throw new DOMException('no room', 'QuotaExceededError');
    return kept.apply(this, values);
  };
}
"""


async def test_a_browser_that_refuses_to_keep_anything_is_told_what_to_allow(browser: Browser, service: Served) -> None:
    mara = Person(service.url, unique("mara"))
    page = await new_page(browser)
    await page.add_init_script(_REFUSED)
    await page.goto(f"{service.url}/console/")
    await page.get_by_label("Paste a token").fill(mara.token)
    await page.get_by_role("button", name="Use this token").click()
    await expect(page.get_by_role("heading", name="This browser cannot keep the conversations")).to_be_visible()
    await expect(page.get_by_text(f"Allow site data for {service.url}")).to_be_visible()
    await check_accessible(page)
    await page.get_by_role("button", name="Try again").click()
    await expect(page.get_by_role("button", name="Try again")).to_be_visible()


async def test_a_full_disk_is_said_and_loses_no_words(browser: Browser, service: Served) -> None:
    mara, odd = Person(service.url, unique("mara")), Person(service.url, unique("odd"))
    place = (await mara.make(title="Ebb", members=[odd.user]))["id"]
    page = await new_page(browser)
    await page.add_init_script(_FULL)
    await page.goto(f"{service.url}/console/c/{place}")
    await page.get_by_label("Paste a token").fill(mara.token)
    await page.get_by_role("button", name="Use this token").click()
    line = page.get_by_role("status", name="line")
    await expect(line).to_have_text("live")
    box = page.get_by_label("Message", exact=True)
    await page.evaluate("window.full = true")
    await box.fill("words that must not go")
    await box.press("Enter")
    await expect(page.get_by_role("alert")).to_contain_text("Not sent. This browser has no room left")
    await expect(box).to_have_value("words that must not go")
    await odd.post(place, "what comes meanwhile")
    await expect(line).to_contain_text("Free space on the disk")
    await check_accessible(page)
    await page.evaluate("window.full = false")
    await expect(line).to_have_text("live")  # it comes back by itself
    await expect(page.get_by_text("what comes meanwhile").first).to_be_visible()
    await box.press("Enter")
    await expect(page.locator("article").filter(has_text="words that must not go")).to_be_visible()

    async def posted() -> list[str]:
        return [one["body"] for one in (await odd.page(place))["items"]]

    assert await once(posted, lambda found: len(found) == 2) == ["words that must not go", "what comes meanwhile"]


async def test_a_page_of_an_older_version_says_so(browser: Browser, service: Served) -> None:
    page = await paste(browser, service, Person(service.url, unique("mara")).token)
    await page.evaluate("navigator.serviceWorker.ready.then(() => true)")
    old = page.get_by_role("alert").filter(has_text="older version of the console")
    # The first worker of all is of the page's own version.
    await page.evaluate("navigator.serviceWorker.dispatchEvent(new Event('controllerchange'))")
    await expect(old).to_have_count(0)
    await page.reload()
    await expect(page.get_by_role("status", name="line")).to_have_text("live")
    await page.evaluate("navigator.serviceWorker.dispatchEvent(new Event('controllerchange'))")
    await expect(old).to_be_visible()
    await check_accessible(page)
    await page.get_by_role("button", name="Load it again").click()
    await expect(page.get_by_role("status", name="line")).to_have_text("live")
    await expect(old).to_have_count(0)
