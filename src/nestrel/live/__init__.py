"""From a commit to its followers: the bus between processes, the hub within one, and what a connection follows."""
