"""The command line, as a person and as a script use it: words, JSON Lines, exit codes."""

from __future__ import annotations

import json
import os
import pty
import re
import subprocess
import sys
from collections.abc import Callable
from contextlib import nullcontext, suppress
from pathlib import Path
from typing import Any

import click
import pytest
from rich.text import Text

from nestrel.cli.main import COMMANDS, main
from nestrel.cli.prose import beside, parsed, parser
from nestrel.client import Client
from nestrel.core.markdown import check_markdown, is_costly
from nestrel.local.postgres import free_port
from tests import forked
from tests.support import PATIENCE, SECRET, Served, token, unique

ROOT = Path(__file__).parent.parent
Run = Callable[..., subprocess.CompletedProcess[str]]


def make_run(service: Served, folder: Path) -> Run:
    """Runs `nestrel …` as one user, whose token it has, with settings of its own."""
    own = token(unique("mara"))

    def nestrel(*arguments: str, **env: str | None) -> subprocess.CompletedProcess[str]:
        settings = {"NESTREL_URL": service.url, "NESTREL_TOKEN": own, "NESTREL_DATA_DIR": str(folder), **env}
        clean = {name: value for name, value in os.environ.items() if not name.startswith("NESTREL_")}
        given = {name: value for name, value in settings.items() if value is not None}
        return forked.nestrel(*arguments, env={**clean, **given}, stdin=env.get("STDIN"), cwd=folder, seconds=PATIENCE)

    nestrel.token = own  # type: ignore[attr-defined]  # for tests that use the client as the same user
    return nestrel


@pytest.fixture
def run(service: Served, tmp_path: Path) -> Run:
    return make_run(service, tmp_path)


def lines(done: subprocess.CompletedProcess[str]) -> list[dict[str, Any]]:
    assert done.returncode == 0, done.stderr
    return [json.loads(line) for line in done.stdout.splitlines()]


@pytest.mark.parametrize("command", ["post quay", "edit quay 1", "invitations accept", "search"])
def test_what_begins_with_a_hyphen_is_said_how_to_say(run: Run, command: str) -> None:
    refused = run(*command.split(), "-5 degrees tonight")
    assert refused.returncode == 2
    assert "No such option '-5'. To give what begins with - as it is, put -- before it." in refused.stderr
    assert "as it is" not in run(*command.split(), "--tonight").stderr


def test_a_text_that_begins_with_a_hyphen_is_posted_as_told(run: Run) -> None:
    name = unique("quay")
    run("conversations", "make", name)
    assert lines(run("post", name, "--json", "--", "-5 degrees tonight"))[0]["body"] == "-5 degrees tonight"


def test_a_first_conversation(run: Run) -> None:
    name = unique("quay")
    assert run("conversations", "make", name, "--title", "Quay talk", "--member", "odd").returncode == 0
    assert run("post", name, "Fog on the sound").stdout == f"posted as 1 in {name}\n"
    assert lines(run("post", name, "--json", STDIN="two\nlines\n"))[0]["body"] == "two\nlines"
    shown = run("history", name).stdout
    assert "Fog on the sound" in shown
    assert [m["seq"] for m in lines(run("history", name, "--json", "-n", "1"))] == [2]
    assert [m["seq"] for m in lines(run("history", name, "--json", "--all"))] == [1, 2]
    assert lines(run("conversations", "list", "--json"))[0]["name"] == name
    assert "Quay talk" in run("conversations", "show", name).stdout
    assert {m["user_id"] for m in lines(run("conversations", "members", name, "--json"))} >= {"odd"}
    assert run("conversations", "close", name, "--yes").returncode == 0
    assert run("post", name, "late").returncode == 1


def test_follow_prints_what_comes_and_resumes_from_a_cursor(run: Run, service: Served) -> None:
    name = unique("quay")
    made = lines(run("conversations", "make", name, "--json"))[0]
    with Client(service.url, token(made["created_by"])) as client:
        cursor = client.history_page(made["id"]).change_cursor
    run("post", name, "one")
    first = lines(run("follow", made["id"], "--json", "--cursor", cursor, "-n", "1"))
    assert [m["body"] for m in first[-1]["messages"]] == ["one"]
    run("post", name, "\x1b[31mred\x07")
    words = run("follow", name, "--cursor", first[-1]["cursor"], "-n", "1")
    assert "\\u001b[31mred\\u0007" in words.stdout
    assert "\x1b" not in words.stdout
    refused = run("follow", name, "--cursor", "x")
    assert (refused.returncode, "not a cursor" in refused.stderr) == (1, True)


