"""The demo: the same data for the same seed, an issuer for one machine, and both together as a product."""

from __future__ import annotations

import asyncio
import base64
import hashlib
import os
from collections import Counter
from collections.abc import AsyncIterator, Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

import httpx
import jwt
import pytest

from nestrel.core.callers import Caller
from nestrel.demo import generate, run, scenario, seed
from nestrel.demo.issuer import IssuerError, check_loopback, make_issuer, origins_of
from nestrel.files.folder import Folder
from nestrel.local.postgres import free_port
from nestrel.service.attachments import Attachments
from nestrel.store.database import Database
from nestrel.store.native import execute, fetch
from nestrel.store.read import conversations
from tests.forked import nestrel
from tests.support import PATIENCE

FIXED = datetime(2026, 11, 25, 12, tzinfo=UTC)
"""For what is computed alone. What a database ages by its own clock is seeded up to the present."""
ISSUER, CLIENT, BACK = "http://127.0.0.1:8461", "nestrel-console", "http://127.0.0.1:8460/console/signed-in"


def test_the_same_seed_gives_the_same_messages() -> None:
    first, second = list(generate.lines(7, FIXED)), list(generate.lines(7, FIXED))
    assert first == second
    assert first != list(generate.lines(8, FIXED))
    assert len(first) == seed.TOTAL


@pytest.fixture
async def files(database: Database, tmp_path: Path) -> AsyncIterator[Attachments]:
    kept = Attachments(database, Folder(tmp_path))
    yield kept
    await kept.stop()


AWKWARD = [FIXED, datetime(2028, 2, 29, 0, 0, 1, tzinfo=UTC), datetime(2027, 1, 1, tzinfo=UTC),
           datetime(2027, 3, 28, 1, tzinfo=UTC), datetime(2031, 12, 31, 23, 59, 59, tzinfo=UTC)]  # fmt: skip


@pytest.mark.parametrize("until", AWKWARD, ids=str)
def test_the_scenario_is_whole(until: datetime) -> None:
    lines = list(generate.lines(7, until))
    rooms = Counter(line.room.title for line in lines)
    assert rooms[scenario.LOGBOOK.title] == 20_000
    assert {room.kind for room in scenario.ROOMS} == {"group", "direct", "bulletin"}
    by_room: dict[int, list[generate.Spoken]] = {}
    for line in lines:
        own = by_room.setdefault(id(line.room), [])
        writers = {line.room.owner, *line.room.moderators}
        assert line.author in (writers if line.room.kind == "bulletin" else {*writers, *line.room.members})
        assert line.reply_to is None or line.reply_to <= len(own)
        assert not own or line.at >= own[-1].at
        assert "{" not in line.body
        own.append(line)
    first, last = min(own[0].at for own in by_room.values()), max(own[-1].at for own in by_room.values())
    assert timedelta(days=generate.DAYS - 1) < until - first <= timedelta(days=generate.DAYS + 1)
    assert timedelta(0) <= until - last < timedelta(days=1)


@pytest.mark.whole
async def test_seeding_twice_adds_nothing(database: Database, files: Attachments) -> None:
    heard: list[int] = []
    now = datetime.now(UTC)
    for _ in range(2):
        await seed.seed(database, files, now, 7, heard.append)
    assert heard[-1] == seed.TOTAL
    async with database.read() as connection:
        [found] = await fetch(connection, "SELECT sum(head), sum(message_count), count(*) FROM nestrel.conversations")
        [(rows,)] = await fetch(connection, "SELECT count(*) FROM nestrel.messages")
        kept = (
            "SELECT count(*) FROM nestrel.messages m JOIN nestrel.conversations c ON c.id = m.conversation_id "
            "WHERE m.seq >= c.floor AND m.removed_at IS NULL"
        )
        [(counted,)] = await fetch(connection, kept)
        [(revs,)] = await fetch(connection, "SELECT sum(rev) FROM nestrel.conversations")
        [changed] = await fetch(
            connection, "SELECT sum(edits), (SELECT count(*) FROM nestrel.reactions) FROM nestrel.messages"
        )
    assert tuple(found) == (seed.TOTAL, counted, 13)
    assert seed.TOTAL - 6_500 < counted < seed.TOTAL - 1_000  # rules have taken the oldest
    assert rows == seed.TOTAL
    assert min(changed) > 20
    await seed.seed(database, files, now, 7, heard.append)
    async with database.read() as connection:
        assert await fetch(connection, "SELECT sum(rev) FROM nestrel.conversations") == [(revs,)]
        shown = await fetch(connection, "SELECT media_type, count(*) FROM nestrel.attachments GROUP BY 1 ORDER BY 1")
    assert [kind for kind, count in shown if count > 1] == ["image/png", "text/plain"]


@pytest.mark.whole
def test_a_demo_that_was_cut_short_while_it_was_filled_is_finished(
    make_database: Callable[[], str], tmp_path: Path
) -> None:
    url = make_database()

    def cut(written: int) -> None:
        if written > seed.TOTAL // 2:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        run.fill(url, tmp_path, Folder(tmp_path / "files"), cut)
    assert run.fill(url, tmp_path, Folder(tmp_path / "files"), lambda _n: None)
    assert not run.fill(url, tmp_path, Folder(tmp_path / "files"), lambda _n: None)

    async def heads() -> int:
        database = Database(url)
        async with database.read() as connection:
            [(total,)] = await fetch(connection, "SELECT sum(head) FROM nestrel.conversations")
        await database.close()
        return int(total)

    assert asyncio.run(heads()) == seed.TOTAL


