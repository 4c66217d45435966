"""Put the scenario into an empty database, through the same write path as every other door."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Sequence
from datetime import datetime, timedelta
from itertools import groupby
from uuid import UUID

from nestrel.core.callers import Caller
from nestrel.core.commands import Command, Edit, Post, React, Read, Remove
from nestrel.core.conversations import NewConversation
from nestrel.core.ids import uuid7
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.core.rights import Action
from nestrel.core.roles import Kind, Role, Visibility, default_role, direct_pair, maker_role
from nestrel.demo.generate import DAYS, LOGBOOK_MESSAGES, MESSAGES, Spoken, afterwards, lines, receipts
from nestrel.demo.scenario import LOGBOOK, PEOPLE, ROOMS, Room
from nestrel.service.attachments import Attachments, Sent
from nestrel.store.access import see
from nestrel.store.database import Database
from nestrel.store.keep import retention
from nestrel.store.native import fetch
from nestrel.store.write import conversations, profiles
from nestrel.store.write.writer import Writer

TOTAL = sum(MESSAGES * room.share // 100 for room in ROOMS) + LOGBOOK_MESSAGES
_CHUNK = 500


async def is_empty(database: Database) -> bool:
    async with database.read() as connection:
        return not await fetch(connection, "SELECT 1 FROM nestrel.conversations LIMIT 1")


async def seed(
    database: Database, attachments: Attachments, now: datetime, number: int, progress: Callable[[int], None]
) -> None:
    """Write people, conversations and messages; `progress` hears how many messages are written, of `TOTAL`.

    The same `number` and `now` give the same data. Each message carries a key, so a seeding that was cut short can
    simply be run again.
    """
    for person in PEOPLE:
        await profiles.first_sight(database, person.user_id, person.name, None)
    ids = {id(room): await _make(database, room, index, now) for index, room in enumerate((*ROOMS, LOGBOOK))}
    writer = Writer(database)
    written = 0
    for _, run in groupby(lines(number, now), key=lambda line: id(line.room)):
        unit: list[Post] = []
        said = list(run)
        if await _has_rule(database, ids[id(said[0].room)]):  # which it gets when all is written
            written += len(said)
            progress(written)
            continue
        for index, line in enumerate(said):
            unit.append(
                Post(
                    conversation_id=ids[id(line.room)],
                    author_id=line.author,
                    body=line.body,
                    format=line.format,
                    reply_to=line.reply_to,
                    mentions=line.names,
                    attachments=await _sent(database, attachments, ids[id(line.room)], line),
                    key=f"demo-{number}-{index}",
                    service=True,
                    created_at=line.at,
                )
            )
            if len(unit) == _CHUNK:
                written += len(await writer.submit(unit))
                progress(written)
                unit = []
        if unit:
            written += len(await writer.submit(unit))
            progress(written)
        room = said[0].room
        await _afterwards(writer, number, ids[id(room)], room, said)
        if room.rule is not None:
            await retention.put(database, ids[id(room)], room.rule, confirmed=True)


async def _sent(database: Database, attachments: Attachments, conversation_id: UUID, line: Spoken) -> tuple[UUID, ...]:
    """The files of a message, sent by its author."""
    if not line.files:
        return ()
    author, kept = Caller(line.author, service=True), []
    async with database.read() as connection:
        access = await see(connection, conversation_id, author, Action.POST)
    for file in line.files:
        content = await asyncio.to_thread(file.content)
        sent = Sent(line.author, file.name, len(content), {})
        kept.append((await attachments.take(access, author, sent, _whole(content)))[0].id)
    return tuple(kept)


async def _whole(content: bytes) -> AsyncIterator[bytes]:
    yield content


async def _has_rule(database: Database, conversation_id: UUID) -> bool:
    async with database.read() as connection:
        return bool((await retention.read(connection, conversation_id))["own"])


async def _afterwards(writer: Writer, number: int, conversation_id: UUID, room: Room, said: Sequence[Spoken]) -> None:
    commands: list[Command] = []
    for later in afterwards(number, room, said):
        if later.what == "edit":
            commands.append(Edit(conversation_id, later.user, later.seq, later.text))
        elif later.what == "remove":
            commands.append(Remove(conversation_id, later.user, later.seq))
        else:
            commands.append(React(conversation_id, later.user, later.seq, later.text, True))
    commands += [Read(conversation_id, user, seq) for user, seq in receipts(number, room, len(said))]
    await asyncio.gather(*(writer.submit([command]) for command in commands))


async def _make(database: Database, room: Room, index: int, now: datetime) -> UUID:
    kind = Kind(room.kind)
    made = now - timedelta(days=DAYS + 1)
    conversation_id = uuid7(int(made.timestamp() * 1000) + index, bytes((index,)) * 10)
    others = [user_id for user_id in room.members if user_id != room.owner]
    members = [(room.owner, maker_role(kind))]
    for user_id in others:
        members.append((user_id, Role.MODERATOR if user_id in room.moderators else default_role(kind)))
    new = NewConversation(
        id=conversation_id,
        kind=kind,
        visibility=Visibility(room.visibility),
        name=room.name,
        title=room.title,
        attributes=None,
        direct_pair=direct_pair(room.owner, others[0]) if kind is Kind.DIRECT else None,
        created_by=room.owner,
        created_at=made,
        members=members,
    )
    async with database.read() as connection:
        there = await fetch(connection, "SELECT 1 FROM nestrel.conversations WHERE id = $1", conversation_id)
    if not there:
        await conversations.make(database, new, Caller("harbour-office", service=True), DEFAULT_QUOTAS)
    return conversation_id
