import { type Api, answered, type ChangeSet, makeApi, type Profile, Refusal } from "../api/client";
import { isTrusted } from "../lib/claims";
import { storageWords } from "../lib/storage";
import { ConversationCopy } from "./conversationCopy";
import { Line, LineBroken, type Unfollowed } from "./line";
import { Observable } from "./observable";
import { Replica, type ResyncAnswer } from "./replica";
import { type Resynced, resync } from "./resync";
import { SeatCommands } from "./seatCommands";
import { SeatFiles } from "./seatFiles";
import { SeatList } from "./seatList";
import { SeatOutbox } from "./seatOutbox";
import { SeatPages } from "./seatPages";
import { Writers } from "./writers";

const RESTORED = "the store was restored or failed over";

/** One signed-in member: a replica in this browser, a line that keeps it current, and an outbox. */
export class Seat extends Observable {
  readonly api: Api;
  readonly line: Line;
  readonly outbox: SeatOutbox;
  readonly files: SeatFiles;
  readonly profiles = new Map<string, Profile>();
  readonly list = new SeatList(this);
  readonly pages = new SeatPages(this);
  readonly commands = new SeatCommands(this);
  readonly writers = new Writers();
  lastRev = 0;
  /** What the last catch-up brought. */
  resynced: Resynced | null = null;
  private readonly copies = new Map<string, ConversationCopy>();
  /** The all cursor up to which this page shows what is held. Other pages of this member move the replica's too. */
  private cursor: string | null = null;
  private fresh = false;
  private ended = false;
  /** A write has failed: the replica ends at its cursor. */
  private torn = false;
  private readonly loading: Promise<void>;
  /** What is written into the replica, in its order. */
  private written: Promise<unknown> = Promise.resolve();
  private caughtUp: () => void = () => {};
  private readonly firstCatchUp = new Promise<void>((resolve) => {
    this.caughtUp = resolve;
  });

  private constructor(
    readonly userId: string,
    private readonly token: () => string,
    readonly replica: Replica,
  ) {
    super();
    const check = () => {
      if (this.line.held) throw new LineBroken(this.line.reason);
    };
    this.api = makeApi(userId, token, check);
    this.files = new SeatFiles(userId, token, check, replica);
    const { protocol, host } = window.location;
    this.outbox = new SeatOutbox(
      userId,
      replica,
      () => this.line,
      () => this.files,
      (conversation, message) => this.copies.get(conversation)?.settle(this.outbox.of(conversation), message),
    );
    this.outbox.subscribe(() => this.showEntries());
    this.loading = this.outbox.load();
    this.line = new Line(`${protocol === "https:" ? "wss" : "ws"}://${host}/v1/live`, userId, token, {
      changes: (set) => {
        this.keep(() => replica.changes(set));
        this.onChanges(set);
      },
      unfollowed: (frame) => this.onUnfollowed(frame),
      signal: (frame) => this.writers.heard(frame.conversation_id, frame.user_id),
      checkpoint: (cursor) =>
        this.keep(async () => {
          await replica.checkpoint(cursor);
          this.cursor = cursor;
        }),
      rewound: () => this.line.again(RESTORED),
      opened: () => this.catchUp(),
    });
    this.line.subscribe(() => {
      if (this.line.state === "live") void this.outbox.pump();
      if (this.line.state === "away" || this.line.state === "refused") this.caughtUp();
    });
  }

  /** Whether its token is a trusted backend's, which has places of its own. */
  get trusted(): boolean {
    try {
      return isTrusted(this.token());
    } catch {
      return false; // with no network there is no token
    }
  }

  /** Open what this browser holds of a member, and let the line come. */
  static async open(userId: string, token: () => string): Promise<Seat> {
    const replica = await Replica.open(userId);
    const cursor = await replica.cursor(); // before what it speaks for: another page may be writing
    const held = await replica.listed();
    const seat = new Seat(userId, token, replica);
    seat.cursor = cursor;
    for (const profile of held.profiles) seat.profiles.set(profile.user_id, profile);
    if (!seat.list.listed) seat.list.held(held.conversations, held.whole);
    seat.fresh = cursor === null;
    await seat.loading;
    return seat;
  }