def test_refusals_are_two_lines_and_exit_1(run: Run) -> None:
    done = run("post", "no-such-place", "x")
    assert done.returncode == 1
    assert done.stderr.splitlines() == [
        "There is no such thing here",
        "there is no conversation called 'no-such-place' that you may see",
    ]
    away_at = f"http://127.0.0.1:{free_port()}"
    away = run("conversations", "list", NESTREL_URL=away_at)
    assert away.returncode == 3
    assert away.stderr.splitlines()[0] == "No answer came"
    assert f"{away_at.removeprefix('http://')} does not answer" in away.stderr
    assert "Look whether" not in away.stderr, "nothing was to be changed"
    for refused, code, title in (
        (run("post", "no-such-place", "x", "--json"), 1, "There is no such thing here"),
        (run("conversations", "list", "--json", NESTREL_URL=away_at), 3, "No answer came"),
    ):
        assert (refused.returncode, json.loads(refused.stderr)["title"]) == (code, title)
    for done in (run("conversations", "list", NESTREL_TOKEN=token("m", seconds=-5)), away):
        assert "Traceback" not in done.stderr


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("conversations", "list"), "NESTREL_TOKEN"),
        (("serve",), "NESTREL_DATABASE_URL"),
        (("db", "upgrade"), "NESTREL_DATABASE_URL"),
        (("token", "mara"), "NESTREL_JWT_SECRET"),
        (("history", "x", "--from", "yesterday"), "RFC 3339"),
        (("post",), "CONVERSATION"),
        (("nonsense",), "nonsense"),
        (("histroy",), "Did you mean history?"),
        (("retention", "prewiev"), "preview"),
    ],
)
def test_wrong_usage_is_exit_2_and_says_what_to_do(run: Run, arguments: tuple[str, ...], words: str) -> None:
    done = run(*arguments, NESTREL_TOKEN=None)
    assert done.returncode == 2
    assert words in done.stderr
    assert "Traceback" not in done.stderr


def test_help_loads_nothing_that_it_does_not_need(run: Run) -> None:
    """What asks a service, draws or serves is imported by what does so; the list of commands is true to each."""
    code = """
import sys
from nestrel.cli.main import main
for asked in ("", "post", "retention set", "resync", "import", "serve", "db upgrade", "demo", "doctor", "token"):
    try: main([*asked.split(), "--help"])
    except SystemExit: pass
heavy = {"asyncio", "httpx", "pydantic", "rich", "sqlite3", "websockets", "sqlalchemy", "fastapi", "jwt"}
print(sorted(heavy & set(sys.modules)))
"""
    said = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert said.splitlines()[-1] == "[]"
    context = click.Context(main)
    for name in main.list_commands(context):
        command = main.get_command(context, name)
        assert command is not None
        assert command.help is not None
        said = " ".join(command.help.replace(" (an id or a name)", "").split())
        assert said.startswith(COMMANDS[name].summary.rstrip(".")), name


def test_a_token_that_the_command_makes_is_accepted(run: Run) -> None:
    made = run("token", "ines", "--name", "Inés Caldeira", NESTREL_JWT_SECRET=SECRET).stdout.strip()
    name = unique("made-by-ines")
    assert lines(run("conversations", "make", name, "--json", NESTREL_TOKEN=made))[0]["created_by"] == "ines"


def test_the_schema_is_brought_to_date_from_anywhere(run: Run, make_database: Callable[[], str]) -> None:
    url = make_database()
    assert "the schema is at" in run("db", "upgrade", NESTREL_DATABASE_URL=url).stdout
    assert run("db", "status", NESTREL_DATABASE_URL=url).returncode == 0
    assert run("db", "partition", "4", NESTREL_DATABASE_URL=url).stdout == "10 tables now have 4 partitions each\n"
    assert run("db", "partition", "4", NESTREL_DATABASE_URL=url).stdout == "the tables have partitions already\n"
    assert run("db", "partition", "1", NESTREL_DATABASE_URL=url).returncode == 2
    missing = url.rsplit("/", 1)[0] + "/no_such_database"
    away = run("db", "upgrade", NESTREL_DATABASE_URL=missing)
    assert away.returncode == 1
    assert "Traceback" not in away.stderr


def test_the_doctor_looks_at_everything(run: Run, make_database: Callable[[], str]) -> None:
    good = run("doctor", "--json", NESTREL_DATABASE_URL=make_database(), NESTREL_JWT_SECRET=SECRET)
    found = {line["check"]: line["ok"] for line in map(json.loads, good.stdout.splitlines())}
    assert {name for name, ok in found.items() if not ok} == {"durability"}  # the tests' server waits for no disk
    assert good.returncode == 1
    bad = run("doctor", NESTREL_URL=f"http://127.0.0.1:{free_port()}", NESTREL_PORT="x")
    assert bad.returncode == 1
    assert "NESTREL_PORT" in bad.stdout


