"""Checks before people are added to conversations: whether they may be added, and whether there is room. They are
counted in the transaction that adds them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from uuid import UUID

from nestrel.core.callers import Caller
from nestrel.core.problems import Forbidden, invalid
from nestrel.core.quotas import Adding, Quotas, cannot_add, over
from nestrel.store.native import Connection, fetch
from nestrel.store.write import blocks, erased

# Of the others, who is in no direct conversation and no closed group with someone.
_STRANGERS = """
SELECT count(*) FROM unnest($2::text[]) AS i (user_id)
WHERE NOT EXISTS (
    SELECT FROM nestrel.members mine
    JOIN nestrel.members theirs ON theirs.conversation_id = mine.conversation_id AND theirs.user_id = i.user_id
     AND theirs.left_at IS NULL
    JOIN nestrel.conversations c ON c.id = mine.conversation_id AND c.closed_at IS NULL
     AND (c.kind = 'direct' OR (c.kind = 'group' AND c.visibility = 'closed'))
    WHERE mine.user_id = $1 AND mine.left_at IS NULL)
"""
# Waits for whoever else spends of the same day: the row is one's own.
_SPEND = """
INSERT INTO nestrel.used_today AS u (user_id, day, conversations, additions)
VALUES ($1, (clock_timestamp() AT TIME ZONE 'UTC')::date, $2, $3)
ON CONFLICT (day, user_id) DO UPDATE
SET conversations = u.conversations + excluded.conversations, additions = u.additions + excluded.additions
RETURNING conversations, additions, clock_timestamp()
"""
_FULL = """
SELECT i.user_id FROM unnest($1::text[]) AS i (user_id)
CROSS JOIN LATERAL (SELECT count(*) AS n FROM (
    SELECT FROM nestrel.members WHERE user_id = i.user_id AND left_at IS NULL LIMIT $2) m) held
WHERE held.n >= $2 LIMIT 1
"""
_UNKNOWN = """
SELECT i.user_id FROM unnest($1::text[]) WITH ORDINALITY AS i (user_id, n)
WHERE NOT EXISTS (SELECT FROM nestrel.profiles WHERE user_id = i.user_id) ORDER BY i.n LIMIT 1
"""
_EVERYONES = "SELECT 1 FROM nestrel.conversations WHERE id = $1 AND is_default"
_ADDING_FORGET = "DELETE FROM nestrel.used_today WHERE day < (clock_timestamp() AT TIME ZONE 'UTC')::date - 1"


async def check_making(connection: Connection, caller: Caller, quotas: Quotas) -> None:
    """Whether a member may make a conversation, and one more today.

    Raises:
        Forbidden: only backends make conversations here.
        OverQuota: they have made as many today as they may.
    """
    if caller.service:
        return
    if not quotas.members_make:
        raise Forbidden("only a trusted backend makes conversations here")
    if quotas.conversations:
        made, _, now = await _spend(connection, caller.user_id, 1, 0)
        if made > quotas.conversations:
            raise over(
                "conversations", quotas.conversations, f"you have made {quotas.conversations:,} conversations today",
                now=now,
            )  # fmt: skip


async def check_adding(connection: Connection, caller: Caller, others: Sequence[str], quotas: Quotas) -> None:
    """Whether a member may add these people.

    Raises:
        Forbidden: one of them has blocked the member, or is not acquainted with them, or only backends add people.
        OverQuota: they have added as many strangers today as they may.
    """
    if caller.service or not others:
        return
    if quotas.adding is Adding.BACKEND or await blocks.blocked_by(connection, caller.user_id, others):
        raise cannot_add()
    if quotas.adding is Adding.ANYONE and not quotas.additions:
        return
    [(strangers,)] = await fetch(connection, _STRANGERS, caller.user_id, others)
    if strangers and quotas.adding is Adding.ACQUAINTED:
        raise cannot_add()
    if strangers and quotas.additions:
        _, added, now = await _spend(connection, caller.user_id, 0, strangers)
        if added > quotas.additions:
            raise over(
                "additions", quotas.additions,
                f"you have added {quotas.additions:,} people today with whom you are not acquainted", now=now,
            )  # fmt: skip


async def check_known(connection: Connection, coming: Sequence[str], quotas: Quotas, field: str) -> None:
    """Whether nobody of those who come was erased, and each was ever here, or was put here by a backend, where that is
    asked for. `field` is the part of the request that names them.

    Raises:
        InvalidRequest: one of them was erased, or is not known.
    """
    await erased.check_none(connection, coming, field)
    if quotas.only_known and (unknown := await fetch(connection, _UNKNOWN, coming)):
        raise invalid(field, f"nobody called {unknown[0][0]!r} is known here: they sign in first, or a trusted backend "
                             "puts them there (PUT /v1/people)")  # fmt: skip


async def check_room(
    connection: Connection,
    caller: Caller,
    coming: Sequence[str],
    members: int,
    quotas: Quotas,
    conversation_id: UUID | None = None,
) -> None:
    """Whether a conversation of so many `members`, those who come among them, is not too large, unless it is
    everyone's, and none of those who come is in too many.

    Raises:
        OverQuota: it is, or one is.
    """
    if caller.service:
        return
    large = quotas.members and members > quotas.members
    if large and not (conversation_id and await fetch(connection, _EVERYONES, conversation_id)):
        raise over("members", quotas.members, f"a conversation has at most {quotas.members:,} members")
    if quotas.memberships and await fetch(connection, _FULL, coming, quotas.memberships):
        whose = "you are" if list(coming) == [caller.user_id] else "someone of these is"
        raise over("memberships", quotas.memberships, f"{whose} in {quotas.memberships:,} conversations already")


async def forget(connection: Connection) -> None:
    """What was used on days that are over counts no more."""
    await fetch(connection, _ADDING_FORGET)


async def _spend(connection: Connection, user_id: str, conversations: int, additions: int) -> tuple[int, int, datetime]:
    [(made, added, now)] = await fetch(connection, _SPEND, user_id, conversations, additions)
    return made, added, now
