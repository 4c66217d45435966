"""What a process cannot take it turns away before it has cost anything; questions that many share."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from typing import Any

import pytest
from websockets.asyncio.client import connect
from websockets.exceptions import InvalidStatus

from nestrel.core.backoff import SPREAD_SECONDS, pause_after
from nestrel.core.problems import StoreUnavailable, Unreachable
from nestrel.live.sharing import Shared
from nestrel.service.shedding import Shedding
from tests.support import PATIENCE, Person, Served, unique


class Time:
    """A clock of the test's own, and the processor's."""

    def __init__(self) -> None:
        self.now = self.spent = 0.0


def shedding(most: int | None, time: Time, *, full: bool = False, dice: float = 0.5) -> Shedding:
    return Shedding(most, lambda: full, lambda: time.now, lambda: time.spent, lambda: dice)


def let_in(gate: Shedding, count: int) -> int:
    return sum(gate.refusal(draining=False) is None for _ in range(count))


def test_no_more_a_second_than_are_set() -> None:
    time = Time()
    gate = shedding(10, time)
    assert let_in(gate, 50) == 10
    time.now += 0.5
    assert let_in(gate, 50) == 5
    time.now += 60
    assert let_in(gate, 50) == 10


@pytest.mark.parametrize("dice", [0.0, 0.5, 1.0])
def test_whoever_is_turned_away_is_told_when_to_come_again(dice: float) -> None:
    time = Time()
    for gate, draining in (
        (shedding(1, time, dice=dice), False), (shedding(1, time, full=True, dice=dice), False),
        (shedding(None, time, dice=dice), True),
    ):  # fmt: skip
        waits = [said.retry_after for _ in range(200) if (said := gate.refusal(draining=draining)) is not None]
        assert len(waits) >= 199
        assert all(wait is not None and 1 <= wait <= 30 for wait in waits)
    assert waits[0] == round(1 + 9 * dice)


def test_what_a_process_manages_is_measured() -> None:
    time = Time()
    gate = shedding(None, time)
    first = gate.rate
    for _ in range(40):  # each costs four milliseconds of the processor
        time.now += 1
        time.spent += 0.004 * let_in(gate, 100)
        gate.look()
    assert gate.rate == pytest.approx(200, rel=0.1)
    assert gate.rate < first
    time.now += 60
    assert let_in(gate, 10_000) == pytest.approx(2_000, rel=0.1)  # who comes at once waits for up to ten seconds
    rate = gate.rate
    time.now, time.spent = time.now + 1, time.spent + 1
    gate.look()
    time.now, time.spent = time.now + 1, time.spent + 1  # busy with something else
    gate.look()
    assert gate.rate <= rate


async def test_an_upgrade_is_shed_before_a_token_is_read(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_SIGN_INS="1") as served:
        mara = Person(served.wait_ready().url, unique("mara"))
        came: list[Any] = await asyncio.gather(
            *(connect("ws" + mara.url[4:] + "/v1/live", open_timeout=PATIENCE) for _ in range(30)),
            return_exceptions=True,
        )
        shed = [one for one in came if isinstance(one, InvalidStatus)]
        let_in = [one for one in came if not isinstance(one, BaseException)]
        assert len(shed) + len(let_in) == 30
        assert shed
        assert let_in
        for one in shed:
            assert one.response.status_code == 503
            assert 1 <= int(one.response.headers["Retry-After"]) <= 30
            assert b"/problems/store-unavailable" in one.response.body
        assert (await mara.http.get("/me")).status_code == 200  # only those who want to stay are turned away
        for wire in let_in:
            await wire.close()


def test_those_whom_a_process_tells_that_it_stops_come_back_spread_over_ten_seconds() -> None:
    leaving = Unreachable("going", leaving=True)
    waits = [pause_after(leaving, 0.1, lambda n=n: n / 100) for n in range(101)]  # type: ignore[misc]  # mypy: no defaults
    assert max(waits) == SPREAD_SECONDS
    assert sum(wait > SPREAD_SECONDS / 2 for wait in waits) == 50


async def test_what_is_asked_meanwhile_goes_into_the_next_question() -> None:
    asked: list[list[int]] = []
    gate = asyncio.Event()

    async def ask(keys: Sequence[int]) -> Sequence[str]:
        asked.append(list(keys))
        await gate.wait()
        if 13 in keys:
            raise StoreUnavailable("it is away")
        return [f"of {key}" for key in keys]

    shared = Shared[int, str](ask, 4, pause=0)
    first = asyncio.create_task(shared(0))
    while not asked:
        await asyncio.sleep(0)
    others = [asyncio.create_task(shared(n)) for n in range(1, 9)]
    given_up = asyncio.create_task(shared(99))
    await asyncio.sleep(0)
    given_up.cancel()
    gate.set()
    async with asyncio.timeout(PATIENCE):
        assert await asyncio.gather(first, *others) == [f"of {n}" for n in range(9)]
        assert asked == [[0], [1, 2, 3, 4], [5, 6, 7, 8]]
        failed = await asyncio.gather(shared(13), shared(14), return_exceptions=True)
        assert [type(one) for one in failed] == [StoreUnavailable] * 2
        assert await shared(15) == "of 15"
        gate.clear()
        waiting = asyncio.create_task(shared(16))
        while asked[-1] != [16]:
            await asyncio.sleep(0)
        await shared.stop()
        with pytest.raises(asyncio.CancelledError):
            await waiting
