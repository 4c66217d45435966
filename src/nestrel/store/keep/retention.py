"""The rules of conversations, of kinds and of the service: read, set, and applied as time passes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from uuid import UUID

from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.locked import Locked
from nestrel.core.problems import ConfirmNeeded
from nestrel.core.retention import NO_RULE, Rule, Source
from nestrel.core.rights import Action
from nestrel.core.roles import Kind
from nestrel.store import locks, rules
from nestrel.store.access import see
from nestrel.store.database import Database
from nestrel.store.keep import previewing
from nestrel.store.native import Connection, array, execute, fetch
from nestrel.store.rows import Wire
from nestrel.store.rules import RULE_COLUMNS
from nestrel.store.write import apply, audit, expiry, facts
from nestrel.store.write.expiry import Measured

_RULE = f"""
SELECT {RULE_COLUMNS}, inherits IS NULL, EXISTS (SELECT FROM nestrel.kind_rules k
    WHERE k.kind = c.kind AND k.version = c.inherits AND NOT k.cleared)
FROM nestrel.conversations c WHERE id = $1
"""
_KIND = "SELECT kind FROM nestrel.conversations WHERE id = $1"
# Whoever sets one waits for whoever does so at this moment, so that no two have one number.
_ONE_BY_ONE = "SELECT FROM nestrel.service_rule WHERE version = 1 FOR UPDATE"
_RETENTION_NEXT = """
SELECT 1 + greatest((SELECT max(version) FROM nestrel.service_rule), (SELECT max(version) FROM nestrel.kind_rules))
"""
_SET_SERVICE_RULE = f"""
INSERT INTO nestrel.service_rule ({rules.INTO}, version) SELECT {rules.placed()}, $8
"""
_SET_KIND_RULE = f"""
INSERT INTO nestrel.kind_rules ({rules.INTO}, version, kind, cleared) SELECT {rules.placed()}, $8, $9, $10
"""
# What has expired and still waits goes as the rule said under which it did; where two such rules differ from the new
# one, to the archive, so that nothing is lost.
_SET = f"""
UPDATE nestrel.conversations c SET ({rules.INTO}) = ROW({rules.placed()}), inherits = $8, own_rev = rev + 1,
    earlier_then = CASE WHEN after_expiry = ${rules.THEN} THEN earlier_then
                        WHEN earlier_below > swept THEN 'archive' ELSE after_expiry END,
    earlier_below = CASE WHEN after_expiry = ${rules.THEN} THEN earlier_below ELSE u.floor END
