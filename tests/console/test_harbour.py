"""`examples/harbour`, an application beside Nestrel: its orders, its page, its copy, its keys, and who leaves it."""

from __future__ import annotations

import asyncio
import json
import os
import secrets
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from uuid import uuid4

import asyncpg
import httpx
import jwt
import pytest
from playwright.async_api import Browser, expect
from sqlalchemy.engine import make_url
from websockets.asyncio.client import connect
from websockets.exceptions import ConnectionClosed

from nestrel.local.postgres import free_port
from tests.console.pages import new_page
from tests.support import PATIENCE, Served, once, program, traces, until

pytestmark = pytest.mark.whole

_EXAMPLE = Path(__file__).resolve().parents[2] / "examples" / "harbour"


@dataclass
class Harbour:
    """The application as a process, beside a service on the same database."""

    url: str
    served: Served
    secrets: Path
    database_url: str

    async def ask(self, method: str, path: str, body: Any = None, token: str = "", status: int = 200) -> Any:
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        async with httpx.AsyncClient(base_url=self.url, timeout=PATIENCE, headers=headers) as http:
            answer = await http.request(method, path, json=body)
        assert answer.status_code == status, (path, answer.text)
        return answer.json() if answer.content else None

    async def person(self, login: str) -> tuple[str, str]:
        """Somebody who has joined: the id and a token."""
        await self.ask("POST", f"/people/{login}", {"name": login.title(), "password": "tide"}, status=201)
        found = await self.ask("POST", "/sign-in", {"login": login, "password": "tide"})
        return found["id"], found["token"]

    def office(self) -> str:
        now = int(time.time())
        claims = {"sub": "office", "scope": "nestrel.service", "iss": self.url, "aud": "harbour", "iat": now}
        return jwt.encode({**claims, "exp": now + 600}, self.secrets.read_text().split()[0], "HS256")

    def nestrel(self, token: str) -> httpx.AsyncClient:
        headers = {"Authorization": f"Bearer {token}"}
        return httpx.AsyncClient(base_url=self.served.url + "/v1", headers=headers, timeout=PATIENCE)

    async def rows(self, sql: str) -> list[tuple[Any, ...]]:
        database = await asyncpg.connect(make_url(self.database_url).render_as_string(hide_password=False))
        try:
            return [tuple(row) for row in await database.fetch(sql)]
        finally:
            await database.close()

    async def copy_is_equal(self) -> None:
        """Wait until every row of the copy is as the service has it."""

        async def differ() -> tuple[list[Any], list[Any]]:
            theirs = await self.rows(
                "SELECT conversation_id, seq, greatest(m.rev, (SELECT max(rev) FROM nestrel.reaction_counts r "
                "WHERE r.conversation_id = m.conversation_id AND r.seq = m.seq)), author_id, body, "
                "removed_at IS NOT NULL FROM nestrel.messages m "
                "JOIN nestrel.conversations c ON c.id = conversation_id WHERE seq >= floor AND closed_at IS NULL"
            ) + await self.rows(
                "SELECT conversation_id, user_id, m.rev, read_seq FROM nestrel.members m JOIN nestrel.conversations c "
                "ON c.id = conversation_id WHERE left_at IS NULL AND closed_at IS NULL AND head > 0"
            )
            ours = await self.rows("SELECT * FROM harbour.messages") + await self.rows(
                "SELECT conversation, person, rev, read_seq FROM harbour.members WHERE present"
            )
            return sorted(set(theirs) - set(ours), key=str), sorted(set(ours) - set(theirs), key=str)

        await once(differ, lambda found: found == ([], []))


