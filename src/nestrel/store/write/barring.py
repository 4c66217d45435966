"""Suspending people and signing them out; every process asks what has changed of it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any, NamedTuple

from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.people import Barred, Suspension
from nestrel.core.problems import invalid
from nestrel.core.times import format_time
from nestrel.store import admitted, fragments
from nestrel.store.database import Database
from nestrel.store.native import Connection, fetch
from nestrel.store.write import audit, invitations, subscriptions

_BARRING_COLUMNS = "user_id, suspended_until, reason, suspended_by, suspended_at"

_SUSPEND = f"""
INSERT INTO nestrel.barred AS b (user_id, suspended, suspended_until, reason, suspended_by, suspended_at)
VALUES ($1, true, $2, $3, $4, clock_timestamp())
ON CONFLICT (user_id) DO UPDATE
SET suspended = true, suspended_until = $2, reason = $3, suspended_by = $4, suspended_at = clock_timestamp(),
    changed_at = clock_timestamp()
RETURNING {_BARRING_COLUMNS}
"""
_BARRING_SHOW = f"SELECT {_BARRING_COLUMNS} FROM nestrel.barred WHERE user_id = $1 AND {fragments.SUSPENDED}"
_BARRING_END = """
UPDATE nestrel.barred SET suspended = false, suspended_until = NULL, reason = NULL, changed_at = clock_timestamp()
WHERE user_id = $1 AND suspended RETURNING 1
"""
# Up to and including the second in which it is done: a token says no more exactly when it was made.
_SIGN_OUT = """
INSERT INTO nestrel.barred AS b (user_id, not_before) VALUES ($1, date_trunc('second', clock_timestamp()))
ON CONFLICT (user_id) DO UPDATE
SET not_before = greatest(b.not_before, excluded.not_before), changed_at = clock_timestamp()
RETURNING not_before
"""
_BARRED = f"SELECT user_id, {admitted.STANDS} FROM nestrel.barred"
_MET = f"""
SELECT p.user_id IS NOT NULL, b.user_id IS NOT NULL, {admitted.STANDS}, nestrel.erased_v1(u.id)
FROM unnest($1::text[]) WITH ORDINALITY AS u (id, n)
LEFT JOIN nestrel.profiles p ON p.user_id = u.id LEFT JOIN nestrel.barred b ON b.user_id = u.id ORDER BY u.n
"""
_BARRING_CHANGED = f"{_BARRED} WHERE changed_at >= $1 ORDER BY changed_at LIMIT $2"
_BARRING_NOW = "SELECT clock_timestamp()"


async def suspend(
    database: Database, caller: Caller, user_id: str, until: datetime | None, reason: str | None
) -> tuple[Suspension, bool]:
    """Suspend someone; whether they were not before. Raises `InvalidRequest` for oneself."""
    if user_id == caller.user_id:
        raise invalid("/user_id", "a backend does not suspend itself")
    async with database.write() as connection:
        await admitted.check(connection, caller)
        before = await show(connection, user_id)
        [row] = await fetch(connection, _SUSPEND, user_id, until, reason, caller.user_id)
        after = {"until": None if until is None else format_time(until)}
        await subscriptions.end_person(connection, user_id)
        await invitations.end_person(connection, user_id)
        await audit.record(connection, caller, Act.SUSPENDED, user_id=user_id, after=after, reason=reason)
    return Suspension(*row), before is None


async def end_suspension(database: Database, caller: Caller, user_id: str) -> None:
    """Let someone in again; nothing happens to who is not suspended."""
    async with database.write() as connection:
        await admitted.check(connection, caller)
        if await fetch(connection, _BARRING_END, user_id):
            await audit.record(connection, caller, Act.SUSPENSION_ENDED, user_id=user_id)


async def sign_out(database: Database, caller: Caller, user_id: str) -> datetime:
    """End all tokens that someone has by now; the last second of them."""
    async with database.write() as connection:
        await admitted.check(connection, caller)
        [(not_before,)] = await fetch(connection, _SIGN_OUT, user_id)
        await subscriptions.end_person(connection, user_id)
        await invitations.end_person(connection, user_id)
        await audit.record(
            connection, caller, Act.SIGNED_OUT, user_id=user_id, after={"not_before": format_time(not_before)}
        )
    moment: datetime = not_before
    return moment


async def show(connection: Connection, user_id: str) -> Suspension | None:
    """How someone is suspended, if they are."""
    found = await fetch(connection, _BARRING_SHOW, user_id)
    return Suspension(*found[0]) if found else None


class Met(NamedTuple):
    """Whether there is a profile of somebody, and what stands against them; None for nothing."""

    there: bool
    barred: Barred | None

    @property
    def erased(self) -> bool:
        """Whether the identity is nobody's any more."""
        return self.barred is not None and self.barred.erased


async def met(connection: Connection, user_ids: Sequence[str]) -> list[Met]:
    """Who of some users is known, in their order."""
    found = await fetch(connection, _MET, user_ids)
    return [
        Met(there, Barred(until, not_before, erased) if barred or erased else None)
        for there, barred, until, not_before, erased in found
    ]


async def changed(connection: Connection, since: datetime, limit: int) -> dict[str, Barred]:
    """Of whom something has changed since then."""
    return {row[0]: _barred(row) for row in await fetch(connection, _BARRING_CHANGED, since, limit)}


async def now(connection: Connection) -> datetime:
    """The database's time."""
    moment: datetime = (await fetch(connection, _BARRING_NOW))[0][0]
    return moment


def _barred(row: Any) -> Barred:
    return Barred(row[1], row[2])
