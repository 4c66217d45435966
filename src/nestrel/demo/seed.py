"""Put the scenario into an empty database, through the same write path as every other door."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from datetime import datetime, timedelta
from itertools import groupby
from uuid import UUID

from sqlalchemy import text

from nestrel.core.commands import Command, Edit, Post, React, Read, Remove
from nestrel.core.ids import uuid7
from nestrel.core.roles import Kind, Role, Visibility, default_role, direct_pair
from nestrel.demo.generate import DAYS, LOGBOOK_MESSAGES, MESSAGES, Line, afterwards, lines, receipts
from nestrel.demo.scenario import LOGBOOK, PEOPLE, PLACES, Place
from nestrel.store import conversations, profiles, retention
from nestrel.store.conversations import NewConversation
from nestrel.store.database import Database
from nestrel.store.writer import Writer

TOTAL = sum(MESSAGES * place.share // 100 for place in PLACES) + LOGBOOK_MESSAGES
_CHUNK = 500


async def is_empty(database: Database) -> bool:
    async with database.read() as connection:
        found = await connection.execute(text("SELECT count(*) FROM (SELECT 1 FROM nestrel.conversations LIMIT 1) c"))
        return bool(found.scalar_one() == 0)


async def seed(database: Database, now: datetime, number: int, progress: Callable[[int], None]) -> None:
    """Write people, conversations and messages; `progress` hears how many messages are written, of `TOTAL`.

    The same `number` and `now` give the same data. Each message carries a key, so a seeding that was cut short can
    simply be run again.
    """
    for person in PEOPLE:
        await profiles.first_sight(database, person.user_id, person.name, None)
    ids = {id(place): await _make(database, place, index, now) for index, place in enumerate((*PLACES, LOGBOOK))}
    writer = Writer(database)
    written = 0
    for _, run in groupby(lines(number, now), key=lambda line: id(line.place)):
        unit: list[Post] = []
        said = list(run)
        if await _has_rule(database, ids[id(said[0].place)]):  # which it gets when all is written
            written += len(said)
            progress(written)
            continue
        for index, line in enumerate(said):
            unit.append(
                Post(
                    conversation_id=ids[id(line.place)],
                    author_id=line.author,
                    body=line.body,
                    format=line.format,
                    reply_to=line.reply_to,
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
        place = said[0].place
        await _afterwards(writer, number, ids[id(place)], place, said)
        if place.rule is not None:
            await retention.put(database, ids[id(place)], place.rule, confirmed=True)


async def _has_rule(database: Database, conversation_id: UUID) -> bool:
    async with database.read() as connection:
        return bool((await retention.read(connection, conversation_id))["own"])


async def _afterwards(writer: Writer, number: int, conversation_id: UUID, place: Place, said: Sequence[Line]) -> None:
    commands: list[Command] = []
    for later in afterwards(number, place, said):
        if later.what == "edit":
            commands.append(Edit(conversation_id, later.user, later.seq, later.text))
        elif later.what == "remove":
            commands.append(Remove(conversation_id, later.user, later.seq))
        else:
            commands.append(React(conversation_id, later.user, later.seq, later.text, True))
    commands += [Read(conversation_id, user, seq) for user, seq in receipts(number, place, len(said))]
    await asyncio.gather(*(writer.submit([command]) for command in commands))


async def _make(database: Database, place: Place, index: int, now: datetime) -> UUID:
    kind = Kind(place.kind)
    made = now - timedelta(days=DAYS + 1)
    conversation_id = uuid7(int(made.timestamp() * 1000) + index, bytes((index,)) * 10)
    others = [user_id for user_id in place.members if user_id != place.owner]
    members = [(place.owner, Role.OWNER)]
    for user_id in others:
        members.append((user_id, Role.MODERATOR if user_id in place.moderators else default_role(kind)))
    new = NewConversation(
        id=conversation_id,
        kind=kind,
        visibility=Visibility(place.visibility),
        name=place.name,
        title=place.title,
        attributes=None,
        direct_pair=direct_pair(place.owner, others[0]) if kind is Kind.DIRECT else None,
        created_by=place.owner,
        created_at=made,
        members=members,
    )
    async with database.read() as connection:
        query = text("SELECT count(*) FROM nestrel.conversations WHERE id = :id")
        there = (await connection.execute(query, {"id": conversation_id})).scalar_one()
    if not there:
        await conversations.make(database, new)
    return conversation_id
