"""What the claims of a token do to a person's name and picture (`NESTREL_PROFILES`)."""

from __future__ import annotations

import time
from datetime import UTC, datetime

from nestrel.core.people import Profiles
from nestrel.core.skeleton import Skeletons
from nestrel.service.tokens import Identity
from nestrel.store.database import Database
from nestrel.store.read import profiles
from nestrel.store.write import profiles as writing

_KNOWN = 200_000
"""Claims that a process remembers to have looked at."""

_Claims = tuple[str, str | None, str | None, float | None]


class ClaimedProfiles:
    """Makes profiles as tokens say, as far as they have a say."""

    def __init__(self, database: Database, whose: Profiles, skeletons: Skeletons | None) -> None:
        self._database = database
        self._whose = whose
        self._skeletons = skeletons
        self._seen: set[_Claims] = set()

    def settled(self, identity: Identity) -> bool:
        """Whether nothing is to be done for a token, as for nearly every one."""
        return self._whose is not Profiles.TOKEN or _claims(identity) in self._seen

    async def first_sight(self, identity: Identity) -> None:
        """Somebody is here for the first time: they get a profile, whatever it says."""
        said = self._whose is not Profiles.BACKEND
        name = identity.display_name if said else None
        picture = identity.picture if said else None
        await writing.first_sight(self._database, identity.user_id, name or identity.user_id, picture, self._skeletons)

    async def follow(self, identity: Identity) -> None:
        """Bring the profile to what a token says that this process meets for the first time. What the token does not
        say stays, and so does what a newer one has said."""
        said = {"display_name": identity.display_name, "picture": identity.picture}
        fields = {field: value for field, value in said.items() if value is not None}
        async with self._database.read() as connection:
            present = (await profiles.read(connection, [identity.user_id]))[identity.user_id]
        if any(present[field] != value for field, value in fields.items()):
            # One that says it is of tomorrow does not keep out those of today.
            issued_at = datetime.fromtimestamp(min(max(identity.issued_at or 0, 0), time.time()), UTC)
            await writing.claim(self._database, identity.user_id, fields, issued_at, self._skeletons)
        if len(self._seen) >= _KNOWN:
            self._seen.clear()
        self._seen.add(_claims(identity))


def _claims(identity: Identity) -> _Claims:
    return identity.user_id, identity.display_name, identity.picture, identity.issued_at
