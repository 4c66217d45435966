"""The directory: the people whom somebody may find, by the words of their names."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from nestrel.core import limits
from nestrel.core.problems import invalid
from nestrel.core.words import LAST, words
from nestrel.store.native import Connection, fetch

# Someone stands in the directory under the first of their words that is looked for, and nowhere else; where none is,
# under the word with which their name begins.
_MATCHES = """
    w.word >= $2 AND w.word < $3 AND (w.word, w.user_id) > ($4, $5)
    AND CASE WHEN $2 = '' THEN w.n = 0 ELSE NOT EXISTS (SELECT FROM nestrel.person_words x
        WHERE x.user_id = w.user_id AND x.word >= $2 AND x.word < w.word) END
    AND NOT EXISTS (SELECT FROM unnest($6::text[], $7::text[]) AS also (low, high)
        WHERE NOT EXISTS (SELECT FROM nestrel.person_words x
            WHERE x.user_id = w.user_id AND x.word >= also.low AND x.word < also.high))
"""
# By the words, when those whom the caller may see are many or all.
_BY_WORD = f"""
SELECT w.word, w.user_id FROM nestrel.person_words w
WHERE $1::text IS NOT NULL AND {_MATCHES}
ORDER BY w.word, w.user_id LIMIT $8
"""
# By those whom the caller may see, when they are few: each of them is looked up, and nobody else, so that the time that
# it takes says nothing of others. OFFSET keeps the planner from beginning with everybody who is called so.
_BY_SHARED = f"""
SELECT w.word, w.user_id
FROM (SELECT DISTINCT t.user_id FROM nestrel.members m JOIN nestrel.members t ON t.conversation_id = m.conversation_id
      WHERE m.user_id = $1 AND m.left_at IS NULL AND EXISTS (SELECT FROM nestrel.conversations c
          WHERE c.id = m.conversation_id AND c.closed_at IS NULL)
      UNION SELECT $1) seen
CROSS JOIN LATERAL (SELECT w.word, w.user_id FROM nestrel.person_words w
      WHERE w.user_id = seen.user_id AND {_MATCHES} OFFSET 0) w
ORDER BY w.word, w.user_id LIMIT $8
"""
_SHARED = """
SELECT coalesce(sum(n), 0)::bigint FROM (
    SELECT (SELECT member_count FROM nestrel.conversations WHERE id = m.conversation_id) AS n
    FROM nestrel.members m WHERE m.user_id = $1 AND m.left_at IS NULL LIMIT $2) c
"""
_VISIBLE = """
SELECT i.user_id FROM unnest($2::text[]) WITH ORDINALITY AS i (user_id, n)
WHERE i.user_id = $1 OR EXISTS (
    SELECT FROM nestrel.members t
    JOIN nestrel.members m ON m.conversation_id = t.conversation_id AND m.user_id = $1 AND m.left_at IS NULL
    JOIN nestrel.conversations c ON c.id = t.conversation_id AND c.closed_at IS NULL
    WHERE t.user_id = i.user_id)
ORDER BY i.n
"""
# Whoever is known stands in the directory with the first word of their name.
_PERSON_EVERYONE = "SELECT DISTINCT user_id FROM nestrel.person_words WHERE user_id > $1 ORDER BY user_id LIMIT $2"
_PERSON_KNOWN = """
SELECT EXISTS (SELECT FROM nestrel.profiles WHERE user_id = $1)
    OR EXISTS (SELECT FROM nestrel.members WHERE user_id = $1)
"""

_PAIRS = 20_000
"""With so many fellow members, counted in each conversation, they are few enough to begin with."""
_CHUNK = 500


_WORD_OF = """
SELECT min(word) FROM nestrel.person_words
WHERE user_id = $1 AND word >= $2 AND word < $3 AND ($2 <> '' OR n = 0)
"""


class DirectoryPosition(NamedTuple):
    """A place in the directory: the word that was found, and whose it is."""

    word: str
    user_id: str


async def find(
    connection: Connection, viewer: str | None, q: str, limit: int, after: str | None
) -> tuple[list[str], str | None]:
    """User ids of whom the viewer may see (None: everyone), whose name or id has a word that begins with each word of
    `q`; without words in it, all. Also the id behind which the next page begins, None at the end. A page looks at a
    bounded number of names and may be short.

    Raises:
        InvalidRequest: who stands at `after` is called otherwise by now.
    """
    prefixes = sorted(words(q), key=len, reverse=True)
    if q.strip() and not prefixes:
        return [], None
    first, also = (prefixes[0], prefixes[1:]) if prefixes else ("", [])
    low, high = first, first + LAST
    word = ""
    if after is not None:
        word = (await fetch(connection, _WORD_OF, after, low, high))[0][0]
        if word is None:
            raise invalid("/cursor", "whoever stands there is called otherwise by now; ask again without one")
    values = low, high, word, after or "", also, [prefix + LAST for prefix in also]
    if viewer is not None and await _few(connection, viewer):
        found = [DirectoryPosition(*row) for row in await fetch(connection, _BY_SHARED, viewer, *values, limit + 1)]
        return [place.user_id for place in found[:limit]], found[limit - 1].user_id if len(found) > limit else None
    return await _walk(connection, viewer, values, limit)


async def everyone(connection: Connection, limit: int, after: str) -> tuple[list[str], str | None]:
    """User ids of everyone of whom there is anything, in the order of their ids, behind `after`; also the id behind
    which the next page begins, None at the end."""
    found = [row[0] for row in await fetch(connection, _PERSON_EVERYONE, after, limit + 1)]
    return found[:limit], found[limit - 1] if len(found) > limit else None


async def _walk(
    connection: Connection, viewer: str | None, values: tuple[object, ...], limit: int
) -> tuple[list[str], str | None]:
    """The directory by its words, some at a time, leaving out whom the viewer may not see."""
    seen, looked = list[DirectoryPosition](), 0
    low, high, word, user_id, *also = values
    while True:
        rows = await fetch(connection, _BY_WORD, "", low, high, word, user_id, *also, _CHUNK)
        looked += len(rows)
        visible = await _visible(connection, viewer, [row[1] for row in rows])
        seen += [DirectoryPosition(*row) for row in rows if row[1] in visible]
        if len(seen) > limit:
            return [place.user_id for place in seen[:limit]], seen[limit - 1].user_id
        if len(rows) < _CHUNK:
            return [place.user_id for place in seen], None
        word, user_id = rows[-1]
        if looked >= limits.NAMES_PROBED:
            return [place.user_id for place in seen], user_id


async def _few(connection: Connection, viewer: str) -> bool:
    return bool((await fetch(connection, _SHARED, viewer, _PAIRS))[0][0] <= _PAIRS)


async def _visible(connection: Connection, viewer: str | None, user_ids: Sequence[str]) -> set[str]:
    if viewer is None:
        return set(user_ids)
    return {row[0] for row in await fetch(connection, _VISIBLE, viewer, user_ids)}


async def visible(connection: Connection, viewer: str | None, user_id: str) -> bool:
    """Whether the viewer may see someone: who shares, or shared, a conversation with them; None sees everyone of whom
    there is anything."""
    if viewer is None:
        return bool((await fetch(connection, _PERSON_KNOWN, user_id))[0][0])
    return bool(await _visible(connection, viewer, [user_id]))
