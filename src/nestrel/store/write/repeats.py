"""Whether posts were made before. This is asked where a new post would be refused, and a repeat must still get its
first answer."""

from __future__ import annotations

from collections.abc import Sequence

from nestrel.core.commands import Post
from nestrel.store.database import Database
from nestrel.store.native import array, fetch, hashes

# A look-up for each: asked whether one or the other EXISTS, the planner reads the whole of the second table once.
_REPEATS_KNOWN = """
SELECT count(*) FROM unnest($1::text::uuid[], $2::text::bytea[]) AS i (conversation_id, key_hash)
CROSS JOIN LATERAL (
    SELECT 1 FROM nestrel.messages WHERE conversation_id = i.conversation_id AND key_hash = i.key_hash
    UNION ALL
    SELECT 1 FROM nestrel.expired_keys WHERE conversation_id = i.conversation_id AND key_hash = i.key_hash
    LIMIT 1) known
"""


async def known(database: Database, posts: Sequence[Post]) -> bool:
    """Whether each of the posts is the repeat of one that was made before."""
    if any(post.key_hash is None for post in posts):
        return False
    ids, keys = array([post.conversation_id for post in posts]), hashes([post.key_hash for post in posts])
    async with database.read() as connection:
        [(found,)] = await fetch(connection, _REPEATS_KNOWN, ids, keys)
    return bool(found == len(posts))
