"""Keep a replica in a file current, and say what that took."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

import click

import nestrel.client
from nestrel.cli import output
from nestrel.cli.options import as_json, with_service
from nestrel.core.problems import NestrelError

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Resynced, Standing, SyncedReplica


@click.command()
@click.option(
    "--into",
    required=True,
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="The replica's SQLite file; made if it is not there.",
)
@click.option("--watch", is_flag=True, help="Stay, and keep it current until interrupted; reconnects by itself.")
@as_json
@with_service
def resync(url: str, token: str, into: Path, watch: bool, as_json: bool) -> None:
    """Bring a replica of all your conversations to date, and say what was fetched.

    It holds what the service sends: the newest page of a conversation that is new to it, and all that came since. Its
    outbox, if an application left something there, is sent with --watch.
    """
    import asyncio  # late, as the library

    asyncio.run(_watch(url, token, into, as_json) if watch else _once(url, token, into, as_json))


async def _once(url: str, token: str, into: Path, as_json: bool) -> None:
    async with nestrel.client.AsyncClient(url, token) as client:
        replica = client.replica(into)
        try:
            _tell(replica, await replica.resync(), as_json)
        finally:
            replica.file.close()


async def _watch(url: str, token: str, into: Path, as_json: bool) -> None:
    async with nestrel.client.AsyncClient(url, token) as client, client.replica(into) as replica:
        screen = _Screen(as_json)
        while True:
            await replica.until(screen.differs)
            screen.show(replica)
            if replica.state.state is nestrel.client.ReplicaState.REFUSED:
                raise NestrelError(replica.state.reason)


class _Screen:
    """What was printed of a replica that is watched."""

    def __init__(self, as_json: bool) -> None:
        self._as_json = as_json
        self._state: Standing | None = None
        self._report: Resynced | None = None

    def differs(self, replica: SyncedReplica) -> bool:
        return replica.state != self._state or replica.last_resync is not self._report

    def show(self, replica: SyncedReplica) -> None:
        if replica.last_resync is not self._report and replica.last_resync is not None:
            _tell(replica, replica.last_resync, self._as_json)
        self._report = replica.last_resync
        if replica.state != self._state:
            self._state = replica.state
            _tell_state(replica.state, self._as_json)


def _tell_state(standing: Standing, as_json: bool) -> None:
    if as_json:
        output.json_line({"state": standing.state.value, "reason": standing.reason})
    else:
        reason = f": {output.one_line(standing.reason)}" if standing.reason else ""
        click.echo(f"{standing.state.value.replace('_', ' ')}{reason}", err=True)


def _tell(replica: SyncedReplica, report: Resynced, as_json: bool) -> None:
    conversations, messages = replica.counts()
    if as_json:
        held = {"held_conversations": conversations, "held_messages": messages}
        output.json_line({**asdict(report), "seconds": round(report.seconds, 4), **held})
        return
    table = output.grid(headings=False)
    table.add_column(style="cyan")
    table.add_column(justify="right")
    table.add_column(style="dim")
    came = f"{report.joined:,} new, {report.gone:,} gone" if report.joined or report.gone else ""
    table.add_row("conversations moved", f"{report.conversations:,}", came)
    table.add_row("rows", f"{report.rows:,}", "messages and members")
    table.add_row("bytes", f"{report.bytes:,}", "")
    table.add_row("milliseconds", f"{report.seconds * 1000:,.0f}", f"in {output.counted(report.requests, 'answer')}")
    table.add_row("now held", f"{messages:,}", f"messages in {output.counted(conversations, 'conversation')}")
    output.console().print(table)
