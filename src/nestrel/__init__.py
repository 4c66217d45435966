"""Nestrel, the conversation store behind chat."""

__version__ = "0.2.0"
