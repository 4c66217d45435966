"""Trims the journal: what is older than the usual absence of a client goes."""

from __future__ import annotations

from datetime import timedelta

from nestrel.store.database import Database
from nestrel.store.native import fetch

KEPT = timedelta(minutes=15)

_STEP = 5_000

# By transaction and not by time: a row of a transaction that took long stands before newer ones, and a snapshot that
# may ask for what is kept has seen all that is before it.
_JOURNAL_TRIM = """
WITH cut AS (
    SELECT xid FROM (SELECT xid, at FROM nestrel.journal ORDER BY xid LIMIT $2) oldest
    WHERE at < clock_timestamp() - $1::interval ORDER BY xid DESC LIMIT 1
), said AS (
    UPDATE nestrel.journal_trimmed t SET xid = cut.xid FROM cut WHERE t.xid < cut.xid
), gone AS (
    DELETE FROM nestrel.journal j USING cut WHERE j.xid <= cut.xid RETURNING 1
)
SELECT count(*) FROM gone
"""


async def trim(database: Database, kept: timedelta = KEPT) -> bool:
    """Take away some of what is older than `kept`; whether there may be more."""
    async with database.write() as connection:
        [(gone,)] = await fetch(connection, _JOURNAL_TRIM, kept, _STEP)
    return bool(gone >= _STEP)
