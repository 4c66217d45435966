"""What `nestrel doctor` looks at."""

from __future__ import annotations

import asyncio
import platform
import time
from collections.abc import Awaitable, Callable, Iterator
from uuid import uuid4

import httpx
from redis.exceptions import RedisError

from nestrel import build
from nestrel.cli.options import DEFAULT_URL
from nestrel.core.problems import Problem, StoreUnavailable
from nestrel.files.objects import FilesUnavailable
from nestrel.files.opening import open_files
from nestrel.live.redis_line import connect
from nestrel.local.postgres import PostgresError, find_binaries
from nestrel.service.loading import SettingsError, load_settings
from nestrel.service.minting import mint
from nestrel.service.settings import Settings
from nestrel.service.tokens import IssuerKeys, TokenVerifier
from nestrel.store import roles, schema
from nestrel.store.database import Database
from nestrel.store.durability import durability, standby
from nestrel.store.native import fetch
from nestrel.store.write import waiting_posts

Finding = tuple[str, bool, str]

_LATE_SECONDS = 60
"""A post that has waited for so long is one that nobody takes."""


def _postgres() -> Finding:
    try:
        return "PostgreSQL programs", True, str(find_binaries())
    except PostgresError as error:
        return "PostgreSQL programs", False, str(error)


def _settings() -> tuple[Finding, Settings | None]:
    try:
        settings = load_settings()
    except SettingsError as error:
        return ("settings", False, str(error)), None
    return ("settings", True, "can be read"), settings


async def _tokens(settings: Settings) -> Finding:
    """Whether tokens can be verified: those that each secret signs, and those of the issuer by its keys."""
    said = []
    verifier = TokenVerifier(settings)
    for n, secret in enumerate(settings.secrets, 1):
        signed = mint(
            secret, "doctor", seconds=60, now=int(time.time()), issuer=settings.issuer, audience=settings.audience
        )
        try:
            await verifier.verify(signed)
        except Problem as problem:
            return "tokens", False, f"what secret {n} signs is not taken: {problem.detail}"
    if settings.secrets:
        said.append("shared secret" if len(settings.secrets) == 1 else f"{len(settings.secrets)} shared secrets")
    if settings.jwks_url:
        try:
            keys = await IssuerKeys(settings.jwks_url).look()
        except ValueError as error:
            return "tokens", False, f"the keys at {settings.jwks_url} cannot be read: {error}"
        if not keys:
            return "tokens", False, f"{settings.jwks_url} has no key of use (RS256, ES256 or EdDSA)"
        said.append(f"{keys} {'key' if keys == 1 else 'keys'} of {settings.issuer}")
    if not said:
        return "tokens", False, "set NESTREL_JWT_SECRET or NESTREL_JWKS_URL to run the service"
    return "tokens", True, ", ".join(said)


async def _asked(
    settings: Settings, name: str, question: Callable[[Database, str], Awaitable[tuple[bool, str]]]
) -> Finding:
    """What the database says to a question."""
    assert settings.database_url is not None
    database = Database(settings.database_url, pool_size=4, schema=settings.schema_)
    try:
        return name, *await question(database, settings.schema_)
    except StoreUnavailable as problem:
        return name, False, f"{problem.detail} ({problem.__cause__})"
    except Exception as error:  # without a schema there is nothing to ask
        return name, False, str(error).splitlines()[0]
    finally:
        await database.close()


async def _database(database: Database, name: str) -> tuple[bool, str]:
    async with database.read() as connection:
        await schema.check_server(connection.sql)
        at = await schema.current(connection.sql, name)
    if not schema.serves(at):
        return False, f"the schema is at {at or 'nothing'}; run nestrel db upgrade"
    return True, f"answers, schema {at}"


async def _role(database: Database, _name: str) -> tuple[bool, str]:
    """Whether the service runs as more than it must. That is for whoever runs it to judge, and never missing."""
    found = await roles.powers(database)
    if found.more:
        return True, f"{found.role} {', '.join(found.more)}: more than serving takes (nestrel db roles)"
    return True, f"{found.role} can do no more than serving takes"


async def _durability(database: Database, _name: str) -> tuple[bool, str]:
    """What an acknowledgement stands on; which of it one wants is for whoever runs it to judge."""
    found = await durability(database)
    return found.good, found.words


async def _standby(settings: Settings, url: str) -> Finding:
    """Whether a standby that is to answer reads does."""

    async def ask(primary: Database, schema_: str) -> tuple[bool, str]:
        database = Database(url, pool_size=4, schema=schema_, standby=True)
        try:
            return await standby(database, primary)
        finally:
            await database.close()

    return await _asked(settings, "standby for reads", ask)


