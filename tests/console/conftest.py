"""The demo, a browser, and windows of its members."""

from __future__ import annotations

import asyncio
import shutil
from collections.abc import AsyncIterator, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Literal

import pytest
from bench.browser import FLAGS
from playwright.async_api import Browser, Page, async_playwright, expect

from nestrel.demo import run, seed
from nestrel.files.folder import Folder
from nestrel.local.postgres import LocalPostgres, free_port
from nestrel.service.attachments import Attachments
from nestrel.service.settings import Settings
from nestrel.store.database import Database
from tests.conftest import TEMPLATE
from tests.console.pages import Window, new_page
from tests.support import PATIENCE, Served, unique

_SEEDED = "template_demo"

expect.set_options(timeout=PATIENCE * 1000)


@pytest.fixture(scope="session")
def seeded(postgres: LocalPostgres, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The folder of the demo's files; its rows are in a template, as filling a database takes a while."""
    folder = tmp_path_factory.mktemp("seeded")
    postgres.create_database(_SEEDED, TEMPLATE)

    async def fill() -> None:
        database = Database(postgres.url(_SEEDED))
        files = Attachments(database, Folder(folder))
        await seed.seed(database, files, datetime.now(UTC), 7, lambda _n: None)
        await files.stop()
        await database.close()

    asyncio.run(fill())
    return folder


@pytest.fixture(scope="module")
def demo(postgres: LocalPostgres, seeded: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    """The service with the demo's data and its issuer, as `nestrel demo` runs it."""
    name, folder = unique("demo").replace("-", "_"), tmp_path_factory.mktemp("files")
    postgres.create_database(name, _SEEDED)
    shutil.copytree(seeded, folder, dirs_exist_ok=True)
    port = free_port()  # the issuer hands codes to the console at this address alone
    settings = Settings(data_dir=tmp_path_factory.mktemp("demo"), port=port)
    with (
        run.issuer(settings, free_port()) as trusted,
        Served(
            postgres.url(name),
            port=port,
            NESTREL_FILES=str(folder),
            NESTREL_JWKS_URL=str(trusted.jwks_url),
            NESTREL_ISSUER=str(trusted.issuer),
            NESTREL_AUDIENCE=str(trusted.audience),
        ) as served,
    ):
        yield served.wait_ready()


@pytest.fixture(scope="session")
async def chromium() -> AsyncIterator[Browser]:
    async with async_playwright() as playwright:
        launched = await playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield launched
        await launched.close()


@pytest.fixture
async def browser(chromium: Browser) -> AsyncIterator[Browser]:
    """One browser for all tests; what a test opens in it is a profile of its own, and gone when the test is over."""
    yield chromium
    for context in chromium.contexts:
        await context.close()


@pytest.fixture
def window(browser: Browser, demo: Served) -> Window:
    """Opens a window with a profile of its own, signed in as a member of the demo."""

    async def open_(member: str, *, width: int = 1280, scheme: Literal["light", "dark"] = "light") -> Page:
        page = await new_page(browser, viewport={"width": width, "height": 800}, color_scheme=scheme)
        await page.goto(f"{demo.url}/console/")
        await page.get_by_role("button", name="Sign in").click()
        await page.get_by_role("link", name=member).click()
        await expect(page.get_by_role("status", name="line")).to_have_text("live")
        return page

    return open_
