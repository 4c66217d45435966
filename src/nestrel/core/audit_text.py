"""Words for an entry of the audit, for people who read a list of them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from nestrel.core.audit import Act
from nestrel.core.durations import in_words
from nestrel.core.times import parse_time

Values = Mapping[str, Any] | None

_COUNTED = {
    Act.POSTED_FOR: ("message", "messages"),
    Act.UPLOADED_FOR: ("file", "files"),
    Act.IMPORTED: ("line", "lines"),
}
_RULES = (Act.RULE_SET, Act.RULE_CLEARED, Act.SERVICE_RULE_SET)
_UNTIL = (Act.KEPT_OUT, Act.SUSPENDED)


def words(act: str, before: Values, after: Values) -> str:
    """What an act did, in words: its values without the ids, which stand in fields of their own. Empty where the act
    says all. Times are in UTC."""
    before, after = before or {}, after or {}
    if act in _COUNTED:
        number = after.get("count", after.get("lines"))
        return "" if number is None else _number(number, *_COUNTED[Act(act)])
    if act in _RULES:
        return ", ".join([*([f"of kind {after['kind']}"] if "kind" in after else []), _rule(after)])
    parts = [_change(name, before.get(name), after.get(name)) for name in ("role", "state")]
    if act in _UNTIL:
        parts.append("for good" if after.get("until") is None else f"until {_time(after['until'])}")
    parts += [text for name, said in _SAID.items() if name in after and (text := said(after[name]))]
    return ", ".join(part for part in parts if part)


def _number(number: int, one: str, many: str) -> str:
    return f"{number:,} {one if number == 1 else many}"


def _change(name: str, before: object, after: object) -> str:
    if name == "role" and before is None and after is not None:
        return f"as {after}"
    if before == after:
        return ""
    if after is None:
        return f"was {before}"
    return str(after) if before is None else f"{before} → {after}"


def _time(text: str) -> str:
    try:
        return f"{parse_time(text):%Y-%m-%d %H:%M} UTC"
    except ValueError:
        return text


def _rule(rule: Mapping[str, Any]) -> str:
    kept = []
    if rule.get("keep_last") is not None:
        kept.append(f"the newest {_number(rule['keep_last'], 'message', 'messages')}")
    if rule.get("keep_for") is not None:
        kept.append(f"what is younger than {in_words(rule['keep_for'])}")
    if rule.get("keep_bytes") is not None:
        kept.append(_number(rule["keep_bytes"], "byte", "bytes"))
    parts = [f"keeps {' and '.join(kept)}" if kept else "keeps everything"]
    if kept:
        parts.append("discards the rest" if rule.get("then") == "discard" else "archives the rest")
    if rule.get("hold"):
        parts.append("on hold")
    return ", ".join(parts)


def _seconds(value: int | None) -> str:
    return "" if value is None else f"valid for {in_words(f'PT{value}S')}"


def _from(value: str | None) -> str:
    if value is None:
        return "from its cursor"
    return "everything, from the start" if value == "start" else f"from {_time(value)}"


_SAID: dict[str, Callable[[Any], str]] = {
    "kind": str,
    "members": lambda value: _number(value, "member", "members"),
    "fields": lambda value: f"changed {', '.join(value).replace('_', ' ')}" if value else "",
    "visibility": lambda value: f"now {'open' if value == 'open' else 'private'}",
    "post_interval": lambda value: f"one message every {value} s" if value else "no pause between messages",
    "default": lambda value: "for everybody" if value else "not for everybody",
    "uses": lambda value: "any number of uses" if value is None else _number(value, "use", "uses"),
    "expires_in": _seconds,
    "not_before": lambda value: f"tokens made before {_time(value)}",
    "all": lambda value: "every conversation" if value else "",
    "type": lambda value: f"sends {value}",
    "url": lambda value: "a new address" if value is True else "",
    "secret": lambda value: "a new secret" if value is True else "",
    "from": _from,
}
