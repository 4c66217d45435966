"""The settings of the service: one table, read from the environment and `nestrel.toml`, once, at start."""

from __future__ import annotations

import re
from datetime import timedelta
from ipaddress import IPv4Network, IPv6Network
from pathlib import Path
from typing import Annotated, Literal
from urllib.parse import urlsplit

from pydantic import AliasChoices, BeforeValidator, Field, SecretStr, field_validator, model_validator
from pydantic_settings import (
    BaseSettings,
    NoDecode,
    PydanticBaseSettingsSource,
    SettingsConfigDict,
    TomlConfigSettingsSource,
)

from nestrel.core.notices import Content
from nestrel.core.origins import check_origin_form
from nestrel.core.people import Profiles
from nestrel.core.quotas import Adding, Quotas
from nestrel.core.secrets import parse_secrets
from nestrel.core.targets import Allowed
from nestrel.files.opening import check_address
from nestrel.live import redis_address


def default_data_dir() -> Path:
    """Where a local PostgreSQL keeps its data: outside any home that another user could not enter."""
    home = Path.home()
    return Path("/var/lib/nestrel") if home == Path("/root") else home / ".local/share/nestrel"


def _parts(value: object) -> object:
    """A list, also as text with commas between."""
    return [part.strip() for part in value.split(",") if part.strip()] if isinstance(value, str) else value


def _urls(value: object) -> object:
    """A list of addresses, also as text; there are commas between the hosts of one address, too."""
    if not isinstance(value, str):
        return value
    return [part for part in re.split(r"[\s,]+(?=postgres\w*:)|\s+", value.strip()) if part]


def _check_address(url: str) -> None:
    """Refuse what is no address of a database, without the libraries that will use it."""
    try:
        parts = urlsplit(url)
        for host in parts.netloc.rpartition("@")[2].split(","):
            urlsplit(f"//{host}").port  # noqa: B018 - reading it is the check
    except ValueError:
        raise ValueError("the database URL must look like postgresql://user@host:port/database") from None
    if not parts.scheme:
        raise ValueError("the database URL must look like postgresql://user@host:port/database")
    if parts.scheme not in ("postgresql", "postgres", "postgresql+asyncpg"):
        raise ValueError(f"the database URL must begin with postgresql://, not {parts.scheme}://")


Names = Annotated[tuple[str, ...], NoDecode, BeforeValidator(_parts)]
Networks = Annotated[tuple[IPv4Network | IPv6Network, ...], NoDecode, BeforeValidator(_parts)]


