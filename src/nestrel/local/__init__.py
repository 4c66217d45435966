"""Servers that nestrel starts on this machine when no other is set: for development, the demo and the tests."""
