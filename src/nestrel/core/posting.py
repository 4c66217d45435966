"""The write path's decisions: which posts of a batch are taken, repeated or refused, and under which numbers.

`plan` is given what the store read under the conversations' locks and answers what the store shall write. It knows no
SQL and no clock.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from itertools import islice
from typing import NamedTuple
from uuid import UUID

from nestrel.core.problems import Expired, Forbidden, InvalidRequest, KeyReused, NotFound, Problem, fault
from nestrel.core.roles import Kind, Role, Standing, Visibility, may_post


def _digest(text: str) -> bytes:
    """128 bits of BLAKE2b (RFC 7693): two different texts never meet."""
    return hashlib.blake2b(text.encode(), digest_size=16).digest()


@dataclass(slots=True)
class Post:
    """One message that someone wants to post; its text has been checked.

    `attributes` is compact JSON or None. `key` is the idempotency key. `created_at` is given by trusted doors only,
    which bring messages that were written elsewhere before.
    """

    conversation_id: UUID
    author_id: str
    body: str
    format: str = "plain"
    attributes: str | None = None
    reply_to: int | None = None
    key: str | None = None
    service: bool = False
    created_at: datetime | None = None
    key_hash: bytes | None = None
    fingerprint: bytes | None = None

    def __post_init__(self) -> None:
        if self.key is not None:
            content = f"{self.format}\x00{self.attributes}\x00{self.reply_to}\x00{self.body}"
            self.key_hash = _digest(f"{self.author_id}\x00{self.key}")
            self.fingerprint = _digest(content)


@dataclass(slots=True, eq=False)
class Locked:
    """A conversation as it stands under its lock. `plan` moves it on, and keeps with it what the batch has added:
    how many messages each author now has, and the keys used."""

    id: UUID
    kind: Kind
    visibility: Visibility
    head: int
    floor: int
    rev: int
    last_at: datetime
    closed: bool
    counts: dict[str, int] = field(default_factory=dict)
    keys: dict[bytes, tuple[int, bytes | None]] = field(default_factory=dict)
    first_new: int = 0
    rev_before: int = 0

    def __post_init__(self) -> None:
        self.first_new = self.head + 1
        self.rev_before = self.rev


class Facts(NamedTuple):
    """What the store knows about one post: the author's role if a member, an earlier message of the same key, whether
    the message replied to is kept, and how many messages of the author's are counted."""

    role: Role | None
    repeat_seq: int | None = None
    repeat_fingerprint: bytes | None = None
    reply_kept: bool = True
    author_count: int = 0


class Accepted(NamedTuple):
    """A message to write. `author_n` is its ordinal among its author's messages, which makes unread arithmetic."""

    place: Locked
    post: Post
    seq: int
    rev: int
    created_at: datetime
    author_n: int


class Repeated(NamedTuple):
    """The key was seen before: the message under `seq` is the answer."""

    conversation_id: UUID
    seq: int


Taken = list[Accepted | Repeated]


@dataclass(slots=True)
class Plan:
    """`units` has one entry for each unit; `accepted` is all that is to be written, in order."""

    units: list[Taken | Problem] = field(default_factory=list)
    accepted: list[Accepted] = field(default_factory=list)


def plan(
    units: Sequence[Sequence[Post]],
    facts: Iterator[Facts],
    locked: dict[UUID, Locked],
    now: datetime,
) -> Plan:
    """Decide a batch. A unit is one post, or a list for one conversation that is taken whole or not at all; `facts`
    has an entry for each post of each.

    `seq` and `rev` are handed out in order without a gap; a refused unit uses none. `created_at` is `now`, or the
    conversation's last time where the clock stands behind it, so that it never decreases with `seq`.
    """
    result = Plan()
    for posts in units:
        known = list(islice(facts, len(posts)))
        place = locked.get(posts[0].conversation_id)
        unit: Taken | Problem
        if place is None or place.closed:
            unit = NotFound(f"there is no conversation {posts[0].conversation_id} that you may see")
        else:
            unit = _decide_unit(place, posts, known, now)
        result.units.append(unit)
        if not isinstance(unit, Problem):
            result.accepted.extend([one for one in unit if isinstance(one, Accepted)])
    return result


def _decide_unit(place: Locked, posts: Sequence[Post], facts: Sequence[Facts], now: datetime) -> Taken | Problem:
    last_at = place.last_at
    taken: Taken = []
    for index, (post, fact) in enumerate(zip(posts, facts, strict=True)):
        try:
            taken.append(_decide(place, post, fact, now))
        except Problem as problem:
            for accepted in reversed([one for one in taken if isinstance(one, Accepted)]):
                _take_back(place, accepted)
            place.last_at = last_at
            return _placed(problem, index) if len(posts) > 1 else problem
    return taken


def _decide(place: Locked, post: Post, fact: Facts, now: datetime) -> Accepted | Repeated:
    """Take one post, or raise the `Problem` that refuses it."""
    if not may_post(place.kind, fact.role, service=post.service):
        raise _why_not(place, fact.role, post)
    if post.key_hash is not None:
        if fact.repeat_seq is not None:
            seen: tuple[int, bytes | None] | None = (fact.repeat_seq, fact.repeat_fingerprint)
        else:
            seen = place.keys.get(post.key_hash)
        if seen is not None:
            if seen[1] != post.fingerprint:
                raise KeyReused(f"the key was used for message {seen[0]} with other content; use a new key")
            if seen[0] < place.floor:
                raise Expired(f"the key was used for message {seen[0]}, which is no longer kept; nothing was posted")
            return Repeated(place.id, seen[0])
    if post.reply_to is not None and not (fact.reply_kept or place.first_new <= post.reply_to <= place.head):
        detail = f"there is no message {post.reply_to} here to reply to"
        raise InvalidRequest(detail, errors=[fault("/reply_to", detail)])
    return _number(place, post, fact, now)


def _number(place: Locked, post: Post, fact: Facts, now: datetime) -> Accepted:
    place.head += 1
    place.rev += 1
    at = post.created_at or now
    if at > place.last_at:
        place.last_at = at
    count = place.counts.get(post.author_id, fact.author_count) + 1
    place.counts[post.author_id] = count
    if post.key_hash is not None:
        place.keys[post.key_hash] = (place.head, post.fingerprint)
    return Accepted(place, post, place.head, place.rev, place.last_at, count)


def _take_back(place: Locked, accepted: Accepted) -> None:
    """Undo the newest acceptance, for a unit that is refused whole."""
    post = accepted.post
    place.head -= 1
    place.rev -= 1
    place.counts[post.author_id] -= 1
    if post.key_hash is not None:
        del place.keys[post.key_hash]


def _placed(problem: Problem, index: int) -> Problem:
    """The problem of one post of a list, with pointers that say which."""
    pointer = f"/messages/{index}"
    errors = [fault(pointer + error["pointer"], error["detail"]) for error in problem.errors]
    return type(problem)(
        f"nothing was posted: message {index} of the list: {problem.detail}",
        errors=errors or [fault(pointer, problem.detail)],
        extra=problem.extra,
    )


def _why_not(place: Locked, role: Role | None, post: Post) -> Problem:
    if not Standing(place.kind, place.visibility, role, post.service).may_see:
        return NotFound(f"there is no conversation {place.id} that you may see")
    if role is None:
        return Forbidden("only members post here; join the conversation first")
    if place.kind is Kind.BULLETIN:
        return Forbidden(f"owners and moderators post in a bulletin; your role is {role}")
    return Forbidden(f"your role is {role}, which reads only")
