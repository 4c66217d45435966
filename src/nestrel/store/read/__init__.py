"""What is asked of the store: pages, changes, resyncs, lists. Nothing here changes anything."""
