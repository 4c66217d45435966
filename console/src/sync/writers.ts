import { Observable } from "./observable";

/** For so long somebody counts as writing who has said so once. */
const LASTS_MS = 5_000;
/** So often it is said of oneself. */
const EVERY_MS = 2_000;

/** Who is writing where, as signals tell; kept nowhere, and forgotten soon. */
export class Writers extends Observable {
  private readonly until = new Map<string, Map<string, number>>();
  private timer: number | undefined;
  private said = { at: Number.NEGATIVE_INFINITY, conversation: "" };

  /** Somebody says that they are writing. */
  heard(conversation: string, userId: string, now = Date.now()): void {
    const here = this.until.get(conversation) ?? new Map<string, number>();
    here.set(userId, now + LASTS_MS);
    this.until.set(conversation, here);
    this.look(now);
    this.changed();
  }

  /** They have sent what they wrote. */
  done(conversation: string, userId: string): void {
    if (this.until.get(conversation)?.delete(userId)) this.changed();
  }

  /** Who is writing in a conversation, in the order in which they began. */
  in(conversation: string): string[] {
    return [...(this.until.get(conversation)?.keys() ?? [])];
  }

  /** Whether to say of oneself that one is writing: not at every key. */
  due(conversation: string, now = Date.now()): boolean {
    if (this.said.conversation === conversation && now - this.said.at < EVERY_MS) return false;
    this.said = { at: now, conversation };
    return true;
  }

  /** One's own message has gone: the next letter is news again. */
  sent(): void {
    this.said = { at: Number.NEGATIVE_INFINITY, conversation: "" };
  }

  end(): void {
    clearTimeout(this.timer);
    this.until.clear();
  }

  /** Forget those who have said nothing more, and look again when the next of them is to be forgotten. */
  private look(now: number): void {
    clearTimeout(this.timer);
    let next = Number.POSITIVE_INFINITY;
    for (const [conversation, here] of this.until) {
      for (const [userId, until] of here) {
        if (until <= now) here.delete(userId);
        else next = Math.min(next, until);
      }
      if (here.size === 0) this.until.delete(conversation);
    }
    if (next < Number.POSITIVE_INFINITY)
      this.timer = setTimeout(() => {
        this.look(Date.now());
        this.changed();
      }, next - now) as unknown as number;
  }
}
