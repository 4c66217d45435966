"""A stand-in for the push service of a browser's maker (RFC 8030): it keeps what is pushed to its devices, decrypts it
as the device would, and answers as it is told."""

from __future__ import annotations

import asyncio
import hashlib
import json
import time
from collections import deque
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

import http_ece  # type: ignore[import-untyped]  # it has no types
import jwt
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from fastapi import APIRouter, Request
from pydantic import BaseModel
from starlette.responses import Response

from nestrel.core.callers import Caller
from nestrel.demo.scenario import PEOPLE
from nestrel.service.push_keys import AUTH_BYTES, decoded, encoded
from nestrel.store.database import Database
from nestrel.store.write import subscriptions
from nestrel.store.write.subscriptions import Subscription

_CURVE = ec.SECP256R1()
_MOST_BYTES = 4_096
_KEPT = 200
_ID = UUID("01a20000-0000-7000-8000-00000000de71")


class Said(BaseModel):
    """What a device's next requests are answered with, after some `seconds`; nothing of `times`: all of them."""

    status: int = 201
    seconds: float = 0.0
    retry_after: int | None = None
    times: int | None = None


@dataclass
class Device:
    """A browser: its keys, and what has come to it. `secret` makes the same keys again."""

    name: str
    secret: bytes
    got: deque[dict[str, Any]] = field(default_factory=lambda: deque(maxlen=_KEPT))
    asked: deque[dict[str, Any]] = field(default_factory=lambda: deque(maxlen=_KEPT))
    says: Said = field(default_factory=Said)

    @property
    def key(self) -> ec.EllipticCurvePrivateKey:
        return ec.derive_private_key(int.from_bytes(hashlib.sha256(b"key " + self.secret).digest()) >> 1, _CURVE)

    @property
    def p256dh(self) -> bytes:
        return self.key.public_key().public_bytes(Encoding.X962, PublicFormat.UncompressedPoint)

    @property
    def auth(self) -> bytes:
        return hashlib.sha256(b"auth " + self.secret).digest()[:AUTH_BYTES]

    def subscription(self, address: str) -> dict[str, Any]:
        """What its browser would say of it, where the push service is at an address."""
        keys = {"p256dh": encoded(self.p256dh), "auth": encoded(self.auth)}
        return {"endpoint": f"{address}/push/{self.name}", "expirationTime": None, "keys": keys}

    def next_answer(self) -> Said:
        says = self.says
        if says.times is not None:
            self.says = says.model_copy(update={"times": says.times - 1}) if says.times > 1 else Said()
        return says

    def take(self, headers: dict[str, str], body: bytes) -> None:
        """Keep what was pushed. Raises `ValueError` for what no browser could read."""
        if headers.get("content-encoding") != "aes128gcm":
            raise ValueError("the content-encoding must be aes128gcm (RFC 8291)")
        try:
            text = http_ece.decrypt(body, private_key=self.key, auth_secret=self.auth, version="aes128gcm")
            told = json.loads(text)
        except (http_ece.ECEException, ValueError) as error:
            raise ValueError(f"cannot be decrypted: {error}") from None
        self.got.append({"topic": headers.get("topic"), "ttl": int(headers["ttl"]), "bytes": len(text), "notice": told})


def check_sender(headers: dict[str, str], origin: str) -> str:
    """Who speaks, by the public key. Raises `ValueError` if that is not said as RFC 8292 has it."""
    scheme, _, rest = headers.get("authorization", "").partition(" ")
    fields = dict(part.strip().split("=", 1) for part in rest.split(",") if "=" in part)
    if scheme.lower() != "vapid" or not fields.keys() >= {"t", "k"}:
        raise ValueError("the authorization must be vapid t=…, k=…")
    key = ec.EllipticCurvePublicKey.from_encoded_point(_CURVE, decoded(fields["k"]))
    try:
        claims = jwt.decode(fields["t"], key, algorithms=["ES256"], audience=origin, options={"require": ["exp"]})
    except jwt.InvalidTokenError as error:
        raise ValueError(f"the token does not hold: {error}") from None
    if claims["exp"] > time.time() + 86_400:
        raise ValueError("the token is valid for more than 24 hours")
    return fields["k"]


def router(devices: dict[str, Device]) -> APIRouter:
    """`POST /push/NAME` is what a service sends to, `GET` shows what came, `PUT` says what it answers."""
    made = APIRouter()

    @made.post("/push/{name}")
    async def push(name: str, request: Request) -> Response:
        device = devices.get(name)
        if device is None:
            return Response(status_code=404)
        headers, body = dict(request.headers), await request.body()
        says = device.next_answer()
        device.asked.append({"at": time.time(), "status": says.status, **headers})
        await asyncio.sleep(says.seconds)
        if not 200 <= says.status < 300:
            wait = {} if says.retry_after is None else {"Retry-After": str(says.retry_after)}
            return Response(status_code=says.status, headers=wait)
        if len(body) > _MOST_BYTES:
            return Response(status_code=413)
        if not headers.get("ttl", "").isdigit():
            return Response("TTL is wanted (RFC 8030, 5.2)\n", 400)
        try:
            check_sender(headers, str(request.base_url).rstrip("/"))
            device.take(headers, body)
        except ValueError as error:
            return Response(f"{error}\n", 400)
        return Response(status_code=201, headers={"Location": f"/messages/{len(device.got)}"})

    @made.get("/push/{name}")
    async def show(name: str) -> Response:
        device = devices.get(name)
        if device is None:
            return Response(status_code=404)
        return Response(json.dumps(list(device.got), ensure_ascii=False), media_type="application/json")

    @made.put("/push/{name}")
    async def tell(name: str, says: Said) -> Response:
        if name not in devices:
            return Response(status_code=404)
        devices[name].says = says
        return Response(status_code=204)

    return made


def demo_device(secret: str) -> Device:
    """The device of the demo, with keys from the demo's own secret."""
    return Device("handset", hashlib.sha256(f"device {secret}".encode()).digest())


async def subscribe(url: str, address: str, device: Device) -> None:
    """Have somebody of the demo told on its device, wherever the push service is this time."""
    person, database = PEOPLE[0].user_id, Database(url)
    try:
        async with database.read() as connection:
            known, _ = await subscriptions.page(connection, person, 200, UUID(int=0))
        endpoint: str = device.subscription(address)["endpoint"]
        await subscriptions.drop(database, [one.id for one in known if one.p256dh == device.p256dh])
        wanted = Subscription(_ID, person, endpoint, device.p256dh, device.auth, None, datetime.now(UTC))
        await subscriptions.put(database, Caller(person), wanted)
    finally:
        await database.close()
