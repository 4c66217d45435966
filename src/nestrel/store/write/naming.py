"""Mentions: whether the people named are members, and the rows by which mentions are counted."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from uuid import UUID

from nestrel.core.commands import Command, Edit, Post
from nestrel.core.locked import Locked, MessageState
from nestrel.core.posting import Accepted
from nestrel.store.native import Connection, array, execute, fetch, texts

_NAMING_MEMBERS = """
SELECT i.n - 1 FROM unnest($1::text::uuid[], $2::text::text[]) WITH ORDINALITY AS i (conversation_id, user_id, n)
CROSS JOIN LATERAL (SELECT 1 FROM nestrel.members
    WHERE conversation_id = i.conversation_id AND user_id = i.user_id AND left_at IS NULL LIMIT 1) m
"""
_NAMING_NAME = """
INSERT INTO nestrel.mentions (conversation_id, user_id, seq)
SELECT * FROM unnest($1::text::uuid[], $2::text::text[], $3::text::bigint[]) ON CONFLICT DO NOTHING
"""
_UNNAME = """
DELETE FROM nestrel.mentions m USING unnest($1::text::uuid[], $2::text::text[], $3::text::bigint[])
    AS u (conversation_id, user_id, seq)
WHERE m.conversation_id = u.conversation_id AND m.user_id = u.user_id AND m.seq = u.seq
"""

Row = tuple[UUID, str, int]


async def strangers(connection: Connection, commands: Sequence[Command]) -> Mapping[Command, Sequence[str]]:
    """Of the users whom posts and edits name, those who are no members, by the command. What is
    imported names whom it named where it was written."""
    asked = [
        (command, user)
        for command in commands
        if isinstance(command, Post | Edit)
        and command.mentions
        and not (isinstance(command, Post) and command.imported)
        for user in command.mentions
    ]
    if not asked:
        return {}
    ids, users = array([command.conversation_id for command, _ in asked]), texts([user for _, user in asked])
    members = {row[0] for row in await fetch(connection, _NAMING_MEMBERS, ids, users)}
    found: dict[Command, list[str]] = {}
    for n, (command, user) in enumerate(asked):
        if n not in members:
            found.setdefault(command, []).append(user)
    return found


async def name(connection: Connection, accepted: Sequence[Accepted]) -> None:
    """Write the rows of new messages."""
    await _change(connection, [], [row for one in accepted for row in _rows(one)])


async def rename(connection: Connection, changed: Mapping[MessageState, Locked]) -> None:
    """Bring the rows of messages that name others than before to date."""
    gone, come = list[Row](), list[Row]()
    for state, place in changed.items():
        before = state.named_before
        if before is not None:
            now = set(state.mentions or ())
            gone += [(place.id, user, state.seq) for user in sorted(before - now)]
            come += [(place.id, user, state.seq) for user in sorted(now - before) if user != state.author_id]
    await _change(connection, gone, come)


def _rows(one: Accepted) -> list[Row]:
    post = one.post
    return [(one.place.id, user, one.seq) for user in post.mentions if user != post.author_id]


async def _change(connection: Connection, gone: Sequence[Row], come: Sequence[Row]) -> None:
    for statement, wanted in ((_UNNAME, gone), (_NAMING_NAME, come)):
        if wanted:
            ids, users, seqs = zip(*wanted, strict=True)
            await execute(connection, statement, array(ids), texts(users), array(seqs))
