"""Reads the settings from the environment and `nestrel.toml`, and says what is wrong with them."""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Iterable, Iterator
from difflib import get_close_matches

from pydantic import ValidationError

from nestrel.service.settings import Settings

_OTHERS = ("NESTREL_URL", "NESTREL_TOKEN", "NESTREL_SETTING_UP")
"""Variables that are not the service's: of the command line, and of the scripts."""
_INJECTED = re.compile(r"NESTREL_(SERVICE_HOST|SERVICE_PORT(_.+)?|PORT_[0-9]+_(TCP|UDP)(_.+)?)")
"""What an orchestrator puts into the environment beside a service that is called nestrel."""


def _unknown(environment: Iterable[str]) -> Iterator[str]:
    """A line for each variable that looks like a setting and is none: whoever mistypes one must hear of it."""
    known = {f"NESTREL_{name.rstrip('_').upper()}" for name in Settings.model_fields}
    for name in sorted(environment):
        if name.startswith("NESTREL_") and name not in known and name not in _OTHERS and not _INJECTED.fullmatch(name):
            near = get_close_matches(name, known, 1)
            yield f"{name}: there is no such setting" + (f"; did you mean {near[0]}?" if near else "")


class SettingsError(Exception):
    """The settings cannot be used; the text says which and why, for a person."""


def load_settings(**overrides: object) -> Settings:
    """Read the settings; arguments that are not None win over everything else.

    Raises:
        SettingsError: with one line for each fault.
    """
    lines = list(_unknown(os.environ))
    try:
        found = Settings(**{key: value for key, value in overrides.items() if value is not None})  # type: ignore[arg-type]  # checked by pydantic
    except (tomllib.TOMLDecodeError, OSError, UnicodeDecodeError) as error:
        raise SettingsError(f"nestrel.toml cannot be read: {error}") from None
    except ValidationError as error:
        for fault in error.errors():
            name = "NESTREL_" + str(fault["loc"][0]).upper() if fault["loc"] else "settings"
            if fault["type"] == "extra_forbidden":
                near = get_close_matches(str(fault["loc"][0]), Settings.model_fields, 1)
                lines.append(
                    f"{fault['loc'][0]}: there is no such key" + (f"; did you mean {near[0]}?" if near else "")
                )
            else:
                lines.append(f"{name}: {fault['msg'].removeprefix('Value error, ')}")
        raise SettingsError("\n".join(lines)) from None
    if lines:
        raise SettingsError("\n".join(lines))
    return found
