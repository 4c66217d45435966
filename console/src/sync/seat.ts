import {
  type Api,
  answered,
  type ChangeSet,
  type Conversation,
  type HistoryPage,
  type Message,
  makeApi,
  type Profile,
  Refusal,
} from "../api/client";
import { ConversationCopy } from "./conversationCopy";
import { CommandRefused, Line, LineBroken, type Unfollowed } from "./line";
import { Observable } from "./observable";
import { Replica, type ResyncAnswer } from "./replica";
import { type Resynced, resync } from "./resync";
import { SeatOutbox } from "./seatOutbox";

const SHOWN = 100;
const LIST_MS = 1000;
const LIST_SOON_MS = 100;
const RESTORED = "the store was restored or failed over";

type PageQuery = { limit: number; before?: number; after?: number; around?: number };

/** One signed-in member: a replica in this browser, a line that keeps it current, and an outbox. */
export class Seat extends Observable {
  readonly api: Api;
  readonly line: Line;
  readonly outbox: SeatOutbox;
  conversations: Conversation[] = [];
  readonly profiles = new Map<string, Profile>();
  listed = false;
  listProblem = "";
  lastRev = 0;
  /** What the last catch-up brought. */
  resynced: Resynced | null = null;
  private readonly reading = new Map<string, number>();
  private readonly copies = new Map<string, ConversationCopy>();
  private fresh = false;
  private ended = false;
  /** A write has failed: the replica ends at its cursor. */
  private torn = false;
  private readonly loading: Promise<void>;
  private listTimer: number | undefined;
  private listing: number | undefined;
  /** What is written into the replica, in its order. */
  private written: Promise<unknown> = Promise.resolve();
  private caughtUp: () => void = () => {};
  private readonly firstCatchUp = new Promise<void>((resolve) => {
    this.caughtUp = resolve;
  });

  private constructor(
    readonly userId: string,
    private readonly token: () => string,
    private readonly replica: Replica,
  ) {
    super();
    this.api = makeApi(userId, token, () => {
      if (this.line.held) throw new LineBroken(this.line.reason);
    });
    const { protocol, host } = window.location;
    this.outbox = new SeatOutbox(
      userId,
      replica,
      () => this.line,
      (entry, message) =>
        this.copies.get(entry.conversation_id)?.settle(this.outbox.of(entry.conversation_id), message),
    );
    this.outbox.subscribe(() => this.showEntries());
    this.loading = this.outbox.load();
    this.line = new Line(`${protocol === "https:" ? "wss" : "ws"}://${host}/v1/live`, userId, token, {
      changes: (set) => {
        this.keep(() => replica.changes(set));
        this.onChanges(set);
      },
      unfollowed: (frame) => this.onUnfollowed(frame),
      checkpoint: (cursor) => this.keep(() => replica.checkpoint(cursor)),
      rewound: () => this.line.again(RESTORED),
      opened: () => this.catchUp(),
    });
    this.line.subscribe(() => {
      if (this.line.state === "live") void this.outbox.pump();
      if (this.line.state === "away" || this.line.state === "refused") this.caughtUp();
    });
  }

  /** Open what this browser holds of a member, and let the line come. */
  static async open(userId: string, token: () => string): Promise<Seat> {
    const replica = await Replica.open(userId);
    const [held, cursor] = [await replica.listed(), await replica.cursor()];
    const seat = new Seat(userId, token, replica);
    for (const profile of held.profiles) seat.profiles.set(profile.user_id, profile);
    if (!seat.listed) seat.conversations = held.conversations;
    seat.listed ||= cursor !== null;
    seat.fresh = cursor === null;
    await seat.loading;
    return seat;
  }

  /** Resolves when all is written and closed. */
  async end(): Promise<void> {
    this.ended = true;
    window.clearTimeout(this.listTimer);
    window.clearTimeout(this.listing);
    this.line.end();
    this.outbox.end();
    await this.written;
    this.replica.close();
  }

  /** Write into the replica, in order. After a write that failed nothing else is written, the cursor least of all, until
   * everything behind the cursor that is held has come once more. */
  private keep(work: () => Promise<void>): void {
    this.written = this.written.then(async () => {
      if (this.torn) return;
      try {
        await work();
      } catch (error) {
        if (this.ended) return;
        this.torn = true;
        const why = error instanceof Error ? error.message || error.name : String(error);
        this.line.again(`what came cannot be kept in this browser: ${why}`);
      }
    });
  }

