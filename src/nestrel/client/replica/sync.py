"""Keeps a replica current: the state machine of docs/protocol.md.

On every new line first the outbox goes out, then everything that moved is fetched, then all is followed from there.
Nothing is followed while the outbox goes out, so one's own posts come by their answers and never twice.
"""

from __future__ import annotations

import asyncio
import random
import sqlite3
import time
from collections import deque
from collections.abc import Awaitable, Callable
from contextlib import AbstractAsyncContextManager
from dataclasses import dataclass
from enum import StrEnum
from functools import partial
from typing import Any, Protocol

from nestrel.client.errors import passes, read_json
from nestrel.client.line import Frame, Line, problem_of
from nestrel.client.replica.outbox import Outbox
from nestrel.client.replica.store import ReplicaFile, Resynced
from nestrel.core.backoff import delays, pause_after
from nestrel.core.outbox import Entry, Outcome, lost_files, outcome
from nestrel.core.problems import InvalidRequest, NestrelError, Problem, Unreachable

_AGAIN_SECONDS = 1.0


class ReplicaState(StrEnum):
    """`away`: what is shown is what was held; `catching_up`: the line is there; `live`: everything up to now is held;
    `refused`: the service does not let the member in, and nothing is tried until `retry_now`; `ended` by the caller."""

    AWAY = "away"
    CATCHING_UP = "catching_up"
    LIVE = "live"
    REFUSED = "refused"
    ENDED = "ended"


@dataclass(frozen=True, slots=True)
class Standing:
    """The state of a replica, and unless it is live, why."""

    state: ReplicaState
    reason: str = ""


class Network(Protocol):
    """The service as a replica sees it."""

    name: str

    def line(self) -> AbstractAsyncContextManager[Line]:
        """Open a line and sign in."""

    async def resync(self, cursor: str | None) -> bytes:
        """The answer of `POST /resync`."""

    async def upload(
        self, conversation_id: str, name: str, size: int, read: Callable[[int, int], bytes]
    ) -> dict[str, Any]:
        """The answer of `POST …/attachments` with a file of which `read` gives the bytes from a place on, so many.
        Raises `Problem`."""

    async def changes(self, conversation_id: str, cursor: str | None) -> bytes | None:
        """The answer of `GET …/changes`; None for a conversation that is not the member's."""


Offload = Callable[..., Awaitable[Any]]


def _why(error: Exception) -> str:
    if isinstance(error, (sqlite3.Error, OSError)):
        return f"the replica's file could not be used: {error or type(error).__name__}"
    return str(error)


class Sync:
    """The loop behind a replica. `offload` runs what waits for the disk; `told` is called at every change."""

    def __init__(
        self,
        file: ReplicaFile,
        outbox: Outbox,
        network: Network,
        *,
        told: Callable[[], None] = lambda: None,
        offload: Offload = asyncio.to_thread,
        chance: Callable[[], float] = random.random,
    ) -> None:
        self.standing = Standing(ReplicaState.AWAY, "no line yet")
        self.last: Resynced | None = None
        self._file = file
        self._outbox = outbox
        self._network = network
        self._told = told
        self._offload = offload
        self._chance = chance
        self.uploaded_again: set[str] = set()
        """Posts whose files were not there any more, and have been sent once more."""
        self._awake = asyncio.Event()
        self._more = asyncio.Event()

    def retry_now(self) -> None:
        """Try at once: the network is back, or there is a new token."""
        self._awake.set()

    def something_waits(self) -> None:
        """The outbox has grown."""
        self._more.set()

    def _set(self, state: ReplicaState, reason: str = "") -> None:
        self.standing = Standing(state, reason)
        self._told()

    async def run(self) -> None:
        """Until cancelled."""
        pauses = delays(self._chance)
        try:
            while True:
                self._awake.clear()
                try:
                    await self._connection()
                except (Unreachable, Problem, sqlite3.Error, OSError) as error:
                    if not passes(error):
                        self._set(ReplicaState.REFUSED, str(error))
                        await self._awake.wait()
                        continue
                    if self.standing.state is ReplicaState.LIVE:
                        pauses = delays(self._chance)
                    self._set(ReplicaState.AWAY, _why(error))
                    await self._pause(pause_after(error, next(pauses), self._chance))
                except NestrelError as error:
                    self._set(ReplicaState.REFUSED, str(error))
                    await self._awake.wait()
        except asyncio.CancelledError:
            self._set(ReplicaState.ENDED, "ended by the caller")
            raise
        except BaseException as error:
            self._set(ReplicaState.ENDED, f"ended by a bug of this library: {type(error).__name__}: {error}")
            raise

    async def _pause(self, seconds: float) -> None:
        try:
            async with asyncio.timeout(seconds):
                await self._awake.wait()
        except TimeoutError:
            pass

    async def _connection(self) -> None:
        """One line, from its beginning to its end, which is an error."""
        async with self._network.line() as line:
            await self._offload(self._file.claim, self._network.name, line.user_id)
            self._set(ReplicaState.CATCHING_UP)
            user = _User(self, line)
            await user.flush()
            await self.catch_up()
            await user.live()

    async def catch_up(self) -> Resynced:
        """Fetch everything that moved; returns what that was. Each answer is taken in while the next one is fetched."""
        report, began = Resynced(), time.monotonic()
        self.last = None
        taking: asyncio.Future[Any] | None = None
        cursor, more = self._file.cursor, True
        anew: set[str] | None = None
        try:
            while more:
                try:
                    content = await self._network.resync(cursor)
                except InvalidRequest:
                    if cursor is None:
                        raise
                    cursor = None  # of another time of this service: begin anew, and lose nothing
                    continue
                answer = read_json(content, "begins")
                if anew is None or answer["begins"]:
                    anew = set(await self._offload(self._file.rewind)) if answer["rewound"] else set()
                    await self._fetch_anew(sorted(anew))
                if anew:  # those are newer than the cursor that this leads to, and what changed before is no news
                    answer["items"] = [one for one in answer["items"] if one["conversation_id"] not in anew]
                if taking is not None:
                    await taking
                taking = asyncio.ensure_future(self._offload(self._take_in, answer, len(content), report))
                cursor, more = answer["cursor"], answer["more"]
        finally:
            if taking is not None:
                await asyncio.shield(taking)
        report.seconds = time.monotonic() - began
        self.last = report
        self._told()
        return report

    async def _fetch_anew(self, conversation_ids: list[str]) -> None:
        """Begin the copies of conversations again; after that the answer is taken in like any other. Cut short, it is
        done again, as the cursor is still that of before."""
        for conversation_id in conversation_ids:
            cursor, more = None, True
            while more:
                content = await self._network.changes(conversation_id, cursor)
                if content is None:
                    await self._offload(self._file.drop, conversation_id)
                    break
                changes = read_json(content, "more")
                await self._offload(self._file.apply, changes)
                cursor, more = changes["cursor"], changes["more"]

    def _take_in(self, answer: dict[str, Any], size: int, report: Resynced) -> None:
        moved, rows = self._file.apply_answer(answer)
        report.conversations += moved
        report.rows += rows
        report.joined += len(answer["joined"])
        report.gone += len(answer["gone"])
        report.bytes += size
        report.requests += 1


