"""What runs here, for a trusted backend."""

from __future__ import annotations

from datetime import UTC, datetime

from fastapi import APIRouter

from nestrel import __version__, build
from nestrel.core import order_objects as objects
from nestrel.core.problems import StoreUnavailable
from nestrel.core.rights import Action
from nestrel.core.times import format_time
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.store import epochs, schema

router = APIRouter(prefix="/service", route_class=JsonRoute, tags=["operations"])


@router.get("", responses=documented(objects.ServiceStatus))
@does(Action.SERVE)
async def show(service: ServiceDep, caller: CallerDep) -> Json:
    """What runs here: the version and the commit of this process, the revision of the schema, and the epoch of the
    database. What cannot be read at the moment is null."""
    revision = epoch = None
    try:
        async with service.database.read() as connection:
            revision = await schema.current(connection.sql, service.database.schema)
            epoch = str(await epochs.present(connection))
    except StoreUnavailable:
        pass  # whoever asks what is wrong is answered
    return Json(
        {
            "version": __version__,
            "revision": revision,
            "commit": build.commit(),
            "epoch": epoch,
            "at": format_time(datetime.now(UTC)),
        }
    )