@pytest.fixture(scope="module")
def harbour(make_database: Callable[[], str], tmp_path_factory: pytest.TempPathFactory) -> Iterator[Harbour]:
    folder, database_url = tmp_path_factory.mktemp("harbour"), make_database()
    own, kept = f"http://127.0.0.1:{free_port()}", folder / "secrets"
    kept.write_text(secrets.token_urlsafe(48))
    env: dict[str, Any] = {
        "NESTREL_JWT_SECRET_FILE": str(kept), "NESTREL_JWKS_URL": f"{own}/keys", "NESTREL_ISSUER": own,
        "NESTREL_AUDIENCE": "harbour", "NESTREL_ORIGINS": own, "NESTREL_WEBHOOK_HOSTS": "127.0.0.1/32",
    }  # fmt: skip
    with Served(database_url, **env) as served:
        address = make_url(database_url).render_as_string(hide_password=False)
        command = [sys.executable, "-m", "uvicorn", "app:app", "--port", own.rpartition(":")[2], "--log-level", "error"]
        process = subprocess.Popen(
            [*command, "--app-dir", str(_EXAMPLE)],
            env={**os.environ, **env, "HARBOUR_DATABASE_URL": address, "HARBOUR_URL": own, "NESTREL_URL": served.url},
        )
        try:
            until(lambda: answers(own + "/keys"))
            served.wait_ready()
            yield Harbour(own, served, kept, database_url)
        finally:
            process.terminate()
            process.wait(PATIENCE)


async def first_order(http: httpx.AsyncClient) -> dict[str, Any]:
    """The conversation of somebody's order, once it is there with its message."""

    async def there() -> list[dict[str, Any]]:
        return list((await http.get("/conversations")).json()["items"])

    [order] = await once(there, lambda found: bool(found) and found[0]["head"] == 1)
    return order


def answers(url: str) -> bool:
    try:
        return httpx.get(url, timeout=5).status_code == 200
    except httpx.HTTPError:
        return False


async def test_an_order_while_the_service_is_stopped_and_one_that_is_rolled_back(harbour: Harbour) -> None:
    harbour.served.stop()
    _, mara = await harbour.person("mara")
    _, odd = await harbour.person("odd")
    name = (await harbour.ask("POST", "/orders/4/2026-12-05", {"vessel": "MV Corran"}, mara, 201))["conversation"]
    await harbour.ask("POST", "/orders/4/2026-12-05", {"vessel": "MV Sound"}, odd, 409)
    harbour.served.restart().wait_ready()
    async with harbour.nestrel(mara) as of_mara, harbour.nestrel(odd) as of_odd:
        order = await first_order(of_mara)
        assert (order["name"], order["title"]) == (name, "MV Corran, 2026-12-05")
        assert order["last_message"]["body"] == "MV Corran has ordered berth 4."
        assert (await of_odd.get("/conversations")).json()["items"] == []
        people = (await of_mara.get(f"/conversations/{order['id']}/members")).json()["profiles"]
        assert "Mara" in [one["display_name"] for one in people.values()]
    [(waiting,)] = await harbour.rows("SELECT count(*) FROM nestrel.acts_waiting")
    assert waiting == 0
    assert await harbour.rows("SELECT * FROM nestrel.refused") == []


async def test_a_page_of_another_origin_reads_sends_amends_and_hears(harbour: Harbour, browser: Browser) -> None:
    _, ines = await harbour.person("ines")
    await harbour.ask("POST", "/orders/7/2026-12-06", {"vessel": "MV Sunniva"}, ines, 201)
    async with harbour.nestrel(ines) as http:
        order = await first_order(http)
        page = await new_page(browser)
        await page.goto(harbour.url)
        await page.fill("[name=login]", "ines")
        await page.fill("[name=password]", "tide")
        await page.click("text=Sign in")
        await page.click("text=MV Sunniva, 2026-12-06")
        await expect(page.locator("#messages")).to_contain_text("MV Sunniva has ordered berth 7.")
        await expect(page.locator("#state")).to_have_text("live")
        file = {"name": "plan.txt", "mimeType": "text/plain", "buffer": b"stern lines first"}
        await page.set_input_files("[name=file]", file)  # type: ignore[arg-type]  # a dictionary of this form is one
        await page.fill("[name=body]", "Plan attached")
        await page.click("text=Send")
        await page.click("text=Amend")
        await expect(page.locator("#messages")).to_contain_text("Plan attached (amended)")
        await page.click("text=plan.txt")
        await expect(page.locator("#state")).to_have_text("stern lines first")
        said = await http.post(f"/conversations/{order['id']}/messages", json={"body": "Linesmen are there"})
        assert said.status_code == 201
        await expect(page.locator("#messages")).to_contain_text("Linesmen are there")
        await page.close()


