"""Conversation ids: UUID version 7 (RFC 9562), which sort by the time they were made."""

from __future__ import annotations

from uuid import UUID


def uuid7(unix_ms: int, random: bytes) -> UUID:
    """A UUIDv7 from a time in milliseconds and 10 random bytes."""
    value = unix_ms << 80 | int.from_bytes(random[:10], "big")
    value = value & ~(0xF << 76) | 0x7 << 76
    value = value & ~(0x3 << 62) | 0x2 << 62
    return UUID(int=value)
