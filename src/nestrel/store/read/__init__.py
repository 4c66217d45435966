"""Reads: pages, changes, resyncs and lists. Nothing here changes anything."""
