"""Profiles: made from the token at first sight, changed by their owner, and told to everyone who shares a
conversation."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from uuid import UUID

from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.problems import NameTaken
from nestrel.core.skeleton import Skeletons
from nestrel.store import admitted, epochs, locks
from nestrel.store.database import Database
from nestrel.store.events import Moved
from nestrel.store.native import Connection, execute, fetch
from nestrel.store.write import audit, defaults, directory, erased, holding

_MEMBERSHIPS = 1_000
"""Conversations that one transaction of a profile's change moves; it holds their locks. Up to that many a change is
one transaction: everyone has the new profile, or nobody."""

_FIRST_SIGHT = """
INSERT INTO nestrel.profiles SELECT $1::text, $2::text, $3::text, 1 WHERE NOT nestrel.erased_v1($1::text)
ON CONFLICT DO NOTHING RETURNING rev, display_name
"""
_PROFILE_CLAIM = """
UPDATE nestrel.profiles SET claimed_at = $2 WHERE user_id = $1 AND (claimed_at IS NULL OR claimed_at <= $2)
RETURNING true
"""
# What is not named stays, also where another change of the same profile is under way.
_PROFILE_CHANGE = """
UPDATE nestrel.profiles SET rev = rev + 1,
       display_name = CASE WHEN 'display_name' = ANY($2::text[]) THEN $3::text ELSE display_name END,
       picture = CASE WHEN 'picture' = ANY($2::text[]) THEN $4::text ELSE picture END
WHERE user_id = $1 AND (('display_name' = ANY($2::text[]) AND display_name IS DISTINCT FROM $3::text)
    OR ('picture' = ANY($2::text[]) AND picture IS DISTINCT FROM $4::text))
RETURNING rev, display_name
"""
_NEXT_MEMBERSHIPS = """
SELECT conversation_id FROM nestrel.members WHERE user_id = $1 AND conversation_id > $2
ORDER BY conversation_id LIMIT $3
"""
# The member row carries the news: it takes the conversation's next rev, so that whoever was away learns of the new
# profile in the same way as whoever is there.
_PROFILE_MOVE = f"""
WITH locked AS (
    SELECT id FROM nestrel.conversations WHERE id = ANY($1::uuid[]) AND closed_at IS NULL ORDER BY id FOR NO KEY UPDATE
), moved AS (
    UPDATE nestrel.conversations SET rev = rev + 1, moved_xid = pg_current_xact_id(),
        {epochs.stamp("conversations")}
    WHERE id IN (SELECT id FROM locked) RETURNING id, rev
), marked AS (
    UPDATE nestrel.members m SET rev = moved.rev, moved_xid = pg_current_xact_id()
    FROM moved WHERE m.conversation_id = moved.id AND m.user_id = $2
)
SELECT id, rev FROM moved
"""

_THERE = "SELECT 1 FROM nestrel.profiles WHERE user_id = $1"
_ADOPTED = 200
_IDS_LEFT = """
SELECT user_id FROM nestrel.profiles p
WHERE NOT EXISTS (SELECT FROM nestrel.held_names h WHERE h.user_id = p.user_id AND h.kind = 'id')
ORDER BY user_id LIMIT $1
"""
# Whoever became a member of something first was there first.
_NAMES_LEFT = """
SELECT p.user_id, p.display_name FROM nestrel.profiles p
WHERE NOT EXISTS (SELECT FROM nestrel.held_names h
    WHERE h.user_id = p.user_id AND h.kind = 'name' AND h.given_up_at IS NULL AND h.name = p.display_name)
  AND NOT EXISTS (SELECT FROM nestrel.profiles q WHERE NOT EXISTS (
    SELECT FROM nestrel.held_names h WHERE h.user_id = q.user_id AND h.kind = 'id'))
