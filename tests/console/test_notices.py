"""Notices in the console: what one is told of, in this browser when one presses for it, and where a press leads."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator
from typing import Any

import pytest
from playwright.async_api import Browser, Page, expect

from tests.console.pages import check_accessible, first_becomes, paste
from tests.pushed import PushService, told
from tests.support import Person, Served, call, once, unique

# Chromium's own push service is not on this machine: what its subscription would be is the stand-in's device. Nor is
# anybody there whom it could ask.
_SUBSCRIBES = """(subscription) => {
  window.asks = 0;
  window.allowed = false;
  Notification.requestPermission = async () => { window.asks += 1; return window.allowed ? "granted" : "denied"; };
  Object.defineProperty(Notification, "permission", {get: () => (window.allowed ? "granted" : "default")});
  const made = {...subscription, toJSON: () => subscription, unsubscribe: async () => true};
  PushManager.prototype.subscribe = async function (options) { window.asked = options; return made; };
  PushManager.prototype.getSubscription = async () => (window.asked || localStorage.length ? made : null);
}"""


@pytest.fixture
async def served(url: str) -> AsyncIterator[Served]:
    with Served(url, NESTREL_PUSH_HOSTS="127.0.0.1/32") as made:
        yield made.wait_ready()


# What would be shown is noted: a browser with no screen lets its notifications go whenever it likes.
_NOTES = """() => {
  self.shown = [];
  const show = ServiceWorkerRegistration.prototype.showNotification;
  ServiceWorkerRegistration.prototype.showNotification = function (title, options) {
    self.shown.push({title, ...options});
    return show.call(this, title, options);
  };
}"""
_PRESSED = """async () => {
  const opened = new Promise((done) => {
    clients.openWindow = async (url) => done(url);
    WindowClient.prototype.focus = async function () { done("focused"); return this; };
  });
  const notification = {...self.shown.at(-1), close: () => undefined};
  self.dispatchEvent(Object.assign(new ExtendableEvent("notificationclick"), {notification}));
  return opened;
}"""


class Pushed:
    """The console's service worker, to which one pushes as the browser would."""

    def __init__(self, page: Page) -> None:
        self.page = page

    async def begin(self) -> Pushed:
        await self.page.evaluate("navigator.serviceWorker.ready.then(() => true)")
        workers = self.page.context.service_workers
        self.worker = workers[0] if workers else await self.page.context.wait_for_event("serviceworker")
        await self.worker.evaluate(_NOTES)
        self.session = await self.page.context.new_cdp_session(self.page)
        registrations = list[str]()
        self.session.on(
            "ServiceWorker.workerRegistrationUpdated",
            lambda event: registrations.extend(one["registrationId"] for one in event["registrations"]),
        )
        await self.session.send("ServiceWorker.enable")

        async def known() -> list[str]:
            return registrations

        self.registration = (await once(known, bool))[0]
        self.origin = self.page.url.split("/console")[0]
        return self

    async def push(self, notice: dict[str, Any]) -> dict[str, Any]:
        """What is shown of it."""
        before = await self.worker.evaluate("self.shown.length")
        told = {"origin": self.origin, "registrationId": self.registration, "data": json.dumps(notice)}
        await self.session.send("ServiceWorker.deliverPushMessage", told)

        async def shown() -> list[dict[str, Any]]:
            found: list[dict[str, Any]] = await self.worker.evaluate("self.shown")
            return found

        return (await once(shown, lambda it: len(it) > before))[-1]

    async def press(self) -> str:
        """Press what is shown; what it opens, or that it comes back to a window."""
        opened: str = await self.worker.evaluate(_PRESSED)
        return opened


async def test_one_says_what_one_is_told_of(browser: Browser, served: Served) -> None:
    mara = Person(served.url, unique("mara"))
    place = (await mara.make(title="Berth 4"))["id"]
    page = await paste(browser, served, mara.token)
    await page.get_by_role("navigation").get_by_role("link", name="Berth 4").click()
    await page.get_by_role("button", name="Notices").click()
    await expect(page.get_by_role("radio", name="What names me")).to_be_checked()
    await page.get_by_role("radio", name="Everything").click()
    await expect(page.get_by_role("radio", name="Everything")).to_be_checked()
    await page.get_by_role("button", name="Nothing until tomorrow morning").click()
    await expect(page.get_by_text("Nothing until")).to_contain_text("07:00")
    await check_accessible(page)
    shown = (await call(mara, "GET", f"/conversations/{place}", status=200)).json()
    assert shown["my_notify"] == "all"
    assert shown["my_notify_after"] is not None
    await page.get_by_role("button", name="From now on again").click()
    await expect(page.get_by_role("button", name="Nothing until tomorrow morning")).to_be_visible()
    await page.get_by_role("button", name="Close").click()
    shown = (await call(mara, "GET", f"/conversations/{place}", status=200)).json()
    assert shown["my_notify_after"] is None


