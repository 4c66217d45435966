"""Decisions without I/O: no clock, no socket, no SQL. Time and ids come in as arguments."""
