"""Erasing a person: what they wrote becomes tombstones, live and archived, and a record of the act stays."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.problems import NotFound, invalid
from nestrel.store import admitted, rows
from nestrel.store.database import Database
from nestrel.store.keep import archive, forgetting, identities, retention
from nestrel.store.native import Connection, execute, fetch
from nestrel.store.rows import Wire
from nestrel.store.write import audit, erased

_ERASING_COLUMNS = "id, user_id, asked_by, asked_at, finished_at, messages, archived, conversations, identity, shown_as"
_ERASING_BEGIN = f"""
INSERT INTO nestrel.erasures (id, user_id, asked_by, asked_at, identity, shown_as)
VALUES ($1, $2, $3, clock_timestamp(), $4::text IS NOT NULL, $4) RETURNING {_ERASING_COLUMNS}
"""
_ERASING_ONE = f"SELECT {_ERASING_COLUMNS} FROM nestrel.erasures WHERE id = $1"
_ERASING_DELETE = "DELETE FROM nestrel.erasures WHERE id = $1 AND finished_at IS NOT NULL"
_ERASING_PAGE = f"SELECT {_ERASING_COLUMNS} FROM nestrel.erasures WHERE id < $1 ORDER BY id DESC LIMIT $2"
_LIVE = """
SELECT c.id, n.messages FROM (
    SELECT id FROM nestrel.conversations WHERE closed_at IS NULL AND id > $2 ORDER BY id LIMIT $3) c
CROSS JOIN LATERAL (SELECT count(*) AS messages FROM nestrel.messages
    WHERE conversation_id = c.id AND author_id = $1 AND removed_at IS NULL) n
ORDER BY c.id
"""
_ERASING_ARCHIVED = """
SELECT a.conversation_id, sum(a.messages)::bigint FROM nestrel.archive_authors a
WHERE a.author_id = $1 AND (SELECT closed_at FROM nestrel.conversations WHERE id = a.conversation_id) IS NULL GROUP BY 1
"""
_LEASE = "clock_timestamp() + interval '60 seconds'"
_ERASING_CLAIM = f"""
UPDATE nestrel.erasures SET claimed_by = $1, claimed_until = {_LEASE} WHERE id = (
    SELECT id FROM nestrel.erasures
    WHERE finished_at IS NULL AND (claimed_by = $1 OR coalesce(claimed_until < clock_timestamp(), true))
    ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED)
RETURNING {_ERASING_COLUMNS}, at_id
"""
# Who writes on while this runs does so after the act: only what was there when it was asked for goes.
_ERASING_NEXT = """
SELECT c.id FROM nestrel.conversations c
WHERE c.id >= $2 AND c.closed_at IS NULL AND (
    EXISTS (SELECT FROM nestrel.messages WHERE conversation_id = c.id AND author_id = $1 AND removed_at IS NULL
            AND ($3::timestamptz IS NULL OR created_at <= $3))
    OR EXISTS (SELECT FROM nestrel.archive_authors WHERE author_id = $1 AND conversation_id = c.id))
ORDER BY c.id LIMIT 1
"""
_SEQS = """
SELECT seq FROM nestrel.messages WHERE conversation_id = $1 AND author_id = $2 AND removed_at IS NULL
    AND ($3::timestamptz IS NULL OR created_at <= $3)
    AND seq >= (SELECT floor FROM nestrel.conversations WHERE id = $1) AND seq > $4 ORDER BY seq LIMIT $5
