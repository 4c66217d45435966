import { type Message, type ProblemDocument, Refusal } from "../api/client";
import { pauseAfter, pauses, type Said } from "./backoff";
import { type Answer, CommandRefused, type Line, LineBroken, saidBy } from "./line";
import { Observable } from "./observable";
import { type Enclosed, type Entry, frameOf, type Kind, lostFiles, outcomeOf, rebased } from "./outbox";
import type { Replica } from "./replica";
import type { SeatFiles } from "./seatFiles";

/** A seat's commands that the service has not acknowledged: kept in the replica, sent one after another. */
export class SeatOutbox extends Observable {
  entries: Entry[] = [];
  /** How much of a post's files has gone, from 0 to 1, by its key. */
  readonly parts = new Map<string, number>();
  private running = false;
  private pause = pauses();
  /** Posts whose files were not there any more, and have been sent once more. */
  private readonly sentAgain = new Set<string>();
  /** Tells the other pages of this member that the outbox has changed, with the message that a command made. */
  private readonly others: BroadcastChannel;

  constructor(
    private readonly me: string,
    private readonly replica: Replica,
    private readonly line: () => Line,
    private readonly files: () => SeatFiles,
    private readonly settled: (conversation: string, message: Message | null) => void,
  ) {
    super();
    this.others = new BroadcastChannel(`nestrel.outbox.${me}`);
    this.others.onmessage = ({ data }: MessageEvent<Message | null>) => void this.load(data);
  }

  end(): void {
    this.others.close();
  }

  /** Read what waits; `message` is what a command of another page made, which comes as its row goes. */
  async load(message: Message | null = null): Promise<void> {
    this.entries = await this.replica.entries();
    if (message) this.settled(message.conversation_id, message);
    this.changed();
  }

  of(conversation: string): Entry[] {
    return this.entries.filter((one) => one.conversation_id === conversation);
  }

  get waiting(): Entry[] {
    return this.entries.filter((one) => one.reason === null);
  }

  /** What a person waits for: a receipt is nothing that they did. */
  get shown(): Entry[] {
    return this.waiting.filter((one) => one.kind !== "read");
  }

  get refused(): Entry[] {
    return this.entries.filter((one) => one.reason !== null);
  }

  /** Take a command; it is kept when this resolves, and goes out as soon as the line is live. */
  async put(
    kind: Kind,
    conversation: string,
    content: Entry["content"],
    files: Enclosed[] = [],
  ): Promise<void> {
    const entry = {
      conversation_id: conversation,
      kind,
      content,
      key: crypto.randomUUID(),
      at: new Date().toISOString(),
      reason: null,
      ...(files.length ? { files } : {}),
    };
    const n = await this.replica.put(entry);
    if (kind === "read")
      this.entries = this.entries.filter(
        (one) => one.kind !== "read" || one.conversation_id !== conversation,
      );
    this.entries = [...this.entries, { ...entry, n }];
    this.changed();
    this.others.postMessage(null);
    void this.pump();
  }

  /** Let a refused command wait again, with the key that it had: it is carried out once whatever happened before. */
  async retry(n: number): Promise<void> {
    const entry = this.entries.find((one) => one.n === n);
    if (!entry) return;
    await this.keep({ ...entry, reason: null });
    void this.pump();
  }

  async discard(n: number): Promise<void> {
    this.entries = this.entries.filter((one) => one.n !== n);
    this.changed();
    await this.replica.settled(n, null);
    this.others.postMessage(null);
  }

  private async keep(entry: Entry): Promise<void> {
    this.entries = this.entries.map((one) => (one.n === entry.n ? entry : one));
    this.changed();
    await this.replica.refused(entry);
    this.others.postMessage(null);
  }

  /** Send what waits while the line is live. */
  async pump(): Promise<void> {
    if (this.running || this.line().state !== "live") return;
    this.running = true;
    let said: Said = {};
    let failed = false;
    try {
      await this.flush();
    } catch (error) {
      said = saidBy(error);
      failed = !(error instanceof LineBroken);
    } finally {
      this.running = false;
    }
    if ((failed || this.waiting.length > 0) && this.line().state === "live")
      window.setTimeout(() => void this.pump(), pauseAfter(this.pause.next().value, said));
    else this.pause = pauses();
  }

  /** Send what waits, one after another; two pages of one member do not send at the same time. Rejects when the line
   * breaks, or the service cannot take commands now. */
  async flush(): Promise<void> {
    await navigator.locks.request(`nestrel.outbox.${this.me}`, async () => {
      // What the file holds, and not what this page remembers: another page may have sent it meanwhile.
      const next = async () => {
        await this.load();
        return this.waiting[0];
      };
      for (let entry = await next(); entry; entry = await next()) await this.send(entry);
    });
  }

  private async send(entry: Entry): Promise<void> {
    let answer: Answer;
    let ready = entry;
    try {
      ready = await this.uploaded(entry);
      answer = await this.line().command(frameOf(ready));
    } catch (error) {
      if (!(error instanceof CommandRefused || error instanceof Refusal)) throw error;
      await this.refusedWith(ready, error.problem, error);
      return;
    } finally {
      this.parts.delete(entry.key);
    }
    await this.done(ready, answer.message ?? null);
  }

  private async refusedWith(entry: Entry, problem: ProblemDocument, error: Error): Promise<void> {
    if (lostFiles(entry, problem) && !this.sentAgain.has(entry.key)) {
      this.sentAgain.add(entry.key);
      await this.keep({ ...entry, files: entry.files?.map((one) => ({ ...one, attachment: null })) ?? [] });
      return;
    }
    const outcome = outcomeOf(entry, problem, this.me);
    if (outcome.is === "again") throw error;
    if (outcome.is === "refused") await this.keep({ ...entry, reason: error.message });
    else await this.done(entry, outcome.message);
  }

  /** Upload the files that go with a post; what has gone is kept as such, and is not sent twice. */
  private async uploaded(entry: Entry): Promise<Entry> {
    let ready = entry;
    for (const [n, file] of (entry.files ?? []).entries()) {
      if (file.attachment !== null) continue;
      const kept = await this.files().upload(entry.conversation_id, file, (part) => {
        this.parts.set(entry.key, (n + part) / (entry.files?.length ?? 1));
        this.changed();
      });
      const files = (ready.files ?? []).map((one, place) =>
        place === n ? { ...one, attachment: kept.attachment_id } : one,
      );
      ready = { ...ready, files };
      await this.keep(ready);
    }
    return ready;
  }

  /** In one step for whoever looks: the command goes, and what it made comes. */
  private async done(entry: Entry, message: Message | null): Promise<void> {
    this.entries = this.entries.filter((one) => one.n !== entry.n);
    const later = message ? rebased(entry, message, this.entries) : [];
    this.entries = this.entries.map((one) => later.find((moved) => moved.n === one.n) ?? one);
    this.settled(entry.conversation_id, message);
    this.changed();
    await this.replica.settled(entry.n, message, later);
    this.others.postMessage(message);
  }
}
