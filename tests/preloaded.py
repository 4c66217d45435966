"""What commands and services import, imported once by the process that is forked for each of them."""

from importlib import import_module

import nestrel.service.server  # noqa: F401 - so that a fork has it
from nestrel.cli.main import COMMANDS

for _command in COMMANDS.values():
    import_module(f"nestrel.cli.{_command.module}")
for _module in ("client.aio", "client.replica.synced", "client.importing", "store.schema"):
    import_module(f"nestrel.{_module}")
