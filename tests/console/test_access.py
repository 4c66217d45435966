"""Who sees the console, and in what light and width: no axe violation anywhere."""

from __future__ import annotations

import pytest
from playwright.async_api import Browser, expect

from tests.console.pages import Window, beside, check_accessible, choose, new_page
from tests.support import SECRET, Person, Served, token, unique


@pytest.mark.parametrize(
    ("scheme", "width"),
    [
        ("light", 1280),
        pytest.param("dark", 1280, marks=pytest.mark.whole),
        pytest.param("light", 360, marks=pytest.mark.whole),
    ],
)
async def test_there_is_no_axe_violation_and_nothing_wider_than_the_window(
    window: Window, scheme: str, width: int
) -> None:
    page = await window("Mara Quill", width=width, scheme=scheme)
    await choose(page, "Control room")
    await check_accessible(page)
    await beside(page, "Odd Haverland")
    await expect(page.locator("li[data-seq]").first).to_be_visible()
    await check_accessible(page)
    await page.get_by_role("link", name="Wire").click()
    await page.get_by_role("button", name="200 /v1/resync").first.click()
    await check_accessible(page)


async def test_with_a_shared_secret_a_token_is_pasted(browser: Browser, service: Served) -> None:
    user = unique("tam")
    await Person(service.url, user).make(title="Engine room")
    page = await new_page(browser)
    await page.goto(f"{service.url}/console/")
    await page.get_by_label("Paste a token").fill("nonsense")
    await page.get_by_role("button", name="Use this token").click()
    await expect(page.get_by_role("alert")).to_contain_text("nestrel token USER")
    await page.get_by_label("Paste a token").fill(token(user, secret=SECRET))
    await page.get_by_role("button", name="Use this token").click()
    await expect(page.get_by_role("status", name="line")).to_have_text("live")
    await expect(page.get_by_role("navigation").get_by_role("link", name="Engine room")).to_be_visible()
    assert "eyJ" not in page.url
