"""Posts that an application has left in the database with a transaction of its own: they wait until a process takes
them through the write path, in one transaction with their rows.

It is what is present that is taken, and never what lies behind a position: a transaction that took its ticket long
ago and commits now is found as any other, and nobody waits for it.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import NamedTuple
from uuid import UUID

from nestrel.core import limits
from nestrel.core.commands import Post
from nestrel.core.problems import Problem
from nestrel.store import locks, rows
from nestrel.store.database import Database
from nestrel.store.native import Connection, array, execute, fetch, texts
from nestrel.store.write import erased
from nestrel.store.write.answers import Growth, Written
from nestrel.store.write.batch import HELD, write

_POST_ANY = "SELECT EXISTS (SELECT FROM nestrel.posts_waiting), EXISTS (SELECT FROM nestrel.acts_waiting)"
# One process at a time, so that the posts of a conversation keep their order; the lock ends with the transaction,
# however that ends. What waits is read behind it: what the process before took is gone by then.
LOCK = "posts waiting"
LAST = 2**63 - 1
"""Behind every ticket."""
# One of before there was a limit at the call is refused for its size, and not brought here.
_POST_TAKE = f"""
SELECT ticket, conversation_id, author_id, key, CASE WHEN octet_length(body) <= {4 * limits.BODY_CHARS} THEN body END,
       format, CASE WHEN octet_length(attributes::text) <= {limits.LEFT_ATTRIBUTES_BYTES} THEN attributes::text
                    WHEN attributes IS NOT NULL THEN '' END,
       CASE WHEN cardinality(mentions) <= {limits.LEFT_MENTIONS} THEN mentions END, reply_to, posted_as
FROM nestrel.posts_waiting WHERE conversation_id <> ALL($1::text::uuid[]) AND ticket < $3 ORDER BY ticket LIMIT $2
"""
_POST_DONE = "DELETE FROM nestrel.posts_waiting WHERE ticket = ANY($1::text::bigint[])"
_POST_REFUSED = """
WITH gone AS (DELETE FROM nestrel.posts_waiting WHERE ticket = ANY($1::text::bigint[]) RETURNING *)
INSERT INTO nestrel.refused_posts (ticket, conversation_id, author, key, problem)
SELECT ticket, conversation_id, CASE WHEN NOT nestrel.erased_v1(author_id) THEN author_id END, key, r.problem::json
FROM gone JOIN unnest($1::text::bigint[], $2::text::text[]) AS r (refused, problem) ON r.refused = ticket
"""
_STANDING = """
SELECT count(*), coalesce(extract(epoch FROM clock_timestamp() - min(waits_since)), 0)::double precision,
       (SELECT count(*) FROM nestrel.refused_posts)
FROM (SELECT waits_since FROM nestrel.posts_waiting UNION ALL SELECT waits_since FROM nestrel.acts_waiting) w
"""
# An act that is no post has no key.
_POST_FORGET = f"""
DELETE FROM nestrel.refused_posts WHERE refused_at < clock_timestamp() - interval '{limits.REFUSED_POST_DAYS} days'
    OR (key IS NULL AND refused_at < clock_timestamp() - interval '{limits.REFUSED_ACT_DAYS} days')
"""


class Waiting(NamedTuple):
    """A post that waits. `attributes` is JSON as it was given, `posted_as` the role of the database that left it. Where
    one of its parts is larger than could ever be right, it is None, of attributes empty."""

    ticket: int
    conversation_id: UUID
    author_id: str
    key: str
    body: str | None
    format: str
    attributes: str | None
    mentions: list[str] | None
    reply_to: int | None
    posted_as: str


class TakenPosts(NamedTuple):
    """What one transaction took: the commands that were carried out with their answers, what moved, and how many were
    refused; the conversations that somebody held, whose posts wait; and whether there may be more."""

    units: list[tuple[Post, list[Written]]]
    growths: list[Growth]
    refused: int
    held: set[UUID]
    more: bool


class WaitingCounts(NamedTuple):
    """How many wait, for how many seconds the first of them has, and how many stand as refused."""

    waiting: int
    seconds: float
    refused: int


async def any_waits(connection: Connection) -> tuple[bool, bool]:
    """Whether there are posts to take, and whether there are other acts."""
    [(posts, acts)] = await fetch(connection, _POST_ANY)
    return posts, acts


async def take(
    database: Database,
    decide: Callable[[Waiting], Post | Problem],
    followed: Callable[[UUID], bool],
    edit_window: timedelta | None,
    *,
    most: int = limits.GROUP_COMMANDS,
    but: set[UUID],
    before: int = LAST,
) -> TakenPosts | None:
    """Take what waits, in the order of tickets and those `before` one, but for conversations `but`; None while another
    process does. `decide` makes a command of each, or says why it can never be one."""
    async with database.write() as connection:
        if not await locks.alone(connection, LOCK):
            return None
        found = [Waiting(*row) for row in await fetch(connection, _POST_TAKE, array(list(but)), most, before)]
        posts: list[tuple[int, Post]] = []
        refused: dict[int, Problem] = {}
        gone = await erased.among(connection, {one.author_id for one in found}) if found else set()
        for one in found:
            made = decide(one) if one.author_id not in gone else erased.already("/author")
            if isinstance(made, Post):
                posts.append((one.ticket, made))
            else:
                refused[one.ticket] = made
        answers, growths, _ = (
            await write(database, connection, [[post] for _, post in posts], followed, edit_window, patient=False)
            if posts
            else ([], [], [])
        )
        units: list[tuple[Post, list[Written]]] = []
        done: list[int] = []
        held: set[UUID] = set()
        for (ticket, post), answer in zip(posts, answers, strict=True):
            if answer is HELD:
                held.add(post.conversation_id)
            elif isinstance(answer, Problem):
                refused[ticket] = answer
            else:
                assert isinstance(answer, list)
                done.append(ticket)
                units.append((post, answer))
        if done:
            await execute(connection, _POST_DONE, array(done))
        await _refuse(connection, refused)
    return TakenPosts(units, growths, len(refused), held, len(found) == most)


async def _refuse(connection: Connection, refused: dict[int, Problem]) -> None:
    if refused:
        documents = [rows.dump(problem.document()).decode() for problem in refused.values()]
        await execute(connection, _POST_REFUSED, array(list(refused)), texts(documents))


async def first(database: Database, but: set[UUID], before: int = LAST) -> UUID | None:
    """The conversation of the post that would be taken next."""
    async with database.read() as connection:
        found = await fetch(connection, _POST_TAKE, array(list(but)), 1, before)
        return found[0][1] if found else None


async def counts(connection: Connection) -> WaitingCounts:
    """What waits, and what was refused."""
    return WaitingCounts(*(await fetch(connection, _STANDING))[0])


async def forget(connection: Connection) -> None:
    """Forget what was refused long ago."""
    await execute(connection, _POST_FORGET)
