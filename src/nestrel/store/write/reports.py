"""Reports: a reader tells those who judge of a message. What was reported is kept as it stood, for 30 days."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from nestrel.core import limits
from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.problems import Expired, Forbidden, NotFound, OverQuota
from nestrel.core.rights import Action, Relation
from nestrel.core.roles import Kind, Visibility
from nestrel.store import access as accesses
from nestrel.store import admitted, fragments, rows
from nestrel.store.access import see
from nestrel.store.database import Database
from nestrel.store.native import Connection, fetch
from nestrel.store.read import history
from nestrel.store.rows import Wire
from nestrel.store.write import audit

LAST = UUID(int=2**128 - 1)
_REPORT_COLUMNS = (
    "report_id, conversation_id, seq, author_id, reason, reported_by, reported_at, state, settled_by, settled_at, "
    "message"
)
_REPORT_KEPT = f"reported_at > clock_timestamp() - interval '{limits.REPORT_DAYS} days'"

_REPORT_MAKE = f"""
INSERT INTO nestrel.reports AS r (report_id, conversation_id, seq, author_id, reason, reported_by, message)
SELECT $1, $2, $3, $4, $5, $6, $7
WHERE (SELECT count(*) FROM nestrel.reports WHERE conversation_id = $2 AND state = 'open') < {limits.REPORTS_OPEN}
ON CONFLICT (conversation_id, seq, reported_by) DO UPDATE SET reason = excluded.reason
RETURNING {_REPORT_COLUMNS}, r.report_id = $1
"""
_TODAY = """
SELECT count(*) FROM nestrel.reports WHERE reported_by = $1 AND reported_at > clock_timestamp() - interval '1 day'
"""
# Of a backend all; of a member those of conversations in which they judge. A direct conversation has nobody who does.
_REPORT_PAGE = f"""
SELECT {_REPORT_COLUMNS} FROM nestrel.reports r
WHERE report_id < $1 AND ($2::text IS NULL OR state = $2) AND ($3::uuid IS NULL OR conversation_id = $3)
  AND ($4 OR EXISTS (SELECT FROM nestrel.members m JOIN nestrel.conversations c ON c.id = m.conversation_id
       AND c.closed_at IS NULL AND c.kind <> 'direct'
       WHERE m.conversation_id = r.conversation_id AND m.user_id = $5 AND m.left_at IS NULL
         AND {fragments.ranked("m.role")}))
ORDER BY report_id DESC LIMIT $6
"""
_REPORT_FIND = f"""
SELECT {rows.columns("r", _REPORT_COLUMNS)}, c.kind, c.visibility, m.role FROM nestrel.reports r
JOIN nestrel.conversations c ON c.id = r.conversation_id AND c.closed_at IS NULL
LEFT JOIN nestrel.members m ON m.conversation_id = c.id AND m.user_id = $2 AND m.left_at IS NULL
WHERE r.report_id = $1 FOR NO KEY UPDATE OF r
"""
_SETTLE = f"""
UPDATE nestrel.reports SET state = $2, settled_by = CASE WHEN $2 = 'done' THEN $3 END,
       settled_at = CASE WHEN $2 = 'done' THEN clock_timestamp() END
