import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { Line, type LineEvents } from "./line";

/** A socket that opens and signs in when it is told to. */
class Socket {
  static readonly OPEN = 1;
  static last: Socket;
  readyState = Socket.OPEN;
  onopen: (() => void) | null = null;
  onmessage: ((event: { data: string }) => void) | null = null;
  constructor(readonly url: string) {
    Socket.last = this;
  }
  send(): void {}
  close(): void {}
}

beforeEach(() => {
  vi.stubGlobal("WebSocket", Socket);
  vi.stubGlobal("window", {
    addEventListener: () => {},
    removeEventListener: () => {},
    setInterval: () => 0,
    clearInterval: () => {},
    setTimeout: () => 0,
    clearTimeout: () => {},
  });
});
afterEach(() => {
  vi.unstubAllGlobals();
});

it("says what to do where a browser with a full disk cannot keep what catching up brings", async () => {
  const opened = () => Promise.reject(new DOMException("no room", "QuotaExceededError"));
  const line = new Line("ws://127.0.0.1/v1/live", "mara", () => "token", { opened } as unknown as LineEvents);
  Socket.last.onopen?.();
  Socket.last.onmessage?.({ data: JSON.stringify({ type: "signed_in" }) });
  await vi.waitFor(() => expect(line.state).toBe("away"));
  expect(line.reason).toContain("Free space on the disk");
  line.end();
});
