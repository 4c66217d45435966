"""Decisions on messages that exist (edit, remove, react) and on receipts. Each changes the state that it is given, or
raises the `Problem` that refuses the command."""

from __future__ import annotations

from bisect import insort
from collections.abc import Sequence
from datetime import datetime, timedelta

from nestrel.core import limits
from nestrel.core.attachments import NONE_BORNE, Borne, check_found
from nestrel.core.commands import Change, Edit, React, Read, Remove
from nestrel.core.locked import EarlierBody, Locked, Marks, MemberState, MessageState
from nestrel.core.markdown import check_markdown
from nestrel.core.posting import check_mentions
from nestrel.core.problems import Expired, Forbidden, NotFound, StaleEdit, TooLarge, invalid
from nestrel.core.retention import size_of
from nestrel.core.rights import Action
from nestrel.core.roles import Role

_ACTIONS = {Edit: Action.EDIT, Remove: Action.REMOVE, React: Action.REACT}


def decide_change(
    place: Locked,
    command: Change,
    state: MessageState | None,
    role: Role | None,
    now: datetime,
    edit_window: timedelta | None,
    strangers: Sequence[str] = (),
    attachments: Borne = NONE_BORNE,
) -> MessageState:
    """Carry out one command on a message; one that changes nothing takes no `rev`. `strangers` are those whom an edit
    names and who are no members, `attachments` what of those that it wants there is for it.

    Raises:
        NotFound: no such conversation or message.
        Expired: the message lies below the floor.
        Forbidden: the role, the author or the edit window does not allow it, or the message has been removed.
        StaleEdit: the message has changed since the edit's `rev`.
        InvalidRequest: one symbol more than a message bears, a mention of who is no member, an attachment that is not
            the author's, or nothing that would be left.
    """
    place.check(_ACTIONS[type(command)], command.user_id, role, service=command.service)
    if 1 <= command.seq < place.floor:
        raise Expired(f"message {command.seq} is no longer kept; the conversation now begins at {place.floor}")
    if state is None:
        raise NotFound(f"there is no message {command.seq}; the newest is {place.head}")
    if isinstance(command, Edit):
        _edit(place, command, state, role, now, edit_window, strangers, attachments)
    elif isinstance(command, Remove):
        _remove(place, command, state, role, now)
    else:
        _react(place, command, state, role)
    return state


def _edit(
    place: Locked,
    command: Edit,
    state: MessageState,
    role: Role | None,
    now: datetime,
    edit_window: timedelta | None,
    strangers: Sequence[str],
    attachments: Borne,
) -> None:
    if command.user_id != state.author_id:
        raise Forbidden("only its author edits a message")
    if place.blocked:
        place.check_unblocked(role, service=command.service)
    # A like in between makes no edit stale: what the author saw is the body, and that is as it was.
    if command.revs is not None and not any(state.body_rev <= rev <= state.rev for rev in command.revs):
        raise StaleEdit(f"message {state.seq} has changed and now stands at rev {state.rev}; read it and edit again")
    if state.removed_at is not None:
        raise Forbidden(f"message {state.seq} has been removed; what is removed cannot be edited")
    format_ = command.format or state.format
    named = tuple(state.mentions or ()) if command.mentions is None else command.mentions
    same_body = (command.body, format_) == (state.body, state.format)
    kept = command.attachments is None or command.attachments == state.borne.ids
    if same_body and named == tuple(state.mentions or ()) and kept:
        return
    if edit_window is not None and now - state.created_at > edit_window:
        raise Forbidden(f"a message can be edited for {_words(edit_window)} after it was posted; that time is over")
    # Who was named may have left since: keeping them is no new mention.
    check_mentions([user for user in strangers if user not in (state.mentions or ())])
    if command.attachments is not None:
        check_found(command.attachments, attachments)
    if format_ == "markdown":
        try:
            check_markdown(command.body)
        except ValueError as error:
            raise invalid("/body", str(error)) from None
    borne = state.borne if kept else attachments
    if not command.body and not borne.ids:
        raise invalid("/body", "must not be empty where no attachment is left")
    size = size_of(command.body, state.attributes, borne.size)
    if not place.rule.admits(size):
        raise TooLarge(f"this conversation keeps {place.rule.keep_bytes:,} bytes; this body alone makes {size:,}")
    place.size += size - state.size
    at = max(now, state.edited_at or state.created_at)
    written_at = state.edited_at or state.created_at
    if not same_body:
        state.edits += 1
        state.earlier.append(EarlierBody(state.edits, state.body, state.format, written_at, at, command.user_id))
    state.body, state.format, state.edited_at = command.body, format_, at
    state.name(named)
    state.bear(borne)
    state.rev = state.row_rev = state.body_rev = place.next_rev()


