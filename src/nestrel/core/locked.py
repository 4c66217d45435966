"""The state of conversations that the write path reads under their locks, and changes while it decides a batch."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from uuid import UUID

from nestrel.core.attachments import Borne, borne_in
from nestrel.core.problems import Forbidden
from nestrel.core.retention import NO_RULE, Rule, size_of
from nestrel.core.rights import Action, Relation
from nestrel.core.roles import Kind, Role, Visibility


@dataclass(slots=True, eq=False)
class Locked:
    """A conversation as it stands under its lock. A batch moves it on, and keeps with it what it has added: how many
    messages each author now has, and the keys used.

    `epoch` is the present one of the database. `floor` is the lowest `seq` kept at this instant, `stored_floor` what
    its row says: what is between has expired by
    age since. `messages` and `size` count, from the stored floor up, what is no tombstone. Below `swept` no row is
    left. `guard` rises with each change that took no `rev`. `at` is the database's time when the lock was held.
    `blocked`: one of the two of a direct conversation has blocked the other. `post_interval` is in seconds; of a
    `crowd` not all member rows are carried. `kept_out`
    are those of the batch whom its owners keep out.
    """

    id: UUID
    kind: Kind
    visibility: Visibility
    head: int
    floor: int
    rev: int
    last_at: datetime
    closed: bool
    epoch: int = 0
    stored_floor: int = 1
    messages: int = 0
    size: int = 0
    swept: int = 1
    rule: Rule = NO_RULE
    guard: int = 0
    blocked: bool = False
    post_interval: int | None = None
    crowd: bool = False
    counts: dict[str, int] = field(default_factory=dict)
    keys: dict[bytes, tuple[int, bytes | None]] = field(default_factory=dict)
    kept_out: set[str] = field(default_factory=set)
    at: datetime | None = None
    first_new: int = 0
    rev_before: int = 0

    def __post_init__(self) -> None:
        self.first_new = self.head + 1
        self.rev_before = self.rev

    def as_left(self) -> Locked:
        """How it stands for the next batch, when all of this one is written."""
        return Locked(
            self.id, self.kind, self.visibility, self.head, self.floor, self.rev, self.last_at, self.closed, self.epoch,
            self.floor, self.messages, self.size, self.swept, self.rule, self.guard, self.blocked, self.post_interval,
            self.crowd,
        )  # fmt: skip

    def next_rev(self) -> int:
        """The `rev` of one more change."""
        self.rev += 1
        return self.rev

    def standing(self, user_id: str, role: Role | None, *, service: bool) -> Relation:
        """How somebody stands to it who has this role, None for no member."""
        return Relation(self.kind, self.visibility, role, service, user_id in self.kept_out)

    def check(self, action: Action, user_id: str, role: Role | None, *, service: bool) -> None:
        """Whether somebody of this role may.

        Raises:
            NotFound: they may not know of the conversation.
            Forbidden: they see it, and may not do this.
        """
        self.standing(user_id, role, service=service).check(action, self.id)

    def check_unblocked(self, role: Role | None, *, service: bool) -> None:
        """Whether one of the two of a direct conversation may still write to the other. A backend that speaks for
        itself may. Raises `Forbidden`, the same for both: nobody learns who has blocked whom."""
        if self.blocked and not (service and role is None):
            raise Forbidden("this conversation takes no messages")


@dataclass(frozen=True, slots=True)
class EarlierBody:
    """A body that an edit replaced: written at `created_at`, replaced at `edited_at` by `editor_id`."""

    n: int
    body: str
    format: str
    created_at: datetime
    edited_at: datetime
    editor_id: str


@dataclass(slots=True)
class Marks:
    """One symbol on a message: how many set it, the first of them by user id, and the `rev` at which it came."""

    count: int
    by: list[str]
    since: int


@dataclass(slots=True, eq=False)
class MessageState:
    """A message as it stands under the lock, moved on by each command of a batch that changes it.

    `rev` is the newest of its row's and of its reactions', `body_rev` that of its row alone. `reacted` says who of
    the batch has set which symbol.
    `row_rev` and what stands after it are what the batch has to write; `named_before` are those whom it named when the
    batch began, if it names others now, `attached_before` what it bore, likewise; `partial` says that names of those
    who reacted have to be read again; `removed_for` is the request by which somebody else than its author removed it.
    """

    seq: int
    rev: int
    author_id: str
    body: str
    format: str
    attributes: str | None
    reply_to: int | None
    created_at: datetime
    edited_at: datetime | None
    edits: int
    removed_at: datetime | None
    removed_by: str | None
    mentions: list[str] | None
    attachments: str | None
    reactions: dict[str, Marks] = field(default_factory=dict)
    reacted: dict[tuple[str, str], bool] = field(default_factory=dict)
    row_rev: int | None = None
    earlier: list[EarlierBody] = field(default_factory=list)
    set_reactions: dict[tuple[str, str], bool] = field(default_factory=dict)
    marked: dict[str, int] = field(default_factory=dict)
    named_before: frozenset[str] | None = None
    attached_before: Borne | None = None
    emptied: bool = False
    partial: bool = False
    body_rev: int = 0
    removed_for: str | None = None

    def __post_init__(self) -> None:
        self.body_rev = self.rev

    def name(self, users: Sequence[str]) -> None:
        """Mention these and nobody else."""
        if tuple(self.mentions or ()) != tuple(users):
            if self.named_before is None:
                self.named_before = frozenset(self.mentions or ())
            self.mentions = list(users) or None

    @property
    def borne(self) -> Borne:
        """The attachments that it bears."""
        return borne_in(self.attachments)

    def bear(self, attachments: Borne) -> None:
        """Bear these attachments and no others."""
        before = self.borne
        if attachments.ids != before.ids:
            if self.attached_before is None:
                self.attached_before = before
            self.attachments = attachments.packed

    @property
    def size(self) -> int:
        """The bytes of it that `keep_bytes` counts."""
        return size_of(self.body, self.attributes, self.borne.size)

    @property
    def changed(self) -> bool:
        return self.row_rev is not None or bool(self.marked)


@dataclass(slots=True, eq=False)
class MemberState:
    """A member's receipt under the lock. `rev` is None until the batch moves it."""

    user_id: str
    read_seq: int
    read_at: datetime | None = None
    rev: int | None = None
