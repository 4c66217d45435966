CREATE SCHEMA IF NOT EXISTS harbour;
CREATE TABLE IF NOT EXISTS harbour.people (id text PRIMARY KEY, login text UNIQUE, name text, salt bytea, password bytea);
CREATE TABLE IF NOT EXISTS harbour.orders (berth integer, day date, vessel text,
    person text REFERENCES harbour.people ON DELETE SET NULL, PRIMARY KEY (berth, day));
-- A copy of what Nestrel's webhook sends. A row with a higher rev is the newer one, whichever comes first.
CREATE TABLE IF NOT EXISTS harbour.messages (conversation uuid, seq bigint, rev bigint, author text, body text,
    removed boolean, PRIMARY KEY (conversation, seq));
CREATE TABLE IF NOT EXISTS harbour.members (conversation uuid, person text, rev bigint, read_seq bigint,
    present boolean, PRIMARY KEY (conversation, person));
CREATE OR REPLACE FUNCTION harbour.put_message(uuid, bigint, bigint, text, text, boolean) RETURNS void LANGUAGE sql AS $$
    INSERT INTO harbour.messages AS h VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT (conversation, seq) DO UPDATE
    SET rev = $3, author = $4, body = $5, removed = $6 WHERE h.rev < $3 $$;
CREATE OR REPLACE FUNCTION harbour.put_member(uuid, text, bigint, bigint, boolean) RETURNS void LANGUAGE sql AS $$
    INSERT INTO harbour.members AS h VALUES ($1, $2, $3, $4, $5) ON CONFLICT (conversation, person) DO UPDATE
    SET rev = $3, read_seq = $4, present = $5 WHERE h.rev < $3 $$;
CREATE TABLE IF NOT EXISTS harbour.sending (one boolean PRIMARY KEY DEFAULT true CHECK (one), secret text, lease bigint);
INSERT INTO harbour.sending VALUES (true, NULL, 0) ON CONFLICT DO NOTHING;
