"""Keeping order in the console: settings, reports, a person's card; and what a backend watches."""

from __future__ import annotations

import httpx
import pytest
from playwright.async_api import Browser, Page, expect

from tests.console.pages import Window, check_accessible, paste
from tests.support import SECRET, Person, Served, token, unique


def listening(page: Page) -> list[str]:
    """What the page's policy refuses, and what goes wrong in it."""
    found: list[str] = []
    page.on("console", lambda said: found.append(said.text) if "Content Security Policy" in said.text else None)
    page.on("pageerror", lambda error: found.append(str(error)))
    return found


async def test_settings_are_in_one_place_and_hold(browser: Browser, service: Served) -> None:
    mara, odd, ines = (Person(service.url, unique(name)) for name in ("mara", "odd", "ines"))
    place = (await mara.make(title="Night watch", members=[odd.user, ines.user]))["id"]
    await mara.post(place, "aboard")
    await ines.http.patch("/me", json={"display_name": "Inés of the watch"})
    page = await paste(browser, service, mara.token)
    faults = listening(page)
    await page.goto(f"{service.url}/console/c/{place}")
    await page.get_by_role("link", name="Settings").click()
    await page.get_by_label("Title").fill("Day watch")
    await page.get_by_label("Slowing down").select_option("60")
    await page.get_by_role("button", name="Save").click()
    await expect(page.get_by_role("heading", name="Settings of Day watch")).to_be_visible()
    await page.get_by_label("People to keep out").fill("Inés")
    await page.get_by_role("option", name="Inés of the watch").click()
    await page.get_by_label("Why").fill("shouting")
    await page.get_by_role("button", name="Keep out").click()
    await expect(page.get_by_role("button", name="Let in")).to_be_visible()
    await check_accessible(page)
    assert (await ines.http.get(f"/conversations/{place}")).status_code == 404
    shown = (await odd.http.get(f"/conversations/{place}")).json()
    assert (shown["title"], shown["post_interval"]) == ("Day watch", 60)
    await page.get_by_role("button", name="Let in").click()
    await expect(page.get_by_text("Nobody is kept out.")).to_be_visible()
    await page.get_by_role("button", name="Close for good…").click()
    await page.get_by_role("button", name="Close it for good").click()
    await expect(page.get_by_text("You are in no conversation yet.")).to_be_visible()
    assert (await mara.http.get(f"/conversations/{place}")).status_code == 404
    assert faults == []


async def test_a_message_is_reported_and_settled_and_its_author_blocked(browser: Browser, service: Served) -> None:
    mara, odd, ines = (Person(service.url, unique(name)) for name in ("mara", "odd", "ines"))
    place = (await mara.make(title="Pier", members=[odd.user, ines.user]))["id"]
    await odd.post(place, "the tide table is a lie")
    page = await paste(browser, service, ines.token)
    faults = listening(page)
    await page.goto(f"{service.url}/console/c/{place}")
    await page.locator("article").first.hover()
    await page.get_by_role("button", name="Report message 1").click()
    await page.get_by_label("Why message 1 is reported").fill("it is not")
    await page.get_by_role("button", name="Report", exact=True).click()
    await expect(page.get_by_text("Reported to the moderators.")).to_be_visible()
    await page.get_by_role("button", name=odd.user).click()
    await page.get_by_role("button", name="Block").click()
    await expect(page.get_by_role("button", name="Unblock")).to_be_visible()
    await check_accessible(page)
    await expect(page.get_by_text("neither of you writes to the other")).to_be_visible()
    await expect(page.get_by_role("button", name="Write to them")).to_be_disabled()
    await page.get_by_role("button", name="Unblock").click()
    await page.get_by_role("button", name="Block", exact=True).click()
    await page.keyboard.press("Escape")
    judge = await paste(browser, service, mara.token)
    await judge.get_by_role("link", name="Reports").click()
    await expect(judge.get_by_text("it is not")).to_be_visible()
    await expect(judge.get_by_text("the tide table is a lie")).to_be_visible()
    await check_accessible(judge)
    await judge.get_by_role("button", name="Settle").click()
    await expect(judge.get_by_text("Nothing is reported where you judge.")).to_be_visible()
    assert (await mara.http.get("/reports?state=done")).json()["items"][0]["settled_by"] == mara.user
    assert faults == []