WHERE report_id = $1 RETURNING {_REPORT_COLUMNS}
"""
_REPORT_FORGET = f"""
WITH old AS (SELECT report_id FROM nestrel.reports WHERE message IS NOT NULL AND NOT {_REPORT_KEPT} LIMIT 1000)
UPDATE nestrel.reports r SET message = NULL FROM old WHERE r.report_id = old.report_id RETURNING 1
"""


async def make(
    database: Database, caller: Caller, conversation_id: UUID, seq: int, report_id: UUID, reason: str
) -> tuple[Wire, bool]:
    """Report a message; again, by the same person, only the reason changes. Whether it is new.

    Raises:
        NotFound, Forbidden: the caller may not read it, or it is their own.
        Expired: it is no longer kept.
        OverQuota: the caller has made as many reports today as a member may, or the conversation has as many that
            nobody has settled.
    """
    async with database.write() as connection:
        await admitted.check(connection, caller)
        access = await see(connection, conversation_id, caller, Action.REPORT)
        if 1 <= seq < access.floor:
            raise Expired(f"message {seq} is no longer kept; the conversation now begins at {access.floor}")
        message = await history.one(connection, conversation_id, seq)
        if message is None:
            raise NotFound(f"there is no message {seq}; the newest is {access.head}")
        if message["removed_at"] is not None:
            raise Forbidden(f"message {seq} has been removed; there is nothing left to report")
        if message["author_id"] == caller.user_id:
            raise Forbidden("this message is your own; edit or remove it")
        if not caller.service and (await fetch(connection, _TODAY, caller.user_id))[0][0] >= limits.REPORTS_A_DAY:
            raise OverQuota(
                f"you report at most {limits.REPORTS_A_DAY} messages a day",
                extra={"quota": "reports", "limit": limits.REPORTS_A_DAY}, retry_after=3_600,
            )  # fmt: skip
        found = await fetch(
            connection, _REPORT_MAKE, report_id, conversation_id, seq, message["author_id"], reason, caller.user_id,
            rows.dump(message).decode(),
        )  # fmt: skip
        if not found:
            raise OverQuota(
                f"as many reports of this conversation wait to be settled as are kept: {limits.REPORTS_OPEN:,}",
                extra={"quota": "reports", "limit": limits.REPORTS_OPEN},
            )
        *row, new = found[0]
    return _wire(row), new


async def page(
    connection: Connection, caller: Caller, state: str | None, conversation_id: UUID | None, limit: int, after: UUID
) -> tuple[list[Wire], UUID | None]:
    """The reports that the caller may judge, newest first, and the id to continue behind; None at the end."""
    found = await fetch(
        connection, _REPORT_PAGE, after, state, conversation_id, caller.service, caller.user_id, limit + 1
    )  # fmt: skip
    return [_wire(row) for row in found[:limit]], found[limit - 1][0] if len(found) > limit else None


async def settle(database: Database, caller: Caller, report_id: UUID, state: str) -> Wire:
    """Set the state of a report.

    Raises:
        NotFound: there is no such report that the caller may judge.
    """
    async with database.write() as connection:
        found = await fetch(connection, _REPORT_FIND, report_id, caller.user_id)
        if not found or not _judges(found[0][-3:], caller):
            raise NotFound("there is no such report that you may settle")
        before = found[0][7]
        if before == state:
            return _wire(found[0])
        [row] = await fetch(connection, _SETTLE, report_id, state, caller.user_id)
        await audit.record(
            connection, caller, Act.REPORT_SETTLED, conversation_id=row[1], user_id=row[3], seq=row[2],
            before={"state": before}, after={"state": state},
        )  # fmt: skip
    return _wire(row)


async def forget(connection: Connection) -> bool:
    """Drop what was reported long ago, some at a time; whether there was anything."""
    return bool(await fetch(connection, _REPORT_FORGET))


def _judges(row: Any, caller: Caller) -> bool:
    kind, visibility, role = row
    standing: Relation = accesses.standing_of(Kind(kind), Visibility(visibility), role, service=caller.service)
    return standing.may(Action.JUDGE)


def _wire(row: Any) -> Wire:
    return {
        "report_id": str(row[0]),
        "conversation_id": str(row[1]),
        "seq": row[2],
        "author_id": row[3],
        "reason": row[4],
        "reported_by": row[5],
        "reported_at": rows.wire_time(row[6]),
        "state": row[7],
        "settled_by": row[8],
        "settled_at": rows.wire_time(row[9]),
        "message": None if row[10] is None else rows.raw_json(row[10]),
    }
