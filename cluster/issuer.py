"""The demo's stand-in identity issuer, for a console at another address: `python -m cluster.issuer URL`."""

from __future__ import annotations

import sys

import uvicorn

from cluster.parts import PORTS, Kind
from nestrel.demo.files import AUDIENCE
from nestrel.demo.issuer import make_issuer


def main() -> None:
    port = PORTS[Kind.ISSUER]
    app = make_issuer(f"http://127.0.0.1:{port}", AUDIENCE, "nestrel-console", (sys.argv[1],))
    uvicorn.run(app, host="127.0.0.1", port=port, log_level="error", access_log=False)


if __name__ == "__main__":
    main()
