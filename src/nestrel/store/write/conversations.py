"""Conversations: made, changed and closed. Whoever does one of these holds the conversation's lock from the look at
the caller's role to the commit."""

from __future__ import annotations

from typing import Any
from uuid import UUID

import asyncpg

from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.conversations import NewConversation, check_change
from nestrel.core.problems import Forbidden
from nestrel.core.quotas import Quotas, cannot_add
from nestrel.core.rights import Action
from nestrel.core.text import name_key
from nestrel.store import admitted, epochs, fragments, rules
from nestrel.store.access import see
from nestrel.store.confusables import skeletons
from nestrel.store.constraints import DIRECT_PAIR, refusals
from nestrel.store.database import Database
from nestrel.store.events import Moved
from nestrel.store.native import Connection, execute, fetch
from nestrel.store.read.conversations import find_direct
from nestrel.store.write import adding, audit, blocks, defaults, directory, made_keys
from nestrel.store.write.made_keys import MakingKey

_INSERT = f"""
INSERT INTO nestrel.conversations (
    {rules.INTO}, id, kind, visibility, name, name_key, title, attributes, direct_pair, created_by, created_at, rev,
    name_look, own_rev, member_count, last_at, inherits, epochs, begins, crowd)
VALUES ({rules.placed()}, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $21, 1, $19, $17, $20,
        ARRAY[{epochs.CURRENT}], ARRAY[0::bigint], {fragments.crowded("$19")})
"""
_INSERT_MEMBERS = f"""
INSERT INTO nestrel.members (conversation_id, user_id, role, joined_at, rev, ranked)
SELECT $1, u.user_id, u.role, $2, u.n + 1, {fragments.ranked("u.role")}
FROM unnest($3::text[], $4::text[]) WITH ORDINALITY AS u (user_id, role, n)
"""
_CLOSE = f"""
UPDATE nestrel.conversations SET closed_at = clock_timestamp(), rev = rev + 1, own_rev = rev + 1,
       moved_xid = pg_current_xact_id(), {epochs.stamp("conversations")}
WHERE id = $1 RETURNING rev
"""
# One statement whatever is set: $2 names what is.
_CONVERSATION_CHANGE = f"""
UPDATE nestrel.conversations SET
       title = CASE WHEN 'title' = ANY($2::text[]) THEN $3::text ELSE title END,
       name = CASE WHEN 'name' = ANY($2::text[]) THEN $4::text ELSE name END,
       name_key = CASE WHEN 'name' = ANY($2::text[]) THEN $5::text ELSE name_key END,
       name_look = CASE WHEN 'name' = ANY($2::text[]) THEN $10::text ELSE name_look END,
       visibility = CASE WHEN 'visibility' = ANY($2::text[]) THEN $6::text ELSE visibility END,
       attributes = CASE WHEN 'attributes' = ANY($2::text[]) THEN $7::text ELSE attributes END,
       is_default = CASE WHEN 'default' = ANY($2::text[]) THEN $9::boolean ELSE is_default END,
       post_interval = CASE WHEN 'post_interval' = ANY($2::text[]) THEN $8::int ELSE post_interval END,
       rev = rev + 1, own_rev = rev + 1, moved_xid = pg_current_xact_id(), {epochs.stamp("conversations")}
WHERE id = $1 RETURNING rev, name, title
"""


_UNLOOKED = """
SELECT id, name FROM nestrel.conversations WHERE name IS NOT NULL AND name_look IS NULL AND closed_at IS NULL
ORDER BY id LIMIT 200 FOR NO KEY UPDATE SKIP LOCKED
"""
_LEARN = """
UPDATE nestrel.conversations SET name_look = CASE WHEN EXISTS (
    SELECT FROM nestrel.conversations WHERE name_look = $2 AND closed_at IS NULL) THEN $2 || ' ' || $1::uuid ELSE $2 END
WHERE id = $1
"""


async def make(
    database: Database, new: NewConversation, caller: Caller, quotas: Quotas, key: MakingKey | None = None
) -> tuple[UUID, bool]:
    """Write a new conversation with its members; for a direct one that is there already, that one, and False. With a
    `key` it is made once, however often it is asked for.

    Raises:
        NameTaken: another conversation holds the name, also one that was made at this very moment.
        Forbidden, OverQuota: the caller may not make it, or not with these.
        InvalidRequest: a member is nobody who is known here, and has to be.
        KeyReused: the key was used for another one.
    """
    while True:
        found: UUID | None = None
        if new.direct_pair is not None:
            async with database.read() as connection:
                found = await find_direct(connection, new.direct_pair)
            if found is not None and key is None:
                return found, False
        try:
            with refusals(name=new.name):
                async with database.write() as connection:
                    await admitted.check(connection, caller)
                    if key is not None:
                        earlier = await made_keys.claim(connection, caller.user_id, key, found or new.id)
                        found = earlier or found
                    if found is not None:
                        return found, False
                    await make_in(database, connection, new, caller, quotas)
        except asyncpg.UniqueViolationError as error:
            if error.constraint_name != DIRECT_PAIR:
                raise
            continue  # made by the other of the two at this moment
        return new.id, True


