import { type Api, answered, type HistoryPage, type Profile } from "../api/client";
import type { ConversationCopy } from "./conversationCopy";
import type { Replica } from "./replica";

const SHOWN = 100;
/** Of so many messages that another page took in, none is asked for again. */
const MISSED = 500;

export type PageQuery = { limit: number; before?: number; after?: number; around?: number };

/** What pages need of their seat. */
export interface PageOwner {
  readonly userId: string;
  readonly api: Api;
  readonly replica: Replica;
  readonly profiles: Map<string, Profile>;
  copy(id: string): ConversationCopy;
  /** Write into the replica, in order. */
  keep(work: () => Promise<void>): void;
  allWritten(): Promise<unknown>;
  /** Resolves at once, but for a replica that has never been brought to date. */
  caughtUpOnce(): Promise<void>;
  heard(rev: number): void;
}

/** What is looked at of a conversation: from the replica where it is held, else from the service. */
export class SeatPages {
  constructor(private readonly owner: PageOwner) {}

  /** Show a conversation around `seq`, or where unread messages begin, or at the end: what is held, and what is not
   * held as far as the service can be reached. */
  async open(id: string, seq: number | null): Promise<ConversationCopy> {
    const copy = this.owner.copy(id);
    if (copy.known) {
      if (seq !== null) await this.reach(copy, seq);
      return copy;
    }
    await this.owner.caughtUpOnce();
    const held = await this.hydrate(copy, seq);
    if (!held) {
      const query = seq === null ? { limit: SHOWN } : { limit: SHOWN, around: seq };
      await Promise.all([this.load(id, query), this.loadMembers(copy)]);
    }
    await this.reach(copy, seq ?? (copy.readSeqOf(this.owner.userId) ?? copy.head) + 1);
    return copy;
  }

  /** Load what is around a number that is not held, as far as the service can be reached. */
  private async reach(copy: ConversationCopy, seq: number): Promise<void> {
    if (seq > copy.head || seq < copy.floor || copy.messages.has(seq)) return;
    await this.load(copy.id, { limit: SHOWN, around: seq }).catch((error: unknown) => {
      if (copy.messages.size === 0) throw error;
    });
  }

  /** Show what the replica holds now in place of what is shown; false if the conversation is the
   * member's no more. */
  async showHeld(copy: ConversationCopy): Promise<boolean> {
    const { replica } = this.owner;
    const place = await replica.place(copy.id);
    if (!place) return copy.readSeqOf(this.owner.userId) === null; // whoever is no member only looks at pages
    if (place.cursor === null) return true;
    const first = Math.max(place.floor, Math.min(place.head, ...copy.messages.keys()));
    const messages = await replica.messages(copy.id, first, place.head, copy.messages.size + MISSED);
    copy.begin({ ...place, messages, members: await replica.members(copy.id), profiles: [] });
    return true;
  }

  /** Take what the replica holds; false if it holds nothing of this conversation. */
  private async hydrate(copy: ConversationCopy, seq: number | null): Promise<boolean> {
    await this.owner.allWritten();
    const place = await this.owner.replica.place(copy.id);
    if (!place?.cursor) return false;
    const members = await this.owner.replica.members(copy.id);
    const newest = await this.owner.replica.messages(copy.id, place.floor, place.head, SHOWN);
    const from =
      seq ?? (members.find((one) => one.user_id === this.owner.userId)?.read_seq ?? place.head) + 1;
    const around = await this.owner.replica.messages(copy.id, from - SHOWN / 2, from + SHOWN / 2, SHOWN);
    const profiles = [...this.owner.profiles.values()];
    copy.hydrate({ ...place, messages: [...around, ...newest], members, profiles });
    return true;
  }

  /** The members with their receipts; of a very large conversation the first 1,000. */
  private async loadMembers(copy: ConversationCopy): Promise<void> {
    let cursor: string | null = null;
    for (let pages = 0; pages < 5; pages++) {
      const query: { limit: number; cursor?: string } = cursor ? { limit: 200, cursor } : { limit: 200 };
      const params = { path: { conversation_id: copy.id }, query };
      const page = await answered(
        this.owner.api.GET("/v1/conversations/{conversation_id}/members", { params }),
      );
      copy.applyMembers(page.items, Object.values(page.profiles));
      cursor = page.next;
      if (!cursor) return;
    }
  }

  /** Load a page into the copy: from the replica if it is held there, else from the service. */
  async load(id: string, query: PageQuery): Promise<void> {
    const copy = this.owner.copy(id);
    if (await this.loadHeld(copy, query)) return;
    const params = { path: { conversation_id: id }, query };
    const epoch = copy.epoch;
    const page = await answered(
      this.owner.api.GET("/v1/conversations/{conversation_id}/messages", { params }),
    );
    if (copy.epoch !== epoch) return; // the copy began anew meanwhile
    copy.applyPage(page);
    this.keepPage(id, page);
    this.owner.heard(copy.rev);
  }

  private async loadHeld(copy: ConversationCopy, query: PageQuery): Promise<boolean> {
    if (query.around !== undefined || !copy.known) return false;
    const { before, after, limit } = query;
    const to = before !== undefined ? before - 1 : Math.min(copy.head, (after ?? 0) + limit);
    const from = Math.max(copy.floor, before !== undefined ? before - limit : (after ?? 0) + 1);
    if (from > to) return true;
    const found = await this.owner.replica.messages(copy.id, from, to, limit);
    if (found.length < to - from + 1) return false;
    copy.hydrate({ messages: found, members: [], profiles: [], head: 0, floor: 1, cursor: null });
    return true;
  }

  private keepPage(id: string, page: HistoryPage): void {
    this.owner.keep(async () => {
      if (await this.owner.replica.place(id)) await this.owner.replica.page(id, page);
    });
  }
}