async def test_a_backend_watches_usage_connections_and_the_audit(browser: Browser, own: Served) -> None:
    mara = Person(own.url, "mara")
    place = (await mara.make(members=["odd"]))["id"]
    await mara.post(place, "aboard")
    await mara.http.put(f"/conversations/{place}/kept-out/odd", json={"reason": "fog"})
    plain = await paste(browser, own, mara.token)
    await expect(plain.get_by_role("link", name="Usage")).to_have_count(0)
    page = await paste(browser, own, token("office", secret=SECRET, scope="nestrel.service"))
    faults = listening(page)
    await page.get_by_role("link", name="Usage").click()
    await expect(page.get_by_role("cell", name="1", exact=True).first).to_be_visible()
    await check_accessible(page)
    async with page.expect_download() as saved:
        await page.get_by_role("button", name="Save as CSV").click()
    assert (await (await saved.value).path()).read_text().startswith("at,id,posts")
    await page.get_by_role("link", name="Audit").click()
    await expect(page.get_by_role("cell", name="kept out")).to_be_visible()
    await expect(page.get_by_text("fog")).to_be_visible()
    await check_accessible(page)
    await page.get_by_role("link", name="Connections").click()
    await page.get_by_role("button", name="End the connection of mara").click()
    await expect(plain.get_by_role("status", name="line")).not_to_have_text("live")
    await check_accessible(page)
    assert faults == []


@pytest.mark.whole
async def test_the_new_places_fit_a_narrow_window_in_the_dark(window: Window) -> None:
    page = await window("Mara Quill", width=360, scheme="dark")
    await page.get_by_role("navigation", name="Conversations").get_by_role("link", name="Control room").click()
    await page.get_by_role("link", name="Settings").click()
    await expect(page.get_by_role("heading", name="Kept out")).to_be_visible()
    await check_accessible(page)
    await page.get_by_role("link", name="Reports").click()
    await check_accessible(page)


async def test_the_policy_of_the_page_has_no_unsafe_in_it(service: Served) -> None:
    pages = [httpx.get(f"{service.url}/console/{path}") for path in ("", "c/x", "index.html")]
    policies = [page.headers["content-security-policy"] for page in pages]
    assert all("unsafe" not in policy for policy in policies)
    nonces = [policy.partition("'nonce-")[2].partition("'")[0] for policy in policies]
    assert len(set(nonces)) == 3
    assert all(nonce in page.text for nonce, page in zip(nonces, pages, strict=True))
    script = httpx.get(f"{service.url}/console/theme.js")
    assert "unsafe" not in script.headers["content-security-policy"]


async def test_text_that_means_harm_stays_in_its_own_row(browser: Browser, service: Served) -> None:
    mara = Person(service.url, unique("mara"))
    place = (await mara.make(title="Pier"))["id"]
    for body in ("a" + "\u0301" * 7_999, "\u202egnp.exe\u2066", "<img src=x onerror=alert(1)>", "mаra with another a"):
        await mara.post(place, body)
    page = await paste(browser, service, mara.token)
    faults = listening(page)
    await page.goto(f"{service.url}/console/c/{place}")
    rows = page.locator("article")
    await expect(rows).to_have_count(4)
    boxes = [await rows.nth(n).bounding_box() for n in range(4)]
    assert all(box is not None and box["height"] < 60 for box in boxes)
    drawn = (
        "e => [getComputedStyle(e).overflowY, getComputedStyle(e.querySelector('.whitespace-pre-wrap')).unicodeBidi]"
    )
    assert await rows.nth(1).evaluate(drawn) == ["clip", "isolate"]
    assert await page.locator("img[src=x]").count() == 0
    await check_accessible(page)
    assert faults == []
