"""The files for real machines: each as its own program reads it."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

import orjson
import pytest
import yaml
from cluster import files
from cluster.parts import Kind, Places
from prometheus_client import REGISTRY

import nestrel.live.metrics
import nestrel.service.metrics  # noqa: F401 - both register what they count
from nestrel.core.problems import StoreUnavailable
from nestrel.service.settings import Settings

pytestmark = pytest.mark.whole

_DEPLOY = files.DEPLOY
_FRONT = {"NAME", "LISTEN", "NESTREL", "CERTIFICATE", "KEY"}
"""Filled in by whoever puts one proxy in front of one machine (tests/test_fronts.py)."""
_SECRETS = dict.fromkeys(("postgres", "replication", "rewind", "serving", "redis", "tokens"), "secret")


def _says(*command: str | Path) -> str:
    """What a program says of its file; it must be content."""
    env = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "HOME": "/", "LC_ALL": "C.UTF-8"}
    done = subprocess.run([str(word) for word in command], capture_output=True, text=True, env=env)
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout + done.stderr


@pytest.fixture(scope="module")
def places() -> Places:
    return Places(99)


def test_haproxy_takes_its_file(places: Places, tmp_path: Path) -> None:
    said = _says("haproxy", "-c", "-f", files.haproxy(places, tmp_path))
    assert "warning" not in said.lower(), said


def test_patroni_takes_its_file(places: Places, tmp_path: Path) -> None:
    part = places.of(Kind.POSTGRES)[0]
    text = files.patroni(places, part, tmp_path, _SECRETS, tmp_path / "archive").read_text()
    read = yaml.safe_load(text)
    dcs = read["bootstrap"]["dcs"]
    # What the promises rest on, in docs/operations.md.
    assert dcs["synchronous_mode"] is True
    assert dcs["synchronous_mode_strict"] is True
    assert dcs["ttl"] >= dcs["loop_wait"] + 2 * dcs["retry_timeout"]


def test_every_file_is_filled_in_with_what_is_known(places: Places, tmp_path: Path) -> None:
    own = {"NODE", "ADDRESS", "DATA", "ERRORS", "USERLIST", "REPLICA_OF", "PGPASS", "ARCHIVE", "SHARED_BUFFERS"}
    passwords = {f"{name}_PASSWORD" for name in ("POSTGRES", "REPLICATION", "REWIND", "REDIS", "BACKUP")}
    known = {*files.common(places)} | own | passwords
    for path in _DEPLOY.rglob("*"):
        if path.is_file() and path.suffix in (".yml", ".cfg", ".ini", ".conf"):
            in_front = _FRONT if path.parent.name == "front" else set()
            assert set(re.findall(r"\$\{(\w+)\}", path.read_text())) <= known | in_front, path


def test_pgbackrest_knows_all_that_its_file_says(places: Places, tmp_path: Path) -> None:
    """It reads the file and looks for a repository, which is not there; of what it does not know it warns."""
    text = files.filled("pgbackrest.conf", **files.common(places), BACKUP_PASSWORD="x" * 20, DATA=tmp_path / "data")
    config = tmp_path / "pgbackrest.conf"
    config.write_text(text.replace("/var/lib/pgbackrest", str(tmp_path)))
    said = _says("pgbackrest", f"--config={config}", "--stanza=nestrel", "--log-level-file=off", "info")
    assert "stanza: nestrel" in said
    assert "WARN" not in said


@pytest.mark.parametrize("unit", sorted(path.name for path in (_DEPLOY / "systemd").iterdir()))
def test_systemd_takes_the_units(unit: str, tmp_path: Path) -> None:
    # It looks for the program too, which is elsewhere here.
    text = (_DEPLOY / "systemd" / unit).read_text().replace("/opt/nestrel/bin/nestrel", "/bin/true")
    copy = tmp_path / unit
    copy.write_text(text)
    assert _says("systemd-analyze", "verify", copy) == ""


def test_the_service_s_unit_leaves_it_little() -> None:
    said = _says("systemd-analyze", "security", "--offline=true", "--threshold=20", _DEPLOY / "systemd/nestrel.service")
    assert "Overall exposure level" in said


def test_what_haproxy_answers_when_nobody_is_there_is_what_the_service_would(places: Places) -> None:
    head, _, body = (_DEPLOY / "unavailable.http").read_bytes().partition(b"\r\n\r\n")
    lines = head.decode().split("\r\n")
    headers = dict(line.split(": ", 1) for line in lines[1:])
    assert lines[0].split()[1] == "503"
    assert int(headers["Content-Length"]) == len(body)
    document = orjson.loads(body)
    assert document == StoreUnavailable(document["detail"], retry_after=int(headers["Retry-After"])).document()


def test_the_settings_of_a_service_are_settings(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(_DEPLOY)
    assert Settings().metrics_port == 9460


def test_the_container_s_recipe_names_what_there_is(monkeypatch: pytest.MonkeyPatch) -> None:
    """As far as that can be seen without building it."""
    text = (_DEPLOY / "Containerfile").read_text()
    root = _DEPLOY.parent
    [locked, wheel] = re.findall(r"^COPY (?!--from)(\S+)", text, re.M)
    assert "--hash=sha256:" in (root / locked).read_text()
    assert f"{Path(wheel).parent}" in (root / "script/build").read_text()
    for name, value in re.findall(r"\b(NESTREL_\w+)=(\S+)", text):
        monkeypatch.setenv(name, value)
    found = Settings()
    assert (found.host, found.data_dir) == ("0.0.0.0", Path("/var/lib/nestrel"))
    assert re.findall(r"^EXPOSE (\d+)", text, re.M) == [str(found.port)]
    assert f"http://127.0.0.1:{found.port}/healthz" in text
    words = json.loads(re.findall(r"^CMD (\[.*])", text, re.M)[-1])
    _says(Path(sys.executable).parent / words[0], *words[1:], "--help")


# --- Prometheus -------------------------------------------------------------------------------------------------------


def _dashboard() -> list[str]:
    read = json.loads((_DEPLOY / "grafana-dashboard.json").read_text())
    return [target["expr"] for panel in read["panels"] for target in panel["targets"]]


def _rules() -> list[dict[str, Any]]:
    read = yaml.safe_load((_DEPLOY / "prometheus/rules.yml").read_text())
    return [rule for group in read["groups"] for rule in group["rules"]]


def _metrics() -> dict[str, str]:
    return {one.name: one.type for one in REGISTRY.collect() if one.name.startswith("nestrel_")}


def _series() -> set[str]:
    """The names under which the service tells what it counts."""
    ends = {"counter": ("_total",), "histogram": ("_bucket", "_sum", "_count"), "gauge": ("",)}
    return {name + end for name, kind in _metrics().items() for end in ends[kind]}


def test_prometheus_takes_its_files_and_the_dashboard_s_queries(places: Places, tmp_path: Path) -> None:
    (tmp_path / "prometheus.yml").write_text(files.filled("prometheus/prometheus.yml", **files.common(places)))
    (tmp_path / "rules.yml").write_text((_DEPLOY / "prometheus/rules.yml").read_text())
    assert "SUCCESS" in _says("promtool", "check", "config", tmp_path / "prometheus.yml")
    queries = [{"record": f"query:{n}", "expr": expr} for n, expr in enumerate(_dashboard())]
    (tmp_path / "queries.yml").write_text(yaml.safe_dump({"groups": [{"name": "dashboard", "rules": queries}]}))
    assert f"{len(queries)} rules found" in _says("promtool", "check", "rules", tmp_path / "queries.yml")


def test_what_is_asked_of_prometheus_is_what_the_service_tells() -> None:
    recorded = {rule["record"] for rule in _rules() if "record" in rule}
    asked = {
        name
        for expr in [*_dashboard(), *(rule["expr"] for rule in _rules())]
        for name in re.findall(r"\bnestrel[\w:]*", re.sub(r'"[^"]*"', "", expr))
    }
    assert asked <= _series() | recorded
    shown = " ".join(_dashboard())
    assert [name for name in _metrics() if name not in shown] == []


def test_alerts_are_raised_when_they_should_be(tmp_path: Path) -> None:
    # What they say is for people, and not compared.
    plain = [{name: value for name, value in rule.items() if name != "annotations"} for rule in _rules()]
    (tmp_path / "rules.yml").write_text(yaml.safe_dump({"groups": [{"name": "nestrel", "rules": plain}]}))

    def case(alert: str, raised: bool, **series: str) -> dict[str, Any]:
        rule = next(rule for rule in _rules() if rule.get("alert") == alert)
        at = {"eval_time": "30m", "alertname": alert}
        firing = [{"exp_labels": rule["labels"]}] if raised else []
        given = [{"series": name, "values": values} for name, values in series.items()]
        return {"interval": "15s", "input_series": given, "alert_rule_test": [{**at, "exp_alerts": firing}]}

    refusals = 'nestrel_refusals_total{problem="store-unavailable"}'
    failed, behind, answered = (
        f'nestrel_replica_reads_total{{outcome="{one}"}}' for one in ("failed", "behind", "answered")
    )
    tests = [
        case("NestrelRefusesForItsStore", True, **{refusals: "0+60x200"}),
        case("NestrelRefusesForItsStore", False, **{refusals: "0+1x200"}),
        case("NestrelStandbyFails", True, **{failed: "0+1x200"}),
        case("NestrelStandbyFails", False, **{failed: "7x200", answered: "0+100x200"}),
        case("NestrelStandbysBehind", True, **{behind: "0+6x200", answered: "0+4x200"}),
        case("NestrelStandbysBehind", False, **{behind: "0+4x200", answered: "0+6x200"}),
        case("NestrelBusAway", True, nestrel_bus_up="1x20 0x180"),
        case("NestrelBusAway", False, nestrel_bus_up="1x200"),
        case("NestrelSweepBehind", True, nestrel_sweep_lag_seconds="900x200"),
        case("NestrelSweepBehind", False, nestrel_sweep_lag_seconds="3x200"),
    ]
    (tmp_path / "tests.yml").write_text(yaml.safe_dump({"rule_files": ["rules.yml"], "tests": tests}))
    _says("promtool", "test", "rules", tmp_path / "tests.yml")
