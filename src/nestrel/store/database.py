"""The connection pool and transactions of a process."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import asynccontextmanager
from typing import Any

from sqlalchemy.ext.asyncio import create_async_engine
from sqlalchemy.pool import NullPool

from nestrel.core.problems import StoreUnavailable, Trouble
from nestrel.store import addresses, constraints, epochs, events, troubles
from nestrel.store.events import Moved
from nestrel.store.histories import History, NewEpoch
from nestrel.store.native import SCHEMA, Connection, execute, fetch
from nestrel.store.words import Words

_WAIT_SECONDS = 10.0
_AILING_SECONDS = 10.0
"""For so long a write that failed speaks for the store, if none succeeds."""

SETTINGS = {
    "application_name": "nestrel",
    "jit": "off",
    "timezone": "UTC",
    # Every hot statement has one good plan, by index and in its order; planning it anew for each call costs more than
    # it can win, and a plan made while a table was small must not scan or sort it when it has grown.
    "plan_cache_mode": "force_generic_plan",
    "enable_seqscan": "off",
    "enable_bitmapscan": "off",
    "enable_sort": "off",
    "enable_hashjoin": "off",
    "enable_mergejoin": "off",
    # Nothing waits without an end: whoever holds a lock, or whatever makes a statement slow, costs a refusal.
    "lock_timeout": "5s",
    "statement_timeout": "30s",
    # A process that freezes in the middle of a write holds a conversation no longer than this.
    "idle_in_transaction_session_timeout": "10s",
}
_PATIENT = "SET LOCAL idle_in_transaction_session_timeout = '60s'"
_COMMAND_SECONDS = 40.0
"""Behind the server's own limit: it is for a server that does not answer at all."""


async def writable(connection: Connection) -> bool:
    """Whether the database takes writes: it is no standby, and not set to be read only."""
    query = "SELECT NOT pg_is_in_recovery() AND current_setting('transaction_read_only') = 'off'"
    return bool((await fetch(connection, query))[0][0])


_SECRET = "SELECT value FROM nestrel.service_secrets WHERE name = $1"


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
        self._database.give_back(self._connection)
        if isinstance(error, Exception):
            await self._database.translate(error)