class Settings(BaseSettings):
    """Each is an environment variable `NESTREL_…` or a key in lower case in `nestrel.toml`; the environment wins."""

    model_config = SettingsConfigDict(env_prefix="NESTREL_", toml_file="nestrel.toml", extra="forbid")

    database_url: Annotated[
        str | None,
        Field(
            description="postgresql://user@host:port/database; of several hosts with commas between, the primary is "
            "looked for"
        ),
    ] = None
    replica_urls: Annotated[
        tuple[str, ...],
        NoDecode,
        BeforeValidator(_urls),
        Field(
            description="standbys of the database that answer reads of history, archives, exports and search, with "
            "commas or spaces between"
        ),
    ] = ()
    pooler_url: Annotated[
        str | None,
        Field(
            description="the address of a PgBouncer in transaction mode that leads to the same database, for all work "
            "in the background; requests and who follows go to the database itself"
        ),
    ] = None
    schema_: Annotated[
        str,
        Field(
            validation_alias=AliasChoices("schema", "NESTREL_SCHEMA", "schema_"),
            pattern="^[a-z][a-z0-9_]{0,40}$",
            description="the PostgreSQL schema that holds all of its tables",
        ),
    ] = "nestrel"
    data_dir: Annotated[Path, Field(description="where a PostgreSQL that nestrel itself starts keeps its data")] = (
        Field(default_factory=default_data_dir)
    )
    jwt_secret: Annotated[
        SecretStr | None,
        Field(
            description="shared secret of HS256 tokens, 32 bytes or more; while it is changed, the new one and the one "
            "before with a comma between"
        ),
    ] = None
    jwt_secret_file: Annotated[
        Path | None, Field(description="a file that holds it instead; a comma or a line break between two")
    ] = None
    jwks_url: Annotated[str | None, Field(description="keys of an OpenID Connect issuer (RS256, ES256, EdDSA)")] = None
    jwks_seconds: Annotated[
        int,
        Field(
            ge=5,
            le=86_400,
            description="for how long the issuer's keys are taken before they are asked for again: so long a key still "
            "counts that was withdrawn",
        ),
    ] = 600
    issuer: Annotated[str | None, Field(description="the `iss` that tokens must have")] = None
    audience: Annotated[str | None, Field(description="the `aud` that tokens must have")] = None
    client_id: Annotated[str, Field(description="the console's client id at the issuer")] = "nestrel-console"
    host: Annotated[str, Field(description="address to listen on")] = "127.0.0.1"
    port: Annotated[int, Field(ge=0, le=65535, description="port to listen on")] = 8460
    bus: Annotated[
        str,
        Field(
            description="`postgres`, or the address of a Redis: redis://, "
            "rediss:// over TLS, redis+sentinel:// behind Sentinels"
        ),
    ] = "postgres"
    memory: Annotated[
        int,
        Field(
            ge=16,
            le=1_048_576,
            description="MiB that each process may take for connections, what is kept for followers and readers, and "
            "what is under way; its code and its data of fixed size come on top",
        ),
    ] = 512
    search: Annotated[bool, Field(description="whether this process keeps the search index and answers from it")] = True
    files: Annotated[
        str | None,
        Field(description="a folder for attachments, or s3://BUCKET/PREFIX; by default `files` in the data folder"),
    ] = None
    files_endpoint: Annotated[
        str | None, Field(description="the address of the S3-compatible store, where it is not the usual one")
    ] = None
    attachment_bytes: Annotated[
        int, Field(ge=1, le=5_000_000_000, description="bytes that one attachment may have")
    ] = 25_000_000
    directory: Annotated[
        Literal["shared", "all"],
        Field(description="whom a member finds: `shared`, who is or was in a conversation with them, or `all`"),
    ] = "shared"
    pool_size: Annotated[int, Field(ge=4, le=200, description="database connections of each process")] = 10
    edit_window: Annotated[
        timedelta | None,
        Field(
            gt=timedelta(0), description="how long a message can be edited, as in PT15M (ISO 8601); for ever when unset"
        ),
    ] = None
    catch_up_rows: Annotated[
        int,
        Field(
            ge=1,
            le=1_000_000,
            description="changed messages of a conversation that a catch-up brings at most; whoever was away for more "
            "begins anew at its newest page, and reads the rest as history",
        ),
    ] = 100_000
    checkpoint_seconds: Annotated[
        float, Field(ge=0.1, le=60, description="time between two checkpoints of those who follow all")
    ] = 3.0
    sign_ins: Annotated[
        int | None,
        Field(
            ge=1,
            le=100_000,
            description="WebSockets that a process takes a second; others are answered 503, to come again. Unset: as "
            "many as it finds it manages, and who comes at once waits for up to 10 s",
        ),
    ] = None
    stall_seconds: Annotated[
        float, Field(ge=1, le=600, description="how long a connection may leave what is sent to it unread")
    ] = 30.0
    sweep_seconds: Annotated[
        float, Field(ge=0.1, le=3600, description="time between two sweeps of what retention rules have expired")
    ] = 5.0
    metrics_port: Annotated[
        int | None, Field(ge=1, le=65535, description="a port for /metrics alone; it then leaves the public one")
    ] = None
    public_url: Annotated[str | None, Field(description="the address under which people reach the service")] = None
    hosts: Annotated[
        Names, Field(description="names that the service answers to, with commas between, beside the public one's")
    ] = ()
    origins: Annotated[
        Names,
        Field(
            description="origins whose pages may call the service beside its own, with scheme and port; `*` for any, "
            "whose pages then use tokens and no cookies"
        ),
    ] = ()
    proxies: Annotated[
        Networks, Field(description="networks (CIDR) whose Forwarded and X-Forwarded-For headers are believed")
    ] = ()
    webhook_hosts: Annotated[
        Names,
        Field(
            description="host names and networks (CIDR) that webhooks may reach beside the public internet, with "
            "commas between"
        ),
    ] = ()
    push_hosts: Annotated[
        Names,
        Field(
            description="the same for push services, where they are not on the public internet; this machine itself "
            "is to be named too"
        ),
    ] = ()
    push_content: Annotated[
        Content,
        Field(
            description="what a notice holds: `full`, `title` without the body, or `none` but that there is something"
        ),
    ] = Content.FULL
    token_seconds: Annotated[
        int, Field(ge=60, description="for how long a token may be valid at most; a longer one is refused")
    ] = 366 * 86_400
    console_connects: Annotated[
        Names,
        Field(
            description="origins that the console may send requests to beside the service and the issuer, as where an "
            "issuer gives out tokens at another host"
        ),
    ] = ()
    session_seconds: Annotated[
        int,
        Field(ge=60, description="for how long a browser's session cookie lasts at most; never longer than its token"),
    ] = 12 * 3_600
    profiles: Annotated[
        Profiles,
        Field(
            description="whose word a profile is: `first`, a token's at first sight and then its person's; `token`, "
            "that of each newer token; `backend`, a trusted backend's alone"
        ),
    ] = Profiles.FIRST
    unknown_members: Annotated[
        Literal["take", "refuse"],
        Field(
            description="whether somebody may be made a member who never signed in and was never put here by a backend"
        ),
    ] = "take"
    unique_names: Annotated[
        bool, Field(description="whether display names are one person's alone, and differ from others' ids (UTS #39)")
    ] = False
    make_conversations: Annotated[
        Literal["anyone", "backend"], Field(description="who makes conversations: `anyone` or only a `backend`")
    ] = "anyone"
    add_members: Annotated[
        Adding,
        Field(
            description="whom members add, or open a direct conversation with: `anyone`, who is `acquainted` with them "
            "from a direct or a closed group, or nobody, as a `backend` does it"
        ),
    ] = Adding.ANYONE
    quota_conversations: Annotated[
        int, Field(ge=0, description="conversations that a member makes in a day; 0 sets no limit, here and below")
    ] = 10_000
    quota_additions: Annotated[
        int, Field(ge=0, description="people whom a member adds in a day and is not acquainted with")
    ] = 5_000
    quota_members: Annotated[int, Field(ge=0, description="members of a conversation, default ones excepted")] = 10_000
    quota_memberships: Annotated[int, Field(ge=0, description="conversations that a member is in")] = 10_000
    quota_connections: Annotated[int, Field(ge=0, description="connections of each member; 0 sets no limit")] = 200
    usage_days: Annotated[
        int, Field(ge=0, le=10_000, description="days for which usage is kept; 0, and nothing is counted")
    ] = 400
    address_connections: Annotated[
        int, Field(ge=1, description="connections from each address that is no proxy of one's own")
    ] = 4_000
    rate_limit: Annotated[
        int | None,
        Field(ge=1, le=1_000_000, description="commands a minute for each member; no limit when unset, as below"),
    ] = None
    rate_limit_reads: Annotated[
        int | None, Field(ge=1, le=1_000_000, description="requests a minute of each member that only ask")
    ] = None
    rate_limit_address: Annotated[
        int | None,
        Field(
            ge=1, le=1_000_000, description="requests a minute of each address (IPv6: each /64) that is not signed in"
        ),
    ] = None
    drain_seconds: Annotated[
        float, Field(gt=0, le=600, description="how long a stopping process waits for work under way")
    ] = 20.0
    traces_url: Annotated[
        str | None,
        Field(
            pattern="^https?://",
            description="the address of a collector that takes traces (OTLP over HTTP); none are made when unset",
        ),
    ] = None
    traces_share: Annotated[
        float, Field(ge=0, le=1, description="the share of requests that are traced, of those of which nobody says so")
    ] = 0.01
    log_level: Annotated[str, Field(pattern="^(debug|info|warning|error)$", description="debug to error")] = "info"

    @classmethod
    def settings_customise_sources(
        cls,
        settings_cls: type[BaseSettings],
        init_settings: PydanticBaseSettingsSource,
        env_settings: PydanticBaseSettingsSource,
        dotenv_settings: PydanticBaseSettingsSource,
        file_secret_settings: PydanticBaseSettingsSource,
    ) -> tuple[PydanticBaseSettingsSource, ...]:
        return init_settings, env_settings, TomlConfigSettingsSource(settings_cls)

    @field_validator("database_url", "pooler_url")
    @classmethod
    def _database_url(cls, value: str | None) -> str | None:
        if value is not None:
            _check_address(value)
        return value

    @field_validator("replica_urls")
    @classmethod
    def _replica_urls(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        for url in value:
            _check_address(url)
        return value

    @field_validator("schema_")
    @classmethod
    def _schema(cls, value: str) -> str:
        if value.startswith("pg_"):
            raise ValueError("must not begin with pg_, which PostgreSQL keeps for itself")
        return value

    @field_validator("jwt_secret")
    @classmethod
    def _long_enough(cls, value: SecretStr | None) -> SecretStr | None:
        if value is not None:
            parse_secrets(value.get_secret_value())
        return value

    @field_validator("jwt_secret_file")
    @classmethod
    def _readable(cls, value: Path | None) -> Path | None:
        if value is not None:
            parse_secrets(_text_of(value))
        return value

    @field_validator("files")
    @classmethod
    def _files(cls, value: str | None) -> str | None:
        if value is not None:
            check_address(value)
        return value

    @field_validator("webhook_hosts", "push_hosts")
    @classmethod
    def _hosts(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        Allowed.parse(value)
        return value

    @field_validator("public_url")
    @classmethod
    def _public_url(cls, value: str | None) -> str | None:
        if value is None:
            return None
        parts = urlsplit(value.rstrip("/"))
        if parts.scheme not in ("http", "https") or not parts.netloc:
            raise ValueError("must be the whole address, as in https://chat.example.org")
        if parts.path or parts.query or parts.fragment:
            raise ValueError(
                "must have no path: the service answers at the root of a host. Give it a name of its own, as in "
                "https://chat.example.org"
            )
        return value.rstrip("/")

    @field_validator("origins")
    @classmethod
    def _origins(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(check_origin_form(origin) for origin in value)

    @field_validator("bus")
    @classmethod
    def _bus(cls, value: str) -> str:
        if value != "postgres":
            redis_address.parse(value)
        return value

    @property
    def url(self) -> str:
        """Where people find the console, as far as one knows."""
        return self.public_url or f"http://{self.host}:{self.port}"

    @property
    def quotas(self) -> Quotas:
        """What members may have, and do to others."""
        return Quotas(
            self.quota_conversations, self.quota_additions, self.quota_members, self.quota_memberships,
            self.make_conversations == "anyone", self.add_members, self.unknown_members == "refuse",
        )  # fmt: skip

    @property
    def secrets(self) -> tuple[str, ...]:
        """The shared secrets, the one that signs first. A file is read each time."""
        if self.jwt_secret is not None:
            return parse_secrets(self.jwt_secret.get_secret_value())
        return () if self.jwt_secret_file is None else parse_secrets(_text_of(self.jwt_secret_file))

    @model_validator(mode="after")
    def _tokens_are_clear(self) -> Settings:
        if self.jwt_secret is not None and self.jwt_secret_file is not None:
            raise ValueError("set NESTREL_JWT_SECRET or NESTREL_JWT_SECRET_FILE, not both")
        if self.jwks_url and not (self.issuer and self.audience):
            raise ValueError("NESTREL_JWKS_URL wants NESTREL_ISSUER and NESTREL_AUDIENCE beside it")
        return self


def _text_of(path: Path) -> str:
    """What a file says. Raises `ValueError` where it cannot be read."""
    try:
        return path.read_text()
    except (OSError, UnicodeDecodeError) as error:
        raise ValueError(f"{path} cannot be read: {getattr(error, 'strerror', None) or error}") from None
