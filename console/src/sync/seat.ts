import { type Api, answered, type Conversation, type Message, makeApi, type Profile } from "../api/client";
import { ConversationCopy } from "./conversationCopy";
import { type Changes, CommandRefused, Line, type Unfollowed } from "./line";
import { Observable } from "./observable";

/** One signed-in member: a line, the list of conversations, and a copy of each that was opened. */
export class Seat extends Observable {
  readonly api: Api;
  readonly line: Line;
  conversations: Conversation[] = [];
  readonly profiles = new Map<string, Profile>();
  listed = false;
  listProblem = "";
  lastRev = 0;
  private readonly reading = new Map<string, number>();
  private readonly copies = new Map<string, ConversationCopy>();

  constructor(
    readonly userId: string,
    private readonly token: () => string,
  ) {
    super();
    this.api = makeApi(token);
    const { protocol, host } = window.location;
    this.line = new Line(`${protocol === "https:" ? "wss" : "ws"}://${host}/v1/live`, this.token, {
      changes: (set) => this.onChanges(set),
      unfollowed: (frame) => this.onUnfollowed(frame),
      opened: () => void this.onOpened(),
    });
  }

  end(): void {
    this.line.end();
  }

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
    } catch (error) {
      this.listProblem = error instanceof Error ? error.message : String(error);
    }
    this.changed();
  }

  /** The copy of a conversation; `open` fills and follows it. */
  copy(id: string): ConversationCopy {
    let copy = this.copies.get(id);
    if (!copy) {
      copy = new ConversationCopy(id);
      this.copies.set(id, copy);
    }
    return copy;
  }

  /** Read a first page, around `seq`, or where unread messages begin, or the newest; follow from right behind it. */
  async open(id: string, seq: number | null): Promise<ConversationCopy> {
    const copy = this.copy(id);
    if (!copy.known) {
      await Promise.all([
        this.load(id, seq === null ? { limit: 100 } : { limit: 100, around: seq }),
        this.loadMembers(copy),
      ]);
      const unread = (copy.readSeqOf(this.userId) ?? copy.head) + 1;
      if (seq === null && unread <= copy.head && !copy.messages.has(unread))
        await this.load(id, { limit: 100, around: unread });
      await this.follow(copy);
    }
    return copy;
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

  /** Change a message by a command on the line; the answer is in the copy when it resolves. */
  private async change(copy: ConversationCopy, frame: Record<string, unknown>): Promise<Message> {
    const answer = await this.line.command({ conversation_id: copy.id, ...frame });
    const message = answer.message as Message;
    copy.put(message);
    return message;
  }

  /** Set or take back one's reaction. */
  react(copy: ConversationCopy, seq: number, symbol: string, on: boolean): Promise<Message> {
    return this.change(copy, { type: on ? "react" : "unreact", seq, symbol });
  }

  /** A new body; with `rev`, only if the message still stands there. */
  edit(copy: ConversationCopy, seq: number, body: string, rev?: number): Promise<Message> {
    return this.change(copy, { type: "edit", seq, body, ...(rev === undefined ? {} : { rev }) });
  }

  remove(copy: ConversationCopy, seq: number): Promise<Message> {
    return this.change(copy, { type: "remove", seq });
  }

  /** Say how far one has read; what is not further than the receipt, or is on its way, is not sent again. */
  async read(copy: ConversationCopy, seq: number): Promise<void> {
    const known = copy.readSeqOf(this.userId);
    if (known === null || seq <= Math.max(known, this.reading.get(copy.id) ?? 0)) return;
    this.reading.set(copy.id, seq);
    try {
      const answer = await this.line.command({ type: "read", conversation_id: copy.id, read_seq: seq });
      this.replace(copy.id, { unread: answer.unread ?? null });
    } catch {
      this.reading.delete(copy.id); // said again with the next look
    }
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
    this.changed();
  }

  /** Read one page of history into the copy. */
  async load(
    id: string,
    query: { limit: number; before?: number; after?: number; around?: number },
  ): Promise<void> {
    const params = { path: { conversation_id: id }, query };
    const page = await answered(this.api.GET("/v1/conversations/{conversation_id}/messages", { params }));
    const copy = this.copy(id);
    copy.applyPage(page);
    if (copy.rev > this.lastRev) {
      this.lastRev = copy.rev;
      this.changed();
    }
  }

  /** Post; the row stands in the ledger at once, and while away it waits for the line. */
  post(id: string, body: string): void {
    const key = crypto.randomUUID();
    this.copy(id).addPending({ key, body, at: new Date(), state: "sending", reason: "" });
    void this.send(id, key, body);
  }

  /** Send a refused or waiting post again, with the key it had: it is posted once whatever happened before. */
  retry(id: string, key: string): void {
    const copy = this.copy(id);
    const pending = copy.pending.find((one) => one.key === key);
    if (!pending) return;
    copy.changePending(key, { state: "sending", reason: "" });
    void this.send(id, key, pending.body);
  }

  private async send(id: string, key: string, body: string): Promise<void> {
    const copy = this.copy(id);
    try {
      const answer = await this.line.command({ type: "post", conversation_id: id, key, body });
      copy.numbered(key, answer.message as Message);
    } catch (error) {
      if (error instanceof CommandRefused && error.problem.status < 500) {
        copy.changePending(key, { state: "refused", reason: error.message });
      } else {
        copy.changePending(key, { state: "queued", reason: "waits for the line" });
        if (error instanceof CommandRefused) window.setTimeout(() => this.retry(id, key), 2000);
      }
    }
  }

  private async follow(copy: ConversationCopy): Promise<void> {
    try {
      await this.line.command({ type: "follow", conversation_id: copy.id, cursor: copy.cursor });
    } catch {
      // A broken line follows again when it is back; one who may only read an open conversation does not follow.
    }
  }

  private async onOpened(): Promise<void> {
    this.changed();
    try {
      await this.line.command({ type: "follow_all" });
    } catch (error) {
      if (error instanceof CommandRefused) this.listProblem = error.message;
    }
    await this.list();
    for (const copy of this.copies.values()) {
      if (copy.known) await this.follow(copy);
      for (const pending of copy.pending) if (pending.state === "queued") this.retry(copy.id, pending.key);
    }
  }

  private onChanges(set: Changes): void {
    for (const profile of Object.values(set.profiles)) this.profiles.set(profile.user_id, profile);
    const copy = this.copies.get(set.conversation_id);
    const before = copy?.members.get(this.userId);
    if (copy?.known) copy.applyChanges(set);
    const revs = [...set.messages, ...set.members].map((row) => row.rev);
    this.lastRev = Math.max(this.lastRev, ...revs);
    const listed = this.conversations.find((one) => one.id === set.conversation_id);
    const own = set.members.find((member) => member.user_id === this.userId);
    if (!listed || set.conversation || (own && (own.left_at !== null || own.role !== listed.my_role))) {
      void this.list();
      return;
    }
    const last = set.messages.reduce<Message | null>(
      (newest, one) => (newest && newest.seq > one.seq ? newest : one),
      listed.last_message,
    );
    const fresh = set.messages.filter((one) => one.seq > listed.head);
    const others = fresh.filter((one) => one.author_id !== this.userId).length;
    const moved: Conversation = {
      ...listed,
      head: set.head,
      floor: set.floor,
      last_message: last,
      message_count: listed.message_count + fresh.length,
      unread: listed.unread === null ? null : listed.unread + others,
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
    this.changed();
  }

  private onUnfollowed(frame: Unfollowed): void {
    this.copies.delete(frame.conversation_id);
    this.conversations = this.conversations.filter((one) => one.id !== frame.conversation_id);
    this.changed();
  }
}
