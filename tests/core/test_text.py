"""What text may be, and times in and out."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nestrel.core import text
from nestrel.core.ids import uuid7
from nestrel.core.problems import TooLarge
from nestrel.core.times import format_time, parse_time


def test_a_body_is_kept_exactly_and_measured_in_code_points() -> None:
    for body in ("a", " spaced \n", "👩‍🚀" * 2_000, "שלום", "a" * 8_000):
        assert text.check_body(body) is body
    for bad in ("", " \n\t", "nul\x00", "lone \ud800 surrogate"):
        with pytest.raises(ValueError, match="must not"):
            text.check_body(bad)
    with pytest.raises(TooLarge):
        text.check_body("𝒩" * 8_001)


def test_names_are_one_without_case_or_compatibility_form() -> None:
    assert text.name_key("Norwick-Straße") == text.name_key("NORWICK-STRASSE")
    assert text.name_key("Ｔides") == text.name_key("tides")
    for bad in (" tides", "ti\x07des", "", "x" * 81):
        with pytest.raises(ValueError, match=r"must|has"):
            text.check_name(bad)


def test_attributes_are_bounded_in_size_and_depth() -> None:
    deep: dict[str, object] = {}
    for _ in range(40):
        deep = {"a": deep}
    with pytest.raises(ValueError, match="deep"):
        text.check_attributes(deep)
    with pytest.raises(TooLarge):
        text.check_attributes({"a": "x" * 4_096})
    with pytest.raises(ValueError, match="NUL"):
        text.check_attributes({"a": ["\x00"]})
    assert text.pack_attributes({}) is None
    assert text.pack_attributes({"b": 1, "a": [None]}) == '{"b":1,"a":[null]}'


@given(st.datetimes(timezones=st.just(UTC)))
def test_a_time_survives_its_text_form(moment: datetime) -> None:
    written = format_time(moment)
    assert len(written) == 27
    assert parse_time(written) == moment


def test_times_with_offsets_are_read_and_others_explained() -> None:
    for early in ("0059-08-31T22:58:53.000000Z", "0001-01-01T00:00:00.000000Z"):
        assert format_time(parse_time(early)) == early
    assert parse_time("2026-11-25T12:00:00+02:00") == datetime(2026, 11, 25, 10, tzinfo=UTC)
    for bad in ("2026-11-25", "2026-11-25T12:00:00 02:00", "2026-13-01T00:00:00Z", "now"):
        with pytest.raises(ValueError, match=r"RFC 3339|exists"):
            parse_time(bad)


def test_an_id_is_a_uuid_of_version_7_that_sorts_by_time() -> None:
    first, second = uuid7(1_000, b"\xff" * 10), uuid7(1_001, b"\x00" * 10)
    assert first.version == 7
    assert first.variant == "specified in RFC 4122"
    assert first < second
