"""What a notice holds, and what is said of what people look at."""

from __future__ import annotations

from datetime import UTC, datetime
from uuid import UUID

import orjson
from hypothesis import given
from hypothesis import strategies as st

from nestrel.core.notices import BODY_CHARS, BYTES, Content, Notice, again_after, topic
from nestrel.live.looking import Lookings
from nestrel.store.events import Looking, pack_said, unpack
from nestrel.store.words import Words

HERE, THERE = UUID(int=1), UUID(int=2)
TEXT = st.text(st.characters(exclude_categories=["Cs"]), max_size=200)


def notice(body: str, title: str = "Berth 4", author: str = "Mara") -> Notice:
    return Notice("odd", HERE, 7, datetime.now(UTC), title, author, body, 3)


@given(body=st.text(st.characters(exclude_categories=["Cs"]), min_size=1, max_size=900), title=TEXT, author=TEXT)
def test_a_notice_is_never_too_large_and_no_more_is_cut_than_must_be(body: str, title: str, author: str) -> None:
    wire = notice(body, title, author).wire(Content.FULL, "https://chat.example")
    assert len(orjson.dumps(wire)) <= BYTES
    shown = str(wire["body"])
    assert len(shown) <= BODY_CHARS
    if shown != body:
        assert shown.endswith("…")
        assert body.startswith(shown[:-1])
        more = {**wire, "body": body[: len(shown)] + "…"}
        assert len(shown) == BODY_CHARS or len(orjson.dumps(more)) > BYTES


def test_less_is_said_where_less_is_wanted() -> None:
    one = notice("the words")
    assert "body" not in one.wire(Content.TITLE, "")
    assert one.wire(Content.TITLE, "")["author"] == "Mara"
    said = orjson.dumps(one.wire(Content.NONE, ""))
    assert not any(word in said for word in (b"words", b"Mara", b"Berth"))


def test_a_topic_is_one_conversation_s_and_one_device_s() -> None:
    assert len({topic(one, place) for one in (HERE, THERE) for place in (HERE, THERE)}) == 4
    assert topic(HERE, THERE) == topic(HERE, THERE)
    assert len(topic(HERE, THERE)) <= 32


def test_pauses_grow_and_come_to_an_end() -> None:
    assert [again_after(n, 0.0) for n in (1, 2, 3, 11, 12)] == [1.0, 2.0, 4.0, 600.0, None]
    assert again_after(1, 30.0) == 30.0


class Bus:
    """Notes what is told."""

    def __init__(self) -> None:
        self.said: list[Looking] = []

    def tell(self, said: Looking, _instead_of: object = None) -> None:
        self.said.append(said)


def test_what_is_looked_at_lasts_a_minute_and_ends_with_its_connection() -> None:
    now, bus = 100.0, Bus()
    lookings = Lookings(bus, lambda: now)  # type: ignore[arg-type]  # it tells
    lookings.look("odd", "one", HERE)
    lookings.look("odd", "two", THERE)
    lookings.look("odd", "two", HERE)
    assert lookings.at("odd", HERE)
    assert not lookings.at("odd", THERE)
    assert not lookings.at("mara", HERE)
    lookings.look("odd", "one", None)
    assert lookings.at("odd", HERE)
    now += 59
    assert lookings.at("odd", HERE)
    now += 2
    assert not lookings.at("odd", HERE)
    lookings.look("odd", "three", None)
    assert [one.connection for one in bus.said] == ["one", "two", "two", "one"]


def test_what_others_said_is_forgotten_when_the_bus_was_away() -> None:
    lookings = Lookings(Bus())  # type: ignore[arg-type]  # it tells
    lookings.look("odd", "mine", HERE)
    lookings.heard([Looking("odd", "theirs", THERE), Looking("mara", "hers", HERE)])
    assert lookings.at("odd", THERE)
    lookings.forget()
    assert lookings.at("odd", HERE)
    assert not lookings.at("odd", THERE)
    assert not lookings.at("mara", HERE)


def test_it_goes_over_the_bus_as_it_is() -> None:
    said = [Looking(f"somebody {n} " + "é" * 100, f"connection {n}", HERE if n % 2 else None) for n in range(200)]
    words = Words(b"a key of the test's own")
    sealed = list(pack_said(words, "one", said))
    assert max(map(len, sealed)) <= 7_900
    packed = [words.open(payload) for payload in sealed]
    assert [one for payload in packed for one in unpack(payload, "other").said] == said
    assert list(pack_said(words, "one", [])) == []
