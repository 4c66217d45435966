"""Runs the application under uvicorn, in one process or several, and drains it on SIGTERM."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import multiprocessing
import os
import signal
import socket
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from multiprocessing.connection import Connection
from multiprocessing.context import ForkServerProcess

import structlog
import uvicorn
from prometheus_client import start_http_server
from starlette.types import ASGIApp

from nestrel.core import limits
from nestrel.service import bounds, heap, logs, metrics
from nestrel.service.app import in_front, make_app
from nestrel.service.hosts import Proxies
from nestrel.service.settings import Settings
from nestrel.service.state import Service

log = structlog.get_logger()

_PING_SECONDS = 20.0
_BACKLOG = 4096
_CLOSE_SECONDS = 5.0
_LAST_SECONDS = 20.0
"""What a worker has beyond its drain to end by itself."""
_LOOK_SECONDS = 1.0
"""How often a worker looks whether what it was forked from is there."""
_SEND_BUFFER_BYTES = 128 * 1024


_FORKS = multiprocessing.get_context("forkserver")
"""Workers are forks of a process that has imported the service and done nothing else: no thread, no connection. So one
starts with a fifth of the processor time of a new process (decisions/079)."""


class DrainingServer(uvicorn.Server):
    """Stops in order: no new work, what is in flight finishes, live connections close with 1001, then exit 0."""

    def __init__(self, config: uvicorn.Config, service: Service) -> None:
        super().__init__(config)
        self._service = service
        self._watching: asyncio.Task[None] | None = None
        self.asked: list[int] = []
        """Signals to stop that came early."""
        service.abort = _abort

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        if self.asked:
            self.should_exit = True
        watching = bounds.watch(self.server_state.connections, self._service.settings.stall_seconds)
        self._watching = asyncio.create_task(watching, name="connections")

    async def shutdown(self, sockets: list[socket.socket] | None = None) -> None:
        service = self._service
        for server in self.servers:
            server.close()
        for bound in sockets or ():
            bound.close()  # whoever connects now is refused at once, and does not wait in a queue that nobody serves
        service.draining = True
        for connection in tuple(self.server_state.connections):
            if isinstance(connection, bounds.BoundedHttp):
                connection.give_up_body()
        for session in tuple(service.sessions):
            session.drain()
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(service.settings.drain_seconds):
                await service.writer.drain()
        for session in tuple(service.sessions):
            session.close(1001, "the service is stopping")
        try:
            async with asyncio.timeout(min(_CLOSE_SECONDS, service.settings.drain_seconds)):
                await service.emptied()
        except TimeoutError:
            # Whoever does not even read the close frame holds nobody up.
            log.warning("drain.cut_short", connections=len(service.sessions))
            for session in tuple(service.sessions):
                _abort(session.connection)
        if self._watching is not None:
            self._watching.cancel()
        await super().shutdown(sockets)


def _abort(connection: object) -> None:
    """Cut a connection, with whatever was still to be sent on it."""
    transport = getattr(connection, "transport", None)
    if transport is not None:
        transport.abort()


def config_of(app: ASGIApp, settings: Settings, proxies: Proxies) -> uvicorn.Config:
    """How the server treats those who connect."""
    http, ws = bounds.protocols(bounds.AddressConnections(settings.address_connections, proxies))
    return uvicorn.Config(
        app,
        loop="uvloop",
        http=http,
        ws=ws,
        proxy_headers=False,
        ws_max_size=limits.FRAME_BYTES,
        ws_ping_interval=_PING_SECONDS,
        ws_ping_timeout=2 * _PING_SECONDS,
        ws_per_message_deflate=False,
        log_config=None,
        access_log=False,
        timeout_keep_alive=limits.IDLE_SECONDS,
        timeout_graceful_shutdown=max(1, round(settings.drain_seconds)),
        server_header=False,
        backlog=_BACKLOG,
    )


def server_of(settings: Settings) -> DrainingServer:
    """A server for the application, not yet started."""
    app = make_app(settings)
    service: Service = app.state.service
    return DrainingServer(config_of(in_front(app), settings, service.proxies), service)


def listen(settings: Settings) -> socket.socket:
    """Bind the listening socket. Raises `OSError` when the address is taken or not this machine's."""
    family = socket.AF_INET6 if ":" in settings.host else socket.AF_INET
    bound = socket.socket(family, socket.SOCK_STREAM)
    bound.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    # Connections inherit it: what the system keeps for one that does not read is bounded, and not by megabytes.
    bound.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, _SEND_BUFFER_BYTES)
    bound.bind((settings.host, settings.port))
    bound.listen(_BACKLOG)
    bound.set_inheritable(True)
    return bound


