import type { Message, ProblemDocument } from "../api/client";

export type Kind = "post" | "edit" | "remove" | "react" | "unreact" | "read";

/** A file that goes with a post; `attachment` is its id once it has been uploaded. */
export type Enclosed = { name: string; content: Blob; attachment: string | null };

/** A command that the service has not acknowledged. `reason` says why one was refused. */
export type Entry = {
  n: number;
  conversation_id: string;
  kind: Kind;
  /** Its own id; for a post the idempotency key. */
  key: string;
  content: {
    body?: string;
    format?: "plain" | "markdown";
    mentions?: string[];
    attachments?: string[];
    rev?: number;
    seq?: number;
    symbol?: string;
    read_seq?: number;
  };
  at: string;
  reason: string | null;
  /** They are uploaded before the post goes out. */
  files?: Enclosed[];
};

export type Outcome = { is: "done"; message: Message | null } | { is: "again" } | { is: "refused" };

/** The frame that carries a command out. */
export function frameOf(entry: Entry): Record<string, unknown> {
  const frame = { type: entry.kind, conversation_id: entry.conversation_id, ...entry.content };
  if (entry.kind !== "post") return frame;
  const attachments = entry.files?.map((one) => one.attachment);
  return { ...frame, key: entry.key, ...(attachments ? { attachments } : {}) };
}

/** What a refusal means. An edit that looks stale because it arrived before, with its answer lost, is done. */
export function outcomeOf(entry: Entry, problem: ProblemDocument, me: string): Outcome {
  if ([401, 408, 429].includes(problem.status) || problem.status >= 500) return { is: "again" };
  if (entry.kind === "post" && problem.status === 410) return { is: "done", message: null };
  const present = problem.message as Message | undefined;
  if (
    entry.kind === "edit" &&
    present &&
    present.body === entry.content.body &&
    present.format === (entry.content.format ?? present.format) &&
    present.author_id === me &&
    present.removed_at === null &&
    (entry.content.mentions === undefined || same(entry.content.mentions, present.mentions ?? [])) &&
    (entry.content.attachments === undefined || same(entry.content.attachments, idsOf(present)))
  )
    return { is: "done", message: present };
  return { is: "refused" };
}

const idsOf = (message: Message): string[] => message.attachments.map((one) => one.attachment_id);

/** Whether a post was refused because what was uploaded for it is not there any more: after a day in no message. */
export const lostFiles = (entry: Entry, problem: ProblemDocument): boolean =>
  (entry.files?.length ?? 0) > 0 &&
  (problem.errors ?? []).some((one) => (one as { pointer?: string }).pointer === "/attachments");

const same = (one: string[], other: string[]): boolean =>
  one.length === other.length && one.every((value, n) => value === other[n]);

/** The waiting edits that were written on top of an edit which has just been carried out, with the `rev` of its answer:
 * one's own edit in between makes none of them stale. An edit that was taken had seen the newest body. */
export function rebased(entry: Entry, message: Message, waiting: Entry[]): Entry[] {
  if (entry.kind !== "edit") return [];
  const seen = entry.content.rev;
  return waiting
    .filter(
      (one) =>
        one.n !== entry.n &&
        one.kind === "edit" &&
        one.conversation_id === entry.conversation_id &&
        one.content.seq === message.seq &&
        one.content.rev !== undefined &&
        (seen === undefined || seen === one.content.rev),
    )
    .map((one) => ({ ...one, content: { ...one.content, rev: message.rev } }));
}

/** A message as it will be once the waiting commands about it have been carried out. */
export function overlaid(message: Message, entries: Entry[], me: string): Message {
  let shown = message;
  for (const entry of entries) {
    if (entry.content.seq !== message.seq || entry.reason !== null || shown.removed_at !== null) continue;
    const held = new Map(shown.attachments.map((one) => [one.attachment_id, one]));
    if (entry.kind === "edit")
      shown = {
        ...shown,
        body: entry.content.body ?? shown.body,
        format: entry.content.format ?? shown.format,
        mentions: entry.content.mentions ?? shown.mentions,
        attachments: entry.content.attachments?.flatMap((id) => held.get(id) ?? []) ?? shown.attachments,
        edited_at: entry.at,
      };
    else if (entry.kind === "remove")
      shown = {
        ...shown,
        body: "",
        attributes: {},
        reactions: [],
        mentions: [],
        attachments: [],
        removed_at: entry.at,
        removed_by: me,
      };
    else if (entry.kind === "react" || entry.kind === "unreact") shown = reacted(shown, entry, me);
  }
  return shown;
}

function reacted(message: Message, entry: Entry, me: string): Message {
  const symbol = entry.content.symbol ?? "like";
  const on = entry.kind === "react";
  const held = message.reactions.find((one) => one.symbol === symbol);
  if ((held?.by.includes(me) ?? false) === on) return message;
  if (!held) return { ...message, reactions: [...message.reactions, { symbol, count: 1, by: [me] }] };
  const by = on ? [...held.by, me].sort() : held.by.filter((one) => one !== me);
  const changed = { ...held, by, count: held.count + (on ? 1 : -1) };
  const reactions = message.reactions.map((one) => (one === held ? changed : one));
  return { ...message, reactions: reactions.filter((one) => one.count > 0) };
}
