"""Print the OpenAPI document without a database: the console's types are made from it."""

from __future__ import annotations

import json

from pydantic import SecretStr

from nestrel.service.app import make_app
from nestrel.service.settings import Settings


def main() -> None:
    settings = Settings(database_url="postgresql://nobody@127.0.0.1/none", jwt_secret=SecretStr("0" * 32))
    print(json.dumps(make_app(settings).openapi(), indent=1, sort_keys=True))


if __name__ == "__main__":
    main()
