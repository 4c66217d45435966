"""Erases what is stored about a person outside of their messages, and what is kept for a limited time once that is
over."""

from __future__ import annotations

from nestrel.store.native import Connection, execute
from nestrel.store.write import adding, erased, holding, made_keys, reports, sessions, waiting_posts

# Whom others block or keep out is theirs to say, and stays; words that were written about it go.
_FORGET = (
    """
    WITH gone AS (DELETE FROM nestrel.blocks WHERE user_id = $1 RETURNING blocked_id)
    UPDATE nestrel.conversations c SET blocked = false
    FROM gone JOIN nestrel.members m ON m.user_id = $1
    JOIN nestrel.members other ON other.conversation_id = m.conversation_id AND other.user_id = gone.blocked_id
    WHERE c.id = m.conversation_id AND c.kind = 'direct' AND c.blocked
      AND NOT EXISTS (SELECT FROM nestrel.blocks b WHERE b.user_id = gone.blocked_id AND b.blocked_id = $1)
    """,
    "UPDATE nestrel.kept_out SET reason = NULL WHERE (user_id = $1 OR kept_out_by = $1) AND reason IS NOT NULL",
    "UPDATE nestrel.barred SET reason = NULL WHERE (user_id = $1 OR suspended_by = $1) AND reason IS NOT NULL",
    "SELECT nestrel.forget_reasons_v1($1)",
    "UPDATE nestrel.reports SET reason = '' WHERE reported_by = $1",
    "DELETE FROM nestrel.push_subscriptions WHERE user_id = $1",
    "DELETE FROM nestrel.invitations WHERE created_by = $1",
    "DELETE FROM nestrel.notice_preferences WHERE user_id = $1",
    "DELETE FROM nestrel.used_today WHERE user_id = $1",
    "DELETE FROM nestrel.made_keys WHERE user_id = $1",
    "DELETE FROM nestrel.posts_waiting WHERE author_id = $1",
    "DELETE FROM nestrel.acts_waiting WHERE user_id = $1",
    "DELETE FROM nestrel.refused_posts WHERE author = $1",
    "DELETE FROM nestrel.held_names WHERE user_id = $1 AND kind = 'name' AND given_up_at IS NOT NULL",
    "DELETE FROM nestrel.usage_people WHERE user_id = $1",
    """
    WITH gone AS (DELETE FROM nestrel.usage_commands WHERE user_id = $1 RETURNING *)
    INSERT INTO nestrel.usage_commands AS u
    SELECT hour, conversation_id, '', posts, edits, removals, reactions, receipts FROM gone
    ON CONFLICT (hour, conversation_id, user_id) DO UPDATE
    SET posts = u.posts + excluded.posts, edits = u.edits + excluded.edits, removals = u.removals + excluded.removals,
        reactions = u.reactions + excluded.reactions, receipts = u.receipts + excluded.receipts
    """,
)


_MONTHS = "SELECT nestrel.audit_months_v1(24)"


async def forget(connection: Connection, user_id: str) -> None:
    """Forget what is kept about somebody beside what they wrote. What others have reported of it stays for its time."""
    for statement in _FORGET:
        await execute(connection, statement, user_id)


async def forget_old(connection: Connection) -> None:
    """Forget what has had its time: copies of what was reported, and what was used on days that are over. Months of
    the audit, which go one by one, are made two years ahead of it."""
    await execute(connection, _MONTHS)
    while await reports.forget(connection):
        pass
    await adding.forget(connection)
    await sessions.forget(connection)
    await holding.forget(connection)
    await waiting_posts.forget(connection)
    await made_keys.forget(connection)
    await erased.forget(connection)
