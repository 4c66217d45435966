"""The parts of one service process, put together and taken apart in order."""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections.abc import Callable, Sequence
from itertools import chain
from secrets import token_hex
from uuid import UUID

import structlog

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.commands import Post
from nestrel.core.cursors import CursorSeal
from nestrel.core.epochs import Lineage
from nestrel.core.problems import SlowDown, StoreUnavailable, Trouble, Unauthenticated
from nestrel.files.opening import open_files
from nestrel.live.buses import make_bus
from nestrel.live.checkpoints import Checkpoints
from nestrel.live.hub import Hub
from nestrel.live.lists import Lists
from nestrel.live.looking import Lookings
from nestrel.live.moves import Moves
from nestrel.live.returns import Returns
from nestrel.live.saying import Saying
from nestrel.live.sharing import Shared
from nestrel.live.signals import Signals
from nestrel.live.source import StoreSource
from nestrel.service import cookies, metrics, traces
from nestrel.service.attachments import Attachments
from nestrel.service.bars import Bars
from nestrel.service.budget import Budget, of_connections
from nestrel.service.claims import ClaimedProfiles
from nestrel.service.collector import collect
from nestrel.service.consumers import Consumers
from nestrel.service.erasures import Erasures
from nestrel.service.exports import Exports
from nestrel.service.handlers import Handlers
from nestrel.service.hosts import Hosts, Proxies
from nestrel.service.leftovers import work_off
from nestrel.service.outgoing import Outgoing
from nestrel.service.pages import Pages
from nestrel.service.push_keys import PushKey
from nestrel.service.rates import RateLimits
from nestrel.service.reporting import Reporting
from nestrel.service.seats import Seats
from nestrel.service.settings import Settings
from nestrel.service.shedding import Shedding
from nestrel.service.stalls import Closable, Stalls
from nestrel.service.starting import until_served
from nestrel.service.stores import open_stores
from nestrel.service.sweeper import Sweeper
from nestrel.service.tokens import Identity, TokenVerifier
from nestrel.service.underway import Underway
from nestrel.service.waiting_posts import WaitingPosts
from nestrel.store import schema, troubles
from nestrel.store.access import AccessReader
from nestrel.store.confusables import skeletons
from nestrel.store.database import writable
from nestrel.store.events import Said, Signal
from nestrel.store.write import connections, repeats
from nestrel.store.write.answers import Growth
from nestrel.store.write.writer import Writer

log = structlog.get_logger()

_STOP_SECONDS = 5.0
_TOGETHER = 200
_COMING = 32
_NEARLY_FULL = 0.95


