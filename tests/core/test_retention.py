"""Durations and rules, with the time handed in."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nestrel.core.durations import Duration
from nestrel.core.retention import Excess, Rule, size_of

NOON = datetime(2026, 3, 31, 12, tzinfo=UTC)


@pytest.mark.parametrize(
    ("text", "before"),
    [
        ("P30D", datetime(2026, 3, 1, 12, tzinfo=UTC)),
        ("P1M", datetime(2026, 2, 28, 23, 59, 59, 999_999, tzinfo=UTC)),
        ("P1Y1MT12H", datetime(2025, 2, 28, 11, 59, 59, 999_999, tzinfo=UTC)),
        ("P2W", datetime(2026, 3, 17, 12, tzinfo=UTC)),
        ("P1DT12H", datetime(2026, 3, 30, tzinfo=UTC)),
        ("PT1.5S", NOON - timedelta(seconds=1.5)),
        ("P1000Y", datetime(1026, 3, 31, 12, tzinfo=UTC)),
    ],
)
def test_a_duration_reaches_back_on_the_calendar(text: str, before: datetime) -> None:
    assert Duration.parse(text).before(NOON) == before


@pytest.mark.parametrize(
    "text", ["", "P", "PT", "30D", "P30", "P1S", "PT1D", "-P1D", "P-1D", "P0D", "PT0S", "P1H", "P1001Y", "P1D ", "p1d"]
)
def test_what_is_no_duration_is_refused_with_the_right_form(text: str) -> None:
    with pytest.raises(ValueError, match=r"ISO 8601|longer"):
        Duration.parse(text)


def test_a_duration_longer_than_all_time_reaches_the_beginning() -> None:
    assert Duration.parse("P1000Y").before(datetime(900, 1, 1, tzinfo=UTC)).year == 1
    assert Duration.parse("P365000D").before(datetime(900, 1, 1, tzinfo=UTC)).year == 1


@given(st.datetimes(datetime(1900, 1, 1), datetime(2100, 1, 1)), st.integers(0, 200), st.integers(0, 100_000))
def test_a_later_moment_never_keeps_what_an_earlier_one_expired(moment: datetime, months: int, minutes: int) -> None:
    duration = Duration.parse(f"P{months}MT{minutes + 1}M")
    now = moment.replace(tzinfo=UTC)
    assert duration.before(now) <= duration.before(now + timedelta(hours=7)) < now + timedelta(hours=7)


def test_a_rule_says_what_is_over_it_and_a_hold_says_nothing() -> None:
    rule = Rule(keep_last=10, keep_bytes=100, keep_for=Duration.parse("P1D"))
    assert rule.excess(12, 90) == Excess(2, 0)
    assert rule.excess(3, 130) == Excess(0, 30)
    assert not rule.excess(10, 100)
    assert rule.cutoff(NOON) == NOON - timedelta(days=1)
    held = Rule(keep_last=10, keep_bytes=100, keep_for=Duration.parse("P1D"), hold=True)
    assert (bool(held.excess(99, 999)), held.cutoff(NOON), held.admits(999)) == (False, None, True)
    assert (rule.admits(100), rule.admits(101)) == (True, False)


def test_a_message_is_as_large_as_its_text_in_utf8() -> None:
    assert size_of("tide", None) == 4
    assert size_of("Fähre ⚓", '{"berth":"ö"}') == 10 + 14
