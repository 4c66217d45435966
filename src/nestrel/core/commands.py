"""What a caller can ask the write path to do. Their text has been checked. HTTP routes and socket frames both make
these."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID


def digest(text: str) -> bytes:
    """128 bits of BLAKE2b (RFC 7693): two different texts never meet."""
    return hashlib.blake2b(text.encode(), digest_size=16).digest()


@dataclass(frozen=True, slots=True)
class Earlier:
    """A body that was replaced before its message was imported, with when it was written, replaced, and by whom."""

    body: str
    format: str
    created_at: datetime
    edited_at: datetime
    editor_id: str


@dataclass(frozen=True, slots=True)
class Brought:
    """What hung on a message where it was written: its earlier bodies, oldest first, and who reacted with what and
    when."""

    edited_at: datetime | None = None
    earlier: tuple[Earlier, ...] = ()
    reacted: tuple[tuple[str, str, datetime], ...] = ()

    def marks(self) -> dict[str, list[str]]:
        """The users of each symbol, in order."""
        marks: dict[str, list[str]] = {}
        for symbol, user_id, _ in self.reacted:
            marks.setdefault(symbol, []).append(user_id)
        return {symbol: sorted(marks[symbol]) for symbol in sorted(marks)}


@dataclass(slots=True, eq=False)  # each is itself: two that say the same are two
class Post:
    """One message that someone wants to post.

    `attributes` is compact JSON or None. `key` is the idempotency key. `created_at` is given by trusted doors only,
    which bring messages that were written elsewhere before. `imported` posts go in units in which each is taken or
    refused by itself, keep the order of time, and are answered with their number alone. One that replies to another
    says to which place of its unit (`answers`), or to the number that another has been given already (`answered`);
    neither is part of the content that its key stands for. A message may come with what hung on it (`brought`), or as
    its tombstone, which has no content. A unit of them is written only where the conversation still reaches the message
    that it goes `behind`. Where a backend speaks for the author, it is the `actor`, and
    `request_id` is what asked for it. A command says what is wanted and never what was decided: a batch that is
    rolled back leaves no trace in it.
    """

    conversation_id: UUID
    author_id: str
    body: str
    format: str = "plain"
    attributes: str | None = None
    reply_to: int | None = None
    key: str | None = None
    service: bool = False
    mentions: tuple[str, ...] = ()
    attachments: tuple[UUID, ...] = ()
    created_at: datetime | None = None
    imported: bool = False
    answers: int | None = None
    answered: int | None = None
    brought: Brought | None = None
    removed_at: datetime | None = None
    removed_by: str | None = None
    behind: int = 0
    actor: str | None = None
    request_id: str = ""
    key_hash: bytes | None = None
    fingerprint: bytes | None = None

    def __post_init__(self) -> None:
        if self.key is not None:
            content = f"{self.format}\x00{self.attributes}\x00{self.reply_to}\x00{self.body}"
            if self.mentions:  # neither ids nor bodies have a NUL in them, so no two contents meet
                content = "\x00".join((*self.mentions, "", content))
            if self.attachments:  # and no other content begins with two
                content = "\x00".join(("", "", *map(str, self.attachments), "", content))
            self.key_hash = digest(f"{self.author_id}\x00{self.key}")
            self.fingerprint = digest(content)

    def people(self) -> set[str]:
        """All whom it names."""
        named = {self.author_id, *self.mentions}
        if self.removed_by is not None:
            named.add(self.removed_by)
        if self.brought is not None:
            named |= {one.editor_id for one in self.brought.earlier} | {who for _, who, _ in self.brought.reacted}
        return named


@dataclass(slots=True, eq=False)  # each is itself: two that say the same are two
class Edit:
    """A new body for a message of one's own; `format`, `mentions` and `attachments` None keep the present ones. With
    `revs` the edit is refused when the message stands at none of them."""

    conversation_id: UUID
    user_id: str
    seq: int
    body: str
    format: str | None = None
    revs: frozenset[int] | None = None
    service: bool = False
    mentions: tuple[str, ...] | None = None
    attachments: tuple[UUID, ...] | None = None


@dataclass(slots=True, eq=False)  # each is itself: two that say the same are two
class Remove:
    """Take a message away and leave a tombstone. Of somebody else's the audit says so, with what asked for it, where
    there is a `request_id`."""

    conversation_id: UUID
    user_id: str
    seq: int
    service: bool = False
    request_id: str | None = None


@dataclass(slots=True, eq=False)  # each is itself: two that say the same are two
class React:
    """Set one's reaction on a message (`on`), or take it back."""

    conversation_id: UUID
    user_id: str
    seq: int
    symbol: str
    on: bool
    service: bool = False


@dataclass(slots=True, eq=False)  # each is itself: two that say the same are two
class Read:
    """Move one's receipt to `read_seq`; it only grows."""

    conversation_id: UUID
    user_id: str
    read_seq: int
    service: bool = False


Change = Edit | Remove | React
Command = Post | Edit | Remove | React | Read