"""
_ERASING_LOCK_BACKLOG = "SELECT FROM nestrel.expired_backlog WHERE conversation_id = $1 FOR UPDATE"
_EMPTY_EXPIRED = """
WITH gone AS (
    UPDATE nestrel.messages SET body = '', attributes = NULL, mentions = NULL, attachments = NULL,
           attached_bytes = NULL, edits = 0, edited_at = NULL,
           fingerprint = NULL, removed_at = clock_timestamp(), removed_by = $3
    WHERE conversation_id = $1 AND author_id = $2 AND removed_at IS NULL
      AND seq < (SELECT floor FROM nestrel.conversations WHERE id = $1) RETURNING seq
),
edits AS (DELETE FROM nestrel.message_edits WHERE conversation_id = $1 AND seq IN (SELECT seq FROM gone)),
counts AS (DELETE FROM nestrel.reaction_counts WHERE conversation_id = $1 AND seq IN (SELECT seq FROM gone)),
marks AS (DELETE FROM nestrel.reactions WHERE conversation_id = $1 AND seq IN (SELECT seq FROM gone)),
named AS (DELETE FROM nestrel.mentions WHERE conversation_id = $1 AND seq IN (SELECT seq FROM gone)),
loose AS (
    DELETE FROM nestrel.attached WHERE conversation_id = $1 AND seq IN (SELECT seq FROM gone) RETURNING attachment_id
),
queued AS (
    INSERT INTO nestrel.loosened (conversation_id, attachment_id) SELECT DISTINCT $1, attachment_id FROM loose
    ON CONFLICT DO NOTHING
)
SELECT count(*) FROM gone
"""
# What they have uploaded and no message bears goes at once; the rest went with the messages.
_ERASING_UNUSED = """
WITH mine AS (
    SELECT conversation_id, id FROM nestrel.attachments WHERE uploader_id = $1 AND unused_since IS NOT NULL
    FOR UPDATE SKIP LOCKED
)
INSERT INTO nestrel.loosened (conversation_id, attachment_id) SELECT conversation_id, id FROM mine
ON CONFLICT DO NOTHING
"""
_PROGRESS = """
UPDATE nestrel.erasures SET at_id = $2, messages = messages + $3, archived = archived + $4,
       conversations = conversations + $5, claimed_until = clock_timestamp() + interval '60 seconds'