async def test_the_copy_is_equal_also_after_a_restore_from_a_dump(harbour: Harbour) -> None:
    tokens = [(await harbour.person(f"pilot{n}"))[1] for n in range(3)]
    for n, token in enumerate(tokens):
        await harbour.ask("POST", f"/orders/{n}/2026-12-07", {"vessel": f"MV {n}"}, token, 201)
    await harbour.ask("POST", "/webhook", status=201)
    places = []
    for token in tokens:
        async with harbour.nestrel(token) as http:
            order = await first_order(http)
            places.append(order["id"])
            messages = [{"key": uuid4().hex, "body": f"depth {n}"} for n in range(120)]
            answer = await http.post(f"/conversations/{order['id']}/messages/batch", json={"messages": messages})
            assert answer.status_code == 200, answer.text
    await harbour.copy_is_equal()
    assert (await harbour.ask("GET", "/badge", token=tokens[0]))["unread"] == 1
    saved = program(harbour.database_url, "pg_dump", "--schema=nestrel")
    for token, place in zip(tokens[:2], places[:2], strict=True):  # these are lost with the restore
        async with harbour.nestrel(token) as http:
            await http.post(f"/conversations/{place}/messages", json={"body": "after the dump"})
            await http.delete(f"/conversations/{place}/messages/5")
    await harbour.copy_is_equal()
    harbour.served.stop()
    program(harbour.database_url, "psql", "-q", "-v", "ON_ERROR_STOP=1", said="DROP SCHEMA nestrel CASCADE;\n" + saved)
    harbour.served.restart().wait_ready()
    await harbour.copy_is_equal()  # also where nobody writes any more
    async with harbour.nestrel(tokens[0]) as http:
        assert (await http.post(f"/conversations/{places[0]}/messages", json={"body": "again"})).status_code == 201
    await harbour.copy_is_equal()
    assert "after the dump" not in str(await harbour.rows("SELECT body FROM harbour.messages"))


async def test_keys_and_secrets_change_under_load_and_nobody_is_signed_out(harbour: Harbour) -> None:
    people = [await harbour.person(f"crew{n}") for n in range(3)]
    for n, (_, token) in enumerate(people):
        await harbour.ask("POST", f"/orders/{n}/2026-12-08", {"vessel": "MV Corran"}, token, 201)
    over, done = asyncio.Event(), dict.fromkeys((*(id_ for id_, _ in people), "office"), 0)
    lines, ends = dict.fromkeys((id_ for id_, _ in people), 0), set[int]()

    async def posts(who: str, token: Callable[[], str]) -> None:
        place = ""
        while not over.is_set():
            try:
                async with harbour.nestrel(token()) as http:
                    if who == "office":
                        answer = await http.get("/erasures")
                    elif not place:
                        answer = await http.get("/conversations")
                        place = next((one["id"] for one in answer.json().get("items", ())), "")
                    else:
                        message = {"body": f"sounding {done[who]}"}
                        answer = await http.post(
                            f"/conversations/{place}/messages", json=message, headers={"Idempotency-Key": uuid4().hex}
                        )
            except httpx.TransportError:
                continue  # it is being started anew
            assert answer.status_code in (200, 201, 503), (who, answer.text)
            done[who] += answer.status_code != 503

    async def follows(who: str, token: str) -> None:
        while not over.is_set():
            try:
                async with connect("ws" + harbour.served.url[4:] + "/v1/live") as line:
                    await line.send(json.dumps({"type": "sign_in", "token": token, "follow_all": True}))
                    assert json.loads(await line.recv())["type"] == "signed_in"
                    lines[who] += 1
                    while not over.is_set():
                        await asyncio.wait_for(line.recv(), PATIENCE)
            except ConnectionClosed as closed:
                ends.add(closed.rcvd.code if closed.rcvd is not None else 0)
            except OSError:
                continue

    async def moved_on() -> None:
        """Everybody has done something, and followed, since now."""
        before = dict(done)

        async def now() -> tuple[dict[str, int], dict[str, int]]:
            for task in tasks:
                if task.done():
                    task.result()
            return dict(done), dict(lines)

        await once(now, lambda found: all(found[0][who] > before[who] for who in before) and all(found[1].values()))

    async def restart() -> None:
        for who in lines:
            lines[who] = 0
        await asyncio.to_thread(harbour.served.stop)
        harbour.served.restart()
        await moved_on()

    tasks = [asyncio.create_task(posts(id_, lambda token=token: token)) for id_, token in people]  # type: ignore[misc]
    tasks += [asyncio.create_task(posts("office", harbour.office))]
    tasks += [asyncio.create_task(follows(id_, token)) for id_, token in people]
    try:
        await moved_on()
        # A new key: who signs in from now on has it, and whoever has a token of the one before keeps it.
        await harbour.ask("POST", "/keys", status=204)
        _, late = await harbour.person("late")
        async with harbour.nestrel(late) as http:

            async def admitted() -> int:
                answer = await http.get("/me")
                assert answer.status_code in (200, 503), answer.text  # until the issuer was asked again, at most
                return answer.status_code

            await once(admitted, lambda status: status == 200)
        await moved_on()
        # A new secret: first it is taken, then it signs, and last the one before goes.
        old, new = harbour.secrets.read_text(), secrets.token_urlsafe(48)
        for text in (f"{old}\n{new}", f"{new}\n{old}", new):
            harbour.secrets.write_text(text)
            await restart()
    finally:
        over.set()
        results = await asyncio.gather(*tasks, return_exceptions=True)
    assert [one for one in results if one is not None] == []
    assert not ends & {4401, 4403}, ends


