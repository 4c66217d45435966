"""Starts PostgreSQL, Nestrel and the harbour on loopback, until Ctrl+C: python examples/harbour"""

import os
import secrets
import subprocess
import sys
from contextlib import suppress
from pathlib import Path

from nestrel.local.postgres import LocalPostgres

OWN, PORT = os.environ.setdefault("HARBOUR_URL", "http://127.0.0.1:8470"), os.environ.setdefault("NESTREL_PORT", "8460")
folder = Path(os.environ.get("HARBOUR_DATA", "harbour-data")).resolve()
folder.mkdir(mode=0o755, parents=True, exist_ok=True)
with (folder / "secrets").open("a") as file:
    file.tell() or file.write(secrets.token_urlsafe(48))
with (postgres := LocalPostgres(folder)).used():
    postgres.create_database("harbour")
    os.environ |= {
        "HARBOUR_DATABASE_URL": postgres.url("harbour"), "NESTREL_DATABASE_URL": postgres.url("harbour"),
        "NESTREL_URL": f"http://127.0.0.1:{PORT}", "NESTREL_JWT_SECRET_FILE": str(folder / "secrets"),
        "NESTREL_JWKS_URL": f"{OWN}/keys", "NESTREL_ISSUER": OWN, "NESTREL_AUDIENCE": "harbour",
        "NESTREL_ORIGINS": OWN, "NESTREL_WEBHOOK_HOSTS": "127.0.0.1/32", "NESTREL_FILES": str(folder / "files"),
    }  # fmt: skip
    subprocess.run([sys.executable, "-m", "nestrel.cli", "db", "upgrade"], check=True)
    here, own_port = str(Path(__file__).parent), OWN.rpartition(":")[2]
    harbour = ["-m", "uvicorn", "app:app", "--app-dir", here, "--port", own_port]
    parts = [subprocess.Popen([sys.executable, *part]) for part in (["-m", "nestrel.cli", "serve"], harbour)]
    with suppress(KeyboardInterrupt):
        os.wait()
    for part in parts:
        part.terminate()
        part.wait()