WHERE id = $1 AND claimed_by = $6 RETURNING id
"""
# A process asks every two seconds; what it was asked before that is over by then.
_LEARNED = "SELECT asked_at < clock_timestamp() - interval '4 s' FROM nestrel.erasures WHERE id = $1"
_ERASING_FINISH = "UPDATE nestrel.erasures SET finished_at = clock_timestamp() WHERE id = $1"

STEP = 500
"""Live messages that are removed at one time."""
_SEGMENTS = 4
_CHUNK = 1_000


@dataclass(frozen=True, slots=True)
class Erasure:
    """The record of the act: who, by whom, and what it has emptied so far."""

    id: UUID
    user_id: str
    asked_by: str
    asked_at: datetime
    finished_at: datetime | None
    messages: int
    archived: int
    conversations: int
    identity: bool
    shown_as: str | None

    @property
    def until(self) -> datetime | None:
        """Up to when what they wrote goes; None for all of it. Who writes on does so after the act, but nobody does who
        is not let in any more."""
        return None if self.identity else self.asked_at

    def wire(self) -> Wire:
        return {
            "id": str(self.id),
            "user_id": self.user_id,
            "identity": self.identity,
            "shown_as": self.shown_as,
            "asked_by": self.asked_by,
            "asked_at": rows.wire_time(self.asked_at),
            "finished_at": rows.wire_time(self.finished_at),
            "messages": self.messages,
            "archived": self.archived,
            "conversations": self.conversations,
        }


@dataclass(frozen=True, slots=True)
class Extent:
    """What a person has written and has not been removed: live messages, archived ones, and in how many
    conversations."""

    messages: int
    archived: int
    conversations: int


async def extent(connection: Connection, user_id: str) -> Extent:
    """Count what erasing someone would empty."""
    conversations: set[Any] = set()
    live, after = 0, UUID(int=0)
    while found := await fetch(connection, _LIVE, user_id, after, _CHUNK):
        after = found[-1][0]
        live += sum(row[1] for row in found)
        conversations |= {row[0] for row in found if row[1]}
    archived = await fetch(connection, _ERASING_ARCHIVED, user_id)
    return Extent(live, sum(row[1] for row in archived), len(conversations | {row[0] for row in archived}))


async def begin(database: Database, id_: UUID, user_id: str, caller: Caller, *, identity: bool = False) -> Erasure:
    """Record that someone is to be erased; with their `identity`, under which nobody is let in from the commit on.

    Raises:
        InvalidRequest: the identity was erased already, or is the caller's own.
    """
    if identity and user_id == caller.user_id:
        raise invalid("/user_id", "a backend does not erase its own identity")
    async with database.write() as connection:
        await admitted.check(connection, caller)
        await erased.check_none(connection, [user_id], "/user_id")
        shown = identities.new_name() if identity else None
        if identity and not await erased.bar(connection, id_, user_id):
            raise erased.already("/user_id")  # by another one, at this moment
        after = {"erasure": str(id_)} | ({"identity": True} if identity else {})
        await audit.record(connection, caller, Act.ERASED, user_id=user_id, after=after)
        return Erasure(*(await fetch(connection, _ERASING_BEGIN, id_, user_id, caller.user_id, shown))[0])


async def delete(database: Database, id_: UUID, caller: Caller) -> None:
    """Let an identity that was erased be somebody's again, and forget the record of it; the audit keeps both acts.

    Raises:
        NotFound: there is no such erasure.
        InvalidRequest: it is under way, or erased no identity.
    """
    async with database.write() as connection:
        await admitted.check(connection, caller)
        found = await show(connection, id_)
        if found is None:
            raise NotFound(f"there is no erasure {id_}")
        if not found.identity:
            raise invalid("/erasure_id", "this erasure left the identity, so that there is nothing to give back; its "
                                         "record stays")  # fmt: skip
        if found.finished_at is None:
            raise invalid("/erasure_id", "this erasure is under way; delete it when it has finished")
        await erased.lift(connection, id_)
        await execute(connection, _ERASING_DELETE, id_)
        await audit.record(connection, caller, Act.ERASURE_DELETED, user_id=found.user_id, after={"erasure": str(id_)})


async def show(connection: Connection, id_: UUID) -> Erasure | None:
    found = await fetch(connection, _ERASING_ONE, id_)
    return Erasure(*found[0]) if found else None


async def page(connection: Connection, limit: int, after: UUID) -> tuple[list[Erasure], UUID | None]:
    """Records, newest first, and the id to continue after; None at the end."""
    found = [Erasure(*row) for row in await fetch(connection, _ERASING_PAGE, after, limit + 1)]
    return found[:limit], found[limit - 1].id if len(found) > limit else None


async def claim(connection: Connection, node: str) -> tuple[Erasure, UUID] | None:
    """An erasure that is not finished, with the conversation that it has come to, for a process: it has it for a
    minute from each `progress` on, however long the whole takes. None if there is none, or others have all of them."""
    found = await fetch(connection, _ERASING_CLAIM, node)
    return (Erasure(*found[0][:-1]), found[0][-1]) if found else None


async def next_conversation(connection: Connection, erasure: Erasure, at: UUID) -> UUID | None:
    """The next conversation with something to empty."""
    found = await fetch(connection, _ERASING_NEXT, erasure.user_id, at, erasure.until)
    return found[0][0] if found else None


async def live_seqs(connection: Connection, conversation_id: UUID, erasure: Erasure, after: int) -> list[int]:
    """Some of the person's messages behind `after` that are still kept; the write path removes them, as for
    everyone."""
    found = await fetch(connection, _SEQS, conversation_id, erasure.user_id, erasure.until, after, STEP)
    return [row[0] for row in found]


async def empty_expired(database: Database, conversation_id: UUID, erasure: Erasure) -> tuple[int, bool]:
    """Empty the person's messages below the floor: those that wait for the sweep, and some segments. How many, and
    whether there may be more."""
    await retention.settle(database, [conversation_id])
    async with database.write() as connection:
        # A sweep that has read them is waited for: what it has written is in the archive then.
        await execute(connection, _ERASING_LOCK_BACKLOG, conversation_id)
        [(emptied,)] = await fetch(connection, _EMPTY_EXPIRED, conversation_id, erasure.user_id, erasure.asked_by)
    for _ in range(_SEGMENTS):
        async with database.write() as connection:
            some = await archive.erase(connection, conversation_id, erasure.user_id, erasure.asked_by, erasure.asked_at)
        if some is None:
            return emptied, False
        emptied += some
    return emptied, True


async def progress(
    connection: Connection,
    erasure: Erasure,
    node: str,
    at: UUID,
    *,
    messages: int = 0,
    archived: int = 0,
    finished: bool = False,
) -> bool:
    """Keep how far an erasure has come; `finished` with the conversation at which it stands. False: another process
    has taken it over."""
    return bool(await fetch(connection, _PROGRESS, erasure.id, at, messages, archived, int(finished), node))


async def learned(connection: Connection, erasure: Erasure) -> bool:
    """Whether every process knows by now that nobody is let in as that person, nor writes for them."""
    return bool((await fetch(connection, _LEARNED, erasure.id))[0][0])


async def finish(connection: Connection, erasure: Erasure) -> None:
    """Let what is left go, and end the erasure."""
    await execute(connection, _ERASING_UNUSED, erasure.user_id)
    await forgetting.forget(connection, erasure.user_id)
    if erasure.shown_as is not None:
        await identities.forget_elsewhere(connection, erasure.user_id, erasure.shown_as)
    await execute(connection, _ERASING_FINISH, erasure.id)
