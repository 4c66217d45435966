"""The constraints of the database by name, and what it means for a caller that one of them was violated.

Races end here: two who do the same at one moment are told apart by a unique index, and by nothing before it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager

import asyncpg

from nestrel.core.problems import NameTaken

NAME = "conversations_name"
DIRECT_PAIR = "conversations_direct_pair"
SERVICE_RULE = "service_rule_pkey"
EPOCH = "conversations_epoch"
"""No row is moved in an epoch that is not recorded."""
OBJECT = "objects_same"
"""Equal bytes of one conversation are one object."""
KEY = "messages_key"
"""A key stands for one message of a conversation."""

LOOK = "conversations_look"
"""Two names look alike."""

REFUSED = frozenset({NAME, LOOK})
"""What the caller is told of, by `refusals`."""

AGAIN = frozenset({DIRECT_PAIR, SERVICE_RULE, EPOCH, KEY, OBJECT})
"""Somebody was there a moment before, or the database has become another: whoever meets it looks again."""

KEPT = frozenset(
    {
        "acts_waiting_act_check", "acts_waiting_pkey",
        "archive_authors_pkey", "archive_segments_pkey", "archive_segments_whole", "asked_pkey", "attached_pkey",
        "attachments_pkey", "audit_at_actor_act_conversation_id_user_id_idx", "audit_hourly", "audit_pkey",
        "audit_reasons_pkey", "barred_pkey", "blocks_pkey", "connections_pkey",
        "consumers_pkey",
        "conversation_words_pkey", "conversations_after_expiry_check", "conversations_counted", "conversations_floor",
        "conversations_kind_check", "conversations_pkey", "conversations_swept", "conversations_visibility_check",
        "discarded_runs_pkey", "ended_sessions_pkey", "epochs_id_key", "epochs_pkey",
        "erasures_pkey", "erasures_shown_as",
        "erased_identities_digest", "erased_identities_pkey",
        "expired_attachments_pkey", "expired_backlog_pkey", "expired_keys_pkey", "expiry_due_pkey",
        "held_names_kind_check", "held_names_pkey", "invitations_pkey", "invitations_token", "joining_pkey",
        "kind_rules_kind_check", "kind_rules_pkey",
        "journal_trimmed_pkey", "kept_out_pkey", "locks_pkey", "loosened_pkey", "made_keys_pkey",
        "members_conversation_id_fkey",
        "members_left_reason_check", "members_pkey", "members_role_check", "mentions_pkey", "message_edits_pkey",
        "notice_preferences_notify_check", "notice_preferences_pkey",
        "push_again_pkey", "push_again_subscription_id_fkey", "push_subscriptions_endpoint",
        "push_subscriptions_pkey",
        "messages_format_check", "messages_pkey", "objects_pkey", "person_words_pkey", "posts_waiting_pkey",
        "refused_posts_pkey", "previews_pkey",
        "processes_pkey", "profile_news_pkey", "profiles_pkey", "rates_pkey",
        "rate_counts_pkey", "reaction_counts_count_check",
        "reaction_counts_pkey", "reactions_pkey", "reports_once", "reports_pkey", "reports_state_check",
        "search_blocks_pkey", "search_places_pkey", "service_secrets_pkey", "uploaded_pkey", "usage_commands_pkey",
        "usage_hours_pkey", "usage_people_pkey", "usage_places_pkey", "usage_samples_pkey", "usage_told_pkey",
        "usage_follow_peaks_pkey", "usage_follows_pkey", "used_today_pkey",
        "webhook_deliveries_pkey", "webhooks_pkey", "webhooks_state_check", "webhooks_type_check",
    }
)  # fmt: skip
"""What the code keeps true, under its locks or by ON CONFLICT: a violation is a fault of ours, and answered as one."""


_NUMBERED = re.compile(r"_p\d+$|(?<=^audit)_(\d{6}|rest)(?=_)")


def whole(name: str) -> str:
    """The name of a constraint, without the number of its partition (`nestrel.store.partitions`) or its month."""
    return _NUMBERED.sub("", name)


@contextmanager
def refusals(*, name: str | None) -> Iterator[None]:
    """Turn a violation that a caller can do something about into its problem; `name` is what was asked for."""
    try:
        yield
    except asyncpg.IntegrityConstraintViolationError as error:
        if error.constraint_name == NAME:
            raise NameTaken(f"another conversation is called {name!r}; choose another name") from None
        if error.constraint_name == LOOK:
            raise NameTaken(f"another conversation's name looks like {name!r}; choose another name") from None
        raise
