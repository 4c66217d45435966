"""What the demo leaves in its data folder, so that the command line can make tokens for it."""

from __future__ import annotations

import os
from dataclasses import asdict, dataclass
from pathlib import Path
from secrets import token_urlsafe

import orjson

ISSUER_PORT = 8461
AUDIENCE = "nestrel-demo"


@dataclass(frozen=True, slots=True)
class DemoTrust:
    """What tokens of the running demo must have, and the secret that signs those of the command line."""

    secret: str
    issuer: str
    audience: str


def _file(data_dir: Path) -> Path:
    return data_dir / "demo-trust.json"


def read(data_dir: Path) -> DemoTrust | None:
    """What the last demo with this folder trusted; None if there was none."""
    try:
        return DemoTrust(**orjson.loads(_file(data_dir).read_bytes()))
    except (OSError, TypeError, orjson.JSONDecodeError):
        return None


def write(data_dir: Path, issuer: str) -> DemoTrust:
    """Leave the trust of a demo that starts now, with the secret of before; only its owner may read it."""
    before = read(data_dir)
    trust = DemoTrust(before.secret if before else token_urlsafe(48), issuer, AUDIENCE)
    data_dir.mkdir(parents=True, exist_ok=True)
    handle = os.open(_file(data_dir), os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "wb") as file:
        file.write(orjson.dumps(asdict(trust)))
    return trust
