"""`script/bench`: run everything, print the table, write docs/benchmarks.md."""

from __future__ import annotations

import os
import platform
from datetime import UTC, datetime

import click

from bench import (
    changes,
    crowd,
    files,
    limiting,
    many,
    posts,
    reads,
    resync,
    retention,
    returning,
    scale,
    search,
    webhooks,
)
from bench.harness import ROOT, Result, bench

_HEAD = """# Benchmarks

Made by `script/bench` on {day}: {cores} cores, Python {python}, {rounds} round(s) of {seconds} s each. Ours and its
floor are measured in turn in the same run, and the pair with the median ratio is shown: machines are noisy, ratios
less so. `docs/decisions/` says what the figures led to.

| what | ours | floor | ratio | target | met | CPU for each: service, PostgreSQL, load |
|---|---|---|---|---|---|---|
"""

_TAIL = """
The floors: pgbench's transaction of one counter update and one insert for each message, 16 clients, prepared, the
same three indexes; a FastAPI route with one Pydantic model and the same token check; a FastAPI route that returns the
same bytes; a loop that sends the same frame to every WebSocket of a bare uvicorn application; pgbench's upsert of one
row with an update of a counter, and its update of a single row, 16 clients; for a resync that finds nothing, an
authenticated `GET /v1/me` of the same service, and a FastAPI route with the token check and no store. Messages into a
replica on disk take the client's own work with them: reading JSON, writing SQLite and its full-text index. For
retention, the server's own DELETE of the same rows into a bare table, the same posts without a sweep or a rule, and
its own INSERT … SELECT of the same rows into the same indexes. For files, routes of the
framework that drop a body, or stream one from memory. For limits, the same service without
any of them, and without metering. The load
comes from the same machine and shares its cores with the service and PostgreSQL.
"""

_PARTS = {
    "posts": posts,
    "reads": reads,
    "changes": changes,
    "crowd": crowd,
    "resync": resync,
    "return": returning,
    "retention": retention,
    "search": search,
    "files": files,
    "limiting": limiting,
    "webhooks": webhooks,
}
_BY_HAND = "<!-- What stands below is not written by script/bench. -->\n"
"""Behind it is what was measured in pairs of two states, or modelled; a run of the benchmark leaves it as it is."""


def _line(result: Result) -> str:
    def figure(value: float | None) -> str:
        return "—" if value is None else f"{value:,.2f}{result.unit}" if value < 100 else f"{value:,.0f}{result.unit}"

    ratio = "—" if result.floor is None else f"{result.ratio:.2f}"
    met = "yes" if result.met else "no"
    cpu = result.cpu
    each = f"{cpu.service:.0f}, {cpu.postgres:.0f}, {cpu.load:.0f} µs" if cpu is not None else ""
    cells = (result.what, figure(result.ours), figure(result.floor), ratio, result.target, met, each)
    return f"| {' | '.join(cells)} |\n"


@click.command()
@click.argument("table", type=click.Choice(["targets", "scale", "many"]), default="targets")
@click.option("--most", default=1_000_000, show_default=True, help="scale: messages of the largest conversation.")
@click.option("--followers", default=20_000, show_default=True, help="many: how many of them.")
@click.option("--quick", is_flag=True, help="One short round; writes no file.")
@click.option("--only", multiple=True, type=click.Choice(list(_PARTS)), help="Measure this part alone; writes no file.")
@click.option("--rounds", default=3, show_default=True)
@click.option("--seconds", default=5, show_default=True)
def main(table: str, most: int, followers: int, quick: bool, only: tuple[str, ...], rounds: int, seconds: int) -> None:
    """Measure Nestrel against its floors (targets), as it grows (scale), or with many who follow (many)."""
    if table == "many":
        with bench() as prepared:
            for line in many.measure(prepared, followers):
                click.echo(line)
        return
    if table == "scale":
        with bench() as prepared:
            for line in scale.measure(prepared, most):
                click.echo(line)
        return
    if quick:
        rounds, seconds = 1, 2
    with bench() as prepared:
        parts = [part for name, part in _PARTS.items() if not only or name in only]
        results = []
        for part in parts:
            for result in part.measure(prepared, rounds, seconds):
                results.append(result)
                click.echo(_line(result).rstrip(), err=True)  # what is measured is not lost by what fails behind it
    text = _HEAD.format(
        day=datetime.now(UTC).strftime("%Y-%m-%d"),
        cores=os.cpu_count(),
        python=platform.python_version(),
        rounds=rounds,
        seconds=seconds,
    )
    text += "".join(map(_line, results)) + _TAIL
    click.echo(text)
    if not (quick or only):
        page = ROOT / "docs" / "benchmarks.md"
        kept = page.read_text().partition(_BY_HAND)[2] if page.exists() else ""
        page.write_text(f"{text}\n{_BY_HAND}{kept}")


if __name__ == "__main__":
    main()
