import type { ChangeSet, Message } from "../api/client";

/** Rows as a service sends them, for tests. */
export const AT = "2026-11-25T10:00:00.000000Z";

export const messageOf = (conversation_id: string, seq: number, rev = seq, body = `m${seq}`): Message => ({
  conversation_id,
  seq,
  rev,
  author_id: "mara",
  body,
  format: "plain",
  attributes: {},
  reply_to: null,
  created_at: AT,
  edited_at: null,
  edits: 0,
  removed_at: null,
  removed_by: null,
  reactions: [],
  attachments: [],
  mentions: [],
});

export const setOf = (id: string, messages: Message[], extra: Partial<ChangeSet> = {}): ChangeSet => ({
  conversation_id: id,
  base: null,
  cursor: `${id} ${messages.at(-1)?.rev}`,
  head: Math.max(0, ...messages.map((one) => one.seq)),
  floor: 1,
  reset: false,
  more: false,
  conversation: null,
  messages,
  members: [],
  profiles: {},
  ...extra,
});
