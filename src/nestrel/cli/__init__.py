"""The command line: thin commands over the client library, and the ones that run the service."""
