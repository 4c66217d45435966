"""A CSV that was written is read as it was, whatever stands in its cells."""

from __future__ import annotations

import csv
import io
from typing import Any

import orjson
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nestrel.core import spreadsheets

_TEXT = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\x00"), max_size=20)
_BODY = st.one_of(_TEXT, st.sampled_from(["=1+1", "'=1", "''+1", "'plain", "-", "a\r\nb", 'say "hi", twice']))
_MESSAGE = st.fixed_dictionaries(
    {
        "conversation_id": st.just("c"), "seq": st.integers(1, 10**9), "author_id": _TEXT.filter(bool),
        "created_at": st.just("2026-12-01T00:00:00Z"), "format": st.sampled_from(["plain", "markdown"]), "body": _BODY,
        "attributes": st.dictionaries(_TEXT, st.one_of(st.integers(-5, 5), _TEXT), max_size=2),
        "reply_to": st.none() | st.integers(1, 9), "edited_at": st.none(), "edits": st.integers(0, 3),
        "removed_at": st.none(), "removed_by": st.none(), "reactions": st.just([]),
        "mentions": st.lists(_TEXT.filter(bool), max_size=2), "attachments": st.just([]),
    }
)  # fmt: skip


@given(st.lists(_MESSAGE, max_size=4))
def test_what_was_written_is_read_again(messages: list[dict[str, Any]]) -> None:
    out = io.StringIO(newline="")
    csv.writer(out).writerows([spreadsheets.COLUMNS, *map(spreadsheets.cells, messages)])
    read = [orjson.loads(line) for line in spreadsheets.read(io.StringIO(out.getvalue(), newline=""))]
    expected = [{name: value for name, value in one.items() if value not in (None, "", [], {})} for one in messages]
    assert read == expected


def test_columns_of_ones_own_and_what_is_no_csv_of_messages() -> None:
    [line] = spreadsheets.read(["odd,High tide,x\r\n"], ["author_id", "body", "shift"])
    assert orjson.loads(line) == {"author_id": "odd", "body": "High tide", "shift": "x"}
    for lines, words in (
        (["name,text\r\n"], "no column author_id and none called body"), ([], "none"),
        (["author_id,body\r\n", 'odd,"open\r\n'], "is no CSV"),
    ):  # fmt: skip
        with pytest.raises(ValueError, match=words):
            list(spreadsheets.read(lines))