class CannotListen(Exception):
    """An address cannot be listened on; the text says which, and why."""


@contextlib.contextmanager
def _cannot_listen(address: str) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise CannotListen(f"cannot listen on {address}: {error.strerror}") from None


def serve(settings: Settings, workers: int = 1, on_bound: Callable[[str], None] = lambda _address: None) -> None:
    """Serve until SIGTERM or SIGINT, then drain. `on_bound` hears the address once it is listened on.

    Raises:
        CannotListen: an address cannot be listened on.
    """
    logs.configure(settings.log_level)
    with _cannot_listen(f"{settings.host}:{settings.port}"):
        bound = listen(settings)
    host, port = bound.getsockname()[:2]
    address = f"http://[{host}]:{port}" if ":" in host else f"http://{host}:{port}"
    if workers == 1:
        _serve_metrics(settings)
        on_bound(address)
        _run(settings, bound)
        return
    with tempfile.TemporaryDirectory(prefix="nestrel-metrics-") as directory:
        os.environ["PROMETHEUS_MULTIPROC_DIR"] = directory
        _serve_metrics(settings)
        on_bound(address)
        _Supervisor(settings, bound, workers).run()


def _serve_metrics(settings: Settings) -> None:
    """The metrics on a port of their own, where one is set; for all workers."""
    if settings.metrics_port is not None:
        with _cannot_listen(f"{settings.host}:{settings.metrics_port} for metrics (NESTREL_METRICS_PORT)"):
            start_http_server(settings.metrics_port, settings.host, metrics.registry())


def _run(settings: Settings, bound: socket.socket) -> None:
    heap.give_back()
    # uvicorn drains on these signals and then raises them again for whoever handled them before: nobody needs to.
    # One that comes before uvicorn listens for them is not to be lost.
    asked: list[int] = []
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda number, _frame: asked.append(number))
    server = server_of(settings)
    server.asked = asked
    # The application is here to stay: the collector need not walk through it again and again. Requests make little
    # that only the collector can free, so it may come less often; what it frees late is memory of nobody's use.
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 10, 10)
    server.run(sockets=[bound])


def _worker(settings: Settings, bound: socket.socket, parent: Connection) -> None:
    logs.configure(settings.log_level)
    threading.Thread(target=_stop_without, args=(parent,), daemon=True).start()
    _run(settings, bound)


def _stop_without(parent: Connection) -> None:
    """Drain when the supervisor is gone, however it went: its end of the pipe closes with it. Likewise when the process
    that this one was forked from is gone: the supervisor then takes its workers for dead, and starts others."""
    forked_from = os.getppid()
    with contextlib.suppress(EOFError, OSError):
        while not parent.poll(_LOOK_SECONDS) and os.getppid() == forked_from:
            pass
    os.kill(os.getpid(), signal.SIGTERM)


class _Supervisor:
    """Starts the workers, starts one anew that has died, and stops them all on SIGTERM."""

    def __init__(self, settings: Settings, bound: socket.socket, workers: int) -> None:
        self._settings = settings
        self._bound = bound
        self._workers: list[ForkServerProcess | None] = [None] * workers
        self._started = [0.0] * workers
        self._ours, self._theirs = _FORKS.Pipe()
        self._stopping = threading.Event()

    def run(self) -> None:
        _FORKS.set_forkserver_preload([__name__])
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda _number, _frame: self._stopping.set())
        while not self._stopping.wait(0.2):
            for index, process in enumerate(self._workers):
                if process is None or (not process.is_alive() and time.monotonic() - self._started[index] > 1):
                    if process is not None:
                        log.warning("worker.died", pid=process.pid, exitcode=process.exitcode)
                    self._start(index)
        self._bound.close()  # so that nobody waits in a queue that nobody serves
        for process in self._workers:
            if process is not None:
                process.terminate()
        until = time.monotonic() + self._settings.drain_seconds + _LAST_SECONDS
        for process in self._workers:
            if process is None:
                continue
            process.join(max(0.0, until - time.monotonic()))
            if process.is_alive():
                log.error("worker.killed", pid=process.pid)
                process.kill()
                process.join()

    def _start(self, index: int) -> None:
        process = _FORKS.Process(target=_worker, args=(self._settings, self._bound, self._theirs))
        process.start()
        self._workers[index] = process
        self._started[index] = time.monotonic()
