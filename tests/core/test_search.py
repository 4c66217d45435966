"""Words of any script, and what a question finds in a text."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nestrel.core import words as module
from nestrel.core.problems import InvalidRequest
from nestrel.core.search import question
from nestrel.core.words import Token, folded, pieces, pieces_of, tokens, words


def found(q: str, body: str) -> list[str] | None:
    marks = question(q).marks(body)
    return None if marks is None else [body[start:end] for start, end in marks]


@pytest.mark.parametrize(
    ("q", "body", "marked"),
    [
        ("tide berth", "Berth 3 at low TIDE, tide.", ["Berth", "TIDE", "tide"]),
        ("tid", "tide", None),
        ("ti*", "Tide and time, not it", ["Tide", "time"]),
        ('"bow visor"', "The bow, visor open; bow and visor", ["bow, visor"]),
        ("tide -fog", "tide and fog", None),
        ("tide -fog", "tide and foggy", ["tide"]),
        ('tide -"low fog"', "tide, fog low", ["tide"]),
        ("tide -fo*", "tide and foggy", None),
        ("strasse", "Die STRAẞE und Straße", ["STRAẞE", "Straße"]),
        ("ete", "l'été, e\u0301te\u0301 ÉTÉ", ["e\u0301te\u0301", "ÉTÉ"]),
        ("οδυσσευς", "Ὀδυσσεύς ΟΔΥΣΣΕΥΣ", ["Ὀδυσσεύς", "ΟΔΥΣΣΕΥΣ"]),
        ("مرحبا", "قال مَرْحَبًا", ["مَرْحَبًا"]),
        ("हिन्दी", "यह हिन्दी है, हन्दी नहीं", ["हिन्दी"]),
        ("ไทย", "ภาษาไทยง่าย", ["ไทย"]),
        ("京", "東京タワー", ["京"]),
        ("東京", "東京と京東", ["東京"]),
        ("ワー", "東京タワー", ["ワー"]),
        ("京都", "東京 都", None),
        ("京都", "東京、都", None),
        ('"東京 都"', "東京 都", ["東京 都"]),
        ('"京都 の"', "京都の 京 都の", ["京都の"]),
        ("ギ", "ｶﾞｷﾞ がぎ", ["ｷﾞ"]),
        ("か", "が", None),
        ("abc", "ａｂｃ ABC", ["ａｂｃ", "ABC"]),
        ("👍", "yes 👍🏽 no 👎", ["👍🏽"]),
        ("❤️", "my ❤ here", ["❤"]),
        ("👩", "👩\u200d👩\u200d👧", None),
        ("oslo ostby", "Øslo Østby", None),
        ("øslo", "ØSLO", ["ØSLO"]),
        ("crew-17", "17 crew", ["17", "crew"]),
        ("don't", "Don’t DON'T", ["Don’t", "DON'T"]),
        ('"unclosed phrase', "an unclosed phrase", ["unclosed phrase"]),
    ],
)
def test_what_is_looked_for_is_found_as_people_of_each_script_write_it(
    q: str, body: str, marked: list[str] | None
) -> None:
    assert found(q, body) == marked


@pytest.mark.parametrize("q", ["", "  ", "-fog", '-"low fog"', "!?", '""', "a*", "-x a*", "京*"])
def test_a_question_names_a_word_that_must_occur(q: str) -> None:
    with pytest.raises(InvalidRequest) as refused:
        question(q)
    assert refused.value.errors[0]["pointer"] == "/q"


@given(st.text("abZ09_'.,:;-\" \n!@\u2019", max_size=12))
def test_the_short_way_for_ascii_parts_words_as_the_long_one_does(text: str) -> None:
    def long_way(plain: str) -> list[Token]:
        """The other way is taken by a text with one sign of another script at its end."""
        return [token for token in tokens(plain + " é") if token.end <= len(plain)]

    if text.isascii():
        assert list(tokens(text)) == long_way(text)
        assert words(text) == list(dict.fromkeys(token.word for token in long_way(text)))
    assert module._ASCII_WORD.pattern


@given(st.text(st.sampled_from("aZ09_'.,:- \u2019éßÅ\u0301京タが❤👍🏽ไทยहि"), max_size=20))
def test_the_index_of_a_text_has_the_pieces_of_each_of_its_words(text: str) -> None:
    for token in tokens(text):
        assert set(pieces_of(token.word)) <= pieces(text), token


@given(st.text(max_size=30))
def test_words_lie_in_order_and_stand_for_themselves(text: str) -> None:
    at = 0
    for token in tokens(text):
        assert at <= token.start < token.end <= len(text)
        at = token.end
        assert (
            token.word == folded(text[token.start : token.end]) or token.word == text[token.start : token.end].lower()
        )
    for word in words(text):
        assert all(one.word == word for one in tokens(word)) or len(list(tokens(word))) > 1 or word
