"""What an invitation's token is."""

from __future__ import annotations

from nestrel.core.invitations import hash_of, new_token


def test_a_token_is_taken_and_looks_like_no_option_of_a_command() -> None:
    made = [new_token() for _ in range(3_000)]
    assert len({hash_of(token) for token in made}) == len(made)
    assert not any(token.startswith("-") for token in made)
