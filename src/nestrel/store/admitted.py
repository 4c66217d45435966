"""Whether somebody who was let in when their request began still is, asked in the transaction that writes: a request
may take long to come, and wait for long."""

from __future__ import annotations

from nestrel.core.callers import Caller
from nestrel.core.people import Barred
from nestrel.core.problems import Unauthenticated
from nestrel.store import fragments
from nestrel.store.native import Connection, fetch

STANDS = f"""
CASE WHEN {fragments.SUSPENDED} THEN coalesce(extract(epoch FROM suspended_until), 'infinity') ELSE 0 END::float8,
coalesce(extract(epoch FROM not_before), -1)::float8
"""
"""What stands against somebody, of a row of `barred` or of none: the first arguments of `Barred`."""
_ADMITTED_NOW = f"""
SELECT {STANDS}, nestrel.erased_v1($1), extract(epoch FROM clock_timestamp())::float8,
       EXISTS (SELECT FROM nestrel.ended_sessions WHERE id = $2)
FROM (SELECT $1::text AS user_id) caller LEFT JOIN nestrel.barred USING (user_id)
"""
_ADMITTED_HOLD = "SELECT FROM nestrel.profiles WHERE user_id = $1 FOR NO KEY UPDATE"


async def check(connection: Connection, caller: Caller) -> None:
    """Whether a caller is let in now. What came through no door is the service itself, which always is.

    Raises:
        Forbidden: they have been suspended.
        Unauthenticated: they have been signed out or erased, or their browser's session was ended.
    """
    if caller.actions is None:
        return
    [(until, not_before, erased, now, ended)] = await fetch(connection, _ADMITTED_NOW, caller.user_id, caller.session)
    refusal = Barred(until, not_before, erased).refusal(caller.issued_at, now)
    if refusal is None and ended:
        refusal = Unauthenticated("the session was ended; make a new one")
    if refusal is not None:
        raise refusal


async def hold(connection: Connection, user_id: str) -> None:
    """Hold somebody's profile until the transaction ends. Whatever is kept for a person who is signed in, and whatever
    takes it away when they are signed out, hold it first, so that neither passes the other unseen."""
    await fetch(connection, _ADMITTED_HOLD, user_id)
