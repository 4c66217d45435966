"""Pictures of the console and of commands, made from the demo's data: `script/screenshots`."""

from __future__ import annotations

import asyncio
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Awaitable, Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Literal

import httpx
from playwright.async_api import Page, async_playwright

from bench.browser import FLAGS
from bench.harness import ROOT
from nestrel.demo.pictures import Drawn
from nestrel.local.postgres import free_port

_DAY = datetime(2026, 11, 26, tzinfo=UTC)
OUT = ROOT / "docs" / "screenshots"
_COMMANDS = {
    "command-history": [
        "cd $(mktemp -d)",
        'nestrel post control-room "Fog on the sound, all vessels slow."',
        'echo "06:12 high, 4.1 m" > tides.txt',
        'nestrel post control-room --markdown "**High water** at *06:12*, see the list." --attach tides.txt',
        "nestrel history control-room -n 8",
        "N=$(nestrel history control-room -n 1 | awk 'NR == 1 {print $1}')",
        "nestrel attachments get control-room $N --into fetched.txt",
        "nestrel history control-room -n 1 --json",
    ],
    "command-changing": [
        'nestrel post control-room "Lost on the Tern: one red glove."',
        "N=$(nestrel history control-room -n 1 | awk '{print $1}')",
        'nestrel edit control-room $N "Lost on the Tern: one red mitten."',
        "nestrel like control-room $N --symbol 👀",
        "nestrel edits control-room $N",
        "nestrel read control-room",
        "nestrel readers control-room $((N - 5))",
        "nestrel history control-room -n 6",
    ],
    "command-resync": [
        "cd $(mktemp -d)",
        "nestrel resync --into mara.db",
        'nestrel post control-room "Bow visor of the Selkie is closed."',
        "nestrel like control-room 638",
        "nestrel resync --into mara.db",
        "nestrel resync --into mara.db --json",
        "timeout 3 nestrel resync --into mara.db --watch",
    ],
    "command-retention": [
        "nestrel retention show control-room",
        "nestrel retention preview control-room --keep-for P30D",
        "nestrel retention set control-room --keep-last 480 --yes",
        "nestrel retention run --token $(nestrel token office --service)",
        "nestrel archive list control-room",
        "nestrel archive verify control-room",
        "nestrel archive show control-room 1 | tail -3",
    ],
    "command-transfer": [
        "cd $(mktemp -d); nestrel token office --service > office.token",
        "nestrel export control-room --part all --into room.jsonl --files room",
        "nestrel export control-room --form csv | head -2",
        'nestrel conversations make copy --title "A copy" --token-file office.token | head -2',
        "nestrel import room.jsonl --to copy --files room --token-file office.token",
        "nestrel import room.jsonl --to copy --files room --token-file office.token",
        "nestrel history copy -n 3 --token-file office.token",
        "nestrel erase petra --preview --token-file office.token",
    ],
    "command-people": [
        "nestrel people",
        "nestrel people inés",
        'nestrel post control-room "Odd, the bus is at the bridge." --mention odd',
        "nestrel conversations list --token $(nestrel token odd) --limit 3",
        "nestrel said odd -n 6",
        """nestrel search '"berth 3" gang*' --author yusuf -n 3""",
    ],
    "command-order": [
        'nestrel kept-out add control-room kaz --for P7D --reason "Shouting on the working channel"',
        "nestrel kept-out list control-room",
        'nestrel reports make control-room 638 "Says where the keys are" --token $(nestrel token odd)',
        "nestrel reports list",
        "(timeout 20 nestrel follow control-room >/dev/null &)",
        "export NESTREL_TOKEN=$(nestrel token office --service)",
        "sleep 6; nestrel connections list",
        "nestrel usage --by hour --days 1",
        "nestrel audit -n 6",
    ],
    "command-doctor": [
        "nestrel doctor",
        "export NESTREL_TOKEN=$(nestrel token office --service)",
        "nestrel webhooks make http://127.0.0.1:9/in --only control-room",
        'nestrel post control-room "Swell at Norwick, the ramp is closed until noon."',
        "sleep 4; nestrel webhooks list",
        "nestrel webhooks show $(nestrel webhooks list --json | tail -1 | cut -d'\"' -f4)",
        "nestrel webhooks change $(nestrel webhooks list --json | tail -1 | cut -d'\"' -f4) --state paused",
        "NESTREL_TOKEN=$(nestrel token odd) nestrel notices set control-room all",
        "timeout 6 nestrel follow --all & sleep 3; nestrel post norwick-terminal 'Gangway is open again.'; sleep 3",
    ],
}


