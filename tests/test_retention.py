"""What rules keep, to the message, against a plain list; and what the sweep does with the rest."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator, Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from typing import Any
from uuid import UUID

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from nestrel.core.callers import Caller
from nestrel.core.commands import Command, Edit, Post, Remove
from nestrel.core.durations import Duration
from nestrel.core.problems import ConfirmNeeded, Expired, Problem, TooLarge
from nestrel.core.retention import Rule, Then
from nestrel.core.rights import Action
from nestrel.service.sweeper import Sweeper
from nestrel.store.access import see
from nestrel.store.database import Database
from nestrel.store.keep import archive, exporting, previewing, retention, sweep
from nestrel.store.native import Connection, fetch
from nestrel.store.read import conversations
from nestrel.store.write.answers import Growth
from nestrel.store.write.writer import Writer
from tests.support import PATIENCE, make_place

HOURS = 40
"""Messages are some whole hours old and rules keep so many hours and a half: nothing expires while a test runs."""


@pytest.fixture(scope="module")
async def database(make_database: Callable[[], str]) -> AsyncIterator[Database]:
    opened = Database(make_database())
    yield opened
    await opened.close()


@dataclass
class Said:
    size: int
    hours: int
    removed: bool = False


@dataclass
class Truth:
    """A plain list, of which a rule keeps the end."""

    rule: Rule = field(default_factory=Rule)
    said: list[Said] = field(default_factory=list)
    floor: int = 1

    def kept(self, floor: int) -> list[Said]:
        return [one for one in self.said[floor - 1 :] if not one.removed]

    def fits(self, floor: int) -> bool:
        kept, rule = self.kept(floor), self.rule
        hours = int(rule.keep_for.rest.total_seconds() // 3600) if rule.keep_for else HOURS
        return rule.hold or (
            len(kept) <= (rule.keep_last or len(kept))
            and sum(one.size for one in kept) <= (rule.keep_bytes or 10**9)
            and all(one.hours <= hours for one in self.said[floor - 1 :])
        )

    def expire(self) -> None:
        """The lowest floor that the rule allows."""
        while not self.fits(self.floor):
            self.floor += 1


SIZES = st.integers(1, 30)
RULES = st.builds(
    Rule,
    keep_last=st.none() | st.integers(1, 6),
    keep_for=st.none() | st.integers(0, HOURS).map(lambda hours: Duration.parse(f"PT{hours}H30M")),
    keep_bytes=st.none() | st.integers(20, 90),
    then=st.sampled_from(Then),
    hold=st.sampled_from([False, False, False, True]),
)
STEPS = st.lists(
    st.one_of(
        st.tuples(st.just("post"), SIZES, st.integers(0, 3)),
        st.tuples(st.just("edit"), st.integers(1, 12), SIZES),
        st.tuples(st.just("remove"), st.integers(1, 12)),
        st.tuples(st.just("rule"), RULES),
        st.tuples(st.just("sweep")),
    ),
    max_size=30,
)


async def counters(database: Database, place: UUID) -> tuple[int, int, int]:
    """The floor at this instant as readers see it, the messages that count, and the head."""
    async with database.read() as connection:
        shown = await conversations.show(connection, place, "mara")
        access = await see(connection, place, Caller("mara"), Action.SEE)
    assert access.floor == shown["floor"]
    return shown["floor"], shown["message_count"], shown["head"]


async def sweep_all(database: Database) -> int:
    taken, after = 0, sweep.NOTHING
    while step := await sweep.step(database, after):
        taken += step.messages
        after = sweep.NOTHING if step.full else step.conversation_id
    return taken


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(steps=STEPS)
@example(steps=[("post", 1, 0), ("remove", 1), ("rule", Rule(keep_last=1)), ("post", 1, 0), ("post", 1, 0)])
async def test_every_combination_of_limits_keeps_exactly_what_a_plain_list_would(
    database: Database, steps: list[tuple[Any, ...]]
) -> None:
    place = await make_place(database, mara="owner")
    writer, truth, started, hours = Writer(database), Truth(), datetime.now(UTC), HOURS
    for kind, *rest in steps:
        command: Command | None = None
        refusal: type[Problem] | None = None
        if kind == "rule":
            async with database.read() as connection:
                foreseen = await previewing.preview(connection, [place], rest[0])
            await retention.put(database, place, rest[0], confirmed=True)
            before, truth.rule = truth.floor, rest[0]
            truth.expire()
            gone = [one for one in truth.said[before - 1 : truth.floor - 1] if not one.removed]
            assert (foreseen.expires, foreseen.bytes) == (len(gone), sum(one.size for one in gone))
        elif kind == "sweep":
            await sweep_all(database)
        elif kind == "post":
            hours = max(0, hours - rest[1])
            command = Post(place, "mara", "x" * rest[0], created_at=started - timedelta(hours=hours))
            if not truth.rule.admits(rest[0]):
                refusal = TooLarge
            else:
                truth.said.append(Said(rest[0], hours))
        elif rest[0] <= len(truth.said):
            said = truth.said[rest[0] - 1]
            if rest[0] < truth.floor:
                refusal = Expired
            elif kind == "remove":
                said.removed = True
            elif said.removed:
                continue
            elif not truth.rule.admits(rest[1]):
                refusal = TooLarge
            else:
                said.size = rest[1]
            command = (
                Remove(place, "mara", rest[0]) if kind == "remove" else Edit(place, "mara", rest[0], "y" * rest[1])
            )
        if command is not None and refusal is not None:
            with pytest.raises(refusal):
                await writer.submit([command])
        elif command is not None:
            await writer.submit([command])
        truth.expire()
        assert await counters(database, place) == (truth.floor, len(truth.kept(truth.floor)), len(truth.said))
    await sweep_all(database)
    async with database.read() as connection:
        [(size, swept)] = await fetch(
            connection, "SELECT kept_bytes, swept FROM nestrel.conversations WHERE id = $1", place
        )
        rows = [
            row[0]
            for row in await fetch(connection, "SELECT seq FROM nestrel.messages WHERE conversation_id = $1", place)
        ]
    assert truth.rule.keep_for is not None or size == sum(one.size for one in truth.kept(truth.floor))
    if not truth.rule.hold and truth.rule.keep_for is None:
        assert swept == truth.floor
        assert sorted(rows) == list(range(truth.floor, len(truth.said) + 1))
    await check_whole(database, place, rows, len(truth.said))


async def check_whole(database: Database, place: UUID, live: list[int], head: int) -> None:
    """Every message is in exactly one of the live ones, the archive, and what a rule has discarded."""
    found = list(live)
    async with database.read() as connection:
        async for segment, text in archive.every(connection, place):
            found += range(segment.first_seq, segment.last_seq + 1)
            assert len(text.splitlines()) == segment.messages
        for first, last, _ in await sweep.discarded(connection, place):
            found += range(first, last + 1)
        exported = await lines_behind(connection, place, 0)
        for after in range(0, head, max(1, head // 7)):
            assert await lines_behind(connection, place, after) == {
                seq: line for seq, line in exported.items() if seq > after
            }
    assert sorted(found) == list(range(1, head + 1))


async def lines_behind(connection: Connection, place: UUID, after: int) -> dict[int, bytes]:
    """What an export that goes on behind a number brings; each part says where it ends."""
    lines: dict[int, bytes] = {}
    async for last, text in exporting.jsonl(connection, place, live=True, archived=True, after=after):
        numbered = {json.loads(line)["seq"]: line for line in text.splitlines()}
        assert max(numbered) == last
        assert lines.keys().isdisjoint(numbered)
        lines |= numbered
    assert list(lines) == sorted(lines)
    return lines


async def test_the_post_that_exceeds_a_limit_makes_the_first_unreadable_in_the_same_instant(database: Database) -> None:
    """Not with the nightly job: with the commit of the 101st; and live followers hear of it with that post."""
    place = await make_place(database, mara="owner")
    await retention.put(database, place, Rule(keep_last=100), confirmed=False)
    growths: list[Growth] = []
    writer = Writer(database, growths.extend)
    await writer.submit([Post(place, "mara", f"m{n}") for n in range(100)])
    assert (await counters(database, place))[0] == 1
    await writer.submit([Post(place, "mara", "the 101st")])
    assert await counters(database, place) == (2, 100, 101)
    assert growths[-1].floor == 2
    # Of a list that is longer than what is kept, nobody gets what has gone with it.
    await writer.submit([Post(place, "mara", f"n{n}") for n in range(150)])
    assert [message["seq"] for message in growths[-1].messages] == list(range(152, 252))
    assert growths[-1].floor == 152


async def test_a_rule_that_takes_something_at_once_wants_to_be_confirmed(database: Database) -> None:
    place = await make_place(database, mara="owner")
    await Writer(database).submit([Post(place, "mara", f"{n}") for n in range(10)])
    with pytest.raises(ConfirmNeeded) as refused:
        await retention.put(database, place, Rule(keep_last=4), confirmed=False)
    assert refused.value.extra["preview"]["expires"] == 6
    assert await counters(database, place) == (1, 10, 10)


async def test_age_is_previewed_at_a_moment_that_is_handed_in(database: Database) -> None:
    place = await make_place(database, mara="owner")
    morning = datetime(2026, 5, 4, 6, tzinfo=UTC)
    times = [morning + timedelta(hours=8 * n) for n in range(9)]
    await Writer(database).submit([Post(place, "mara", f"tide {n}", created_at=at) for n, at in enumerate(times)])
    rule = Rule(keep_for=Duration.parse("P1D"))
    async with database.read() as connection:
        at = times[4] + timedelta(days=1)
        before = await previewing.preview(connection, [place], rule, at - timedelta(microseconds=1))
        found = await previewing.preview(connection, [place], rule, at)
    assert (before.expires, found.expires) == (4, 5)  # to the instant at which the fifth is a day old
    assert found.wire() == {
        "expires": 5, "first_seq": 1, "last_seq": 5, "first_at": "2026-05-04T06:00:00.000000Z",
        "last_at": "2026-05-05T14:00:00.000000Z", "bytes": 30,
        "by_day": [{"day": "2026-05-04", "messages": 3}, {"day": "2026-05-05", "messages": 2}],
    }  # fmt: skip
    for one, two in pairwise([morning, *times]):
        async with database.read() as connection:
            first = await previewing.preview(connection, [place], rule, one)
            second = await previewing.preview(connection, [place], rule, two)
        assert first.expires <= second.expires


async def test_what_age_has_expired_stays_expired_whatever_the_rule_becomes(database: Database) -> None:
    place = await make_place(database, mara="owner")
    await retention.put(database, place, Rule(keep_for=Duration.parse("P30D")), confirmed=False)
    old, new = datetime.now(UTC) - timedelta(days=31), datetime.now(UTC) - timedelta(days=1)
    writer = Writer(database)
    await writer.submit([Post(place, "mara", "old", created_at=old)])
    await writer.submit([Post(place, "mara", "new", created_at=new)])
    assert (await counters(database, place))[0] == 2  # before any sweep
    await retention.put(database, place, Rule(keep_for=Duration.parse("P90D")), confirmed=False)
    assert (await counters(database, place))[0] == 2
    await retention.put(database, place, Rule(hold=True), confirmed=False)
    assert (await counters(database, place))[0] == 2


async def test_the_sweep_tells_followers_of_what_has_grown_old(database: Database) -> None:
    place = await make_place(database, mara="owner")
    await Writer(database).submit([Post(place, "mara", "old", created_at=datetime.now(UTC) - timedelta(days=2))])
    await retention.put(database, place, Rule(keep_for=Duration.parse("P2DT0.2S")), confirmed=False)
    async with database.write() as connection:
        await fetch(connection, "UPDATE nestrel.expiry_due SET due_at = '2026-01-01' WHERE conversation_id = $1", place)
        [(before,)] = await fetch(connection, "SELECT rev FROM nestrel.conversations WHERE id = $1", place)

    async def moved() -> bool:
        await retention.settle(database, [place])
        async with database.read() as connection:
            [(rev, floor)] = await fetch(
                connection, "SELECT rev, floor FROM nestrel.conversations WHERE id = $1", place
            )
        return bool((rev, floor) == (before + 1, 2))

    async with asyncio.timeout(PATIENCE):
        while not await moved():
            pass
    await retention.age(database)
    async with database.read() as connection:
        [(rev,)] = await fetch(connection, "SELECT rev FROM nestrel.conversations WHERE id = $1", place)
    assert rev == before + 1  # told once


async def test_a_long_sweep_does_not_hold_up_what_grows_old(
    database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Followers hear of an age within a sweep's interval, also while millions of messages wait to be taken away."""
    place = await make_place(database, mara="owner")
    await Writer(database).submit([Post(place, "mara", "old", created_at=datetime.now(UTC) - timedelta(days=2))])
    swept = 0

    async def never_done(*_: object) -> sweep.Step:
        nonlocal swept
        swept += 1
        await asyncio.sleep(0)
        return sweep.Step(place, 1, Then.ARCHIVE, full=True)

    monkeypatch.setattr(sweep, "step", never_done)
    running = asyncio.create_task(Sweeper(database, 0.05).run())
    try:
        async with asyncio.timeout(PATIENCE):
            while swept < 3:
                await asyncio.sleep(0)
            await retention.put(database, place, Rule(keep_for=Duration.parse("P2DT2S")), confirmed=True)
            stored = 1
            while stored != 2:
                async with database.read() as connection:
                    [(stored,)] = await fetch(
                        connection, "SELECT floor FROM nestrel.conversations WHERE id = $1", place
                    )
    finally:
        running.cancel()
        await asyncio.wait({running})