  // Catching up

  /** On every new line: first the outbox, then what moved, then follow from there. */
  private async catchUp(): Promise<void> {
    this.changed();
    await this.loading; // what waits goes out before anything comes in
    await this.outbox.flush();
    await this.written;
    this.torn = false;
    let moved = !this.listed || this.fresh;
    let anew: Set<string> | null = null;
    this.resynced = await resync(this.userId, this.token(), await this.replica.cursor(), async (found) => {
      moved ||= found.items.length > 0 || found.gone.length > 0 || found.rewound;
      if (anew === null || found.begins)
        anew = new Set(found.rewound ? await this.fetchAnew(await this.replica.rewind()) : []);
      // Those are newer than the cursor that this leads to, and what changed before is no news.
      const taken = anew;
      const answer = { ...found, items: found.items.filter((one) => !taken.has(one.conversation_id)) };
      await this.replica.answer(answer);
      this.show(answer);
    });
    if (moved) await this.list();
    this.fresh = false;
    const cursor = await this.replica.cursor();
    const following = await this.line.command({ type: "follow_all", cursor });
    if (following.reset || following.rewound) throw new LineBroken(RESTORED);
    this.caughtUp();
    this.changed();
  }

  /** The store was restored or failed over: begin these copies again. */
  private async fetchAnew(ids: string[]): Promise<string[]> {
    this.profiles.clear();
    for (const id of ids) {
      let cursor: string | null = null;
      for (let more = true; more; ) {
        const query: { cursor?: string } = cursor ? { cursor } : {};
        const params = { path: { conversation_id: id }, query };
        const exchange = this.api.GET("/v1/conversations/{conversation_id}/changes", { params });
        const set: ChangeSet | null = await answered(exchange).catch((error: unknown) => {
          if (error instanceof Refusal && (error.problem.status === 404 || error.problem.status === 403))
            return null;
          throw error;
        });
        if (!set) {
          await this.replica.drop(id);
          this.forget(id);
          break;
        }
        await this.replica.changes(set);
        this.apply(set);
        cursor = set.cursor;
        more = set.more;
      }
    }
    return ids;
  }

  private show(answer: ResyncAnswer): void {
    for (const item of answer.items) this.apply(item);
    for (const id of answer.gone) this.forget(id);
  }

  // The list

  /** Read the list again, newest activity first. */
  async list(): Promise<void> {
    try {
      const items: Conversation[] = [];
      let cursor: string | null = null;
      do {
        const query: { limit: number; cursor?: string } = cursor ? { limit: 200, cursor } : { limit: 200 };
        const page = await answered(this.api.GET("/v1/conversations", { params: { query } }));
        items.push(...page.items);
        for (const profile of Object.values(page.profiles)) this.profiles.set(profile.user_id, profile);
        cursor = page.next;
      } while (cursor);
      this.conversations = items;
      this.listed = true;
      this.listProblem = "";
      this.keep(() => this.replica.list(items, this.profiles.values()));
    } catch (error) {
      this.listProblem = error instanceof Error ? error.message : String(error);
    }
    this.changed();
  }

  /** The same in a moment, however many ask for it. */
  private listSoon(): void {
    this.listing ??= window.setTimeout(() => {
      this.listing = undefined;
      void this.list();
    }, LIST_SOON_MS);
  }

  /** Read one conversation of the list again. */
  private async refresh(id: string): Promise<void> {
    try {
      const params = { path: { conversation_id: id } };
      this.replace(id, await answered(this.api.GET("/v1/conversations/{conversation_id}", { params })));
    } catch {
      // Gone or away: the line says so itself.
    }
  }

  private replace(id: string, fields: Partial<Conversation>): void {
    this.conversations = this.conversations.map((one) => (one.id === id ? { ...one, ...fields } : one));
    this.keepList();
    this.changed();
  }

  /** Keep the list as it is shown, but not for every message that comes. */
  private keepList(): void {
    this.listTimer ??= window.setTimeout(() => {
      this.listTimer = undefined;
      this.keep(() => this.replica.list(this.conversations, []));
    }, LIST_MS);
  }

  // Copies

  /** The copy of a conversation; `open` fills it. */
  copy(id: string): ConversationCopy {
    let copy = this.copies.get(id);
    if (!copy) {
      copy = new ConversationCopy(id, this.userId);
      this.copies.set(id, copy);
      copy.setEntries(this.outbox.of(id));
    }
    return copy;
  }

