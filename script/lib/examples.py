"""Writes src/nestrel/service/examples.json: a request and an answer of each call of the OpenAPI document, as a demo
gives them. Run beside `nestrel demo` by script/examples, with NESTREL_URL and NESTREL_DATA_DIR."""

from __future__ import annotations

import json
import os
import re
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import quote

import httpx

from nestrel.demo import files
from nestrel.service.minting import SERVICE_SCOPE, mint

OUT = Path(__file__).parents[2] / "src/nestrel/service/examples.json"
_LONG = re.compile(r"[A-Za-z0-9_-]{60,}")
_SHOWN = 2
"""Items of a list."""


def shortened(value: Any, name: str = "") -> Any:
    """An example that is read: short lists, and no cursor or secret of anybody's."""
    if isinstance(value, dict):
        return {key: shortened(one, key) for key, one in list(value.items())[: 8 if name == "by_day" else None]}
    if isinstance(value, list):
        return [shortened(one) for one in value[:_SHOWN]]
    if isinstance(value, str) and name in ("secret", "token"):
        return "whsec_c2hvd24gb25jZQ==" if name == "secret" else "c2hvd24gb25jZQ"
    if isinstance(value, str) and name != "sha256":
        return _LONG.sub("AmEAAAAAAAAAAQ", value)
    return value


class Recorder:
    """Calls a demo, and keeps what was asked and answered under the name of each call."""

    def __init__(self, url: str) -> None:
        self.kept: dict[str, dict[str, Any]] = {}
        trust = files.read(Path(os.environ["NESTREL_DATA_DIR"]))
        assert trust is not None
        self._trust = trust
        self._http = httpx.Client(base_url=url, timeout=60)

    def _token(self, user: str) -> str:
        trust = self._trust
        return mint(
            trust.secret, user, seconds=3600, now=int(time.time()), issuer=trust.issuer, audience=trust.audience,
            scope=SERVICE_SCOPE if user == "office" else None,
        )  # fmt: skip

    def call(
        self, name: str, method: str, path: str, body: Any = None, *, user: str = "mara", lines: str | None = None
    ) -> Any:
        """Make a call as a member, or as the backend `office`; its answer."""
        headers = {"Authorization": f"Bearer {self._token(user)}"}
        content = lines.encode() if lines is not None else None
        answer = self._http.request(method, path, json=body, content=content, headers=headers)
        assert answer.is_success, (name, answer.status_code, answer.text)
        found = answer.json() if answer.content else None
        kept: dict[str, Any] = {} if body is None else {"request": shortened(body)}
        if found is not None:
            kept["answer"] = shortened(found)
        self.kept.setdefault(name, kept)
        return found

    def upload(self, path: str, content: bytes, name: str) -> Any:
        headers = {
            "Authorization": f"Bearer {self._token('mara')}",
            "Content-Disposition": f"attachment; filename*=UTF-8''{quote(name)}",
        }
        answer = self._http.post(path, content=content, headers=headers).raise_for_status().json()
        self.kept.setdefault("uploadAttachment", {"answer": shortened(answer)})
        return answer


