"""Which messages bear which attachments: found before a batch is decided, written with it.

What no message bears any more is not taken away here: it goes into a queue (`loosened`), and the collector decides
under the attachment's own lock (`nestrel.store.keep.collecting`). So the write path waits for none of its steps.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from uuid import UUID

from nestrel.core.attachments import Borne, borne
from nestrel.core.commands import Command, Edit, Post
from nestrel.core.locked import Locked, MessageState
from nestrel.core.posting import Accepted
from nestrel.store import rows
from nestrel.store.native import Connection, array, execute, fetch, texts
from nestrel.store.rows import ATTACHMENT_COLUMNS

# Locked, so that the collector does not take away what is just about to be borne; by id, as everywhere. One of which
# the last message was removed a moment ago is on its way out, and is not there any more.
_ATTACHING_FIND = f"""
SELECT {ATTACHMENT_COLUMNS}, conversation_id FROM nestrel.attachments a
WHERE (conversation_id, id, uploader_id) IN (SELECT * FROM unnest($1::text::uuid[], $2::text::uuid[], $3::text::text[]))
  AND (unused_since IS NOT NULL OR EXISTS (
      SELECT FROM nestrel.attached t JOIN unnest($4::text::uuid[], $5::text::bigint[]) f (conversation_id, floor)
          ON f.conversation_id = t.conversation_id
      WHERE t.attachment_id = a.id AND t.conversation_id = a.conversation_id AND t.seq >= f.floor))
ORDER BY conversation_id, id FOR NO KEY UPDATE
"""
_ATTACH = """
WITH wanted AS (
    SELECT * FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::uuid[]) w (conversation_id, seq, id)
), used AS (
    UPDATE nestrel.attachments a SET unused_since = NULL FROM wanted w
    WHERE a.conversation_id = w.conversation_id AND a.id = w.id AND a.unused_since IS NOT NULL
)
INSERT INTO nestrel.attached (conversation_id, seq, attachment_id) SELECT conversation_id, seq, id FROM wanted
ON CONFLICT DO NOTHING
"""
_DETACH = """
DELETE FROM nestrel.attached t USING unnest($1::text::uuid[], $2::text::bigint[], $3::text::uuid[])
    AS w (conversation_id, seq, id)
WHERE t.conversation_id = w.conversation_id AND t.seq = w.seq AND t.attachment_id = w.id
"""
# A statement of its own, which sees what this transaction has attached and detached.
_LEFT = """
UPDATE nestrel.attachments a SET unused_since = clock_timestamp()
WHERE (conversation_id, id) IN (SELECT * FROM unnest($1::text::uuid[], $2::text::uuid[])) AND NOT EXISTS (
    SELECT FROM nestrel.attached t WHERE t.attachment_id = a.id AND t.conversation_id = a.conversation_id)
"""
LOOSEN = """
INSERT INTO nestrel.loosened (conversation_id, attachment_id)
SELECT * FROM unnest($1::text::uuid[], $2::text::uuid[]) ON CONFLICT DO NOTHING
"""

Row = tuple[UUID, int, UUID]


async def find(
    connection: Connection, commands: Sequence[Command], locked: Mapping[int, Locked]
) -> Mapping[Command, Borne]:
    """What posts and edits want to bear and their authors may use, by the command."""
    asking = [one for one in commands if isinstance(one, Post | Edit) and one.attachments]
    if not asking:
        return {}
    asked_for = sorted({(one.conversation_id, id_, _author(one)) for one in asking for id_ in one.attachments or ()})
    ids, wanted, users = zip(*asked_for, strict=True)
    asked = {id_.int for id_ in ids}
    places = [place for number, place in locked.items() if number in asked]
    found = await fetch(
        connection,
        _ATTACHING_FIND,
        array(ids),
        array(wanted),
        texts(users),
        array([place.id for place in places]),
        array([place.floor for place in places]),
    )
    there = {(row[-1], row[0], row[1]): rows.attachment(row[:-1]) for row in found}
    return {
        one: borne(
            [
                there[key]
                for key in ((one.conversation_id, id_, _author(one)) for id_ in one.attachments or ())
                if key in there
            ]
        )
        for one in asking
    }


def _author(command: Post | Edit) -> str:
    return command.author_id if isinstance(command, Post) else command.user_id


async def attach(connection: Connection, accepted: Sequence[Accepted]) -> None:
    """Write what new messages bear."""
    await _attach(connection, [(one.place.id, one.seq, id_) for one in accepted for id_ in one.attachments.ids])


async def change(connection: Connection, changed: Mapping[MessageState, Locked]) -> None:
    """Bring to date what changed messages bear. What an edit has left out may be used again for a day; what was
    removed goes."""
    gone, come, left, loose = list[Row](), list[Row](), list[Row](), list[Row]()
    for state, place in changed.items():
        if state.attached_before is not None:
            before, now = set(state.attached_before.ids), set(state.borne.ids)
            out = [(place.id, state.seq, id_) for id_ in sorted(before - now)]
            gone += out
            (loose if state.emptied else left).extend(out)
            come += [(place.id, state.seq, id_) for id_ in sorted(now - before)]
    if gone:
        await execute(connection, _DETACH, *_columns(gone))
    await _attach(connection, come)
    if left:
        ids, _, attachments = _columns(left)
        await execute(connection, _LEFT, ids, attachments)
    if loose:
        ids, _, attachments = _columns(loose)
        await execute(connection, LOOSEN, ids, attachments)


async def _attach(connection: Connection, wanted: Sequence[Row]) -> None:
    if wanted:
        await execute(connection, _ATTACH, *_columns(wanted))


def _columns(wanted: Sequence[Row]) -> tuple[str, str, str]:
    ids, seqs, attachments = zip(*wanted, strict=True)
    return array(ids), array(seqs), array(attachments)