@pytest.fixture
def issuer() -> httpx.AsyncClient:
    app = make_issuer(ISSUER, "nestrel-demo", CLIENT, origins_of(8460))
    return httpx.AsyncClient(transport=httpx.ASGITransport(app), base_url=ISSUER)


def _request(verifier: str, **changed: str) -> dict[str, str]:
    challenge = base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).rstrip(b"=").decode()
    return {
        "redirect_uri": BACK,
        "client_id": CLIENT,
        "code_challenge": challenge,
        "state": "s",
        "nonce": "n",
        **changed,
    }


async def test_the_code_flow_with_proof_gives_a_token_that_its_keys_verify(issuer: httpx.AsyncClient) -> None:
    discovery = (await issuer.get("/.well-known/openid-configuration")).json()
    assert discovery["issuer"] == ISSUER
    page = await issuer.get("/authorize", params=_request("v"))
    assert all(person.name in page.text for person in scenario.PEOPLE)
    sent = await issuer.get("/authorize", params=_request("v", member="ines"))
    query = parse_qs(urlsplit(sent.headers["location"]).query)
    assert (sent.headers["location"].split("?")[0], query["state"]) == (BACK, ["s"])
    grant = {"grant_type": "authorization_code", "code": query["code"][0], "redirect_uri": BACK, "code_verifier": "v"}
    answer = (await issuer.post("/token", data=grant)).json()
    key = jwt.PyJWKSet.from_dict((await issuer.get("/jwks")).json()).keys[0]
    access = jwt.decode(answer["access_token"], key, ["ES256"], audience="nestrel-demo", issuer=ISSUER)
    identity = jwt.decode(answer["id_token"], key, ["ES256"], audience=CLIENT)
    assert (access["sub"], access["name"], identity["nonce"]) == ("ines", "Inés Caldeira", "n")
    assert (await issuer.post("/token", data=grant)).status_code == 400  # a code is good once
    again = await issuer.get("/authorize", params=_request("v", login_hint="ines"))
    assert again.status_code == 303
    assert (
        await issuer.get("/authorize", params=_request("v", login_hint="ines", prompt="select_account"))
    ).status_code == 200


async def test_a_code_without_its_proof_or_for_elsewhere_is_refused(issuer: httpx.AsyncClient) -> None:
    sent = await issuer.get("/authorize", params=_request("v", member="ines"))
    code = parse_qs(urlsplit(sent.headers["location"]).query)["code"][0]
    grant = {"grant_type": "authorization_code", "code": code, "redirect_uri": BACK, "code_verifier": "guessed"}
    assert (await issuer.post("/token", data=grant)).status_code == 400
    assert (
        await issuer.get("/authorize", params=_request("v", redirect_uri="https://elsewhere.example/"))
    ).status_code == 400
    assert (await issuer.get("/authorize", params=_request("v", client_id="other"))).status_code == 400


def test_the_issuer_runs_on_loopback_only() -> None:
    for host in ("0.0.0.0", "192.168.1.5", "::", "example.com"):
        with pytest.raises(IssuerError, match="loopback"):
            check_loopback(host)
    for host in ("127.0.0.1", "localhost", "::1"):
        check_loopback(host)
    with pytest.raises(IssuerError):
        make_issuer("http://10.0.0.1:8461", "a", "c", ())


async def test_unread_is_arithmetic_that_a_count_agrees_with(database: Database, files: Attachments) -> None:
    """On the demo's data, for every member of every conversation: what is listed is what counting rows gives."""
    await seed.seed(database, files, datetime.now(UTC), 7, lambda _n: None)
    counted = """
        SELECT m.conversation_id, count(x.seq) AS n FROM nestrel.members m LEFT JOIN nestrel.messages x
            ON x.conversation_id = m.conversation_id AND x.seq > m.read_seq AND x.author_id <> m.user_id
                AND x.removed_at IS NULL
        WHERE m.user_id = $1 GROUP BY m.conversation_id
        """
    async with database.read() as connection:
        for person in scenario.PEOPLE:
            items, _ = await conversations.page(connection, "mine", Caller(person.user_id), 50, None, None)
            rows = await fetch(connection, counted, person.user_id)
            assert {item["id"]: item["unread"] for item in items} == {str(row[0]): row[1] for row in rows}


async def test_a_database_that_is_none_for_this_version_is_named_and_left_alone(
    database: Database, url: str, tmp_path: Path
) -> None:
    async with database.write() as connection:
        await execute(connection, "UPDATE nestrel.alembic_version SET version_num = '0019'")
    ports = ("--port", str(free_port()), "--issuer-port", str(free_port()))
    env = {**os.environ, "NESTREL_DATABASE_URL": url, "NESTREL_DATA_DIR": str(tmp_path)}
    done = await asyncio.to_thread(nestrel, "demo", *ports, env=env, seconds=PATIENCE)
    assert (done.returncode, "Traceback" in done.stderr) == (1, False), done.stderr
    assert "at 0019" in done.stderr
    assert "another folder" in done.stderr
