"""Coming back: which transaction began a membership, and how far a snapshot saw into a conversation."""

from nestrel.store.migrations.naming import run

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

# Memberships of before are older than every snapshot that is still to be asked about; a constant default writes no row.
JOINED = """
ALTER TABLE nestrel.members ADD joined_xid xid8 NOT NULL DEFAULT '0';
ALTER TABLE nestrel.members ALTER joined_xid SET DEFAULT pg_current_xact_id();
CREATE INDEX members_joined ON nestrel.members (joined_xid)
"""

# Within a conversation rev order is commit order, so what a snapshot saw of it is a prefix of rev. Rows that changed
# since hide how far it went exactly; the newest row that it saw gives a place at or before that: what follows from
# there may repeat a little and leaves nothing out. A row with a transaction that is still to come was loaded from a
# dump, and so has been seen by every snapshot of this history. Each walk ends at the first row that was seen, or
# after `most`.
SEEN = """
CREATE FUNCTION nestrel.seen_v1(conversation uuid, seen pg_snapshot, most integer)
RETURNS TABLE (rev bigint, seq bigint, beyond boolean) LANGUAGE plpgsql STABLE AS $$
DECLARE
    one record; unseen integer := 0; present xid8 := pg_snapshot_xmax(pg_current_snapshot());
BEGIN
    rev := 0; seq := 0;
    FOR one IN SELECT m.seq, m.rev, m.moved_xid FROM nestrel.messages m
               WHERE m.conversation_id = conversation ORDER BY m.seq DESC LIMIT most + 1 LOOP
        IF pg_visible_in_snapshot(one.moved_xid, seen) OR one.moved_xid >= present THEN
            rev := one.rev; seq := one.seq;
            EXIT;
        END IF;
        unseen := unseen + 1;
    END LOOP;
    FOR one IN SELECT m.rev, m.moved_xid FROM nestrel.messages m
               WHERE m.conversation_id = conversation AND m.changed ORDER BY m.rev DESC LIMIT most + 1 LOOP
        IF pg_visible_in_snapshot(one.moved_xid, seen) OR one.moved_xid >= present THEN
            rev := greatest(rev, one.rev);
            EXIT;
        END IF;
        unseen := unseen + 1;
    END LOOP;
    FOR one IN SELECT c.rev, c.moved_xid FROM nestrel.reaction_counts c
               WHERE c.conversation_id = conversation ORDER BY c.rev DESC LIMIT most + 1 LOOP
        IF pg_visible_in_snapshot(one.moved_xid, seen) OR one.moved_xid >= present THEN
            rev := greatest(rev, one.rev);
            EXIT;
        END IF;
        unseen := unseen + 1;
    END LOOP;
    FOR one IN SELECT m.rev, m.moved_xid FROM nestrel.members m
               WHERE m.conversation_id = conversation ORDER BY m.rev DESC LIMIT most + 1 LOOP
        IF pg_visible_in_snapshot(one.moved_xid, seen) OR one.moved_xid >= present THEN
            rev := greatest(rev, one.rev);
            EXIT;
        END IF;
        unseen := unseen + 1;
    END LOOP;
    beyond := unseen > most;
    RETURN NEXT;
END $$
"""


def upgrade() -> None:
    for statement in JOINED.split(";\n"):
        run(statement)
    run(SEEN)
    run(
        "COMMENT ON FUNCTION nestrel.seen_v1 IS "
        "'A place at or before what a snapshot saw of a conversation; beyond: more than most rows were not seen.'"
    )
