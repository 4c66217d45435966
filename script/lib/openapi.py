"""Prints the service's OpenAPI document, from which the console takes its types. No database is asked."""

from __future__ import annotations

import json

from pydantic import SecretStr

from nestrel.service.app import make_app
from nestrel.service.settings import Settings

settings = Settings(database_url="postgresql://nobody@127.0.0.1/none", jwt_secret=SecretStr("0" * 32))
print(json.dumps(make_app(settings).openapi(), indent=1, sort_keys=True))