class _User:
    """What is done on one line: answers are matched to commands, and change sets taken in, in the order they come."""

    def __init__(self, sync: Sync, line: Line) -> None:
        self._sync = sync
        self._line = line
        self._sent: deque[Entry] = deque()
        self._settled = asyncio.Event()
        self._again = False

    async def flush(self) -> None:
        """Send what waits, one after another, before anything is followed."""
        while (entry := self._sync._outbox.next()) is not None:
            refusal = await self._upload(entry)
            if refusal is None:
                entry = self._sync._outbox.next() or entry  # with what was uploaded
                await self._line.send(entry.frame())
                refusal = await self._line.receive()
            if not self._settle(entry, refusal):
                raise Unreachable("the service cannot take commands now")

    async def _upload(self, entry: Entry) -> Frame | None:
        """Upload the files that go with a post; a frame that refuses it, if one was not taken."""
        outbox = self._sync._outbox
        while entry.files and (file := await self._sync._offload(outbox.unsent, entry)) is not None:
            number, name, size = file
            try:
                read = partial(outbox.part, number)
                answer = await self._sync._network.upload(entry.conversation_id, name, size, read)
            except Problem as problem:
                return {"type": "refused", "problem": problem.document()}
            await self._sync._offload(outbox.uploaded, number, answer["attachment_id"])
        return None

    async def live(self) -> None:
        """Follow everything, and send what comes into the outbox; until the line ends."""
        sync = self._sync
        await self._line.send({"type": "follow_all", "cursor": sync._file.cursor})
        while (answer := await self._line.receive())["type"] not in ("done", "refused"):
            self._take(answer)  # what moved just then may be told first
        if answer["type"] == "refused":
            raise problem_of(answer)
        if answer["rewound"] or answer["reset"]:
            raise Unreachable("the store was restored or failed over")
        sync._set(ReplicaState.LIVE)
        sending = asyncio.create_task(self._send())
        receiving = asyncio.create_task(self._receive())
        tasks = {sending, receiving}
        try:
            await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
            for task in tasks:
                if task.done():
                    task.result()  # either of them ends the line, and says why
        finally:
            for task in tasks:
                task.cancel()
            await asyncio.wait(tasks)

    async def _receive(self) -> None:
        while True:
            self._take(await self._line.receive())

    def _take(self, frame: Frame) -> None:
        file, kind = self._sync._file, frame["type"]
        if kind == "changes":
            file.apply(frame)
        elif kind == "unfollowed":
            file.drop(frame["conversation_id"])
        elif kind == "checkpoint":
            file.checkpoint(frame["cursor"])
        elif kind == "rewound":
            raise Unreachable("the store was restored or failed over")  # the next resync says what is lost
        elif kind in ("done", "refused") and self._sent:
            self._again = not self._settle(self._sent.popleft(), frame)
            self._settled.set()
        self._sync._told()

    async def _send(self) -> None:
        """One command at a time, so that they keep their order whatever is answered."""
        while True:
            self._sync._more.clear()
            entry = self._sync._outbox.next()
            if entry is None:
                await self._sync._more.wait()
                continue
            refusal = await self._upload(entry)
            if refusal is not None:
                self._again = not self._settle(entry, refusal)
            else:
                entry = self._sync._outbox.next() or entry  # with what was uploaded
                self._settled.clear()
                self._sent.append(entry)
                await self._line.send(entry.frame())
                await self._settled.wait()
            if self._again:
                await asyncio.sleep(_AGAIN_SECONDS)

    def _settle(self, entry: Entry, frame: Frame) -> bool:
        """What the answer to a command means; False: it is to be sent again."""
        outbox = self._sync._outbox
        if frame["type"] == "done":
            outbox.done(entry, frame.get("message"))
            return True
        result, message = outcome(entry, frame["problem"], self._line.user_id)
        if lost_files(entry, frame["problem"]) and entry.key not in self._sync.uploaded_again:
            self._sync.uploaded_again.add(entry.key)
            outbox.upload_again(entry)
            return True
        if result is Outcome.DONE:
            outbox.done(entry, message)
        elif result is Outcome.REFUSED:
            outbox.refused(entry, frame["problem"])
        self._sync._told()
        return result is not Outcome.AGAIN
