"""Cursors come back as they were, to their member and place alone."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from uuid import UUID

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from nestrel.core.cursors import AllPosition, ChangePosition, CursorSeal, HistoryPosition

SEAL = CursorSeal(b"k" * 32)
COUNTS = st.integers(0, 2**53)
IDS = st.text(st.characters(exclude_categories=["Cs", "Cc"], max_codepoint=0xFFFF), min_size=1, max_size=128)
TIMES = st.datetimes(min_value=datetime(1, 1, 1), timezones=st.just(UTC)) | st.none()


@given(IDS, st.uuids(), COUNTS, COUNTS, COUNTS)
def test_a_conversation_cursor_opens_to_what_was_sealed(
    member: str, conversation: UUID, rev: int, seq: int, member_rev: int
) -> None:
    at = ChangePosition(rev, seq, member_rev, 11)
    token = SEAL.conversation(member, conversation, at)
    assert len(token) <= 400
    assert SEAL.open_conversation(member, conversation, token) == at


@given(IDS, st.uuids(), st.booleans(), COUNTS, st.booleans(), TIMES, TIMES, IDS | st.none())
def test_a_page_cursor_carries_the_whole_query_in_400_characters(
    member: str, conversation: UUID, older: bool, seq: int, descending: bool,
    since: datetime | None, until: datetime | None, author: str | None,
) -> None:  # fmt: skip
    at = HistoryPosition(older, seq, descending, since, until, author)
    token = SEAL.history(member, conversation, at)
    assert len(token) <= 400
    assert SEAL.open_history(member, conversation, token) == at


@given(IDS, st.integers(3, 2**60), st.lists(st.integers(0, 5_000), unique=True, max_size=400))
def test_an_all_cursor_is_small_and_never_newer_than_its_snapshot(member: str, xmin: int, gaps: list[int]) -> None:
    at = AllPosition(7, 2**40, xmin, xmin + 6_000, tuple(sorted(xmin + gap for gap in gaps)))
    token = SEAL.all(member, at)
    assert len(token) <= 400
    opened = SEAL.open_all(member, token)
    assert opened == at or opened == AllPosition(7, 2**40, xmin, xmin, ())
    assert AllPosition.from_snapshot(7, 2**40, at.snapshot) == at


@given(st.data(), IDS, st.uuids())
def test_one_changed_character_closes_it(data: st.DataObject, member: str, conversation: UUID) -> None:
    token = SEAL.conversation(member, conversation, ChangePosition(3, 2, 3, 11))
    at = data.draw(st.integers(0, len(token) - 1))
    other = data.draw(st.sampled_from("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_"))
    assume(token[at] != other)
    with pytest.raises(ValueError, match="not a cursor"):
        SEAL.open_conversation(member, conversation, token[:at] + other + token[at + 1 :])


def test_a_foreign_or_wrong_kind_cursor_is_refused() -> None:
    here, there = UUID(int=1), UUID(int=2)
    token = SEAL.conversation("mara", here, ChangePosition(3, 2, 3, 11))
    foreign: list[Callable[[], object]] = [
        lambda: SEAL.open_conversation("odd", here, token),
        lambda: SEAL.open_conversation("mara", there, token),
        lambda: SEAL.open_history("mara", here, token),
        lambda: SEAL.open_all("mara", token),
        lambda: CursorSeal(b"x" * 32).open_conversation("mara", here, token),
        lambda: SEAL.open_listing("mara", "members", SEAL.listing("mara", "conversations", "a")),
    ]
    for attempt in foreign:
        with pytest.raises(ValueError, match="not a cursor"):
            attempt()
