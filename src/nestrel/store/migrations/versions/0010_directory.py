"""The directory: the words by which people and conversations are found, and long questions that have more pages."""

import sqlalchemy as sa
from alembic import op

from nestrel.core.words import words
from nestrel.store.migrations.naming import run, schema

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None

# Folded words in the order of their code points, so that a prefix is a range; `n` is the place of a word in the name,
# from 0 on.
STATEMENTS = """
CREATE TABLE nestrel.person_words (
    word    text COLLATE "C" NOT NULL,
    user_id text             NOT NULL,
    n       int              NOT NULL,
    CONSTRAINT person_words_pkey PRIMARY KEY (word, user_id)
);
CREATE INDEX person_words_of ON nestrel.person_words (user_id, word);
CREATE TABLE nestrel.conversation_words (
    word            text COLLATE "C" NOT NULL,
    conversation_id uuid             NOT NULL,
    n               int              NOT NULL,
    CONSTRAINT conversation_words_pkey PRIMARY KEY (word, conversation_id)
);
CREATE INDEX conversation_words_of ON nestrel.conversation_words (conversation_id, word);
CREATE TABLE nestrel.asked (
    user_id text        NOT NULL,
    digest  text        NOT NULL,
    text    text        NOT NULL,
    at      timestamptz NOT NULL DEFAULT clock_timestamp(),
    CONSTRAINT asked_pkey PRIMARY KEY (user_id, digest)
);
CREATE INDEX asked_at ON nestrel.asked (at)
"""
_PART = 1_000


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
    people = """
        SELECT user_id, display_name FROM {0}.profiles UNION ALL SELECT DISTINCT user_id, user_id FROM {0}.members m
        WHERE NOT EXISTS (SELECT FROM {0}.profiles p WHERE p.user_id = m.user_id)"""
    _fill(people, "person_words", "user_id")
    named = "SELECT id, concat_ws(' ', name, title) FROM {0}.conversations WHERE closed_at IS NULL"
    _fill(named, "conversation_words", "conversation_id")


def _fill(known: str, table: str, column: str) -> None:
    """What is there already, from what it is called; a user also by the id."""
    connection = op.get_bind()
    insert = sa.text(
        f"INSERT INTO {schema()}.{table} (word, {column}, n) VALUES (:word, :id, :n) ON CONFLICT DO NOTHING"
    )
    found = connection.execute(sa.text(known.format(schema()))).all()
    for start in range(0, len(found), _PART):
        rows = [
            {"word": word, "id": id_, "n": n}
            for id_, text in found[start : start + _PART]
            for n, word in enumerate(words(f"{text} {id_}" if column == "user_id" else text))
        ]
        if rows:
            connection.execute(insert, rows)
