"""The demo's stand-in identity issuer, for a cluster: `python -m cluster.issuer HOST CONSOLE`."""

from __future__ import annotations

import sys

import uvicorn

from cluster.parts import PORTS, Kind
from nestrel.demo.files import AUDIENCE
from nestrel.demo.issuer import make_issuer


def main() -> None:
    host, console = sys.argv[1:]
    port = PORTS[Kind.ISSUER]
    app = make_issuer(f"http://{host}:{port}", AUDIENCE, "nestrel-console", (console,))
    uvicorn.run(app, host=host, port=port, log_level="error", access_log=False)


if __name__ == "__main__":
    main()
