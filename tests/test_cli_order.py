"""Keeping order, and watching, from the command line: every command as a person and as a script would call it."""

from __future__ import annotations

import csv
import io
import zipfile
from pathlib import Path
from typing import Any

import pytest

from tests.support import Served, token, unique, until
from tests.test_cli import Run, lines, make_run


@pytest.fixture
def run(service: Served, tmp_path: Path) -> Run:
    return make_run(service, tmp_path)


def test_people_are_kept_out_and_let_in(run: Run) -> None:
    odd = unique("odd")
    [place] = lines(run("conversations", "make", "--json", name := unique("pier")))
    run("conversations", "add", name, odd)
    done = run("kept-out", "add", name, odd, "--for", "P7D", "--reason", "shouting")
    assert (done.returncode, f"{odd} is kept out until" in done.stdout) == (0, True), done.stderr
    [kept] = lines(run("kept-out", "list", name, "--json"))
    assert (kept["user_id"], kept["reason"]) == (odd, "shouting")
    assert "shouting" in run("kept-out", "list", name).stdout
    assert run("conversations", "show", name, NESTREL_TOKEN=token(odd)).returncode == 1
    assert run("kept-out", "let-in", name, odd).returncode == 0
    assert "nobody is kept out" in run("kept-out", "list", name).stdout
    assert run("kept-out", "add", name, odd, "--for", "soon").returncode == 2
    [changed] = lines(run("conversations", "change", name, "--post-interval", "60", "--json"))
    assert (changed["id"], changed["post_interval"]) == (place["id"], 60)
    [changed] = lines(run("conversations", "change", name, "--post-interval", "0", "--json"))
    assert changed["post_interval"] is None
    assert run("conversations", "hide", name).returncode == 0
    assert name not in run("conversations", "list").stdout
    assert run("conversations", "hide", name, "--again").returncode == 0


def test_people_are_blocked_reported_suspended_and_signed_out(run: Run, tmp_path: Path) -> None:
    odd, office = unique("odd"), token(unique("office"), scope="nestrel.service")
    lines(run("conversations", "make", "--json", name := unique("pier")))
    run("conversations", "add", name, odd)
    lines(run("post", name, "the tide table is a lie", "--json", NESTREL_TOKEN=token(odd)))
    assert "is blocked" in run("blocked", "add", odd).stdout
    assert [one["user_id"] for one in lines(run("blocked", "list", "--json"))] == [odd]
    assert odd in run("blocked", "list").stdout
    assert run("blocked", "remove", odd).returncode == 0
    assert "you block nobody" in run("blocked", "list").stdout
    [made] = lines(run("reports", "make", name, "1", "rude", "--json"))
    listed = run("reports", "list").stdout
    assert "the tide table is a lie" in listed
    assert "the report is done" in run("reports", "settle", made["report_id"]).stdout
    assert "nothing was reported" in run("reports", "list").stdout
    assert [one["state"] for one in lines(run("reports", "list", "--state", "all", "--json"))] == ["done"]
    assert run("suspension", "begin", odd).returncode == 1  # not by a member
    assert "for good" in run("suspension", "begin", odd, "--reason", "fog", NESTREL_TOKEN=office).stdout
    refused = run("history", name, NESTREL_TOKEN=token(odd))
    assert (refused.returncode, "suspended" in refused.stderr) == (1, True)
    assert run("suspension", "end", odd, NESTREL_TOKEN=office).returncode == 0
    assert "are taken no more" in run("sign-out", odd, NESTREL_TOKEN=office).stdout
    file = tmp_path / "mine.zip"
    assert run("export-person", str(file)).returncode == 0
    with zipfile.ZipFile(file) as packed:
        assert "profile.jsonl" in packed.namelist()
    assert run("export-person", str(tmp_path / "none" / "x.zip")).returncode == 1
    acts = [one["act"] for one in lines(run("audit", "--json", "-n", "3", NESTREL_TOKEN=office))]
    assert acts == ["signed-out", "suspension-ended", "suspended"]
    shown = run("audit", "-n", "3", "--days", "1", NESTREL_TOKEN=office).stdout
    assert ("for good; fog" in shown, f"suspension ended {odd}" in shown, "{" in shown) == (True, True, False)
    assert run("post", name, "as the harbour", "--on-behalf-of", odd, NESTREL_TOKEN=office).returncode == 0
    told = run("audit", "-n", "1", NESTREL_TOKEN=office).stdout
    assert f"posted for {odd}  in {name}, message 2  1 message" in told
    assert [one["act"] for one in lines(run("audit", "--json", "--in", name, NESTREL_TOKEN=office))][:2] == [
        "posted-for", "report-settled",
    ]  # fmt: skip


def test_a_backend_sees_what_is_used_and_who_is_there(run: Run, service: Served) -> None:
    office = token(unique("office"), scope="nestrel.service")
    lines(run("conversations", "make", "--json", name := unique("pier")))
    lines(run("post", name, "aboard", "--json"))

    def used(*more: str) -> list[dict[str, Any]]:
        return lines(run("usage", "--of", "conversation", "--id", name, "--json", *more, NESTREL_TOKEN=office))

    until(lambda: sum(one["posts"] for one in used()) == 1)
    assert "posts" in run("usage", NESTREL_TOKEN=office).stdout
    table = run("usage", "--of", "conversation", "--id", name, "--csv", NESTREL_TOKEN=office).stdout
    assert [row["posts"] for row in csv.DictReader(io.StringIO(table))] == ["1"]
    assert "nothing was used" in run("usage", "--of", "person", "--id", unique("no"), NESTREL_TOKEN=office).stdout
    nobody = run("connections", "list", "--user", unique("no"), NESTREL_TOKEN=office)
    assert nobody.stdout.strip() == "nobody is connected"
    assert run("connections", "end", unique("none"), NESTREL_TOKEN=office).returncode == 0
    assert run("connections", "list").returncode == 1