  private showEntries(): void {
    for (const copy of this.copies.values()) copy.setEntries(this.outbox.of(copy.id));
    this.changed();
  }

  /** Show a conversation around `seq`, or where unread messages begin, or at the end: what is held, and what is not
   * held as far as the service can be reached. */
  async open(id: string, seq: number | null): Promise<ConversationCopy> {
    const copy = this.copy(id);
    if (copy.known) return copy;
    if (this.fresh) await this.firstCatchUp;
    const held = await this.hydrate(copy, seq);
    if (!held) {
      const query = seq === null ? { limit: SHOWN } : { limit: SHOWN, around: seq };
      await Promise.all([this.load(id, query), this.loadMembers(copy)]);
    }
    const wanted = seq ?? (copy.readSeqOf(this.userId) ?? copy.head) + 1;
    if (wanted <= copy.head && wanted >= copy.floor && !copy.messages.has(wanted))
      await this.load(id, { limit: SHOWN, around: wanted }).catch((error: unknown) => {
        if (copy.messages.size === 0) throw error;
      });
    return copy;
  }

  /** Take what the replica holds; false if it holds nothing of this conversation. */
  private async hydrate(copy: ConversationCopy, seq: number | null): Promise<boolean> {
    await this.written;
    const place = await this.replica.place(copy.id);
    if (!place?.cursor) return false;
    const members = await this.replica.members(copy.id);
    const newest = await this.replica.messages(copy.id, place.floor, place.head, SHOWN);
    const from = seq ?? (members.find((one) => one.user_id === this.userId)?.read_seq ?? place.head) + 1;
    const around = await this.replica.messages(copy.id, from - SHOWN / 2, from + SHOWN / 2, SHOWN);
    const profiles = [...this.profiles.values()];
    copy.hydrate({ ...place, messages: [...around, ...newest], members, profiles });
    return true;
  }

  /** The members with their receipts; of a very large conversation the first 1,000. */
  private async loadMembers(copy: ConversationCopy): Promise<void> {
    let cursor: string | null = null;
    for (let pages = 0; pages < 5; pages++) {
      const query: { limit: number; cursor?: string } = cursor ? { limit: 200, cursor } : { limit: 200 };
      const params = { path: { conversation_id: copy.id }, query };
      const page = await answered(this.api.GET("/v1/conversations/{conversation_id}/members", { params }));
      copy.applyMembers(page.items, Object.values(page.profiles));
      cursor = page.next;
      if (!cursor) return;
    }
  }

  /** Load a page into the copy: from the replica if it is held there, else from the service. */
  async load(id: string, query: PageQuery): Promise<void> {
    const copy = this.copy(id);
    if (await this.loadHeld(copy, query)) return;
    const params = { path: { conversation_id: id }, query };
    const epoch = copy.epoch;
    const page = await answered(this.api.GET("/v1/conversations/{conversation_id}/messages", { params }));
    if (copy.epoch !== epoch) return; // the copy began anew meanwhile
    copy.applyPage(page);
    this.keepPage(id, page);
    if (copy.rev > this.lastRev) {
      this.lastRev = copy.rev;
      this.changed();
    }
  }

  private async loadHeld(copy: ConversationCopy, query: PageQuery): Promise<boolean> {
    if (query.around !== undefined || !copy.known) return false;
    const { before, after, limit } = query;
    const to = before !== undefined ? before - 1 : Math.min(copy.head, (after ?? 0) + limit);
    const from = Math.max(copy.floor, before !== undefined ? before - limit : (after ?? 0) + 1);
    if (from > to) return true;
    const found = await this.replica.messages(copy.id, from, to, limit);
    if (found.length < to - from + 1) return false;
    copy.hydrate({ messages: found, members: [], profiles: [], head: 0, floor: 1, cursor: null });
    return true;
  }

  private keepPage(id: string, page: HistoryPage): void {
    this.keep(async () => {
      if (await this.replica.place(id)) await this.replica.page(id, page);
    });
  }

  // Commands

  /** Change a message: at once on the line, with the answer in the copy when it resolves; while away it waits. */
  private async change(
    copy: ConversationCopy,
    kind: "edit" | "remove" | "react" | "unreact",
    content: { seq: number; body?: string; rev?: number; symbol?: string },
  ): Promise<void> {
    if (this.line.state !== "live") return this.outbox.put(kind, copy.id, content);
    const answer = await this.line.command({ type: kind, conversation_id: copy.id, ...content });
    copy.put(answer.message as Message);
  }

