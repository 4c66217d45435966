"""What the pages list is what the code has."""

from __future__ import annotations

import re
from pathlib import Path

from nestrel.service.settings import Settings

DOCS = Path(__file__).parents[2] / "docs"


def test_every_setting_stands_in_the_table_and_nothing_else_does() -> None:
    table = (DOCS / "architecture.md").read_text().partition("\n## Settings\n")[2]
    told = re.findall(r"`(NESTREL_[A-Z_]+)`", "".join(re.findall(r"^\| (.+?) \|", table, re.M)))
    known = {f"NESTREL_{name.rstrip('_').upper()}" for name in Settings.model_fields}
    assert sorted(told) == sorted(known)


def test_every_module_that_a_word_is_said_to_stand_in_is_there() -> None:
    words = (DOCS / "architecture.md").read_text().partition("\n## Words\n")[2].partition("\n## ")[0]
    named = re.findall(r"`((?:core|store|live|service)/[\w/]*(?:\.py)?)`", words)
    assert len(named) > 50
    assert [name for name in named if not (DOCS.parent / "src/nestrel" / name).exists()] == []
