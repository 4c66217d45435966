"""The connection pool, transactions, and what a driver's error means to the rest of the service."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import asynccontextmanager

import asyncpg
from sqlalchemy import text
from sqlalchemy.engine import make_url
from sqlalchemy.exc import DBAPIError, InterfaceError
from sqlalchemy.ext.asyncio import create_async_engine
from sqlalchemy.pool import NullPool

from nestrel.core.problems import StoreUnavailable
from nestrel.store import events
from nestrel.store.events import Moved
from nestrel.store.native import Connection, execute

_AWAY = (
    OSError,
    TimeoutError,
    asyncpg.InterfaceError,
    asyncpg.PostgresConnectionError,
    asyncpg.CannotConnectNowError,
    asyncpg.AdminShutdownError,
    asyncpg.CrashShutdownError,
    asyncpg.TooManyConnectionsError,
    asyncpg.InvalidCatalogNameError,
    asyncpg.InvalidAuthorizationSpecificationError,
)
_NO_TABLE = "42P01"
_AWAY_STATES = ("08", "57P", "53", "28", "3D")
"""SQLSTATE classes: connection exception, operator intervention, insufficient resources, no entry, no database."""

_WAIT_SECONDS = 10.0

_SETTINGS = {
    "application_name": "nestrel",
    "jit": "off",
    "timezone": "UTC",
    # Every hot statement has one good plan, by index and in its order; planning it anew for each call costs more than
    # it can win, and a plan made while a table was small must not scan or sort it when it has grown.
    "plan_cache_mode": "force_generic_plan",
    "enable_seqscan": "off",
    "enable_bitmapscan": "off",
    "enable_sort": "off",
    "idle_in_transaction_session_timeout": "60s",
}


def asyncpg_url(url: str) -> str:
    """The SQLAlchemy address of a `postgresql://` one. Raises `ValueError` with what is wrong."""
    try:
        parsed = make_url(url)
    except Exception:
        raise ValueError("the database URL must look like postgresql://user@host:port/database") from None
    if parsed.drivername not in ("postgresql", "postgres", "postgresql+asyncpg"):
        raise ValueError(f"the database URL must begin with postgresql://, not {parsed.drivername}://")
    return parsed.set(drivername="postgresql+asyncpg").render_as_string(hide_password=False)


def is_away(error: BaseException) -> bool:
    """Whether an error says that the store is not reachable, rather than that a statement is wrong."""
    if isinstance(error, DBAPIError) and (error.connection_invalidated or isinstance(error, InterfaceError)):
        return True
    return isinstance(error, _AWAY) or sqlstate(error).startswith(_AWAY_STATES)


def sqlstate(error: BaseException) -> str:
    """PostgreSQL's code for an error, from the driver or through SQLAlchemy; empty if it has none."""
    cause = error.orig if isinstance(error, DBAPIError) else error
    return str(getattr(cause, "sqlstate", None) or "")


class _Reading:
    """`Database.read`, which every request enters: a class of its own costs half of a generator's context."""

    __slots__ = ("_connection", "_database")

    def __init__(self, database: Database) -> None:
        self._database = database
        self._connection: Connection | None = None

    async def __aenter__(self) -> Connection:
        try:
            self._connection = await self._database.take()
        except Exception as error:
            await self._database.translate(error)
            raise
        return self._connection

    async def __aexit__(self, _kind: object, error: BaseException | None, _traceback: object) -> None:
        assert self._connection is not None
        await self._database.give_back(self._connection)
        if isinstance(error, Exception):
            await self._database.translate(error)


