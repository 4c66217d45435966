"""The harbour's office: berths are ordered here, and whoever has to do with an order talks about it in Nestrel. It has
people, orders and tokens of its own, and shares nothing with Nestrel but the PostgreSQL that both use."""

import hashlib
import os
import secrets
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from datetime import date
from pathlib import Path
from typing import Annotated, Any

import asyncpg
import httpx
import jwt
from cryptography.hazmat.primitives.asymmetric import ec
from fastapi import Depends, FastAPI, HTTPException, Request, Response
from fastapi.responses import HTMLResponse

from nestrel.client import NotSigned, received
from nestrel.client.transaction import make_conversation, post, put_person

HERE, NESTREL, OWN = Path(__file__).parent, os.environ["NESTREL_URL"], os.environ["HARBOUR_URL"]
OFFICE = "harbour-office"


def claims(person: str, **more: Any) -> dict[str, Any]:
    now = int(time.time())
    return {"sub": person, "iss": OWN, "aud": "harbour", "iat": now, "exp": now + 3600, **more}


class Keys:
    """The keys with which people's tokens are signed. The newest signs; the others stay until their tokens are over."""

    def __init__(self) -> None:
        self.of = {secrets.token_hex(8): ec.generate_private_key(ec.SECP256R1())}

    def public(self) -> dict[str, Any]:
        """For Nestrel (RFC 7517)."""
        keys = {id_: jwt.algorithms.ECAlgorithm.to_jwk(key.public_key(), as_dict=True) for id_, key in self.of.items()}
        return {"keys": [{**key, "kid": id_, "use": "sig", "alg": "ES256"} for id_, key in keys.items()]}

    def token(self, person: str, name: str) -> str:
        id_, key = list(self.of.items())[-1]
        return jwt.encode(claims(person, name=name), key, "ES256", headers={"kid": id_})

    def person(self, token: str) -> str:
        key = self.of[jwt.get_unverified_header(token).get("kid", "")].public_key()
        return str(jwt.decode(token, key, ["ES256"], audience="harbour", issuer=OWN)["sub"])


keys = Keys()


@asynccontextmanager
async def running(app: FastAPI) -> AsyncIterator[None]:
    async with asyncpg.create_pool(os.environ["HARBOUR_DATABASE_URL"], min_size=1) as app.state.pool:
        await app.state.pool.execute((HERE / "schema.sql").read_text())
        yield


app = FastAPI(title="Harbour", lifespan=running)


def signed_in(request: Request) -> str:
    try:
        return keys.person(request.headers.get("authorization", "").removeprefix("Bearer "))
    except (jwt.PyJWTError, KeyError):
        raise HTTPException(401, "sign in first") from None


Person = Annotated[str, Depends(signed_in)]


def office_token() -> str:
    """A trusted backend's, signed with the first of the secrets that Nestrel takes."""
    secret = Path(os.environ["NESTREL_JWT_SECRET_FILE"]).read_text().split()[0]
    return jwt.encode(claims(OFFICE, scope="nestrel.service"), secret, "HS256")


async def ask_nestrel(method: str, path: str, body: Any = None) -> Any:
    headers = {"Authorization": f"Bearer {office_token()}"}
    async with httpx.AsyncClient(base_url=NESTREL + "/v1", headers=headers, timeout=30) as nestrel:
        answer = await nestrel.request(method, path, json=body)
    if answer.is_error:
        raise HTTPException(502, f"Nestrel says: {answer.json()['detail']}")
    return answer.json()


@app.get("/", response_class=HTMLResponse)
async def page() -> str:
    return (HERE / "page.html").read_text().replace("{{nestrel}}", NESTREL)


app.get("/keys")(keys.public)


@app.post("/keys", status_code=204)
async def new_key() -> None:
    """From now on tokens are signed with another key. A real harbour asks who wants that."""
    keys.of |= Keys().of


def hashed(password: str, salt: bytes) -> bytes:
    return hashlib.scrypt(password.encode(), salt=salt, n=2**14, r=8, p=1)


@app.post("/people/{login}", status_code=201)
async def join(login: str, body: dict[str, str]) -> None:
    """A person of the harbour and of Nestrel, both or neither. The id means nothing: it is no login and no name."""
    id_, salt = secrets.token_hex(10), secrets.token_bytes(16)
    async with app.state.pool.acquire() as connection, connection.transaction():
        row = id_, login, body["name"], salt, hashed(body["password"], salt)
        await connection.execute("INSERT INTO harbour.people VALUES ($1, $2, $3, $4, $5)", *row)
        await put_person(connection, id_, body["name"])