def main() -> None:
    to = Recorder(os.environ["NESTREL_URL"])
    call = to.call
    call("checkHealth", "GET", "/healthz")
    call("checkReadiness", "GET", "/readyz")
    call("getMe", "GET", "/v1/me")
    call("changeMe", "PATCH", "/v1/me", {"display_name": "Mara Quill"})
    call("putPerson", "PUT", "/v1/people/ines-holm", {"display_name": "Ines Holm"}, user="office")
    made = call("makeConversation", "POST", "/v1/conversations",
                {"name": "berth-4", "title": "Berth 4", "members": ["odd", "noor"]})  # fmt: skip
    place = f"/v1/conversations/{made['id']}"
    call("listConversations", "GET", "/v1/conversations?limit=2")
    call("getConversation", "GET", place)
    call("changeConversation", "PATCH", place, {"title": "Berth 4, north side"})
    call("putMember", "PUT", f"{place}/members/ines-holm", {"role": "reader"})
    call("changeMember", "PATCH", f"{place}/members/ines-holm", {"role": "writer"})
    call("listMembers", "GET", f"{place}/members")
    file = to.upload(f"{place}/attachments", b"tide table of berth 4\n", "tides.txt")
    call("makeAttachmentLink", "POST", f"{place}/attachments/{file['attachment_id']}/link", {"expires_in": 3600})
    body = {"body": "High tide at ten.", "mentions": ["odd"], "attachments": [file["attachment_id"]]}
    call("postMessage", "POST", f"{place}/messages", body)
    batch = [{"key": "log 1", "body": "Ramp down."}, {"key": "log 2", "body": "Ramp up."}]
    call("postMessages", "POST", f"{place}/messages/batch", {"messages": batch})
    call("editMessage", "PATCH", f"{place}/messages/1", {"body": "High tide at eleven."})
    call("putReaction", "PUT", f"{place}/messages/1/reactions/like", user="odd")
    for name, rest in (
        ("getMessage", "messages/1"), ("listMessages", "messages?limit=2"), ("listEdits", "messages/1/edits"),
        ("listReactions", "messages/1/reactions"), ("listReaders", "messages/1/readers"), ("getChanges", "changes"),
    ):  # fmt: skip
        call(name, "GET", f"{place}/{rest}")
    call("removeReaction", "DELETE", f"{place}/messages/1/reactions/like", user="odd")
    call("putReceipt", "PUT", f"{place}/receipt", {"read_seq": 3})
    report = call(
        "reportMessage", "POST", f"{place}/messages/2/reports", {"reason": "not about this berth"}, user="odd"
    )
    call("listReports", "GET", "/v1/reports?limit=2", user="office")
    call("settleReport", "PATCH", f"/v1/reports/{report['report_id']}", {"state": "done"}, user="office")
    call("removeMessage", "DELETE", f"{place}/messages/3")
    call("resync", "POST", "/v1/resync", {})
    call("searchMessages", "GET", "/v1/search?q=tide&limit=2")
    call("listPeople", "GET", "/v1/people?limit=2")
    call("getPerson", "GET", "/v1/people/odd")
    call("listMessagesOfPerson", "GET", "/v1/people/odd/messages?limit=1")
    call("blockPerson", "PUT", "/v1/me/blocked/kaz", {})
    call("getBlocked", "GET", "/v1/me/blocked/kaz")
    call("listBlocked", "GET", "/v1/me/blocked")
    call("keepOut", "PUT", f"{place}/kept-out/noor", {"reason": "moved to another terminal"})
    call("listKeptOut", "GET", f"{place}/kept-out")
    invited = call("makeInvitation", "POST", f"{place}/invitations", {"role": "writer", "uses": 5})
    call("listInvitations", "GET", f"{place}/invitations")
    call("getInvitation", "GET", f"/v1/invitations/{invited['token']}", user="brid")
    call("acceptInvitation", "POST", f"/v1/invitations/{invited['token']}/accept", user="brid")
    rule = {"keep_last": 500, "then": "archive"}
    call("previewRetention", "POST", f"{place}/retention/preview", rule)
    call("putRetention", "PUT", f"{place}/retention", rule)
    call("getRetention", "GET", f"{place}/retention")
    call("getServiceRetention", "GET", "/v1/retention?kind=bulletin", user="office")
    old = {"keep_for": "P10Y", "then": "archive"}
    call("previewServiceRetention", "POST", "/v1/retention/preview", old, user="office")
    call("putServiceRetention", "PUT", "/v1/retention", old, user="office")
    call("runRetention", "POST", "/v1/retention/run", user="office")
    call("listArchive", "GET", f"{place}/archive")
    written = {"author_id": "odd", "body": "From the old log.", "created_at": "2026-01-05T08:00:00Z", "key": "1"}
    log = call("makeConversation", "POST", "/v1/conversations", {"name": "old-log"}, user="office")
    call(
        "importMessages",
        "POST",
        f"/v1/conversations/{log['id']}/import",
        user="office",
        lines=json.dumps(written) + "\n",
    )
    call("getPushKey", "GET", "/v1/push-key")
    device = {"endpoint": "https://push.example.org/device/7", "keys": {
        "p256dh": "BCVxsr7N_eNgVRqvHtD0zTZsEc6-VV-JvLexhqUzORcxaOzi6-AYWXvTBHm4bjyPjs7Vd8pZGH6SRpkNtoIAiw4",
        "auth": "BTBZMqHH6r4Tts7J_aSIgg"}}  # fmt: skip
    try:
        call("putPushSubscription", "PUT", "/v1/me/push-subscriptions", device)
    except AssertionError as error:  # without a network the name of a push service leads nowhere
        print("left out:", error)
    call("listPushSubscriptions", "GET", "/v1/me/push-subscriptions")
    hook = call("makeWebhook", "POST", "/v1/webhooks", {"url": "http://127.0.0.1:9/in"}, user="office")
    of = f"/v1/webhooks/{hook['webhook_id']}"
    call("changeWebhook", "PATCH", of, {"state": "paused"}, user="office")
    call("replayWebhook", "POST", f"{of}/replay", {"from": "start"}, user="office")
    call("getWebhook", "GET", of, user="office")
    call("listWebhooks", "GET", "/v1/webhooks?limit=1", user="office")
    call("listDeliveries", "GET", f"{of}/deliveries", user="office")
    until = (datetime.now(UTC) + timedelta(days=7)).strftime("%Y-%m-%dT%H:%M:%SZ")
    call("suspendPerson", "PUT", "/v1/people/brid/suspension", {"until": until, "reason": "on leave"}, user="office")
    call("signOutPerson", "POST", "/v1/people/brid/sign-out", {}, user="office")
    call("previewErasure", "POST", "/v1/erasures/preview", {"user_id": "brid"}, user="office")
    erased = call("erasePerson", "POST", "/v1/erasures", {"user_id": "brid", "confirm": True}, user="office")
    call("getErasure", "GET", f"/v1/erasures/{erased['id']}", user="office")
    call("listErasures", "GET", "/v1/erasures?limit=1", user="office")
    call("listAudit", "GET", "/v1/audit?limit=2", user="office")
    call("listConnections", "GET", "/v1/connections?limit=2", user="office")
    call("getService", "GET", "/v1/service", user="office")
    call("listUsage", "GET", "/v1/usage?by=hour&of=service&limit=2", user="office")
    OUT.write_text(json.dumps(to.kept, indent=1, sort_keys=True, ensure_ascii=False) + "\n")
    print(f"{len(to.kept)} calls in {OUT.name}")


if __name__ == "__main__":
    main()
