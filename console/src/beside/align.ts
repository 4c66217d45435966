import type { Message } from "../api/client";
import type { ConversationCopy } from "../sync/conversationCopy";
import type { Entry } from "../sync/outbox";

/** What one seat holds of a number: the message, `old` if the other seat holds a newer state of it, or nothing yet. */
export type Cell = { message: Message; old: boolean } | null;

export type Pairing =
  | { kind: "numbered"; seq: number; left: Cell; right: Cell }
  | { kind: "pending"; left: Entry | null; right: Entry | null };

/** The newest `most` numbers that either seat knows of, side by side, and below them what waits without one. */
export function align(left: ConversationCopy, right: ConversationCopy, most: number): Pairing[] {
  const mine = held(left);
  const theirs = held(right);
  const head = Math.max(left.head, right.head);
  const from = Math.max(left.floor, right.floor, head - most + 1);
  const rows: Pairing[] = [];
  for (let seq = from; seq <= head; seq++)
    rows.push({
      kind: "numbered",
      seq,
      left: cell(mine.get(seq), theirs.get(seq)),
      right: cell(theirs.get(seq), mine.get(seq)),
    });
  const [waits, waitsToo] = [pending(left), pending(right)];
  for (let n = 0; n < Math.max(waits.length, waitsToo.length); n++)
    rows.push({ kind: "pending", left: waits[n] ?? null, right: waitsToo[n] ?? null });
  return rows;
}

function held(copy: ConversationCopy): Map<number, Message> {
  const found = new Map<number, Message>();
  for (const row of copy.rows()) if (row.kind === "message") found.set(row.message.seq, row.message);
  return found;
}

function cell(own: Message | undefined, other: Message | undefined): Cell {
  return own ? { message: own, old: other !== undefined && other.rev > own.rev } : null;
}

function pending(copy: ConversationCopy): Entry[] {
  return copy.rows().flatMap((row) => (row.kind === "pending" ? [row.pending] : []));
}
