"""The write path: every command ends here, under the lock of its conversation."""
