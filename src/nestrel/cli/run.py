"""Run the service and keep its schema."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from nestrel.cli.options import of_the_service, settings_or_exit
from nestrel.core.problems import StoreUnavailable

if TYPE_CHECKING:  # each command imports the service when it runs
    from nestrel.service.settings import Settings


def _with_database(settings: Settings) -> str:
    if settings.database_url is None:
        raise click.UsageError(
            "NESTREL_DATABASE_URL is not set; set it to postgresql://user@host:port/database, or try nestrel demo"
        )
    return settings.database_url


@click.command()
@click.option("--host", help="Address to listen on.  [default: 127.0.0.1]")
@click.option("--port", type=click.IntRange(0, 65535), help="Port to listen on.  [default: 8460]")
@click.option("--workers", type=click.IntRange(1, 64), default=1, show_default=True, help="Processes that serve.")
@of_the_service
def serve(host: str | None, port: int | None, workers: int) -> None:
    """Run the service until SIGTERM, which drains it.

    Settings come from NESTREL_… variables and nestrel.toml; the schema must be to date (nestrel db upgrade).
    """
    settings = settings_or_exit(host=host, port=port)
    _with_database(settings)
    if not settings.secrets and settings.jwks_url is None:
        raise click.UsageError(
            "no way to check tokens: set NESTREL_JWT_SECRET or NESTREL_JWT_SECRET_FILE, or NESTREL_JWKS_URL with "
            "NESTREL_ISSUER and NESTREL_AUDIENCE"
        )
    from nestrel.service import server

    try:
        server.serve(settings, workers, lambda address: click.echo(f"nestrel listens on {address}", err=True))
    except server.CannotListen as error:
        raise click.ClickException(str(error)) from None


@click.group()
def db() -> None:
    """The database schema."""


@db.command()
@click.option("--before", is_flag=True, help="Only what the version that runs now can serve with, too.")
@of_the_service
def upgrade(before: bool) -> None:
    """Bring the schema to date; changes nothing when it is.

    Without a pause: run it with --before, replace the service's processes one after the other, and run it once more
    when none of the version before is left. Nothing waits for long: what is locked is tried again.
    """
    import asyncio

    from nestrel.store import schema
    from nestrel.store.troubles import driver_error, is_away

    settings = settings_or_exit()
    url = _with_database(settings)
    try:
        was, at = asyncio.run(schema.upgrade(url, settings.schema_, before=before))
    except schema.Unfit as error:
        raise click.ClickException(str(error)) from None
    except Exception as error:
        reason = str(driver_error(error)).strip().splitlines() or [type(error).__name__]
        what = "the database cannot be used now" if is_away(error) else "the schema could not be brought to date"
        raise click.ClickException(f"{what}: {reason[0]}") from None
    click.echo(f"the schema is at {at}" if was == at else f"upgraded from {was or 'nothing'} to {at}")
    if at != schema.newest():
        click.echo("when nothing of the version before runs any more: nestrel db upgrade")


@db.command()
@click.argument("parts", type=click.IntRange(2, 64))
@of_the_service
def partition(parts: int) -> None:
    """Hash the rows of conversations over PARTS partitions, for a store that has outgrown one table.

    To be run while no service runs. All rows are written anew, in one transaction; there is no way back but a dump.
    Each look-up locks every partition of its tables then: nothing for a store that one table serves well.
    """
    import asyncio

    import asyncpg

    from nestrel.store import partitions

    settings = settings_or_exit()
    try:
        done = asyncio.run(partitions.partition(_with_database(settings), parts, settings.schema_))
    except partitions.InUse:
        raise click.ClickException("something is connected to the database: stop the services first") from None
    except (asyncpg.PostgresError, OSError) as error:
        reason = str(error).strip().splitlines() or [type(error).__name__]
        raise click.ClickException(f"nothing was changed: {reason[0]}") from None
    click.echo(f"{len(done)} tables now have {parts} partitions each" if done else "the tables have partitions already")


@db.command()
@of_the_service
def restored() -> None:
    """Say that the database was loaded from a dump, or started from a copy of files.

    To be run before the service starts on it. Clients that hold more than the database does begin anew then; without
    it, what a copy of files has lost would not be known. A promotion and a switchover need it not.
    """
    import asyncio

    from nestrel.store import epochs
    from nestrel.store.database import Database
    from nestrel.store.histories import NewEpoch

    settings = settings_or_exit()
    database = Database(_with_database(settings), schema=settings.schema_)

    async def mark() -> None:
        try:
            async with database.read() as connection:
                await epochs.begin(connection, set_back=database.history.known.present)
        finally:
            await database.close()

    try:
        asyncio.run(mark())
    except (StoreUnavailable, NewEpoch) as error:
        raise click.ClickException(getattr(error, "detail", None) or "the schema is not there yet") from None
    click.echo("marked: cursors of before are held against what the database has now")


@db.command()
@click.option("--owner", default="nestrel_owner", show_default=True, help="Owns the schema and migrates it.")
@click.option("--serving", default="nestrel_serving", show_default=True, help="What the service runs as.")
@click.option("--posting", multiple=True, metavar="ROLE", help="An application's own: it may leave posts, "
              "conversations and people in its transactions.")  # fmt: skip
@of_the_service
def roles(owner: str, serving: str, posting: tuple[str, ...]) -> None:
    """Make a role that owns the schema, and one for serving that can do no more than it must.

    To be run as somebody who may make roles, and again after each upgrade. The service then runs as the second one:
    it can read and write rows, but changes no table, and nothing that the audit says. New roles have no password yet.
    """
    import asyncio

    import asyncpg

    from nestrel.store import roles as making

    settings = settings_or_exit()
    if len({owner, serving, *posting}) < 2 + len(posting):
        raise click.UsageError("no two of the roles may be one")
    try:
        made = asyncio.run(making.make(_with_database(settings), owner, serving, settings.schema_, posting))
    except (asyncpg.PostgresError, OSError) as error:
        reason = str(error).strip().splitlines() or [type(error).__name__]
        raise click.ClickException(f"nothing was changed: {reason[0]}") from None
    for role in made:
        click.echo(f"made {role}; give it a password: ALTER ROLE {role} PASSWORD …")
    click.echo(f"{owner} owns the schema and runs nestrel db upgrade; {serving} serves")
    for role in posting:
        click.echo(f"{role} may call {settings.schema_}.post and its siblings, and nothing else")


@db.command()
@of_the_service
def status() -> None:
    """Say which revision the schema is at; exit 1 if it is not the newest."""
    import asyncio

    from nestrel.store import schema
    from nestrel.store.database import Database

    settings = settings_or_exit()
    database = Database(_with_database(settings), schema=settings.schema_)

    async def look() -> str | None:
        try:
            async with database.read() as connection:
                return await schema.current(connection.sql, settings.schema_)
        finally:
            await database.close()

    try:
        at, needed = asyncio.run(look()), schema.needed()
    except StoreUnavailable as problem:
        raise click.ClickException(problem.detail) from None
    click.echo(f"the schema is at {at or 'nothing'}; this version needs {needed}")
    if not schema.serves(at):
        raise SystemExit(1)
