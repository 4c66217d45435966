"""Facts about posts that are imported: many at once, from few authors, and almost all of them new."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from itertools import groupby
from uuid import UUID

from nestrel.core.commands import Post
from nestrel.core.locked import Locked
from nestrel.core.posting import PostFacts
from nestrel.store.native import Connection, fetch, hashes, texts

# Each a look-up of its own, which can only be an index scan, whatever the planner knew of the table when it planned.
_IMPORTED_SEEN = """
SELECT i.n - 1, k.seq, k.fingerprint
FROM unnest($2::text::bytea[]) WITH ORDINALITY AS i (key_hash, n)
CROSS JOIN LATERAL (SELECT seq, fingerprint FROM nestrel.messages
    WHERE conversation_id = $1 AND key_hash = i.key_hash LIMIT 1) k
"""
_IMPORTED_EXPIRED = """
SELECT i.n - 1, k.seq
FROM unnest($2::text::bytea[]) WITH ORDINALITY AS i (key_hash, n)
CROSS JOIN LATERAL (SELECT seq FROM nestrel.expired_keys WHERE conversation_id = $1 AND key_hash = i.key_hash LIMIT 1) k
"""
_IMPORTED_AUTHORS = """
SELECT clock_timestamp(), i.author_id, coalesce(m.author_n, 0) FROM unnest($2::text::text[]) AS i (author_id)
LEFT JOIN LATERAL (SELECT author_n FROM nestrel.messages
    WHERE conversation_id = $1 AND author_id = i.author_id ORDER BY seq DESC LIMIT 1) m ON true
"""


async def read(
    connection: Connection, posts: Sequence[Post], locked: dict[int, Locked]
) -> tuple[datetime, list[PostFacts]]:
    """The facts of imported posts, in order, and the database's time."""
    known: list[PostFacts] = []
    for conversation_id, run in groupby(posts, lambda post: post.conversation_id):
        place = locked.get(conversation_id.int)
        expired = place is not None and place.stored_floor > 1
        now, facts = await _of_one(connection, conversation_id, list(run), expired=expired)
        known += facts
    return now, known


async def _of_one(
    connection: Connection, conversation_id: UUID, posts: Sequence[Post], *, expired: bool
) -> tuple[datetime, list[PostFacts]]:
    found = await fetch(connection, _IMPORTED_AUTHORS, conversation_id, texts(list({post.author_id for post in posts})))
    counts = {author_id: count for _, author_id, count in found}
    keys = hashes([post.key_hash for post in posts])
    seen = {n: (seq, mark) for n, seq, mark in await fetch(connection, _IMPORTED_SEEN, conversation_id, keys)}
    if expired:
        seen |= {n: (seq, None) for n, seq in await fetch(connection, _IMPORTED_EXPIRED, conversation_id, keys)}
    nothing = (None, None)
    facts = [PostFacts(None, *seen.get(n, nothing), counts[post.author_id]) for n, post in enumerate(posts)]
    return found[0][0], facts
