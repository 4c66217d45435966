"""Who may do what: one table, for every door.

A route or a frame names its `Action`; whether the caller may is looked up here, by the kind of the conversation and by
how the caller stands to it. What depends on more than that is decided beside the thing itself, after the table: whose
message it is, or which role somebody gives to whom.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from uuid import UUID

from nestrel.core.problems import Forbidden, NotFound
from nestrel.core.roles import Kind, Role, Visibility


class Who(StrEnum):
    """How someone stands to a conversation. Members go by their roles; who is none is a passer-by of an open one, and
    to a closed one a stranger."""

    OWNER = "owner"
    MODERATOR = "moderator"
    WRITER = "writer"
    READER = "reader"
    PASSER_BY = "passer-by"
    STRANGER = "stranger"
    KEPT_OUT = "kept out"
    BACKEND = "backend"


class Action(StrEnum):
    """What can be done. Each is one row of the table, or one that needs no conversation (`ANYWHERE`)."""

    SEE = "see"
    FOLLOW = "follow"
    POST = "post"
    EDIT = "edit"
    REMOVE = "remove"
    REMOVE_OTHERS = "remove others'"
    REACT = "react"
    READ = "move one's receipt"
    REPORT = "report"
    JUDGE = "judge reports"
    JOIN = "join"
    LEAVE = "leave"
    HIDE = "hide"
    ADD = "add members"
    RANK = "give roles"
    DISMISS = "remove members"
    KEEP_OUT = "keep out"
    INVITE = "invite"
    CHANGE = "change"
    CLOSE = "close"
    RULE = "rule"
    ARCHIVE = "read the archive"
    IMPORT = "import"

    OWN = "one's own"
    MAKE = "make"
    LIST = "list"
    ACCEPT = "accept"
    LINK = "follow a link"
    SERVE = "run the service"


class Verdict(StrEnum):
    """What the table says; `refused` is 403, `absent` is 404, as of a conversation that was never there."""

    ALLOWED = "allowed"
    REFUSED = "refused"
    ABSENT = "absent"


@dataclass(frozen=True, slots=True)
class Right:
    """A row: who may, in a conversation of each kind; why not, for a caller; and what it is, for the page."""

    about: str
    refusal: str
    group: frozenset[str]
    bulletin: frozenset[str]
    direct: frozenset[str]
    refusal_in_direct: str

    def of(self, kind: Kind) -> frozenset[str]:
        return self.group if kind is Kind.GROUP else self.bulletin if kind is Kind.BULLETIN else self.direct


def _set(*who: str) -> frozenset[str]:
    return frozenset(who)


_NOBODY = _set()
_BACKEND = _set(Who.BACKEND)
_OWNERS = _set(Who.OWNER, Who.BACKEND)
_MODERATORS = _OWNERS | {Who.MODERATOR}
_WRITERS = _MODERATORS | {Who.WRITER}
_MEMBERS = _WRITERS | {Who.READER}
_ANYONE = _MEMBERS | {Who.PASSER_BY}

_TWO = "a direct conversation has exactly its two members; it can be hidden"
_MEMBERSHIP = "only members do that here; join the conversation first"


def _right(
    about: str,
    refusal: str,
    group: frozenset[str],
    bulletin: frozenset[str] | None = None,
    direct: frozenset[str] | None = None,
    refusal_in_direct: str | None = None,
) -> Right:
    """A bulletin goes by what a group does, unless said otherwise, and so do the two of a direct conversation."""
    return Right(
        about,
        refusal,
        group,
        group if bulletin is None else bulletin,
        group if direct is None else direct,
        refusal_in_direct or refusal,
    )


SENSELESS_IN_DIRECT = frozenset({Action.KEEP_OUT, Action.INVITE})
"""What whoever may see a direct conversation is told there that makes no sense, as it has its two members (422)."""

RIGHTS: Mapping[Action, Right] = {
    Action.SEE: _right(
        "know that it is there; read its history, its members, its attachments; search it", _MEMBERSHIP, _ANYONE
    ),
    Action.FOLLOW: _right(
        "follow its changes; read its rule", "only members follow a conversation; join it first", _MEMBERS
    ),
    Action.POST: _right("post; upload", "your role reads only", _WRITERS, _MODERATORS),
    Action.EDIT: _right("edit one's own messages", "your role does not write here", _WRITERS, _MODERATORS),
    Action.REMOVE: _right("remove one's own messages", _MEMBERSHIP, _MEMBERS),
    Action.REMOVE_OTHERS: _right(
        "remove messages of others",
        "only its author, a moderator or an owner removes a message",
        _MODERATORS,
        direct=_BACKEND,
    ),
    Action.REACT: _right("react; a backend where it is a member", _MEMBERSHIP, _MEMBERS),
    Action.READ: _right("move one's receipt; a backend where it is a member", _MEMBERSHIP, _MEMBERS),
    Action.REPORT: _right("report a message", _MEMBERSHIP, _ANYONE),
    Action.JUDGE: _right(
        "read reports and settle them", "moderators, owners and backends settle reports", _MODERATORS, direct=_BACKEND
    ),
    Action.JOIN: _right(
        "join; a stranger joins by being added, or by an invitation",
        "only open conversations can be joined; ask an owner to add you",
        _ANYONE,
        direct=_MEMBERS,
    ),
    Action.LEAVE: _right("leave", _TWO, _ANYONE, direct=_NOBODY, refusal_in_direct=_TWO),
    Action.HIDE: _right(
        "hide it from one's own list until its next message; say what of it one is told of", _MEMBERSHIP, _MEMBERS
    ),
    Action.ADD: _right(
        "add members", "owners and moderators add members", _MODERATORS, direct=_NOBODY, refusal_in_direct=_TWO
    ),
    Action.RANK: _right(
        "change a member's role; a moderator those of writers and readers",
        "owners and moderators give roles",
        _MODERATORS,
        direct=_NOBODY,
        refusal_in_direct=_TWO,
    ),
    Action.DISMISS: _right(
        "remove members; a moderator writers and readers",
        "owners and moderators remove members",
        _MODERATORS,
        direct=_NOBODY,
        refusal_in_direct=_TWO,
    ),
    Action.KEEP_OUT: _right(
        "keep someone of a lower role out, and let them in again",
        "owners and moderators keep people out",
        _MODERATORS,
        direct=_MEMBERS,
    ),
    Action.INVITE: _right(
        "make, list and take back invitations", "owners and moderators invite", _MODERATORS, direct=_MEMBERS
    ),
    Action.CHANGE: _right(
        "change title, name, visibility, attributes, or how often writers post",
        "only an owner changes a conversation",
        _OWNERS,
    ),
    Action.CLOSE: _right("close it for good", "only an owner closes a conversation", _OWNERS),
    Action.RULE: _right("set what it keeps, or preview that", "only an owner sets what a conversation keeps", _OWNERS),
    Action.ARCHIVE: _right("read what has expired and is archived", "only an owner reads the archive", _OWNERS),
    Action.IMPORT: _right(
        "import what was written elsewhere",
        "only a trusted backend (scope nestrel.service) imports; others post",
        _BACKEND,
    ),
}
"""In a direct conversation both are writers, so that what owners and moderators may is the backend's there. To keep
someone out of one, or to invite, makes no sense for anybody, and is refused as such (422)."""

ANYWHERE: Mapping[Action, str] = {
    Action.OWN: "one's own profile, people whom one may see, search, resync, blocks, session, devices",
    Action.MAKE: "make a conversation",
    Action.LIST: "list one's own and open conversations",
    Action.ACCEPT: "see and accept an invitation whose token one has",
    Action.LINK: "follow a link to an attachment; it stands for itself, and asks what its maker may",
    Action.SERVE: "suspend and sign out people, erase them, the service's rule, usage, connections, audit, webhooks",
}
"""What is done to no conversation in particular: anyone signed in may, but `SERVE` is for a backend alone, and `LINK`
is for whoever has it."""

_ROLES: Mapping[str, Who] = {role.value: Who(role.value) for role in Role}


@dataclass(frozen=True, slots=True)
class Relation:
    """How one caller stands to one conversation.

    `role` is None for someone who is not, or no longer, a member; `service` marks a trusted backend; `kept_out` one
    whom its owners keep out, which no member is.
    """

    kind: Kind
    visibility: Visibility
    role: Role | None
    service: bool = False
    kept_out: bool = False

    @property
    def who(self) -> Who:
        if self.service:
            return Who.BACKEND
        if self.role is not None:
            return _ROLES[self.role]
        if self.kept_out:
            return Who.KEPT_OUT
        return Who.PASSER_BY if self.visibility is Visibility.OPEN else Who.STRANGER

    def may(self, action: Action) -> bool:
        return self.who in RIGHTS[action].of(self.kind)

    def verdict(self, action: Action) -> Verdict:
        """What the table says of it."""
        if self.may(action):
            return Verdict.ALLOWED
        return Verdict.REFUSED if self.may(Action.SEE) else Verdict.ABSENT

    def check(self, action: Action, conversation_id: UUID) -> None:
        """Whether the caller may.

        Raises:
            NotFound: they may not know of the conversation.
            Forbidden: they see it, and may not do this.
        """
        verdict = self.verdict(action)
        if verdict is Verdict.ABSENT:
            raise no_conversation(conversation_id)
        if verdict is Verdict.REFUSED:
            right = RIGHTS[action]
            raise Forbidden(right.refusal_in_direct if self.kind is Kind.DIRECT else right.refusal)

    def may_set_role(self, present: Role | None, wanted: Role | None) -> bool:
        """Add (`present` None), change, or remove (`wanted` None) another member.

        An owner may do all of it; a moderator what touches writers and readers only.
        """
        if self.service or self.role is Role.OWNER:
            return True
        if self.role is not Role.MODERATOR:
            return False
        return all(role in (None, Role.WRITER, Role.READER) for role in (present, wanted))


def may_post(kind: Kind, role: Role | None, *, service: bool = False) -> bool:
    """Whether a member of this role, None for no member, posts in one of this kind; the write path asks it of each
    post."""
    return service or (role is not None and role in RIGHTS[Action.POST].of(kind))


def no_conversation(conversation_id: UUID) -> NotFound:
    """What is said of a conversation that is not there, and of one that the caller may not know of."""
    return NotFound(f"there is no conversation {conversation_id} that you may see")