FROM unnest($9::uuid[], $10::bigint[]) AS u (id, floor) WHERE c.id = u.id
"""
_RETENTION_BEHIND = """
SELECT id FROM nestrel.conversations
WHERE kind = $3 AND inherits < $1 AND inherits IS NOT NULL AND closed_at IS NULL ORDER BY inherits LIMIT $2
"""
_STILL_BEHIND = """
SELECT id FROM nestrel.conversations WHERE id = ANY($1::text::uuid[]) AND inherits < $2
"""
_DUE_NOW = f"""
SELECT d.conversation_id, {rules.floor("c")} > c.floor
FROM nestrel.expiry_due d JOIN nestrel.conversations c ON c.id = d.conversation_id
WHERE d.due_at <= clock_timestamp() ORDER BY d.due_at LIMIT $1
"""

_MANY = 200
"""Conversations that one transaction gives a rule, or moves by age; it holds their locks."""


def wire(rule: Rule, source: Source | None) -> Wire:
    """A rule object; `then` is null where there is no rule, and so is `from`."""
    return {
        "keep_last": rule.keep_last,
        "keep_for": rule.keep_for.text if rule.keep_for else None,
        "keep_bytes": rule.keep_bytes,
        "then": rule.then.value if rule != NO_RULE else None,
        "hold": rule.hold,
        "own": source is Source.OWN,
        "from": source,
    }


async def read(connection: Connection, conversation_id: UUID) -> Wire:
    """The rule that a conversation goes by: its own, its kind's or the service's."""
    [(*columns, own, of_kind)] = await fetch(connection, _RULE, conversation_id)
    rule = rules.rule(*columns)
    if own:
        return wire(rule, Source.OWN)
    return wire(rule, Source.KIND if of_kind else Source.SERVICE if rule != NO_RULE else None)


async def _owned(connection: Connection, conversation_id: UUID, caller: Caller | None, *, lock: bool) -> None:
    """Whether the caller may set the rule; None acts for the service itself."""
    if caller is not None:
        await see(connection, conversation_id, caller, Action.RULE, lock=lock)


async def put(
    database: Database, conversation_id: UUID, rule: Rule | None, *, confirmed: bool, caller: Caller | None = None
) -> Wire:
    """Set a conversation's own rule, or with None go back to its kind's or the service's; returns the rule as it then
    is. What it takes is counted before the conversation is locked, so that nobody waits while that is done.

    Raises:
        NotFound, Forbidden: the caller may not see it, or not set its rule; None acts for the service itself.
        ConfirmNeeded: it would take something away at once; `extra["preview"]` says what.
    """
    for last in (False, False, True):
        async with database.read() as connection:
            await _owned(connection, conversation_id, caller, lock=False)
            version, wanted = None, rule
            if wanted is None:
                [(kind,)] = await fetch(connection, _KIND, conversation_id)
                version, wanted, _ = await rules.inherited(connection, Kind(kind))
            if not confirmed:
                await _confirm(connection, conversation_id, wanted)
            measured = await expiry.measure(connection, [conversation_id], wanted)
        async with database.write() as connection:
            await _owned(connection, conversation_id, caller, lock=True)
            places = list((await facts.lock(connection, [conversation_id])).values())
            if confirmed or last or not await _takes(connection, places, wanted):
                if not confirmed and last:
                    await _confirm(connection, conversation_id, wanted)
                await _set(database, connection, places, wanted, version, measured)
                if caller is not None:
                    act = Act.RULE_CLEARED if rule is None else Act.RULE_SET
                    after = wire(wanted, Source.OWN if rule is not None else None)
                    await audit.record(connection, caller, act, conversation_id=conversation_id, after=after)
                return await read(connection, conversation_id)
        # Something came meanwhile that it would take: that is to be shown first.
    raise AssertionError("the last turn has set it")


async def _confirm(connection: Connection, conversation_id: UUID, wanted: Rule) -> None:
    found = await previewing.preview(connection, [conversation_id], wanted)
    if found.expires:
        raise ConfirmNeeded(
            f"this rule takes {found.expires:,} messages away at once; send confirm: true to go ahead",
            extra={"preview": found.wire()},
        )


async def _takes(connection: Connection, places: Sequence[Locked], wanted: Rule) -> bool:
    """Whether a rule takes anything from locked conversations, without counting it."""
    cutoff = wanted.cutoff(await _now(connection))
    aging = [place.floor for place in places]
    if cutoff is not None:
        aging = await expiry.aged(connection, [place.id for place in places], cutoff)
    return any(
        wanted.excess(place.messages, place.size) or aged > place.floor
        for place, aged in zip(places, aging, strict=True)
    )


async def _set(
    database: Database,
    connection: Connection,
    places: Sequence[Locked],
    rule: Rule,
    inherits: int | None,
    measured: Mapping[UUID, Measured],
) -> None:
    """Give locked conversations a rule, exact from the commit on. What the old rule has expired stays expired."""
    expired = [place.floor for place in places]
    cutoff = rule.cutoff(await _now(connection))
    if cutoff is not None:
        found = await expiry.aged(connection, [place.id for place in places], cutoff)
        for place, aged in zip(places, found, strict=True):
            place.floor = max(place.floor, aged)
    await execute(connection, _SET, *rules.values(rule), inherits, [place.id for place in places], expired)
    for place in places:
        place.rule = rule
        place.next_rev()
    await apply.move(database, connection, places, to_self=True, measured=measured)
    await rules.mark_due(connection, [place.id for place in places])


async def _now(connection: Connection) -> datetime:
    [(now,)] = await fetch(connection, "SELECT clock_timestamp()")
    assert isinstance(now, datetime)
    return now


async def put_inherited(
    database: Database, rule: Rule | None, kind: Kind | None, *, confirmed: bool, caller: Caller | None = None
) -> Wire:
    """Set the rule of all conversations of a kind, or of all (None), that have none of their own; None clears it, so
    that a kind's go by the service's again. They get it in steps (`inherit`), each exact from its own step on. Returns
    the rule as it then is. Raises as `put` does."""
    async with database.write() as connection:
        await execute(connection, _ONE_BY_ONE)
        wanted = rule or (NO_RULE if kind is None else await rules.service_rule(connection))
        if not confirmed:
            found = await previewing.preview_inherited(connection, wanted, kind)
            if found.expires:
                raise ConfirmNeeded(
                    f"this rule takes {found.expires:,} messages away; send confirm: true to go ahead",
                    extra={"preview": found.wire()},
                )
        [(version,)] = await fetch(connection, _RETENTION_NEXT)
        if kind is None:
            await execute(connection, _SET_SERVICE_RULE, *rules.values(wanted), version)
        else:
            await execute(
                connection, _SET_KIND_RULE, *rules.values(rule or NO_RULE), version, kind.value, rule is None
            )  # fmt: skip
        shown = await read_inherited(connection, kind)
        if caller is not None:
            after = shown if kind is None else {**shown, "kind": kind}
            await audit.record(connection, caller, Act.SERVICE_RULE_SET, after=after)
    return shown


async def read_inherited(connection: Connection, kind: Kind | None) -> Wire:
    """The rule of all conversations of a kind, or of all, that have none of their own."""
    if kind is not None:
        _, rule, source = await rules.inherited(connection, kind)
        return wire(rule, source)
    rule = await rules.service_rule(connection)
    return wire(rule, Source.SERVICE if rule != NO_RULE else None)


async def inherit(database: Database) -> bool:
    """Give the present rule to some conversations that follow an older one; False when none does, or another process is
    at it. Those from which it takes nothing go together; the others one by one, each counted before it is locked."""
    more = False
    for kind in Kind:
        async with database.read() as connection:
            version, rule, _ = await rules.inherited(connection, kind)
            ids = [row[0] for row in await fetch(connection, _RETENTION_BEHIND, version, _MANY, kind.value)]
            measured = await expiry.measure(connection, sorted(ids), rule) if ids else {}
        quiet = sorted(id_ for id_ in ids if id_ in measured and not measured[id_].takes)
        done = await _give(database, quiet, rule, version, {}) if quiet else True
        for id_ in sorted(set(ids) - set(quiet)):
            done = done and await _give(database, [id_], rule, version, measured)
        more = more or (bool(ids) and done)
    return more


async def _give(
    database: Database, ids: Sequence[UUID], rule: Rule, version: int, measured: Mapping[UUID, Measured]
) -> bool:
    """Give conversations a rule that they inherit, but for those that somebody holds at the moment; False if another
    process is at it, or all of them are held."""
    async with database.write() as connection:
        if not await locks.alone(connection, "retention"):
            return False
        locked, held = await facts.lock_free(connection, ids)
        behind = {row[0] for row in await fetch(connection, _STILL_BEHIND, array(ids), version)}
        places = [place for place in locked.values() if not place.closed and place.id in behind]
        if places:
            await _set(database, connection, places, rule, version, measured)
    return len(held) < len(ids)


async def age(database: Database) -> bool:
    """Move the floors of some conversations past what has grown too old since the last time, and tell their
    followers; False when none is due, or another process is at it."""
    async with database.read() as connection:
        due = await fetch(connection, _DUE_NOW, _MANY)
    moving = sorted(row[0] for row in due if row[1])
    for id_ in moving:
        if not await settle(database, [id_], alone=True):
            return False
    async with database.write() as connection:
        if not await locks.alone(connection, "retention"):
            return False
        await rules.mark_due(connection, sorted(row[0] for row in due if not row[1]))
    return len(due) == _MANY


async def settle(database: Database, ids: Sequence[UUID], *, alone: bool = False) -> bool:
    """Move the floors of conversations, given in order, to where age puts them at this instant. False, where it is to
    be done `alone`: another process is at it."""
    async with database.read() as connection:
        measured = await expiry.measure(connection, ids)
    async with database.write() as connection:
        if alone and not await locks.alone(connection, "retention"):
            return False
        places = (await facts.lock(connection, ids)).values()
        moved = [place for place in places if not place.closed and place.floor > place.stored_floor]
        for place in moved:
            place.next_rev()
        if moved:
            await apply.move(database, connection, moved, to_self=True, measured=measured)
        await rules.mark_due(connection, ids)
    return True
