"""The blocking client, made by script/generate from the asynchronous one: no second implementation."""

from __future__ import annotations

from collections.abc import Generator, Iterable, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any, Literal

from nestrel.client.attachments import Progress
from nestrel.client.importing import Importer, ImportProgress
from nestrel.client.keeping import Form, Part
from nestrel.client.running import OnThread
from nestrel.core.kept_objects import (
    ArchivePage,
    ArchiveSegment,
    Erasure,
    ErasurePreview,
    RetentionPreview,
    RetentionRule,
    RetentionRun,
)
from nestrel.core.objects import (
    Attachment,
    AttachmentLink,
    ChangeSet,
    Conversation,
    ConversationPage,
    EarlierBody,
    HistoryPage,
    Hit,
    Invitation,
    Invited,
    Me,
    Member,
    Message,
    Profile,
    Reacted,
    Reader,
    Receipt,
    SaidPage,
    SearchPage,
)
from nestrel.core.order_objects import (
    AuditEntry,
    AuditPage,
    Blocked,
    Connected,
    KeptOut,
    PushSubscription,
    Report,
    ServiceStatus,
    SignedOut,
    Suspension,
    Usage,
)
from nestrel.core.symbols import LIKE
from nestrel.core.webhook_objects import Webhook, WebhookDelivery, WebhookMade


