"""The files of `deploy/`, filled in for this machine."""

from __future__ import annotations

import os
import shutil
from pathlib import Path
from secrets import token_urlsafe
from string import Template

import orjson

from cluster.parts import Kind, Part, Places
from nestrel.local.postgres import find_binaries

DEPLOY = Path(__file__).resolve().parents[1] / "deploy"
_SECRETS = ("postgres", "replication", "rewind", "serving", "redis", "tokens")


def secrets(folder: Path) -> dict[str, str]:
    """The passwords of a cluster; made once, and readable by its owner alone."""
    file = folder / "secrets.json"
    if not file.exists():
        made = {name: token_urlsafe(36) for name in _SECRETS}
        handle = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "wb") as out:
            out.write(orjson.dumps(made))
    found: dict[str, str] = orjson.loads(file.read_bytes())
    return found


def own_folder(path: Path, *, postgres: bool) -> Path:
    """A folder that a part may write to. As root, what must not run as root runs as the postgres user."""
    path.mkdir(mode=0o700, parents=True, exist_ok=True)
    if postgres and os.geteuid() == 0:
        shutil.chown(path, "postgres", "postgres")
    return path


def write(path: Path, text: str, *, postgres: bool = False) -> Path:
    """Write a file with passwords in it, unless it is there: some programs keep what they know in theirs."""
    if not path.exists():
        path.touch(mode=0o600)
        path.write_text(text)
        if postgres and os.geteuid() == 0:
            shutil.chown(path, "postgres", "postgres")
    return path


def filled(name: str, **values: object) -> str:
    """A file of `deploy/` with its `${…}` filled in. Raises `KeyError` where one has no value."""
    return Template((DEPLOY / name).read_text()).substitute({key: str(value) for key, value in values.items()})


def common(places: Places) -> dict[str, object]:
    """The values that are the same on every machine."""
    etcd = places.of(Kind.ETCD)
    return {
        "FRONT": places.front,
        "PUBLIC_HOST": places.url.removeprefix("http://"),
        "NETWORK": "127.0.0.0/8",
        "ETCD": ",".join(part.at for part in etcd),
        "ETCD_PEERS": ",".join(f"{part.name}=http://{part.address}:2380" for part in etcd),
        "POSTGRES_BIN": find_binaries(),
        **{f"HOST_{number}": address for number, address in places.machines.items()},
    }


def etcd(places: Places, part: Part, folder: Path) -> Path:
    own_folder(folder / "data", postgres=False)
    text = filled("etcd.yml", **common(places), NODE=part.name, ADDRESS=part.address, DATA=folder / "data")
    return write(folder / "etcd.yml", text)


def patroni(places: Places, part: Part, folder: Path, known: dict[str, str], archive: Path) -> Path:
    own_folder(folder, postgres=True)
    text = filled(
        "patroni.yml",
        **common(places),
        NODE=part.name,
        ADDRESS=part.address,
        DATA=folder / "data",
        PGPASS=folder / "pgpass",
        SHARED_BUFFERS="256MB",
        ARCHIVE=f"test -f {archive}/%f || cp %p {archive}/%f",
        POSTGRES_PASSWORD=known["postgres"],
        REPLICATION_PASSWORD=known["replication"],
        REWIND_PASSWORD=known["rewind"],
    )
    return write(folder / "patroni.yml", text, postgres=True)


def haproxy(places: Places, folder: Path) -> Path:
    return write(folder / "haproxy.cfg", filled("haproxy.cfg", **common(places), ERRORS=DEPLOY))


def pgbouncer(places: Places, folder: Path, known: dict[str, str]) -> Path:
    own_folder(folder, postgres=True)
    users = f'"postgres" "{known["postgres"]}"\n"nestrel_serving" "{known["serving"]}"\n'
    userlist = write(folder / "userlist.txt", users, postgres=True)
    return write(folder / "pgbouncer.ini", filled("pgbouncer.ini", **common(places), USERLIST=userlist), postgres=True)


def redis(places: Places, part: Part, folder: Path, known: dict[str, str]) -> Path:
    own_folder(folder / "data", postgres=False)
    first = places.machines[1]
    text = filled(
        "redis.conf",
        **common(places),
        ADDRESS=part.address,
        DATA=folder / "data",
        REDIS_PASSWORD=known["redis"],
        REPLICA_OF="" if part.address == first else f"replicaof {first} 6379",
    )
    return write(folder / "redis.conf", text)


def sentinel(places: Places, part: Part, folder: Path, known: dict[str, str]) -> Path:
    own_folder(folder / "data", postgres=False)
    text = filled(
        "sentinel.conf", **common(places), ADDRESS=part.address, DATA=folder / "data", REDIS_PASSWORD=known["redis"]
    )
    return write(folder / "sentinel.conf", text)
