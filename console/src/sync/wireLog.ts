import { Observable } from "./observable";

/** One frame or request of this browser. `ms` is the time until the answer of a request. */
export type Passed = {
  n: number;
  at: Date;
  member: string;
  way: "in" | "out";
  door: "socket" | "http";
  what: string;
  bytes: number;
  ms: number | null;
  content: unknown;
};

const KEPT = 500;
const size = new TextEncoder();

/** The last frames and requests, of every seat of this page. */
class WireLog extends Observable {
  passed: Passed[] = [];
  private next = 1;

  note(one: Omit<Passed, "n" | "at" | "bytes" | "content">, text: string): void {
    const passed = { ...one, n: this.next++, at: new Date(), bytes: size.encode(text).length };
    this.passed = [...this.passed.slice(1 - KEPT), { ...passed, content: parsed(text) }];
    this.changed();
  }

  clear(): void {
    this.passed = [];
    this.changed();
  }
}

/** What is shown of it: a token, or a link that stands for one, is nobody's to copy from here. */
function parsed(text: string): unknown {
  try {
    const content = JSON.parse(text) as unknown;
    if (content && typeof content === "object" && "token" in content) return { ...content, token: "…" };
    if (content && typeof content === "object" && "url" in content) return { ...content, url: "…" };
    return content;
  } catch {
    return text;
  }
}

export const wireLog = new WireLog();