class Client(OnThread):
    """`AsyncClient` for code that does not use asyncio; the same methods, and iterators where that has asynchronous
    ones. Use it in a `with` block, or call `close`.

    Parameters:
        base_url: the service's address, such as `http://127.0.0.1:8460`.
        token: a bearer token, or a function that gives a fresh one whenever it is asked.
        tries: how often a repeatable request is sent in all; posts are repeatable, as each carries its key.
        timeout: seconds for one exchange.

    Every method raises a `Problem` when the service refuses and `Unreachable` when it does not answer.
    """

    def me(self) -> Me:
        """One's own profile, and how much one has not read in all."""
        return self._run(self._client.me())

    def person(self, user_id: str) -> Profile:
        """The profile of someone whom one can see.

        Raises:
            NotFound: there is nobody such.
        """
        return self._run(self._client.person(user_id))

    def people(self, q: str = "", *, everyone: bool = False) -> Generator[Profile]:
        """Whom one can see, by the beginning of any word of their name or id; all of them without `q`. `everyone` of
        the service is for a trusted backend; without `q` in the order of ids."""
        return self._iterate(self._client.people(q, everyone=everyone))

    def search_page(
        self,
        q: str | None = None,
        *,
        conversation_id: str | None = None,
        author: str | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
        limit: int = 50,
        cursor: str | None = None,
    ) -> SearchPage:
        """One page of messages that have all words of `q`, newest first; `next` continues it, also where it is short.
        `"a phrase"`, `begin*`, and `-` before what must not be there."""
        return self._run(
            self._client.search_page(
                q, conversation_id=conversation_id, author=author, since=since, until=until, limit=limit, cursor=cursor
            )
        )

    def search(self, q: str, **query: Any) -> Generator[Hit]:
        """Every hit, page by page; `query` as for `search_page`."""
        return self._iterate(self._client.search(q, **query))

    def said_page(
        self, user_id: str, *, limit: int = 50, order: Literal["desc", "asc"] | None = None, cursor: str | None = None
    ) -> SaidPage:
        """One page of what someone has said in one's own conversations; `older` and `newer` continue it."""
        return self._run(self._client.said_page(user_id, limit=limit, order=order, cursor=cursor))

    def change_me(self, **fields: str | None) -> Me:
        """Change `display_name` or `picture`."""
        return self._run(self._client.change_me(**fields))

    def make_conversation(
        self,
        *,
        name: str | None = None,
        title: str = "",
        kind: str = "group",
        visibility: str = "closed",
        members: Iterable[str] = (),
        attributes: dict[str, Any] | None = None,
        retention: dict[str, Any] | None = None,
        key: str | None = None,
    ) -> Conversation:
        """Make a conversation and become its owner; for a `direct` one that exists already, that one. A trusted backend
        that names two others makes a direct one of them. `retention` is a rule as for `set_retention`.

        Sent again with the same idempotency key until there is an answer, so it is made once. `key` is one's own, which
        stands for 24 hours; without it a new one is made for this call.
        """
        return self._run(
            self._client.make_conversation(
                name=name,
                title=title,
                kind=kind,
                visibility=visibility,
                members=members,
                attributes=attributes,
                retention=retention,
                key=key,
            )
        )

    def conversation(self, conversation_id: str) -> Conversation:
        return self._run(self._client.conversation(conversation_id))

    def conversations_page(
        self,
        scope: Literal["mine", "open", "all"] = "mine",
        *,
        limit: int = 50,
        cursor: str | None = None,
        name: str | None = None,
        member: str | None = None,
        q: str | None = None,
    ) -> ConversationPage:
        """One page; `next` continues it. `all` is for a trusted backend, as are `member` and `q`, which go with it."""
        return self._run(
            self._client.conversations_page(scope, limit=limit, cursor=cursor, name=name, member=member, q=q)
        )

    def conversations(
        self, scope: Literal["mine", "open", "all"] = "mine", **query: str | None
    ) -> Generator[Conversation]:
        """Every conversation of a scope, page by page; `query` as for `conversations_page`."""
        return self._iterate(self._client.conversations(scope, **query))

    def find(self, name_or_id: str) -> Conversation:
        """A conversation by id, or by name among one's own and then among the open ones.

        Raises:
            NotFound: there is none that one may see.
        """
        return self._run(self._client.find(name_or_id))

    def change_conversation(self, conversation_id: str, **fields: Any) -> Conversation:
        """Change some of `title`, `name`, `visibility`, `attributes`."""
        return self._run(self._client.change_conversation(conversation_id, **fields))

    def close_conversation(self, conversation_id: str) -> None:
        """Close it for good, for everyone."""
        self._run(self._client.close_conversation(conversation_id))

    def members(self, conversation_id: str) -> Generator[Member]:
        """Every member, by user id."""
        return self._iterate(self._client.members(conversation_id))

    def join(self, conversation_id: str) -> Member:
        """Join an open conversation."""
        return self._run(self._client.join(conversation_id))

    def put_member(self, conversation_id: str, user_id: str, role: str | None = None) -> Member:
        """Add a member, or make sure that someone is one."""
        return self._run(self._client.put_member(conversation_id, user_id, role))

    def change_member(self, conversation_id: str, user_id: str, role: str) -> Member:
        return self._run(self._client.change_member(conversation_id, user_id, role))

    def remove_member(self, conversation_id: str, user_id: str = "me") -> None:
        """Leave, or remove someone."""
        self._run(self._client.remove_member(conversation_id, user_id))

    def invite(
        self,
        conversation_id: str,
        *,
        role: Literal["owner", "moderator", "writer", "reader"] | None = None,
        uses: int | None = None,
        expires_in: int | None = None,
    ) -> Invitation:
        """Make an invitation to a role no higher than one's own, which works so often and for so many seconds. Its
        `token` is in this answer alone; whoever has it can join."""
        return self._run(self._client.invite(conversation_id, role=role, uses=uses, expires_in=expires_in))

    def invitations(self, conversation_id: str) -> Generator[Invitation]:
        """The invitations of a conversation, the oldest first, without their tokens."""
        return self._iterate(self._client.invitations(conversation_id))

    def revoke(self, conversation_id: str, invitation_id: str) -> None:
        """Take an invitation back."""
        self._run(self._client.revoke(conversation_id, invitation_id))

    def invited(self, token: str) -> Invited:
        """What an invitation leads to. Raises `Expired` for one that is used up or past its time."""
        return self._run(self._client.invited(token))

    def accept(self, token: str) -> Conversation:
        """Join by an invitation; who is a member already uses nothing up."""
        return self._run(self._client.accept(token))

    def changes(self, conversation_id: str, cursor: str | None = None, *, limit: int = 200) -> ChangeSet:
        """What changed since a change cursor; without one, the newest page with `reset`."""
        return self._run(self._client.changes(conversation_id, cursor, limit=limit))

    def post(
        self,
        conversation_id: str,
        body: str,
        *,
        key: str | None = None,
        format: Literal["plain", "markdown"] = "plain",
        attributes: dict[str, Any] | None = None,
        reply_to: int | None = None,
        mentions: Sequence[str] = (),
        attachments: Sequence[Attachment | str] = (),
        on_behalf_of: str | None = None,
    ) -> Message:
        """Post a message and return it once it is durable. With `attachments`, which were uploaded before, it may have
        no body ("").

        Sent again with the same idempotency key until there is an answer, so it is posted once. `key` is one's own;
        without it a new one is made for this call.
        """
        return self._run(
            self._client.post(
                conversation_id,
                body,
                key=key,
                format=format,
                attributes=attributes,
                reply_to=reply_to,
                mentions=mentions,
                attachments=attachments,
                on_behalf_of=on_behalf_of,
            )
        )

    def post_batch(self, conversation_id: str, messages: Iterable[dict[str, Any]]) -> list[Message]:
        """Post up to 500 messages, all or none; each a dictionary with `body` and, if it is to be one's own, `key`."""
        return self._run(self._client.post_batch(conversation_id, messages))

    def message(self, conversation_id: str, seq: int) -> Message:
        return self._run(self._client.message(conversation_id, seq))

    def history_page(
        self,
        conversation_id: str,
        *,
        limit: int = 50,
        order: Literal["desc", "asc"] | None = None,
        cursor: str | None = None,
        before: int | None = None,
        after: int | None = None,
        around: int | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
        author: str | None = None,
    ) -> HistoryPage:
        """One page; `older` and `newer` continue it as `cursor`, which stands for the whole query."""
        return self._run(
            self._client.history_page(
                conversation_id,
                limit=limit,
                order=order,
                cursor=cursor,
                before=before,
                after=after,
                around=around,
                since=since,
                until=until,
                author=author,
            )
        )

    def history(
        self, conversation_id: str, *, order: Literal["desc", "asc"] = "desc", page_size: int = 200, **query: Any
    ) -> Generator[Message]:
        """Messages one by one over any length, in `order`; `query` as for `history_page`.

        Messages posted meanwhile come along in `asc` and are not there in `desc`; none comes twice.
        """
        return self._iterate(self._client.history(conversation_id, order=order, page_size=page_size, **query))

    def edit(
        self,
        conversation_id: str,
        seq: int,
        body: str,
        *,
        format: Literal["plain", "markdown"] | None = None,
        mentions: Sequence[str] | None = None,
        attachments: Sequence[Attachment | str] | None = None,
        rev: int | None = None,
    ) -> Message:
        """Give a message of one's own a new body; `format`, `mentions` and `attachments` None keep the present ones.

        Raises:
            StaleEdit: with `rev`, the message has changed since; `extra["message"]` is it as it stands.
            Forbidden: it is someone else's, has been removed, or the edit window is over.
        """
        return self._run(
            self._client.edit(
                conversation_id, seq, body, format=format, mentions=mentions, attachments=attachments, rev=rev
            )
        )

    def remove(self, conversation_id: str, seq: int) -> Message:
        """Take a message away; returns the tombstone, also when it was removed before."""
        return self._run(self._client.remove(conversation_id, seq))

    def react(self, conversation_id: str, seq: int, symbol: str = LIKE) -> Message:
        """Set one's reaction, `like` or one emoji; setting it again changes nothing."""
        return self._run(self._client.react(conversation_id, seq, symbol))

    def unreact(self, conversation_id: str, seq: int, symbol: str = LIKE) -> Message:
        """Take one's reaction back."""
        return self._run(self._client.unreact(conversation_id, seq, symbol))

    def read(self, conversation_id: str, read_seq: int) -> Receipt:
        """Move one's receipt, which only grows."""
        return self._run(self._client.read(conversation_id, read_seq))

    def edits(self, conversation_id: str, seq: int) -> Generator[EarlierBody]:
        """Earlier bodies of a message, oldest first."""
        return self._iterate(self._client.edits(conversation_id, seq))

    def reactions(self, conversation_id: str, seq: int, symbol: str | None = None) -> Generator[Reacted]:
        """Who reacted, by symbol and user id."""
        return self._iterate(self._client.reactions(conversation_id, seq, symbol))

    def readers(self, conversation_id: str, seq: int) -> Generator[Reader]:
        """The members whose receipt has reached a message, by user id."""
        return self._iterate(self._client.readers(conversation_id, seq))

    def upload(
        self,
        conversation_id: str,
        file: str | Path | bytes,
        *,
        name: str | None = None,
        on_behalf_of: str | None = None,
        progress: Progress | None = None,
    ) -> Attachment:
        """Send a file, given by its path or its bytes, and return it as an attachment that can be posted.

        What kind it is the service finds in its content. `name` is by default that of the file. The same bytes under
        the same name are not kept twice, so it is sent again until there is an answer. A file that is read from a path
        is read twice, and never held whole.

        Raises:
            OSError: the file cannot be read.
        """
        return self._run(
            self._client.upload(conversation_id, file, name=name, on_behalf_of=on_behalf_of, progress=progress)
        )

    def attachment(self, conversation_id: str, attachment_id: str) -> Generator[bytes]:
        """The bytes of an attachment in chunks as they come; where the line breaks, from there on again.

        Raises:
            Expired: it belongs to messages that are no longer kept.
            NotFound: there is none that one may read, or it was removed.
        """
        return self._iterate(self._client.attachment(conversation_id, attachment_id))

    def download(
        self,
        conversation_id: str,
        attachment: Attachment | str,
        into: str | Path = ".",
        *,
        progress: Progress | None = None,
    ) -> Path:
        """Fetch an attachment, as a message has it or by its id, into a new file, which is there only once it is whole
        and as it was sent; or into a folder, under its own name. Returns where it is.

        Raises:
            Changed: it is not what the message says.
            FileExistsError: there is a file of that name already.
            OSError: the file cannot be written.
        """
        return self._run(self._client.download(conversation_id, attachment, into, progress=progress))

    def preview(self, conversation_id: str, attachment_id: str, width: Literal[320, 960] = 320) -> bytes:
        """A small WebP of a picture. Raises `NotFound` for what is none."""
        return self._run(self._client.preview(conversation_id, attachment_id, width))

    def link(self, conversation_id: str, attachment_id: str, *, expires_in: int = 3600) -> AttachmentLink:
        """An address at which an attachment is to be had without a token, for `expires_in` seconds (at most a day) and
        only while one may read it oneself."""
        return self._run(self._client.link(conversation_id, attachment_id, expires_in=expires_in))

    def retention(self, conversation_id: str | None, *, kind: str | None = None) -> RetentionRule:
        """The rule by which a conversation goes."""
        return self._run(self._client.retention(conversation_id, kind=kind))

    def set_retention(
        self, conversation_id: str | None, *, kind: str | None = None, confirm: bool = False, **rule: Any
    ) -> RetentionRule:
        """Set a rule.

        Raises:
            ConfirmNeeded: it would take something away at once, and `confirm` is False; `extra["preview"]` says what.
        """
        return self._run(self._client.set_retention(conversation_id, kind=kind, confirm=confirm, **rule))

    def clear_retention(self, conversation_id: str | None, *, kind: str | None = None, confirm: bool = False) -> None:
        """Clear a rule; a conversation then goes by its kind's or the service's. Raises as `set_retention`."""
        self._run(self._client.clear_retention(conversation_id, kind=kind, confirm=confirm))

    def preview_retention(
        self, conversation_id: str | None, *, kind: str | None = None, **rule: Any
    ) -> RetentionPreview:
        """What a rule would take away now; nothing changes."""
        return self._run(self._client.preview_retention(conversation_id, kind=kind, **rule))

    def run_retention(self) -> RetentionRun:
        """Sweep for about a second; call it again while something waits. For a trusted backend."""
        return self._run(self._client.run_retention())

    def archive_page(self, conversation_id: str, *, limit: int = 50, cursor: str | None = None) -> ArchivePage:
        """A page of segments, oldest first, and the runs that were discarded."""
        return self._run(self._client.archive_page(conversation_id, limit=limit, cursor=cursor))

    def archive(self, conversation_id: str) -> Generator[ArchiveSegment]:
        """Every segment, oldest first."""
        return self._iterate(self._client.archive(conversation_id))

    def archive_segment(self, conversation_id: str, segment: int) -> bytes:
        """A segment's messages as JSON Lines, over which its `sha256` is."""
        return self._run(self._client.archive_segment(conversation_id, segment))

    def export(self, conversation_id: str | None, *, part: Part = "live", form: Form = "jsonl") -> Generator[bytes]:
        """A conversation, or with None all of them, as of now: chunks of JSON Lines or CSV as they come."""
        return self._iterate(self._client.export(conversation_id, part=part, form=form))

    def import_lines(
        self,
        conversation_id: str,
        lines: Iterable[bytes],
        importer: Importer | None = None,
        *,
        files: str | Path | None = None,
        without_files: bool = False,
    ) -> Generator[ImportProgress]:
        """Bring messages in, as JSON Lines of message objects in the order of time, with their authors and times; for
        a trusted backend. Yields how far it has come after each call. The same lines again add nothing, so one that
        was cut short, also by a restore of the store, is simply done again. A line with attachments needs its `files`,
        in a folder as `nestrel export --files` makes it, or comes `without_files`."""
        return self._iterate(
            self._client.import_lines(conversation_id, lines, importer, files=files, without_files=without_files)
        )

    def preview_erasure(self, user_id: str) -> ErasurePreview:
        """What erasing a person would empty. For a trusted backend, as what follows."""
        return self._run(self._client.preview_erasure(user_id))

    def erase(self, user_id: str, *, identity: bool = False) -> Erasure:
        """Erase a person; nothing brings back what they wrote. It goes on in the background: see `erasure`. With
        `identity` their user id goes as well: where an author is shown it is `shown_as`, and nobody signs in with the
        id until `delete_erasure`."""
        return self._run(self._client.erase(user_id, identity=identity))

    def delete_erasure(self, erasure_id: str) -> None:
        """Let an identity that was erased be somebody's again, as one who was never here. Nothing comes back."""
        self._run(self._client.delete_erasure(erasure_id))

    def erasure(self, erasure_id: str) -> Erasure:
        """The record of an erasure, and how far it has come."""
        return self._run(self._client.erasure(erasure_id))

    def erasures(self) -> Generator[Erasure]:
        """All records, newest first."""
        return self._iterate(self._client.erasures())

    def put_person(self, user_id: str, *, display_name: str | None = None, picture: str | None = None) -> Profile:
        """Make somebody's profile before they sign in, or set what is given of the one that is there.

        Raises:
            NameTaken: names are one person's alone here, and this one is, or looks as, somebody else's.
        """
        return self._run(self._client.put_person(user_id, display_name=display_name, picture=picture))

    def keep_out(
        self, conversation_id: str, user_id: str, *, until: datetime | None = None, reason: str | None = None
    ) -> KeptOut:
        """Keep someone of a lower role out, until a time or for good; to them the conversation does not exist then."""
        return self._run(self._client.keep_out(conversation_id, user_id, until=until, reason=reason))

    def let_in(self, conversation_id: str, user_id: str) -> None:
        """Keep someone out no longer."""
        self._run(self._client.let_in(conversation_id, user_id))

    def kept_out(self, conversation_id: str) -> Generator[KeptOut]:
        """Who is kept out now, by user id."""
        return self._iterate(self._client.kept_out(conversation_id))

    def hide(self, conversation_id: str, *, hidden: bool = True) -> Member:
        """Leave a conversation out of one's own list until its next message, or take it in again."""
        return self._run(self._client.hide(conversation_id, hidden=hidden))

    def report(self, conversation_id: str, seq: int, reason: str) -> Report:
        """Tell those who judge of a message. What it says now stays readable to them for 30 days."""
        return self._run(self._client.report(conversation_id, seq, reason))

    def reports(
        self, *, state: Literal["open", "done"] | None = None, conversation_id: str | None = None
    ) -> Generator[Report]:
        """The reports of conversations in which one judges, newest first; a backend's are all."""
        return self._iterate(self._client.reports(state=state, conversation_id=conversation_id))

    def settle(self, report_id: str, state: Literal["open", "done"] = "done") -> Report:
        """Settle a report, or open it again."""
        return self._run(self._client.settle(report_id, state))

    def block(self, user_id: str) -> Blocked:
        """Block someone: no direct conversation with one another, no posts in one that exists, no being added."""
        return self._run(self._client.block(user_id))

    def unblock(self, user_id: str) -> None:
        """Block someone no longer."""
        self._run(self._client.unblock(user_id))

    def blocked(self) -> Generator[Blocked]:
        """Whom one blocks, by user id."""
        return self._iterate(self._client.blocked())

    def export_person(self, user_id: str = "me") -> Generator[bytes]:
        """All that someone wrote and all that is kept about them, a ZIP, in chunks as they come; one's own, or as a
        trusted backend anyone's."""
        return self._iterate(self._client.export_person(user_id))

    def suspend(self, user_id: str, *, until: datetime | None = None, reason: str | None = None) -> Suspension:
        """Refuse every call of someone's, until a time or for good, and end their connections."""
        return self._run(self._client.suspend(user_id, until=until, reason=reason))

    def end_suspension(self, user_id: str) -> None:
        """Let someone in again."""
        self._run(self._client.end_suspension(user_id))

    def sign_out(self, user_id: str) -> SignedOut:
        """End all tokens that someone has, and their connections."""
        return self._run(self._client.sign_out(user_id))

    def connections(self, user_id: str | None = None) -> Generator[Connected]:
        """The open sockets and streams of all processes, or those of one person."""
        return self._iterate(self._client.connections(user_id))

    def end_connection(self, connection_id: str) -> None:
        """End a connection, on whatever process it is."""
        self._run(self._client.end_connection(connection_id))

    def service(self) -> ServiceStatus:
        """What runs there: version, commit, revision of the schema and epoch of the database."""
        return self._run(self._client.service())

    def usage(
        self,
        *,
        since: datetime | None = None,
        until: datetime | None = None,
        by: Literal["hour", "day"] = "hour",
        of: Literal["service", "conversation", "person"] = "service",
        id: str | None = None,
    ) -> Generator[Usage]:
        """What was used by hour or day, in order; the last seven days unless said otherwise."""
        return self._iterate(self._client.usage(since=since, until=until, by=by, of=of, id=id))

    def audit(
        self,
        *,
        since: datetime | None = None,
        until: datetime | None = None,
        actor: str | None = None,
        conversation_id: str | None = None,
    ) -> Generator[AuditEntry]:
        """What people with a role did to others, and what backends did for somebody, newest first."""
        return self._iterate(self._client.audit(since=since, until=until, actor=actor, conversation_id=conversation_id))

    def audit_pages(
        self,
        *,
        since: datetime | None = None,
        until: datetime | None = None,
        actor: str | None = None,
        conversation_id: str | None = None,
    ) -> Generator[AuditPage]:
        """The same page by page, each with what its people and conversations are called."""
        return self._iterate(
            self._client.audit_pages(since=since, until=until, actor=actor, conversation_id=conversation_id)
        )

    def make_webhook(
        self,
        url: str,
        *,
        conversation_id: str | None = None,
        type: Literal["changes", "notices"] = "changes",
        secret: str | None = None,
    ) -> WebhookMade:
        """Have all that changes from now on sent to an address, or what changes in one conversation. Its `secret`,
        which signs every request, is in this answer alone (`nestrel.client.received` checks them)."""
        return self._run(self._client.make_webhook(url, conversation_id=conversation_id, type=type, secret=secret))

    def webhooks(self) -> Generator[Webhook]:
        """The webhooks, the oldest first."""
        return self._iterate(self._client.webhooks())

    def webhook(self, webhook_id: str) -> Webhook:
        """One webhook as it stands."""
        return self._run(self._client.webhook(webhook_id))

    def change_webhook(
        self,
        webhook_id: str,
        *,
        url: str | None = None,
        state: Literal["active", "paused"] | None = None,
        secret: str | None = None,
    ) -> Webhook:
        """Change an address or a secret, pause it or let it go on; the secret of before signs too for 24 hours."""
        return self._run(self._client.change_webhook(webhook_id, url=url, state=state, secret=secret))

    def delete_webhook(self, webhook_id: str) -> None:
        """Take a webhook away."""
        self._run(self._client.delete_webhook(webhook_id))

    def webhook_deliveries(self, webhook_id: str) -> Generator[WebhookDelivery]:
        """What came of its last requests, the newest first."""
        return self._iterate(self._client.webhook_deliveries(webhook_id))

    def replay_webhook(
        self, webhook_id: str, *, cursor: str | None = None, since: datetime | None = None, everything: bool = False
    ) -> Webhook:
        """Have sent again what came behind a cursor of the webhook's, or messages made since a time, as they now stand;
        or `everything` that is kept, each conversation from its beginning."""
        return self._run(self._client.replay_webhook(webhook_id, cursor=cursor, since=since, everything=everything))

    def notify(self, conversation_id: str, notify: Literal["all", "mentions", "none"]) -> None:
        """Say what one wants to be told of in a conversation; `my_notify` of a `Conversation` has it."""
        self._run(self._client.notify(conversation_id, notify))

    def notify_after(self, conversation_id: str, moment: datetime | None) -> None:
        """Be told of nothing that is posted before a moment, or of everything again (None)."""
        self._run(self._client.notify_after(conversation_id, moment))

    def push_key(self) -> str:
        """The public key of the service, which a browser wants when it subscribes (RFC 8292)."""
        return self._run(self._client.push_key())

    def put_device(self, subscription: Mapping[str, Any]) -> PushSubscription:
        """Have a device told, by what its browser gave: `endpoint`, `keys` with `p256dh` and `auth`, and
        `expirationTime`. It is nobody else's from then on."""
        return self._run(self._client.put_device(subscription))

    def devices(self) -> Generator[PushSubscription]:
        """One's devices, the oldest first."""
        return self._iterate(self._client.devices())

    def forget_device(self, subscription_id: str) -> None:
        """Tell a device nothing more."""
        self._run(self._client.forget_device(subscription_id))