async def test_a_late_repeat_posts_nothing_after_its_message_was_swept(database: Database) -> None:
    place = await make_place(database, mara="owner")
    await retention.put(database, place, Rule(keep_last=2), confirmed=False)
    writer = Writer(database)
    for n in range(6):
        await writer.submit([Post(place, "mara", f"m{n}", key=f"k{n}")])
    for swept in (False, True):
        for body in ("m1", "something else"):
            with pytest.raises(Expired):
                await writer.submit([Post(place, "mara", body, key="k1")])
        if not swept:
            await sweep_all(database)
    again = await writer.submit([Post(place, "mara", "m5", key="k5")])
    assert (again[0].new, again[0].object["seq"]) == (False, 6)
    assert (await counters(database, place))[2] == 6


async def test_two_sweeps_at_once_take_each_message_once(database: Database) -> None:
    places = [await make_place(database, mara="owner") for _ in range(3)]
    writer = Writer(database)
    for place in places:
        for _ in range(5):
            await writer.submit([Post(place, "mara", "x") for _ in range(500)])
        await retention.put(database, place, Rule(keep_last=100), confirmed=True)
    taken = await asyncio.gather(*(sweep_all(database) for _ in range(4)))
    assert sum(taken) == 3 * 2_400
    for place in places:
        await check_whole(database, place, list(range(2_401, 2_501)), 2_500)


