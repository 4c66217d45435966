"""Every kind of command through the shared write path, against a plain dictionary that knows the truth."""

from __future__ import annotations

import asyncio
import os
from collections.abc import AsyncIterator, Callable
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

import orjson
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nestrel.core.callers import Caller
from nestrel.core.commands import Command, Edit, Post, React, Read, Remove
from nestrel.core.conversations import NewConversation
from nestrel.core.cursors import ChangePosition
from nestrel.core.ids import uuid7
from nestrel.core.objects import ChangeSet
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.core.replica import Replica
from nestrel.core.roles import Kind, Role, Visibility
from nestrel.store.database import Database
from nestrel.store.native import fetch
from nestrel.store.read import catch_up, history
from nestrel.store.read.changes import Changes
from nestrel.store.write import conversations, crowds, members
from nestrel.store.write.answers import Growth
from nestrel.store.write.writer import Writer

ROLES = {"mara": Role.OWNER, "odd": Role.WRITER, "tove": Role.WRITER, "ines": Role.READER}
USERS = st.sampled_from([*ROLES, "nobody"])
SEQS = st.integers(1, 5)
COMMANDS = st.one_of(
    st.tuples(st.just("post"), USERS, st.sampled_from("abc")),
    st.tuples(st.just("edit"), USERS, SEQS, st.sampled_from("abcd")),
    st.tuples(st.just("remove"), USERS, SEQS),
    st.tuples(st.just("react"), USERS, SEQS, st.sampled_from(["like", "⚓"]), st.booleans()),
    st.tuples(st.just("read"), USERS, st.integers(0, 6)),
)


class Truth:
    """What must hold, in a few plain lists and dictionaries."""

    def __init__(self) -> None:
        self.messages: list[dict[str, Any]] = []
        self.read: dict[str, int] = dict.fromkeys(ROLES, 0)

    def carry_out(self, command: tuple[Any, ...], known: int) -> object:
        """The answer to a command: None where it must be refused. `known` messages stood before its batch; nobody can
        know the number of one that comes with it."""
        kind, user, *rest = command
        if user not in ROLES:
            return None
        if kind == "post":
            if ROLES[user] is Role.READER:
                return None
            self.messages.append({"author": user, "body": rest[0], "earlier": [], "marks": set(), "removed": None})
            return self.messages[-1]
        if kind == "read":
            if rest[0] > len(self.messages):
                return None
            self.read[user] = max(self.read[user], rest[0])
            return {"read_seq": self.read[user]}
        if rest[0] > known:
            return None
        message = self.messages[rest[0] - 1]
        gone = message["removed"] is not None
        if kind == "remove":
            if user not in (message["author"], "mara"):
                return None
            if not gone:
                message |= {"body": "", "earlier": [], "marks": set(), "removed": user}
        elif gone:
            return None
        elif kind == "edit":
            if user != message["author"]:
                return None
            if rest[1] != message["body"]:
                message["earlier"] = [*message["earlier"], message["body"]]
                message["body"] = rest[1]
        elif rest[2]:
            message["marks"] = message["marks"] | {(rest[1], user)}
        else:
            message["marks"] = message["marks"] - {(rest[1], user)}
        return message

    def unread(self, user: str) -> int:
        above = self.messages[self.read[user] :]
        return sum(message["author"] != user and message["removed"] is None for message in above)


def command_of(place: UUID, command: tuple[Any, ...]) -> Command:
    kind, user, *rest = command
    make: dict[str, Callable[..., Command]] = {
        "post": Post,
        "edit": Edit,
        "remove": Remove,
        "react": React,
        "read": Read,
    }
    return make[kind](place, user, *rest)


@pytest.fixture(scope="module")
async def database(make_database: Callable[[], str]) -> AsyncIterator[Database]:
    opened = Database(make_database())
    yield opened
    await opened.close()


async def make(database: Database) -> UUID:
    new = NewConversation(
        uuid7(1, os.urandom(10)), Kind.GROUP, Visibility.CLOSED, None, "", None, None, "mara",
        datetime(2026, 1, 1, tzinfo=UTC), list(ROLES.items()),
    )  # fmt: skip
    made, _ = await conversations.make(database, new, Caller("mara"), DEFAULT_QUOTAS)
    return made


