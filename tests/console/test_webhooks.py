"""The place of webhooks: one is made, what its receiver answers is seen, it is paused, and sent again."""

from __future__ import annotations

import pytest
from playwright.async_api import Browser, expect

from tests.console.pages import check_accessible, paste
from tests.receiver import TAKEN, receiver, status
from tests.support import Person, Served, token, unique


@pytest.fixture
def office() -> str:
    return token(unique("office"), scope="nestrel.service")


async def test_a_webhook_from_its_making_to_its_end(browser: Browser, own: Served, office: str) -> None:
    mara = Person(own.url, unique("mara"))
    place = (await mara.make(title="Berth 2"))["id"]
    page = await paste(browser, own, office)
    await page.get_by_role("navigation", name="Places").get_by_role("link", name="Webhooks").click()
    await expect(page.get_by_text("Nothing is sent anywhere")).to_be_visible()
    await page.get_by_label("Address").fill("https://10.0.0.1/")
    await page.get_by_role("button", name="Send there").click()
    await expect(page.get_by_role("alert")).to_contain_text("not on the public internet")
    async with receiver() as to:
        await page.get_by_label("Address").fill(to.url)
        await page.get_by_role("button", name="Send there").click()
        secret = await page.locator("code").inner_text()
        await page.get_by_role("button", name="I have it").click()
        await expect(page.locator("code")).to_have_count(0)
        await mara.post(place, "one")
        await to.has(lambda it: it.bodies(place) == ["one"])
        assert to.got[0].signed_by(secret)
        row = page.get_by_role("row").filter(has_text=to.url)
        await expect(row).to_contain_text("takes everything")
        await row.get_by_role("button", name="Answers").click()
        answers = page.get_by_role("table", name="What came of the last requests")
        await expect(answers.get_by_role("row").filter(has_text="204")).to_have_count(1)
        await check_accessible(page)

        to.answer = status(500)
        await mara.post(place, "two")
        await expect(row).to_contain_text("failed")
        await expect(answers.get_by_role("row").filter(has_text="answered 500").first).to_be_visible()
        await row.get_by_role("button", name="Pause").click()
        await expect(row).to_contain_text("paused")
        to.answer = TAKEN
        await row.get_by_role("button", name="Go on").click()
        await to.has(lambda it: it.bodies(place) == ["one", "two"])
        await page.get_by_label("Messages made since").fill("2026-01-01T00:00")
        await page.get_by_role("button", name="Send again").click()
        await to.has(lambda it: it.bodies(place) == ["one", "two", "one", "two"])
        await page.get_by_role("button", name="Take away").click()
        await page.get_by_role("button", name="Take it away for good").click()
        await expect(page.get_by_text("Nothing is sent anywhere")).to_be_visible()
