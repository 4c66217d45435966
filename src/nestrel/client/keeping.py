"""The calls about what is kept: rules, the archive, export, import, and erasing a person."""

from __future__ import annotations

import asyncio
import re
from collections.abc import AsyncIterator, Iterable
from contextlib import aclosing
from functools import partial
from pathlib import Path
from typing import Any, Literal

from nestrel.client.attachments import AttachmentCalls
from nestrel.client.importing import Importer, ImportProgress
from nestrel.client.messages import path
from nestrel.core.kept_objects import (
    ArchivePage,
    ArchiveSegment,
    Erasure,
    ErasurePage,
    ErasurePreview,
    ImportAnswer,
    RetentionPreview,
    RetentionRule,
    RetentionRun,
)
from nestrel.core.problems import InvalidRequest, TooLarge

Part = Literal["live", "archive", "all"]
Form = Literal["jsonl", "csv"]
_EXPORT_SECONDS = 300.0


def _where(conversation_id: str | None, *rest: str) -> str:
    """The address of a conversation's rule, or of the service's."""
    return path(conversation_id, "retention", *rest) if conversation_id is not None else "/".join(("/retention", *rest))


async def _leave_out(fields: dict[str, Any]) -> None:
    if not fields.get("body"):
        raise ValueError("attachments: without its files it says nothing")
    del fields["attachments"]