@contextmanager
def demo(folder: str) -> Iterator[str]:
    """The demo on ports of its own; yields its address."""
    port = free_port()
    env = {**os.environ, "NESTREL_DATA_DIR": folder}
    command = [sys.executable, "-m", "nestrel.cli", "demo", "--port", str(port), "--issuer-port", str(free_port())]
    with tempfile.TemporaryFile() as log:
        process = subprocess.Popen(command, env=env, stdout=log, stderr=log)
        address = f"http://127.0.0.1:{port}"
        try:
            for _ in range(600):
                try:
                    if httpx.get(f"{address}/readyz").status_code == 200:
                        break
                except httpx.HTTPError:
                    time.sleep(0.1)
            yield address
        finally:
            process.terminate()
            process.wait(30)


async def _console(address: str) -> None:
    async with async_playwright() as playwright:
        browser = await playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)

        async def window(member: str, scheme: Literal["light", "dark"], width: int = 1280) -> Page:
            context = await browser.new_context(viewport={"width": width, "height": 800}, color_scheme=scheme)
            page = await context.new_page()
            await page.goto(f"{address}/console/")
            await page.get_by_role("button", name="Sign in").click()
            link = page.get_by_role("link", name=member)
            await link.wait_for()
            await link.click()
            await page.get_by_text("live", exact=True).wait_for()
            return page

        async def choose(page: Page, title: str) -> None:
            await page.get_by_role("navigation").get_by_role("link", name=title).click()
            await page.get_by_role("main").get_by_role("heading", name=title).wait_for()
            await page.locator("article").first.wait_for()
            await page.wait_for_timeout(600)

        mara = await window("Mara Quill", "light")
        odd = await window("Odd Haverland", "dark")
        await choose(mara, "Control room")
        await choose(odd, "Control room")
        await mara.get_by_label("Message", exact=True).press_sequentially("@o")
        await mara.get_by_role("option").first.wait_for()
        await mara.keyboard.press("Enter")
        await mara.keyboard.type("can you hold the 14:20 for the bus?")
        await mara.keyboard.press("Enter")
        await odd.get_by_text("hold the 14:20").last.wait_for()
        await odd.get_by_label("Message", exact=True).fill("Holding. Ten minutes, no more.")
        await odd.keyboard.press("Enter")
        await mara.get_by_text("Ten minutes").last.wait_for()
        await mara.screenshot(path=OUT / "console-conversation-light.png")
        await odd.get_by_role("button", name="Notices").click()
        await odd.get_by_role("button", name="Nothing until tomorrow morning").click()
        await odd.get_by_text("Nothing until").wait_for()
        await odd.mouse.move(0, 0)
        await odd.wait_for_timeout(300)
        await odd.screenshot(path=OUT / "console-notices.png")
        await odd.get_by_role("button", name="Close").click()
        row = mara.locator("article", has_text="hold the 14:20").last
        await row.focus()
        await mara.keyboard.press("e")
        await mara.keyboard.press("ControlOrMeta+A")
        await mara.keyboard.type("@Odd Haverland can you hold the 14:20 for the bus? It is at the bridge.")
        await mara.keyboard.press("Enter")
        last = odd.locator("article", has_text="at the bridge").last
        await last.wait_for()
        await last.focus()
        await odd.keyboard.press("l")
        await row.get_by_text("at the bridge").wait_for()
        await mara.get_by_role("button", name="6 members").click()
        await mara.get_by_label("People to add").press_sequentially("p")
        await mara.get_by_role("listbox", name="People").get_by_role("option").first.wait_for()
        await mara.wait_for_timeout(600)
        await mara.screenshot(path=OUT / "console-members.png")
        await mara.keyboard.press("Escape")  # the list of people
        await mara.keyboard.press("Escape")
        await _files(await window("Noor Haddad", "light"), choose)
        await _search(mara)
        await _beside(mara)
        await _retention(mara)
        await _settings(mara)
        office = await window("Skerry Line operations", "light")
        await _webhooks(office)
        await _usage(office)
        await browser.close()


