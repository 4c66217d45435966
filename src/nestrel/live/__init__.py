"""From a commit to its followers: the bus between processes and the hub within one."""
