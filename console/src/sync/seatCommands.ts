import type { Message } from "../api/client";
import type { ConversationCopy } from "./conversationCopy";
import { CommandRefused, type Line } from "./line";
import type { Enclosed, Entry } from "./outbox";
import type { SeatOutbox } from "./seatOutbox";

/** What commands need of their seat. */
export interface CommandOwner {
  readonly userId: string;
  readonly line: Line;
  readonly outbox: SeatOutbox;
  unreadIs(conversation: string, unread: number | null): void;
}

const FORBIDDEN = 403;

/** What a member does: on the line where there is one, else through the outbox. */
export class SeatCommands {
  private readonly reading = new Map<string, number>();

  constructor(private readonly owner: CommandOwner) {}

  /** Change a message: at once on the line, with the answer in the copy when it resolves; while away it waits. */
  private async change(
    copy: ConversationCopy,
    kind: "edit" | "remove" | "react" | "unreact",
    content: Entry["content"] & { seq: number },
  ): Promise<void> {
    if (this.owner.line.state !== "live") return this.owner.outbox.put(kind, copy.id, content);
    const answer = await this.owner.line.command({ type: kind, conversation_id: copy.id, ...content });
    copy.put(answer.message as Message);
  }

  /** Set or take back one's reaction. */
  react(copy: ConversationCopy, seq: number, symbol: string, on: boolean): Promise<void> {
    return this.change(copy, on ? "react" : "unreact", { seq, symbol });
  }

  /** A new body; with `rev`, only if the message still stands there. */
  edit(
    copy: ConversationCopy,
    seq: number,
    {
      body,
      mentions,
      attachments,
      rev,
    }: { body: string; mentions: string[]; attachments?: string[]; rev?: number },
  ): Promise<void> {
    const content = { seq, body, mentions, ...(attachments ? { attachments } : {}) };
    return this.change(copy, "edit", rev === undefined ? content : { ...content, rev });
  }

  remove(copy: ConversationCopy, seq: number): Promise<void> {
    return this.change(copy, "remove", { seq });
  }

  /** Say how far one has read; what is not further than the receipt, or is on its way, is not sent again. */
  async read(copy: ConversationCopy, seq: number): Promise<void> {
    const known = copy.readSeqOf(this.owner.userId);
    if (known === null || seq <= Math.max(known, this.reading.get(copy.id) ?? 0)) return;
    this.reading.set(copy.id, seq);
    if (this.owner.line.state !== "live") return this.owner.outbox.put("read", copy.id, { read_seq: seq });
    try {
      const answer = await this.owner.line.command({ type: "read", conversation_id: copy.id, read_seq: seq });
      this.owner.unreadIs(copy.id, answer.unread ?? null);
    } catch (error) {
      if (error instanceof CommandRefused) {
        // Said again with the next look, but where it is refused for good, as between two of whom one blocks the other.
        if (error.problem.status !== FORBIDDEN) this.reading.delete(copy.id);
      } else await this.owner.outbox.put("read", copy.id, { read_seq: seq });
    }
  }

  /** Post; the row stands in the ledger as soon as it is kept, and while away it waits for the line. Rejects when it
   * cannot be kept. */
  post(
    id: string,
    body: string,
    {
      mentions = [],
      markdown = false,
      files = [],
    }: { mentions?: string[]; markdown?: boolean; files?: Enclosed[] } = {},
  ): Promise<void> {
    const content: Entry["content"] = { body };
    if (mentions.length) content.mentions = mentions;
    if (markdown) content.format = "markdown";
    return this.owner.outbox.put("post", id, content, files);
  }
}
