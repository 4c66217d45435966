import {
  type Api,
  answered,
  type ChangeSet,
  type Conversation,
  type Message,
  type Profile,
} from "../api/client";
import type { ConversationCopy } from "./conversationCopy";
import type { Replica } from "./replica";

const KEPT_MS = 1000;
const SOON_MS = 100;

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

/** A member's conversations, newest activity first: read from the service, moved on by what comes, kept in the
 * replica. */
export class SeatList {
  conversations: Conversation[] = [];
  listed = false;
  problem = "";
  private keepTimer: number | undefined;
  private soonTimer: number | undefined;

  constructor(private readonly owner: ListOwner) {}

  end(): void {
    window.clearTimeout(this.keepTimer);
    window.clearTimeout(this.soonTimer);
  }

  /** Read the list again. */
  async read(): Promise<void> {
    const { api, profiles, replica } = this.owner;
    try {
      const items: Conversation[] = [];
      let cursor: string | null = null;
      do {
        const query: { limit: number; cursor?: string } = cursor ? { limit: 200, cursor } : { limit: 200 };
        const page = await answered(api.GET("/v1/conversations", { params: { query } }));
        items.push(...page.items);
        for (const profile of Object.values(page.profiles)) profiles.set(profile.user_id, profile);
        cursor = page.next;
      } while (cursor);
      this.conversations = items;
      this.listed = true;
      this.problem = "";
      this.owner.keep(() => replica.list(items, profiles.values()));
    } catch (error) {
      this.problem = error instanceof Error ? error.message : String(error);
    }
    this.owner.changed();
  }

  /** The same in a moment, however many ask for it. */
  readSoon(): void {
    this.soonTimer ??= window.setTimeout(() => {
      this.soonTimer = undefined;
      void this.read();
    }, SOON_MS);
  }

  /** Read one conversation of the list again. */
  async refresh(id: string): Promise<void> {
    try {
      const params = { path: { conversation_id: id } };
      const exchange = this.owner.api.GET("/v1/conversations/{conversation_id}", { params });
      this.replace(id, await answered(exchange));
    } catch {
      // Gone or away: the line says so itself.
    }
  }

  replace(id: string, fields: Partial<Conversation>): void {
    this.conversations = this.conversations.map((one) => (one.id === id ? { ...one, ...fields } : one));
    this.keepSoon();
    this.owner.changed();
  }

  forget(id: string): void {
    this.conversations = this.conversations.filter((one) => one.id !== id);
  }

  /** Keep the list as it is shown, but not for every message that comes. */
  private keepSoon(): void {
    this.keepTimer ??= window.setTimeout(() => {
      this.keepTimer = undefined;
      this.owner.keep(() => this.owner.replica.list(this.conversations, []));
    }, KEPT_MS);
  }

  /** Move on with a change set that has come; `copy` is of its conversation, `readSeq` one's receipt before it. */
  grow(set: ChangeSet, copy: ConversationCopy | undefined, readSeq: number | undefined): void {
    const { userId } = this.owner;
    const listed = this.conversations.find((one) => one.id === set.conversation_id);
    const own = set.members.find((member) => member.user_id === userId);
    if (!listed || (own && (own.left_at !== null || own.role !== listed.my_role))) {
      this.readSoon();
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
    this.keepSoon();
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