async def _files(page: Page, choose: Callable[[Page, str], Awaitable[None]]) -> None:
    """Pictures in the ledger, and a message in Markdown, with files, before it is sent."""
    await choose(page, "Tides and swell")
    await page.get_by_role("button", name="Markdown").click()
    box = page.get_by_label("Message", exact=True)
    await box.press_sequentially("**Springs** this week, see [the tables](https://tides.skerry.example):")
    for line in ("", "- Norwick: ramp 2 from ~~06:10~~ 06:25"):
        await page.keyboard.press("Shift+Enter")
        await box.press_sequentially(line)
    await page.keyboard.press("Shift+Enter")
    await box.press_sequentially("Holm Bay: no change")
    for name, content in (("swell.csv", b"day,metres\n"), ("norwick ramp.png", Drawn("berths", 3, _DAY).content())):
        file = {"name": name, "mimeType": "application/octet-stream", "buffer": content}
        await page.locator("input[type=file]").set_input_files(file)  # type: ignore[arg-type]  # as its own type has it
    await page.get_by_role("button", name="Preview").click()
    await page.get_by_role("region", name="Ledger").hover()
    shown = "[...document.querySelectorAll('article img')].filter((one) => one.naturalWidth).length >= 2"
    while not await page.evaluate(shown):  # the page's policy lets nothing be looked for in it again and again
        await page.wait_for_timeout(50)
    await page.wait_for_timeout(900)
    await page.screenshot(path=OUT / "console-files.png")


async def _search(page: Page) -> None:
    """Hits for a phrase, and what was said around one of them."""
    await page.get_by_role("link", name="Search").click()
    await page.get_by_label("Search messages").fill('"berth 3" gang*')
    await page.locator("[data-hit]").first.wait_for()
    for _ in range(2):
        await page.keyboard.press("ArrowDown")
    await page.wait_for_timeout(900)
    await page.screenshot(path=OUT / "console-search.png")


async def _beside(page: Page) -> None:
    """Two seats: one line cut, then restored; and what passed on the wire."""
    await page.keyboard.press("Escape")
    await page.get_by_role("link", name="Side by side").click()
    async with page.expect_popup() as opened:
        await page.get_by_role("button", name="Sign in a second member").click()
    await (await opened.value).get_by_role("link", name="Odd Haverland").click()
    line = page.get_by_role("status", name="right line")
    await line.filter(has_text="live").wait_for()
    await page.get_by_label("on").select_option(label="Control room")
    await page.locator("li[data-seq]").first.wait_for()
    switch = page.get_by_role("switch", name="line of Odd Haverland")
    await switch.click()
    for body in ("Tern is at berth 2.", "Ramp down at 14:05."):
        await page.get_by_label("Message as Mara Quill").fill(body)
        await page.keyboard.press("Enter")
    await page.get_by_label("Message as Odd Haverland").fill("Written while my line is cut.")
    await page.keyboard.press("Enter")
    await page.wait_for_timeout(600)
    await page.screenshot(path=OUT / "console-side-by-side-cut.png")
    await switch.click()
    await line.filter(has_text="live").wait_for()
    await page.wait_for_timeout(600)
    await page.get_by_role("link", name="Wire").click()
    await page.get_by_role("button", name="200 /v1/resync").first.click()
    await page.wait_for_timeout(300)
    await page.screenshot(path=OUT / "console-wire.png")


async def _retention(page: Page) -> None:
    """A rule as it is typed, with what it would take."""
    await page.get_by_role("link", name="Retention").click()
    await page.get_by_role("combobox").select_option(label="Control room")
    await page.get_by_label("Newest messages").fill("300")
    await page.get_by_role("region", name="Preview").get_by_role("listitem").last.wait_for()
    await page.wait_for_timeout(600)
    await page.screenshot(path=OUT / "console-retention.png")


