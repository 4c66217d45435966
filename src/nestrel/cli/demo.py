"""`nestrel demo`: the whole product with the Skerry Line's data, on this machine alone."""

from __future__ import annotations

import signal
import sys

import click

from nestrel.cli import output
from nestrel.cli.options import of_the_service, settings_or_exit
from nestrel.demo import files

_WELCOME = """
  Nestrel runs with the data of the Skerry Line.

  console   {address}/console/      choose a member; open a second window as another
  command   export NESTREL_TOKEN=$(nestrel token mara)
            nestrel conversations list
            nestrel post control-room "Fog on the sound, all vessels slow."
  curl      curl -H "Authorization: Bearer $NESTREL_TOKEN" {address}/v1/me

  Ctrl+C ends it; the data stays in {folder}.
"""


@click.command()
@click.option("--host", help="Address to listen on; only loopback.  [default: 127.0.0.1]")
@click.option("--port", type=click.IntRange(1, 65535), help="Port to listen on.  [default: 8460]")
@click.option("--issuer-port", type=click.IntRange(1, 65535), default=files.ISSUER_PORT, show_default=True,
              help="Port of the stand-in identity issuer.")  # fmt: skip
@click.option("--workers", type=click.IntRange(1, 64), default=1, show_default=True, help="Processes that serve.")
@of_the_service
def demo(host: str | None, port: int | None, issuer_port: int, workers: int) -> None:
    """Start everything with example data: database, issuer, service, console.

    Without NESTREL_DATABASE_URL a PostgreSQL of its own runs on loopback, with its data under NESTREL_DATA_DIR.
    """
    settings = settings_or_exit(host=host, port=port)
    # Until the service drains on it by itself, SIGTERM leaves in order: what was started here is ended.
    signal.signal(signal.SIGTERM, lambda _number, _frame: sys.exit(0))
    from nestrel.demo import run, seed
    from nestrel.demo.issuer import IssuerError
    from nestrel.files.opening import open_files
    from nestrel.local.postgres import PostgresError
    from nestrel.service import server
    from nestrel.store.schema import Unfit

    try:
        run.check_free(settings.host, settings.port, "--port")
        run.check_free("127.0.0.1", issuer_port, "--issuer-port")
        with run.database(settings) as url:
            with output.progress("writing the demo's data", seed.TOTAL) as advance:
                files = open_files(settings.files, settings.files_endpoint, settings.data_dir)
                run.fill(url, settings.data_dir, files, advance)
            with run.issuer(settings.model_copy(update={"database_url": url}), issuer_port) as ready:
                run.connect_stand_ins(url, settings, issuer_port)
                server.serve(ready, workers, lambda address: click.echo(_welcome(address, str(settings.data_dir))))
    except Unfit as error:
        raise click.ClickException(
            f"{error}. Or begin with another folder for the demo's data: NESTREL_DATA_DIR"
        ) from None
    except (IssuerError, PostgresError) as error:
        raise click.ClickException(str(error)) from None
    except OSError as error:
        raise click.ClickException(f"cannot start: {error.strerror or error}") from None


def _welcome(address: str, folder: str) -> str:
    return _WELCOME.format(address=address, folder=folder)
