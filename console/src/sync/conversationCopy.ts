import type { ChangeSet, HistoryPage, Member, Message, Profile } from "../api/client";
import type { Nameable } from "../lib/mentions";
import { Observable } from "./observable";
import { type Entry, overlaid } from "./outbox";
import { isNewer } from "./replica";

export type Row =
  | { kind: "torn"; gone: number; floor: number }
  | { kind: "gap"; from: number; to: number }
  | { kind: "message"; message: Message; waiting: boolean }
  | { kind: "pending"; pending: Entry };

/** What a replica holds of a conversation, or a part of it. */
export type HeldRows = {
  messages: Message[];
  members: Member[];
  profiles: Profile[];
  head: number;
  floor: number;
  cursor: string | null;
};

/** What this page shows of one conversation: messages in runs, with gaps where numbers are not loaded. */
export class ConversationCopy extends Observable {
  head = 0;
  floor = 1;
  rev = 0;
  cursor: string | null = null;
  /** Grows when the copy begins anew: a page asked for before is of no use. */
  epoch = 0;
  readonly messages = new Map<number, Message>();
  readonly profiles = new Map<string, Profile>();
  readonly members = new Map<string, Member>();
  private entries: Entry[] = [];
  private cached: Row[] | null = null;
  private marks: Map<number, string[]> | null = null;

  constructor(
    readonly id: string,
    private readonly me: string,
  ) {
    super();
  }

  /** Whether anything was read yet. */
  get known(): boolean {
    return this.cursor !== null;
  }

  /** Take in what the replica holds. */
  hydrate(held: HeldRows): void {
    this.take(held.messages, held.profiles);
    this.takeMembers(held.members);
    this.head = Math.max(this.head, held.head);
    this.floor = Math.max(this.floor, held.floor);
    this.cursor ??= held.cursor;
    this.update();
  }

  /** Hold what the replica holds, and nothing else. */
  begin(held: HeldRows): void {
    this.clear();
    this.cursor = held.cursor;
    this.hydrate(held);
  }

  /** Take in a page of history. Its cursor counts only where none is held, as it says nothing of other pages. */
  applyPage(page: HistoryPage): void {
    this.take(page.items, Object.values(page.profiles));
    this.head = Math.max(this.head, page.head);
    this.floor = Math.max(this.floor, page.floor);
    this.cursor ??= page.change_cursor;
    this.update();
  }

  /** Take in a change set; applying one again changes nothing. */
  applyChanges(set: ChangeSet): void {
    if (set.reset) this.clear();
    this.take(set.messages, Object.values(set.profiles));
    this.takeMembers(set.members);
    this.head = Math.max(this.head, set.head);
    this.floor = Math.max(this.floor, set.floor);
    this.cursor = set.cursor;
    this.update();
  }

  /** Take in a page of the members' list. */
  applyMembers(members: Member[], profiles: Profile[]): void {
    this.take([], profiles);
    this.takeMembers(members);
    this.update();
  }

  /** Take in one message, as the answer to a command. */
  put(message: Message): void {
    this.take([message], []);
    this.update();
  }

  /** What waits in the outbox for this conversation, in its order. */
  setEntries(entries: Entry[]): void {
    this.entries = entries;
    this.update();
  }

  /** A command is carried out: in one step a pending row becomes the numbered one. */
  settle(entries: Entry[], message: Message | null): void {
    this.entries = entries;
    if (message) {
      this.take([message], []);
      this.head = Math.max(this.head, message.seq);
    }
    this.update();
  }

  /** What the ledger shows, top to bottom. */
  rows(): Row[] {
    if (this.cached) return this.cached;
    const rows: Row[] = [];
    if (this.floor > 1) rows.push({ kind: "torn", gone: this.floor - 1, floor: this.floor });
    const about = this.entries.filter((one) => one.content.seq !== undefined && one.reason === null);
    let expected = this.floor;
    for (const seq of [...this.messages.keys()].sort((a, b) => a - b)) {
      if (seq > expected) rows.push({ kind: "gap", from: expected, to: seq - 1 });
      const message = this.messages.get(seq) as Message;
      const waiting = about.some((one) => one.content.seq === seq);
      rows.push({
        kind: "message",
        message: waiting ? overlaid(message, about, this.me) : message,
        waiting,
      });
      expected = seq + 1;
    }
    if (this.known && expected <= this.head) rows.push({ kind: "gap", from: expected, to: this.head });
    for (const entry of this.entries)
      if (entry.kind === "post") rows.push({ kind: "pending", pending: entry });
    this.cached = rows;
    return rows;
  }

  /** How far a member has read; null for someone who is none, as far as is known here. */
  readSeqOf(userId: string): number | null {
    const member = this.members.get(userId);
    return member && member.left_at === null ? member.read_seq : null;
  }

  /** Who stands at which message with the receipt, by user id; of those who are members now. */
  receipts(): Map<number, string[]> {
    if (this.marks) return this.marks;
    const marks = new Map<number, string[]>();
    for (const member of [...this.members.values()].sort((a, b) => (a.user_id < b.user_id ? -1 : 1))) {
      if (member.left_at !== null || member.read_seq === 0) continue;
      marks.set(member.read_seq, [...(marks.get(member.read_seq) ?? []), member.user_id]);
    }
    this.marks = marks;
    return marks;
  }

  /** Messages of others above a receipt that are not removed, and those of them that name the member; null where not
   * all of them are held. */
  unreadOf(userId: string): { unread: number; unread_mentions: number } | null {
    const read = this.readSeqOf(userId);
    if (read === null) return null;
    let unread = 0;
    let unread_mentions = 0;
    for (let seq = Math.max(read, this.floor - 1) + 1; seq <= this.head; seq++) {
      const message = this.messages.get(seq);
      if (!message) return null;
      if (message.author_id === userId || message.removed_at !== null) continue;
      unread += 1;
      if (message.mentions?.includes(userId)) unread_mentions += 1;
    }
    return { unread, unread_mentions };
  }

  /** Members who can be named, by what they are called. */
  nameable(): Nameable[] {
    return [...this.members.values()]
      .filter((one) => one.left_at === null)
      .map((one) => ({ userId: one.user_id, name: this.nameOf(one.user_id) }));
  }

  nameOf(userId: string): string {
    return this.profiles.get(userId)?.display_name ?? userId;
  }

  private clear(): void {
    this.messages.clear();
    this.members.clear();
    this.epoch += 1;
    this.head = 0;
    this.floor = 1;
  }

  private take(messages: Message[], profiles: Profile[]): void {
    for (const message of messages) {
      const held = this.messages.get(message.seq);
      if (isNewer(message, held)) this.messages.set(message.seq, message);
      this.rev = Math.max(this.rev, message.rev);
    }
    for (const profile of profiles) {
      const held = this.profiles.get(profile.user_id);
      if (isNewer(profile, held)) this.profiles.set(profile.user_id, profile);
    }
  }

  private takeMembers(members: Member[]): void {
    for (const member of members) {
      const held = this.members.get(member.user_id);
      if (isNewer(member, held)) this.members.set(member.user_id, member);
      this.rev = Math.max(this.rev, member.rev);
    }
  }

  private update(): void {
    this.marks = null;
    for (const seq of this.messages.keys()) if (seq < this.floor) this.messages.delete(seq);
    this.cached = null;
    this.changed();
  }
}