async def _settings(page: Page) -> None:
    """All that can be set about one conversation."""
    await page.get_by_role("link", name="Conversations").click()
    await page.get_by_role("navigation", name="Conversations").get_by_role("link", name="Control room").click()
    await page.get_by_role("link", name="Settings").click()
    await page.get_by_role("button", name="Make an invitation link").click()
    await page.get_by_label("Invitation link").wait_for()
    await page.get_by_label("People to keep out").fill("Kaz")
    await page.get_by_role("option", name="Kaz Morita").click()
    await page.get_by_label("Why").fill("Shouting on the working channel")
    await page.get_by_role("button", name="Keep out").click()
    await page.get_by_role("button", name="Let in").wait_for()
    await page.wait_for_timeout(600)
    await page.screenshot(path=OUT / "console-settings.png")


async def _webhooks(page: Page) -> None:
    """One that takes everything, one whose receiver is away, and what came of its requests."""
    await page.get_by_role("link", name="Webhooks").click()
    await page.get_by_label("Address").fill("http://127.0.0.1:9/in")
    await page.get_by_role("button", name="Send there").click()
    await page.get_by_role("button", name="I have it").click()
    # Something has to be said that is sent nowhere.
    row = page.get_by_role("row").filter(has_text=":9/in")
    await row.get_by_role("button", name="Answers").click()
    await page.get_by_role("link", name="Conversations", exact=True).click()
    await page.get_by_role("button", name="Open ones").click()
    await page.get_by_role("listitem").filter(has_text="Norwick terminal").get_by_role("button").click()
    await page.get_by_role("button", name="Join").click()
    await page.get_by_label("Message", exact=True).fill("The board shows the berths from now on.")
    await page.keyboard.press("Enter")
    await page.get_by_role("link", name="Webhooks").click()
    await row.get_by_role("button", name="Answers").click()
    await page.get_by_role("table", name="What came of the last requests").get_by_role("row").nth(4).wait_for()
    await page.wait_for_timeout(600)
    await page.screenshot(path=OUT / "console-webhooks.png")


async def _usage(page: Page) -> None:
    """What was used while the other pictures were taken."""
    await page.wait_for_timeout(6_000)
    await page.get_by_role("link", name="Usage").click()
    await page.get_by_role("table").wait_for()
    await page.wait_for_timeout(900)
    await page.screenshot(path=OUT / "console-usage.png")


def _terminal(name: str, commands: list[str], env: dict[str, str]) -> None:
    """Run commands in a terminal window on a screen of its own, and take its picture."""
    display = f":{90 + os.getpid() % 900}"
    screen = subprocess.Popen(["Xvfb", display, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    try:
        lines = "\n".join(f"printf '\\033[1;32m$\\033[0m %s\\n' {_quoted(one)}; {one}; echo" for one in commands)
        with tempfile.NamedTemporaryFile("w", suffix=".sh") as script:
            script.write(f"{lines}\ntouch {script.name}.done\nexec sleep 60\n")
            script.flush()
            time.sleep(1)
            terminal = subprocess.Popen(
                ["xterm", "-fa", "DejaVu Sans Mono", "-fs", "11", "-geometry", "138x44+0+0", "-bg", "#0b1420",
                 "-fg", "#d7e1ec", "-e", "bash", script.name],
                env={**env, "DISPLAY": display},
            )  # fmt: skip
            try:
                for _ in range(300):
                    if Path(f"{script.name}.done").exists():
                        break
                    time.sleep(0.1)
                time.sleep(0.5)
                target = str(OUT / f"{name}.png")
                subprocess.run(["import", "-window", "root", target], env={**env, "DISPLAY": display}, check=True)
            finally:
                terminal.terminate()
                terminal.wait(10)
                Path(f"{script.name}.done").unlink(missing_ok=True)
    finally:
        screen.terminate()
        screen.wait(10)


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "'\\''") + "'"


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix="nestrel-pictures-", ignore_cleanup_errors=True) as folder:
        os.chmod(folder, 0o755)
        with demo(folder) as address:
            asyncio.run(_console(address))
            bin_ = str(Path(sys.executable).parent)
            env = {**os.environ, "PATH": f"{bin_}:{os.environ['PATH']}", "NESTREL_DATA_DIR": folder,
                   "NESTREL_URL": address, "LANG": "C.UTF-8"}  # fmt: skip
            made = subprocess.run(["nestrel", "token", "mara"], env=env, capture_output=True, text=True, check=True)
            for name, commands in _COMMANDS.items():
                _terminal(name, commands, {**env, "NESTREL_TOKEN": made.stdout.strip()})


if __name__ == "__main__":
    main()
