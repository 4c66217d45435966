"""Cursors: opaque, authenticated tokens of at most 400 characters, bound to one member and one listing.

A token is base64url (RFC 4648, no padding) over a version, a kind, a payload and 16 bytes of keyed BLAKE2b (RFC 7693),
a third of the time of an HMAC, which every delivery pays. The code also covers what the token is bound to, so the
binding costs no length. Kinds: `c` conversation cursor,
`a` all cursor, `r` all cursor in the middle of a resync, `h` page of history, `n` page of any other list, `g` the link
to an attachment, `k` a browser's session. A page of a list may go on behind somebody whom its reader cannot see, so its
payload is enciphered as well, with the code as the nonce (a synthetic initialization vector, as in RFC 5297).
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import re
import struct
from collections.abc import Set
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from uuid import UUID

from nestrel.core import limits

_VERSION = 2
_MAC = 16
_LISTING = bytes((_VERSION,)) + b"n"
_ALL = b"all"
_LINK_CHARS = 800
_SNAPSHOT_BYTES = 232
"""Two halves of it, with an id and a position, still make a token of at most 400 characters."""
_POSITION = struct.Struct(">QQQQ")
_SNAPSHOT = struct.Struct(">QQQQ")


@dataclass(frozen=True, slots=True)
class ChangePosition:
    """Where a client stands in one conversation.

    It holds messages up to `seq` as they were at `rev`, and members as they were at `member_rev`, in the history of
    the database called `epoch` (`nestrel.core.epochs`). When nothing is outstanding, `rev` and `member_rev` are the
    conversation's `rev` and `seq` is its head.
    """

    rev: int
    seq: int
    member_rev: int
    epoch: int

    @property
    def complete(self) -> bool:
        """Whether this is a whole state of the conversation, not the middle of a catch-up: members come last, so
        their `rev` lags behind until everything has been sent."""
        return self.member_rev == self.rev


@dataclass(frozen=True, slots=True)
class AllPosition:
    """A PostgreSQL snapshot: `xmin`, `xmax` and the transactions between them that were still running; `lsn` is a
    position of the write-ahead log behind all that it sees, in the history called `epoch`."""

    epoch: int
    lsn: int
    xmin: int
    xmax: int
    running: tuple[int, ...] = ()

    @classmethod
    def from_snapshot(cls, epoch: int, lsn: int, snapshot: str) -> AllPosition:
        """Read the text form `xmin:xmax:xip,…` of `pg_current_snapshot()`."""
        xmin, xmax, running = snapshot.split(":")
        return cls(epoch, lsn, int(xmin), int(xmax), tuple(int(x) for x in running.split(",") if x))

    @classmethod
    def beginning(cls, epoch: int) -> AllPosition:
        """The snapshot that has seen nothing, before all transactions."""
        return cls(epoch, 0, 1, 1)

    def without(self, foreign: Set[int]) -> AllPosition:
        """The same, with running transactions that move nothing of this store left out."""
        if foreign.isdisjoint(self.running):
            return self
        running = tuple(one for one in self.running if one not in foreign)
        return replace(self, xmin=min(running, default=self.xmax), running=running)

    def sees(self, transaction: int) -> bool:
        """Whether a transaction had been committed by then, if it was at all."""
        return transaction < self.xmin or (transaction < self.xmax and transaction not in self.running)

    @property
    def snapshot(self) -> str:
        return f"{self.xmin}:{self.xmax}:{','.join(map(str, self.running))}"


@dataclass(frozen=True, slots=True)
class ResyncPosition:
    """The middle of a resync from `since` (None: from nothing): done with conversations up to the id `after`, whose
    state is no older than `upto`, and within that one up to `within` if it is not done yet."""

    since: AllPosition | None
    upto: AllPosition
    after: UUID
    within: ChangePosition | None = None


@dataclass(frozen=True, slots=True)
class HistoryPosition:
    """A history query and where its next page starts: strictly below `seq` if `older`, strictly above it if not."""

    older: bool
    seq: int
    descending: bool
    since: datetime | None = None
    until: datetime | None = None
    author: str | None = None


@dataclass(frozen=True, slots=True)
class Session:
    """What a browser's session cookie seals. `id` is twelve random bytes, times are in seconds since 1970, and `key`
    is the eight bytes by which the key is known that verified the token it was begun with."""

    user_id: str
    id: bytes
    issued_at: float | None
    expires_at: float
    key: bytes


@dataclass(frozen=True, slots=True)
class Link:
    """Reads an attachment as its maker may, until a time; `service`: who was a trusted backend."""

    maker: str
    conversation: UUID
    attachment: UUID
    made_at: datetime
    until: datetime
    service: bool


class CursorSeal:
    """Seals and opens cursors with one key, which every process of a service shares.

    Every `open_…` raises `ValueError`, with a detail fit for the caller, on a token that is malformed, changed, of
    another kind, or bound to another member or conversation.
    """

    def __init__(self, key: bytes) -> None:
        self._key = hashlib.blake2b(key).digest()
        self._cipher = hashlib.blake2b(self._key, digest_size=32, person=b"nestrel cipher").digest()

    def _mac(self, scope: bytes, sealed: bytes) -> bytes:
        text = len(scope).to_bytes(2, "big") + scope + sealed
        return hashlib.blake2b(text, key=self._key, digest_size=_MAC).digest()

    def _seal(self, kind: bytes, scope: bytes, payload: bytes) -> str:
        sealed = bytes((_VERSION,)) + kind + payload
        return base64.urlsafe_b64encode(sealed + self._mac(scope, sealed)).rstrip(b"=").decode()

    def _open(self, kind: bytes, scope: bytes, token: str, most: int = limits.CURSOR_CHARS) -> bytes:
        raw = _decoded(token, most)
        sealed, mac = raw[:-_MAC], raw[-_MAC:]
        if not hmac.compare_digest(self._mac(scope, sealed), mac):
            raise _wrong()
        if sealed[:2] != bytes((_VERSION,)) + kind or self._seal(kind, scope, sealed[2:]) != token:
            raise _wrong()  # of another kind, or with changed bits that base64 leaves unused
        return sealed[2:]

    def conversation(self, member: str, conversation: UUID, at: ChangePosition) -> str:
        return self._seal(b"c", _scope(member, conversation), _packed(at))

    def open_conversation(self, member: str, conversation: UUID, token: str) -> ChangePosition:
        return ChangePosition(*_POSITION.unpack(self._open(b"c", _scope(member, conversation), token)))

    def all(self, member: str, at: AllPosition | ResyncPosition) -> str:
        """The all cursor, of either kind."""
        if isinstance(at, AllPosition):
            return self._seal(b"a", _scope(member, None), _pack(at, _SNAPSHOT_BYTES))
        since = b"" if at.since is None else _pack(at.since, _SNAPSHOT_BYTES // 2)
        within = b"" if at.within is None else _packed(at.within)
        head = bytes((len(since), len(within))) + since + within + at.after.bytes
        return self._seal(b"r", _scope(member, None), head + _pack(at.upto, _SNAPSHOT_BYTES // 2))

    def open_all(self, member: str, token: str) -> AllPosition | ResyncPosition:
        """What an all cursor holds, of either kind."""
        try:
            return _unpack(self._open(b"a", _scope(member, None), token))
        except ValueError:
            payload = self._open(b"r", _scope(member, None), token)
        since, within = payload[0], payload[1]
        rest = payload[2 + since + within :]
        return ResyncPosition(
            _unpack(payload[2 : 2 + since]) if since else None,
            _unpack(rest[16:]),
            UUID(bytes=rest[:16]),
            ChangePosition(*_POSITION.unpack(payload[2 + since : 2 + since + within])) if within else None,
        )

    def history(self, member: str, conversation: UUID, at: HistoryPosition) -> str:
        flags = at.older | at.descending << 1 | (at.since is not None) << 2 | (at.until is not None) << 3
        payload = struct.pack(">BQ", flags | (at.author is not None) << 4, at.seq)
        for moment in (at.since, at.until):
            if moment is not None:
                payload += struct.pack(">q", _micros(moment))
        payload += (at.author or "").encode("utf-16-le" if _wide(at.author) else "utf-8")
        payload = bytes((payload[0] | _wide(at.author) << 5,)) + payload[1:]
        return self._seal(b"h", _scope(member, conversation), payload)

    def open_history(self, member: str, conversation: UUID, token: str) -> HistoryPosition:
        payload = self._open(b"h", _scope(member, conversation), token)
        flags, seq = struct.unpack_from(">BQ", payload)
        rest, times = payload[9:], []
        for bit in (2, 3):
            moment = None
            if flags >> bit & 1:
                moment, rest = _moment(struct.unpack_from(">q", rest)[0]), rest[8:]
            times.append(moment)
        author = rest.decode("utf-16-le" if flags >> 5 & 1 else "utf-8") if flags >> 4 & 1 else None
        return HistoryPosition(bool(flags & 1), seq, bool(flags >> 1 & 1), times[0], times[1], author)

    def link(self, link: Link) -> str:
        """What stands for reading an attachment as its maker may, without a token."""
        head = struct.pack(">qq?", _micros(link.made_at), _micros(link.until), link.service)
        of = link.conversation.bytes + link.attachment.bytes
        return self._seal(b"g", b"", head + of + link.maker.encode("utf-8"))

    def open_link(self, token: str) -> Link:
        payload = self._open(b"g", b"", token, _LINK_CHARS)
        made_at, until, service = struct.unpack_from(">qq?", payload)
        conversation, attachment = UUID(bytes=payload[17:33]), UUID(bytes=payload[33:49])
        return Link(payload[49:].decode("utf-8"), conversation, attachment, _moment(made_at), _moment(until), service)

    def session(self, session: Session) -> str:
        """What stands for a member in a browser."""
        times = struct.pack(">dd", -1.0 if session.issued_at is None else session.issued_at, session.expires_at)
        return self._seal(b"k", b"", session.id + session.key + times + session.user_id.encode("utf-8"))

    def open_session(self, token: str) -> Session:
        payload = self._open(b"k", b"", token, _LINK_CHARS)
        issued_at, expires_at = struct.unpack_from(">dd", payload, 20)
        user_id = payload[36:].decode("utf-8")
        return Session(user_id, payload[:12], None if issued_at < 0 else issued_at, expires_at, payload[12:20])

    def listing(self, member: str, listing: str, key: str) -> str:
        """Continue the list called `listing` after the item with `key` (at most 128 UTF-16 code units of text)."""
        payload = key.encode("utf-16-le" if _wide(key) else "utf-8") + bytes((_wide(key),))
        scope = _scope(member, listing)
        mac = self._mac(scope, _LISTING + payload)
        return base64.urlsafe_b64encode(_LISTING + self._ciphered(payload, mac) + mac).rstrip(b"=").decode()

    def open_listing(self, member: str, listing: str, token: str) -> str:
        raw = _decoded(token, limits.CURSOR_CHARS)
        sealed, mac = raw[:-_MAC], raw[-_MAC:]
        payload = self._ciphered(sealed[len(_LISTING) :], mac)
        expected = self._mac(_scope(member, listing), _LISTING + payload)
        good = sealed.startswith(_LISTING) and hmac.compare_digest(expected, mac)
        if not good or base64.urlsafe_b64encode(raw).rstrip(b"=").decode() != token:
            raise _wrong()
        return payload[:-1].decode("utf-16-le" if payload[-1] else "utf-8")

    def _ciphered(self, payload: bytes, nonce: bytes) -> bytes:
        """A payload enciphered, or deciphered."""
        stream = hashlib.shake_256(self._cipher + nonce).digest(len(payload))
        return bytes(a ^ b for a, b in zip(payload, stream, strict=True))


def _wrong() -> ValueError:
    return ValueError("is not a cursor that this service gave you for this place; start without one")


def _decoded(token: str, most: int) -> bytes:
    """The bytes of a token. Raises `ValueError` for what is none."""
    if len(token) > most or not re.fullmatch(r"[A-Za-z0-9_-]+", token):
        raise _wrong()
    try:
        return base64.urlsafe_b64decode(token + "=" * (-len(token) % 4))
    except binascii.Error:
        raise _wrong() from None


def _packed(at: ChangePosition) -> bytes:
    return _POSITION.pack(at.rev, at.seq, at.member_rev, at.epoch)


def _pack(at: AllPosition, most: int) -> bytes:
    """A snapshot in at most so many bytes: one with too many running transactions becomes the older one at its
    `xmin`, which repeats a little and leaves out nothing."""
    if at.xmax - at.xmin >= 2**32 or _SNAPSHOT.size + 4 * len(at.running) > most:
        return _SNAPSHOT.pack(at.epoch, at.lsn, at.xmin, at.xmin)
    head = _SNAPSHOT.pack(at.epoch, at.lsn, at.xmin, at.xmax)
    return head + b"".join(struct.pack(">I", x - at.xmin) for x in at.running)


def _unpack(payload: bytes) -> AllPosition:
    epoch, lsn, xmin, xmax = _SNAPSHOT.unpack_from(payload)
    running = struct.unpack(f">{(len(payload) - _SNAPSHOT.size) // 4}I", payload[_SNAPSHOT.size :])
    return AllPosition(epoch, lsn, xmin, xmax, tuple(xmin + x for x in running))


def _scope(member: str, of: UUID | str | None) -> bytes:
    where = _ALL if of is None else of.bytes if isinstance(of, UUID) else of.encode()
    return member.encode() + b"\x00" + where


def _wide(text: str | None) -> bool:
    """Whether UTF-16 is the shorter form: it bounds a user id of any script at 256 bytes."""
    return text is not None and len(text.encode()) > len(text.encode("utf-16-le"))


_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def _micros(moment: datetime) -> int:
    delta = moment - _EPOCH
    return (delta.days * 86_400 + delta.seconds) * 1_000_000 + delta.microseconds


def _moment(micros: int) -> datetime:
    return _EPOCH + timedelta(microseconds=micros)