def test_a_message_is_edited_liked_read_and_removed(run: Run) -> None:
    name = unique("quay")
    run("conversations", "make", name)
    run("post", name, "berth 3")
    assert run("edit", name, "1", "berth 4").stdout == "message 1 stands at rev 4, edited 1 time\n"
    stale = run("edit", name, "1", "berth 5", "--rev", "1")
    assert (stale.returncode, "has changed" in stale.stderr) == (1, True)
    assert run("like", name, "1").stdout == "message 1: like 1\n"
    assert run("like", name, "1", "--symbol", "⚓").stdout == "message 1: like 1, ⚓ 1\n"
    assert run("unlike", name, "1").stdout == "message 1: ⚓ 1\n"
    assert run("like", name, "1", "--symbol", "no").returncode == 1
    assert run("read", name).stdout == "read up to 1, 0 unread\n"
    assert "1 of 1 members have read message 1" in run("readers", name, "1").stdout
    assert [body["body"] for body in lines(run("edits", name, "1", "--json"))] == ["berth 3"]
    shown = run("history", name).stdout
    assert all(words in shown for words in ("berth 4", "edited 1×", "⚓ 1"))
    assert [line.split()[0] for line in run("edits", name, "1").stdout.splitlines()] == ["1", "now"]
    assert run("remove", name, "1").stdout == "message 1 is removed\n"
    assert "removed" in run("history", name).stdout
    assert run("remove", name, "9").returncode == 1


@pytest.mark.parametrize(
    "vector", json.loads((ROOT / "docs/vectors/markdown.json").read_text())["vectors"], ids=lambda v: v["name"]
)
def test_markdown_means_the_same_as_in_the_console(vector: dict[str, str]) -> None:
    made = parser().renderer.render(parsed(vector["body"]), parser().options, {})
    made = (
        re.sub(r' (class|style)="[^"]*"', "", made)
        .replace(" />", ">")
        .replace("<s>", "<del>")
        .replace("</s>", "</del>")
    )
    block = "(?:br|hr|/?(?:ul|ol|li|table|thead|tbody|tr|th|td|blockquote|p|h1|pre)(?: [^>]*)?)"
    assert re.sub(rf"\n(?=<{block}>)|(?<=>)\n(?!$)", "", made).strip() == vector["html"]


@pytest.mark.parametrize(
    "vector", json.loads((ROOT / "docs/vectors/markdown.json").read_text())["costs"], ids=lambda v: v["name"]
)
def test_what_is_too_costly_to_draw_is_refused_and_shown_as_it_was_written(vector: dict[str, Any]) -> None:
    body = "".join(text * times for text, times in vector["repeat"])
    assert is_costly(body) is vector["as_written"]
    with nullcontext() if not vector["as_written"] else pytest.raises(ValueError, match="Markdown"):
        check_markdown(body)
    parts = beside(Text(""), body, Text("")).columns[1]._cells[0].renderables  # type: ignore[union-attr]  # a grid
    assert isinstance(parts[0], Text) is vector["as_written"]


def test_markdown_is_drawn_on_a_terminal_and_cannot_steer_it(run: Run) -> None:
    name = unique("quay")
    run("conversations", "make", name)
    body = "**High** water\n\n- ramp\n- ~~late~~\n\n\x1b[31mred"
    run("post", name, "--markdown", body)
    assert "**High** water" in run("history", name).stdout  # for a script it is what was written
    shown = run("history", name, TTY_COMPATIBLE="1", FORCE_COLOR="1", COLUMNS="100").stdout
    assert "**" not in shown
    assert "\x1b[9mlate" in shown  # struck through
    plain = re.sub(r"\x1b\[[0-9;]*m", "", shown)
    assert "• ramp" in plain
    assert "\\u001b[31mred" in plain


def test_text_that_means_harm_steers_no_terminal(run: Run) -> None:
    lines(run("conversations", "make", "--title", "a\u202eb", "--json", place := unique("pier")))
    for body in ("x\x1b[31mred", "\u202egnp.exe", "a" + "\u0301" * 7_999, "\u2066iso\u2069\u200b"):
        lines(run("post", place, body, "--json"))
    shown = run("history", place).stdout + run("conversations", "list").stdout
    assert not any(char in shown for char in "\x1b\u202e\u2066\u2069\u200b")
    assert "(+7,991 marks)" in shown
    assert len(shown) < 2_000


def test_an_export_to_a_terminal_cannot_steer_it(run: Run, service: Served) -> None:
    name = unique("quay")
    run("conversations", "make", name)
    run("post", name, "calm \x9b31m \u202e turned é")
    assert "\x9b" in run("export", name).stdout  # on a pipe it is what was written
    command = [sys.executable, "-m", "nestrel.cli", "export", name]
    env = {**os.environ, "NESTREL_URL": service.url, "NESTREL_TOKEN": run.token}  # type: ignore[attr-defined]  # as above
    ours, theirs = pty.openpty()
    try:
        process = subprocess.Popen(command, stdout=theirs, stderr=theirs, env=env)
    finally:
        os.close(theirs)
    shown = b""
    with suppress(OSError), os.fdopen(ours, "rb", buffering=0) as reader:  # which ends so on Linux
        while part := reader.read(65_536):
            shown += part
    assert process.wait(PATIENCE) == 0
    text = shown.decode()
    assert "\\u009b31m" in text
    assert "\\u202e turned é" in text
    assert not {"\x9b", "\u202e"} & set(text)
