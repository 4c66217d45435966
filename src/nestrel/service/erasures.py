"""Carries out erasures in the background, in steps; any process may take one."""

from __future__ import annotations

import asyncio
from uuid import UUID

import structlog

from nestrel.core.commands import Remove
from nestrel.core.problems import Expired, NotFound, StoreUnavailable
from nestrel.core.skeleton import Skeletons
from nestrel.live.waiting import happens
from nestrel.store.database import Database
from nestrel.store.keep import erasing, identities
from nestrel.store.keep.erasing import Erasure
from nestrel.store.write import profiles
from nestrel.store.write.writer import Writer

log = structlog.get_logger()

_PAUSE_SECONDS = 5.0
_LEARNED_SECONDS = 0.5
_PARTS = 10
"""Parts that one step removes."""


class Erasures:
    """The erasures that wait in the store. One that is cut short goes on where it was."""

    def __init__(self, database: Database, writer: Writer, node: str, skeletons: Skeletons | None = None) -> None:
        self._database = database
        self._writer = writer
        self._node = node
        self._skeletons = skeletons
        self.wanted = asyncio.Event()

    async def run(self) -> None:
        """Carry out what waits, at start and whenever one is asked for."""
        while True:
            try:
                while await self._step():
                    pass
            except Exception as error:
                log.warning("erasure.failed", reason=str(error))
            await happens(self.wanted, _PAUSE_SECONDS)
            self.wanted.clear()

    async def _step(self) -> bool:
        """Empty some of what one person wrote in one conversation. Each part is kept as soon as it is done, and no
        transaction is open for longer than that."""
        async with self._database.write() as connection:
            found = await erasing.claim(connection, self._node)
            if found is None:
                return False
            erasure, at = found
        if erasure.shown_as is not None:
            await self._step_of_identity(erasure, erasure.shown_as, at)
            return True
        async with self._database.read() as connection:
            conversation_id = await erasing.next_conversation(connection, erasure, at)
        if conversation_id is None:
            await self._finish(erasure)
            return True
        if await self._remove_live(erasure, conversation_id):
            archived, more = await erasing.empty_expired(self._database, conversation_id, erasure)
            await self._keep(erasure, conversation_id, archived=archived, finished=not more)
        return True

    async def _step_of_identity(self, erasure: Erasure, shown: str, at: UUID) -> None:
        """The same where the id goes as well, in each conversation in which it stands. Not before every process has
        learned of it, so that it comes to none of them again."""
        async with self._database.read() as connection:
            learned = await erasing.learned(connection, erasure)
        if not learned:
            await asyncio.sleep(_LEARNED_SECONDS)
            return
        async with self._database.read() as connection:
            conversation_id, go_on = await identities.look(connection, erasure.user_id, at)
        if conversation_id is None:
            await (self._keep(erasure, go_on) if go_on is not None else self._finish(erasure))
        elif await self._remove_live(erasure, conversation_id):
            archived, more = await erasing.empty_expired(self._database, conversation_id, erasure)
            await self._keep(erasure, conversation_id, archived=archived)
            if more:
                return
            changed = await identities.rename(self._database, erasure.id, conversation_id, erasure.user_id, shown)
            if changed is not None:
                # The archive last: a sweep may have put the id there until now.
                named = await identities.rename_archived(self._database, conversation_id, erasure.user_id, shown)
                await self._keep(erasure, identities.behind(conversation_id), finished=named or changed)

    async def _finish(self, erasure: Erasure) -> None:
        async with self._database.write() as connection:
            await erasing.finish(connection, erasure)

    async def _keep(
        self, erasure: Erasure, conversation_id: UUID, *, messages: int = 0, archived: int = 0, finished: bool = False
    ) -> None:
        async with self._database.write() as connection:
            if not await erasing.progress(
                connection,
                erasure,
                self._node,
                conversation_id,
                messages=messages,
                archived=archived,
                finished=finished,
            ):
                raise StoreUnavailable("another process has taken this erasure over")

    async def _remove_live(self, erasure: Erasure, conversation_id: UUID) -> bool:
        """Remove some of what is kept, going on from one part to the next, so that what is removed already is not
        walked over for each; whether that was all."""
        after = 0
        for _ in range(_PARTS):
            async with self._database.read() as connection:
                seqs = await erasing.live_seqs(connection, conversation_id, erasure, after)
            await self._remove([Remove(conversation_id, erasure.asked_by, seq, service=True) for seq in seqs])
            await self._keep(erasure, conversation_id, messages=len(seqs))
            if len(seqs) < erasing.STEP:
                return True
            after = seqs[-1]
        return False

    async def _remove(self, commands: list[Remove]) -> None:
        answers = await asyncio.gather(
            *(self._writer.submit([command]) for command in commands), return_exceptions=True
        )
        for answer in answers:
            # Expired meanwhile: the next part of the step has it. Closed meanwhile: all of it goes.
            if isinstance(answer, BaseException) and not isinstance(answer, Expired | NotFound):
                raise answer

    async def empty_profile(self, user_id: str) -> None:
        """The name and the picture go at once, for everyone who sees them."""
        await profiles.change(self._database, user_id, {"display_name": user_id, "picture": None}, self._skeletons)