class Service:
    """Everything that a request needs. Nothing is read from the environment and nothing connects before `start`."""

    def __init__(self, settings: Settings) -> None:
        assert settings.database_url is not None
        self.settings = settings
        self.node = f"{os.getpid()}-{token_hex(4)}"
        self.stores = open_stores(settings, self.node)
        self.database, self.replicas = self.stores.database, self.stores.replicas
        background = self.stores.background
        self.database.on_epoch = background.on_epoch = self._begin_anew
        self.tokens = TokenVerifier(settings)
        self.source = StoreSource(self.database, settings.catch_up_rows)
        self.bus = make_bus(
            settings.bus, settings.database_url, self.node, settings.schema_, lambda: self.database.words
        )
        self.budget = Budget(settings.memory * 1024 * 1024)
        self.hub = Hub(self.source, self.bus, self.budget.rings)
        self.saying = Saying(self.bus)
        self.signals = Signals(self.hub, self.saying)
        self.lookings = Lookings(self.saying)
        self.bus.on_said = self._heard_said
        self.moves = Moves(self.source)
        self.checkpoints = Checkpoints(self.hub, self.moves, settings.checkpoint_seconds)
        self.returns = Returns(self.source, self.moves, self.checkpoints)
        self.lists = Lists(self.database, self.moves)
        self.database.on_commit = background.on_commit = self.bus.publish
        self.attachments = Attachments(
            self.database, open_files(settings.files, settings.files_endpoint, settings.data_dir)
        )
        self.writer = Writer(
            self.database,
            self._grown,
            metrics.BATCH_COMMANDS.observe,
            self.hub.followed,
            settings.edit_window,
            lambda unit, answers: self.reporting.written(unit, answers),
        )
        self.waiting_posts = WaitingPosts(
            self.database,
            self._grown,
            lambda unit, answers: self.reporting.written(unit, answers),
            self.hub.followed,
            settings.edit_window,
            settings.quotas,
            skeletons() if settings.unique_names else None,
        )
        self.handlers = Handlers(
            background, self.moves, self.lookings, settings, self.sealing, lambda: self.push_key
        )  # fmt: skip
        self.consumers = Consumers(background, self.node, self.handlers.make, search=settings.search)
        self.erasures = Erasures(background, self.writer, self.node, skeletons() if settings.unique_names else None)
        self.access = AccessReader(self.database)
        self.pages = Pages(self.budget.pages)
        self.sweeper = Sweeper(background, settings.sweep_seconds)
        self.exports = Exports(limits.EXPORTS, lambda connection: self.abort(connection))
        self.outgoing = Outgoing(self.budget.answers)
        self.seats = Seats(settings.quota_connections, lambda: self._of_connections > self.budget.connections)
        self._elsewhere = Shared[str, int](self._connections_elsewhere, _TOGETHER)
        self.shedding = Shedding(
            settings.sign_ins, lambda: self._of_connections > self.budget.connections * _NEARLY_FULL
        )
        self.coming = asyncio.Semaphore(_COMING)
        """Those who begin to follow everything at one moment: more of them would leave no turns of the processor to
        anybody else."""
        self.reporting = Reporting(background, self.node, self.seats, self.hub, settings.usage_days)
        self.proxies = Proxies(settings.proxies)
        self.hosts = Hosts(settings.host, settings.hosts, settings.public_url, settings.origins)
        self.bodies = 0
        """Bytes of large bodies that are under way."""
        self.rates = RateLimits(settings, self.database, self.node)
        self.sessions: set[Closable] = set()
        self.underway: set[Underway] = set()
        """Requests of those who have signed in."""
        self.draining = False
        self._empty = asyncio.Event()
        self._seal: CursorSeal | None = None
        self._push_key: PushKey | None = None
        self.quotas = settings.quotas
        self.skeletons = skeletons() if settings.unique_names else None
        self.claims = ClaimedProfiles(self.database, settings.profiles, self.skeletons)
        self.bars = Bars(self.database, lambda: chain(self.sessions, self.underway))
        self._tasks: list[asyncio.Task[None]] = []
        self._resealing: asyncio.Future[None] | None = None
        self.something_left = asyncio.Event()
        self._stop_tracing: Callable[[], None] = lambda: None
        self.abort: Callable[[object], None] = lambda _connection: None
        """Cuts a connection, given the server's own side of it; set by the server."""

    async def start(self) -> None:
        self._stop_tracing = traces.start(self.settings, self.node)
        await self.bus.start(self.hub.heard, self._bus_is_back)
        self._tasks = [
            asyncio.create_task(self._look_after(), name="stalls"),
            asyncio.create_task(self.attachments.pictures.run(), name="pictures"),
        ]
        try:
            await self.load_seal()
            await self._check_store()
        except StoreUnavailable:
            self._tasks.append(asyncio.create_task(self._begin_late(), name="starting"))
        else:
            self._begin()

    async def _begin_late(self) -> None:
        await until_served(self.settings.database_url or "", self._check_store)
        self._begin()

    def _begin(self) -> None:
        """Begin the work in the background, all of which needs the store."""
        self._tasks += [
            asyncio.create_task(
                work_off(self.stores.background, self.skeletons, self.something_left), name="left over"
            ),
            asyncio.create_task(self.checkpoints.run(), name="checkpoints"),
            asyncio.create_task(self.sweeper.run(), name="sweeper"),
            asyncio.create_task(self.bars.run(), name="bars"),
            asyncio.create_task(self.rates.run(), name="rates"),
            asyncio.create_task(self.reporting.run(), name="reporting"),
            asyncio.create_task(self.erasures.run(), name="erasures"),
            asyncio.create_task(self.waiting_posts.run(), name="waiting posts"),
            asyncio.create_task(collect(self.attachments), name="collector"),
            asyncio.create_task(self.consumers.run(), name="consumers"),
        ]

    async def stop(self) -> None:
        """Every part of it has an end, also where the database does not answer any more."""
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(_STOP_SECONDS):
                await self.writer.drain()
        pending: set[asyncio.Future[None]] = set(self._tasks)
        if self._resealing is not None:
            pending.add(self._resealing)
        while pending:  # said again, for a driver in the middle of something may take it for an error of its own
            for task in pending:
                task.cancel()
            _, pending = await asyncio.wait(pending, timeout=1)
        await self.consumers.stop()
        await self.handlers.stop()
        await self.reporting.stop()
        await self.rates.stop()
        await self.attachments.stop()
        await self.returns.stop()
        await self._elsewhere.stop()
        await self.bars.stop()
        await self.moves.stop()
        await self.saying.stop()
        await self.hub.stop()
        await self.bus.stop()
        await self.stores.close()
        await asyncio.to_thread(self._stop_tracing)

    def _heard_said(self, said: Sequence[Said]) -> None:
        self.hub.signalled([one for one in said if isinstance(one, Signal)])
        self.lookings.heard(said)

    def _bus_is_back(self) -> None:
        self.lookings.forget()
        self.hub.look_again()

    def left(self, session: Closable) -> None:
        """A live connection has ended."""
        self.sessions.discard(session)
        if not self.sessions:
            self._empty.set()

    async def emptied(self) -> None:
        """Wait until no live connection is left."""
        while self.sessions:
            self._empty.clear()
            await self._empty.wait()

    async def load_seal(self) -> CursorSeal:
        """The seal of cursors; its key comes from the store, once."""
        if self._seal is None:
            await self._load_keys()
            assert self._seal is not None
        return self._seal

    async def _load_keys(self) -> None:
        url = self.settings.url
        contact = url if url.startswith("https:") else None
        self._push_key = PushKey(await self.database.secret("push"), contact)
        self._seal = CursorSeal(await self.database.secret("cursor"))

    @property
    def seal(self) -> CursorSeal:
        if self._seal is None:
            raise StoreUnavailable("the database has not answered since this process started", retry_after=1)
        return self._seal

    @property
    def push_key(self) -> PushKey:
        """Who the service is to push services; there as the seal is."""
        if self._push_key is None:
            raise StoreUnavailable("the database has not answered since this process started", retry_after=1)
        return self._push_key

    def _begin_anew(self) -> None:
        """The database was restored or has failed over: what this process remembers may be of a history that is
        lost."""
        log.warning("store.another_history")
        self.bars.forget()
        self.moves.forget()
        self.lists.forget()
        self.hub.renew()
        self._resealing = asyncio.ensure_future(self._reseal())

    async def _reseal(self) -> None:
        """Another database may come with another key."""
        while True:
            try:
                await self._load_keys()
            except StoreUnavailable:
                await asyncio.sleep(1)
            else:
                return

    @property
    def history(self) -> Lineage:
        """The epochs of the database, as this process knows them."""
        lineage = self.database.history.lineage
        if lineage is None:
            raise StoreUnavailable("the database has not answered since this process started", retry_after=1)
        return lineage

    def sealing(self) -> CursorSeal:
        """`seal`, for those who ask for it later."""
        return self.seal

    def _grown(self, growths: Sequence[Growth]) -> None:
        metrics.MESSAGES.inc(sum(growth.head - growth.head_before for growth in growths))
        self.hub.grown(growths)

    async def sign_in(self, token: str) -> Identity:
        """Verify a token and make sure that its user has a profile.

        Raises:
            Unauthenticated: the token is not accepted, or was ended by a sign-out.
            Forbidden: its user is suspended.
        """
        identity = await self.tokens.verify(token)
        if self.bars.is_free(identity) and self.claims.settled(identity):  # as nearly everyone is who asks
            return identity
        await self._admit(identity)
        if not self.claims.settled(identity):
            await self.claims.follow(identity)
        return identity

    async def sign_in_by_cookie(self, value: str) -> Identity:
        """Whose a browser's session is. Raises as `sign_in`."""
        await self.load_seal()
        identity = cookies.opened(self.seal, value)
        assert identity.session is not None
        if not await self.tokens.still_known(identity.key):
            raise Unauthenticated("the key that this session was begun with is taken no more; sign in again")
        await self.bars.check_session(identity.session)
        return await self._admit(identity)

    async def _admit(self, identity: Identity) -> Identity:
        if not self.bars.knows(identity.user_id):
            await self.load_seal()
            met = await self.bars.ask(identity.user_id)
            if not (met.there or met.erased):
                await self.claims.first_sight(identity)
            self.bars.know(identity.user_id, met)
        self.bars.check(identity)
        return identity

    @property
    def _of_connections(self) -> int:
        return of_connections(self.seats.taken, self.hub.followers)

    def show_memory(self) -> None:
        """Bring the metrics of the budget to date."""
        metrics.MEMORY_BUDGET.set(self.budget.total)
        for part, held in (
            ("rings", self.hub.ring_bytes), ("pages", self.pages.bytes), ("answers", self.outgoing.held),
            ("bodies", self.bodies), ("connections", self._of_connections),
        ):  # fmt: skip
            metrics.MEMORY.labels(part).set(held)

    async def check_seats(self, identity: Identity) -> None:
        """Whether somebody may have one more connection, those at other processes counted, which are known a few
        seconds late. Raises `OverQuota`, `StoreUnavailable`."""
        elsewhere = 0
        if self.seats.most and not identity.service and not self.rates.alone:
            elsewhere = await self._elsewhere(identity.user_id)
        self.seats.check(identity.user_id, elsewhere=elsewhere, service=identity.service)

    async def _connections_elsewhere(self, user_ids: Sequence[str]) -> Sequence[int]:
        async with self.database.read() as connection:
            return await connections.elsewhere(connection, user_ids, self.node)

    def delivered(self, conversation_id: UUID, user_id: str) -> None:
        """A change set was sent to somebody."""
        self.reporting.delivered(conversation_id, user_id)

    async def count_command(self, caller: Caller, n: int = 1) -> None:
        """Count commands against the member's rate. Raises `SlowDown` when there is one and it is used up."""
        if self.rates.commands is not None and not caller.service:
            await self.rates.count(self.rates.commands, caller.user_id, n)

    async def count_read(self, caller: Caller) -> None:
        """The same of a request that only asks."""
        if self.rates.reads is not None and not caller.service:
            await self.rates.count(self.rates.reads, caller.user_id)

    async def count_posts(self, caller: Caller, posts: Sequence[Post]) -> None:
        """Count posts likewise, each of a batch. What has been posted already costs nothing: its author has to hear so,
        however many commands are left. Raises `InvalidRequest` for one of an author who was erased."""
        for author in {post.author_id for post in posts if post.actor is not None}:
            await self.bars.check_living(author)
        if self.rates.commands is None or caller.service:
            return
        try:
            await self.count_command(caller, len(posts))
        except SlowDown:
            if not await repeats.known(self.database, posts):
                raise

    async def check_ready(self) -> None:
        """Raises `StoreUnavailable`, with the reason, if this process cannot serve."""
        if self.draining:
            raise StoreUnavailable("draining: the service is stopping", retry_after=1, reason=Trouble.STOPPING)
        async with self.database.read() as connection:
            at = await schema.current(connection.sql, self.database.schema)
            if not schema.serves(at):
                raise StoreUnavailable(
                    f"the schema is at {at or 'nothing'}, not {schema.needed()}; run nestrel db upgrade",
                    retry_after=5,
                    reason=Trouble.NO_SCHEMA,
                )
            if not await writable(connection):
                raise StoreUnavailable(troubles.WORDS[Trouble.READ_ONLY], retry_after=5, reason=Trouble.READ_ONLY)
        await self.load_seal()
        if (ailing := self.database.ailing) is not None:
            raise ailing

    async def _check_store(self) -> None:
        """Raises `StoreUnavailable` for a database that this process can do nothing with."""
        async with self.database.read() as connection:
            try:
                await schema.check_server(connection.sql)
            except schema.Unfit as error:
                raise StoreUnavailable(str(error), retry_after=60, reason=Trouble.UNFIT) from None
        await self.check_ready()

    async def _look_after(self) -> None:
        """Look at what the connections hold, and for those that are not read from."""
        stalls = Stalls(
            self.sessions, self.outgoing, self.settings.stall_seconds, lambda connection: self.abort(connection)
        )
        while True:
            await asyncio.sleep(min(1.0, self.settings.stall_seconds / 4))
            try:
                self.show_memory()
                self.shedding.look()
                stalls.look()
            except Exception as error:  # one of them is no reason to look after none
                log.error("connections.not_looked_after", exc_info=error)
