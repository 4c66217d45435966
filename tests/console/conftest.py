"""The demo, a browser, and windows of its members."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Iterator
from datetime import UTC, datetime
from typing import Literal

import pytest
from bench.browser import FLAGS
from playwright.async_api import Browser, Page, async_playwright, expect

from nestrel.demo import run, seed
from nestrel.files.folder import Folder
from nestrel.local.postgres import free_port
from nestrel.service.attachments import Attachments
from nestrel.service.settings import Settings
from nestrel.store.database import Database
from tests.console.pages import Window
from tests.support import PATIENCE, Served

expect.set_options(timeout=PATIENCE * 1000)


@pytest.fixture(scope="module")
def demo(make_database: Callable[[], str], tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    """The service with the demo's data and its issuer, as `nestrel demo` runs it."""
    url, folder = make_database(), tmp_path_factory.mktemp("files")

    async def fill() -> None:
        database = Database(url)
        files = Attachments(database, Folder(folder))
        await seed.seed(database, files, datetime.now(UTC), 7, lambda _n: None)
        await files.stop()
        await database.close()

    asyncio.run(fill())
    port = free_port()  # the issuer hands codes to the console at this address alone
    settings = Settings(data_dir=tmp_path_factory.mktemp("demo"), port=port)
    with (
        run.issuer(settings, free_port()) as trusted,
        Served(
            url,
            port=port,
            NESTREL_FILES=str(folder),
            NESTREL_JWKS_URL=str(trusted.jwks_url),
            NESTREL_ISSUER=str(trusted.issuer),
            NESTREL_AUDIENCE=str(trusted.audience),
        ) as served,
    ):
        yield served.wait_ready()


@pytest.fixture
async def browser() -> AsyncIterator[Browser]:
    async with async_playwright() as playwright:
        launched = await playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield launched
        await launched.close()


@pytest.fixture
def window(browser: Browser, demo: Served) -> Window:
    """Opens a window with a profile of its own, signed in as a member of the demo."""

    async def open_(member: str, *, width: int = 1280, scheme: Literal["light", "dark"] = "light") -> Page:
        context = await browser.new_context(viewport={"width": width, "height": 800}, color_scheme=scheme)
        context.set_default_timeout(PATIENCE * 1000)
        page = await context.new_page()
        await page.goto(f"{demo.url}/console/")
        await page.get_by_role("button", name="Sign in").click()
        await page.get_by_role("link", name=member).click()
        await expect(page.get_by_role("status", name="line")).to_have_text("live")
        return page

    return open_
