"""Make tokens for development and scripts."""

from __future__ import annotations

import time

import click

from nestrel.cli.options import settings_or_exit
from nestrel.core.text import check_user_id
from nestrel.demo import files


@click.command()
@click.argument("user")
@click.option("--name", help="Display name that the profile gets at first sight.")
@click.option("--picture", help="Address of a picture.")
@click.option("--service", is_flag=True, help="A trusted backend: may name another author, sees every conversation.")
@click.option(
    "--hours", type=click.FloatRange(0.01, 8760), default=12.0, show_default=True, help="How long it is valid."
)
def token(user: str, name: str | None, picture: str | None, service: bool, hours: float) -> None:
    """Print a token that speaks for USER.

    Signed with the first secret of NESTREL_JWT_SECRET or NESTREL_JWT_SECRET_FILE, or with that of the demo when there
    is one.
    """
    from nestrel.service.minting import SERVICE_SCOPE, mint

    settings = settings_or_exit()
    if settings.secrets:
        secret, issuer, audience = settings.secrets[0], settings.issuer, settings.audience
    elif (trust := files.read(settings.data_dir)) is not None:
        secret, issuer, audience = trust.secret, trust.issuer, trust.audience
    else:
        raise click.UsageError("NESTREL_JWT_SECRET is not set, and no demo has been started here")
    try:
        check_user_id(user)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="USER") from None
    click.echo(
        mint(
            secret,
            user,
            seconds=round(hours * 3600),
            now=int(time.time()),
            issuer=issuer,
            audience=audience,
            name=name,
            picture=picture,
            scope=SERVICE_SCOPE if service else None,
        )
    )