async def test_of_a_person_who_leaves_a_dump_has_nothing(harbour: Harbour) -> None:
    tam_id, tam = await harbour.person("tam")
    await harbour.ask("POST", "/orders/9/2026-12-09", {"vessel": "MV Corran"}, tam, 201)
    async with harbour.nestrel(tam) as http:
        order = await first_order(http)
        await http.post(f"/conversations/{order['id']}/messages", json={"body": "I am leaving"})
        await http.put(f"/conversations/{order['id']}/messages/1/reactions/like")
        await http.put(f"/conversations/{order['id']}/receipt", json={"read_seq": 2})
    await harbour.copy_is_equal()
    assert traces(harbour.served, tam_id)[0], "nothing was looked for"
    begun = await harbour.ask("DELETE", "/people/me", token=tam)
    async with harbour.nestrel(harbour.office()) as office:

        async def finished() -> bool:
            return (await office.get(f"/erasures/{begun['id']}")).json()["finished_at"] is not None

        await once(finished, bool)
    await harbour.copy_is_equal()
    assert traces(harbour.served, tam_id) == ([], [])
    [(author,)] = await harbour.rows("SELECT author FROM harbour.messages WHERE removed AND seq = 2")
    assert author == begun["shown_as"]
    async with harbour.nestrel(tam) as http:
        assert (await http.get("/me")).status_code == 401


@pytest.fixture
def open_folder() -> Iterator[Path]:
    """A folder that the postgres user may enter."""
    with tempfile.TemporaryDirectory(prefix="nestrel-harbour-", ignore_cleanup_errors=True) as folder:
        os.chmod(folder, 0o755)
        yield Path(folder)


def test_one_command_starts_all_of_it(open_folder: Path) -> None:
    own, port = f"http://127.0.0.1:{free_port()}", str(free_port())
    inherited = {name: value for name, value in os.environ.items() if not name.startswith("NESTREL_")}
    env = {**inherited, "HARBOUR_DATA": str(open_folder / "data"), "HARBOUR_URL": own, "NESTREL_PORT": port}
    process = subprocess.Popen([sys.executable, str(_EXAMPLE)], env=env)
    try:
        until(lambda: answers(own + "/keys") and answers(f"http://127.0.0.1:{port}/readyz"))
        assert "Harbour" in httpx.get(own, timeout=PATIENCE).text
    finally:
        process.send_signal(signal.SIGINT)
        assert process.wait(PATIENCE) == 0