class Database:
    """The connections of a process. `notify` says whether a transaction tells the bus itself, by NOTIFY; whatever it
    says, `on_commit` hears of each committed event.

    Connections are SQLAlchemy's, in autocommit, and are kept checked out between uses: checking one out of its pool
    costs more than the statements of most requests. Transactions are the driver's, so that statements in the driver's
    own form (`nestrel.store.native`) and SQLAlchemy's take part in the same one.
    """

    def __init__(self, url: str, *, pool_size: int = 10, notify: bool = True, node: str | None = None) -> None:
        self.notify = notify
        self.node = node
        self.on_commit: Callable[[Sequence[Moved]], None] = lambda _events: None
        self._engine = create_async_engine(
            asyncpg_url(url),
            poolclass=NullPool,
            isolation_level="AUTOCOMMIT",
            connect_args={"server_settings": _SETTINGS, "timeout": 5, "command_timeout": 60},
        )
        self._idle: list[Connection] = []
        self._free = asyncio.Semaphore(pool_size)

    def read(self) -> _Reading:
        """A connection on which each statement is its own transaction, as an asynchronous context.

        Raises:
            StoreUnavailable: the database is away, or all connections are busy for too long.
        """
        return _Reading(self)

    @asynccontextmanager
    async def write(self) -> AsyncIterator[Connection]:
        """A transaction, committed at the end of the block; events told with `announce` go out with it.

        Raises:
            StoreUnavailable: the database is away; unless a commit was under way, nothing was changed.
        """
        async with self.read() as connection:
            told: list[Moved] = []
            connection.told = told
            async with connection.driver.transaction():
                yield connection
        if told:
            self.on_commit(told)

    @asynccontextmanager
    async def snapshot(self) -> AsyncIterator[Connection]:
        """A connection on which all statements see one moment, for reading much that belongs together.

        Raises:
            StoreUnavailable: as `read`.
        """
        async with self.read() as connection, connection.driver.transaction(isolation="repeatable_read", readonly=True):
            yield connection

    async def take(self) -> Connection:
        """A connection for one use; `read` and `write` give it back."""
        if self._free.locked():
            async with asyncio.timeout(_WAIT_SECONDS):
                await self._free.acquire()
        else:
            await self._free.acquire()
        try:
            while self._idle:
                connection = self._idle.pop()
                if not connection.driver.is_closed():
                    return connection
                await connection.sql.close()
            sql = await self._engine.connect()
            return Connection(sql, (await sql.get_raw_connection()).driver_connection)
        except BaseException:
            self._free.release()
            raise

    async def give_back(self, connection: Connection) -> None:
        """End the use of a connection; one that is in the middle of something is of no use to anyone else."""
        self._free.release()
        if connection.driver.is_closed() or connection.driver.is_in_transaction():
            await self._discard(connection)
        else:
            self._idle.append(connection)

    async def _discard(self, connection: Connection) -> None:
        connection.driver.terminate()
        with contextlib.suppress(Exception):
            await connection.sql.invalidate()
            await connection.sql.close()

    async def translate(self, error: Exception) -> None:
        """Raise `StoreUnavailable` if the error says that the database is away; the other connections are then as
        dead as this one."""
        if sqlstate(error) == _NO_TABLE:
            raise StoreUnavailable("the schema is not there yet; run nestrel db upgrade", retry_after=5) from error
        if not is_away(error):
            return
        while self._idle:
            await self._discard(self._idle.pop())
        raise StoreUnavailable(
            "the database does not answer; try again, with the same idempotency key", retry_after=1
        ) from error

    def announcement(self, connection: Connection, moved: Sequence[Moved], *, to_self: bool = True) -> list[str]:
        """The payloads that the transaction must NOTIFY so that the bus learns that conversations moved. `to_self`
        False: this process knows."""
        connection.told.extend(moved)
        return list(events.pack(None if to_self else self.node, moved)) if self.notify else []

    async def announce(self, connection: Connection, moved: Sequence[Moved]) -> None:
        """Tell the bus, in this transaction, that conversations moved."""
        payloads = self.announcement(connection, moved)
        if payloads:
            await execute(connection, "SELECT pg_notify($1, p) FROM unnest($2::text[]) p", events.CHANNEL, payloads)

    async def cursor_key(self) -> bytes:
        """The key that seals cursors, the same for every process on this database."""
        async with self.read() as connection:
            result = await connection.execute(text("SELECT value FROM service_secrets WHERE name = 'cursor'"))
            return bytes(result.scalar_one())

    async def close(self) -> None:
        while self._idle:
            await self._idle.pop().sql.close()
        await self._engine.dispose()
