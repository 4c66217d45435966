"""Reports: a reader tells those who judge of a message. What was reported is kept as it stood, for 30 days."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import NamedTuple
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import insert

from nestrel.core import limits
from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.problems import Expired, Forbidden, NotFound, OverQuota
from nestrel.core.rights import Action
from nestrel.core.roles import Kind, Visibility
from nestrel.store import access as accesses
from nestrel.store import admitted, fragments, rows
from nestrel.store.access import see
from nestrel.store.composed import Query, only
from nestrel.store.database import Database
from nestrel.store.native import Connection
from nestrel.store.read import history
from nestrel.store.rows import Wire
from nestrel.store.tables.base import NOW
from nestrel.store.tables.conversations import conversations, members
from nestrel.store.tables.people import reports
from nestrel.store.write import audit

LAST = UUID(int=2**128 - 1)


class Report(NamedTuple):
    """A report as it is kept; `message` is the reported one as JSON, as it stood then."""

    report_id: UUID
    conversation_id: UUID
    seq: int
    author_id: str
    reason: str
    reported_by: str
    reported_at: datetime
    state: str
    settled_by: str | None
    settled_at: datetime | None
    message: str | None

    def wire(self) -> Wire:
        return {
            "report_id": str(self.report_id),
            "conversation_id": str(self.conversation_id),
            "seq": self.seq,
            "author_id": self.author_id,
            "reason": self.reason,
            "reported_by": self.reported_by,
            "reported_at": rows.wire_time(self.reported_at),
            "state": self.state,
            "settled_by": self.settled_by,
            "settled_at": rows.wire_time(self.settled_at),
            "message": None if self.message is None else rows.raw_json(self.message),
        }


class Judged(NamedTuple):
    """A report, and how whoever wants to settle it stands to its conversation."""

    report: Report
    kind: str
    visibility: str
    role: str | None


_ROW = [reports.c[name] for name in Report._fields]
_OF_ID = reports.c.report_id == sa.bindparam("report_id")
_KEPT = reports.c.reported_at > NOW - sa.literal(timedelta(days=limits.REPORT_DAYS))
_OPEN = (
    sa.select(sa.func.count())
    .select_from(reports)
    .where(reports.c.conversation_id == sa.bindparam("conversation_id"), reports.c.state == "open")
    .scalar_subquery()
)
_MADE = [
    reports.c[name] for name in ("report_id", "conversation_id", "seq", "author_id", "reason", "reported_by", "message")
]
_MAKE = insert(reports).from_select(
    [column.name for column in _MADE],
    sa.select(*(sa.bindparam(column.name, type_=column.type) for column in _MADE)).where(
        sa.bindparam("most", limits.REPORTS_OPEN) > _OPEN
    ),
)
_STATE, _WHERE = sa.bindparam("state", type_=sa.Text), sa.bindparam("conversation_id", type_=sa.Uuid)
# Of a backend all; of a member those of conversations in which they judge. A direct conversation has nobody who does.
_JUDGED = sa.exists().where(
    conversations.c.id == members.c.conversation_id,
    conversations.c.closed_at.is_(None),
    conversations.c.kind != Kind.DIRECT.value,
    members.c.conversation_id == reports.c.conversation_id,
    members.c.user_id == sa.bindparam("user_id"),
    members.c.left_at.is_(None),
    fragments.is_ranked(members.c.role),
)
_OLD = sa.select(reports.c.report_id).where(reports.c.message.is_not(None), ~_KEPT).limit(1000).cte("old")
_DONE = _STATE == "done"

REPORT_MAKE = Query(
    _MAKE.on_conflict_do_update(
        index_elements=[reports.c.conversation_id, reports.c.seq, reports.c.reported_by],
        set_={"reason": _MAKE.excluded.reason},
    ).returning(*_ROW, _OF_ID),
    lambda *row: (Report(*row[:-1]), bool(row[-1])),
)
REPORTS_TODAY = Query(
    sa.select(sa.func.count())
    .select_from(reports)
    .where(
        reports.c.reported_by == sa.bindparam("user_id"),
        reports.c.reported_at > NOW - sa.literal(timedelta(days=1)),
    ),
    int,
)
REPORT_PAGE = Query(
    sa.select(*_ROW)
    .where(
        reports.c.report_id < sa.bindparam("after"),
        sa.or_(_STATE.is_(None), reports.c.state == _STATE),
        sa.or_(_WHERE.is_(None), reports.c.conversation_id == _WHERE),
        sa.or_(sa.bindparam("backend", type_=sa.Boolean), _JUDGED),
    )
    .order_by(reports.c.report_id.desc())
    .limit(sa.bindparam("limit")),
    Report,
)
REPORT_FIND = Query(
    sa.select(*_ROW, conversations.c.kind, conversations.c.visibility, members.c.role)
    .select_from(reports)
    .join(conversations, sa.and_(conversations.c.id == reports.c.conversation_id, conversations.c.closed_at.is_(None)))
    .outerjoin(members, fragments.MEMBER_NOW)
    .where(_OF_ID)
    .with_for_update(key_share=True, of=reports),
    lambda *row: Judged(Report(*row[:-3]), *row[-3:]),
)
REPORT_SETTLE = Query(
    sa.update(reports)
    .where(_OF_ID)
    .values(
        state=_STATE,
        settled_by=sa.case((_DONE, sa.bindparam("user_id", type_=sa.Text))),
        settled_at=sa.case((_DONE, NOW)),
    )
    .returning(*_ROW),
    Report,
)
REPORT_FORGET = Query(
    sa.update(reports)
    .where(reports.c.report_id == _OLD.c.report_id)
    .values(message=None)
    .returning(reports.c.report_id),
    only,
)


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
        [today] = await REPORTS_TODAY.fetch(connection, user_id=caller.user_id)
        if not caller.service and today >= limits.REPORTS_A_DAY:
            raise OverQuota(
                f"you report at most {limits.REPORTS_A_DAY} messages a day",
                extra={"quota": "reports", "limit": limits.REPORTS_A_DAY}, retry_after=3_600,
            )  # fmt: skip
        made = await REPORT_MAKE.first(
            connection, report_id=report_id, conversation_id=conversation_id, seq=seq, author_id=message["author_id"],
            reason=reason, reported_by=caller.user_id, message=rows.dump(message).decode(),
        )  # fmt: skip
        if made is None:
            raise OverQuota(
                f"as many reports of this conversation wait to be settled as are kept: {limits.REPORTS_OPEN:,}",
                extra={"quota": "reports", "limit": limits.REPORTS_OPEN},
            )
    report, new = made
    return report.wire(), new


async def page(
    connection: Connection, caller: Caller, state: str | None, conversation_id: UUID | None, limit: int, after: UUID
) -> tuple[list[Wire], UUID | None]:
    """The reports that the caller may judge, newest first, and the id to continue behind; None at the end."""
    found = await REPORT_PAGE.fetch(
        connection, after=after, state=state, conversation_id=conversation_id, backend=caller.service,
        user_id=caller.user_id, limit=limit + 1,
    )  # fmt: skip
    return [one.wire() for one in found[:limit]], found[limit - 1].report_id if len(found) > limit else None


async def settle(database: Database, caller: Caller, report_id: UUID, state: str) -> Wire:
    """Set the state of a report.

    Raises:
        NotFound: there is no such report that the caller may judge.
    """
    async with database.write() as connection:
        found = await REPORT_FIND.first(connection, report_id=report_id, user_id=caller.user_id)
        if found is None or not _judges(found, caller):
            raise NotFound("there is no such report that you may settle")
        before = found.report
        if before.state == state:
            return before.wire()
        [settled] = await REPORT_SETTLE.fetch(connection, report_id=report_id, state=state, user_id=caller.user_id)
        await audit.record(
            connection, caller, Act.REPORT_SETTLED, conversation_id=before.conversation_id, user_id=before.author_id,
            seq=before.seq, before={"state": before.state}, after={"state": state},
        )  # fmt: skip
    return settled.wire()


async def forget(connection: Connection) -> bool:
    """Drop what was reported long ago, some at a time; whether there was anything."""
    return bool(await REPORT_FORGET.fetch(connection))


def _judges(found: Judged, caller: Caller) -> bool:
    standing = accesses.standing_of(Kind(found.kind), Visibility(found.visibility), found.role, service=caller.service)
    return standing.may(Action.JUDGE)