async def make_in(
    database: Database, connection: Connection, new: NewConversation, caller: Caller, quotas: Quotas
) -> None:
    """Write a new conversation in a transaction. Raises as `make`, and `asyncpg.UniqueViolationError` where one of its
    name, or of the same two, was made at this very moment."""
    await _check_making(connection, new, caller, quotas)
    await _insert(database, connection, new)
    if caller.service:
        made = {"kind": new.kind, "members": len(new.members)}
        await audit.record(connection, caller, Act.CONVERSATION_MADE, conversation_id=new.id, after=made)


async def _check_making(connection: Connection, new: NewConversation, caller: Caller, quotas: Quotas) -> None:
    everyone = [user_id for user_id, _ in new.members]
    others = [user_id for user_id in everyone if user_id != caller.user_id]
    await adding.check_making(connection, caller, quotas)
    await adding.check_adding(connection, caller, others, quotas)
    await adding.check_known(connection, others, quotas, "/members")
    if new.direct_pair is not None:
        refusal = Forbidden("they cannot write to each other") if caller.service else cannot_add()
        await blocks.check_pair(connection, *everyone, refusal=refusal)
    await adding.check_room(connection, caller, everyone, len(everyone), quotas)


async def _insert(database: Database, connection: Connection, new: NewConversation) -> None:
    version, rule = None, new.rule
    if rule is None:
        version, rule, _ = await rules.inherited(connection, new.kind)
    key = name_key(new.name) if new.name is not None else None
    rev = 1 + len(new.members)
    await execute(
        connection, _INSERT, *rules.values(rule), new.id, new.kind.value, new.visibility.value, new.name, key,
        new.title, new.attributes, new.direct_pair, new.created_by, new.created_at, rev, len(new.members), version,
        _look(new.name),
    )  # fmt: skip
    users, roles = [user_id for user_id, _ in new.members], [role.value for _, role in new.members]
    await execute(connection, _INSERT_MEMBERS, new.id, new.created_at, users, roles)
    await directory.enlist(connection, users)
    if new.name or new.title:
        await directory.name_conversation(connection, new.id, new.name, new.title)
    if rule.keep_for is not None:
        await rules.mark_due(connection, [new.id])
    await database.announce(connection, [Moved(new.id, rev, tuple(users))])


async def change(database: Database, caller: Caller, conversation_id: UUID, fields: dict[str, Any]) -> None:
    """Set some of `title`, `name`, `visibility`, `attributes` (compact JSON).

    Raises:
        NotFound, Forbidden: the caller may not see it, or not change it.
        NameTaken: another conversation holds the name.
    """
    name = fields.get("name")
    key = name_key(name) if name is not None else None
    with refusals(name=name):
        async with database.write() as connection:
            check_change((await see(connection, conversation_id, caller, Action.CHANGE, lock=True)).standing, fields)
            values = (
                fields.get("title"),
                name,
                key,
                fields.get("visibility"),
                fields.get("attributes"),
                fields.get("post_interval"),
                fields.get("default"),
                _look(name),
            )
            [(rev, *called)] = await fetch(connection, _CONVERSATION_CHANGE, conversation_id, list(fields), *values)
            if not fields.keys().isdisjoint(("name", "title")):
                await directory.name_conversation(connection, conversation_id, *called)
            if fields.get("default"):
                await defaults.begin(connection, conversation_id)
            told = {field: fields[field] for field in ("visibility", "post_interval", "default") if field in fields}
            await audit.record(
                connection, caller, Act.CONVERSATION_CHANGED, conversation_id=conversation_id,
                after={"fields": sorted(fields), **told},
            )  # fmt: skip
            await database.announce(connection, [Moved(conversation_id, rev)])


async def close(database: Database, caller: Caller, conversation_id: UUID) -> None:
    """Close for good: from the commit on nobody sees it. Its content is erased by `nestrel.store.keep.closed`.

    Raises:
        NotFound, Forbidden: the caller may not see it, or not close it.
    """
    async with database.write() as connection:
        await see(connection, conversation_id, caller, Action.CLOSE, lock=True)
        [(rev,)] = await fetch(connection, _CLOSE, conversation_id)
        await directory.name_conversation(connection, conversation_id, None, None)
        await audit.record(connection, caller, Act.CONVERSATION_CLOSED, conversation_id=conversation_id)
        await database.announce(connection, [Moved(conversation_id, rev)])


def _look(name: str | None) -> str | None:
    """By what a name is known that looks like it."""
    return skeletons().key(name) if name is not None else None


async def learn_looks(database: Database) -> bool:
    """Take some names in that were there before it was asked what they look like; of two that look alike both stay,
    and the one that comes second keeps nobody from a name. False: all are."""
    async with database.write() as connection:
        found = await fetch(connection, _UNLOOKED)
        for id_, name in found:
            look = _look(name)
            await execute(connection, _LEARN, id_, look)
    return bool(found)
