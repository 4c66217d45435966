"""A client's own copy of one conversation, kept right by applying change sets in the order in which they come."""

from __future__ import annotations

from nestrel.core.objects import ChangeSet, Conversation, HistoryPage, Member, Message, Profile


class Replica:
    """Messages by `seq`, members and profiles by user id, and where to follow from.

    A change set may be applied any number of times. A row never goes back: the one with the higher `rev` stays.
    What lies below `floor` is dropped.
    """

    def __init__(self, conversation_id: str) -> None:
        self.conversation_id = conversation_id
        self.conversation: Conversation | None = None
        self.messages: dict[int, Message] = {}
        self.members: dict[str, Member] = {}
        self.profiles: dict[str, Profile] = {}
        self.head = 0
        self.floor = 1
        self.cursor: str | None = None
        self.generation = 0
        """Grows when the copy begins anew: a page asked for before is of no use."""

    def begin_anew(self) -> None:
        """The store was restored or failed over: nothing that is held, names too, is sure to be newer than what comes.
        A change set with `reset` follows."""
        self.profiles.clear()

    def apply(self, changes: ChangeSet) -> None:
        """Take in one change set."""
        if changes.reset:
            self.messages.clear()
            self.members.clear()
            self.generation += 1
            # A store that was set back to an earlier state may have fewer messages than this copy had.
            self.head, self.floor, self.conversation = 0, 1, None
        known = self.conversation
        if changes.conversation is not None and (known is None or changes.conversation.rev >= known.rev):
            self.conversation = changes.conversation
        for member in changes.members:
            held = self.members.get(member.user_id)
            if held is None or member.rev >= held.rev:
                self.members[member.user_id] = member
        self._take(changes.messages, changes.profiles)
        self._bound(changes.head, changes.floor)
        self.cursor = changes.cursor

    def add(self, page: HistoryPage) -> None:
        """Take in a page of history. It says nothing about where to follow from, unless nothing was held before."""
        self._take(page.items, page.profiles)
        self._bound(page.head, page.floor)
        if self.cursor is None:
            self.cursor = page.change_cursor

    def put(self, message: Message) -> None:
        """Take in one message, as the answer to a command."""
        self._take([message], {})
        self._bound(max(self.head, message.seq), self.floor)

    def _take(self, messages: list[Message], profiles: dict[str, Profile]) -> None:
        for message in messages:
            held = self.messages.get(message.seq)
            if held is None or message.rev >= held.rev:
                self.messages[message.seq] = message
        for profile in profiles.values():
            known = self.profiles.get(profile.user_id)
            if known is None or profile.rev >= known.rev:
                self.profiles[profile.user_id] = profile

    def _bound(self, head: int, floor: int) -> None:
        self.head, self.floor = max(self.head, head), max(self.floor, floor)
        for seq in [seq for seq in self.messages if seq < self.floor]:
            del self.messages[seq]

    def ordered(self) -> list[Message]:
        """The messages held, by `seq`."""
        return [self.messages[seq] for seq in sorted(self.messages)]

    def holes(self) -> list[tuple[int, int]]:
        """The runs of numbers from floor to head that are not held, each from its first to its last."""
        runs, expected = [], self.floor
        for seq in [*sorted(self.messages), self.head + 1]:
            if seq > expected:
                runs.append((expected, seq - 1))
            expected = max(expected, seq + 1)
        return runs

    def present(self) -> list[Member]:
        """Those who are members now, by user id."""
        return sorted(
            (member for member in self.members.values() if member.left_at is None), key=lambda member: member.user_id
        )

    def name_of(self, user_id: str) -> str:
        """The newest display name; the id of someone whose profile is not held."""
        profile = self.profiles.get(user_id)
        return profile.display_name if profile is not None else user_id

    def read_by(self, seq: int) -> list[str]:
        """The members whose receipt has reached a message."""
        return [member.user_id for member in self.present() if member.read_seq >= seq]

    def unread(self, user_id: str) -> int | None:
        """Messages of others above a member's receipt that are not removed; None if not all of them are held."""
        member = self.members.get(user_id)
        if member is None or member.left_at is not None:
            return None
        count = 0
        for seq in range(max(member.read_seq, self.floor - 1) + 1, self.head + 1):
            message = self.messages.get(seq)
            if message is None:
                return None
            count += message.author_id != user_id and message.removed_at is None
        return count
