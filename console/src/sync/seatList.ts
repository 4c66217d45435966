import {
  type Api,
  answered,
  type ChangeSet,
  type Conversation,
  type Message,
  type Profile,
  Refusal,
} from "../api/client";
import { storageWords } from "../lib/storage";
import type { ConversationCopy } from "./conversationCopy";
import type { Replica } from "./replica";

const KEPT_MS = 1000;
const SOON_MS = 100;
const PAGE = 200;
/** So few are asked for one by one; of more, pages from the newest activity on are asked for while they help. */
const ONE_BY_ONE = 5;

const CONVERSATION = "/v1/conversations/{conversation_id}" as const;

const activeAt = (one: Conversation): string => one.last_message?.created_at ?? one.created_at;

/** What a list needs of its seat. */
export interface ListOwner {
  readonly userId: string;
  readonly api: Api;
  readonly replica: Replica;
  readonly profiles: Map<string, Profile>;
  /** Write into the replica, in order. */
  keep(work: () => Promise<void>): void;
  changed(): void;
}

/** A member's conversations, newest activity first: read whole from the service once, then moved on by what comes and
 * by questions about those that moved; kept in the replica. */
export class SeatList {
  conversations: Conversation[] = [];
  /** Whether there is something to show: all that is held, or a first page. */
  listed = false;
  /** Whether it has been read to its end, since when it was only moved on. */
  whole = false;
  problem = "";
  private keepTimer: number | undefined;
  private soonTimer: number | undefined;
  /** What has changed here since it was last kept. */
  private readonly changedIds = new Set<string>();
  private readonly soon = new Set<string>();
  /** What has moved or gone while pages are being read, which may be older. */
  private readonly reading = new Set<Set<string>>();

  constructor(private readonly owner: ListOwner) {}

  end(): void {
    window.clearTimeout(this.keepTimer);
    window.clearTimeout(this.soonTimer);
  }

  /** What this browser holds of it. */
  held(conversations: Conversation[], whole: boolean): void {
    this.conversations = conversations;
    this.whole = whole;
    this.listed ||= whole;
    this.owner.changed();
  }

  /** Read all of it, a page at a time; the first one is shown at once. */
  async read(): Promise<void> {
    this.whole = false;
    const done = await this.pages((found, moved) => {
      if (this.listed) return true;
      this.conversations = this.merged(found, [], moved);
      this.listed = true;
      this.owner.changed();
      return true;
    }, true);
    if (done) {
      const { replica, profiles } = this.owner;
      this.owner.keep(() => replica.list(this.conversations, profiles.values()));
    }
    this.owner.changed();
  }

  /** Read again those that have moved. */
  async readMoved(ids: Iterable<string>): Promise<void> {
    const left = new Set(ids);
    if (left.size > ONE_BY_ONE)
      await this.pages((found) => {
        for (const one of found) left.delete(one.id);
        return left.size > ONE_BY_ONE;
      }, false);
    for (const id of left) await this.refresh(id);
    this.owner.changed();
  }

  /** Read one conversation again; one that is not, or no more, of the list goes from it. */
  async refresh(id: string): Promise<void> {
    const params = { path: { conversation_id: id } };
    try {
      const found = await answered(this.owner.api.GET(CONVERSATION, { params }));
      if (found.my_role === null || found.my_hidden) this.forget(id);
      else this.put(found);
    } catch (error) {
      const status = error instanceof Refusal ? error.problem.status : 0;
      if (status === 403 || status === 404) this.forget(id); // else the line says that the service is away
    }
    this.owner.changed();
  }

  /** The same in a moment, of however many. */
  refreshSoon(id: string): void {
    this.soon.add(id);
    this.soonTimer ??= window.setTimeout(() => {
      this.soonTimer = undefined;
      const ids = [...this.soon];
      this.soon.clear();
      void this.readMoved(ids);
    }, SOON_MS);
  }

  replace(id: string, fields: Partial<Conversation>): void {
    this.conversations = this.conversations.map((one) => (one.id === id ? { ...one, ...fields } : one));
    this.moved(id);
    this.owner.changed();
  }

  forget(id: string): void {
    this.conversations = this.conversations.filter((one) => one.id !== id);
    this.moved(id);
  }