ORDER BY (SELECT min(joined_at) FROM nestrel.members m WHERE m.user_id = p.user_id) NULLS LAST, p.user_id LIMIT $1
"""

_UNTOLD = """
SELECT user_id, after FROM nestrel.profile_news WHERE $1::text IS NULL OR user_id = $1
ORDER BY user_id LIMIT 1 FOR UPDATE SKIP LOCKED
"""
_GO_ON_AFTER = """
INSERT INTO nestrel.profile_news (user_id, after) VALUES ($1, $2)
ON CONFLICT (user_id) DO UPDATE SET after = excluded.after
"""
_TOLD = "DELETE FROM nestrel.profile_news WHERE user_id = $1"


async def first_sight(
    database: Database, user_id: str, display_name: str, picture: str | None, skeletons: Skeletons | None = None
) -> None:
    """Make the profile if there is none; who was a member before is then shown by name to the others, and everyone
    becomes a member of what is everyone's. With `skeletons` names are one person's alone: a taken one gets a number
    behind it, and so does that of whoever is called as the newcomer's id says."""
    renamed: list[str] = []
    async with database.write() as connection:
        name = display_name
        if skeletons is not None:
            if await fetch(connection, _THERE, user_id) or await erased.among(connection, [user_id]):
                return
            renamed += await _hold_id(connection, skeletons, user_id)
            name = await holding.hold_numbered(connection, skeletons, user_id, display_name)
        more = await _write(database, connection, user_id, _FIRST_SIGHT, name, picture, new=True)
    while more:
        more = await go_on(database, user_id)
    for other in renamed:
        while await go_on(database, other):
            pass


async def put(
    database: Database,
    caller: Caller,
    user_id: str,
    fields: Mapping[str, str | None],
    skeletons: Skeletons | None = None,
) -> bool:
    """Make somebody's profile, or set what is named of the one that is there; whether it is new. A new one without a
    name goes by the id. Whoever is put here is known, though they never signed in.

    Raises:
        NameTaken: with `skeletons`, where the name is, or looks as, somebody else's.
        Forbidden, Unauthenticated: the caller was suspended or signed out meanwhile.
    """
    async with database.write() as connection:
        await admitted.check(connection, caller)
        new, untold = await put_in(database, connection, caller, user_id, fields, skeletons)
    for other in untold:
        while await go_on(database, other):
            pass
    return new


async def put_in(
    database: Database,
    connection: Connection,
    caller: Caller,
    user_id: str,
    fields: Mapping[str, str | None],
    skeletons: Skeletons | None,
) -> tuple[bool, list[str]]:
    """The same in a transaction. Also of whom not everyone has been told yet, which whoever works off what is left
    over does. Raises `InvalidRequest` for an identity that was erased, too."""
    await erased.check_none(connection, [user_id], "/user_id")
    untold: list[str] = []
    name, picture = fields.get("display_name"), fields.get("picture")
    new = not await fetch(connection, _THERE, user_id)
    if skeletons is not None and new:
        untold += await _hold_id(connection, skeletons, user_id)
    if skeletons is not None and name is not None:
        await holding.hold(connection, skeletons, user_id, name)
    elif skeletons is not None and new:
        name = await holding.hold_numbered(connection, skeletons, user_id, user_id)
    made = await fetch(connection, _FIRST_SIGHT, user_id, name or user_id, picture) if new else []
    new = bool(made)  # or they came at this very moment
    changed = made if new else await fetch(connection, _PROFILE_CHANGE, user_id, list(fields), name, picture)
    if changed:
        if await _spread(database, connection, user_id, changed[0][1], new=new):
            untold.append(user_id)
        await audit.record(connection, caller, Act.PERSON_PUT, user_id=user_id, after={"fields": sorted(fields)})
    return new, untold


async def claim(
    database: Database,
    user_id: str,
    fields: Mapping[str, str],
    issued_at: datetime,
    skeletons: Skeletons | None = None,
) -> None:
    """Let a profile be as a token of that time says, unless a newer one has said something already. A name that is
    somebody else's alone changes nothing."""
    async with database.write() as connection:
        if not await fetch(connection, _PROFILE_CLAIM, user_id, issued_at):
            return
        name = fields.get("display_name")
        if skeletons is not None and name is not None:
            try:
                await holding.hold(connection, skeletons, user_id, name)
            except NameTaken:
                fields = {field: value for field, value in fields.items() if field != "display_name"}
        more = await _write(database, connection, user_id, _PROFILE_CHANGE, list(fields), name, fields.get("picture"))
    while more:
        more = await go_on(database, user_id)