async def test_what_waits_goes_as_the_rule_said_under_which_it_expired(database: Database) -> None:
    place = await make_place(database, mara="owner")
    writer = Writer(database)
    await writer.submit([Post(place, "mara", f"{n}") for n in range(30)])
    for rule in (
        Rule(keep_last=20, then=Then.ARCHIVE), Rule(keep_last=10, then=Then.DISCARD), Rule(keep_last=5),
    ):  # fmt: skip
        await retention.put(database, place, rule, confirmed=True)
        if rule.keep_last == 10:
            await sweep_all(database)
            async with database.read() as connection:
                [segment], _ = await archive.page(connection, place, 10, 0)
                [discarded] = await sweep.discarded(connection, place)
            assert (segment.first_seq, segment.last_seq, discarded[:2]) == (1, 10, (11, 20))
    await sweep_all(database)
    await check_whole(database, place, list(range(26, 31)), 30)


async def test_the_service_s_rule_reaches_all_that_have_none_of_their_own(make_database: Callable[[], str]) -> None:
    database = Database(make_database())
    try:
        own, other = await make_place(database, mara="owner"), await make_place(database, mara="owner")
        writer = Writer(database)
        for place in (own, other):
            await writer.submit([Post(place, "mara", f"{n}") for n in range(10)])
        await retention.put(database, own, Rule(keep_last=8), confirmed=True)
        with pytest.raises(ConfirmNeeded) as refused:
            await retention.put_inherited(database, Rule(keep_last=3), None, confirmed=False)
        assert refused.value.extra["preview"]["expires"] == 7
        # Several at one moment: each has a version of its own, and none is answered with a fault.
        rules = [Rule(keep_last=3) for _ in range(8)]
        await asyncio.gather(*(retention.put_inherited(database, rule, None, confirmed=True) for rule in rules))
        while await retention.inherit(database):
            pass
        later = await make_place(database, mara="owner")
        await writer.submit([Post(later, "mara", f"{n}") for n in range(5)])
        floors = [(await counters(database, place))[0] for place in (own, other, later)]
        assert floors == [3, 8, 3]
        await retention.put(database, own, None, confirmed=True)
        assert (await counters(database, own))[0] == 8
    finally:
        await database.close()


@settings(max_examples=200, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    moment=st.datetimes(datetime(1990, 1, 1), datetime(2100, 1, 1)),
    parts=st.tuples(st.integers(0, 3), st.integers(0, 30), st.integers(0, 400), st.integers(0, 100_000)),
)
async def test_the_database_reckons_durations_as_the_core_does(
    database: Database, moment: datetime, parts: tuple[int, ...]
) -> None:
    years, months, days, seconds = parts
    duration = Duration.parse(f"P{years}Y{months}M{days}DT{seconds + 1}S")
    now = moment.replace(tzinfo=UTC)
    async with database.read() as connection:
        [(found,)] = await fetch(
            connection,
            "SELECT nestrel.before_v1($1, make_interval(months => $2) + $3::interval)",
            now,
            duration.months,
            duration.rest,
        )
    assert found == duration.before(now)