def _remove(place: Locked, command: Remove, state: MessageState, role: Role | None, now: datetime) -> None:
    own = command.user_id == state.author_id
    if not own:
        place.check(Action.REMOVE_OTHERS, command.user_id, role, service=command.service)
    if state.removed_at is not None:
        return
    if not own:
        state.removed_for = command.request_id
    place.messages -= 1
    place.size -= state.size
    state.removed_at, state.removed_by = max(now, state.created_at), command.user_id
    state.body, state.attributes, state.edits, state.edited_at = "", None, 0, None
    state.name(())
    state.bear(NONE_BORNE)
    for content in (state.reactions, state.reacted, state.set_reactions, state.marked, state.earlier):
        content.clear()
    state.emptied, state.partial = True, False
    state.rev = state.row_rev = state.body_rev = place.next_rev()


def _react(place: Locked, command: React, state: MessageState, role: Role | None) -> None:
    if role is None:
        raise Forbidden("only members react to messages; join the conversation first")
    place.check_unblocked(role, service=command.service)
    if state.removed_at is not None:
        raise Forbidden(f"message {state.seq} has been removed; nobody reacts to it any more")
    key, symbol = (command.symbol, command.user_id), command.symbol
    if state.reacted.get(key, False) == command.on:
        return
    marks = state.reactions.get(symbol)
    if command.on and (marks is None or marks.count == 0):
        if sum(one.count > 0 for one in state.reactions.values()) >= limits.SYMBOLS_MOST:
            detail = f"a message bears at most {limits.SYMBOLS_MOST} different symbols; use one of those"
            raise invalid("/symbol", detail)
        state.reactions.pop(symbol, None)  # it comes anew, behind the others
        marks = state.reactions[symbol] = Marks(0, [], place.rev + 1)
    assert marks is not None
    state.rev = state.marked[symbol] = place.next_rev()
    state.reacted[key] = state.set_reactions[key] = command.on
    _count(state, marks, command.user_id, on=command.on)


def _count(state: MessageState, marks: Marks, user_id: str, *, on: bool) -> None:
    """Count one up or down, and keep the first names by user id; which name moves up behind them is not known here."""
    if on:
        marks.count += 1
        insort(marks.by, user_id)
        del marks.by[limits.REACTION_NAMES :]
    else:
        if user_id in marks.by:
            marks.by.remove(user_id)
            state.partial |= marks.count > limits.REACTION_NAMES
        marks.count -= 1


def decide_read(
    place: Locked, command: Read, state: MemberState | None, role: Role | None, now: datetime
) -> MemberState:
    """Move a member's receipt; within a batch the newest wins and takes one `rev`.

    Raises:
        NotFound, Forbidden: the caller is no member.
        InvalidRequest: `read_seq` is above the head.
    """
    place.check(Action.READ, command.user_id, role, service=command.service)
    if role is None or state is None:
        raise Forbidden("only members have a receipt; join the conversation first")
    place.check_unblocked(role, service=command.service)
    if command.read_seq > place.head:
        raise invalid("/read_seq", f"is above the head; the newest message is {place.head}")
    if command.read_seq > state.read_seq:
        state.read_seq, state.read_at = command.read_seq, now
        if state.rev is None:
            state.rev = place.next_rev()
    return state


def _words(window: timedelta) -> str:
    seconds = int(window.total_seconds())
    for name, size in (("day", 86_400), ("hour", 3_600), ("minute", 60)):
        if seconds >= size and seconds % size == 0:
            return f"{seconds // size} {name}{'s' if seconds > size else ''}"
    return f"{seconds} seconds"
