import type { ChangeSet, Message, ProblemDocument } from "../api/client";
import { storageWords } from "../lib/storage";
import { pauseAfter, pauses, type Said } from "./backoff";
import { Observable } from "./observable";
import { wireLog } from "./wireLog";

export type LineState = "connecting" | "live" | "away" | "refused";

export type Changes = ChangeSet & { type: "changes" };
export type Unfollowed = {
  type: "unfollowed";
  conversation_id: string;
  reason: "left" | "removed" | "closed";
};
export type Answer = {
  ref?: number;
  message?: Message;
  conversation_id?: string;
  cursor?: string;
  read_seq?: number;
  unread?: number;
  reset?: boolean;
  rewound?: boolean;
};
export type SignalFrame = { type: "signal"; conversation_id: string; user_id: string; name: string };
/** The store was restored or failed over: what came before may be lost. */
type Rewound = { type: "rewound" };
type Frame =
  | { type: "signed_in"; user_id: string; expires_at: string }
  | ({ type: "done" } & Answer)
  | { type: "refused"; ref?: number; problem: ProblemDocument }
  | { type: "checkpoint"; cursor: string }
  | Rewound
  | SignalFrame
  | Changes
  | Unfollowed;

export class CommandRefused extends Error {
  constructor(readonly problem: ProblemDocument) {
    super(problem.detail);
  }
}

/** What the service has said of when to try again what it has refused. */
export const saidBy = (error: unknown): Said =>
  error instanceof CommandRefused ? { retryAfter: error.problem.retry_after } : {};

/** The line broke before an answer came: the command may or may not have been carried out. */
export class LineBroken extends Error {}

type Waiting = { resolve: (answer: Answer) => void; reject: (error: Error) => void };

export interface LineEvents {
  changes(set: Changes): void;
  unfollowed(frame: Unfollowed): void;
  signal(frame: SignalFrame): void;
  checkpoint(cursor: string): void;
  /** What is held may be of a history that is lost: the next catching up says so. */
  rewound(): void;
  /** Signed in: time to catch up. When that is done the line is `live`; if it fails the line is tried again. */
  opened(): Promise<void>;
}

const GOING_AWAY = 1001;
const CUT = "the line is cut here";
/** A line on which nothing comes is asked whether it is there, and given up when it does not answer. */
const QUIET_MS = 20_000;
const SILENT_MS = 35_000;
const LOOK_MS = 5_000;

/**
 * One WebSocket that is kept open: it signs in, carries commands and brings frames, and after a break comes back
 * with growing pauses, or at once when the browser says that it is online. `cut` holds it down until `restore`.
 */
export class Line extends Observable {
  state: LineState = "connecting";
  reason = "";
  held = false;
  private socket: WebSocket | null = null;
  private readonly waiting = new Map<number, Waiting>();
  private nextRef = 1;
  private timer: number | undefined;
  private heardAt = 0;
  private readonly looking: number;
  private pause = pauses();
  private ended = false;

  constructor(
    private readonly url: string,
    private readonly member: string,
    private readonly token: () => string,
    private readonly events: LineEvents,
  ) {
    super();
    window.addEventListener("online", this.retryNow);
    this.looking = window.setInterval(() => this.look(), LOOK_MS);
    this.connect();
  }

  /** Whether the other side is still there: a browser does not say so of a line that is half open. */
  private look(): void {
    const socket = this.socket;
    if (socket?.readyState !== WebSocket.OPEN) return;
    const silent = Date.now() - this.heardAt;
    if (silent > SILENT_MS) this.again("nothing is heard of the service");
    else if (silent > QUIET_MS) this.command({ type: "ping" }).catch(() => {});
  }

  /** Give this line up, and come back on another one. */
  again(reason: string): void {
    if (this.ended || this.held) return;
    window.clearTimeout(this.timer);
    this.abandon();
    this.away(reason);
  }