  /** Read pages until there are no more, or `take` wants none; whether it came to that without a problem. */
  private async pages(
    take: (items: Conversation[], moved: Set<string>) => boolean,
    all: boolean,
  ): Promise<boolean> {
    const { api, profiles } = this.owner;
    const moved = new Set<string>();
    const items: Conversation[] = [];
    this.reading.add(moved);
    try {
      let cursor: string | null = null;
      do {
        const query: { limit: number; cursor?: string } = { limit: PAGE, ...(cursor ? { cursor } : {}) };
        const page = await answered(api.GET("/v1/conversations", { params: { query } }));
        for (const profile of Object.values(page.profiles)) profiles.set(profile.user_id, profile);
        items.push(...page.items);
        cursor = take(page.items, moved) ? page.next : null;
      } while (cursor);
      this.conversations = this.merged(items, all ? [] : this.conversations, moved);
      this.listed = true;
      this.whole ||= all;
      this.problem = "";
      if (!all) for (const one of items) this.moved(one.id);
      return true;
    } catch (error) {
      this.problem = storageWords(error);
      return false;
    } finally {
      this.reading.delete(moved);
    }
  }

  /** Pages that were read, and behind them those of the rest that they do not have. What has moved here meanwhile
   * stands as it stands here. */
  private merged(items: Conversation[], rest: Conversation[], moved: Set<string>): Conversation[] {
    const read = new Set(items.map((one) => one.id));
    const here = this.conversations.filter((one) => moved.has(one.id));
    const others = (one: Conversation) => !moved.has(one.id);
    return [...here, ...items.filter(others), ...rest.filter((one) => others(one) && !read.has(one.id))];
  }

  /** Put one where its activity has it. */
  private put(one: Conversation): void {
    const rest = this.conversations.filter((held) => held.id !== one.id);
    const at = activeAt(one);
    const index = rest.findIndex((held) => activeAt(held) <= at);
    rest.splice(index < 0 ? rest.length : index, 0, one);
    this.conversations = rest;
    this.moved(one.id);
  }

  /** Note that one has changed here; the list is kept as it is shown, but not for every message that comes. */
  private moved(id: string): void {
    for (const reading of this.reading) reading.add(id);
    this.changedIds.add(id);
    this.keepTimer ??= window.setTimeout(() => {
      this.keepTimer = undefined;
      const changed = this.conversations.filter((one) => this.changedIds.has(one.id));
      const gone = [...this.changedIds].filter((id) => !changed.some((one) => one.id === id));
      this.changedIds.clear();
      this.owner.keep(() => this.owner.replica.relist(changed, gone));
    }, KEPT_MS);
  }

  /** Move on with a change set that has come; `copy` is of its conversation, `readSeq` one's receipt before it. */
  grow(set: ChangeSet, copy: ConversationCopy | undefined, readSeq: number | undefined): void {
    const { userId } = this.owner;
    const listed = this.conversations.find((one) => one.id === set.conversation_id);
    const own = set.members.find((member) => member.user_id === userId);
    if (!listed || (own && (own.left_at !== null || own.role !== listed.my_role))) {
      this.refreshSoon(set.conversation_id);
      return;
    }
    const fresh = set.messages.filter((one) => one.seq > listed.head);
    const moved = grown(listed, set, fresh, userId);
    // One's own receipt from another device, or a removal, changes what is unread in a way that only the rows tell.
    const removed = set.messages.some((one) => one.removed_at !== null && one.seq <= listed.head);
    if ((own && own.read_seq !== readSeq) || removed) {
      const unread = copy?.known ? copy.unreadOf(userId) : null;
      if (unread === null) void this.refresh(listed.id);
      else Object.assign(moved, unread);
    }
    const rest = this.conversations.filter((one) => one !== listed);
    this.conversations = fresh.length
      ? [moved, ...rest]
      : this.conversations.map((one) => (one === listed ? moved : one));
    this.moved(moved.id);
    this.owner.changed();
  }
}

/** A conversation of the list as it stands after a change set. */
function grown(listed: Conversation, set: ChangeSet, fresh: Message[], userId: string): Conversation {
  const last = set.messages.reduce<Message | null>(
    (newest, one) => (newest && newest.seq > one.seq ? newest : one),
    listed.last_message,
  );
  const others = fresh.filter((one) => one.author_id !== userId);
  const named = others.filter((one) => one.mentions?.includes(userId)).length;
  // Some of what went may have been tombstones, which are not counted: the next list has it to the number.
  const gone = Math.max(0, set.floor - listed.floor);
  const kept = Math.max(0, listed.message_count + fresh.length - gone);
  // What a conversation says of itself comes with the set; what it says to this member, with the next list.
  const { my_role, unread, unread_mentions, partner, last_message, ...fields } = set.conversation ?? listed;
  return {
    ...listed,
    ...fields,
    head: set.head,
    floor: set.floor,
    last_message: last,
    message_count: kept,
    unread_mentions: (listed.unread_mentions ?? 0) + named,
    unread:
      listed.unread === null ? null : Math.min(listed.unread + others.length, gone > 0 ? kept : Infinity),
  };
}