async def _pooler(settings: Settings, url: str) -> Finding:
    """Whether statements go through the pooler."""
    database = Database(url, pool_size=4, schema=settings.schema_, pooled=True)
    try:
        async with database.read() as connection:
            plans = (await fetch(connection, "SELECT current_setting('plan_cache_mode')"))[0][0]
    except StoreUnavailable as problem:
        return "pooler", False, f"{problem.detail} ({problem.__cause__})"
    finally:
        await database.close()
    if plans != "force_generic_plan":
        return "pooler", False, "answers, but its role lacks the settings of the service: run nestrel db roles"
    return "pooler", True, "answers"


async def _bus(settings: Settings) -> Finding:
    """Whether processes can tell each other at once what has moved; without, followers hear of it at checkpoints."""
    if settings.bus == "postgres":
        return "bus", True, "the database's own"
    client = connect(settings.bus)
    try:
        async with asyncio.timeout(5):
            role = await client.execute_command("ROLE")  # type: ignore[no-untyped-call]  # the driver gives it no types
    except (RedisError, OSError, TimeoutError) as error:
        return "bus", False, f"Redis does not answer ({error or type(error).__name__}); followers hear at checkpoints"
    finally:
        await client.aclose()
    return "bus", role[0] == b"master", f"Redis answers, {'the primary' if role[0] == b'master' else 'a replica'}"


async def _waiting(database: Database, name: str) -> tuple[bool, str]:
    """Whether posts that applications left in the database are taken."""
    async with database.read() as connection:
        found = await waiting_posts.counts(connection)
    refused = f"; {found.refused:,} refused lately, see {name}.refused_posts" if found.refused else ""
    if not found.waiting:
        return True, f"none wait{refused}"
    late = found.seconds > _LATE_SECONDS
    return not late, f"{found.waiting:,} wait, the first for {found.seconds:,.0f} s{refused}"


async def _files(settings: Settings) -> Finding:
    """Whether a file can be written where attachments go, and deleted again."""
    where = settings.files or str(settings.data_dir / "files")
    files, name = open_files(settings.files, settings.files_endpoint, settings.data_dir), uuid4()
    try:
        spool = await files.spool(name)
        await spool.write([b"doctor"])
        await spool.keep()
        await files.delete([name])
    except FilesUnavailable as error:
        return "files", False, f"{where} cannot be written: {error}"
    return "files", True, f"{where} can be written"


def _service(url: str) -> Iterator[Finding]:
    try:
        health = httpx.get(f"{url}/healthz", timeout=3)
        ready = httpx.get(f"{url}/readyz", timeout=10)
    except httpx.HTTPError as error:
        yield "service", False, f"nothing answers at {url} ({error or type(error).__name__})"
        return
    try:
        yield "service", health.status_code == 200, f"{url} runs {health.json()['version']}"
        yield "readiness", ready.status_code == 200, str(ready.json().get("detail") or ready.json().get("status"))
    except (ValueError, KeyError):
        yield "service", False, f"what answers at {url} is not Nestrel"


def _address(settings: Settings | None) -> str:
    """Where the service of these settings is, seen from this machine."""
    if settings is None:
        return DEFAULT_URL
    host = {"0.0.0.0": "127.0.0.1", "::": "[::1]"}.get(settings.host, settings.host)
    return f"http://{f'[{host}]' if ':' in host and not host.startswith('[') else host}:{settings.port}"


def look(url: str | None) -> list[Finding]:
    """Everything that can be found out from here: what was looked at, whether it is good, and what is so. Without a
    `url` the service is looked for where the settings say that it listens."""
    findings: list[Finding] = [
        ("version", True, f"{build.described()}, Python {platform.python_version()}"),
        _postgres(),
    ]
    finding, settings = _settings()
    findings.append(finding)
    if settings is not None and settings.database_url is not None:
        findings += [
            asyncio.run(_tokens(settings)),
            asyncio.run(_asked(settings, "database", _database)),
            asyncio.run(_asked(settings, "durability", _durability)),
            *(asyncio.run(_standby(settings, url)) for url in settings.replica_urls),
            *([asyncio.run(_pooler(settings, settings.pooler_url))] if settings.pooler_url else []),
            asyncio.run(_bus(settings)),
            asyncio.run(_asked(settings, "database role", _role)),
            asyncio.run(_asked(settings, "posts left in transactions", _waiting)),
            asyncio.run(_files(settings)),
        ]
    return [*findings, *_service((url or _address(settings)).rstrip("/"))]