class KeepingCalls(AttachmentCalls):
    """The part of `AsyncClient` that is about what is kept. Where a conversation may be None, the rule is that of the
    service, for all conversations without one of their own, or for those of a `kind`, which a trusted backend sets.

    A rule is given as `keep_last` (messages), `keep_for` (an ISO 8601 duration), `keep_bytes`, `then` (`archive` or
    `discard`) and `hold`.
    """

    async def retention(self, conversation_id: str | None, *, kind: str | None = None) -> RetentionRule:
        """The rule by which a conversation goes."""
        return RetentionRule.model_validate(await self._get(_where(conversation_id), kind=kind))

    async def set_retention(
        self, conversation_id: str | None, *, kind: str | None = None, confirm: bool = False, **rule: Any
    ) -> RetentionRule:
        """Set a rule.

        Raises:
            ConfirmNeeded: it would take something away at once, and `confirm` is False; `extra["preview"]` says what.
        """
        body = {**rule, "confirm": confirm}
        where = _where(conversation_id)
        answer = await self._transport.json("PUT", where, params={"kind": kind}, body=body, repeatable=True)
        return RetentionRule.model_validate(answer)

    async def clear_retention(
        self, conversation_id: str | None, *, kind: str | None = None, confirm: bool = False
    ) -> None:
        """Clear a rule; a conversation then goes by its kind's or the service's. Raises as `set_retention`."""
        asks = confirm and (conversation_id is not None or kind is not None)
        params = {"kind": kind, "confirm": "true" if asks else None}
        await self._transport.json("DELETE", _where(conversation_id), params=params, repeatable=True)

    async def preview_retention(
        self, conversation_id: str | None, *, kind: str | None = None, **rule: Any
    ) -> RetentionPreview:
        """What a rule would take away now; nothing changes."""
        where = _where(conversation_id, "preview")
        answer = await self._transport.json("POST", where, params={"kind": kind}, body=rule, repeatable=True)
        return RetentionPreview.model_validate(answer)

    async def run_retention(self) -> RetentionRun:
        """Sweep for about a second; call it again while something waits. For a trusted backend."""
        return RetentionRun.model_validate(await self._transport.json("POST", "/retention/run", repeatable=True))

    async def archive_page(self, conversation_id: str, *, limit: int = 50, cursor: str | None = None) -> ArchivePage:
        """A page of segments, oldest first, and the runs that were discarded."""
        found = await self._get(path(conversation_id, "archive"), limit=limit, cursor=cursor)
        return ArchivePage.model_validate(found)

    async def archive(self, conversation_id: str) -> AsyncIterator[ArchiveSegment]:
        """Every segment, oldest first."""
        async for item in self._listed(ArchivePage, conversation_id, "archive"):
            yield item

    async def archive_segment(self, conversation_id: str, segment: int) -> bytes:
        """A segment's messages as JSON Lines, over which its `sha256` is."""
        where = path(conversation_id, "archive", str(segment))
        return await self._transport.content("GET", where, repeatable=True)

    async def export(
        self, conversation_id: str | None, *, part: Part = "live", form: Form = "jsonl"
    ) -> AsyncIterator[bytes]:
        """A conversation, or with None all of them, as of now: chunks of JSON Lines or CSV as they come."""
        where = path(conversation_id, "export") if conversation_id is not None else "/export"
        sent = self._transport.stream("GET", where, {"part": part, "form": form}, _EXPORT_SECONDS)
        async with aclosing(sent):  # whoever leaves in the middle ends the answer with it
            async for chunk in sent:
                yield chunk

    async def import_lines(
        self,
        conversation_id: str,
        lines: Iterable[bytes],
        importer: Importer | None = None,
        *,
        files: str | Path | None = None,
        without_files: bool = False,
    ) -> AsyncIterator[ImportProgress]:
        """Bring messages in, as JSON Lines of message objects in the order of time, with their authors and times; for
        a trusted backend. Yields how far it has come after each call. The same lines again add nothing, so one that
        was cut short, also by a restore of the store, is simply done again. A line with attachments needs its `files`,
        in a folder as `nestrel export --files` makes it, or comes `without_files`."""
        importer = importer or Importer()
        if files is not None:
            importer.attach = partial(self._bring_files, conversation_id, Path(files))
        elif without_files:
            importer.attach = _leave_out
        where = path(conversation_id, "import")
        async with aclosing(importer.chunks(lines)) as chunks:
            async for chunk in chunks:
                content = chunk.content()
                if content:
                    params = {"behind": importer.reached} if importer.reached else None
                    raw = await self._transport.json("POST", where, lines=content, params=params, repeatable=True)
                    importer.take(chunk, ImportAnswer.model_validate(raw))
                yield importer.progress(chunk)

    async def _bring_files(self, conversation_id: str, folder: Path, fields: dict[str, Any]) -> None:
        brought = []
        for one in fields["attachments"]:
            if not isinstance(one, dict) or not re.fullmatch("[0-9a-f]{64}", str(one.get("sha256"))):
                raise ValueError("attachments: each must be an object with a name and a sha256")
            file = folder / one["sha256"]
            if not await asyncio.to_thread(file.is_file):
                raise ValueError(f"attachments: {file.name} is not in {folder}: {one.get('name')}")
            name, author = str(one.get("name") or "file"), str(fields.get("author_id"))
            try:
                kept = await self.upload(conversation_id, file, name=name, on_behalf_of=author)
            except (InvalidRequest, TooLarge) as problem:
                raise ValueError(f"attachments: {problem.detail}") from None
            brought.append(kept.attachment_id)
        fields["attachments"] = brought

    async def preview_erasure(self, user_id: str) -> ErasurePreview:
        """What erasing a person would empty. For a trusted backend, as what follows."""
        answer = await self._transport.json("POST", "/erasures/preview", body={"user_id": user_id}, repeatable=True)
        return ErasurePreview.model_validate(answer)

    async def erase(self, user_id: str, *, identity: bool = False) -> Erasure:
        """Erase a person; nothing brings back what they wrote. It goes on in the background: see `erasure`. With
        `identity` their user id goes as well: where an author is shown it is `shown_as`, and nobody signs in with the
        id until `delete_erasure`."""
        body = {"user_id": user_id, "confirm": True, "identity": identity}
        return Erasure.model_validate(await self._transport.json("POST", "/erasures", body=body))

    async def delete_erasure(self, erasure_id: str) -> None:
        """Let an identity that was erased be somebody's again, as one who was never here. Nothing comes back."""
        await self._transport.json("DELETE", f"/erasures/{erasure_id}", repeatable=True)

    async def erasure(self, erasure_id: str) -> Erasure:
        """The record of an erasure, and how far it has come."""
        return Erasure.model_validate(await self._get(f"/erasures/{erasure_id}"))

    async def erasures(self) -> AsyncIterator[Erasure]:
        """All records, newest first."""
        cursor = None
        while True:
            page = ErasurePage.model_validate(await self._get("/erasures", limit=200, cursor=cursor))
            for item in page.items:
                yield item
            if (cursor := page.next) is None:
                return
