"""Limits over several processes: never much more than a minute's worth, and never less for who is alone."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nestrel.core.problems import SlowDown
from nestrel.core.rate import WINDOW, Policy, RateAnswer, RateRequest, Rates, headers


class Ring:
    """The shared count, as it is meant: a second's worth goes sixty seconds later."""

    def __init__(self) -> None:
        self.slots: dict[int, int] = {}

    def take(self, asked: RateRequest, now: float) -> RateAnswer:
        at = int(now)
        used = sum(n for second, n in self.slots.items() if second > at - WINDOW) + asked.done
        granted = used + asked.wanted <= asked.policy.limit
        self.slots[at] = self.slots.get(at, 0) + asked.done + (asked.wanted if granted else 0)
        return RateAnswer(granted, max(0, asked.policy.limit - used - (asked.wanted if granted else 0)), 60)


def pass_one(rates: Rates, ring: Ring, policy: Policy, n: int, now: float) -> bool:
    try:
        if not rates.passes(policy, "mara", n, now):
            asked = rates.asks(policy, "mara", n)
            rates.heard(asked, ring.take(asked, now), now)
    except SlowDown:
        return False
    return True


@given(
    st.integers(1, 40),
    st.integers(1, 5),
    st.lists(st.tuples(st.integers(0, 4), st.integers(1, 3), st.floats(0, 3)), max_size=300),
)
def test_in_no_minute_more_than_a_fifth_above_the_limit(
    limit: int, processes: int, steps: list[tuple[int, int, float]]
) -> None:
    policy, ring, now, passed = Policy("commands", limit, "commands"), Ring(), 1_000.0, list[float]()
    all_rates = [Rates() for _ in range(processes)]
    for rates in all_rates:
        rates.processes = processes
    told = now
    for process, n, pause in steps:
        now += pause
        while told + 1 <= now:  # each tells of what it let through once a second
            told += 1
            for rates in all_rates:
                for asked in rates.untold({"commands": policy}, told):
                    rates.heard(asked, ring.take(asked, told)._replace(granted=True), told)
        if pass_one(all_rates[process % processes], ring, policy, n, now):
            passed += [now] * n
    for begin in passed:
        assert sum(begin <= at < begin + WINDOW - 2 for at in passed) <= 1.2 * limit


@pytest.mark.parametrize("processes", [0, 1])
@pytest.mark.parametrize("limit", [1, 3, 60, 600])
def test_who_is_alone_has_all_of_it_and_then_hears_when_to_come_back(limit: int, processes: int) -> None:
    policy, ring, rates = Policy("commands", limit, "commands"), Ring(), Rates()
    rates.processes = processes
    assert [pass_one(rates, ring, policy, 1, 100.0) for _ in range(limit + 5)] == [True] * limit + [False] * 5
    assert rates.left(policy, "mara", 100.0).left == 0
    assert rates.left(policy, "odd", 100.0).left == limit
    assert pass_one(rates, ring, policy, 1, 161.0)


def test_where_the_shared_count_is_away_each_process_holds_to_the_limit_alone() -> None:
    policy, rates = Policy("commands", 10, "commands"), Rates()
    rates.processes = 1
    passed = 0
    for _ in range(30):
        try:
            if not rates.passes(policy, "mara", 1, 100.0):
                rates.unheard(rates.asks(policy, "mara", 1))
        except SlowDown:
            continue
        passed += 1
    assert passed == 10


def test_what_an_answer_says() -> None:
    policy, rates = Policy("commands", 600, "commands"), Rates()
    rates.processes = 1
    assert rates.passes(policy, "mara", 1, 100.0)
    assert headers([rates.left(policy, "mara", 148.0)]) == [
        (b"ratelimit-policy", b'"commands";q=600;w=60'),
        (b"ratelimit", b'"commands";r=599;t=12'),
    ]
    assert headers([]) == []
