"""What others' programs make of the OpenAPI document: clients that are checked by their types, and post and page."""

from __future__ import annotations

import importlib
import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests.support import Person, Served

pytestmark = pytest.mark.whole

_CONSOLE = Path(__file__).resolve().parents[1] / "console"
_PROGRAM = """
import createClient from "openapi-fetch";
import type { components, paths } from "./schema.js";

const [url, token, place] = process.argv.slice(2) as [string, string, string];
const { GET, POST } = createClient<paths>({ baseUrl: url, headers: { Authorization: `Bearer ${token}` } });
const params = { path: { conversation_id: place } };
for (const body of ["high water", "slack", "low water"])
  await POST("/v1/conversations/{conversation_id}/messages", { params, body: { body } });
const found: components["schemas"]["Message"][] = [];
let cursor: string | null | undefined;
do {
  const page = await GET("/v1/conversations/{conversation_id}/messages", {
    params: { ...params, query: cursor ? { limit: 2, cursor } : { limit: 2, order: "asc" } },
  });
  if (page.error) throw new Error(page.error.detail);
  found.push(...page.data.items);
  cursor = page.data.newer;
} while (cursor);
const wrong = await GET("/v1/conversations/{conversation_id}", { params: { path: { conversation_id: url } } });
console.log(JSON.stringify([found.map((one) => [one.seq, one.body]), wrong.error?.status]));
"""
_SETTINGS = {
    "compilerOptions": {
        "strict": True, "module": "nodenext", "target": "es2022", "skipLibCheck": True, "types": ["node"],
        "lib": ["es2022", "dom"],
    }
}  # fmt: skip
_SAID = [[1, "high water"], [2, "slack"], [3, "low water"]]


@pytest.fixture(scope="module")
def document(service: Served, tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("openapi") / "openapi.json"
    path.write_bytes(httpx.get(service.url + "/openapi.json", timeout=30).content)
    return path


def run(*command: str | Path, cwd: Path) -> str:
    done = subprocess.run([str(word) for word in command], cwd=cwd, capture_output=True, check=False, text=True)
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout + done.stderr


async def test_a_client_in_python(
    document: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, person: Callable[..., Person]
) -> None:
    said = run(
        Path(sys.executable).with_name("openapi-python-client"), "generate", "--path", document, "--output-path",
        tmp_path / "harbour_client", "--meta", "none", cwd=tmp_path,
    )  # fmt: skip
    # It leaves out what is neither JSON nor a form: bytes, lines and archives; and nothing else.
    left_out = {line.split(" ")[3] for line in said.splitlines() if line.startswith("WARNING parsing")}
    assert all(path.endswith(("}", "/preview", "/import", "/export")) for path in left_out), left_out
    assert "Unable to" not in said, said
    monkeypatch.syspath_prepend(tmp_path)
    mara = person()
    place = (await mara.make())["id"]

    def part(name: str) -> Any:
        return importlib.import_module(f"harbour_client.{name}")

    async with part("client").AuthenticatedClient(base_url=mara.url, token=mara.token) as client:
        post = part("api.messages.post_message")
        for _, body in _SAID:
            wanted = post.PostMessagePostMessage(body=body)
            posted = await post.asyncio(place, client=client, body=wanted, idempotency_key=body)
            assert posted.body == body
        listing, found = part("api.messages.list_messages"), list[Any]()
        way: dict[str, Any] = {"order": part("models").ListMessagesOrderType0.ASC}
        while True:
            page = await listing.asyncio(place, client=client, limit=2, **way)
            found += [[one.seq, one.body] for one in page.items]
            if page.newer is None:
                break
            way = {"cursor": page.newer}
        assert found == _SAID
        missing = await part("api.messages.get_message").asyncio(place, 4, client=client)
        assert (missing.status, missing.type_) == (404, "/problems/not-found")


async def test_a_client_in_typescript(document: Path, tmp_path: Path, person: Callable[..., Person]) -> None:
    mara = person()
    place = (await mara.make())["id"]
    (tmp_path / "node_modules").symlink_to(_CONSOLE / "node_modules")
    (tmp_path / "package.json").write_text('{"type": "module"}')
    (tmp_path / "tsconfig.json").write_text(json.dumps(_SETTINGS))
    (tmp_path / "program.ts").write_text(_PROGRAM)
    programs = _CONSOLE / "node_modules" / ".bin"
    run(programs / "openapi-typescript", document, "--output", tmp_path / "schema.d.ts", cwd=tmp_path)
    run(programs / "tsc", "--project", tmp_path, cwd=tmp_path)
    said = json.loads(run("node", "program.js", mara.url, mara.token, place, cwd=tmp_path))
    assert said == [_SAID, 404]
