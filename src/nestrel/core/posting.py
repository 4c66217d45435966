"""The write path's decisions on posts: which of a batch are taken, repeated or refused, and under which numbers."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from math import ceil
from typing import NamedTuple
from uuid import UUID

from nestrel.core.attachments import NONE_BORNE, Borne, check_found
from nestrel.core.commands import Post
from nestrel.core.locked import Locked
from nestrel.core.problems import (
    Expired,
    Forbidden,
    InvalidRequest,
    KeyReused,
    NotFound,
    Problem,
    SlowDown,
    TooLarge,
    fault,
    invalid,
)
from nestrel.core.retention import size_of
from nestrel.core.rights import Action, may_post
from nestrel.core.roles import Kind, Role


class PostFacts(NamedTuple):
    """What the store knows about one post: the author's role if a member, an earlier message of the same key, how
    many messages of the author's are counted, who of those whom it names is no member, what of the attachments that it
    wants there is for it, and when the author's last message was posted."""

    role: Role | None
    repeat_seq: int | None = None
    repeat_fingerprint: bytes | None = None
    author_count: int = 0
    posted_at: datetime | None = None
    strangers: Sequence[str] = ()
    attachments: Borne = NONE_BORNE


class Accepted(NamedTuple):
    """A message to write. `author_n` is its ordinal among its author's messages, which makes unread arithmetic."""

    place: Locked
    post: Post
    seq: int
    rev: int
    created_at: datetime
    author_n: int
    reply_to: int | None
    attachments: Borne = NONE_BORNE


class Repeated(NamedTuple):
    """The key was seen before: the message under `seq` is the answer, its number alone where that was `imported`, and
    without what others did with it where its author is `outside` by now."""

    conversation_id: UUID
    seq: int
    imported: bool = False
    outside: bool = False


class Refused(NamedTuple):
    """A post that was refused by itself, in a unit of which the others are taken."""

    problem: Problem


def decide_posts(
    place: Locked, posts: Sequence[Post], facts: Sequence[PostFacts], now: datetime
) -> Sequence[Accepted | Repeated | Refused] | Problem:
    """Decide a unit of posts for one conversation, which is taken whole or not at all, unless it is imported.

    `seq` and `rev` are handed out in order without a gap; a refused unit uses none. `created_at` is `now`, or the
    conversation's last time where the clock stands behind it, so that it never decreases with `seq`.

    Raises:
        InvalidRequest: the unit goes behind a message that is not there any more.
    """
    if place.head < posts[0].behind:
        raise invalid("/behind", f"this conversation ends at {place.head}: it was set back after {posts[0].behind} was "
                      "given out; bring the lines in from the first one on again")  # fmt: skip
    last_at = place.last_at
    taken: list[Accepted | Repeated | Refused] = []
    for index, (post, fact) in enumerate(zip(posts, facts, strict=True)):
        try:
            taken.append(_decide(place, post, fact, now, taken))
        except Problem as problem:
            if post.imported:
                taken.append(Refused(problem))
                continue
            for accepted in reversed([one for one in taken if isinstance(one, Accepted)]):
                _take_back(place, accepted)
            place.last_at = last_at
            return _placed(problem, index) if len(posts) > 1 else problem
    return taken


def _decide(
    place: Locked, post: Post, fact: PostFacts, now: datetime, before: Sequence[Accepted | Repeated | Refused]
) -> Accepted | Repeated:
    """Take one post, or raise the `Problem` that refuses it. A repeat is answered before anything else is asked: what
    has landed stays landed, whatever the author may do since. `before` are the decisions on the posts in front of it
    in its unit."""
    repeated = _repeated(place, post, fact)
    if repeated is not None:
        return repeated
    if not may_post(place.kind, fact.role, service=post.service):
        raise _why_not(place, fact.role, post)
    if place.blocked and not post.imported:
        place.check_unblocked(fact.role, service=post.service)
    if place.post_interval is not None and fact.role is Role.WRITER and not post.service:
        _check_interval(place, post, fact, now)
    reply_to = post.reply_to or post.answered
    if post.answers is not None:
        answered = before[post.answers]
        if isinstance(answered, Refused):
            raise invalid("/reply_line", "the line that it replies to was refused")
        reply_to = answered.seq
    if reply_to is not None and not place.floor <= reply_to <= place.head:  # those run without a gap
        detail = f"there is no message {reply_to} here to reply to"
        raise InvalidRequest(detail, errors=[fault("/reply_to", detail)])
    check_mentions(fact.strangers)
    check_found(post.attachments, fact.attachments)
    if post.imported:
        _check_time(place, post, now)
    size = size_of(post.body, post.attributes, fact.attachments.size)
    if not place.rule.admits(size):
        raise TooLarge(f"this conversation keeps {place.rule.keep_bytes:,} bytes; this message alone has {size:,}")
    return _number(place, post, fact, now, size, reply_to)


