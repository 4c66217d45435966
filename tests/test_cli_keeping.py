"""Retention, archive, export, import and erasing on the command line."""

from __future__ import annotations

import csv
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from nestrel.client import Client
from tests.support import Served, token, unique
from tests.test_cli import Run, lines, make_run


@pytest.fixture
def run(service: Served, tmp_path: Path) -> Run:
    return make_run(service, tmp_path)


@pytest.fixture
def backend(service: Served, tmp_path: Path) -> Callable[..., Any]:
    """The same as a trusted backend."""
    trusted = token(unique("office"), scope="nestrel.service")
    run = make_run(service, tmp_path)
    return lambda *arguments, **env: run(*arguments, **{"NESTREL_TOKEN": trusted, **env})


@pytest.fixture
def place(run: Run, service: Served) -> str:
    """A conversation of the member's with twelve messages."""
    name = unique("quay")
    assert run("conversations", "make", name).returncode == 0
    with Client(service.url, run.token) as client:  # type: ignore[attr-defined]  # make_run leaves it there
        client.post_batch(client.find(name).id, [{"key": f"{n}", "body": f"tide {n}"} for n in range(1, 13)])
    return name


def test_a_rule_is_previewed_and_asked_about_before_it_takes_anything(run: Run, place: str) -> None:
    assert run("retention", "show", place).stdout == "keeps everything\n"
    preview = run("retention", "preview", place, "--keep-last", "5").stdout
    assert "7 messages would go, 1 to 7, 42 bytes" in preview
    assert "█" in preview
    asked = run("retention", "set", place, "--keep-last", "5", STDIN="n\n")
    assert (asked.returncode, "Go ahead?" in asked.stdout) == (1, True)
    assert lines(run("conversations", "show", place, "--json"))[0]["floor"] == 1
    refused = run("retention", "set", place, "--keep-last", "5", "--json")
    assert (refused.returncode, "Confirm this first" in refused.stderr) == (1, True)
    done = run("retention", "set", place, "--keep-last", "5", "--keep-for", "P30D", "--yes")
    assert done.stdout == "keeps the newest 5 messages and what is younger than P30D, and archives the rest\n"
    assert [m["seq"] for m in lines(run("history", place, "--json", "--all"))] == list(range(8, 13))
    assert "on hold" in run("retention", "hold", place).stdout
    assert lines(run("retention", "show", place, "--json"))[0]["hold"] is True
    assert "on hold" not in run("retention", "lift", place).stdout
    assert run("retention", "clear", place).stdout == "keeps everything\n"
    assert run("retention", "set", place).returncode == 2
    assert "ISO 8601" in run("retention", "set", place, "--keep-for", "30 days").stderr


def test_the_archive_is_listed_read_verified_and_exported(
    run: Run, backend: Callable[..., Any], place: str, tmp_path: Path
) -> None:
    assert run("retention", "set", place, "--keep-last", "2", "--yes").returncode == 0
    assert lines(backend("retention", "run", "--json"))[0]["waiting"] == 0
    [segment] = lines(run("archive", "list", place, "--json"))
    assert (segment["first_seq"], segment["last_seq"], segment["messages"]) == (1, 10, 10)
    assert "tide 3" in run("archive", "show", place, "1").stdout
    assert [line["seq"] for line in lines(run("archive", "show", place, "1", "--json"))] == list(range(1, 11))
    assert run("archive", "verify", place).stdout == "1 segment read: whole\n"
    table = tmp_path / "old.csv"
    assert run("archive", "export", place, "--form", "csv", "--into", str(table)).returncode == 0
    with table.open(newline="") as file:
        assert [row["body"] for row in csv.DictReader(file)] == [f"tide {n}" for n in range(1, 11)]
    assert run("archive", "export", place, "--into", str(table)).returncode == 2  # nothing is overwritten
    assert not table.with_name("old.csv.part").exists()