async def test_this_browser_tells_when_asked_and_not_of_what_is_looked_at(
    browser: Browser, served: Served, pushes: PushService
) -> None:
    mara, odd = Person(served.url, unique("mara"), name="Mara"), Person(served.url, unique("odd"), name="Odd")
    here = (await mara.make(title="Berth 4", kind="bulletin", members=[odd.user]))["id"]
    there = (await mara.make(title="Tides", kind="bulletin", members=[odd.user]))["id"]
    device = pushes.device()
    page = await paste(browser, served, odd.token)
    await page.evaluate(_SUBSCRIBES, device.subscription(pushes.address))
    await page.get_by_role("navigation").get_by_role("link", name="Berth 4").click()
    await page.get_by_role("button", name="Notices").click()
    assert await page.evaluate("window.asks") == 0, "nobody is asked before they press for it"
    await page.get_by_role("button", name="Tell me in this browser").click()
    await expect(page.get_by_role("alert")).to_contain_text("not allowed to notify")
    assert await page.evaluate("[window.asks, window.asked === undefined]") == [1, True]
    await page.evaluate("window.allowed = true")
    await page.get_by_role("button", name="Tell me in this browser").click()
    await expect(page.get_by_role("button", name="Not in this browser any more")).to_be_visible()
    key = (await call(odd, "GET", "/push-key", status=200)).json()["key"]
    assert await page.evaluate("[asked.userVisibleOnly, asked.applicationServerKey]") == [True, key]
    await page.get_by_role("button", name="Close").click()
    await mara.post(here, "looked at")
    await mara.post(there, "not looked at")
    await told(device, lambda it: [one["conversation_id"] for one in it] == [there])
    await page.get_by_role("button", name="Notices").click()
    await page.get_by_role("button", name="Not in this browser any more").click()
    await expect(page.get_by_role("button", name="Tell me in this browser")).to_be_visible()
    assert (await call(odd, "GET", "/me/push-subscriptions", status=200)).json()["items"] == []
    # Signing out ends it too.
    await page.get_by_role("button", name="Tell me in this browser").click()
    await expect(page.get_by_role("button", name="Not in this browser any more")).to_be_visible()
    await page.get_by_role("button", name="Close").click()
    await page.get_by_role("button", name="sign out").click()
    await expect(page.get_by_label("Paste a token")).to_be_visible()
    assert (await call(odd, "GET", "/me/push-subscriptions", status=200)).json()["items"] == []


async def test_a_notice_leads_to_its_number_with_the_console_open_or_closed(browser: Browser, served: Served) -> None:
    mara, odd = Person(served.url, unique("mara"), name="Mara"), Person(served.url, unique("odd"))
    place = (await mara.make(title="Berth 4", members=[odd.user]))["id"]
    await mara.fill(place, 300)
    page = await paste(browser, served, odd.token)
    await page.context.grant_permissions(["notifications"], origin=served.url)
    notice = {"conversation_id": place, "seq": 120, "title": "Berth 4", "author": "Mara", "body": "m120", "unread": 3}
    pushed = await Pushed(page).begin()
    shown = await pushed.push(notice)
    assert (shown["title"], shown["body"], shown["tag"]) == ("Berth 4", "Mara: m120\n3 unread", place)
    assert await pushed.press() == "focused"
    await first_becomes(page, lambda seq: 100 < seq <= 120)
    shown = await pushed.push({**notice, "seq": 60, "title": None, "author": None, "unread": 1})
    assert shown["title"] == "A new message"
    await page.goto("about:blank")
    opened = await pushed.press()
    assert opened == f"/console/c/{place}?at=60"
    await page.goto(served.url + opened)
    await first_becomes(page, lambda seq: 40 < seq <= 60)
