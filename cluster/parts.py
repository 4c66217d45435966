"""What a cluster is made of, and where each part of it listens."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

MACHINES = (1, 2, 3)


class Kind(StrEnum):
    """What a part is."""

    ETCD = "etcd"
    POSTGRES = "postgres"
    HAPROXY = "haproxy"
    PGBOUNCER = "pgbouncer"
    REDIS = "redis"
    SENTINEL = "sentinel"
    ISSUER = "issuer"
    NESTREL = "nestrel"


PORTS = {
    Kind.ETCD: 2379, Kind.POSTGRES: 5432, Kind.HAPROXY: 8460, Kind.PGBOUNCER: 6432, Kind.REDIS: 6379,
    Kind.SENTINEL: 26379, Kind.ISSUER: 8461, Kind.NESTREL: 8460,
}  # fmt: skip
PATRONI_PORT = 8008
PRIMARY_PORT = 5000
STANDBYS_PORT = 5001
POOLER_PORT = PORTS[Kind.PGBOUNCER]


@dataclass(frozen=True, slots=True)
class Part:
    """One program that runs: `name` is its kind, with the number of its machine where there are several."""

    name: str
    kind: Kind
    address: str

    @property
    def port(self) -> int:
        return PORTS[self.kind]

    @property
    def at(self) -> str:
        return f"{self.address}:{self.port}"


class Places:
    """The addresses of a cluster, in a network of loopback that is its own: 127.0.`net`.0/24."""

    def __init__(self, net: int) -> None:
        self.net = net
        self.front = f"127.0.{net}.10"
        self.machines = {number: f"127.0.{net}.{number}" for number in MACHINES}
        several = (Kind.ETCD, Kind.POSTGRES, Kind.REDIS, Kind.SENTINEL, Kind.NESTREL)
        alone = {Kind.HAPROXY: self.front, Kind.PGBOUNCER: self.front, Kind.ISSUER: self.front}
        self.parts: dict[str, Part] = {}
        for kind in Kind:  # in the order in which they are started
            if kind in several:
                for number, address in self.machines.items():
                    self._add(Part(f"{kind}-{number}", kind, address))
            else:
                self._add(Part(kind.value, kind, alone[kind]))

    def _add(self, part: Part) -> None:
        self.parts[part.name] = part

    def of(self, kind: Kind) -> list[Part]:
        return [part for part in self.parts.values() if part.kind is kind]

    @property
    def url(self) -> str:
        """Where people find the service."""
        return f"http://{self.front}:{PORTS[Kind.HAPROXY]}"
