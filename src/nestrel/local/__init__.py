"""What nestrel runs on this machine for itself, where it is told of no server: development, the demo, the tests."""
