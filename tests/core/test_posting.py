"""The write path's decisions, against a plain list."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from itertools import chain
from uuid import UUID

from hypothesis import given
from hypothesis import strategies as st

from nestrel.core.commands import Post
from nestrel.core.locked import Locked
from nestrel.core.planning import Facts, plan
from nestrel.core.posting import Accepted, PostFacts, Repeated
from nestrel.core.problems import Expired, Forbidden, InvalidRequest, KeyReused, NotFound, Problem
from nestrel.core.roles import Kind, Role, Visibility

HERE, NOW = UUID(int=1), datetime(2026, 5, 1, tzinfo=UTC)
POSTS = st.tuples(
    st.sampled_from("ab"), st.sampled_from(["", "k1", "k2", "k3"]), st.sampled_from("xy"), st.sampled_from([0, 1, 5])
)


def place(**fields: object) -> Locked:
    values: dict[str, object] = {"kind": Kind.GROUP, "visibility": Visibility.CLOSED, "head": 2, "floor": 1, "rev": 9,
                                 "last_at": NOW, "closed": False}  # fmt: skip
    return Locked(HERE, **{**values, **fields})  # type: ignore[arg-type]  # the values are right


def post(author: str = "mara", body: str = "x", **fields: object) -> Post:
    return Post(HERE, author, body, **fields)  # type: ignore[arg-type]  # the values are right


@given(st.lists(st.lists(POSTS, min_size=1, max_size=4), max_size=12))
def test_numbers_run_without_a_gap_and_a_key_posts_once(batch: list[list[tuple[str, str, str, int]]]) -> None:
    """Units of one to four posts; a reply to 5 exists only once five messages stand. Refused units use no number."""
    here = place()
    units = [
        [post(author, body, key=key or None, reply_to=reply or None) for author, key, body, reply in unit]
        for unit in batch
    ]
    facts = [[PostFacts(Role.WRITER) for _ in unit] for unit in units]
    decided = plan(units, Facts(chain.from_iterable(facts)), {HERE.int: here}, NOW)

    head = 2
    keys: dict[tuple[str, str], tuple[int, tuple[str, int | None]]] = {}
    for unit, outcome in zip(units, decided.units, strict=True):
        tentative, number, refused = dict(keys), head, False
        expected: list[tuple[str, int]] = []
        for one in unit:
            seen = tentative.get((one.author_id, one.key)) if one.key else None
            if seen:
                refused |= seen[1] != (one.body, one.reply_to)
                expected.append(("repeat", seen[0]))
                continue
            refused |= one.reply_to == 5 and number < 5
            number += 1
            expected.append(("new", number))
            if one.key:
                tentative[one.author_id, one.key] = (number, (one.body, one.reply_to))
        if refused:
            assert isinstance(outcome, Problem)
            continue
        assert not isinstance(outcome, Problem)
        assert [
            ("new" if isinstance(one, Accepted) else "repeat", one.seq)
            for one in outcome
            if isinstance(one, (Accepted, Repeated))
        ] == expected
        keys, head = tentative, number
    assert (here.head, here.rev) == (head, 9 + head - 2)
    assert [one.seq for one in decided.accepted] == list(range(3, head + 1))
    for author in "ab":
        own = [one.author_n for one in decided.accepted if one.post.author_id == author]
        assert own == list(range(1, len(own) + 1))


def test_time_never_goes_back_with_the_numbers() -> None:
    here = place(last_at=NOW + timedelta(hours=1))
    decided = plan(
        [[post()], [post()]], Facts(iter([PostFacts(Role.OWNER), PostFacts(Role.OWNER)])), {HERE.int: here}, NOW
    )
    assert [one.created_at for one in decided.accepted] == [NOW + timedelta(hours=1)] * 2


def test_a_repeat_is_answered_and_a_reused_key_refused() -> None:
    first = post(key="k")
    known = PostFacts(Role.WRITER, repeat_seq=1, repeat_fingerprint=first.fingerprint)
    decided = plan([[first], [post(body="other", key="k")]], Facts(iter([known, known])), {HERE.int: place()}, NOW)
    gone = plan([[first, post()]], Facts(iter([known, PostFacts(Role.WRITER)])), {HERE.int: place(floor=2)}, NOW)
    assert isinstance(gone.units[0], Expired)  # below the floor: answered so, and nothing of the list is posted
    assert gone.accepted == []
    assert decided.units[0] == [Repeated(HERE, 1)]
    assert isinstance(decided.units[1], KeyReused)
    assert decided.accepted == []


def test_the_role_decides_and_what_is_not_seen_does_not_exist() -> None:
    cases: list[tuple[Locked | None, Role | None, type]] = [
        (place(), Role.WRITER, list),
        (place(), Role.READER, Forbidden),
        (place(), None, NotFound),
        (place(visibility=Visibility.OPEN), None, Forbidden),
        (place(kind=Kind.BULLETIN), Role.WRITER, Forbidden),
        (place(kind=Kind.BULLETIN), Role.MODERATOR, list),
        (place(closed=True), Role.OWNER, NotFound),
        (None, Role.OWNER, NotFound),
    ]
    for here, role, expected in cases:
        decided = plan([[post()]], Facts(iter([PostFacts(role)])), {HERE.int: here} if here else {}, NOW)
        assert isinstance(decided.units[0], expected), (here, role)


def test_a_refused_list_says_which_of_it_was_wrong() -> None:
    unit = [post(), post(reply_to=77)]
    decided = plan(
        [unit],
        Facts(iter([PostFacts(Role.WRITER), PostFacts(Role.WRITER)])),
        {HERE.int: place()},
        NOW,
    )
    problem = decided.units[0]
    assert isinstance(problem, InvalidRequest)
    assert problem.errors[0]["pointer"] == "/messages/1/reply_to"
