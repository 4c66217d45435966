"""A page of another origin, in a browser: what it may ask of the service, and what it gets to see."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

from playwright.async_api import Browser

from nestrel.local.postgres import free_port
from tests.console.pages import new_page
from tests.support import Person, Served, token

_CALLS = """async ([service, token, place]) => {
  const call = (path, init = {}) => fetch(service + '/v1' + path,
    {...init, headers: {Authorization: `Bearer ${token}`, ...init.headers}});
  const json = (method, body, headers = {}) =>
    ({method, body: JSON.stringify(body), headers: {'Content-Type': 'application/json', ...headers}});
  const at = `/conversations/${place}`;
  const list = await (await call('/conversations')).json();
  const posted = await call(at + '/messages', json('POST', {body: 'High tide at ten'}, {'Idempotency-Key': 'tide'}));
  const message = await posted.json();
  const edited = await call(`${at}/messages/${message.seq}`,
    json('PATCH', {body: 'High tide at eleven'}, {'If-Match': posted.headers.get('ETag')}));
  await call(at + '/messages', json('POST', {body: 'Ramp down'}));
  const page = await call(at + '/messages?limit=1&order=asc');
  const sent = await call(at + '/attachments', {method: 'POST', body: 'berth 4', headers:
    {'Content-Type': 'application/octet-stream', 'Content-Disposition': "attachment; filename*=UTF-8''berths.txt"}});
  const file = await sent.json();
  const fetched = await call(`${at}/attachments/${file.attachment_id}`);
  const missing = await call('/conversations/00000000-0000-0000-0000-000000000000');
  const line = new WebSocket(service.replace('http', 'ws') + '/v1/live');
  const live = await new Promise((done) => {
    line.onopen = () => line.send(JSON.stringify({type: 'sign_in', token, follow_all: true}));
    line.onmessage = async (event) => {
      const frame = JSON.parse(event.data);
      if (frame.type === 'checkpoint') await call(at + '/messages', json('POST', {body: 'Gangway up'}));
      if (frame.type === 'changes') done(frame.messages.map((one) => one.body));
    };
    line.onclose = (event) => done(`closed ${event.code}`);
  });
  return {
    list: list.items.map((one) => one.id), edited: (await edited.json()).body,
    page: (await page.json()).items.map((one) => one.body), linked: page.headers.has('Link'),
    name: fetched.headers.get('Content-Disposition'), bytes: await fetched.text(), live,
    missing: missing.status, id: missing.headers.has('X-Request-ID'),
  };
}"""
_REFUSED = """async ([service, token]) => {
  const tried = (init) => fetch(service + '/v1/me', init).then((answer) => answer.status, () => 'hidden');
  return [await tried({headers: {Authorization: `Bearer ${token}`}}), await tried({credentials: 'include'}),
    await new Promise((done) => {
      const line = new WebSocket(service.replace('http', 'ws') + '/v1/live');
      line.onopen = () => done('open');
      line.onclose = () => done('closed');
    })];
}"""


@contextmanager
def _pages() -> Iterator[str]:
    """Somebody else's server, with one page."""

    class Page(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self.send_response(200)
            self.send_header("Content-Type", "text/html")
            self.end_headers()
            self.wfile.write(b"<!doctype html><title>Berths</title>")

        def log_message(self, format: str, *args: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", free_port()), Page)
    serving = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05})
    serving.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()
        serving.join()


async def test_a_page_of_another_origin_does_what_one_of_its_own_can(
    browser: Browser, make_database: Callable[[], str]
) -> None:
    with _pages() as app, _pages() as stranger, Served(make_database(), NESTREL_ORIGINS=app) as served:
        served.wait_ready()
        mara = Person(served.url, "mara")
        place = (await mara.make())["id"]
        page = await new_page(browser)
        await page.goto(app)
        found = await page.evaluate(_CALLS, [served.url, token("mara"), place])
        await page.goto(stranger)
        refused = await page.evaluate(_REFUSED, [served.url, token("mara")])
        await mara.http.aclose()
    assert found == {
        "list": [place], "edited": "High tide at eleven", "page": ["High tide at eleven"], "linked": True,
        "name": "attachment; filename=\"berths.txt\"; filename*=UTF-8''berths.txt",
        "bytes": "berth 4", "live": ["Gangway up"],
        "missing": 404, "id": True,
    }  # fmt: skip
    assert refused == ["hidden", "hidden", "closed"]