class Database:
    """The connections of a process. `notify` says whether a transaction tells the bus itself, by NOTIFY; whatever it
    says, `on_commit` hears of each committed event.

    `standby`: it only answers reads, and whose history it has is looked at by whoever asks (`nestrel.store.replicas`).

    `pooled`: the address is that of a pooler, which gives each transaction another connection of the server's; what is
    set for each connection otherwise is set for the role then (`nestrel.store.roles`).

    Connections are SQLAlchemy's, in autocommit, and are kept checked out between uses: checking one out of its pool
    costs more than the statements of most requests. Statements and
    transactions are the driver's (`nestrel.store.native`).
    """

    def __init__(self, url: str, *, pool_size: int = 10, notify: bool = True, node: str | None = None,
                 schema: str = SCHEMA, standby: bool = False, pooled: bool = False,
                 history: History | None = None) -> None:  # fmt: skip
        self.notify = notify
        self.node = node
        self.schema = schema
        self.history = history or History()
        self.words: Words | None = None
        """In which form this process tells others of what it does; from its first connection on."""
        self.on_commit: Callable[[Sequence[Moved]], None] = lambda _events: None
        self.on_epoch: Callable[[], None] = lambda: None
        """Called when this process has met another history of the database than before."""
        self._standby = standby
        self._pooled = pooled
        settings = {**SETTINGS, "default_transaction_read_only": "on"} if standby else SETTINGS
        own: dict[str, Any] = {"server_settings": settings}
        if pooled:  # which knows no prepared statements, and takes no other settings
            own = {"server_settings": {"application_name": "nestrel"}, "statement_cache_size": 0}
        # SQLAlchemy asks its first connection of the server's version, outside of any transaction: behind a pooler the
        # question and its answer may be two connections. Nothing here needs to know.
        asks = {"_initialize": False} if pooled else {}
        self._engine = create_async_engine(
            addresses.sqlalchemy(url),
            **asks,
            poolclass=NullPool,
            isolation_level="AUTOCOMMIT",
            connect_args={**own, "timeout": 5, "command_timeout": _COMMAND_SECONDS},
        )
        self._idle: list[Connection] = []
        self._closed = False
        self._free = asyncio.Semaphore(pool_size)
        self._failed: tuple[StoreUnavailable, float] | None = None

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
            StoreUnavailable: the database is away; unless a commit was under way, nothing was changed. Also where a
                commit was to wait for a standby, and has ended without.
        """
        async with self.write_at_once() as connection, connection.transaction():
            yield connection

    @asynccontextmanager
    async def write_at_once(self) -> AsyncIterator[Connection]:
        """A connection for one statement that writes all there is to write; otherwise as `write`."""
        told: list[Moved] = []
        try:
            async with self.read() as connection:
                connection.told, connection.unconfirmed = told, False
                yield connection
                if connection.unconfirmed:
                    reason = Trouble.UNCONFIRMED
                    raise StoreUnavailable(troubles.WORDS[reason], retry_after=troubles.RETRY[reason], reason=reason)
        except StoreUnavailable as problem:
            if problem.reason is not Trouble.BUSY:
                self._failed = problem, time.monotonic()
            raise
        self._failed = None
        if told:
            self.on_commit(told)

    @asynccontextmanager
    async def snapshot(self, *, patient: bool = False) -> AsyncIterator[Connection]:
        """A connection on which all statements see one moment, for reading much that belongs together. It may rest for
        10 s between two statements; `patient`, for a minute, as what is read goes to somebody who may be slow.

        Raises:
            StoreUnavailable: as `read`.
        """
        async with self.read() as connection, connection.transaction("repeatable_read", readonly=True):
            if patient:
                await execute(connection, _PATIENT)
            yield connection

    async def take(self) -> Connection:
        """A connection for one use; `read` and `write` give it back."""
        if self._free.locked():
            try:
                async with asyncio.timeout(_WAIT_SECONDS):
                    await self._free.acquire()
            except TimeoutError:
                raise StoreUnavailable(
                    "all database connections of this process are busy", retry_after=1, reason=Trouble.BUSY
                ) from None
        else:
            await self._free.acquire()
        try:
            while self._idle:
                connection = self._idle.pop()
                if not connection.driver.is_closed():
                    return connection
                self._discard(connection)
            return await self._connect()
        except BaseException:
            self._free.release()
            raise

    async def _connect(self) -> Connection:
        try:
            sql = await self._engine.connect()
        except TimeoutError:
            raise ConnectionError("the database did not answer in time") from None
        assert sql.sync_connection is not None
        driver = sql.sync_connection.connection.driver_connection
        connection = Connection(sql, driver, self.history, self.schema, pooled=self._pooled)
        try:
            if not self._standby:
                await epochs.met(connection)
                if self.words is None:
                    await self._learn_words(connection)
        except BaseException:
            self._discard(connection)
            raise
        return connection

    def give_back(self, connection: Connection) -> None:
        """End the use of a connection; one that is in the middle of something is of no use to anyone else."""
        self._free.release()
        driver = connection.driver
        if self._closed or driver.is_closed() or not connection.at_rest or driver.is_in_transaction():
            self._discard(connection)
        else:
            self._idle.append(connection)

    def _discard(self, connection: Connection) -> None:
        """Cut it, without a wait in which whoever does this could be cancelled and leave it open."""
        connection.driver.terminate()
        assert connection.sql.sync_connection is not None
        connection.sql.sync_connection.invalidate()

    async def translate(self, error: Exception) -> None:
        """Raise `StoreUnavailable` if the error says that the store cannot serve, and why. When it is away, the other
        connections are as dead as this one, and when it is the primary no more, as useless; when it is slow or locked,
        they are not."""
        if isinstance(error, NewEpoch) or troubles.constraint(error) == constraints.EPOCH:
            await self._renew(error)
        reason = troubles.reason_of(error)
        if reason is None:
            return
        if reason in (Trouble.AWAY, Trouble.READ_ONLY):
            self.discard_idle()
        raise StoreUnavailable(troubles.WORDS[reason], retry_after=troubles.RETRY[reason], reason=reason) from error

    async def _renew(self, error: Exception) -> None:
        """Record what the database has become, or learn what another process has recorded, and begin anew from it."""
        set_back = error.set_back if isinstance(error, NewEpoch) else None
        async with self.read() as connection:
            await epochs.begin(connection, set_back=set_back)
            await self._learn_words(connection)
        self.on_epoch()
        raise StoreUnavailable(
            "the database was restored or failed over; go on from your cursor", retry_after=1, reason=Trouble.RESTORED
        ) from error

    @property
    def ailing(self) -> StoreUnavailable | None:
        """Why the last write failed, if that was a moment ago and none has succeeded since."""
        if self._failed is None or time.monotonic() - self._failed[1] > _AILING_SECONDS:
            return None
        return self._failed[0]

    def announcement(self, connection: Connection, moved: Sequence[Moved], *, to_self: bool = True) -> list[str]:
        """The payloads that the transaction must NOTIFY so that the bus learns that conversations moved. `to_self`
        False: this process knows."""
        connection.told.extend(moved)
        if not self.notify:
            return []
        assert self.words is not None, "a transaction is on a connection, and with the first of them it was learned"
        return list(events.pack(self.words, None if to_self else self.node, moved))

    async def _learn_words(self, connection: Connection) -> None:
        """Learn the key of the words on the bus, if the schema is there by now."""
        if (await fetch(connection, "SELECT to_regclass('nestrel.service_secrets') IS NOT NULL"))[0][0]:
            [(key,)] = await fetch(connection, _SECRET, "cursor")
            self.words = Words(bytes(key))

    async def announce(self, connection: Connection, moved: Sequence[Moved]) -> None:
        """Tell the bus, in this transaction, that conversations moved."""
        payloads = self.announcement(connection, moved)
        if payloads:
            await execute(connection, "SELECT pg_notify($1, p) FROM unnest($2::text[]) p", self.channel, payloads)

    @property
    def channel(self) -> str:
        """Where NOTIFY goes: two services in schemas of one database do not hear each other."""
        return events.channel(self.schema)

    async def secret(self, name: str) -> bytes:
        """A key, the same for every process on this database: that which seals cursors (`cursor`), or that by which
        push services know the service (`push`)."""
        async with self.read() as connection:
            [(value,)] = await fetch(connection, _SECRET, name)
            return bytes(value)

    async def close(self) -> None:
        """End all connections, whether or not the other side is there to hear it; one in use ends with its use."""
        self._closed = True
        self.discard_idle()
        await self._engine.dispose()

    def discard_idle(self) -> None:
        """Cut all connections that nobody uses: the other side is not what it was."""
        while self._idle:
            self._discard(self._idle.pop())
