"""The write path's decisions on posts: which of a batch are taken, repeated or refused, and under which numbers."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import NamedTuple
from uuid import UUID

from nestrel.core.commands import Post
from nestrel.core.locked import Locked, no_conversation
from nestrel.core.problems import Expired, Forbidden, InvalidRequest, KeyReused, Problem, TooLarge, fault, invalid
from nestrel.core.retention import size_of
from nestrel.core.roles import Kind, Role, Standing, may_post


class PostFacts(NamedTuple):
    """What the store knows about one post: the author's role if a member, an earlier message of the same key, and how
    many messages of the author's are counted."""

    role: Role | None
    repeat_seq: int | None = None
    repeat_fingerprint: bytes | None = None
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
    """The key was seen before: the message under `seq` is the answer, its number alone where that was `imported`."""

    conversation_id: UUID
    seq: int
    imported: bool = False


class Refused(NamedTuple):
    """A post that was refused by itself, in a unit of which the others are taken."""

    problem: Problem


def decide_posts(
    place: Locked, posts: Sequence[Post], facts: Sequence[PostFacts], now: datetime
) -> Sequence[Accepted | Repeated | Refused] | Problem:
    """Decide a unit of posts for one conversation, which is taken whole or not at all, unless it is imported.

    `seq` and `rev` are handed out in order without a gap; a refused unit uses none. `created_at` is `now`, or the
    conversation's last time where the clock stands behind it, so that it never decreases with `seq`.
    """
    if posts[0].imported:
        return [_decide_alone(place, post, fact, now) for post, fact in zip(posts, facts, strict=True)]
    last_at = place.last_at
    taken: list[Accepted | Repeated] = []
    for index, (post, fact) in enumerate(zip(posts, facts, strict=True)):
        try:
            taken.append(_decide(place, post, fact, now))
        except Problem as problem:
            for accepted in reversed([one for one in taken if isinstance(one, Accepted)]):
                _take_back(place, accepted)
            place.last_at = last_at
            return _placed(problem, index) if len(posts) > 1 else problem
    return taken


def _decide_alone(place: Locked, post: Post, fact: PostFacts, now: datetime) -> Accepted | Repeated | Refused:
    try:
        return _decide(place, post, fact, now)
    except Problem as problem:
        return Refused(problem)


def _decide(place: Locked, post: Post, fact: PostFacts, now: datetime) -> Accepted | Repeated:
    """Take one post, or raise the `Problem` that refuses it."""
    if not may_post(place.kind, fact.role, service=post.service):
        raise _why_not(place, fact.role, post)
    if post.key_hash is not None:
        if fact.repeat_seq is not None:
            seen: tuple[int, bytes | None] | None = (fact.repeat_seq, fact.repeat_fingerprint)
        else:
            seen = place.keys.get(post.key_hash)
        if seen is not None:
            if seen[0] < place.floor:  # whose content may be gone already: nobody can say whether it was the same
                raise Expired(f"the key was used for message {seen[0]}, which is no longer kept; nothing was posted")
            # A removed message keeps no trace of its content, so whatever repeats its key gets the tombstone.
            if seen[1] is not None and seen[1] != post.fingerprint:
                raise KeyReused(f"the key was used for message {seen[0]} with other content; use a new key")
            post.seq = seen[0]
            return Repeated(place.id, seen[0], post.imported)
    if post.answers is not None:
        if post.answers.seq is None:
            raise invalid("/reply_line", "the line that it replies to was refused")
        post.reply_to = post.answers.seq
    if post.reply_to is not None and not place.floor <= post.reply_to <= place.head:  # those run without a gap
        detail = f"there is no message {post.reply_to} here to reply to"
        raise InvalidRequest(detail, errors=[fault("/reply_to", detail)])
    if post.imported:
        _check_time(place, post, now)
    size = size_of(post.body, post.attributes)
    if not place.rule.admits(size):
        raise TooLarge(f"this conversation keeps {place.rule.keep_bytes:,} bytes; this message alone has {size:,}")
    return _number(place, post, fact, now, size)


def _check_time(place: Locked, post: Post, now: datetime) -> None:
    """What was written elsewhere keeps its time, which never decreases with `seq`."""
    if post.created_at is None:
        return
    if post.created_at > now:
        raise invalid("/created_at", "lies in the future")
    if place.head > 0 and post.created_at < place.last_at:
        raise invalid("/created_at", f"is before that of message {place.head}; bring messages in the order of time")


def _number(place: Locked, post: Post, fact: PostFacts, now: datetime, size: int) -> Accepted:
    if post.imported and place.head == 0 and post.created_at is not None:
        place.last_at = post.created_at  # an empty conversation stands at the time at which it was made
    place.head += 1
    if post.removed_at is None:
        place.messages += 1
    place.size += size
    post.seq = place.head
    rev = place.next_rev()
    at = post.created_at or now
    if at > place.last_at:
        place.last_at = at
    count = place.counts.get(post.author_id, fact.author_count) + 1
    place.counts[post.author_id] = count
    if post.key_hash is not None:
        place.keys[post.key_hash] = (place.head, post.fingerprint)
    return Accepted(place, post, place.head, rev, place.last_at, count)


def _take_back(place: Locked, accepted: Accepted) -> None:
    """Undo the newest acceptance, for a unit that is refused whole."""
    post = accepted.post
    place.head -= 1
    place.rev -= 1
    if post.removed_at is None:
        place.messages -= 1
    place.size -= size_of(post.body, post.attributes)
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
        return no_conversation(place.id)
    if role is None:
        return Forbidden("only members post here; join the conversation first")
    if place.kind is Kind.BULLETIN:
        return Forbidden(f"owners and moderators post in a bulletin; your role is {role}")
    return Forbidden(f"your role is {role}, which reads only")
