"""The audit in words."""

from __future__ import annotations

from typing import Any

import pytest

from nestrel.core.audit import Act
from nestrel.core.audit_text import words
from nestrel.core.durations import in_words

_RULE = {"keep_last": 1200, "keep_for": "P45D", "keep_bytes": None, "then": "archive", "hold": True, "own": True}


@pytest.mark.parametrize(
    ("act", "before", "after", "text"),
    [
        ("posted-for", None, {"count": 1_200}, "1,200 messages"),
        ("uploaded-for", None, {"count": 1}, "1 file"),
        ("uploaded-for", None, {"attachment_id": "x"}, ""),  # of before they were counted
        ("imported", None, {"lines": 50_000}, "50,000 lines"),
        ("member-role", {"role": "writer"}, {"role": "moderator"}, "writer → moderator"),
        ("member-added", {"role": None}, {"role": "reader"}, "as reader"),
        ("member-removed", {"role": "writer"}, None, "was writer"),
        ("kept-out", {"role": "writer"}, {"until": None}, "was writer, for good"),
        ("suspended", None, {"until": "2026-12-03T09:30:00.000000Z"}, "until 2026-12-03 09:30 UTC"),
        ("signed-out", None, {"not_before": "2026-12-03T09:30:00Z"}, "tokens made before 2026-12-03 09:30 UTC"),
        ("report-settled", {"state": "open"}, {"state": "done"}, "open → done"),
        ("rule-set", None, _RULE, "keeps the newest 1,200 messages and what is younger than 45 days, archives the "
         "rest, on hold"),
        ("rule-cleared", None, {"keep_last": None, "hold": False}, "keeps everything"),
        ("invited", None, {"invitation_id": "x", "role": "writer", "uses": None, "expires_in": 604_800},
         "as writer, any number of uses, valid for 7 days"),
        ("conversation-made", None, {"kind": "group", "members": 2}, "group, 2 members"),
        ("conversation-changed", None, {"fields": ["title", "visibility"], "visibility": "closed"},
         "changed title, visibility, now private"),
        ("webhook-changed", {"webhook_id": "x", "state": "active"}, {"state": "paused", "url": False, "secret": True},
         "active → paused, a new secret"),
        ("webhook-replayed", None, {"webhook_id": "x", "from": None}, "from its cursor"),
        ("exported", None, {"all": True}, "every conversation"),
        ("let-in", None, None, ""),
    ],
)  # fmt: skip
def test_an_act_is_said_in_words(act: str, before: dict[str, Any], after: dict[str, Any], text: str) -> None:
    assert words(act, before, after) == text
    assert Act(act) in Act


@pytest.mark.parametrize(
    ("text", "said"),
    [("P45D", "45 days"), ("P1Y6M", "1 year 6 months"), ("PT36H", "1 day 12 hours"), ("P2W", "14 days"),
     ("PT90S", "1 minute 30 seconds"), ("PT0.5S", "PT0.5S"), ("soon", "soon")],
)  # fmt: skip
def test_a_duration_is_said_in_words(text: str, said: str) -> None:
    assert in_words(text) == said