def change_set(found: Changes) -> ChangeSet:
    return ChangeSet.model_validate({"base": None, "cursor": "c", **orjson.loads("{" + found.tail())})


def check(replica: Replica, truth: Truth) -> None:
    assert [message.seq for message in replica.ordered()] == list(range(1, len(truth.messages) + 1))
    for held, true in zip(replica.ordered(), truth.messages, strict=True):
        assert (held.author_id, held.body, held.removed_by) == (true["author"], true["body"], true["removed"])
        assert held.edits == len(true["earlier"])
        assert {(mark.symbol, user) for mark in held.reactions for user in mark.by} == true["marks"]
        assert all(mark.count == len(mark.by) > 0 for mark in held.reactions)
    assert {user: member.read_seq for user, member in replica.members.items()} == truth.read
    for user in ROLES:
        assert replica.unread(user) == truth.unread(user)


_AGREES = """
SELECT (SELECT count(*) FROM nestrel.messages m WHERE conversation_id = $1 AND m.edits <> (
            SELECT count(*) FROM nestrel.message_edits e WHERE (e.conversation_id, e.seq) = (m.conversation_id, m.seq)))
     + (SELECT count(*) FROM (SELECT seq, symbol, count(*) FROM nestrel.reactions WHERE conversation_id = $1 GROUP BY
     1, 2
                              EXCEPT SELECT seq, symbol, count FROM nestrel.reaction_counts WHERE conversation_id =
                              $1) d)
     + (SELECT count(*) FROM (SELECT seq, symbol, count FROM nestrel.reaction_counts WHERE conversation_id = $1 AND
     count > 0
                              EXCEPT SELECT seq, symbol, count(*) FROM nestrel.reactions WHERE conversation_id = $1
                              GROUP BY 1, 2) d)
     + (SELECT count(*) FROM nestrel.reactions r JOIN nestrel.messages m USING (conversation_id, seq)
            WHERE conversation_id = $1 AND m.removed_at IS NOT NULL)
     + (SELECT count(*) FROM nestrel.messages m WHERE conversation_id = $1 AND removed_at IS NOT NULL
            AND (body <> '' OR attributes IS NOT NULL OR fingerprint IS NOT NULL OR edits > 0))
     + (SELECT count(*) FROM nestrel.conversations c WHERE id = $1 AND c.rev < (
            SELECT max(rev) FROM (SELECT rev FROM nestrel.messages WHERE conversation_id = $1
                                  UNION SELECT rev FROM nestrel.reaction_counts WHERE conversation_id = $1
                                  UNION SELECT rev FROM nestrel.members WHERE conversation_id = $1) r))
     + (SELECT count(*) FROM (SELECT 1 FROM (SELECT rev FROM nestrel.messages WHERE conversation_id = $1
            UNION ALL SELECT rev FROM nestrel.reaction_counts WHERE conversation_id = $1
            UNION ALL SELECT rev FROM nestrel.members WHERE conversation_id = $1) r GROUP BY rev HAVING count(*) > 1)
            twice)
"""