def test_what_is_exported_can_be_brought_in_elsewhere_once(
    run: Run, backend: Callable[..., Any], place: str, tmp_path: Path
) -> None:
    out, other = tmp_path / "out.jsonl", unique("copy")
    assert run("post", place, "an answer", "--reply-to", "12").returncode == 0
    assert run("export", place, "--into", str(out)).returncode == 0
    assert run("export", place).stdout == out.read_text()
    assert backend("conversations", "make", other).returncode == 0
    first = lines(backend("import", str(out), "--to", other, "--json"))[-1]
    assert (first["added"], first["repeated"], first["refused"]) == (13, 0, 0)
    again = backend("import", "-", "--to", other, STDIN=out.read_text())
    assert [line.split()[-1] for line in again.stdout.splitlines()] == ["0", "13", "0"]
    brought = lines(backend("history", other, "--json", "--all"))
    assert [(m["seq"], m["body"], m["created_at"]) for m in brought] == [
        (m["seq"], m["body"], m["created_at"]) for m in lines(run("history", place, "--json", "--all"))
    ]
    assert brought[-1]["reply_to"] == 12
    bad = backend("import", "-", "--to", other, STDIN='{"author_id":"odd","body":"new"}\nnope\n')
    assert (bad.returncode, "line 2: is not valid JSON" in bad.stderr) == (1, True)
    assert lines(backend("history", other, "--json", "-n", "1"))[0]["body"] == "new"
    assert run("import", str(out), "--to", place).returncode == 1
    nowhere = backend("import", "-", STDIN='{"author_id":"odd","body":"new"}\n')
    assert (nowhere.returncode, "line 1: does not say which conversation" in nowhere.stderr) == (1, True)


def test_a_csv_is_brought_in_and_another_file_is_told_as_such(
    run: Run, backend: Callable[..., Any], place: str, tmp_path: Path
) -> None:
    table, other = tmp_path / "out.csv", unique("sheet")
    assert run("post", place, "=1+1 is a formula").returncode == 0
    assert run("export", place, "--form", "csv", "--into", str(table)).returncode == 0
    assert backend("conversations", "make", other).returncode == 0
    wrong = backend("import", str(table), "--to", other)
    assert (wrong.returncode, wrong.stdout) == (1, "")
    assert "it looks like CSV: pass --form csv" in wrong.stderr
    first = lines(backend("import", str(table), "--to", other, "--form", "csv", "--json"))[-1]
    assert (first["added"], first["refused"]) == (13, 0)
    there, here = (lines(backend("history", name, "--json", "--all")) for name in (place, other))
    assert [(m["author_id"], m["body"], m["created_at"]) for m in here] == [
        (m["author_id"], m["body"], m["created_at"]) for m in there
    ]
    own = "2026-01-01T00:00:00Z;odd;High tide\n".replace(";", ",")
    columns = "created_at,author_id,body"
    mine = backend("import", "-", "--to", unique("none"), "--form", "csv", "--columns", columns, STDIN=own)
    assert "There is no such thing here" in mine.stderr
    sheet = unique("own")
    assert backend("conversations", "make", sheet).returncode == 0
    mine = backend("import", "-", "--to", sheet, "--form", "csv", "--columns", columns, STDIN=own)
    assert mine.returncode == 0, mine.stderr
    # A file of something else is not gone through to its end, and each line told.
    other_file = "\n".join(json.dumps({"order": n}) for n in range(5_000))
    stopped = backend("import", "-", "--to", other, STDIN=other_file)
    assert (stopped.returncode, sum(line.startswith("line ") for line in stopped.stderr.splitlines())) == (1, 20)
    assert "the first 20 lines were all refused" in stopped.stderr


def test_a_person_is_erased_after_a_look_at_what_goes(run: Run, backend: Callable[..., Any], place: str) -> None:
    user = unique("kaz")
    assert backend("post", place, "mine", "--on-behalf-of", user).returncode == 0
    preview = lines(backend("erase", user, "--preview", "--json"))[0]
    assert (preview["messages"], preview["conversations"]) == (1, 1)
    assert backend("erase", user, STDIN="n\n").returncode == 1
    done = backend("erase", user, "--yes")
    assert "emptied 1 message in 1 conversation" in done.stdout
    newest = json.loads(run("history", place, "-n", "1", "--json").stdout)
    assert (newest["body"], newest["author_id"]) == ("", user)
    assert run("erase", user, "--yes").returncode == 1
    assert any(user in line for line in backend("erase", "--records").stdout.splitlines())
    assert any(record["user_id"] == user for record in lines(backend("erase", "--records", "--json")))
    assert backend("erase").returncode == 2