  /** Set or take back one's reaction. */
  react(copy: ConversationCopy, seq: number, symbol: string, on: boolean): Promise<void> {
    return this.change(copy, on ? "react" : "unreact", { seq, symbol });
  }

  /** A new body; with `rev`, only if the message still stands there. */
  edit(copy: ConversationCopy, seq: number, body: string, rev?: number): Promise<void> {
    return this.change(copy, "edit", { seq, body, ...(rev === undefined ? {} : { rev }) });
  }

  remove(copy: ConversationCopy, seq: number): Promise<void> {
    return this.change(copy, "remove", { seq });
  }

  /** Say how far one has read; what is not further than the receipt, or is on its way, is not sent again. */
  async read(copy: ConversationCopy, seq: number): Promise<void> {
    const known = copy.readSeqOf(this.userId);
    if (known === null || seq <= Math.max(known, this.reading.get(copy.id) ?? 0)) return;
    this.reading.set(copy.id, seq);
    if (this.line.state !== "live") return this.outbox.put("read", copy.id, { read_seq: seq });
    try {
      const answer = await this.line.command({ type: "read", conversation_id: copy.id, read_seq: seq });
      this.replace(copy.id, { unread: answer.unread ?? null });
    } catch (error) {
      if (error instanceof CommandRefused)
        this.reading.delete(copy.id); // said again with the next look
      else await this.outbox.put("read", copy.id, { read_seq: seq });
    }
  }

  /** Post; the row stands in the ledger as soon as it is kept, and while away it waits for the line. */
  post(id: string, body: string): void {
    void this.outbox.put("post", id, { body });
  }

  // What comes

  private apply(set: ChangeSet): void {
    for (const profile of Object.values(set.profiles)) this.profiles.set(profile.user_id, profile);
    const copy = this.copies.get(set.conversation_id);
    if (copy?.known) copy.applyChanges(set);
    const revs = [...set.messages, ...set.members].map((row) => row.rev);
    this.lastRev = Math.max(this.lastRev, ...revs);
  }

  private onChanges(set: ChangeSet): void {
    const copy = this.copies.get(set.conversation_id);
    const before = copy?.members.get(this.userId);
    this.apply(set);
    const listed = this.conversations.find((one) => one.id === set.conversation_id);
    const own = set.members.find((member) => member.user_id === this.userId);
    if (!listed || (own && (own.left_at !== null || own.role !== listed.my_role))) {
      this.listSoon();
      return;
    }
    const last = set.messages.reduce<Message | null>(
      (newest, one) => (newest && newest.seq > one.seq ? newest : one),
      listed.last_message,
    );
    const fresh = set.messages.filter((one) => one.seq > listed.head);
    const others = fresh.filter((one) => one.author_id !== this.userId).length;
    // Some of what went may have been tombstones, which are not counted: the next list has it to the number.
    const gone = Math.max(0, set.floor - listed.floor);
    const kept = Math.max(0, listed.message_count + fresh.length - gone);
    // What a conversation says of itself comes with the set; what it says to this member, with the next list.
    const { my_role, unread, partner, last_message, ...fields } = set.conversation ?? listed;
    const moved: Conversation = {
      ...listed,
      ...fields,
      head: set.head,
      floor: set.floor,
      last_message: last,
      message_count: kept,
      unread: listed.unread === null ? null : Math.min(listed.unread + others, gone > 0 ? kept : Infinity),
    };
    // One's own receipt from another device, or a removal, changes what is unread in a way that only the rows tell.
    const removed = set.messages.some((one) => one.removed_at !== null && one.seq <= listed.head);
    if ((own && own.read_seq !== before?.read_seq) || removed) {
      const unread = copy?.known ? copy.unreadOf(this.userId) : null;
      if (unread === null) void this.refresh(listed.id);
      else moved.unread = unread;
    }
    const rest = this.conversations.filter((one) => one !== listed);
    this.conversations = fresh.length
      ? [moved, ...rest]
      : this.conversations.map((one) => (one === listed ? moved : one));
    this.keepList();
    this.changed();
  }

  private onUnfollowed(frame: Unfollowed): void {
    this.keep(() => this.replica.drop(frame.conversation_id));
    this.forget(frame.conversation_id);
    this.changed();
  }

  private forget(id: string): void {
    this.copies.delete(id);
    this.conversations = this.conversations.filter((one) => one.id !== id);
  }
}
