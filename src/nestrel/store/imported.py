"""What is known of posts that are imported: many at once, of few authors, and nearly all of them new."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from itertools import groupby
from uuid import UUID

from nestrel.core.commands import Post
from nestrel.core.posting import PostFacts
from nestrel.store.native import Connection, fetch, hashes, texts

_SEEN = """
SELECT key_hash, seq, fingerprint FROM messages
WHERE conversation_id = $1 AND key_hash IS NOT NULL AND key_hash = ANY($2::text::bytea[])
UNION ALL
SELECT key_hash, seq, NULL FROM expired_keys WHERE conversation_id = $1 AND key_hash = ANY($2::text::bytea[])
"""
_AUTHORS = """
SELECT clock_timestamp(), i.author_id, coalesce(m.author_n, 0) FROM unnest($2::text::text[]) AS i (author_id)
LEFT JOIN LATERAL (SELECT author_n FROM messages
    WHERE conversation_id = $1 AND author_id = i.author_id ORDER BY seq DESC LIMIT 1) m ON true
"""


async def read(connection: Connection, posts: Sequence[Post]) -> tuple[datetime, list[PostFacts]]:
    """The facts of imported posts, in order, and the database's time."""
    known: list[PostFacts] = []
    for conversation_id, run in groupby(posts, lambda post: post.conversation_id):
        now, facts = await _of_one(connection, conversation_id, list(run))
        known += facts
    return now, known


async def _of_one(
    connection: Connection, conversation_id: UUID, posts: Sequence[Post]
) -> tuple[datetime, list[PostFacts]]:
    found = await fetch(connection, _AUTHORS, conversation_id, texts(list({post.author_id for post in posts})))
    counts = {author_id: count for _, author_id, count in found}
    keys = [post.key_hash for post in posts if post.key_hash is not None]
    seen = {row[0]: row for row in await fetch(connection, _SEEN, conversation_id, hashes(keys))}
    nothing = (None, None, None)
    facts = []
    for post in posts:
        _, seq, fingerprint = seen.get(post.key_hash, nothing)
        facts.append(PostFacts(None, seq, fingerprint, counts[post.author_id]))
    return found[0][0], facts
