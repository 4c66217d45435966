"""The address of a database: `postgresql://user@host:port/database`, or several hosts with commas between, of which the
primary is looked for."""

from __future__ import annotations

from urllib.parse import parse_qsl, urlencode, urlsplit

from sqlalchemy.engine import URL, make_url

_SCHEMES = ("postgresql", "postgres", "postgresql+asyncpg")
_WRONG = "the database URL must look like postgresql://user@host:port/database"
_WHICH = "target_session_attrs"


def parsed(url: str) -> URL:
    """The address as SQLAlchemy has it, for the asynchronous driver. Raises `ValueError` with what is wrong."""
    try:
        parts = urlsplit(url)
        who, at, hosts = parts.netloc.rpartition("@")
        query = parse_qsl(parts.query, keep_blank_values=True)
        if "," in hosts:
            for host in hosts.split(","):
                urlsplit(f"//{host}").port  # noqa: B018 - reading it is the check
                query.append(("host", host))
            if _WHICH not in dict(query):
                query.append((_WHICH, "primary"))
            # What stands before the path has to be there, also without a host.
            url = parts._replace(netloc=who + at, query=urlencode(query)).geturl()
        found = make_url(url)
    except Exception:
        raise ValueError(_WRONG) from None
    if found.drivername not in _SCHEMES:
        raise ValueError(f"the database URL must begin with postgresql://, not {found.drivername}://")
    return found.set(drivername="postgresql+asyncpg")


def shown(url: str) -> str:
    """The address for a log: hosts, ports and the database, and neither who connects nor by which password."""
    parts = urlsplit(url)
    return parts.netloc.rpartition("@")[2] + parts.path


def sqlalchemy(url: str) -> str:
    """The address for SQLAlchemy. Raises as `parsed`."""
    return parsed(url).render_as_string(hide_password=False)


def driver(url: str) -> str:
    """The address for the driver itself. Raises as `parsed`."""
    found = parsed(url)
    hosts = found.query.get("host")
    if not isinstance(hosts, tuple):
        return found.set(drivername="postgresql").render_as_string(hide_password=False)
    plain = found.difference_update_query(["host"]).set(drivername="postgresql", host="HOSTS")
    return plain.render_as_string(hide_password=False).replace("HOSTS", ",".join(hosts), 1)
