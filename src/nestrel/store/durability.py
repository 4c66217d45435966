"""What stands behind a database: how far an acknowledgement reaches, as the server itself tells it now."""

from __future__ import annotations

from dataclasses import dataclass

from nestrel.store import epochs
from nestrel.store.database import Database
from nestrel.store.native import fetch

_SETTINGS = """
SELECT current_setting('fsync') = 'on' AND current_setting('full_page_writes') = 'on',
       current_setting('synchronous_commit'), current_setting('synchronous_standby_names'),
       (SELECT count(*) FROM pg_stat_replication WHERE application_name <> 'pg_basebackup'),
       current_setting('archive_mode') <> 'off'
"""
_DURABILITY_BEHIND = """
SELECT pg_is_in_recovery(), (SELECT e.id FROM nestrel.epochs e ORDER BY e.n DESC LIMIT 1),
       CASE WHEN pg_last_wal_receive_lsn() = pg_last_wal_replay_lsn() THEN 0
            ELSE coalesce(extract(epoch FROM clock_timestamp() - pg_last_xact_replay_timestamp()), 0) END,
       (SELECT string_agg(s.name || ' ' || current_setting(s.name), ', ' ORDER BY s.name) FROM pg_settings s
         WHERE s.name = 'wal_receiver_status_interval' AND s.setting::int <> 1
            OR s.name = 'wal_retrieve_retry_interval' AND s.setting::int > 1000)
"""
_EPOCH = f"SELECT {epochs.CURRENT}, current_setting('synchronous_standby_names') <> ''"


@dataclass(frozen=True, slots=True)
class Durability:
    """How a primary keeps what it acknowledges. `waits_for` is what `synchronous_standby_names` says, empty for
    nothing; `standbys` are connected now."""

    durable: bool
    commits: str
    waits_for: str
    standbys: int
    archives: bool

    @property
    def good(self) -> bool:
        """Whether an acknowledgement survives at least a crash of the server."""
        return self.durable and self.commits not in ("off", "local")

    @property
    def words(self) -> str:
        """The configuration, as docs/operations.md calls it, and what it holds."""
        if not self.durable or self.commits == "off":
            return "acknowledged before it is on a disk: a crash loses it (fsync, full_page_writes, synchronous_commit)"
        archive = "its WAL is archived" if self.archives else "no WAL is archived, so that no point in time comes back"
        if self.commits == "local" and self.waits_for:
            return f"acknowledged before a standby has it, as synchronous_commit is local; {archive}"
        if self.waits_for:
            how = f"{self.standbys} connected" if self.standbys else "none is connected, so that nothing is taken"
            return f"synchronous: acknowledged when a standby has it, too ({how}); {archive}"
        if self.standbys:
            return (
                f"asynchronous: acknowledged when it is on the primary's disk; a failover to one of {self.standbys} "
                f"may lose the last moment, and clients are told; {archive}"
            )
        return f"alone: acknowledged when it is on its disk, and lost with it; {archive}"


async def durability(database: Database) -> Durability:
    """How the primary stands now."""
    async with database.read() as connection:
        return Durability(*(await fetch(connection, _SETTINGS))[0])


async def standby(database: Database, primary: Database) -> tuple[bool, str]:
    """Whether a standby can answer reads, and how far behind it is."""
    async with primary.read() as connection:
        [(epoch, waited_for)] = await fetch(connection, _EPOCH)
    async with database.read() as connection:
        [(recovering, newest, seconds, sleeps)] = await fetch(connection, _DURABILITY_BEHIND)
    if newest != epoch:
        return False, "has another history than the primary: it is asked, and its answers are not taken"
    what = "a standby" if recovering else "the primary itself"
    words = f"answers, {what}, {seconds:,.1f} s behind"
    if recovering and waited_for and sleeps:
        words += f"; after a failover commits may wait for it, by its {sleeps}"
    return True, words
