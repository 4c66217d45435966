"""What a service on the open internet runs with: the settings that are shipped for it, and a role that can do no more
than serve."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import asyncpg
import pytest
from sqlalchemy.engine import make_url

from nestrel.store import roles
from nestrel.store.database import Database
from nestrel.store.keep import forgetting
from tests.support import Person, Served, once, unique
from tests.test_cli import make_run

SHIPPED = tomllib.loads((Path(__file__).parents[1] / "deploy/nestrel.toml").read_text())


def as_env(settings: dict[str, Any]) -> dict[str, Any]:
    return {f"NESTREL_{name.upper()}": str(value) for name, value in settings.items() if name != "metrics_port"}


async def serving(database: str) -> str:
    """The address of a database for a role that only serves."""
    url, role = make_url(database), unique("serving").replace("-", "_")
    await roles.make(database, "nestrel_owner", role)
    raw = await asyncpg.connect(url.set(drivername="postgresql").render_as_string(hide_password=False))
    await raw.execute(f"ALTER ROLE {role} PASSWORD 'berth'")
    await raw.close()
    return url.set(username=role, password="berth").render_as_string(hide_password=False)


async def test_all_that_members_do_works_with_the_role_and_the_settings_that_are_shipped(
    make_database: Callable[[], str],
) -> None:
    database = make_database()
    least = await serving(database)
    with Served(least, **as_env(SHIPPED)) as served:
        served.wait_ready()
        office, mara, odd = (
            Person(served.url, user, **claims)
            for user, claims in (("office", {"scope": "nestrel.service"}), ("mara", {}), ("odd", {}))
        )
        for who in (mara, odd):
            await who.http.get("/me")
        place = (await mara.make(title="Quay", visibility="closed"))["id"]
        here = f"/conversations/{place}"
        assert (await mara.http.put(f"{here}/members/odd", json={})).status_code == 403  # not acquainted
        token = (await mara.http.post(f"{here}/invitations", json={})).json()["token"]
        assert (await odd.http.post(f"/invitations/{token}/accept")).status_code == 200
        async with odd.socket() as wire:
            await wire.command(type="follow", conversation_id=place)
            posted = await mara.post(place, "the tide turns at six", mentions=["odd"])
            assert posted.status_code == 201
            assert 'commands";q=600' in posted.headers["ratelimit-policy"]
            await wire.messages(1)
            await wire.command(type="read", conversation_id=place, read_seq=1)
        assert (await office.post(place, "noted", on_behalf_of="odd", key="k")).status_code == 201
        sent = (await odd.upload(place, b"berth plan", "plan.txt")).json()
        assert (await odd.post(place, "", attachments=[sent["attachment_id"]])).status_code == 201
        rule = {"keep_last": 2, "then": "archive", "confirm": True}
        assert (await mara.http.put(f"{here}/retention", json=rule)).status_code == 200
        assert (await office.http.post("/retention/run")).status_code == 200
        assert (await odd.http.put("/me/blocked/mara")).status_code == 201
        assert (await mara.http.put(f"{here}/kept-out/odd", json={})).status_code == 201
        assert (await office.http.put("/people/odd/suspension", json={})).status_code == 201
        assert (await office.http.post("/erasures", json={"user_id": "odd", "confirm": True})).status_code == 201
        await once(
            lambda: office.http.get("/erasures"),
            lambda answer: all(one["finished_at"] for one in answer.json()["items"]),
        )
        asked = {"user_id": "odd", "confirm": True, "identity": True}
        shown = (await office.http.post("/erasures", json=asked)).json()["shown_as"]
        await once(
            lambda: office.http.get("/erasures"),
            lambda answer: all(one["finished_at"] for one in answer.json()["items"]),
        )
        acts = (await office.http.get("/audit")).json()["items"]
        assert "odd" not in {one["user_id"] for one in acts}
        assert shown in {one["user_id"] for one in acts}
        await once(lambda: office.http.get("/usage"), lambda answer: bool(answer.json()["items"]))
        assert (await mara.http.delete(here)).status_code == 204
        bugs = [line[:500] for line in served.log().splitlines() if '"level":"error"' in line or "failed" in line]
        assert bugs == []


async def test_the_role_that_serves_changes_no_table_and_nothing_that_the_audit_says(
    make_database: Callable[[], str],
) -> None:
    database = make_database()
    least = await serving(database)
    raw = await asyncpg.connect(make_url(least).set(drivername="postgresql").render_as_string(hide_password=False))
    for statement in (
        "UPDATE nestrel.audit SET actor = 'x'", "DELETE FROM nestrel.audit", "TRUNCATE nestrel.audit",
        "DELETE FROM nestrel.audit_rest", "DROP TABLE nestrel.audit_rest", "ALTER TABLE nestrel.messages ADD x int",
        "CREATE TABLE nestrel.mine (x int)", "DROP TRIGGER audit_stays ON nestrel.audit", "DROP SCHEMA nestrel CASCADE",
        "DELETE FROM nestrel.alembic_version", "CREATE ROLE more", "ALTER TABLE nestrel.audit DISABLE TRIGGER ALL",
        "DELETE FROM nestrel.audit_reasons", "SELECT nestrel.forget_reasons_v1('mara')",
        "SELECT nestrel.rename_in_audit_v1('mara')",
        "INSERT INTO nestrel.audit (audit_id, at, actor, act, request_id) "
        "VALUES (gen_random_uuid(), '2020-01-01', 'x', 'erased', 'r')",
        "INSERT INTO nestrel.audit_rest (audit_id, actor, act, request_id) "
        "VALUES (gen_random_uuid(), 'x', 'erased', 'r')",
        "INSERT INTO nestrel.audit (audit_id, actor, act, request_id, times) "
        "VALUES (gen_random_uuid(), 'x', 'posted-for', 'r', 1)",
    ):  # fmt: skip
        with pytest.raises((asyncpg.InsufficientPrivilegeError, asyncpg.FeatureNotSupportedError)):
            await raw.execute(statement)
    # A month that is missing is made by whoever serves, and is the owner's alone as the others are.
    month = datetime.now(UTC).replace(day=15) + timedelta(days=61)
    name = f"audit_{month:%Y%m}"
    owner = await asyncpg.connect(make_url(database).set(drivername="postgresql").render_as_string(hide_password=False))
    await owner.execute(f"DROP TABLE nestrel.{name}")
    served = Database(least)
    async with served.write() as connection:
        await forgetting.forget_old(connection)
    await served.close()
    assert await owner.fetchval("SELECT to_regclass($1) IS NOT NULL", f"nestrel.{name}")
    await owner.close()
    with pytest.raises(asyncpg.InsufficientPrivilegeError):
        await raw.execute(f"INSERT INTO nestrel.{name} (audit_id, actor, act, request_id) "
                          "VALUES (gen_random_uuid(), 'x', 'erased', 'r')")  # fmt: skip
    await raw.close()
    for url, more in ((least, []), (database, ["is a superuser"])):
        opened = Database(url)
        assert (await roles.powers(opened)).more == more
        await opened.close()
    assert await roles.make(database, "nestrel_owner", str(make_url(least).username)) == []  # again changes nothing


def test_the_command_makes_the_roles_and_doctor_says_who_runs(
    make_database: Callable[[], str], service: Served, tmp_path: Path
) -> None:
    role, run = unique("serve").replace("-", "_"), make_run(service, tmp_path)
    env = {"NESTREL_DATABASE_URL": make_database(), "NESTREL_JWT_SECRET": "x" * 40}
    made = run("db", "roles", "--serving", role, **env)
    assert (made.returncode, f"made {role}" in made.stdout) == (0, True), made.stderr
    assert run("db", "roles", "--owner", "a", "--serving", "a", **env).returncode == 2
    assert "superuser: more than serving takes (nestrel db roles)" in run("doctor", **env).stdout