async def change(
    database: Database, user_id: str, fields: Mapping[str, str | None], skeletons: Skeletons | None = None
) -> None:
    """Set `display_name`, `picture` or both, and tell everyone who shares a conversation; the same profile again
    changes nothing.

    Raises:
        NameTaken: with `skeletons`, where the name is, or looks as, somebody else's.
    """
    name = fields.get("display_name")
    async with database.write() as connection:
        if skeletons is not None and name is not None:
            await holding.hold(connection, skeletons, user_id, name)
        more = await _write(database, connection, user_id, _PROFILE_CHANGE, list(fields), name, fields.get("picture"))
    while more:
        more = await go_on(database, user_id)


async def adopt(database: Database, skeletons: Skeletons) -> bool:
    """Take some names in that were there before names were one person's alone: the oldest stay as they are, doubles get
    a number. False: all are taken in, or another process is at it."""
    async with database.write() as connection:
        if not await locks.alone(connection, "adopting names"):
            return False
        for (user_id,) in await fetch(connection, _IDS_LEFT, _ADOPTED):
            await holding.hold_id(connection, skeletons, user_id)
        left = await fetch(connection, _NAMES_LEFT, _ADOPTED)
        for user_id, name in left:
            held = await holding.hold_numbered(connection, skeletons, user_id, name)
            if held != name:
                await _set_name(connection, user_id, held)
    return bool(left)


async def _hold_id(connection: Connection, skeletons: Skeletons, user_id: str) -> list[str]:
    """Let nobody be called as an id says. Who was gets a number behind it, and is told of in the background; who they
    are."""
    renamed = []
    for other, called in await holding.hold_id(connection, skeletons, user_id):
        await _set_name(connection, other, await holding.hold_numbered(connection, skeletons, other, called))
        renamed.append(other)
    return renamed


async def _set_name(connection: Connection, user_id: str, name: str) -> None:
    await execute(connection, _PROFILE_CHANGE, user_id, ["display_name"], name, None)
    await directory.name_person(connection, user_id, name)
    await execute(connection, _GO_ON_AFTER, user_id, UUID(int=0))


async def _write(
    database: Database, connection: Connection, user_id: str, statement: str, *values: object, new: bool = False
) -> bool:
    found = await fetch(connection, statement, user_id, *values)
    return bool(found) and await _spread(database, connection, user_id, found[0][1], new=new)


async def _spread(database: Database, connection: Connection, user_id: str, name: str, *, new: bool) -> bool:
    """Tell of a profile that has changed, or is new; whether there are more to tell."""
    more = await _tell(database, connection, user_id, UUID(int=0))
    if new:
        await defaults.join(database, connection, user_id)
    # Behind the conversations' locks, as everywhere: nobody then waits in a ring.
    await directory.name_person(connection, user_id, name)
    return more


async def go_on(database: Database, user_id: str | None = None) -> bool:
    """Tell some more conversations of a changed profile, of `user_id` or of anyone whose change was cut short. Where
    it goes on is kept with each part, so that a process that is killed leaves it to the next one. False: nothing is
    left to tell, or others are at it."""
    async with database.write() as connection:
        found = await fetch(connection, _UNTOLD, user_id)
        return bool(found) and await _tell(database, connection, *found[0], noted=True)


async def _tell(database: Database, connection: Connection, user_id: str, after: UUID, *, noted: bool = False) -> bool:
    """Move the conversations of some memberships; whether there may be more. `noted`: it is kept that this is to be
    done."""
    ids = [row[0] for row in await fetch(connection, _NEXT_MEMBERSHIPS, user_id, after, _MEMBERSHIPS)]
    if ids:
        moved = await fetch(connection, _PROFILE_MOVE, ids, user_id)
        await database.announce(connection, [Moved(row[0], row[1]) for row in moved])
    if len(ids) == _MEMBERSHIPS:
        await execute(connection, _GO_ON_AFTER, user_id, ids[-1])
        return True
    if noted:
        await execute(connection, _TOLD, user_id)
    return False