  /** Send a command; resolves with its answer. Rejects with `CommandRefused` or `LineBroken`. */
  command(frame: Record<string, unknown>): Promise<Answer> {
    const socket = this.socket;
    if (socket?.readyState !== WebSocket.OPEN) return Promise.reject(new LineBroken("the line is away"));
    const ref = this.nextRef++;
    return new Promise((resolve, reject) => {
      this.waiting.set(ref, { resolve, reject });
      const text = JSON.stringify({ ...frame, ref });
      this.note("out", String(frame.type), text);
      socket.send(text);
    });
  }

  end(): void {
    this.ended = true;
    window.removeEventListener("online", this.retryNow);
    window.clearTimeout(this.timer);
    window.clearInterval(this.looking);
    this.socket?.close(1000);
  }

  /** Cut the line as a broken network would, and leave it so. */
  cut(): void {
    this.held = true;
    window.clearTimeout(this.timer);
    this.abandon();
    this.set("away", CUT);
  }

  /** Let it come back. */
  restore(): void {
    if (!this.held) return;
    this.held = false;
    this.pause = pauses();
    this.connect();
  }

  readonly retryNow = (): void => {
    if (this.state !== "away" || this.ended || this.held) return;
    window.clearTimeout(this.timer);
    this.connect();
  };

  /** Close the socket without hearing any more of it. */
  private abandon(): void {
    const socket = this.socket;
    this.socket = null;
    if (socket) {
      socket.onopen = socket.onmessage = socket.onclose = null;
      socket.close();
    }
    this.breakWaiting();
  }

  private note(way: "in" | "out", what: string, text: string): void {
    wireLog.note({ member: this.member, way, door: "socket", what, ms: null }, text);
  }

  private connect(): void {
    this.set("connecting", "");
    const socket = new WebSocket(this.url);
    this.socket = socket;
    socket.onopen = () => {
      this.heardAt = Date.now();
      this.command({ type: "sign_in", token: this.token() }).catch(() => {});
    };
    socket.onmessage = (event) => {
      this.heardAt = Date.now();
      const frame = JSON.parse(event.data as string) as Frame;
      this.note("in", frame.type, event.data as string);
      this.receive(frame);
    };
    socket.onclose = (event) => this.closed(event);
  }

  private receive(frame: Frame): void {
    if (frame.type === "changes") this.events.changes(frame);
    else if (frame.type === "unfollowed") this.events.unfollowed(frame);
    else if (frame.type === "signal") this.events.signal(frame);
    else if (frame.type === "checkpoint") this.events.checkpoint(frame.cursor);
    else if (frame.type === "rewound") this.events.rewound();
    else if (frame.type === "signed_in") void this.catchUp();
    else {
      const waiting = frame.ref === undefined ? undefined : this.waiting.get(frame.ref);
      if (frame.ref !== undefined) this.waiting.delete(frame.ref);
      if (frame.type === "done") waiting?.resolve(frame);
      else waiting?.reject(new CommandRefused(frame.problem));
    }
  }

  private async catchUp(): Promise<void> {
    const socket = this.socket;
    try {
      await this.events.opened();
      if (this.socket !== socket) return;
      this.pause = pauses();
      this.set("live", "");
    } catch (error) {
      if (this.socket !== socket) return;
      this.abandon();
      this.away(storageWords(error), saidBy(error));
    }
  }

  private breakWaiting(): void {
    const broken = new LineBroken("the line broke");
    for (const one of this.waiting.values()) one.reject(broken);
    this.waiting.clear();
  }

  private closed(event: CloseEvent): void {
    this.socket = null;
    this.breakWaiting();
    if (this.ended) return;
    if (event.code === 4401) {
      this.set("refused", event.reason || "sign in again");
      return;
    }
    this.away(
      event.reason || (navigator.onLine ? "the service does not answer" : "this machine is offline"),
      { leaving: event.code === GOING_AWAY },
    );
  }

  private away(reason: string, said: Said = {}): void {
    this.set("away", reason);
    this.timer = window.setTimeout(() => this.connect(), pauseAfter(this.pause.next().value, said));
  }

  private set(state: LineState, reason: string): void {
    this.state = state;
    this.reason = reason;
    this.changed();
  }
}
