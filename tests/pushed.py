"""The stand-in push service, on loopback, for the tests' own devices."""

from __future__ import annotations

import os
import threading
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from typing import Any

import uvicorn
from fastapi import FastAPI

from nestrel.demo.pushes import Device, router
from nestrel.local.postgres import free_port
from tests.support import Person, call, once, unique


class PushService:
    """Where devices are told."""

    def __init__(self, port: int) -> None:
        self.address = f"http://127.0.0.1:{port}"
        self.devices: dict[str, Device] = {}

    def device(self) -> Device:
        made = Device(unique("handset"), os.urandom(16))
        self.devices[made.name] = made
        return made

    async def subscribed(self, who: Person, status: int = 201) -> Device:
        """A device of somebody's."""
        device = self.device()
        await call(who, "PUT", "/me/push-subscriptions", device.subscription(self.address), status)
        return device


@asynccontextmanager
async def push_service() -> AsyncIterator[PushService]:
    """One that listens; by a thread, as the tests' loop may be busy when it is asked."""
    made = PushService(free_port())
    app = FastAPI()
    app.include_router(router(made.devices))
    config = uvicorn.Config(app, port=int(made.address.rpartition(":")[2]), log_level="error", lifespan="off")
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()

    async def started() -> bool:
        return server.started

    await once(started, bool)
    try:
        yield made
    finally:
        server.should_exit = server.force_exit = True
        thread.join(10)


async def told(device: Device, enough: Callable[[list[dict[str, Any]]], bool]) -> list[dict[str, Any]]:
    """What has come to a device, once it is enough."""

    async def look() -> list[dict[str, Any]]:
        return [one["notice"] for one in list(device.got)]

    return await once(look, enough)


async def asked(device: Device, enough: Callable[[list[dict[str, Any]]], bool]) -> list[dict[str, Any]]:
    """How it was asked to take something, once that is enough."""

    async def look() -> list[dict[str, Any]]:
        return list(device.asked)

    return await once(look, enough)