async def run(database: Database, batches: list[list[tuple[Any, ...]]], away: int, crowded: bool) -> None:
    """Each batch is offered at once, so that its commands meet in one transaction, but for receipts where it is
    `crowded`. One replica is fed live by what the commits say, another catches up after `away` batches and at the
    end."""
    place = await make(database)
    truth = Truth()
    growths: list[Growth] = []
    live, absent = Replica(str(place)), Replica(str(place))
    async with database.read() as connection:
        first = await catch_up.newest(connection, place, 200)
    assert first is not None
    live.apply(change_set(first))
    at: ChangePosition = ChangePosition(0, 0, 0, first.end.epoch)
    writer = Writer(database, growths.extend)

    async def come_up() -> None:
        nonlocal at
        async with database.read() as connection:
            more = True
            while more:
                found = await catch_up.since(connection, place, at, 3)
                assert found is not None
                absent.apply(change_set(found))
                absent.apply(change_set(found))  # a second time changes nothing
                at, more = found.end, found.more

    for n, batch in enumerate(batches):
        if crowded:  # what is not there yet is refused or not, as posts come before or behind the receipt
            stands = len(truth.messages)
            batch = [(*one[:2], min(one[2], stands)) if one[0] == "read" else one for one in batch]
        futures = [writer.submit([command_of(place, command)]) for command in batch]
        answers = await asyncio.gather(*futures, return_exceptions=True)
        known = len(truth.messages)
        expected = [truth.carry_out(command, known) for command in batch]
        for command, answer, wanted in zip(batch, answers, expected, strict=True):
            assert isinstance(answer, BaseException) == (wanted is None), (command, answer)
            if command[0] == "read" and not isinstance(answer, BaseException):
                if crowded:
                    assert command[2] <= answer[0].object["read_seq"] <= truth.read[command[1]]
                    continue
                # The receipt as the batch leaves it: a newer one of the same batch wins.
                assert answer[0].object == {"read_seq": truth.read[command[1]], "unread": truth.unread(command[1])}
        for growth in growths:
            live.apply(change_set(of_growth(growth)))
        growths.clear()
        check(live, truth)
        if n == away:
            await come_up()
            check(absent, truth)
    await come_up()
    check(absent, truth)
    async with database.read() as connection:
        assert (await fetch(connection, _AGREES, place))[0][0] == 0


def of_growth(growth: Growth) -> Changes:
    start = ChangePosition(growth.rev_before, growth.head_before, growth.rev_before, growth.epoch)
    end = ChangePosition(growth.rev, growth.head, growth.rev, growth.epoch)
    return Changes(growth.conversation_id, start, end, growth.head, growth.floor, messages=growth.messages,
                   members=growth.members, profiles=growth.profiles)  # fmt: skip


@pytest.mark.parametrize("crowd", [0, 10**9])
@settings(max_examples=60, suppress_health_check=list(HealthCheck), database=None)
@given(batches=st.lists(st.lists(COMMANDS, min_size=1, max_size=8), min_size=1, max_size=8), away=st.integers(0, 3))
async def test_whatever_is_done_in_whatever_batches_everyone_holds_the_truth(
    database: Database, batches: list[list[tuple[Any, ...]]], away: int, crowd: int
) -> None:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(crowds, "_CROWD", crowd)
        patch.setattr(crowds, "GATHERED_SECONDS", 0.001)
        await run(database, batches, away, crowd == 0)


async def test_the_first_hundred_names_stay_right_whoever_takes_a_like_back(database: Database) -> None:
    place, writer = await make(database), Writer(database)
    crew = sorted(f"crew-{n:03}" for n in range(104))
    for user in crew:
        await members.put(database, Caller("mara"), place, user, Role.READER, DEFAULT_QUOTAS)
    await writer.submit([Post(place, "mara", "all hands")])
    await asyncio.gather(*(writer.submit([React(place, user, 1, "like", True)]) for user in reversed(crew)))

    async def unlike(user: str) -> tuple[int, list[str]]:
        [written] = await writer.submit([React(place, user, 1, "like", False)])
        [reaction] = written.object["reactions"]
        return reaction["count"], reaction["by"]

    assert await unlike(crew[103]) == (103, crew[:100])
    assert await unlike(crew[0]) == (102, crew[1:101])
    assert await unlike(crew[50]) == (101, [*crew[1:50], *crew[51:102]])
    async with database.read() as connection:
        shown = await history.one(connection, place, 1)
    assert shown is not None
    assert shown["reactions"][0]["by"] == [*crew[1:50], *crew[51:102]]


async def test_a_follower_that_comes_while_a_batch_is_written_gets_no_half_of_it(database: Database) -> None:
    """Nobody follows when the batch begins, and someone does when it ends: the rows are then left to the hub's read,
    and never handed on without the profiles that belong to them."""
    place, growths = await make(database), list[Growth]()
    asked = iter([False])
    writer = Writer(database, growths.extend, followed=lambda _id: next(asked, True))
    await writer.submit([Post(place, "mara", "who is there?")])
    await writer.submit([Post(place, "mara", "now I am seen")])
    assert [(growth.followed, len(growth.messages), sorted(growth.profiles)) for growth in growths] == [
        (False, 0, []),
        (True, 1, ["mara"]),
    ]