  /** Resolves when all is written and closed. */
  async end(): Promise<void> {
    this.ended = true;
    this.list.end();
    this.writers.end();
    this.line.end();
    this.outbox.end();
    this.files.end();
    await this.written;
    this.replica.close();
  }

  /** Write into the replica, in order. After a write that failed nothing else is written, the cursor least of all, until
   * everything behind the cursor that is held has come once more. */
  keep(work: () => Promise<void>): void {
    this.written = this.written.then(async () => {
      if (this.torn) return;
      try {
        await work();
      } catch (error) {
        if (this.ended) return;
        this.torn = true;
        this.line.again(storageWords(error));
      }
    });
  }

  override changed(): void {
    super.changed();
  }

  allWritten(): Promise<unknown> {
    return this.written;
  }

  /** Resolves at once, but for a replica that has never been brought to date. */
  async caughtUpOnce(): Promise<void> {
    if (this.fresh) await this.firstCatchUp;
  }

  /** The newest `rev` that has been heard of. */
  heard(rev: number): void {
    if (rev <= this.lastRev) return;
    this.lastRev = rev;
    this.changed();
  }

  unreadIs(conversation: string, unread: number | null): void {
    this.list.replace(conversation, { unread });
    // How many of them name this member is in the rows, where all of them are held.
    const rows = unread === 0 ? { unread_mentions: 0 } : this.copies.get(conversation)?.unreadOf(this.userId);
    if (rows) this.list.replace(conversation, { unread_mentions: rows.unread_mentions });
    else void this.list.refresh(conversation);
  }

  /** Say that this member is writing in a conversation; of no use where the line is away. */
  isWriting(conversation: string): void {
    if (this.line.state !== "live" || !this.writers.due(conversation)) return;
    this.line
      .command({ type: "signal", conversation_id: conversation, name: "writing" })
      .catch(() => undefined); // nobody misses it
  }

  // Catching up

  /** On every new line: first the outbox, then what moved, then follow from there. */
  private async catchUp(): Promise<void> {
    this.changed();
    await this.loading; // what waits goes out before anything comes in
    await this.outbox.flush();
    await this.written;
    this.torn = false;
    let whole = !this.list.whole || this.fresh;
    const moved = new Set<string>(this.resynced ? [] : await this.replica.touched());
    let anew: Set<string> | null = null;
    const held = await this.replica.cursor();
    if (held !== this.cursor) {
      await this.showHeld();
    }
    this.resynced = await resync(this.userId, this.token(), held, async (found) => {
      whole ||= found.rewound || found.begins;
      for (const item of found.items) moved.add(item.conversation_id);
      if (anew === null || found.begins)
        anew = new Set(found.rewound ? await this.fetchAnew(await this.replica.rewind()) : []);
      // Those are newer than the cursor that this leads to, and what changed before is no news.
      const taken = anew;
      const answer = { ...found, items: found.items.filter((one) => !taken.has(one.conversation_id)) };
      await this.replica.answer(answer);
      this.cursor = answer.cursor;
      this.show(answer);
    });
    if (whole) await this.list.read();
    else if (moved.size > 0) await this.list.readMoved(moved);
    this.fresh = false;
    const following = await this.line.command({ type: "follow_all", cursor: this.cursor });
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

  /** Another page of this member has moved the replica on, past what this one has seen: what is shown here is what is
   * held there. */
  private async showHeld(): Promise<void> {
    const { conversations, whole } = await this.replica.listed();
    this.list.held(conversations, whole);
    for (const copy of [...this.copies.values()]) {
      if (!copy.known) continue;
      if (!(await this.pages.showHeld(copy))) this.forget(copy.id);
    }
  }

  private show(answer: ResyncAnswer): void {
    for (const item of answer.items) this.apply(item);
    for (const id of answer.gone) this.forget(id);
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
    const readSeq = copy?.members.get(this.userId)?.read_seq;
    this.apply(set);
    for (const message of set.messages) this.writers.done(message.conversation_id, message.author_id);
    this.list.grow(set, copy, readSeq);
  }

  private onUnfollowed(frame: Unfollowed): void {
    this.keep(() => this.replica.drop(frame.conversation_id));
    this.forget(frame.conversation_id);
    this.changed();
  }

  private forget(id: string): void {
    this.copies.delete(id);
    this.list.forget(id);
  }
}
