import type { ChangeSet, Message, ProblemDocument } from "../api/client";
import { pauses } from "./backoff";
import { Observable } from "./observable";

export type LineState = "connecting" | "live" | "away" | "refused";

export type Changes = ChangeSet & { type: "changes" };
export type Unfollowed = {
  type: "unfollowed";
  conversation_id: string;
  reason: "left" | "removed" | "closed";
};
type Answer = {
  ref?: number;
  message?: Message;
  conversation_id?: string;
  cursor?: string;
  read_seq?: number;
  unread?: number;
};
type Frame =
  | { type: "signed_in"; user_id: string; expires_at: string }
  | ({ type: "done" } & Answer)
  | { type: "refused"; ref?: number; problem: ProblemDocument }
  | Changes
  | Unfollowed;

export class CommandRefused extends Error {
  constructor(readonly problem: ProblemDocument) {
    super(problem.detail);
  }
}

/** The line broke before an answer came: the command may or may not have been carried out. */
export class LineBroken extends Error {}

type Waiting = { resolve: (answer: Answer) => void; reject: (error: Error) => void };

export interface LineEvents {
  changes(set: Changes): void;
  unfollowed(frame: Unfollowed): void;
  /** Signed in; conversations are to be followed again from where they stand. */
  opened(): void;
}

/**
 * One WebSocket that is kept open: it signs in, carries commands and brings frames, and after a break comes back
 * with growing pauses, or at once when the browser says that it is online.
 */
export class Line extends Observable {
  state: LineState = "connecting";
  reason = "";
  private socket: WebSocket | null = null;
  private readonly waiting = new Map<number, Waiting>();
  private nextRef = 1;
  private timer: number | undefined;
  private pause = pauses();
  private ended = false;

  constructor(
    private readonly url: string,
    private readonly token: () => string,
    private readonly events: LineEvents,
  ) {
    super();
    window.addEventListener("online", this.retryNow);
    this.connect();
  }

  /** Send a command; resolves with its answer. Rejects with `CommandRefused` or `LineBroken`. */
  command(frame: Record<string, unknown>): Promise<Answer> {
    const socket = this.socket;
    if (socket?.readyState !== WebSocket.OPEN) return Promise.reject(new LineBroken("the line is away"));
    const ref = this.nextRef++;
    return new Promise((resolve, reject) => {
      this.waiting.set(ref, { resolve, reject });
      socket.send(JSON.stringify({ ...frame, ref }));
    });
  }

  end(): void {
    this.ended = true;
    window.removeEventListener("online", this.retryNow);
    window.clearTimeout(this.timer);
    this.socket?.close(1000);
  }

  readonly retryNow = (): void => {
    if (this.state !== "away" || this.ended) return;
    window.clearTimeout(this.timer);
    this.connect();
  };

  private connect(): void {
    const socket = new WebSocket(this.url);
    this.socket = socket;
    socket.onopen = () => {
      this.command({ type: "sign_in", token: this.token() }).catch(() => {});
    };
    socket.onmessage = (event) => this.receive(JSON.parse(event.data as string) as Frame);
    socket.onclose = (event) => this.closed(event);
  }

  private receive(frame: Frame): void {
    if (frame.type === "changes") this.events.changes(frame);
    else if (frame.type === "unfollowed") this.events.unfollowed(frame);
    else if (frame.type === "signed_in") {
      this.pause = pauses();
      this.set("live", "");
      this.events.opened();
    } else {
      const waiting = frame.ref === undefined ? undefined : this.waiting.get(frame.ref);
      if (frame.ref !== undefined) this.waiting.delete(frame.ref);
      if (frame.type === "done") waiting?.resolve(frame);
      else waiting?.reject(new CommandRefused(frame.problem));
    }
  }

  private closed(event: CloseEvent): void {
    this.socket = null;
    const broken = new LineBroken("the line broke");
    for (const one of this.waiting.values()) one.reject(broken);
    this.waiting.clear();
    if (this.ended) return;
    if (event.code === 4401) {
      this.set("refused", event.reason || "sign in again");
      return;
    }
    this.set(
      "away",
      event.reason || (navigator.onLine ? "the service does not answer" : "this machine is offline"),
    );
    this.timer = window.setTimeout(() => this.connect(), this.pause.next().value);
  }

  private set(state: LineState, reason: string): void {
    this.state = state;
    this.reason = reason;
    this.changed();
  }
}
