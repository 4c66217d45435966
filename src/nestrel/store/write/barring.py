"""Suspending people and signing them out; every process asks what has changed of it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any, NamedTuple

import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import insert

from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.people import Barred, Suspension
from nestrel.core.problems import invalid
from nestrel.core.times import format_time
from nestrel.store import admitted, fragments
from nestrel.store.composed import Query, only
from nestrel.store.database import Database
from nestrel.store.native import Connection, fetch
from nestrel.store.tables.base import NOW, Moment
from nestrel.store.tables.people import barred
from nestrel.store.write import audit, invitations, subscriptions

_ROW = [barred.c[name] for name in ("user_id", "suspended_until", "reason", "suspended_by", "suspended_at")]
_OF_PERSON = barred.c.user_id == sa.bindparam("user_id")
_SUSPENSION = {
    "suspended": sa.true(), "suspended_until": sa.bindparam("until", type_=Moment),
    "reason": sa.bindparam("why", type_=sa.Text), "suspended_by": sa.bindparam("by", type_=sa.Text),
    "suspended_at": NOW,
}  # fmt: skip

SUSPEND = Query(
    insert(barred)
    .values(user_id=sa.bindparam("user_id"), **_SUSPENSION)
    .on_conflict_do_update(index_elements=[barred.c.user_id], set_={**_SUSPENSION, "changed_at": NOW})
    .returning(*_ROW),
    Suspension,
)
SUSPENSION_FIND = Query(sa.select(*_ROW).where(_OF_PERSON, fragments.IS_SUSPENDED), Suspension)
SUSPENSION_END = Query(
    sa.update(barred)
    .where(_OF_PERSON, barred.c.suspended)
    .values(suspended=sa.false(), suspended_until=sa.null(), reason=sa.null(), changed_at=NOW)
    .returning(barred.c.user_id),
    only,
)
# Up to and including the second in which it is done: a token says no more exactly when it was made.
_SIGNED_OUT = insert(barred).values(user_id=sa.bindparam("user_id"), not_before=sa.func.date_trunc("second", NOW))
SIGN_OUT = Query(
    _SIGNED_OUT.on_conflict_do_update(
        index_elements=[barred.c.user_id],
        set_={
            "not_before": sa.func.greatest(barred.c.not_before, _SIGNED_OUT.excluded.not_before),
            "changed_at": NOW,
        },
    ).returning(barred.c.not_before),
    only,
)
# As text: what every request is let in by, the same as in `admitted`.
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
        [suspension] = await SUSPEND.fetch(connection, user_id=user_id, until=until, why=reason, by=caller.user_id)
        after = {"until": None if until is None else format_time(until)}
        await subscriptions.end_person(connection, user_id)
        await invitations.end_person(connection, user_id)
        await audit.record(connection, caller, Act.SUSPENDED, user_id=user_id, after=after, reason=reason)
    return suspension, before is None


async def end_suspension(database: Database, caller: Caller, user_id: str) -> None:
    """Let someone in again; nothing happens to who is not suspended."""
    async with database.write() as connection:
        await admitted.check(connection, caller)
        if await SUSPENSION_END.fetch(connection, user_id=user_id):
            await audit.record(connection, caller, Act.SUSPENSION_ENDED, user_id=user_id)


async def sign_out(database: Database, caller: Caller, user_id: str) -> datetime:
    """End all tokens that someone has by now; the last second of them."""
    async with database.write() as connection:
        await admitted.check(connection, caller)
        not_before: datetime
        [not_before] = await SIGN_OUT.fetch(connection, user_id=user_id)
        await subscriptions.end_person(connection, user_id)
        await invitations.end_person(connection, user_id)
        await audit.record(
            connection, caller, Act.SIGNED_OUT, user_id=user_id, after={"not_before": format_time(not_before)}
        )
    return not_before


async def show(connection: Connection, user_id: str) -> Suspension | None:
    """How someone is suspended, if they are."""
    return await SUSPENSION_FIND.first(connection, user_id=user_id)


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
