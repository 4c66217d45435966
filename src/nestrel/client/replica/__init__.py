"""A client's own copy of its conversations, in one SQLite file, and what keeps it current."""