def _repeated(place: Locked, post: Post, fact: PostFacts) -> Repeated | None:
    """The answer to a key that was used before; None for a new one.

    Raises:
        Expired, KeyReused: the key stands for what is no longer kept, or for other content.
    """
    if post.key_hash is None:
        return None
    seen = place.keys.get(post.key_hash)
    if fact.repeat_seq is not None:
        seen = (fact.repeat_seq, fact.repeat_fingerprint)
    if seen is None:
        return None
    if seen[0] < place.floor:  # whose content may be gone already: nobody can say whether it was the same
        raise Expired(f"the key was used for message {seen[0]}, which was posted and is no longer kept")
    # A removed message keeps no trace of its content, so whatever repeats its key gets the tombstone.
    if seen[1] is not None and seen[1] != post.fingerprint:
        raise KeyReused(f"the key was used for message {seen[0]} with other content; use a new key")
    outside = not place.standing(post.author_id, fact.role, service=post.service).may(Action.SEE)
    return Repeated(place.id, seen[0], post.imported, outside)


def _check_interval(place: Locked, post: Post, fact: PostFacts, now: datetime) -> None:
    """Whether a writer's last message is long enough ago. Of a unit that posts more than one, none is: the second is
    at the same instant as the first. Raises `SlowDown`."""
    assert place.post_interval is not None
    again = place.counts.get(post.author_id, fact.author_count) > fact.author_count
    last = now if again else fact.posted_at
    if last is None:
        return
    left = place.post_interval - (now - last).total_seconds()
    if left > 0:
        raise SlowDown(
            f"writers post once in {place.post_interval:,} seconds here; wait {ceil(left):,} s",
            retry_after=ceil(left),
        )


def check_mentions(strangers: Sequence[str]) -> None:
    """Refuse to name who is no member.

    Raises:
        InvalidRequest: there are such.
    """
    if strangers:
        raise invalid("/mentions", f"only members are named here; not a member: {', '.join(strangers)}")


def _check_time(place: Locked, post: Post, now: datetime) -> None:
    """What was written elsewhere keeps its time, which never decreases with `seq`."""
    if post.created_at is None:
        return
    if post.created_at > now:
        raise invalid("/created_at", "lies in the future")
    if place.head > 0 and post.created_at < place.last_at:
        raise invalid("/created_at", f"is before that of message {place.head}; bring messages in the order of time")


def _number(place: Locked, post: Post, fact: PostFacts, now: datetime, size: int, reply_to: int | None) -> Accepted:
    if post.imported and place.head == 0 and post.created_at is not None:
        place.last_at = post.created_at  # an empty conversation stands at the time at which it was made
    place.head += 1
    if post.removed_at is None:
        place.messages += 1
    place.size += size
    rev = place.next_rev()
    at = post.created_at or now
    if at > place.last_at:
        place.last_at = at
    count = place.counts.get(post.author_id, fact.author_count) + 1
    place.counts[post.author_id] = count
    if post.key_hash is not None:
        place.keys[post.key_hash] = (place.head, post.fingerprint)
    return Accepted(place, post, place.head, rev, place.last_at, count, reply_to, fact.attachments)


def _take_back(place: Locked, accepted: Accepted) -> None:
    """Undo the newest acceptance, for a unit that is refused whole."""
    post = accepted.post
    place.head -= 1
    place.rev -= 1
    if post.removed_at is None:
        place.messages -= 1
    place.size -= size_of(post.body, post.attributes, accepted.attachments.size)
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
        retry_after=problem.retry_after,
        extra=problem.extra,
    )


def _why_not(place: Locked, role: Role | None, post: Post) -> Problem:
    try:
        place.check(Action.SEE, post.author_id, role, service=post.service)
    except NotFound as problem:
        return problem
    if role is None:
        return Forbidden("only members post here; join the conversation first")
    if place.kind is Kind.BULLETIN:
        return Forbidden(f"owners and moderators post in a bulletin; your role is {role}")
    return Forbidden(f"your role is {role}, which reads only")
