"""What stands in front of the service: nginx, HAProxy and Caddy, each with the file that is shipped for it."""

from __future__ import annotations

import asyncio
import json
import os
import ssl
import subprocess
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path
from string import Template
from typing import Any

import httpx
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from websockets.asyncio.client import connect

from nestrel.local.postgres import free_port
from tests.support import PATIENCE, Person, Served, once, unique, until

pytestmark = pytest.mark.whole

_FILES = Path(__file__).resolve().parents[1] / "deploy" / "front"
_LARGEST = 25_000_000
_ADDRESS_LIMIT = 30


@dataclass(frozen=True)
class Front:
    """A proxy that runs, before a service of its own."""

    name: str
    url: str
    trust: ssl.SSLContext
    served: Served

    def person(self, user: str, **claims: str) -> Person:
        """Somebody who comes through it."""
        made = Person(self.url, user, **claims)
        made.http = self.http(headers={"Authorization": f"Bearer {made.token}"}, base_url=self.url + "/v1")
        return made

    def http(self, address: str | None = None, **options: Any) -> httpx.AsyncClient:
        transport = httpx.AsyncHTTPTransport(verify=self.trust, local_address=address)
        return httpx.AsyncClient(transport=transport, timeout=PATIENCE, **options)


def _certificate(folder: Path) -> tuple[Path, Path, Path]:
    """A certificate for this machine, its key, and both in one file."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "localhost")])
    names = x509.SubjectAlternativeName([x509.DNSName("localhost"), x509.IPAddress(ip_address("127.0.0.1"))])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(x509.random_serial_number()).not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=1)).add_extension(names, critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True).sign(key, hashes.SHA256())
    )  # fmt: skip
    public = made.public_bytes(serialization.Encoding.PEM)
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    files = folder / "front.pem", folder / "front.key", folder / "both.pem"
    for path, content in zip(files, (public, private, public + private), strict=True):
        path.write_bytes(content)
    return files


def _nginx(folder: Path, values: Mapping[str, str]) -> list[str]:
    text = (_FILES / "nginx.conf").read_text()
    for name, value in values.items():
        text = text.replace("${" + name + "}", value)
    own = "".join(
        f"{kind}_temp_path {folder}/{kind};\n" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    )
    user = "user root;\n" if os.geteuid() == 0 else ""
    whole = (
        f"{user}daemon off;\npid {folder}/pid;\nerror_log stderr;\nevents {{}}\nhttp {{\naccess_log off;\n{own}{text}}}"
    )
    (folder / "nginx.conf").write_text(whole)
    return ["nginx", "-e", "stderr", "-c", str(folder / "nginx.conf")]


def _haproxy(folder: Path, values: Mapping[str, str]) -> list[str]:
    (folder / "haproxy.cfg").write_text(Template((_FILES / "haproxy.cfg").read_text()).substitute(values))
    return ["haproxy", "-db", "-f", str(folder / "haproxy.cfg")]


def _caddy(folder: Path, _values: Mapping[str, str]) -> list[str]:
    # On a machine of one's own it also listens on port 80, and at a port for its own commands.
    text = (_FILES / "Caddyfile").read_text().replace("grace_period 10s", "grace_period 1s")
    whole = text.replace("{\n", "{\n\tadmin off\n\tauto_https disable_redirects\n", 1)
    (folder / "Caddyfile").write_text(whole)
    return ["caddy", "run", "--adapter", "caddyfile", "--config", str(folder / "Caddyfile")]


_PROXIES = {"nginx": _nginx, "haproxy": _haproxy, "caddy": _caddy}


@pytest.fixture(scope="module", params=sorted(_PROXIES))
def front(
    request: pytest.FixtureRequest, make_database: Callable[[], str], tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Front]:
    folder = tmp_path_factory.mktemp(request.param)
    certificate, key, both = _certificate(folder)
    port = free_port()
    url = f"https://localhost:{port}"
    settings: dict[str, Any] = {
        "NESTREL_PUBLIC_URL": url, "NESTREL_PROXIES": "127.0.0.1/32", "NESTREL_RATE_LIMIT_ADDRESS": str(_ADDRESS_LIMIT),
    }  # fmt: skip
    with Served(make_database(), **settings) as served:
        served.wait_ready()
        values = {
            "NAME": url if request.param == "caddy" else "localhost",
            "LISTEN": f"127.0.0.1:{port}",
            "NESTREL": f"127.0.0.1:{served.port}",
            "CERTIFICATE": str(both if request.param == "haproxy" else certificate),
            "KEY": str(key),
        }
        command = _PROXIES[request.param](folder, values)
        env = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "HOME": str(folder), "XDG_DATA_HOME": str(folder), **values}
        with (folder / "log").open("wb") as log:
            process = subprocess.Popen(command, env=env, stdout=log, stderr=log, cwd=folder)
        trust = ssl.create_default_context(cafile=str(certificate))

        def ready() -> bool:
            assert process.poll() is None, (folder / "log").read_text()[-3000:]
            try:
                return httpx.get(url + "/healthz", verify=trust, timeout=5).status_code == 200
            except httpx.HTTPError:
                return False

        try:
            until(ready, explain=(folder / "log").read_text)
            yield Front(request.param, url, trust, served)
        finally:
            process.terminate()
            process.wait(PATIENCE)


async def test_requests_sockets_and_streams_go_through_as_they_are_written(front: Front) -> None:
    mara, odd = front.person(unique("mara")), front.person(unique("odd"))
    place = (await mara.make(members=[odd.user]))["id"]
    async with front.http() as anybody:
        page = await anybody.get(front.url + "/console/", follow_redirects=True)
    assert (page.status_code, "<html" in page.text) == (200, True)
    async with connect("wss" + front.url[5:] + "/v1/live", ssl=front.trust) as line:
        await line.send(json.dumps({"type": "sign_in", "token": odd.token}))
        assert json.loads(await line.recv())["type"] == "signed_in"
        await line.send(json.dumps({"type": "follow", "conversation_id": place, "ref": 1}))
        async with asyncio.timeout(PATIENCE), odd.http.stream("GET", "/stream") as stream:
            events = stream.aiter_lines()
            await anext(events)
            for n in range(3):  # each arrives before the next is written
                assert (await mara.post(place, f"tide {n}")).status_code == 201
                async for event in events:
                    if f"tide {n}" in event:
                        break
                while f"tide {n}" not in str(await line.recv()):
                    pass
            await (await line.ping())


async def test_the_largest_file_goes_both_ways_and_a_larger_one_is_refused(front: Front) -> None:
    mara = front.person(unique("mara"))
    place = (await mara.make())["id"]
    content = os.urandom(1_000_000) * 25
    sent = await mara.upload(place, content, "soundings.bin")
    assert sent.status_code == 201, sent.text
    posted = await mara.post(place, "", attachments=[sent.json()["attachment_id"]])
    assert posted.status_code == 201
    back = await mara.http.get(f"/conversations/{place}/attachments/{sent.json()['attachment_id']}")
    assert (len(back.content), back.content == content) == (_LARGEST, True)
    try:
        assert (await mara.upload(place, content + b"x", "larger.bin")).status_code == 413
    except (httpx.ReadError, httpx.WriteError):
        assert front.name == "caddy", "it ends the connection with its answer, which may not be read then"


async def test_the_address_that_counts_is_the_clients_and_not_what_it_says(front: Front) -> None:
    async with front.http("127.0.0.2") as here, front.http("127.0.0.3") as there:

        async def refused() -> int:
            return (await here.get(front.url + "/v1/me")).status_code

        assert await refused() == 401
        await once(refused, lambda status: status == 429)
        spoken = await here.get(front.url + "/v1/me", headers={"X-Forwarded-For": "192.0.2.7"})
        assert spoken.status_code == 429
        assert (await there.get(front.url + "/v1/me")).status_code == 401
