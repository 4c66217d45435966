import type { ChangeSet, HistoryPage, Message, Profile } from "../api/client";
import { Observable } from "./observable";

/** A post of one's own that has no number yet. */
export type Pending = {
  key: string;
  body: string;
  at: Date;
  state: "sending" | "queued" | "refused";
  reason: string;
};

export type Row =
  | { kind: "torn"; gone: number; floor: number }
  | { kind: "gap"; from: number; to: number }
  | { kind: "message"; message: Message }
  | { kind: "pending"; pending: Pending };

/** What this browser holds of one conversation: messages in runs, with gaps where numbers are not loaded. */
export class ConversationCopy extends Observable {
  head = 0;
  floor = 1;
  rev = 0;
  cursor: string | null = null;
  readonly messages = new Map<number, Message>();
  readonly profiles = new Map<string, Profile>();
  pending: Pending[] = [];
  private cached: Row[] | null = null;

  constructor(readonly id: string) {
    super();
  }

  /** Whether anything was read yet. */
  get known(): boolean {
    return this.cursor !== null;
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
    if (set.reset) this.messages.clear();
    this.take(set.messages, Object.values(set.profiles));
    for (const member of set.members) this.rev = Math.max(this.rev, member.rev);
    this.head = Math.max(this.head, set.head);
    this.floor = Math.max(this.floor, set.floor);
    this.cursor = set.cursor;
    this.update();
  }

  addPending(pending: Pending): void {
    this.pending = [...this.pending, pending];
    this.update();
  }

  changePending(key: string, change: Partial<Pending>): void {
    this.pending = this.pending.map((one) => (one.key === key ? { ...one, ...change } : one));
    this.update();
  }

  dropPending(key: string): void {
    this.pending = this.pending.filter((one) => one.key !== key);
    this.update();
  }

  /** The post has its number: in one step the pending row becomes the numbered one. */
  numbered(key: string, message: Message): void {
    this.pending = this.pending.filter((one) => one.key !== key);
    this.take([message], []);
    this.head = Math.max(this.head, message.seq);
    this.update();
  }

  /** What the ledger shows, top to bottom. */
  rows(): Row[] {
    if (this.cached) return this.cached;
    const rows: Row[] = [];
    if (this.floor > 1) rows.push({ kind: "torn", gone: this.floor - 1, floor: this.floor });
    let expected = this.floor;
    for (const seq of [...this.messages.keys()].sort((a, b) => a - b)) {
      if (seq > expected) rows.push({ kind: "gap", from: expected, to: seq - 1 });
      rows.push({ kind: "message", message: this.messages.get(seq) as Message });
      expected = seq + 1;
    }
    if (this.known && expected <= this.head) rows.push({ kind: "gap", from: expected, to: this.head });
    for (const pending of this.pending) rows.push({ kind: "pending", pending });
    this.cached = rows;
    return rows;
  }

  nameOf(userId: string): string {
    return this.profiles.get(userId)?.display_name ?? userId;
  }

  private take(messages: Message[], profiles: Profile[]): void {
    for (const message of messages) {
      const held = this.messages.get(message.seq);
      if (!held || held.rev < message.rev) this.messages.set(message.seq, message);
      this.rev = Math.max(this.rev, message.rev);
    }
    for (const profile of profiles) {
      const held = this.profiles.get(profile.user_id);
      if (!held || held.rev < profile.rev) this.profiles.set(profile.user_id, profile);
    }
  }

  private update(): void {
    for (const seq of this.messages.keys()) if (seq < this.floor) this.messages.delete(seq);
    this.cached = null;
    this.changed();
  }
}