@app.post("/sign-in")
async def sign_in(body: dict[str, str]) -> dict[str, str]:
    found = await app.state.pool.fetchrow("SELECT * FROM harbour.people WHERE login = $1", body["login"])
    if not found or not secrets.compare_digest(hashed(body["password"], found["salt"]), found["password"]):
        raise HTTPException(401, "no such person, or another password")
    return {"id": found["id"], "token": keys.token(found["id"], found["name"])}


@app.post("/orders/{berth}/{day}", status_code=201)
async def order(berth: int, day: date, body: dict[str, str], person: Person) -> dict[str, str]:
    """Order a berth. Its conversation, with its first message, is part of the order, whether or not Nestrel runs."""
    name, vessel = f"berth-{berth}-{day}", body["vessel"]
    try:
        async with app.state.pool.acquire() as connection, connection.transaction():
            await make_conversation(connection, name, title=f"{vessel}, {day}", members=[person], owner=OFFICE)
            await post(connection, name, OFFICE, f"ordered {person}", f"{vessel} has ordered berth {berth}.")
            await connection.execute("INSERT INTO harbour.orders VALUES ($1, $2, $3, $4)", berth, day, vessel, person)
    except asyncpg.UniqueViolationError:
        raise HTTPException(409, "this berth is taken on that day") from None  # and nothing of the rest is there
    return {"conversation": name}


@app.delete("/people/me")
async def leave(person: Person) -> Any:
    """Forget somebody, here and in Nestrel, and their id everywhere."""
    await app.state.pool.execute("DELETE FROM harbour.people WHERE id = $1", person)
    return await ask_nestrel("POST", "/erasures", {"user_id": person, "identity": True, "confirm": True})


@app.get("/badge")
async def badge(person: Person) -> dict[str, int]:
    """How many messages somebody has not read, from the copy."""
    return {"unread": await app.state.pool.fetchval(
        "SELECT count(*) FROM harbour.members m JOIN harbour.messages t USING (conversation) WHERE m.person = $1 "
        "AND m.present AND t.seq > m.read_seq AND NOT t.removed AND t.author <> $1", person)}  # fmt: skip


@app.post("/webhook", status_code=201)
async def connect() -> None:
    """Let Nestrel send what happens, from the start; to be called once."""
    made = await ask_nestrel("POST", "/webhooks", {"url": f"{OWN}/happened"})
    await app.state.pool.execute("UPDATE harbour.sending SET secret = $1, lease = 0", made["secret"])
    await ask_nestrel("POST", f"/webhooks/{made['webhook_id']}/replay", {"from": "start"})


@app.post("/happened")
async def happened(request: Request) -> Response:
    """Bring the copy to date, with what Nestrel sends: all of a request or nothing."""
    async with app.state.pool.acquire() as connection, connection.transaction():
        secret, lease = await connection.fetchrow("SELECT secret, lease FROM harbour.sending FOR UPDATE")
        try:
            said = received(secret or "", request.headers, await request.body())
        except NotSigned as error:
            return Response(str(error), 400)
        if said["data"]["lease"] >= lease:  # else it is late, and of a process that was given up
            await connection.execute("UPDATE harbour.sending SET lease = $1", said["data"]["lease"])
            for item in said["data"]["items"]:
                await apply(connection, item, closed=said["type"] == "closed")
    return Response(status_code=204)


async def apply(connection: Any, item: dict[str, Any], *, closed: bool) -> None:
    place = item["conversation_id"]
    for table in ("messages", "members") if closed or item["reset"] else ():
        await connection.execute(f"DELETE FROM harbour.{table} WHERE conversation = $1", place)
    if closed:
        return
    messages = [(place, m["seq"], m["rev"], m["author_id"], m["body"], bool(m["removed_at"])) for m in item["messages"]]
    members = [(place, m["user_id"], m["rev"], m["read_seq"], not m["left_at"]) for m in item["members"]]
    await connection.executemany("SELECT harbour.put_message($1, $2, $3, $4, $5, $6)", messages)
    await connection.executemany("SELECT harbour.put_member($1, $2, $3, $4, $5)", members)
    await connection.execute("DELETE FROM harbour.messages WHERE conversation = $1 AND seq < $2", place, item["floor"])
