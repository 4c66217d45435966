"""Invitations in the console: a link that is made once, and the page that it leads to."""

from __future__ import annotations

from playwright.async_api import Browser, expect

from tests.console.pages import check_accessible, paste
from tests.support import Person, Served, unique


async def test_a_link_is_made_and_whoever_has_it_joins(browser: Browser, service: Served) -> None:
    mara, odd = Person(service.url, unique("mara")), Person(service.url, unique("odd"))
    place = (await mara.make(title="Night watch"))["id"]
    page = await paste(browser, service, mara.token)
    await page.get_by_role("navigation").get_by_role("link", name="Night watch").click()
    await page.get_by_role("button", name="1 member").click()
    await page.get_by_role("button", name="Make an invitation link").click()
    link = await page.get_by_label("Invitation link").input_value()
    await check_accessible(page)

    guest = await paste(browser, service, odd.token)
    await guest.goto(link)
    await expect(guest.get_by_role("heading", name="Night watch")).to_be_visible()
    await expect(guest.get_by_role("main")).to_contain_text("group, 1 member; you will be a writer.")
    await check_accessible(guest)
    await guest.get_by_role("button", name="Join").click()
    await expect(guest.get_by_label("Message", exact=True)).to_be_visible()
    assert (await odd.http.get(f"/conversations/{place}")).json()["my_role"] == "writer"
    await guest.get_by_role("link", name="Wire").click()
    await expect(guest.get_by_text("/v1/invitations/…").first).to_be_visible()
    assert link.rpartition("/")[2] not in await guest.content()
    await guest.goto(link[:-4] + "AAAA")
    await expect(guest.get_by_role("alert")).to_contain_text("there is no such invitation")
